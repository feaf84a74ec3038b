package netset

import (
	"math/rand/v2"
	"testing"
)

// TestChoicesAreSets holds each operation against membership, thing by thing.
func TestChoicesAreSets(t *testing.T) {
	things := []string{"dmz", "guest", "internet", "lan", "vpn"}
	rng := rand.New(rand.NewPCG(1, 2))
	some := func() Choice[string] {
		var list []string
		for _, one := range things[:4] { // nobody lists the last
			if rng.IntN(2) == 0 {
				list = append(list, one)
			}
		}
		if rng.IntN(2) == 0 {
			return AllBut(list...)
		}
		return OnlyOf(list...)
	}
	for range 2_000 {
		a, b := some(), some()
		both, left := a.Intersect(b), a.Subtract(b)
		same, none := true, true
		for _, one := range things {
			if got, want := both.Has(one), a.Has(one) && b.Has(one); got != want {
				t.Fatalf("%v and %v are %v: %s in it is %v, want %v", a, b, both, one, got, want)
			}
			if got, want := left.Has(one), a.Has(one) && !b.Has(one); got != want {
				t.Fatalf("%v without %v is %v: %s in it is %v, want %v", a, b, left, one, got, want)
			}
			same = same && a.Has(one) == b.Has(one)
			none = none && !a.Has(one)
		}
		if a.Equal(b) != same {
			t.Fatalf("%v and %v are equal: %v, want %v", a, b, !same, same)
		}
		if a.IsEmpty() != none {
			t.Fatalf("%v is empty: %v, want %v", a, !none, none)
		}
		if a.Any() != a.Equal(AnyOf[string]()) {
			t.Fatalf("%v is any: %v", a, a.Any())
		}
		if a.Except && (a.Only() != nil || len(a.But()) != len(a.List)) || !a.Except && (a.But() != nil || len(a.Only()) != len(a.List)) {
			t.Fatalf("%v lists %v and leaves out %v", a, a.Only(), a.But())
		}
	}
}

func TestOrderOfTheListDoesNotMatter(t *testing.T) {
	if a, b := OnlyOf(3, 1, 2, 1), OnlyOf(1, 2, 3); !a.Equal(b) {
		t.Errorf("%v is not %v", a, b)
	}
}

func TestFamilies(t *testing.T) {
	all := Everything()
	for _, c := range []struct{ v4, v6 bool }{{true, true}, {true, false}, {false, true}, {false, false}} {
		got := all.Families(c.v4, c.v6)
		if has := !got.Of(false).IsEmpty(); has != c.v4 {
			t.Errorf("families %v %v: IPv4 is in it: %v", c.v4, c.v6, has)
		}
		if has := !got.Of(true).IsEmpty(); has != c.v6 {
			t.Errorf("families %v %v: IPv6 is in it: %v", c.v4, c.v6, has)
		}
	}
}
