package table

import (
	"errors"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

const text = `network lan 10.0.0.0/24
network near 9.0.0.0/8
network six 2001:db8::/64,10.2.0.0/16
host gate router note "the old one"
zone a.example ttl 1h
zone b.example ttl 30m
zone c.example
dns host10.a.example A 10.0.0.10
dns host9.a.example A 10.0.0.9
# Kept for the printers.
dns host100.a.example A 9.0.0.100
dns a.example AAAA 2001:db8::9
forward gate 443 to 10.0.0.9
forward gate 80 to 10.0.0.9 hairpin
forward gate 8080 to 10.0.0.9 off
listen gate 443 as front
site front files.example files
site front root.example files "/srv/www"
site front b.example to http://10.0.0.9:80 guard "sign, at the door"`

func lines(rows []Row) string {
	var out []string
	for _, r := range rows {
		out = append(out, estate.Line(r.Record))
	}
	return strings.Join(out, "\n")
}

func TestRows(t *testing.T) {
	e := notationtest.Parse(t, text)
	for _, c := range []struct {
		kind string
		q    Question
		want string
	}{
		{"zone", Question{By: "ttl"}, "zone b.example ttl 30m\nzone a.example ttl 1h\nzone c.example"},
		{"zone", Question{By: "ttl", Down: true}, "zone a.example ttl 1h\nzone b.example ttl 30m\nzone c.example"},
		{"network", Question{By: "cidrs"}, "network near 9.0.0.0/8\nnetwork lan 10.0.0.0/24\nnetwork six 2001:db8::/64,10.2.0.0/16"},
		{"dns", Question{By: "owner", Like: "type=a host"}, "dns host9.a.example A 10.0.0.9\ndns host10.a.example A 10.0.0.10\ndns host100.a.example A 9.0.0.100"},
		{"dns", Question{By: "value", Like: "HOST"}, "dns host100.a.example A 9.0.0.100\ndns host9.a.example A 10.0.0.9\ndns host10.a.example A 10.0.0.10"},
		{"dns", Question{Like: "printers"}, "dns host100.a.example A 9.0.0.100"},
		{"forward", Question{By: "at", Down: true}, "forward gate 8080 to 10.0.0.9 off\nforward gate 80 to 10.0.0.9 hairpin\nforward gate 443 to 10.0.0.9"},
		{"forward", Question{By: "bind"}, "forward gate 80 to 10.0.0.9 hairpin\nforward gate 443 to 10.0.0.9\nforward gate 8080 to 10.0.0.9 off"},
		{"forward", Question{Like: "off= hairpin="}, "forward gate 443 to 10.0.0.9"},
		{"forward", Question{Like: "gate=443"}, ""},
		{"forward", Question{By: "nothing of the kind", Down: true}, "forward gate 8080 to 10.0.0.9 off\nforward gate 80 to 10.0.0.9 hairpin\nforward gate 443 to 10.0.0.9"},
	} {
		if got := lines(Rows(e, estate.KindNamed(c.kind), c.q)); got != c.want {
			t.Errorf("%s %+v:\n%s\nwant\n%s", c.kind, c.q, got, c.want)
		}
	}
	if rows := Rows(e, estate.KindNamed("forward"), Question{Like: "8080"}); rows[0].At != 3 {
		t.Errorf("the third forward is at %d", rows[0].At)
	}
}

// TestCellsWrite writes every record of made-up estates from its cells: the line is the same.
func TestCellsWrite(t *testing.T) {
	texts := []string{text}
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 1))
		texts = append(texts, synth.Crossing(r), synth.Pier(r), synth.Ring(r))
	}
	seen := map[string]bool{}
	for _, text := range texts {
		for _, r := range notationtest.Parse(t, text).All() {
			seen[estate.KindOf(r).Word] = true
			again, err := Rewrite(r, nil)
			if err != nil || estate.Line(again.Record) != estate.Line(r) {
				t.Fatalf("%s comes as %v: %v", estate.Line(r), again.Record, err)
			}
		}
	}
	if len(seen) < 15 {
		t.Errorf("only these kinds were tried: %v", slices.Sorted(maps.Keys(seen)))
	}
}

func TestWrite(t *testing.T) {
	type cells = map[string]string
	for _, c := range []struct {
		kind  string
		cells cells
		want  string // the line, or the column of the fault and what it says
	}{
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front", "tls": "yes", "note": `it says "no"`}, `listen azimuth 443 as front tls note "it says \"no\""`},
		{"listen", cells{"place": "Azimuth ", "bind": "443", "service": "front", "tls": "no"}, "listen azimuth 443 as front"},
		{"forward", cells{"router": "gate", "at": "2", "bind": "443", "target": "pool web"}, "forward gate at 2 443 to pool web"},
		{"site", cells{"service": "front", "names": "a.example, b.example", "files": "/srv/www"}, `site front a.example,b.example files "/srv/www"`},
		{"site", cells{"service": "front", "names": "a.example", "files": "yes"}, `site front a.example files`},
		{"site", cells{"service": "front", "names": "a.example", "target": "http://10.0.0.1", "guard": "sign"}, `site front a.example to http://10.0.0.1 guard sign`},
		{"dns", cells{"owner": "a.example", "type": "a", "dynamic": "gate"}, "dns a.example A dynamic gate"},
		{"dns", cells{"owner": "a.example", "type": "TXT", "value": `"v=spf1 -all"`}, `dns a.example TXT "v=spf1 -all"`},

		{"listen", cells{"bind": "443", "service": "front"}, "place: nothing stands here"},
		{"listen", cells{"place": "azimuth", "bind": "443x", "service": "front"}, "bind: "},
		{"listen", cells{"place": "azimuth", "bind": "99999"}, "bind: "},
		{"listen", cells{"place": "azimuth", "bind": "443"}, "service: nothing stands here"},
		{"cert", cells{"name": "site", "expires": "soon"}, "hostnames: nothing stands here"},
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front", "tls": "perhaps"}, `tls: "perhaps" cannot stand here`},
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front tls"}, "service: tls stands in a cell of another column"},
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front # mine"}, "service: what stands behind a # is a comment"},
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front\nhost x"}, "service: a cell is one line"},
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front", "tls": "yes", "passthrough": "yes"}, "passthrough: "},
		{"listen", cells{"place": "azimuth", "bind": "443", "service": "front", "until": "tomorrow"}, "until: "},
		{"listen", cells{"place": "azimuth", "bind": "443 as other", "service": "front"}, "service: "},
		{"forward", cells{"router": "gate", "at": "first", "bind": "443", "target": "10.0.0.1"}, "at: "},
		{"dns", cells{"owner": "a.example", "type": "A"}, "value: nothing stands here"},
		{"dns", cells{"owner": "a.example", "type": "A", "value": "10.0.0.1 ttl 1h"}, "value: ttl 1h stands in a cell of another column"},
		{"host", cells{}, "name: nothing stands here"},
	} {
		placed, err := Write(estate.KindNamed(c.kind), c.cells)
		got := ""
		var fault *CellFault
		switch {
		case errors.As(err, &fault):
			got = fault.Error()
		case err != nil:
			t.Fatal(err)
		default:
			got = placed.Line()
		}
		if (err == nil) != (got == c.want) || !strings.HasPrefix(got, c.want) {
			t.Errorf("%s %v comes to %q, want %q", c.kind, c.cells, got, c.want)
		}
	}
}

func TestOffers(t *testing.T) {
	e := notationtest.Parse(t, text)
	type cells = map[string]string
	for _, c := range []struct {
		kind, column string
		cells        cells
		want         string // all offers, or the first of them
	}{
		{"listen", "place", cells{}, "gate"},
		{"listen", "place", cells{"place": "ga"}, "gate"},
		{"address", "network", cells{"hosts": "gate", "held": "10.0.0.1", "network": "la"}, "lan"},
		{"rule", "sources", cells{"filter": "edge", "action": "pass", "ports": "22", "sources": "lan,ne"}, "lan,near"},
		{"rule", "action", cells{"filter": "edge"}, "pass"},
		{"rule", "action", cells{}, "pass"},
		{"listen", "place", cells{"place": "nobody's"}, ""},
		{"listen", "tls", cells{}, ""},
		{"listen", "note", cells{"place": "gate", "bind": "80", "service": "web"}, ""},
		{"listen", "colour", cells{}, ""},
	} {
		first := ""
		if got := Offers(e, estate.KindNamed(c.kind), c.cells, c.column); len(got) > 0 {
			first = got[0].Text
		}
		if first != c.want {
			t.Errorf("%s of %s with %v: %q is offered first, want %q", c.column, c.kind, c.cells, first, c.want)
		}
	}
}

// FuzzWrite: whatever stands in cells, they make a line that says just that, or a fault in one of them.
func FuzzWrite(f *testing.F) {
	f.Add(uint8(15), "azimuth", "443", "front", `a "note" # of it`)
	f.Add(uint8(7), "a.example", "A", "dynamic", "for")
	f.Fuzz(func(t *testing.T, kind uint8, a, b, c, note string) {
		k := estate.Kinds[int(kind)%len(estate.Kinds)]
		cells := map[string]string{"note": note}
		for i, text := range []string{a, b, c} {
			if i < len(k.Fields) && k.Fields[i].Column != "note" {
				cells[k.Fields[i].Column] = text
			}
		}
		placed, err := Write(k, cells)
		if err != nil {
			var fault *CellFault
			if !errors.As(err, &fault) {
				t.Fatalf("%v: %v", cells, err)
			}
			return
		}
		for i := range k.Fields {
			if f := &k.Fields[i]; strings.TrimSpace(cells[f.Column]) == "" && Cell(f, placed.Record) != "" {
				t.Fatalf("%v: %s has %q in %s, which nobody wrote", cells, placed.Line(), Cell(f, placed.Record), f.Column)
			}
		}
		if again, err := Rewrite(placed.Record, nil); err != nil || estate.Line(again.Record) != estate.Line(placed.Record) {
			t.Fatalf("%s is not written again: %v", placed.Line(), err)
		}
	})
}
