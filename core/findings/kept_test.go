package findings

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// TestRedo holds what is taken over and what is worked out against what the keys and the touched ones say.
func TestRedo(t *testing.T) {
	var mu sync.Mutex
	work := func(keys []string, made *[]string) func(int) string {
		return func(i int) string {
			mu.Lock()
			defer mu.Unlock()
			*made = append(*made, keys[i])
			return keys[i] + "!"
		}
	}
	one := context.Background()
	first := strings.Fields("a b c d e")
	var made []string
	start, changes := redo(one, nil, first, func(int, string) bool { t.Error("nothing stands before the first"); return true }, work(first, &made))
	if slices.Sort(made); !slices.Equal(made, first) || len(changes) != len(first) {
		t.Errorf("made %q with %d changes", made, len(changes))
	}
	for _, c := range []struct {
		name    string
		keys    string
		touched string
		made    string
		changes string // old>now
	}{
		{"nothing", "a b c d e", "", "", ""},
		{"one touched", "a b c d e", "c", "c", "c!>c!"},
		{"one goes", "a b d e", "", "", "c!>"},
		{"the first goes", "b c d e", "", "", "a!>"},
		{"the last goes", "a b c d", "", "", "e!>"},
		{"all go", "", "", "", "a!> b!> c!> d!> e!>"},
		{"one comes between", "a b x c d e", "", "x", ">x!"},
		{"one comes first", "x a b c d e", "", "x", ">x!"},
		{"one comes last", "a b c d e x", "", "x", ">x!"},
		{"one moves", "b c d a e", "", "", ""},
		{"all turn round", "e d c b a", "b", "b", "b!>b!"},
		{"one for another", "a b x d e", "e", "e x", "c!> >x! e!>e!"},
		{"all are others", "v w", "", "v w", "a!> b!> c!> d!> e!> >v! >w!"},
	} {
		keys := strings.Fields(c.keys)
		made = nil
		next, changes := redo(one, start, keys, func(i int, v string) bool {
			if v != keys[i]+"!" {
				t.Errorf("%s: %s is asked about %s", c.name, keys[i], v)
			}
			return !strings.Contains(c.touched, keys[i])
		}, work(keys, &made))
		slices.Sort(made)
		if strings.Join(made, " ") != c.made {
			t.Errorf("%s: %q are made, want %s", c.name, made, c.made)
		}
		var said []string
		for _, x := range changes {
			said = append(said, x.old+">"+x.now)
		}
		want := strings.Fields(c.changes)
		slices.Sort(said)
		slices.Sort(want)
		if !slices.Equal(said, want) {
			t.Errorf("%s: changes %q, want %q", c.name, said, want)
		}
		for i, key := range keys {
			if v, ok := next.find(key); !ok || v != key+"!" || next.values[i] != key+"!" {
				t.Errorf("%s: under %s there is %q", c.name, key, v)
			}
		}
		if v, ok := next.find("nobody"); ok {
			t.Errorf("%s: under no key there is %q", c.name, v)
		}
	}
	if v, ok := (*kept[string, string])(nil).find("a"); ok {
		t.Errorf("in nothing there is %q", v)
	}
}

// TestRedoAgain makes random changes of keys, one after the other, and holds every value against one made anew.
func TestRedoAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 9))
	version := map[int]int{}
	value := func(key int) string { return fmt.Sprintf("%d.%d", key, version[key]) }
	var known *kept[int, string]
	var keys []int
	redone := 0
	for round := range 300 {
		touched := map[int]bool{}
		for range r.IntN(4) {
			key := r.IntN(60)
			touched[key] = true
			version[key]++
		}
		switch at := r.IntN(len(keys) + 1); r.IntN(4) {
		case 0:
			if key := r.IntN(60); !slices.Contains(keys, key) {
				keys = slices.Insert(slices.Clone(keys), at, key)
			}
		case 1:
			if at < len(keys) {
				keys = slices.Delete(slices.Clone(keys), at, at+1)
			}
		case 2:
			keys = slices.Clone(keys)
			r.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
		}
		var changes []renewed[int, string]
		known, changes = redo(t.Context(), known, keys, func(i int, _ string) bool { return !touched[keys[i]] }, func(i int) string { return value(keys[i]) })
		for i, key := range keys {
			if known.values[i] != value(key) {
				t.Fatalf("round %d: %d is %s, want %s", round, key, known.values[i], value(key))
			}
		}
		redone += len(changes)
	}
	if redone > 1200 || redone < 100 {
		t.Errorf("%d values were renewed in 300 rounds of a few", redone)
	}
}

// TestRedoEnds: where the context ends, nothing is waited for.
func TestRedoEnds(t *testing.T) {
	ctx, end := context.WithCancel(t.Context())
	end()
	var made atomic.Int32
	redo(ctx, nil, []int{1, 2, 3}, func(int, int) bool { return true }, func(int) int { return int(made.Add(1)) })
	if made.Load() > 0 {
		t.Errorf("%d values were worked out for nobody", made.Load())
	}
}
