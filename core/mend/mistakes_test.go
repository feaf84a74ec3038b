package mend

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/notation"
	"steady-compass/demo"
)

var mistakes = flag.Int("mends.mistakes", 60, "how many single mistakes are made and their mends judged")

// tally is how often a mistake of a kind counts, and how often the first mend that is offered for the first cause does as well as to
// undo it.
type tally struct{ of, well int }

// TestMistakes puts one mistake into an estate with nothing wrong in it: a line that is off, a letter or a digit in a word of one. Where
// undoing it ends an error or a warning, the first mend of the first cause undoes it, or does as well: nothing is left that undoing ends,
// and nothing is open that undoing leaves shut.
func TestMistakes(t *testing.T) {
	texts := soundEstates(t)
	by := map[string]*tally{}
	count := func(key string, well bool) {
		if by[key] == nil {
			by[key] = &tally{}
		}
		by[key].of++
		if well {
			by[key].well++
		}
	}
	counted := 0
	for seed := uint64(1); counted < *mistakes && seed < uint64(*mistakes)*20; seed++ {
		r := rand.New(rand.NewPCG(seed, 99))
		e, faults := notation.Parse(texts[seed%3])
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		was, is, how := mistake(r, e)
		wrong := withMistake(e, was, is)
		if wrong == nil {
			continue
		}
		s, right := looked(t, notation.Print(wrong)), looked(t, notation.Print(e))
		ends := findings.Ended(s.Checked.Report, right.Checked.Report)
		if !slices.ContainsFunc(ends, func(f *findings.Finding) bool { return f.Level != findings.Note }) {
			continue
		}
		counted++
		well := s.undone(t, right, estate.Line(is), estate.Line(was))
		if !well {
			t.Logf("seed %d: %s\n  was %s", seed, estate.Line(is), estate.Line(was))
		}
		count("of "+strings.Fields(estate.Line(was))[0], well)
		count("by "+how, well)
		count("all", well)
	}
	for _, key := range slices.Sorted(maps.Keys(by)) {
		t.Logf("%-14s %3d of %3d", key, by[key].well, by[key].of)
	}
	if all := by["all"]; counted < *mistakes || all.well*100 < all.of*95 {
		t.Errorf("of %d mistakes %v are mended as well as by undoing", counted, all)
	}
	for key, x := range by {
		if x.of >= 10 && x.well*100 < x.of*80 {
			t.Errorf("%s: %v are mended as well as by undoing", key, x)
		}
	}
}

var several = flag.Int("mends.several", 8, "into how many estates one to three mistakes are put, and every mend that is offered is judged")

// TestMendsOfSeveralMistakes puts one to three mistakes at once into an estate with nothing wrong in it, and judges every mend that is offered
// for what is found then, as if nothing else were wrong.
func TestMendsOfSeveralMistakes(t *testing.T) {
	texts := append(soundEstates(t), demo.Estate)
	offered, none := 0, 0
	for seed := range uint64(*several) {
		r := rand.New(rand.NewPCG(seed, 14))
		e, faults := notation.Parse(texts[seed%uint64(len(texts))])
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		var made []string
		for range 1 + r.IntN(3) {
			was, is, _ := mistake(r, e)
			if wrong := withMistake(e, was, is); wrong != nil {
				e, made = wrong, append(made, estate.Line(is))
			}
		}
		s := looked(t, notation.Print(e))
		before := anew(t, e)
		causes, _ := s.Checked.Causes()
		for _, c := range causes {
			f := s.Checked.Findings[c.Head]
			if f.Level == findings.Note || len(made) == 0 {
				continue
			}
			offers, _, err := s.Offers(t.Context(), For(f), s.Deciding(f))
			if err != nil {
				t.Fatal(err)
			}
			if len(offers) == 0 {
				none++
			}
			for i := range offers {
				offered++
				s.judge(t, fmt.Sprintf("seed %d, with %q", seed, made), f, &offers[i], before)
			}
		}
	}
	t.Logf("%d mends offered, and none for %d causes", offered, none)
	if offered < *several {
		t.Errorf("only %d mends were offered", offered)
	}
}

// soundEstates are estates with no error in them.
func soundEstates(t *testing.T) []string {
	t.Helper()
	texts := []string{harbour}
	for _, file := range []string{"../findings/testdata/sound.estate", "testdata/works.estate"} {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, string(text))
	}
	return texts
}

// mistake is a record of an estate, and as it stands with a mistake in it; nil where none could be made.
func mistake(r *rand.Rand, e *estate.Estate) (was, is estate.Record, how string) {
	kinds := []string{"forward", "rule", "map", "listen", "site", "dns", "address", "filter", "zone", "container", "host", "network", "route", "group", "pool", "member", "cert"}
	list := e.Of(estate.KindNamed(kinds[r.IntN(len(kinds))]))
	if len(list) == 0 {
		return nil, nil, ""
	}
	was = list[r.IntN(len(list))]
	if r.IntN(3) == 0 {
		off := estate.Clone(was)
		off.Meta().Off = true
		if estate.Complete(off) != nil {
			return nil, nil, ""
		}
		return was, off, "off"
	}
	if _, cert := was.(*estate.Cert); cert {
		return nil, nil, "" // what one that is there covers, the world alone knows
	}
	k := estate.KindOf(was)
	f := &k.Fields[r.IntN(len(k.Fields))]
	values := slices.Clone(f.Values(was))
	if f.Flag || len(values) == 0 || len(f.Choices) > 0 && values[0] != "" && slices.Contains(f.Choices, values[0]) {
		return nil, nil, ""
	}
	n := r.IntN(len(values))
	word := []byte(values[n])
	at := r.IntN(len(word))
	switch c := word[at]; {
	case c >= '0' && c <= '9':
		word[at], how = '0'+byte(r.IntN(10)), "a digit"
	case c >= 'a' && c <= 'z':
		word[at], how = 'a'+byte(r.IntN(26)), "a letter"
	default:
		return nil, nil, ""
	}
	values[n] = string(word)
	is = estate.Clone(was)
	if f.Load(is, values) != nil || estate.Complete(is) != nil || estate.Line(is) == estate.Line(was) {
		return nil, nil, ""
	}
	return was, is, how
}

// withMistake is an estate with a mistake in it; nil where none could be made, or the text refuses it.
func withMistake(e *estate.Estate, was, is estate.Record) *estate.Estate {
	if is == nil {
		return nil
	}
	wrong, err := e.Apply(estate.Change{Remove: []string{estate.Line(was)}, Add: []estate.Placed{{Record: is}}})
	if err != nil {
		return nil
	}
	if _, faults := notation.Parse(notation.Print(wrong)); len(faults) > 0 {
		return nil
	}
	return wrong
}

// undone says whether the first mend of the first cause undoes a mistake, or does as well.
func (s State) undone(t *testing.T, right State, is, was string) bool {
	t.Helper()
	causes, _ := s.Checked.Causes()
	nearest := slices.IndexFunc(causes, func(c findings.Cause) bool {
		f := s.Checked.Findings[c.Head]
		return !right.Checked.Has(f.Code, f.Subject)
	})
	if nearest < 0 {
		return false
	}
	f := s.Checked.Findings[causes[nearest].Head]
	offers, _, err := s.Offers(t.Context(), For(f), s.Deciding(f))
	if err != nil {
		t.Fatal(err)
	}
	if len(offers) == 0 {
		return false
	}
	first := offers[0]
	if slices.Contains(first.Mend.Remove, is) && slices.Contains(first.Mend.Add, was) {
		return true
	}
	e, err := attempt(s.Tracer.Model.Estate, first.Mend)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range first.With {
		if e, err = attempt(e, m); err != nil {
			return false
		}
	}
	after := looked(t, notation.Print(Issued(e, s.Tracer.Model.Estate)))
	left := findings.Ended(after.Checked.Report, right.Checked.Report)
	return !slices.ContainsFunc(left, func(f *findings.Finding) bool { return f.Level != findings.Note })
}

func (x *tally) String() string { return fmt.Sprintf("%d of %d", x.well, x.of) }
