package courses

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/notation/notationtest"
	"steady-compass/core/survey"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

const day = "2026-12-01"

func surveyed(t testing.TB, text string) *survey.Survey {
	t.Helper()
	return survey.New(notationtest.Parse(t, text), day)
}

func drawn(t testing.TB, s *survey.Survey, q Question) *Chart {
	t.Helper()
	rows, err := s.Names(t.Context(), "internet")
	if err != nil {
		t.Fatal(err)
	}
	x, err := s.Exposure("internet")
	if err != nil {
		t.Fatal(err)
	}
	c, err := Of(rows, x.Open, q)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// said is a chart's strokes, a line each: from, to, how many names, the state.
func said(c *Chart) []string {
	word := func(i int) string { return c.Nodes[i].Word }
	var out []string
	for _, s := range c.Strokes {
		to := "|"
		if s.To != nil {
			to = word(*s.To)
		}
		out = append(out, fmt.Sprintf("%s > %s %d %s", word(s.From), to, s.Names, s.State))
	}
	return out
}

func has(t *testing.T, list []string, lines ...string) {
	t.Helper()
	for _, line := range lines {
		if !slices.Contains(list, line) {
			t.Errorf("no %q in\n%s", line, strings.Join(list, "\n"))
		}
	}
}

// TestDemo draws the demo: what goes together in one stroke, what breaks at its break, what goes on in outline, and the ways around.
func TestDemo(t *testing.T) {
	s := surveyed(t, demo.Estate)
	c := drawn(t, s, Question{})
	if c.Fold != Unfolded || c.Names != c.Of || c.Names < 15 {
		t.Errorf("%d of %d names, folded by %s", c.Names, c.Of, c.Fold)
	}
	got := said(c)
	has(t, got,
		"archive.fernmoor.example > 203.0.113.20 1 live",
		"front > azimuth/allsky:3000 1 stopped", // localhost is the front itself
		"meridian > azimuth 1 stopped",          // feed: the port is forwarded as udp only
		"azimuth > broker 1 outline",            // and would go on to the broker
		"198.51.100.7 > | 1 stopped",            // not ours, and nowhere to go on to
		"no such name > | 3 ending",             // inside only, as meant
		"front > azimuth/pages:8000 1 live",     // the apex
		"front > azimuth/pages:8000 2 stopped",  // www and visit; visits, in outline, is not among them
		"ridge-gate > ridge-cam 2 live",
	)
	doors := map[string]string{}
	for _, a := range c.Around {
		doors[a.Door] = c.Nodes[a.To].Word
	}
	if doors["203.0.113.20:9000"] != "azimuth/lab:8000" || doors["[2001:db8:40:8::10]:8080"] != "azimuth/allsky:3000" {
		t.Errorf("ways around: %v", doors)
	}
	for _, stroke := range c.Strokes {
		if stroke.State == Stopped && stroke.Why == "" {
			t.Errorf("no reason for %v", stroke)
		}
	}

	// Choosing leaves only what hangs on it.
	ridge := drawn(t, s, Question{Through: []string{"machine:ridge-cam"}})
	if ridge.Names != 2 || ridge.Of != c.Of {
		t.Errorf("%d of %d names by ridge-cam", ridge.Names, ridge.Of)
	}
	if like := drawn(t, s, Question{Like: "Archive"}); like.Names != 1 {
		t.Errorf("%d names like archive", like.Names)
	}
	if zone := drawn(t, s, Question{Through: []string{"name:zone fernmoor.example", "backend:azimuth/pages:8000"}, Fold: ByZone}); zone.Names < 3 || zone.Nodes[0].Word != "fernmoor.example" || zone.Nodes[0].Names != zone.Names {
		t.Errorf("%d names by the pages, %+v", zone.Names, zone.Nodes[0])
	}
	if none := drawn(t, s, Question{Like: "nothing has this"}); none.Names != 0 || len(none.Nodes) != 0 {
		t.Errorf("%+v", none)
	}
	rows, _ := s.Names(t.Context(), "internet")
	for _, wrong := range []string{"", "moon:x", "harbour"} {
		if _, err := Of(rows, nil, Question{Through: []string{wrong}}); !errors.Is(err, ErrNoNode) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
}

// TestFolded draws many names so that they can be read, by each fold, and comes to each of them by choosing.
func TestFolded(t *testing.T) {
	s := surveyed(t, synth.String(2_000, 1))
	for _, fold := range append([]Fold{""}, Folds...) {
		c := drawn(t, s, Question{Fold: fold})
		if c.Names != c.Of || c.Names < 1_500 {
			t.Errorf("%s: %d of %d names", fold, c.Names, c.Of)
		}
		in := map[Column]int{}
		named := 0
		for _, n := range c.Nodes {
			in[n.Column]++
			if n.Column == Names {
				named += n.Names
			}
			if n.Word == "" || n.Names == 0 {
				t.Fatalf("%s: %+v", fold, n)
			}
		}
		for column, n := range in {
			if n > Most+1 {
				t.Errorf("%s: %d of column %s", fold, n, column)
			}
		}
		if named < c.Names || fold == Unfolded && named != c.Names {
			t.Errorf("%s: the first column is of %d names", fold, named)
		}
	}
	rest := drawn(t, s, Question{Fold: Unfolded, Through: []string{"name:" + rest}})
	if rest.Names != rest.Of-Most {
		t.Errorf("%d names are drawn as one, of %d", rest.Names, rest.Of)
	}
}

// TestWideAsMany holds at random: a node has no more names than strokes bring it, and every stroke runs inwards.
func TestWideAsMany(t *testing.T) {
	for seed := range uint64(6) {
		c := drawn(t, surveyed(t, synth.String(300, seed)), Question{Fold: ByMachine})
		for _, s := range c.Strokes {
			from := slices.Index(Columns, c.Nodes[s.From].Column)
			if s.To != nil && slices.Index(Columns, c.Nodes[*s.To].Column) <= from {
				t.Fatalf("outwards: %+v", s)
			}
			if s.Names == 0 || s.Names > c.Nodes[s.From].Names || s.To != nil && s.Names > c.Nodes[*s.To].Names {
				t.Fatalf("%d names in %+v", s.Names, s)
			}
		}
	}
}

// BenchmarkCourses draws 10,000 names.
func BenchmarkCourses(b *testing.B) {
	s := surveyed(b, synth.String(10_000, 1))
	rows, err := s.Names(b.Context(), "internet")
	if err != nil {
		b.Fatal(err)
	}
	x, err := s.Exposure("internet")
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := Of(rows, x.Open, Question{}); err != nil {
			b.Fatal(err)
		}
	}
}
