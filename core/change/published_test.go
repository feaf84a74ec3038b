package change

import (
	"context"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

// published is a name that leads where it is meant to, for all who are meant.
type published struct {
	wish Wish
	line string
}

// publishedNames are those of an estate that work.
func publishedNames(t *testing.T, s mend.State) []published {
	t.Helper()
	var out []published
	e := s.Tracer.Model.Estate
	for _, i := range of[*estate.Intent](e) {
		if i.Off || !strings.Contains(i.Target, ".") || strings.HasPrefix(i.Target, "*") || strings.Contains(i.Target, ":") || slices.ContainsFunc(of[*estate.Zone](e), func(z *estate.Zone) bool { return z.Name == i.Target }) {
			continue
		}
		p := published{Wish{Name: i.Target, Ports: i.Ports.List()}, estate.Line(i)}
		if i.Guarded {
			p.wish.Guard = "sign"
		}
		ends := map[string]bool{}
		for _, a := range i.For {
			p.wish.Audience = append(p.wish.Audience, a.String())
			v, err := s.Tracer.VantageNamed(a.String())
			if err != nil {
				ends[""] = true
				continue
			}
			r := s.Tracer.Trace(trace.Target{Text: p.wish.Name, Name: p.wish.Name}, v)
			for _, path := range r.Paths {
				switch {
				case path.Outcome == flow.Arrives && path.End != nil:
					ends[*path.End] = true
				case !path.Outcome.Good():
					ends[""] = true
				}
			}
		}
		if len(ends) != 1 || ends[""] {
			continue
		}
		for end := range ends {
			place, port, _ := strings.Cut(end, ":")
			n, err := strconv.ParseUint(port, 10, 16)
			if err != nil {
				continue
			}
			p.wish.Place, p.wish.Port = place, uint16(n)
			out = append(out, p)
		}
	}
	return out
}

// provenBack says whether what was retired may come back by the rules that a plan is held to: no error comes with it but by a cause that is there.
func provenBack(ctx context.Context, t *testing.T, without mend.State, before *estate.Estate) bool {
	t.Helper()
	c := estate.Difference(without.Tracer.Model.Estate, before)
	var add []string
	for _, p := range c.Add {
		add = append(add, p.Line())
	}
	now := looked(t, mend.Issued(before, without.Tracer.Model.Estate))
	for _, f := range findings.Ended(now.Checked.Report, without.Checked.Report) { // it comes
		if f.Level == findings.Error {
			return false
		}
	}
	return ctx.Err() == nil && len(add) > 0
}

// TestRandomPublishing takes names that work out of sight, in estates with random edits, and publishes them again: a plan is found wherever the
// lines that went prove that there is one; by it the audience comes to the place, and nothing that worked stops. What becomes of packets is held
// against the second reading in core/judge, and against the kernel in lab.
func TestRandomPublishing(t *testing.T) {
	tried, found := 0, 0
	for seed := range *judgedDrafts {
		r := rand.New(rand.NewPCG(uint64(seed), 19))
		text := demo.Estate
		switch {
		case seed%2 == 1:
			text = synth.Pier(r)
		case seed%8 == 0:
			text = synth.String(24, uint64(seed))
		}
		e := notationtest.Parse(t, text)
		for range r.IntN(4) {
			c, _ := synth.Edit(r, e, nil)
			if slices.ContainsFunc(c.Remove, func(l string) bool {
				kind, _, _ := strings.Cut(l, " ")
				return slices.Contains([]string{"host", "network", "container", "zone"}, kind)
			}) {
				continue // no place and no zone is put back
			}
			if next, err := e.Apply(c); err == nil {
				e = next
			}
		}
		first := looked(t, e)
		names := publishedNames(t, first)
		if len(names) == 0 {
			continue
		}
		name := names[r.IntN(len(names))]
		gone, err := Retire(t.Context(), first, name.wish.Name)
		if err != nil {
			t.Fatal(err)
		}
		if gone.None != nil {
			continue
		}
		without := looked(t, changed(t, e, textOf(gone.Plans[0].Lines)))
		harmless(t, name.wish.Name, first, without, gone)
		back, err := Publish(t.Context(), without, name.wish)
		if err != nil {
			t.Fatal(err)
		}
		if back.None != nil {
			if provenBack(t.Context(), t, without, e) {
				tried++
				t.Errorf("seed %d: %v is not published again: %s\nwhat went:\n%s", seed, name.wish, *back.None, textOf(gone.Plans[0].Lines))
			}
			continue
		}
		tried++
		found++
		for i := range back.Plans {
			after := changed(t, without.Tracer.Model.Estate, textOf(back.Plans[i].Lines))
			proven(t, name.wish, without, after)
			if i > 0 {
				continue
			}
			again := looked(t, mend.Issued(after, without.Tracer.Model.Estate))
			last, err := Retire(t.Context(), again, name.wish.Name)
			if err != nil {
				t.Fatal(err)
			}
			if last.None != nil {
				t.Errorf("seed %d: %s is not retired again: %s", seed, name.wish.Name, *last.None)
				continue
			}
			end := looked(t, changed(t, again.Tracer.Model.Estate, textOf(last.Plans[0].Lines)))
			lost := findings.Lost(without.Checked.Walked(), end.Checked.Walked())
			if len(last.Stays) == 0 { // what stays is for others
				lost = append(lost, findings.Lost(end.Checked.Walked(), without.Checked.Walked())...)
			}
			for _, l := range lost {
				t.Errorf("seed %d: %s: %s from %s ends %s after all", seed, name.wish.Name, l.Target, l.From, l.Now)
			}
		}
	}
	t.Logf("%d names, %d published again", tried, found)
	if found == 0 {
		t.Error("nothing was judged")
	}
}
