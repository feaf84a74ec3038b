package effect

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/survey"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

const day = "2026-12-01"

const office = `
network lan 10.0.0.0/24
host gate router
host web
host db
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
zone a.example ttl 1h
dns a.example A 203.0.113.1 ttl 10m
dns www.a.example CNAME a.example
forward gate 80,443 to 10.0.0.5
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
rule edge pass any from lan
filter own on web input otherwise drop
rule own pass 80,443
rule own pass 22 from lan
listen web 80 as front
listen web 443 as front tls cert site
listen web 22 as ssh
listen db 5432 as store
cert site for a.example,www.a.example expires 2027-06-01 on web
site front a.example at 443 to http://10.0.0.6:5432
site front www.a.example at 443 files
site front * at 80 redirect https
intend a.example 443 for internet
intend www.a.example 443 for internet
intend web 22 for lan
`

// TestEffects says what edits of a small estate do: to names, doors and ports for administration, and which findings come and end.
func TestEffects(t *testing.T) {
	for _, c := range []struct {
		edit    string // "- line" goes, another comes
		names   string // name:port before>after
		doors   string // +/- address ports place, and whom to
		lost    string // place:port from whom, ! where nobody is left
		ended   string
		brought string
		old     string
	}{
		{
			edit:  "- rule edge pass 80,443 from internet to web\nrule edge pass 80 from internet to web",
			names: "a.example:443 arrives>silent, www.a.example:443 arrives>silent", doors: "- 203.0.113.1 443 web to the internet", ended: "upstream.cleartext", brought: "intent.unmet path.blocked",
		},
		{
			edit:  "rule edge at 1 drop any from internet",
			names: "a.example:443 arrives>silent, www.a.example:443 arrives>silent", doors: "- 203.0.113.1 443 web to the internet, - 203.0.113.1 80 web to the internet", ended: "exposure.undeclared upstream.cleartext", brought: "intent.unmet path.blocked",
		},
		{edit: "forward gate 2223 to 10.0.0.5:22 from 198.51.100.7\nrule edge pass 22 from internet to web\nrule own pass 22 from internet", doors: "+ 203.0.113.1 2223 web to 198.51.100.7", brought: "exposure.wider"},
		{edit: "forward gate 2222 to 10.0.0.5:22\nrule edge pass 22 from internet to web\nrule own pass 22 from internet", doors: "+ 203.0.113.1 2222 web to the internet", brought: "exposure.wider"},
		{edit: "- rule own pass 22 from lan", lost: "web:22 lan!", brought: "intent.unmet path.blocked"},
		{edit: "- site front www.a.example at 443 files", names: "www.a.example:443 arrives>unanswered", brought: "site.none"},
		{edit: "- listen db 5432 as store", names: "a.example:443 arrives>gateway-error", ended: "exposure.bypass upstream.cleartext", brought: "upstream.refused"},
		{edit: "- dns www.a.example CNAME a.example", names: "www.a.example:443 arrives>unresolved", brought: "name.unresolved", old: "www.a.example CNAME 3600"},
		{edit: "- dns a.example A 203.0.113.1 ttl 10m\ndns a.example A 203.0.113.1 ttl 1m", old: "a.example A 600"},
		{edit: "dns new.a.example A 203.0.113.1", names: "new.a.example:443 >"},
		{edit: "accept order.unused web until 2027-01-01 note \"for now\""},
	} {
		e := notationtest.Parse(t, office)
		next := notationtest.Edit(t, e, strings.Split(c.edit, "\n")...)
		a := survey.New(e, day)
		got, err := Soon(t.Context(), a, a.Draft(next))
		if err != nil {
			t.Fatal(err)
		}
		var names, doors, lost, old []string
		for _, n := range got.Names {
			names = append(names, fmt.Sprintf("%s:%d %s>%s", n.Name, n.Port, word(n.Before), word(n.After)))
		}
		for _, d := range got.Doors {
			doors = append(doors, fmt.Sprintf("%s %s %s %s to %s", map[bool]string{true: "+", false: "-"}[d.Opens], d.Address, d.Ports, d.Place, d.To))
		}
		for _, s := range got.Lost {
			lost = append(lost, fmt.Sprintf("%s:%d %s%s", s.Place, s.Port, strings.Join(s.From, "+"), map[bool]string{true: "!"}[s.Nobody]))
		}
		for _, o := range got.Old {
			old = append(old, fmt.Sprintf("%s %s %d%s", o.Name, o.Type, o.Seconds, map[bool]string{true: " missing"}[o.Missing]))
		}
		codes := func(list []Brief) string {
			var out []string
			for _, f := range list {
				out = append(out, f.Code)
			}
			slices.Sort(out)
			return strings.Join(slices.Compact(out), " ")
		}
		for _, part := range []struct {
			what, got, want string
			starts          bool
		}{
			{"names", sorted(names), c.names, true},
			{"doors", sorted(doors), c.doors, false},
			{"lost", sorted(lost), c.lost, false},
			{"ended", codes(got.Ended), c.ended, false},
			{"old", sorted(old), c.old, false},
		} {
			if part.got != part.want && !(part.starts && part.want != "" && strings.HasPrefix(part.got, part.want)) {
				t.Errorf("%s\n%s: %s\nwant %s", c.edit, part.what, part.got, part.want)
			}
		}
		for _, code := range strings.Fields(c.brought) {
			if !slices.Contains(strings.Fields(codes(got.Brought)), code) {
				t.Errorf("%s\nbrings %s, want %s among them", c.edit, codes(got.Brought), code)
			}
		}
		if c.brought == "" && len(got.Brought) > 0 && !strings.Contains(c.edit, "dns new") {
			t.Errorf("%s\nbrings %s", c.edit, codes(got.Brought))
		}
	}
}

func sorted(words []string) string {
	slices.Sort(words)
	return strings.Join(words, ", ")
}

func word(o *flow.Outcome) string {
	if o == nil {
		return ""
	}
	return string(*o)
}

// TestOldAnswersOfWhatFollows: a record that follows a machine stays as it is, and its old answer is kept all the same when the machine's
// address is another: for its ttl, and until it is brought up to date.
func TestOldAnswersOfWhatFollows(t *testing.T) {
	for _, c := range []struct{ now, want string }{
		{"address gate 203.0.113.1 internet", "[]"},
		{"address gate 203.0.113.2 internet", "[{x.a.example A 11m false}]"},
		{"address gate 203.0.113.1 internet\naddress gate 203.0.113.2 internet", "[{x.a.example A 11m false}]"},
	} {
		text := strings.Replace(office, "dns www.a.example CNAME a.example", "dns x.a.example A dynamic gate every 10m ttl 60s", 1)
		before := survey.New(notationtest.Parse(t, text), day)
		after := before.Draft(notationtest.Parse(t, strings.Replace(text, "address gate 203.0.113.1 internet", c.now, 1)))
		if got := fmt.Sprint(OldAnswers(before.Tracer, after.Tracer)); got != c.want {
			t.Errorf("%s: %s, want %s", c.now, got, c.want)
		}
	}
}

var judgedEstates = flag.Uint64("judge.estates", 4, "in how many estates what edits do is told, going on and anew")

// TestEffectsAfterEdits holds what an edit is said to do, by an analysis that goes on from the one before, against what is said by
// two that are made anew.
func TestEffectsAfterEdits(t *testing.T) {
	said := 0
	for seed := uint64(1); seed <= *judgedEstates; seed++ {
		r := rand.New(rand.NewPCG(seed, 32))
		text := demo.Estate
		if seed%2 == 0 {
			text = synth.String(120, seed)
		}
		e, faults := notation.Parse(text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		a := survey.New(e, day)
		var gone []estate.Record
		for range 12 {
			c, kept := synth.Edit(r, a.Tracer.Model.Estate, gone)
			next, err := a.Tracer.Model.Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			b := a.Draft(next)
			got := of(t, a, b)
			want := of(t, survey.New(a.Tracer.Model.Estate, day), survey.New(next, day))
			if got != want {
				t.Fatalf("seed %d, %v\ngone on: %s\nanew:    %s", seed, c, got, want)
			}
			a, said = b, said+len(got)
		}
	}
	if said < 1000*int(*judgedEstates) {
		t.Errorf("only %d bytes said", said)
	}
}

func of(t *testing.T, before, after *survey.Survey) string {
	t.Helper()
	e, err := Of(t.Context(), before, after)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(e)
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
			a := survey.New(e, day)
			if _, err := Of(b.Context(), a, a); err != nil {
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
				effect, err := Soon(b.Context(), a, a.Draft(next))
				if err != nil || len(effect.Names) < 50 || len(effect.Doors) == 0 || len(effect.Brought) == 0 {
					b.Fatal(err, len(effect.Names), len(effect.Doors), len(effect.Brought))
				}
			}
		})
	}
}
