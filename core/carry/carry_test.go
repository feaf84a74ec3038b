package carry

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestMap makes random changes, and holds each state against a plain map of the same, and the earlier ones too.
func TestMap(t *testing.T) {
	type state struct {
		is   Map[int, int]
		want map[int]int
	}
	r := rand.New(rand.NewPCG(2, 7))
	states := []state{{}}
	flat := 0
	for n := range 2000 {
		last := states[len(states)-1]
		if r.IntN(20) == 0 { // go on from an earlier one
			last = states[r.IntN(len(states))]
		}
		var gone []int
		come := map[int]int{}
		for range r.IntN(4) {
			gone = append(gone, r.IntN(400))
		}
		for range r.IntN(6) {
			come[r.IntN(400)] = n
		}
		want := map[int]int{}
		maps.Copy(want, last.want)
		for _, key := range gone {
			delete(want, key)
		}
		maps.Copy(want, come)
		next := state{last.is.After(gone, come), want}
		if len(next.is.over) == 0 && len(want) > 0 {
			flat++
		}
		states = append(states, next)
	}
	for n, s := range states {
		if got := maps.Collect(s.is.All()); !maps.Equal(got, s.want) {
			t.Fatalf("state %d: %v, want %v", n, got, s.want)
		}
		for key := range 400 {
			v, there := s.is.Get(key)
			want, asked := s.want[key]
			if v != want || there != asked || s.is.Of(key) != want {
				t.Fatalf("state %d: under %d there is %d (%v), want %d (%v)", n, key, v, there, want, asked)
			}
		}
	}
	if flat < 5 || flat > 500 {
		t.Errorf("%d of %d states hold all by themselves", flat, len(states))
	}
	for range (Map[int, int]{base: map[int]int{1: 1, 2: 2}, over: map[int]int{3: 3}}).All() {
		break // nothing more is given
	}
}

func TestEnds(t *testing.T) {
	for _, c := range []struct {
		a, b       string
		start, end int
	}{
		{"", "", 0, 0},
		{"abc", "abc", 3, 0},
		{"abc", "", 0, 0},
		{"abc", "abxc", 2, 1},
		{"abxc", "abc", 2, 1},
		{"aaa", "aa", 2, 0},
		{"abc", "xyz", 0, 0},
		{"abc", "xbc", 0, 2},
		{"abcd", "abxd", 2, 1},
	} {
		if start, end := Ends([]byte(c.a), []byte(c.b), func(a, b byte) bool { return a == b }); start != c.start || end != c.end {
			t.Errorf("%s and %s: %d at the start and %d at the end, want %d and %d", c.a, c.b, start, end, c.start, c.end)
		}
	}
	if start, end := Ends(slices.Repeat([]int{1}, 5), slices.Repeat([]int{1}, 9), func(a, b int) bool { return a == b }); start+end != 5 {
		t.Errorf("%d and %d of five", start, end)
	}
}
