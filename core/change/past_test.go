package change

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/mend"
	"steady-compass/core/notation/notationtest"
	"steady-compass/demo"
)

// TestOldAnswersOutliveTheOrder: when the step that changes an answer is made and the rest is put in order anew, what the old answer leads to
// stays until it is over.
func TestOldAnswersOutliveTheOrder(t *testing.T) {
	e := notationtest.Parse(t, hill)
	after := changed(t, e, pieces[0])
	order, err := Order(t.Context(), looked(t, e), after, Past{})
	if err != nil {
		t.Fatal(err)
	}
	if len(order.Gaps) > 0 || order.Steps[1].At != "fernmoor.example" && order.Steps[1].At != "zone fernmoor.example" {
		t.Fatalf("%+v", order)
	}
	at := changed(t, changed(t, e, textOf(order.Steps[0].Lines)), textOf(order.Steps[1].Lines))
	past := Past{Before: e, Left: map[string]estate.Seconds{"fernmoor.example": 1800}}
	for name, c := range map[string]struct {
		past  Past
		first StepKind
	}{"half of it is over": {past, Wait}, "all of it is over": {Past{}, Edit}} {
		rest, err := Order(t.Context(), looked(t, at), after, c.past)
		if err != nil {
			t.Fatal(err)
		}
		if rest.Steps[0].Kind != c.first || len(rest.Gaps) > 0 || c.first == Wait && (rest.Steps[0].Seconds != 1800 || rest.Steps[0].At != "fernmoor.example") {
			t.Errorf("%s: %+v", name, rest)
		}
	}
}

// TestStepping makes random drafts step by step, put in order anew after each as the interface does it: by the records of the moment, and by
// the answers of before that are not waited for, nothing stops that works before and after all of it.
func TestStepping(t *testing.T) {
	stepped, waited := 0, 0
	for seed := range *judgedDrafts {
		r := rand.New(rand.NewPCG(uint64(seed), 18))
		text := hill
		if seed%3 == 2 {
			text = demo.Estate
		}
		e := notationtest.Parse(t, text)
		after := drafted(t, r, e)
		first := looked(t, e)
		x, err := newEnds(t.Context(), apart(e, after), &point{e, e, first})
		if err != nil {
			t.Fatal(err)
		}
		at, past := e, Past{Begun: e}
		for n := 0; like(at) != like(after) && n < 40; n++ {
			state := looked(t, at)
			order, err := Order(t.Context(), state, after, past)
			if err != nil {
				t.Fatal(err)
			}
			if len(order.Gaps) > 0 || len(order.Steps) == 0 {
				break
			}
			step := order.Steps[0]
			if step.Kind == Wait {
				past.Before, waited = nil, waited+1
				continue
			}
			next := changed(t, at, textOf(step.Lines))
			now := looked(t, next)
			for _, o := range effect.OldAnswers(state.Tracer, now.Tracer) {
				if o.Missing {
					continue
				}
				if past.Before == nil {
					past.Before, past.Left = at, map[string]estate.Seconds{}
				}
				past.Left[o.Name] = max(past.Left[o.Name], o.Seconds)
			}
			at, stepped = next, stepped+1
			if x.reaching { // what is meant is another thing on the way
				continue
			}
			judged := func(how string, e *estate.Estate) {
				for _, l := range findings.Lost(first.Checked.Walked(), looked(t, mend.IssuedWhere(e, x.before, func(*estate.Cert) bool { return true })).Checked.Walked()) {
					if !x.given[known(l)] {
						t.Errorf("seed %d: after %s %v, by %s answers %s from %s ends %s", seed, step.At, step.Lines, how, l.Target, l.From, l.Now)
					}
				}
			}
			judged("new", next)
			if past.Before != nil {
				c := estate.Change{}
				for _, r := range next.Of(dnsKind) {
					c.Remove = append(c.Remove, estate.Line(r))
				}
				for _, r := range past.Before.Of(dnsKind) {
					c.Add = append(c.Add, estate.Placed{Record: r})
				}
				seen, err := next.Apply(c)
				if err != nil {
					t.Fatal(err)
				}
				judged("old", seen)
			}
		}
	}
	t.Logf("%d steps, %d waits", stepped, waited)
	if stepped == 0 || waited == 0 {
		t.Error("nothing was judged")
	}
}

// TestLowerAhead: where a ttl is lowered ahead, the wait that it would make is shorter by it; where it is low already, nothing is offered.
func TestLowerAhead(t *testing.T) {
	for _, c := range []struct {
		ttl  string
		wait estate.Seconds // 0 where nothing is offered
	}{{"", 300}, {" ttl 2h", 300}, {" ttl 5m", 0}} {
		e := notationtest.Parse(t, strings.Replace(hill, "dns fernmoor.example A 203.0.113.20", "dns fernmoor.example A 203.0.113.20"+c.ttl, 1))
		after := changed(t, e, strings.Replace(pieces[0], "- dns fernmoor.example A 203.0.113.20", "- dns fernmoor.example A 203.0.113.20"+c.ttl, 1))
		order, err := Order(t.Context(), looked(t, e), after, Past{})
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(order.Steps, func(s WorkStep) bool { return s.Kind == Wait })
		if at < 0 {
			t.Fatalf("%q: no wait: %+v", c.ttl, order)
		}
		ahead := order.Steps[at].Ahead
		if ahead == nil || c.wait == 0 {
			if ahead != nil || c.wait != 0 {
				t.Errorf("%q: offered %+v, want a wait of %s", c.ttl, ahead, c.wait)
			}
			continue
		}
		if ahead.Wait != c.wait || ahead.Seconds != order.Steps[at].Seconds || len(ahead.Add) != 1 || !strings.HasSuffix(ahead.Add[0], "203.0.113.20 ttl 5m") {
			t.Errorf("%q: %+v", c.ttl, ahead)
		}
		lowered := changed(t, e, textOf(ahead.Lines))
		again, err := Order(t.Context(), looked(t, lowered), changed(t, lowered, strings.Replace(textOf(Left(e, after)), "203.0.113.20"+c.ttl+"\n", "203.0.113.20 ttl 5m\n", 1)), Past{})
		if err != nil {
			t.Fatal(err)
		}
		if at := slices.IndexFunc(again.Steps, func(s WorkStep) bool { return s.Kind == Wait }); at < 0 || again.Steps[at].Seconds != c.wait {
			t.Errorf("%q: when it is lowered, %+v", c.ttl, again.Steps)
		}
	}
}

// TestOldAnswersOfWhatFollows: a record that follows a machine is the same line when the machine's address is another, and its old answer is
// kept all the same: what it leads to stays until it is over.
func TestOldAnswersOfWhatFollows(t *testing.T) {
	at := notationtest.Parse(t, strings.NewReplacer(
		"dns fernmoor.example A 203.0.113.20", "dns fernmoor.example A dynamic meridian every 5m",
		"address meridian 203.0.113.20 internet", "address meridian 203.0.113.21 internet\nhost harbour router\naddress harbour 203.0.113.20 internet\naddress harbour 10.20.8.2 perimeter",
		"rule edge pass 80,443 from internet", "rule edge pass 80,443",
		"forward meridian 203.0.113.20:80,443 to 10.20.8.10", "forward meridian 203.0.113.21:80,443 to 10.20.8.10\nforward harbour 203.0.113.20:80,443 to 10.20.8.10\noutbound harbour from internet as 10.20.8.2\nroute azimuth default via 10.20.8.1",
	).Replace(hill))
	before := changed(t, at, "- address meridian 203.0.113.21 internet\n- address harbour 203.0.113.20 internet\n+ address meridian 203.0.113.20 internet\n+ forward meridian at 1 203.0.113.20:80,443 to 10.20.8.10")
	after := changed(t, at, "- forward harbour 203.0.113.20:80,443 to 10.20.8.10")
	for name, c := range map[string]struct {
		past Past
		want string
	}{
		"the old answer is about": {Past{Before: before, Left: map[string]estate.Seconds{"fernmoor.example": 1500}}, "wait 25m; router harbour -1 +0"},
		"it is over":              {Past{}, "router harbour -1 +0"},
	} {
		order, err := Order(t.Context(), looked(t, at), after, c.past)
		if err != nil {
			t.Fatal(err)
		}
		if got := said(order); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
}
