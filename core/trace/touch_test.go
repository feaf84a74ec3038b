package trace

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

// after is a tracer gone on from another by an edit: "- line" goes, another comes.
func after(t *testing.T, tr *Tracer, lines ...string) *Tracer {
	t.Helper()
	var c estate.Change
	for _, line := range lines {
		if gone, ok := strings.CutPrefix(line, "- "); ok {
			c.Remove = append(c.Remove, gone)
			continue
		}
		p, _, err := notation.ParseLine(line)
		if err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		c.Add = append(c.Add, p)
	}
	e, err := tr.Model().Estate.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	return tr.After(e)
}

const touching = `
network lan 10.0.0.0/24
host gate router
host web
host db
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
zone a.example
zone b.example
dns a.example A 203.0.113.1
dns www.a.example CNAME a.example
dns deep.sub.a.example A 203.0.113.1
dns *.wild.a.example A 203.0.113.1
dns b.example A 203.0.113.2
forward gate 80,443 to 10.0.0.5
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
filter inner on db input otherwise drop
rule inner pass 5432 from web
listen web 80 as front
listen web 443 as front tls cert site
listen web 22 as ssh
listen db 5432 as store
cert site for a.example expires 2027-01-01 on web
site front a.example at 443 files
site front www.a.example at 443 to http://10.0.0.6:5432
intend a.example 443 for internet
`

// TestTouched says of a line which names it may change the traces of, and which machines.
func TestTouched(t *testing.T) {
	tr := New(model.Compile(parsed(t, touching)), day)
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
		{"listen web 8080 as front", "", "web"},
		{"listen db 22 as ssh", "", "db"},
		{"accept exposure.admin web:22 until 2027-01-01 note \"the office\"", "", ""},
	} {
		x := after(t, tr, c.line).Touch()
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
			r.place(tr.Model().PlaceNamed(p).ID)
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
		"host fresh", "network far 10.9.0.0/24", "address db 10.0.0.7 lan", "route web default via 10.0.0.1", "group few web,db", "zone c.example",
		"- zone b.example", "- host db", "tunnel hill from db to 198.51.100.7:51820", "pool few in-turn",
	} {
		if x := after(t, tr, line).Touch(); !x.Everything() || !x.Reading(&Reads{}) || !x.Some(nil) {
			t.Errorf("%s does not touch everything", line)
		}
	}
}

// TestCertsOfOneName: of several certificates with one name the first alone is in force, so that one ahead of it takes its names away.
func TestCertsOfOneName(t *testing.T) {
	tr := New(model.Compile(parsed(t, touching+"\ncert twice for solo.a.example,*.sub.a.example expires 2027-01-01 on web")), day)
	tr.Names()
	line := parsed(t, "cert twice for front.b.example expires 2027-01-01 on db").Of(estate.KindNamed("cert"))[0]
	e, err := tr.Model().Estate.Apply(estate.Change{Add: []estate.Placed{{Record: line, Index: 1}}})
	if err != nil {
		t.Fatal(err)
	}
	next := tr.After(e)
	has := func(tr *Tracer, name string) bool {
		return slices.ContainsFunc(tr.Names(), func(n *Name) bool { return n.Name == name })
	}
	if !has(tr, "solo.a.example") || has(next, "solo.a.example") || !has(next, "front.b.example") {
		t.Errorf("before %+v\nafter %+v", values(tr.Names()), values(next.Names()))
	}
	for name, want := range map[string]bool{"solo.a.example": true, "deep.sub.a.example": true, "front.b.example": true, "other.b.example": false} {
		var r Reads
		if r.Asked(name); next.Touch().Reading(&r) != want {
			t.Errorf("%s is touched: %v", name, !want)
		}
	}
}

// TestTouchedServices: a listener of a service with sites touches whoever is led to these; one without is found by its place alone.
func TestTouchedServices(t *testing.T) {
	tr := New(model.Compile(parsed(t, touching)), day)
	for line, want := range map[string]bool{
		"listen db 8080 as front":             true,
		"listen db 8081 as store":             false,
		"site front c.example at 80 files":    true,
		"- site front a.example at 443 files": true,
	} {
		var r Reads
		r.service("front")
		r.service("store")
		if got := after(t, tr, line).Touch().Reading(&r); got != want {
			t.Errorf("%s: what is led to the services is touched: %v", line, got)
		}
	}
}

// TestManyLines: an edit of very many lines counts as one that may have changed anything.
func TestManyLines(t *testing.T) {
	tr := New(model.Compile(parsed(t, touching)), day)
	var lines []string
	for i := range mostTouching + 1 {
		lines = append(lines, fmt.Sprintf("dns n%d.b.example A 203.0.113.2", i))
	}
	if after(t, tr, lines[:mostTouching]...).Touch().Everything() || !after(t, tr, lines...).Touch().Everything() {
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
			reads.place(model.PlaceID(r.IntN(40)))
		}
		for range r.IntN(3) {
			reads.service(words[r.IntN(len(words))])
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

func values[T any](list []*T) []T {
	var out []T
	for _, x := range list {
		out = append(out, *x)
	}
	return out
}

// TestNamesAfterEdits holds the names that go on from those before an edit against those that are found anew.
func TestNamesAfterEdits(t *testing.T) {
	done, shared := 0, 0
	for seed := uint64(1); seed <= 30; seed++ {
		r := rand.New(rand.NewPCG(seed, 12))
		text := []string{demo.Estate, touching, synth.String(30, seed)}[seed%3]
		tr := New(model.Compile(parsed(t, text)), day)
		var gone []estate.Record
		for range 30 {
			tr.Names()
			c, kept := synth.Edit(r, tr.Model().Estate, gone)
			e, err := tr.Model().Estate.Apply(c)
			if err != nil {
				continue
			}
			before := tr
			gone, tr = kept, tr.After(e)
			got, want := tr.Names(), New(model.Compile(e), day).Names()
			if !reflect.DeepEqual(got, want) {
				t.Fatalf("seed %d, after %v\n%+v\nwant\n%+v", seed, c, values(got), values(want))
			}
			for _, n := range tr.Names() {
				from := n.From
				if len(from) == 0 {
					from = []string{"internet"}
				}
				if got := tr.VantagesOf(n.Name); !slices.Equal(got, from) {
					t.Fatalf("%s is looked at from %q, want %q", n.Name, got, from)
				}
			}
			if done++; before.names == tr.names {
				shared++
			}
		}
	}
	if done < 500 || shared < 50 {
		t.Errorf("%d edits, after %d of which the names are the same", done, shared)
	}
}

// TestViewsAfterEdits holds what is open after edits, address by address and from every vantage, against what is found anew; and
// addresses that an edit leaves alone are the very same.
func TestViewsAfterEdits(t *testing.T) {
	same, all := 0, 0
	for seed := uint64(1); seed <= 10; seed++ {
		r := rand.New(rand.NewPCG(seed, 77))
		text := demo.Estate
		if seed%2 == 0 {
			text = synth.Crossing(r) + "\nintend plain 3 for lan"
		}
		tr := New(model.Compile(parsed(t, text)), day)
		fronted := func(model.PlaceID) []uint16 { return []uint16{3, 7, 80} }
		by := tr.Fronted(fronted, nil, nil)
		views(t, tr, by)
		var gone []estate.Record
		for range 20 {
			c, kept := synth.Edit(r, tr.Model().Estate, gone)
			e, err := tr.Model().Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			next, anew := tr.After(e), New(model.Compile(e), day)
			nextBy := next.Fronted(fronted, by, nil)
			got, want := views(t, next, nextBy), views(t, anew, anew.Fronted(fronted, nil, nil))
			if got != want {
				t.Fatalf("seed %d, after %v\n%s\nwant\n%s", seed, c, got, want)
			}
			if next.Model().HangsTogetherAs(tr.Model()) {
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
	if same*2 < all || all < 200 {
		t.Errorf("of %d addresses %d are the same after an edit", all, same)
	}
}

// views is what is open from internet and every network, in each way of looking.
func views(t *testing.T, tr *Tracer, by *Fronted) string {
	t.Helper()
	var b strings.Builder
	say := func(what string, open []Open, dark []Dark, from string) {
		fmt.Fprintf(&b, "%s from %s\n", what, from)
		for i := range open {
			o := &open[i]
			fmt.Fprintln(&b, o.Address, o.Transport, o.Ports, o.Sources, o.Place, o.Port, o.Service, deref(o.Site), o.Records, o.Intent, o.Host, o.PastInput, o.Also, o.Beside)
		}
		for _, d := range dark {
			fmt.Fprintln(&b, "undecided", d)
		}
	}
	for _, net := range tr.Model().Networks {
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
	tr := New(model.Compile(parsed(t, touching)), day)
	v, err := tr.VantageNamed("lan")
	if err != nil {
		t.Fatal(err)
	}
	nothing := func(model.PlaceID) []uint16 { return nil }
	front := func(id model.PlaceID) []uint16 {
		if id == tr.Model().PlaceNamed("db").ID {
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
	db := []model.PlaceID{tr.Model().PlaceNamed("db").ID}
	if seen(next.Fronted(nothing, first, nil)) || !seen(next.Fronted(front, first, db)) || !seen(next.Fronted(front, nil, nil)) {
		t.Error("what stands before db is not asked anew")
	}
}
