package exposure

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/say"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

var judgedEstates = flag.Uint64("judge.estates", 5, "in how many estates what is open is held, going on, against what is found anew")

// TestViewsAfterEdits holds what is open after edits, address by address and from every vantage, against what is found anew; and
// addresses that an edit leaves alone are the very same.
func TestViewsAfterEdits(t *testing.T) {
	same, all := 0, 0
	for seed := uint64(1); seed <= *judgedEstates; seed++ {
		r := rand.New(rand.NewPCG(seed, 77))
		text := demo.Estate
		if seed%2 == 0 {
			text = synth.Crossing(r) + "\nintend plain 3 for lan"
		}
		tr := New(model.Compile(notationtest.Parse(t, text)), day)
		fronted := func(model.PlaceID) []uint16 { return []uint16{3, 7, 80} }
		by := tr.Fronted(fronted, nil, nil)
		views(t, tr, by)
		var gone []estate.Record
		for range 20 {
			c, kept := synth.Edit(r, tr.Model.Estate, gone)
			e, err := tr.Model.Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			next, anew := tr.After(tr.Model.Recompile(e)), New(model.Compile(e), day)
			nextBy := next.Fronted(fronted, by, nil)
			got, want := views(t, next, nextBy), views(t, anew, anew.Fronted(fronted, nil, nil))
			if got != want {
				t.Fatalf("seed %d, after %v\n%s\nwant\n%s", seed, c, got, want)
			}
			if next.Model.HangsTogetherAs(tr.Model) {
				v, err := tr.VantageNamed("internet")
				if err != nil {
					t.Fatal(err)
				}
				w, err := next.VantageNamed("internet")
				if err != nil {
					t.Fatal(err)
				}
				was, is := tr.ByAddress(v), next.ByAddress(w)
				lost, come := Unlike(was, is)
				all += len(is)
				same += len(is) - len(come)
				for _, at := range come {
					if slices.Contains(was, at) {
						t.Fatalf("%s is said to be unlike itself", at.word)
					}
				}
				for _, at := range lost {
					if slices.Contains(is, at) {
						t.Fatalf("%s is said to be lost, and is there", at.word)
					}
				}
				if len(was)-len(lost) != len(is)-len(come) {
					t.Fatalf("%d of %d stay, and %d of %d", len(was)-len(lost), len(was), len(is)-len(come), len(is))
				}
			}
			tr, by = next, nextBy
		}
	}
	if same*2 < all || all < 15*int(*judgedEstates) {
		t.Errorf("of %d addresses %d are the same after an edit", all, same)
	}
}

// views is what is open from internet and every network, in each way of looking.
func views(t *testing.T, tr *Engine, by *Fronted) string {
	t.Helper()
	var b strings.Builder
	say := func(what string, open []Open, dark []Undecided, from string) {
		fmt.Fprintf(&b, "%s from %s\n", what, from)
		for i := range open {
			o := &open[i]
			fmt.Fprintln(&b, o.Address, o.Transport, o.Ports, o.Sources, o.Place, o.Port, o.Service, say.OrEmpty(o.Site), o.Records, o.Intent, o.Host, o.PastInput, o.Also, o.Beside)
		}
		for _, d := range dark {
			fmt.Fprintln(&b, "undecided", d)
		}
	}
	for _, net := range tr.Model.Networks {
		v, err := tr.VantageNamed(net.Name)
		if err != nil {
			t.Fatal(err)
		}
		x := tr.Exposure(v)
		say("open", x.Open, x.Undecided, net.Name)
		for _, at := range tr.Parted(v, by) {
			say("parted", at.Open, nil, net.Name)
			say("hidden", at.Hidden, nil, net.Name)
		}
		for _, at := range tr.Beyond(v, by) {
			say("beyond", at.Open, nil, net.Name)
		}
	}
	return b.String()
}

// TestViewsOfOthers: what one Fronted told is not taken over for another.
func TestViewsOfOthers(t *testing.T) {
	tr := New(model.Compile(notationtest.Parse(t, touching)), day)
	v, err := tr.VantageNamed("lan")
	if err != nil {
		t.Fatal(err)
	}
	nothing := func(model.PlaceID) []uint16 { return nil }
	front := func(id model.PlaceID) []uint16 {
		if id == tr.Model.PlaceNamed("db").ID {
			return []uint16{22}
		}
		return nil
	}
	first := tr.Fronted(nothing, nil, nil)
	tr.Beyond(v, first)
	next := after(t, tr, "listen db 22 as ssh", "- rule inner pass 5432 from web", "rule inner pass any")
	seen := func(by *Fronted) bool {
		return slices.ContainsFunc(openOf(next.Beyond(v, by)), func(o Open) bool { return o.Place == "db" && o.Range.Contains(22) })
	}
	db := []model.PlaceID{tr.Model.PlaceNamed("db").ID}
	if seen(next.Fronted(nothing, first, nil)) || !seen(next.Fronted(front, first, db)) || !seen(next.Fronted(front, nil, nil)) {
		t.Error("what stands before db is not asked anew")
	}
}

// TestKnown: what was worked out before an edit is taken over where that leaves alone what it came by.
func TestKnown(t *testing.T) {
	first := compiled(t, notationtest.Parse(t, touching))
	v, err := first.VantageNamed("internet")
	if err != nil {
		t.Fatal(err)
	}
	first.Exposure(v)
	gate := takingKey{addr: first.Model.PlaceNamed("gate").Attachments[0].Addrs[0], proto: netset.TCP}
	known := first.admissionOf(flow.ToAddr(gate.addr), gate.proto)
	same := after(t, first, "rule inner pass 22 from web")
	if got := same.admissionOf(flow.ToAddr(gate.addr), gate.proto); got != known {
		t.Error("what no changed line speaks of is worked out again")
	}
	if got := after(t, same, "rule edge pass 22 from internet to web").admissionOf(flow.ToAddr(gate.addr), gate.proto); got == known {
		t.Error("what a changed line speaks of is taken over")
	}
	if got := after(t, same, "forward gate 203.0.113.1:25 to 10.0.0.5").admissionOf(flow.ToAddr(gate.addr), gate.proto); got == known {
		t.Error("where other addresses may answer, what is let in is taken over")
	}
}
