package uses

import (
	"flag"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var anyWord = regexp.MustCompile(`[a-z0-9*][a-z0-9.:*/-]*`)

var judgedEdits = flag.Int("judge.edits", 25, "edits of each estate after which an index that goes on is held against one made anew")

// TestIndexAfterEdits holds an index that goes on through edits against one made anew, for words of the estate.
func TestIndexAfterEdits(t *testing.T) {
	demo, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for n, text := range []string{string(demo), synth.String(12, 5), synth.Crossing(rand.New(rand.NewPCG(7, 21)))} {
		r := rand.New(rand.NewPCG(uint64(n), 3))
		e := parsed(t, text)
		index := New(trace.New(model.Compile(e), "2026-11-25"))
		var gone []estate.Record
		for range *judgedEdits {
			c, kept := synth.Edit(r, e, gone)
			next, err := e.Apply(c)
			if err != nil {
				continue // such a line may stand once only
			}
			e, gone = next, kept
			tr := trace.New(model.Compile(e), "2026-11-25")
			index = index.After(tr)
			anew := New(tr)
			words := anyWord.FindAllString(notation.Print(e), -1)
			for range 8 {
				word := words[r.IntN(len(words))]
				kind, clean, ok := anew.KindOf(word)
				if k, c, o := index.KindOf(word); k != kind || c != clean || o != ok {
					t.Fatalf("%q is %s %q %v, but goes on as %s %q %v", word, kind, clean, ok, k, c, o)
				}
				want, got := anew.Find(word), index.Find(word)
				if !slices.Equal(want, got) {
					t.Fatalf("estate %d, %q: anew %v, going on %v", n, word, shown(want), shown(got))
				}
				if !slices.Equal(anew.Move(word, "castor"), index.Move(word, "castor")) {
					t.Fatalf("estate %d: %q moves otherwise", n, word)
				}
				found += len(got)
			}
		}
		if len(index.gone)+len(index.before) == 0 {
			t.Errorf("estate %d: the index was made anew each time", n)
		}
	}
	if found < 1000 {
		t.Errorf("only %d uses were looked at", found)
	}
}

func shown(list []Use) []string {
	var out []string
	for _, u := range list {
		out = append(out, string(u.How)+" "+u.Via+" "+estate.Line(u.Record))
	}
	return out
}
