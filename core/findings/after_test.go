package findings

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var edits = flag.Uint64("edits", 15, "edits of each estate to look over")

var garbled = flag.Uint64("garbled", 40, "estates with garbled lines to look over")

// TestAfterEdits makes edits, one after the other, and holds what is found by the check that goes on from the one before
// against what is found when all is compiled and looked over anew. From each estate another edit is tried first, and left.
func TestAfterEdits(t *testing.T) {
	demo, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	texts := []string{sound, string(demo), synth.String(12, 5), synth.String(210, 3)}
	for seed := uint64(1); seed <= 12; seed++ {
		r := rand.New(rand.NewPCG(seed, 21))
		text := synth.Crossing(r) + "\nintend plain 3 for lan\nintend 203.0.113.9 5 for internet"
		if seed%3 == 0 {
			text += "\n" + synth.Ring(r)
		}
		texts = append(texts, text)
	}
	done, found := 0, 0
	for n, text := range texts {
		r := rand.New(rand.NewPCG(uint64(n), *edits))
		checked := looked(t, reread(t, text))
		var gone []estate.Record
		for range *edits {
			c, kept := synth.Edit(r, checked.m.Estate, gone)
			next, err := checked.m.Estate.Apply(c)
			if err != nil {
				continue // such a line may stand once only
			}
			gone = kept
			if text := notation.Print(next); notation.Print(reread(t, text)) != text {
				t.Fatalf("after %v the estate is not in order:\n%s", c, text)
			}
			before := saidOf(t, checked)
			left, _ := synth.Edit(r, checked.m.Estate, nil)
			if other, err := checked.m.Estate.Apply(left); err == nil {
				sameAs(t, left, goneOn(t, checked, other), other)
			}
			if now := saidOf(t, checked); now != before {
				t.Fatalf("what was left, %v, changed what it was tried on\n%s", left, firstDifference(now, before))
			}
			checked = goneOn(t, checked, next)
			found += sameAs(t, c, checked, next)
			done++
		}
	}
	if done < len(texts)*int(*edits)/2 || found < done*500 {
		t.Errorf("only %d edits, with %d bytes found", done, found)
	}
}

func looked(t *testing.T, e *estate.Estate) *Checked {
	t.Helper()
	checked, err := Check(t.Context(), trace.New(model.Compile(e), day), day)
	if err != nil {
		t.Fatal(err)
	}
	foundByLookingAt(t, checked)
	return checked
}

func goneOn(t *testing.T, from *Checked, e *estate.Estate) *Checked {
	t.Helper()
	checked, err := from.After(t.Context(), from.t.After(e))
	if err != nil {
		t.Fatal(err)
	}
	return checked
}

// sameAs holds a check that went on against one made anew, and gives how much was said.
func sameAs(t *testing.T, c estate.Change, checked *Checked, e *estate.Estate) int {
	t.Helper()
	got, want := saidOf(t, checked), saidOf(t, looked(t, e))
	if got != want {
		t.Fatalf("after %v\n%s", c, firstDifference(got, want))
	}
	return len(want)
}

func reread(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v\n%s", faults, text)
	}
	return e
}

// saidOf is all that a check says, and its tracer.
func saidOf(t *testing.T, x *Checked) string {
	t.Helper()
	v, err := x.t.VantageNamed("internet")
	if err != nil {
		t.Fatal(err)
	}
	needs := map[string]map[string][]string{}
	for _, r := range x.m.Estate.Of(estate.KindNamed("filter")) {
		needs[r.(*estate.Filter).Name] = x.Needs(r.(*estate.Filter).Name)
	}
	causes, _ := x.Causes()
	text, err := json.MarshalIndent([]any{x.Report, causes, x.t.Exposure(v), x.t.Names(), needs}, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func firstDifference(got, want string) string {
	a, b := strings.Split(got, "\n"), strings.Split(want, "\n")
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	around := func(list []string) string { return strings.Join(list[max(0, i-6):min(len(list), i+12)], "\n") }
	return "gone on:\n" + around(a) + "\nanew:\n" + around(b)
}

// TestGarbledEstates: whatever is written down, it is looked over to the end, and every mend offered is one that can be made.
func TestGarbledEstates(t *testing.T) {
	demo, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	offered := 0
	for seed := uint64(1); seed <= *garbled; seed++ {
		r := rand.New(rand.NewPCG(seed, 99))
		e, faults := notation.Parse([]string{string(demo), sound}[seed%2])
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		e = synth.Edited(r, e, 40)
		tracer := trace.New(model.Compile(e), day)
		asked(r, tracer)
		for _, f := range check1(e).Findings {
			if f.Mend.IsEmpty() {
				continue
			}
			offered++
			mended(t, e, f.Mend)
		}
	}
	if offered < int(*garbled)*10 {
		t.Errorf("only %d mends in %d estates", offered, *garbled)
	}
}

// asked asks a tracer questions of all kinds, for whatever it answers.
func asked(r *rand.Rand, tracer *trace.Tracer) {
	targets := []string{"203.0.113.20:443", "10.40.8.10:22", "192.0.2.255"}
	var vantages []flow.Vantage
	for _, p := range tracer.Model.Places {
		targets = append(targets, fmt.Sprintf("%s:%d", p.Name, []int{22, 80, 443, 3000, 53}[r.IntN(5)]))
		if v, err := tracer.VantageNamed(p.Name); err == nil {
			vantages = append(vantages, v)
		}
	}
	for _, n := range tracer.Names() {
		targets = append(targets, n.Name)
	}
	if len(vantages) == 0 {
		return
	}
	for _, target := range targets {
		if tg, err := tracer.ParseTarget(target); err == nil {
			tracer.Trace(tg, vantages[r.IntN(len(vantages))])
		}
	}
	for range 6 {
		tracer.Exposure(vantages[r.IntN(len(vantages))])
	}
	_, _ = tracer.Leads(context.Background(), tracer.Model.Places[r.IntN(len(tracer.Model.Places))].Name, 0)
}

// TestSameAddressTwice: an address that machines in networks of their own hold alike is entered at the one that is met.
func TestSameAddressTwice(t *testing.T) {
	const location = `
network lan%[1]d 10.0.%[1]d.0/24
network dock%[1]d 172.20.0.0/24 on box%[1]d
host box%[1]d
address box%[1]d 10.0.%[1]d.5 lan%[1]d
container box%[1]d/web in dock%[1]d
container box%[1]d/other in dock%[1]d
map box%[1]d/web 8080 to 80
listen box%[1]d/web 80 as web%[1]d
intend box%[1]d/web 80 for lan%[1]d
`
	tracer := trace.New(model.Compile(edited(t, fmt.Sprintf(location, 1)+fmt.Sprintf(location, 2), "")), day)
	for _, n := range []string{"1", "2"} {
		v, err := tracer.VantageNamed("dock" + n)
		if err != nil {
			t.Fatal(err)
		}
		entered := false
		for _, o := range exposure.OpenOf(tracer.ByAddress(v)) {
			if !strings.HasPrefix(o.Place, "box"+n) {
				t.Errorf("from dock%s %s is reached", n, o.Place)
			}
			entered = entered || o.Place == "box"+n+"/web" && o.Ports == "8080"
		}
		if !entered {
			t.Errorf("box%s is not entered at its own gateway", n)
		}
	}
}

// TestPartsOfARange: of an open range, a front stands before one port, and some ports are reached from elsewhere too.
func TestPartsOfARange(t *testing.T) {
	const base = `
network lan 10.0.0.0/24
network far 10.0.1.0/24
host hub router
host web
host app
address hub 10.0.0.1 lan
address hub 10.0.1.1 far
address web 10.0.0.5 lan
address app 10.0.0.6 lan
listen web 80 as web
listen app 8000-8003 as app
site web shop.example at 80 to http://10.0.0.6:8002
dns shop.example A 10.0.0.5 for lan
intend shop.example 80 for lan
filter gate on hub through otherwise drop
rule gate pass 8000-8001 from far to app
`
	report := check1(edited(t, base, ""))
	if list := said(report); !slices.Contains(list, "exposure.bypass app:8002/tcp") || slices.Contains(list, "exposure.bypass app:8000-8003/tcp") {
		t.Errorf("the front before 8002 alone: %q", list)
	}
	report = check1(edited(t, base, "intend app 8003 for lan"))
	for _, f := range report.Findings {
		if f.Code == "exposure.undeclared" && strings.HasPrefix(f.Subject, "app:8000") {
			want := []string{"intend app 8000-8001 for lan,far"}
			if f.Mend == nil || !slices.Equal(f.Mend.Add, want) {
				t.Errorf("%s is declared by %v, want %q", f.Subject, f.Mend, want)
			}
			return
		}
	}
	t.Errorf("nothing is undeclared: %q", said(report))
}
