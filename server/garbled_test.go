package server

import (
	"math/rand/v2"
	"net/url"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

// TestGarbledEstatesServed asks every table of estates whose lines are garbled: each is answered, or said to be wrong.
func TestGarbledEstatesServed(t *testing.T) {
	for seed := uint64(1); seed <= 12; seed++ {
		r := rand.New(rand.NewPCG(seed, 61))
		e, faults := notation.Parse(demo.Estate)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		e = synth.Edited(r, e, 60)
		text := notation.Print(e)
		h := served(t, text)
		paths := []string{"/api/counts", "/api/names", "/api/findings", "/api/ports", "/api/plan", "/api/records", "/api/exposure?from=internet", "/api/log"}
		for _, p := range e.Of(estate.KindNamed("host")) {
			name := url.QueryEscape(p.(*estate.Host).Name)
			paths = append(paths, "/api/ports/machine?machine="+name, "/api/ports/free?machine="+name, "/api/uses?of="+name, "/api/answers?from="+name, "/api/export?format=nft&name="+name, "/api/export?format=hosts&name="+name, "/api/trace?target="+name+":22&from=internet")
		}
		for _, f := range e.Of(estate.KindNamed("filter")) {
			paths = append(paths, "/api/filter?name="+url.QueryEscape(f.(*estate.Filter).Name))
		}
		for _, z := range e.Of(estate.KindNamed("zone")) {
			name := url.QueryEscape(z.(*estate.Zone).Name)
			paths = append(paths, "/api/export?format=zone&name="+name, "/api/answers?zone="+name, "/api/uses?of="+name)
		}
		for _, path := range paths {
			if w := call(t, h, "GET", path, nil); w.Code >= 500 {
				t.Fatalf("seed %d, %s: %d %s\n%s", seed, path, w.Code, w.Body, text)
			}
		}
		all := e.All()
		for range 5 {
			line := estate.Line(all[r.IntN(len(all))])
			if w := call(t, h, "POST", "/api/preview", ChangeQuestion{Base: 1, Remove: []string{line}, Add: []string{}}); w.Code >= 500 {
				t.Fatalf("seed %d, without %s: %d %s", seed, line, w.Code, w.Body)
			}
		}
	}
}
