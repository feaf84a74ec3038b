package uses

import (
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// taken is an estate without some lines and what depends on them, and what that was.
func taken(t *testing.T, e *estate.Estate, lines ...string) (*estate.Estate, []Dependent) {
	t.Helper()
	found, err := New(trace.New(model.Compile(e), "")).Depending(lines)
	if err != nil {
		t.Fatal(err)
	}
	c := estate.Change{Remove: slices.Clone(lines)}
	for _, d := range found {
		c.Remove = append(c.Remove, estate.Line(d.Record))
		if d.Becomes != nil {
			c.Add = append(c.Add, estate.Placed{Record: d.Becomes})
		}
	}
	next, err := e.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	return next, found
}

// TestEveryKindDepends takes a machine out: no kind of record speaks of it after that.
func TestEveryKindDepends(t *testing.T) {
	var lines []string
	for _, k := range estate.Kinds {
		if line := ofEachKind[k.Word]; line != "" {
			lines = append(lines, line)
		}
	}
	next, _ := taken(t, notationtest.Parse(t, strings.Join(lines, "\n")), "host azimuth")
	if left := notation.Print(next); strings.Contains(left, "azimuth") {
		t.Errorf("left behind:\n%s", left)
	}
}

func TestDepending(t *testing.T) {
	const text = `network lan 10.0.0.0/24
network dmz 10.0.1.0/24
host gate router
host box
host spare
address gate 10.0.0.1 lan
address box,spare 10.0.0.5 lan
address spare 10.0.1.5 dmz
group both box,spare
filter f on box,spare input otherwise drop
rule f pass 22 from lan
rule f pass 443 from lan,dmz
container box/web
map box/web 443 to 8443
listen box/web 8443 as front tls cert shown,other
listen box 8080 as plain
site front a.example to http://box:8080 cert shown
site front b.example to http://10.0.0.5:8080 guard plain
cert shown for a.example on box/web,spare
cert other for b.example on spare through front
pool p
member p box:8080
forward gate 443 to pool p
intend a.example 443 for lan reaching box/web
intend b.example 443 for dmz`
	for _, c := range []struct{ take, want string }{
		// Of a network that is one of two the rule stays, and speaks of the other; a rule from it alone goes, and does not become one from everywhere.
		{"network lan 10.0.0.0/24", `address gate 10.0.0.1 lan - [lan]
address box,spare 10.0.0.5 lan - [lan]
rule f pass 22 from lan - [lan]
rule f pass 443 from lan,dmz > rule f pass 443 from dmz [lan]
intend a.example 443 for lan reaching box/web - [lan]`},
		{"cert shown for a.example on box/web,spare", `listen box/web 8443 as front tls cert shown,other > listen box/web 8443 as front tls cert other [shown]
site front a.example to http://box:8080 cert shown > site front a.example to http://box:8080 [shown]`},
		{"pool p", `forward gate 443 to pool p - [p]
member p box:8080 - [p]`},
		// A site does not lose whom it is guarded by: it goes.
		{"listen box 8080 as plain", `site front b.example to http://10.0.0.5:8080 guard plain - [plain]`},
		// What goes takes its own with it, and what is meant stays meant.
		{"host box", `address box,spare 10.0.0.5 lan > address spare 10.0.0.5 lan [box]
group both box,spare > group both spare [box]
filter f on box,spare input otherwise drop > filter f on spare input otherwise drop [box]
container box/web - [box]
map box/web 443 to 8443 - [box/web]
listen box/web 8443 as front tls cert shown,other - [box/web]
listen box 8080 as plain - [box]
site front a.example to http://box:8080 cert shown - [box]
site front b.example to http://10.0.0.5:8080 guard plain - [plain]
member p box:8080 - [box]
cert shown for a.example on box/web,spare > cert shown for a.example on spare [box/web]
cert other for b.example on spare through front > cert other for b.example on spare [front]
intend a.example 443 for lan reaching box/web > intend a.example 443 for lan [box/web]`},
		{"intend b.example 443 for dmz", ""},
	} {
		_, found := taken(t, notationtest.Parse(t, text), c.take)
		var got []string
		for _, d := range found {
			line := estate.Line(d.Record) + " -"
			if d.Becomes != nil {
				line = estate.Line(d.Record) + " > " + estate.Line(d.Becomes)
			}
			got = append(got, line+" ["+strings.Join(d.Of, " ")+"]")
		}
		if text := strings.Join(got, "\n"); text != c.want {
			t.Errorf("without %s:\n%s\nwant\n%s", c.take, text, c.want)
		}
	}
	if _, err := New(trace.New(model.Compile(notationtest.Parse(t, text)), "")).Depending([]string{"host nobody"}); !errors.Is(err, estate.ErrNotThere) {
		t.Errorf("a line that is not there: %v", err)
	}
}

// TestDependingLeavesNothing takes any line out of estates: whatever was recorded under a name before, and is spoken of, still is.
func TestDependingLeavesNothing(t *testing.T) {
	for seed := range uint64(6) {
		e := notationtest.Parse(t, synth.Crossing(rand.New(rand.NewPCG(seed, 0))))
		dangling := unknown(e)
		for i, r := range e.All() {
			if i%7 != int(seed) { // each a part
				continue
			}
			next, _ := taken(t, e, estate.Line(r))
			for _, line := range unknown(next) {
				if !slices.Contains(dangling, line) {
					t.Fatalf("without %s: %s speaks of what is not recorded", estate.Line(r), line)
				}
			}
		}
	}
}

// unknown are the lines that refer to what is not recorded.
func unknown(e *estate.Estate) []string {
	defined := estate.DefinedIn(e)
	var out []string
	for _, r := range e.All() {
		for i := range estate.KindOf(r).Fields {
			if slices.ContainsFunc(estate.KindOf(r).Fields[i].Refs(r), func(ref estate.Ref) bool { return !defined.Has(ref) }) {
				out = append(out, estate.Line(r))
			}
		}
	}
	return out
}
