package compare

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

const day = "2026-12-01"

func tracer(t testing.TB, text string) *trace.Tracer {
	t.Helper()
	return trace.New(model.Compile(notationtest.Parse(t, text)), day)
}

func follow(t testing.TB, tr *trace.Tracer, target, from string) trace.Result {
	t.Helper()
	v, err := tr.VantageNamed(from)
	if err != nil {
		t.Fatal(err)
	}
	tg, err := tr.ParseTarget(target)
	if err != nil {
		t.Fatal(err)
	}
	return tr.Trace(tg, v)
}

// said is how a pair goes: a joined step by its stage, a step of one side behind - or +.
func said(c Comparison, p Pair) string {
	var out []string
	for _, s := range p.Segments {
		for i, l := range s.Left {
			step := c.Left.Paths[*p.Left].Steps[l]
			if !s.Joined {
				out = append(out, "-"+string(step.Stage))
				continue
			}
			if twin := c.Right.Paths[*p.Right].Steps[s.Right[i]]; twin.At != step.At || twin.Stage != step.Stage {
				out = append(out, fmt.Sprintf("joined: %s at %s, %s at %s", step.Stage, step.At, twin.Stage, twin.At))
			}
			out = append(out, string(step.Stage))
		}
		for _, r := range s.Right {
			if !s.Joined {
				out = append(out, "+"+string(c.Right.Paths[*p.Right].Steps[r].Stage))
			}
		}
	}
	return strings.Join(out, " ")
}

// TestInsideAndOutside holds a name from outside against the same from inside, where only a loop-back is wanting: they part at the router
// and come together again at the machine.
func TestInsideAndOutside(t *testing.T) {
	tr := tracer(t, demo.Estate)
	const name = "archive.fernmoor.example:443"
	c := Of(follow(t, tr, name, "internet"), follow(t, tr, name, "yard"))
	if len(c.Ways) != 1 || c.Ways[0].Same {
		t.Fatalf("ways: %+v", c.Ways)
	}
	got := said(c, c.Ways[0])
	const want = "resolve -translate -filter +route +translate +filter +rewrite translate socket tls site upstream rewrite filter socket end"
	if got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

// TestWhatIsBesideWhat pairs the ways of two traces by what is asked for, and leaves out none of either.
func TestWhatIsBesideWhat(t *testing.T) {
	const both = `host box
address box 198.51.100.7 internet
address box 2001:db8::7 internet
listen box 443 as web tls cert c
cert c for a.example,b.example expires 2027-01-01 on box
dns a.example A 198.51.100.7
dns a.example AAAA 2001:db8::7
dns b.example A 198.51.100.7
`
	tr := tracer(t, both)
	two := follow(t, tr, "a.example:443", "internet")
	one := follow(t, tr, "b.example:443", "internet")
	families := func(left, right trace.Result) (out []string) {
		for _, w := range Of(left, right).Ways {
			word := ""
			if w.Left != nil {
				word = left.Paths[*w.Left].Family
			}
			word += "|"
			if w.Right != nil {
				word += right.Paths[*w.Right].Family
			}
			out = append(out, word)
		}
		return out
	}
	for _, c := range []struct {
		left, right trace.Result
		want        []string
	}{
		{two, two, []string{"ipv6|ipv6", "ipv4|ipv4"}},
		{two, one, []string{"ipv6|", "ipv4|ipv4"}},
		{one, two, []string{"ipv4|ipv4", "|ipv6"}},
		{one, follow(t, tr, "198.51.100.7:80", "internet"), []string{"ipv4|ipv4"}}, // another port, and nothing nearer
	} {
		if got := families(c.left, c.right); !slices.Equal(got, c.want) {
			t.Errorf("%s beside %s: %v, want %v", c.left.Target, c.right.Target, got, c.want)
		}
	}
	for _, w := range Of(two, two).Ways {
		if !w.Same {
			t.Errorf("a trace parts from itself: %+v", w)
		}
	}
}

// TestEveryStepOnce holds for random pairs: each way of either side is in one pair, and each step of it in one segment, in order.
func TestEveryStepOnce(t *testing.T) {
	tr := tracer(t, synth.String(60, 3))
	var all []trace.Result
	for _, n := range tr.Names() {
		for _, from := range []string{"internet", "l0"} {
			if v, err := tr.VantageNamed(from); err == nil {
				if tg, err := tr.ParseTarget(n.Name); err == nil {
					all = append(all, tr.Trace(tg, v))
				}
			}
		}
	}
	if len(all) < 60 {
		t.Fatalf("%d traces only", len(all))
	}
	for i := range all {
		left, right := all[i], all[(i*7+1)%len(all)]
		c := Of(left, right)
		var lefts, rights []int
		for _, w := range c.Ways {
			var l, r []int
			for _, s := range w.Segments {
				l, r = append(l, s.Left...), append(r, s.Right...)
				if s.Joined && len(s.Left) != len(s.Right) {
					t.Fatalf("joined, and not pair by pair: %+v", s)
				}
			}
			if w.Left != nil {
				lefts = append(lefts, *w.Left)
				counted(t, l, len(left.Paths[*w.Left].Steps))
			}
			if w.Right != nil {
				rights = append(rights, *w.Right)
				counted(t, r, len(right.Paths[*w.Right].Steps))
			}
		}
		slices.Sort(rights)
		counted(t, lefts, len(left.Paths))
		counted(t, rights, len(right.Paths))
	}
}

// counted fails unless a list is 0, 1, 2 up to n.
func counted(t *testing.T, list []int, n int) {
	t.Helper()
	if len(list) != n {
		t.Fatalf("%d of %d: %v", len(list), n, list)
	}
	for i, x := range list {
		if i != x {
			t.Fatalf("out of order: %v", list)
		}
	}
}
