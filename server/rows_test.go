package server

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
	"steady-compass/store"
)

// TestRowsAfterEdits makes edits, one after the other, and holds the table of names that goes on from the one before against
// one that is worked out anew.
func TestRowsAfterEdits(t *testing.T) {
	stood, edits := 0, 0
	for seed := uint64(1); seed <= 10; seed++ {
		r := rand.New(rand.NewPCG(seed, 31))
		text := demo.Estate
		if seed%2 == 0 {
			text = synth.String(15, seed)
		}
		e, faults := notation.Parse(text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		a := analyse(store.Snapshot{Estate: e}, day)
		vantages := []string{"internet", a.tracer.Model().Networks[1].Name, a.tracer.Model().Places[0].Name}
		var gone []estate.Record
		tableOf(t, a, vantages)
		for range 38 {
			c, kept := synth.Edit(r, a.Estate, gone)
			next, err := a.Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			known := a.course.former("internet").rows
			if a = a.after(store.Snapshot{Estate: next}); r.IntN(3) == 0 {
				continue // nobody asks: the next goes on from further back
			}
			got, want := tableOf(t, a, vantages), tableOf(t, analyse(store.Snapshot{Estate: next}, day), vantages)
			if got != want {
				t.Fatalf("seed %d, after %v\ngone on: %s\nanew:    %s", seed, c, got, want)
			}
			if r.IntN(4) == 0 {
				anew := analyse(store.Snapshot{Estate: next}, day)
				goneOn, err := a.check(t.Context())
				fresh, wrong := anew.check(t.Context())
				if err != nil || wrong != nil || !reflect.DeepEqual(goneOn.Report, fresh.Report) {
					t.Fatalf("seed %d, after %v: %d findings gone on, %d anew (%v, %v)", seed, c, len(goneOn.Findings), len(fresh.Findings), err, wrong)
				}
			}
			edits++
			for _, old := range known {
				for i := range a.rows["internet"] {
					if a.rows["internet"][i].reads == old.reads {
						stood++
					}
				}
			}
		}
	}
	if edits < 150 || stood < edits {
		t.Errorf("%d edits, and only %d rows stood", edits, stood)
	}
}

// TestEffectsAfterEdits holds what an edit is said to do, by an analysis that goes on from the one before, against what is said by
// two that are made anew.
func TestEffectsAfterEdits(t *testing.T) {
	said := 0
	for seed := uint64(1); seed <= 8; seed++ {
		r := rand.New(rand.NewPCG(seed, 32))
		text := demo.Estate
		if seed%2 == 0 {
			text = synth.String(120, seed)
		}
		e, faults := notation.Parse(text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		a := analyse(store.Snapshot{Estate: e}, day)
		var gone []estate.Record
		for range 12 {
			c, kept := synth.Edit(r, a.Estate, gone)
			next, err := a.Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			b := a.draft(next)
			got := effectOf(t, a, b)
			want := effectOf(t, analyse(store.Snapshot{Estate: a.Estate}, day), analyse(store.Snapshot{Estate: next}, day))
			if got != want {
				t.Fatalf("seed %d, %v\ngone on: %s\nanew:    %s", seed, c, got, want)
			}
			a, said = b, said+len(got)
		}
	}
	if said < 10_000 {
		t.Errorf("only %d bytes said", said)
	}
}

func effectOf(t *testing.T, before, after *analysis) string {
	t.Helper()
	e, err := compare(t.Context(), before, after)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(e)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func tableOf(t *testing.T, a *analysis, vantages []string) string {
	t.Helper()
	var all []any
	for _, from := range vantages {
		rows, err := a.names(t.Context(), from)
		if err != nil {
			all = append(all, err.Error())
			continue
		}
		all = append(all, rows)
	}
	text, err := json.Marshal(all)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// BenchmarkLine is one line typed on an estate that is looked over, to all that it would do: names, doors, ports for
// administration, findings.
func BenchmarkLine(b *testing.B) {
	for _, names := range []int{1_000, 10_000} {
		b.Run(fmt.Sprintf("names=%d", names), func(b *testing.B) {
			e, faults := notation.Parse(synth.String(names, 1))
			if len(faults) > 0 {
				b.Fatal(faults)
			}
			a := analyse(store.Snapshot{Estate: e}, day)
			if _, err := compare(b.Context(), a, a); err != nil {
				b.Fatal(err)
			}
			line, _, err := notation.ParseLine("rule edge0 at 1 drop 443 from internet")
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				next, err := e.Apply(estate.Change{Add: []estate.Placed{line}})
				if err != nil {
					b.Fatal(err)
				}
				effect, err := effectSoon(b.Context(), a, a.draft(next))
				if err != nil || len(effect.Names) < 50 || len(effect.Doors) == 0 || len(effect.Brought) == 0 {
					b.Fatal(err, len(effect.Names), len(effect.Doors), len(effect.Brought))
				}
			}
		})
	}
}

// BenchmarkServedAfterEdit is a large answer, made anew after each edit as somebody asks for it.
func BenchmarkServedAfterEdit(b *testing.B) {
	h := served(b, synth.String(10_000, 1))
	get := func(path string) {
		if w := call(b, h, "GET", path, nil, "Accept-Encoding", "gzip"); w.Code != 200 {
			b.Fatal(path, w.Code)
		}
	}
	get("/api/names")
	get("/api/findings")
	base := 1
	for _, path := range []string{"/api/names", "/api/findings"} {
		b.Run(path, func(b *testing.B) {
			for i := range b.N {
				b.StopTimer()
				line := fmt.Sprintf("dns x%d-%d.l0.example A 192.0.2.7", b.N, i)
				if w := call(b, h, "POST", "/api/change", map[string]any{"base": base, "add": []string{line}, "remove": []string{}}); w.Code != 200 {
					b.Fatal(w.Code)
				}
				base++
				b.StartTimer()
				get(path)
			}
		})
	}
}

// TestLineOnLargeEstate: a line typed says which names end otherwise by it, once the names are known as they are; and all that it
// would do, once the estate is looked over.
func TestLineOnLargeEstate(t *testing.T) {
	h := served(t, synth.String(600, 1))
	ask := func(line string) Effect {
		answer := decoded[LineAnswer](t, call(t, h, "POST", "/api/line", LineQuestion{line, len(line)}), 200)
		if answer.Effect == nil {
			t.Fatalf("%s: no effect is told", line)
		}
		return *answer.Effect
	}
	drop := "rule edge0 at 1 drop 443 from internet"
	if e := ask(drop); len(e.Names) != 0 {
		t.Errorf("before the names were ever looked at, %d change", len(e.Names))
	}
	call(t, h, "GET", "/api/names", nil)
	e := ask(drop)
	if len(e.Names) < 80 || len(e.Names) > 100 {
		t.Errorf("%d names change, of the hundred behind that filter", len(e.Names))
	}
	for _, n := range e.Names {
		if !strings.HasSuffix(n.Name, "l0.example") || n.After != trace.Silent {
			t.Errorf("%+v", n)
		}
	}
	if e := ask("site web0 fresh.l0.example at 443 files"); len(e.Names) != 1 || e.Names[0].Name != "fresh.l0.example" {
		t.Errorf("a site for a new name: %+v", e.Names)
	}
	if e := ask("listen m3-4 7777 as thing"); len(e.Names) != 0 {
		t.Errorf("a listener that no name leads to: %+v", e.Names)
	}
	if len(e.Doors) > 0 {
		t.Errorf("before the estate was looked over, doors change: %+v", e.Doors)
	}
	call(t, h, "GET", "/api/findings", nil)
	if e := ask(drop); len(e.Names) < 80 || len(e.Doors) == 0 || e.Doors[0].Opens || !slices.ContainsFunc(e.Brought, func(f Brief) bool { return f.Code == "intent.unmet" }) {
		t.Errorf("%d names, doors %+v, %d findings", len(e.Names), e.Doors, len(e.Brought))
	}
	if e := ask("rule f0-3 at 1 drop 22"); len(e.Shut) != 1 || e.Shut[0].Place != "m0-3" || !e.Shut[0].Nobody {
		t.Errorf("nobody comes in any more: %+v", e.Shut)
	}
	if e := ask("host fresh"); len(e.Brought) != 0 || len(e.Names) != 0 {
		t.Errorf("a machine by itself: %+v", e)
	}
}
