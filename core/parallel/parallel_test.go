package parallel

import (
	"context"
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
