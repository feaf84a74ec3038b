package memo

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

const touching = synth.Office

// edited is what an edit may have changed: "- line" goes, another comes.
func edited(t *testing.T, m *model.Model, lines ...string) *Touch {
	t.Helper()
	return Between(m, m.Recompile(notationtest.Edit(t, m.Estate, lines...)))
}

// TestTouched says of a line which names it may change the traces of, and which machines.
func TestTouched(t *testing.T) {
	m := model.Compile(notationtest.Parse(t, touching))
	names := []string{"a.example", "www.a.example", "deep.sub.a.example", "other.sub.a.example", "x.wild.a.example", "b.example"}
	places := []string{"gate", "web", "db"}
	for _, c := range []struct {
		line   string
		names  string // those that are touched by themselves
		places string
	}{
		{"dns b.example TXT \"hello\"", "b.example", ""},
		{"dns a.example TXT \"hello\"", "a.example", ""},
		{"dns new.sub.a.example A 203.0.113.1", "deep.sub.a.example other.sub.a.example", ""},
		{"dns sub.a.example A 203.0.113.1", "deep.sub.a.example other.sub.a.example", ""},
		{"dns *.a.example A 203.0.113.1", "a.example www.a.example deep.sub.a.example other.sub.a.example x.wild.a.example", ""},
		{"dns y.wild.a.example A 203.0.113.1", "x.wild.a.example", ""},
		{"- dns *.wild.a.example A 203.0.113.1", "x.wild.a.example", ""},
		{"dns a.example NS ns.b.example", "a.example www.a.example deep.sub.a.example other.sub.a.example x.wild.a.example", ""},
		{"dns elsewhere.invalid A 203.0.113.1", "", ""},
		{"intend www.a.example 443 for internet", "www.a.example", ""},
		{"site front b.example at 443 files", "b.example", ""},
		{"site front *.sub.a.example at 443 files", "deep.sub.a.example other.sub.a.example", ""},
		{"cert more for *.a.example expires 2027-01-01 on web", "a.example www.a.example deep.sub.a.example other.sub.a.example x.wild.a.example", "web"},
		{"rule edge pass 22 from internet to web", "", "gate"},
		{"- rule inner pass 5432 from web", "", "db"},
		{"filter own on web input otherwise pass", "", "web"},
		{"forward gate 8443 to 10.0.0.5:443", "", "gate web"},
		{"outbound gate from lan as 203.0.113.1", "", "gate"},
		{"zone c.example", "", ""},
		{"- zone b.example", "b.example", ""},
		{"zone sub.a.example for lan", "deep.sub.a.example other.sub.a.example", ""},
		{"name www.a.example 10.0.0.5 on db", "www.a.example", ""},
		{"listen web 8080 as front", "", "web"},
		{"listen db 22 as ssh", "", "db"},
		{"accept exposure.admin web:22 until 2027-01-01 note \"the office\"", "", ""},
	} {
		x := edited(t, m, c.line)
		if x.Everything() {
			t.Errorf("%s touches everything", c.line)
			continue
		}
		var gotNames, gotPlaces []string
		for _, n := range names {
			var r Reads
			r.Asked(n)
			if x.Reading(&r) {
				gotNames = append(gotNames, n)
			}
		}
		for _, p := range places {
			var r Reads
			r.Place(m.PlaceNamed(p).ID)
			if x.Reading(&r) != x.Some(r.places) {
				t.Errorf("%s: what reads %s, and the place itself, are not told alike", c.line, p)
			}
			if x.Reading(&r) {
				gotPlaces = append(gotPlaces, p)
			}
		}
		if strings.Join(gotNames, " ") != c.names || strings.Join(gotPlaces, " ") != c.places {
			t.Errorf("%s\ntouches %q of %q, want %q of %q", c.line, gotNames, gotPlaces, c.names, c.places)
		}
	}
	for _, line := range []string{
		"host fresh", "network far 10.9.0.0/24", "address db 10.0.0.7 lan", "route web default via 10.0.0.1", "group few web,db", "- host db", "tunnel hill from db to 198.51.100.7:51820", "pool few in-turn",
	} {
		if x := edited(t, m, line); !x.Everything() || !x.Reading(&Reads{}) || !x.Some(nil) {
			t.Errorf("%s does not touch everything", line)
		}
	}
}

// TestTouchedServices: a listener of a service with sites touches whoever is led to these; one without is found by its place alone.
func TestTouchedServices(t *testing.T) {
	m := model.Compile(notationtest.Parse(t, touching+"site front d.example at 443 files guard gatekeeper\n"))
	for line, want := range map[string]bool{
		"listen db 9091 as gatekeeper":        true, // by whom visitors of a site sign in
		"listen db 8080 as front":             true,
		"listen db 8081 as store":             false,
		"site front c.example at 80 files":    true,
		"- site front a.example at 443 files": true,
	} {
		var r Reads
		r.Service("front")
		r.Service("store")
		r.Service("gatekeeper")
		if got := edited(t, m, line).Reading(&r); got != want {
			t.Errorf("%s: what is led to the services is touched: %v", line, got)
		}
	}
}

// TestManyLines: an edit of very many lines counts as one that may have changed anything.
func TestManyLines(t *testing.T) {
	m := model.Compile(notationtest.Parse(t, touching))
	var lines []string
	for i := range mostTouching + 1 {
		lines = append(lines, fmt.Sprintf("dns n%d.b.example A 203.0.113.2", i))
	}
	if edited(t, m, lines[:mostTouching]...).Everything() || !edited(t, m, lines...).Everything() {
		t.Errorf("%d lines touch everything, or one more does not", mostTouching)
	}
}

// TestMarks: what reads something of what is touched is never told apart by the marks.
func TestMarks(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	words := strings.Fields("a b c www mail x.y deep.sub")
	name := func() string { return words[r.IntN(len(words))] + "." + words[r.IntN(3)] + ".example" }
	told, apart := 0, 0
	for range 20_000 {
		x := &Touch{places: make([]bool, 40), services: map[string]bool{}, names: map[string]bool{}}
		for range r.IntN(3) {
			x.places[r.IntN(40)] = true
		}
		for range r.IntN(2) {
			x.services[words[r.IntN(len(words))]] = true
		}
		for range r.IntN(2) {
			x.names[name()] = true
		}
		if len(x.names) > 0 && r.IntN(3) == 0 {
			_, base, _ := strings.Cut(name(), ".")
			x.under(base)
		}
		x.mark()
		var reads Reads
		for range r.IntN(6) {
			reads.Place(model.PlaceID(r.IntN(40)))
		}
		for range r.IntN(3) {
			reads.Service(words[r.IntN(len(words))])
		}
		for range r.IntN(3) {
			reads.Asked(name())
		}
		meets := slices.ContainsFunc(reads.places, func(id model.PlaceID) bool { return x.places[id] }) ||
			slices.ContainsFunc(reads.services, func(s string) bool { return x.services[s] }) || slices.ContainsFunc(reads.names, x.name)
		if got := x.Reading(&reads); got != meets {
			t.Fatalf("%+v\nreading %+v: %v, want %v", x, reads, got, meets)
		}
		if meets {
			told++
		} else if !x.marks.meet(&reads.marks) {
			apart++
		}
	}
	if told < 1000 || apart < 5000 {
		t.Errorf("only %d meet, and %d are told apart at a glance", told, apart)
	}
	var all marks
	all.all()
	var one marks
	if one.place(7); !all.meet(&one) || one.meet(&marks{}) {
		t.Error("all meet whatever there is, and nothing meets nothing")
	}
}
