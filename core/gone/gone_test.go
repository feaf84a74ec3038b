package gone

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/survey"
	"steady-compass/demo"
)

const day = "2026-12-01"

// legs is a front that hands to two machines, beside a name that hangs on one.
const legs = `network front 10.1.0.0/24
network back 10.2.0.0/24
host core router
host scale
host a
host b
address core 10.1.0.1 front
address core 10.2.0.1 back
address scale 198.51.100.90 internet
address scale 198.51.100.91 internet
address scale 10.1.0.9 front
address a 10.1.0.20 front
address b 10.2.0.20 back
route scale 10.2.0.0/24 via 10.1.0.1
filter in-a on a input otherwise drop
rule in-a pass 80 from scale
filter in-b on b input otherwise drop
rule in-b pass 80 from scale
rule in-b pass any from a
listen scale 443 as scale tls cert c
listen a 80 as leaf
listen b 80 as leaf
site scale two.example to pool leaves
site scale one.example to http://a:80
pool leaves in-turn check 80 path /
member leaves a:80
member leaves b:80
cert c for two.example,one.example expires 2027-06-01 on scale by hand
zone example
dns two.example A 198.51.100.90
dns two.example A 198.51.100.91
dns one.example A 198.51.100.90
intend two.example 443 for internet
intend one.example 443 for internet
intend a 80 for scale
`

func looked(t *testing.T, text string) *survey.Survey {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return survey.New(e, day)
}

func named(list []Affected) string {
	var out []string
	for _, n := range list {
		out = append(out, fmt.Sprintf("%s:%d", n.Name, n.Port))
	}
	return strings.Join(out, " ")
}

// TestWithout takes away one part after the other.
func TestWithout(t *testing.T) {
	s := looked(t, legs)
	for _, c := range []struct {
		word, kind                      string
		stops, fewer, goOn, unmet, shut string
	}{
		{"a", "host", "one.example:443", "", "two.example:443", "", ""},
		{"b", "host", "", "", "two.example:443", "", ""},
		{"core", "host", "", "", "two.example:443", "", ""},
		{"front", "network", "one.example:443 two.example:443", "", "", "a:80", ""},
		{"back", "network", "", "", "two.example:443", "", ""},
		{"198.51.100.90", "address", "one.example:443", "two.example:443", "", "", ""},
		{"198.51.100.91", "address", "", "two.example:443", "", "", ""},
		{"scale", "host", "one.example:443 two.example:443", "", "", "", "in-a"}, // a gets into b by another line
		{"scale", "service", "one.example:443 two.example:443", "", "", "", ""},
		{"leaf", "service", "one.example:443 two.example:443", "", "", "a:80", ""},
		{"c", "certificate", "one.example:443 two.example:443", "", "", "", ""},
		{"example", "zone", "one.example:443 two.example:443", "", "", "", ""},
	} {
		p, err := Find(s.Tracer.Model.Estate, c.word, Kind(c.kind))
		if err != nil {
			t.Errorf("%s: %v", c.word, err)
			continue
		}
		w, err := p.Of(t.Context(), s)
		if err != nil {
			t.Fatal(err)
		}
		var unmet, shut []string
		for _, u := range w.Unmet {
			unmet = append(unmet, u.Subject)
		}
		for _, f := range w.Shut {
			shut = append(shut, f.Filter)
		}
		got := [5]string{named(w.Stops), named(w.Fewer), named(w.GoOn), strings.Join(unmet, " "), strings.Join(shut, " ")}
		if want := [5]string{c.stops, c.fewer, c.goOn, c.unmet, c.shut}; got != want {
			t.Errorf("without %s %s\ngot  %q\nwant %q", c.kind, c.word, got, want)
		}
	}
}

// TestStandsOn takes away, one after the other, whatever a name goes by.
func TestStandsOn(t *testing.T) {
	s := looked(t, legs)
	for name, want := range map[string][2]string{
		"one.example":  {"host scale, host a, network front, address 198.51.100.90, service scale, service leaf, certificate c, zone example", ""},
		"two.example":  {"host scale, network front, service scale, service leaf, certificate c, zone example", "host a, host core, host b, network back, address 198.51.100.90, address 198.51.100.91"},
		"none.example": {"", ""},
	} {
		got, err := StandsOn(t.Context(), s, name, "internet")
		if err != nil {
			t.Fatal(err)
		}
		words := func(list []Stand) string {
			var out []string
			for _, x := range list {
				out = append(out, fmt.Sprintf("%s %s", x.Kind, x.Word))
			}
			return strings.Join(out, ", ")
		}
		if words(got.Alone) != want[0] || words(got.Spared) != want[1] {
			t.Errorf("%s stands on %q, and goes by %q", name, words(got.Alone), words(got.Spared))
		}
	}
}

// TestOneKindOfMany: a word may be several things, and one that is none says what was expected.
func TestOneKindOfMany(t *testing.T) {
	e := looked(t, legs).Tracer.Model.Estate
	if p, err := Find(e, "SCALE", ""); err != nil || p.Kind != Host || !slices.Equal(p.Lines, []string{"host scale"}) {
		t.Errorf("%+v, %v", p, err)
	}
	for word, kind := range map[string]Kind{"moon": "", "a": Zone, "203.0.113.7": "", "": "", "1.2.3.4.5": Address} {
		if p, err := Find(e, word, kind); err == nil || !strings.Contains(err.Error(), "recorded") {
			t.Errorf("%q as %q: %+v, %v", word, kind, p, err)
		}
	}
}

// TestNothingIsKept: whatever is taken away, the estate is afterwards what it was; and whoever is alone on the way of a name stops it.
func TestNothingIsKept(t *testing.T) {
	s := looked(t, demo.Estate)
	before := notation.Print(s.Tracer.Model.Estate)
	for _, name := range []string{"book.fernmoor.example:443", "archive.fernmoor.example:443", "fernmoor.example:443"} {
		got, err := StandsOn(t.Context(), s, name, "internet")
		if err != nil {
			t.Fatal(err)
		}
		if len(got.Alone) == 0 {
			t.Errorf("%s stands on nothing", name)
		}
		for _, x := range got.Alone {
			p, err := Find(s.Tracer.Model.Estate, x.Word, x.Kind)
			if err != nil {
				t.Fatal(err)
			}
			w, err := p.Of(t.Context(), s)
			if err != nil {
				t.Fatal(err)
			}
			if !slices.Contains(strings.Fields(named(w.Stops)), name) {
				t.Errorf("%s stands on %s alone, and goes on without it", name, x.Word)
			}
		}
	}
	if notation.Print(s.Tracer.Model.Estate) != before {
		t.Error("something was kept")
	}
}

// TestWithoutWhateverThereIs takes away everything that there is, in turn: no question fails.
func TestWithoutWhateverThereIs(t *testing.T) {
	text, err := os.ReadFile("../mend/testdata/works.estate")
	if err != nil {
		t.Fatal(err)
	}
	s := looked(t, string(text))
	tried := 0
	for _, k := range estate.Kinds {
		for _, r := range s.Tracer.Model.Estate.Of(k) {
			for _, word := range k.Fields[0].Values(r) {
				p, err := Find(s.Tracer.Model.Estate, word, "")
				if err != nil {
					continue
				}
				tried++
				if _, err := p.Of(t.Context(), s); err != nil {
					t.Errorf("%s: %v", word, err)
				}
			}
		}
	}
	if tried < 15 {
		t.Errorf("only %d parts", tried)
	}
}
