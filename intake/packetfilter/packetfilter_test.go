package packetfilter

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/intake"
)

const around = `
network yard 10.0.0.0/24
network lab 10.0.1.0/24
host gate router
address gate 203.0.113.1 internet
address gate 203.0.113.9 internet
address gate 10.0.0.1 yard
`

func parsed(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults[0], text)
	}
	return e
}

var gate = Source{Host: "gate", Interfaces: map[string]string{"eth0": "internet", "eth1": "yard"}}

// TestListings reads a ruleset in each format: what it says as lines, and what of it has no meaning.
func TestListings(t *testing.T) {
	for _, c := range []struct {
		file string
		read func(file, text string) (*Ruleset, []intake.FileFault)
		want string // the lines
		left string // what of it has no meaning here
	}{
		{"testdata/ruleset.json", ReadJSON, `
+ forward gate 443 to 10.0.0.5
+ forward gate 203.0.113.1:8080 to 10.0.0.5:80 inside
+ forward gate 81 to 10.0.0.6 inside
+ forward gate 82 to 10.0.0.7 inside
+ forward gate 9000-9010 to 10.0.0.5 inside
+ forward gate 5000 to 203.0.113.1:5001 inside
+ outbound gate leaving internet as 203.0.113.1
+ outbound gate from yard leaving yard as 203.0.113.9
+ filter gate-input on gate input otherwise refuse strict
+ rule gate-input pass 22 from lab,10.0.0.5,10.0.2.1,10.0.2.2/31,10.0.2.4/30,10.0.2.8/31 entering internet
+ rule gate-input pass 22 from lab,10.0.0.5,10.0.2.1,10.0.2.2/31,10.0.2.4/30,10.0.2.8/31 entering yard
+ rule gate-input pass 80 from 10.0.0.5
+ rule gate-input pass 22
+ rule gate-input drop 23
+ rule gate-input drop 98
+ rule gate-input pass 53/tcp+udp
+ rule gate-input unknown 1000-2000/udp
+ rule gate-input drop any from ::/3,2000::/16,…
+ rule gate-input refuse 25
+ rule gate-input pass 80,443,8000-8010`, `line 20: table inet filter, chain input, rule 11: limit has no meaning here; the flows that it may take are undecided`},
		{"testdata/ruleset.save", ReadSave, `
+ forward gate 8080 to 10.0.0.5:80
+ forward gate 203.0.113.1:8443 to 10.0.0.5:443 inside
+ outbound gate from yard leaving internet as 203.0.113.9
+ outbound gate leaving yard as unchanged
+ filter gate-translations on gate arriving otherwise pass
+ rule gate-translations unknown 7000 from 0.0.0.0/0 to 0.0.0.0/0 entering internet
+ filter gate-arriving on gate arriving otherwise pass ipv4 stateless
+ rule gate-arriving drop any from 198.51.100.0/24 entering internet
+ filter gate-input on gate input otherwise drop ipv4 strict
+ rule gate-input pass 22,80,8000-8010 from yard,lab
+ rule gate-input refuse 53/udp from 0.0.0.0/5,8.0.0.0/7,…
+ rule gate-input pass 123/udp from 0.0.0.0/5,8.0.0.0/7,…
+ rule gate-input refuse any from 0.0.0.0/5,8.0.0.0/7,…
+ rule gate-input unknown 25
+ filter gate-through on gate through otherwise drop ipv4
+ rule gate-through pass 80 to 10.0.0.5 leaving yard
+ rule gate-through pass 443 to 10.0.0.5 leaving yard
+ rule gate-through pass 7000 to 10.0.0.6 leaving yard
+ rule gate-through pass any entering yard leaving internet`, `line 28: table filter, chain INPUT, rule 9: --limit 3/sec has no meaning here; the flows that it may take are undecided
line 11: table nat, chain PREROUTING, rule 3: --mode random has no meaning here; the flows that it may take are undecided`},
	} {
		t.Run(c.file, func(t *testing.T) {
			text, err := os.ReadFile(c.file)
			if err != nil {
				t.Fatal(err)
			}
			rs, faults := c.read(c.file, string(text))
			if len(faults) > 0 {
				t.Fatal(faults)
			}
			e := parsed(t, around)
			r := gate.Reading(rs, e)
			lines := intake.Compare(e, r).Lines()
			want := strings.Split(strings.TrimSpace(c.want), "\n")
			for i := range max(len(lines), len(want)) {
				got, expected := "", ""
				if i < len(lines) {
					got = lines[i]
				}
				if i < len(want) {
					expected = want[i]
				}
				if head, cut := strings.CutSuffix(expected, "…"); got != expected && !(cut && strings.HasPrefix(got, head)) {
					t.Errorf("line %d\n%s\nwant\n%s", i+1, got, expected)
				}
			}
			if got := strings.Join(r.Left, "\n"); got != c.left {
				t.Errorf("left\n%s\nwant\n%s", got, c.left)
			}
		})
	}
}

// TestComesBack writes the ruleset of every machine of random estates and reads it again: in either format nothing has
// changed; and read where nothing is recorded of it, every flow fares as before.
func TestComesBack(t *testing.T) {
	flows := 0
	for seed := uint64(1); seed <= 120; seed++ {
		r := rand.New(rand.NewPCG(seed, 3))
		text := synth.Crossing(r)
		e := parsed(t, text)
		for _, host := range []string{"edge", "inner", "box", "plain", "deep"} {
			rs, left, err := FromRecords(e, host, nil)
			if err != nil {
				t.Fatal(err)
			}
			back, faults := ReadJSON("back", WriteJSON(rs))
			if len(faults) > 0 {
				t.Fatal(faults)
			}
			if len(left) > 0 || !exact(e, host) {
				continue
			}
			plan := intake.Compare(e, Source{Host: host}.Reading(back, e))
			if lines := plan.Lines(); len(lines) > 0 || len(plan.Gone) > 0 {
				t.Fatalf("seed %d, %s: changed by going out and in\n%s\ngone %v\n%s", seed, host, strings.Join(lines, "\n"), plan.Gone, text)
			}
			for _, six := range []bool{false, true} {
				out, unsaid := WriteSave(rs, six)
				if len(unsaid) > 0 {
					continue
				}
				back, faults := ReadSave("back", out)
				if len(faults) > 0 {
					t.Fatalf("%v\n%s", faults, out)
				}
				if plan := intake.Compare(e, Source{Host: host}.Reading(back, e)); several(e, host) == 0 && len(plan.Lines()) > 0 {
					t.Fatalf("seed %d, %s: changed by going out and in by the save format\n%s\n%s\n%s", seed, host, strings.Join(plan.Lines(), "\n"), out, text)
				}
			}
			bare := without(e, host)
			fresh, err := bare.Apply(intake.Compare(bare, Source{Host: host}.Reading(back, bare)).Edit(false))
			if err != nil {
				t.Fatal(err)
			}
			flows += faresAlike(t, e, fresh, r, fmt.Sprintf("seed %d, %s\n%s\n%s", seed, host, text, notation.Print(fresh)))
		}
	}
	t.Logf("%d flows fare alike", flows)
}

// exact says whether a ruleset can say all of a machine's lines in their own words: one in which drops win is written in
// another order, and the kernel refuses nothing that departs.
func exact(e *estate.Estate, host string) bool {
	return !slices.ContainsFunc(e.Of(estate.KindNamed("filter")), func(r estate.Record) bool {
		f := r.(*estate.Filter)
		refuses := f.Otherwise == "refuse" || slices.ContainsFunc(e.Of(estate.KindNamed("rule")), func(r estate.Record) bool {
			rule := r.(*estate.Rule)
			return rule.Filter == f.Name && rule.Action == "refuse"
		})
		return slices.Contains(f.On, host) && (f.DropWins || len(f.On) > 1 || f.Hook == "departing" && refuses)
	})
}

// several is how many hooks of a machine have more than one filter, which the save format makes one of.
func several(e *estate.Estate, host string) int {
	n := 0
	for _, list := range model.Compile(e).PlaceNamed(host).Filters {
		n += max(0, len(list)-1)
	}
	return n
}

// without is an estate without what a ruleset says of a machine.
func without(e *estate.Estate, host string) *estate.Estate {
	var c estate.Change
	for _, r := range e.All() {
		gone := false
		switch r := r.(type) {
		case *estate.Filter:
			gone = slices.Equal(r.On, []string{host})
		case *estate.Forward:
			gone = r.Router == host
		case *estate.Outbound:
			gone = r.Router == host
		}
		if rule, ok := r.(*estate.Rule); ok {
			gone = slices.ContainsFunc(e.Of(estate.KindNamed("filter")), func(r estate.Record) bool {
				f := r.(*estate.Filter)
				return f.Name == rule.Filter && slices.Equal(f.On, []string{host})
			})
		}
		if gone {
			c.Remove = append(c.Remove, estate.Line(r))
		}
	}
	next, err := e.Apply(c)
	if err != nil {
		panic(err)
	}
	return next
}

func faresAlike(t *testing.T, a, b *estate.Estate, r *rand.Rand, told string) int {
	t.Helper()
	was, is := trace.New(model.Compile(a), "2026-11-25"), trace.New(model.Compile(b), "2026-11-25")
	for range 30 {
		q := synth.Ask(r)
		key := flow.PortKey{Port: q.Port, Transport: netset.TCP}
		if q.UDP {
			key.Transport = netset.UDP
		}
		var said [2]string
		for i, tr := range []*trace.Tracer{was, is} {
			from := q.From
			if q.Source.IsValid() {
				from = q.Source.String()
			}
			v, err := tr.VantageNamed(from)
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range tr.TracePort(trace.Target{Text: q.To.String(), Addr: q.To, Port: q.Port, Proto: key.Transport}, key, v) {
				end := ""
				if p.End != nil {
					end = *p.End
				}
				said[i] += fmt.Sprint(p.Outcome, " ", end, ";")
			}
		}
		if said[0] != said[1] {
			t.Fatalf("%+v fares %s, and read again %s\n%s", q, said[0], said[1], told)
		}
	}
	return 30
}

// TestNoListing reads what is none: each says where, what and what was expected, and breaks nothing.
func TestNoListing(t *testing.T) {
	for _, c := range []struct {
		read func(file, text string) (*Ruleset, []intake.FileFault)
		text string
		want string
	}{
		{ReadJSON, `{"nftables": [`, "f:1:"},
		{ReadJSON, `[]`, "f:1:"},
		{ReadJSON, ``, "f:1:"},
		{ReadJSON, "{\"nftables\": [\n{\"rule\": 7}]}", "f:2:"},
		{ReadSave, "*filter\n:INPUT\n", "f:2:1: the chain has no policy"},
		{ReadSave, "-A INPUT -j ACCEPT\n", "f:1:1: \"-A INPUT -j ACCEPT\" stands in no table"},
		{ReadSave, "*filter\n-A other -j ACCEPT\n", "f:2:1: chain other is not there"},
		{ReadSave, "*filter\n-A INPUT -s 10.0.0.300 -j DROP\n", "f:2:1: 10.0.0.300 is no address"},
		{ReadSave, "*filter\n-A INPUT -p tcp --dport ssh,1:x -j DROP\n", "f:2:1: ssh,1:x is no list of ports"},
		{ReadSave, "*filter\n-A INPUT -j\n", "f:2:1: -j has nothing behind it"},
		{ReadSave, "*filter\n-A INPUT -m comment --comment \"a\n", "f:2:1: a quote is not closed"},
		{ReadSave, "*other\n", "f:1:1: table \"other\" is not known"},
	} {
		_, faults := c.read("f", c.text)
		if len(faults) == 0 || !strings.HasPrefix(faults[0].String(), c.want) || faults[0].Expected == "" {
			t.Errorf("%q says %v, want %s", c.text, faults, c.want)
		}
	}
	if r := (Source{Host: "nobody"}).Reading(&Ruleset{}, parsed(t, around)); len(r.Faults) != 1 {
		t.Errorf("a host that is not recorded: %v", r.Faults)
	}
}

// FuzzListings reads anything in both formats without breaking.
func FuzzListings(f *testing.F) {
	for _, file := range []string{"testdata/ruleset.json", "testdata/ruleset.save"} {
		text, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
	}
	e := parsed(f, around)
	f.Fuzz(func(t *testing.T, text string) {
		for _, read := range []func(file, text string) (*Ruleset, []intake.FileFault){ReadJSON, ReadSave} {
			rs, _ := read("f", text)
			for _, rec := range gate.Reading(rs, e).Records {
				if _, _, err := notation.ParseLine(estate.Line(rec)); err != nil {
					t.Fatalf("%s: %v", estate.Line(rec), err)
				}
			}
		}
	})
}
