package server

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/effect"
	"steady-compass/core/flow"
	"steady-compass/core/synth"
)

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
	ask := func(line string) effect.Effect {
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
		if !strings.HasSuffix(n.Name, "l0.example") || *n.After != flow.Silent {
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
	if e := ask(drop); len(e.Names) < 80 || len(e.Doors) == 0 || e.Doors[0].Opens || !slices.ContainsFunc(e.Brought, func(f effect.Brief) bool { return f.Code == "intent.unmet" }) {
		t.Errorf("%d names, doors %+v, %d findings", len(e.Names), e.Doors, len(e.Brought))
	}
	if e := ask("rule f0-3 at 1 drop 22"); len(e.Lost) != 1 || e.Lost[0].Place != "m0-3" || !e.Lost[0].Nobody {
		t.Errorf("nobody comes in any more: %+v", e.Lost)
	}
	if e := ask("host fresh"); len(e.Brought) != 0 || len(e.Names) != 0 {
		t.Errorf("a machine by itself: %+v", e)
	}
}
