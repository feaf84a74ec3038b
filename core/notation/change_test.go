package notation_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
)

// TestChanges writes random edits as text and reads them back: they make the same estate. What is wrong with such a text is told by
// line and column.
func TestChanges(t *testing.T) {
	e, faults := notation.Parse(synth.String(20, 3))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	r := rand.New(rand.NewPCG(7, 7))
	made := 0
	var gone []estate.Record
	for range 300 {
		c, kept := synth.Edit(r, e, gone)
		want, err := e.Apply(c)
		if err != nil {
			continue
		}
		gone = kept
		text := notation.PrintChange(estate.Difference(e, want))
		read, faults := notation.ParseChange(text, e)
		if len(faults) > 0 {
			t.Fatalf("%v in\n%s", faults, text)
		}
		got, err := e.Apply(read)
		if err != nil || !alike(got, want) {
			t.Fatalf("%v: read back, this makes another estate:\n%s", err, text)
		}
		e, made = want, made+1
	}
	if made < 200 {
		t.Errorf("only %d edits could be made", made)
	}
	for text, want := range map[string]string{
		"  - host  nowhere\n": "1:5: no such line to take out: host nowhere; expected one that is recorded",
		"+host a":             "1:1: \"+host a\" is no line of a change",
		"+ host\n\t+ hots a":  "2:4: no kind of record is called \"hots\"",
	} {
		if _, faults := notation.ParseChange(text, e); len(faults) == 0 || !strings.HasPrefix(faults[len(faults)-1].Error(), want) {
			t.Errorf("%q: %v, want %s", text, faults, want)
		}
	}
}

// alike says whether two estates have the same lines, those of ordered kinds in the same order.
func alike(a, b *estate.Estate) bool {
	for _, k := range estate.Kinds {
		var lines [2][]string
		for i, e := range []*estate.Estate{a, b} {
			list := slices.Clone(e.Of(k))
			slices.SortStableFunc(list, func(a, b estate.Record) int { return strings.Compare(estate.GroupOf(a), estate.GroupOf(b)) })
			for _, r := range list {
				lines[i] = append(lines[i], estate.Line(r))
			}
			if !k.Placed {
				slices.Sort(lines[i])
			}
		}
		if !slices.Equal(lines[0], lines[1]) {
			return false
		}
	}
	return true
}
