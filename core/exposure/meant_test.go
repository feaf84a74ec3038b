package exposure

import (
	"fmt"
	"slices"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
)

// TestAmong: intents that come, go and move among others keep where they landed.
func TestAmong(t *testing.T) {
	all := make([]*estate.Intent, 8)
	of := map[*estate.Intent]*landed{}
	for i := range all {
		all[i] = &estate.Intent{Target: fmt.Sprint("t", i)}
		of[all[i]] = &landed{}
	}
	list := func(which ...int) []*estate.Intent {
		var out []*estate.Intent
		for _, i := range which {
			out = append(out, all[i])
		}
		return out
	}
	for _, c := range []struct{ before, after, gone []int }{
		{nil, nil, nil},
		{nil, []int{0, 1}, nil},
		{[]int{0, 1}, nil, []int{0, 1}},
		{[]int{0, 1, 2}, []int{0, 1, 2}, nil},
		{[]int{0, 1, 2}, []int{0, 1, 2, 3}, nil},
		{[]int{0, 1, 2}, []int{3, 0, 1, 2}, nil},
		{[]int{0, 1, 2}, []int{0, 3, 1, 2}, nil},
		{[]int{0, 1, 2}, []int{0, 2}, []int{1}},
		{[]int{0, 1, 2}, []int{1, 2}, []int{0}},
		{[]int{0, 1, 2}, []int{0, 1}, []int{2}},
		{[]int{0, 1, 2, 3}, []int{0, 4, 3}, []int{1, 2}},
		{[]int{0, 1, 2, 3}, []int{1, 2, 3, 0}, nil},
		{[]int{0, 1, 2, 3}, []int{3, 2, 1, 0}, nil},
		{[]int{0, 1, 2, 3}, []int{4, 5, 6, 7}, []int{0, 1, 2, 3}},
	} {
		x := &landings{intents: list(c.before...)}
		for _, i := range x.intents {
			x.of = append(x.of, of[i])
		}
		now := list(c.after...)
		was, gone := x.among(now)
		for n, i := range now {
			want := of[i]
			if !slices.Contains(x.intents, i) {
				want = nil
			}
			if was(n) != want {
				t.Errorf("%v to %v: %s has not what it had", c.before, c.after, i.Target)
			}
		}
		var left []*landed
		for _, i := range list(c.gone...) {
			left = append(left, of[i])
		}
		if !slices.Equal(gone, left) {
			t.Errorf("%v to %v: %d are gone, want %d", c.before, c.after, len(gone), len(left))
		}
	}
}

// TestLandsAnew: an edit says which places others are meant to get to.
func TestLandsAnew(t *testing.T) {
	tr := compiled(t, notationtest.Parse(t, touching))
	tr.LandsAnew()
	for _, c := range []struct {
		line string
		want []string
	}{
		{"intend www.a.example 443 for lan", []string{"web"}},
		{"intend db 5432 for lan", []string{"db"}},
		{"intend web 22 for nobody", []string{"web"}},
		{"- intend a.example 443 for internet", []string{"web"}},
		{"- forward gate 80,443 to 10.0.0.5", nil}, // they are meant to, whether they get there or not
		{"dns b.example TXT \"hello\"", nil},
		{"rule edge pass 22 from internet to web", nil},
		{"listen web 8080 as front", nil},
	} {
		next := after(t, tr, c.line)
		var got []string
		for id := range next.LandsAnew() {
			got = append(got, next.Model.Places[id].Name)
		}
		if slices.Sort(got); !slices.Equal(got, c.want) {
			t.Errorf("%s: others are meant to get to %q, want %q", c.line, got, c.want)
		}
	}
}
