package parallel

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
)

func TestMap(t *testing.T) {
	got := Map(t.Context(), 1000, func(i int) int { return i * i })
	for i, v := range got {
		if v != i*i {
			t.Fatalf("result %d is %d", i, v)
		}
	}
	if got := Map(t.Context(), 0, func(int) int { return 1 }); len(got) != 0 {
		t.Errorf("of none: %v", got)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if got := Map(ended, 5, func(int) int { return 1 }); !slices.Equal(got, make([]int, 5)) {
		t.Errorf("after the end: %v", got)
	}
}

// TestPanic: what goes wrong in one piece is the caller's to catch, and says where.
func TestPanic(t *testing.T) {
	defer func() {
		if said, _ := recover().(string); !strings.Contains(said, "piece 7") || !strings.Contains(said, "TestPanic") {
			t.Errorf("caught %q", said)
		}
	}()
	Map(t.Context(), 20, func(i int) int {
		if i == 7 {
			panic("piece 7")
		}
		return i
	})
	t.Error("no panic")
}

// TestDo: things are done, each once; what goes wrong in one is the caller's to catch.
func TestDo(t *testing.T) {
	var got [3]int
	Do(t.Context(), func() { got[0]++ }, func() { got[1]++ }, func() { got[2]++ })
	if got != [3]int{1, 1, 1} {
		t.Errorf("done: %v", got)
	}
	Do(t.Context())
	defer func() {
		if said, _ := recover().(string); !strings.Contains(said, "the second") {
			t.Errorf("caught %q", said)
		}
	}()
	Do(t.Context(), func() {}, func() { panic("the second") })
	t.Error("no panic")
}

// TestToItsEnd: who asked is told when their time is over, and the work goes on; what goes wrong in it is theirs to catch.
func TestToItsEnd(t *testing.T) {
	if got, err := ToItsEnd(t.Context(), func(context.Context) (int, error) { return 7, nil }); got != 7 || err != nil {
		t.Error(got, err)
	}
	asked, leave := context.WithCancel(t.Context())
	goOn, done := make(chan bool), make(chan error)
	leave()
	_, err := ToItsEnd(asked, func(ctx context.Context) (int, error) {
		<-goOn
		done <- ctx.Err()
		return 0, nil
	})
	if !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	close(goOn)
	if err := <-done; err != nil {
		t.Errorf("the work was to end: %v", err)
	}
	defer func() {
		if said, _ := recover().(string); !strings.Contains(said, "halfway") {
			t.Errorf("caught %q", said)
		}
	}()
	_, _ = ToItsEnd(t.Context(), func(context.Context) (int, error) { panic("halfway") })
	t.Error("no panic")
}
