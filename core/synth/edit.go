package synth

import (
	"math/rand/v2"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// Edit is a random edit: a line goes, is switched off or on, moves, is garbled, or comes back that went before. gone are the
// lines that went so far; it gives those that are gone then.
func Edit(r *rand.Rand, e *estate.Estate, gone []estate.Record) (estate.Change, []estate.Record) {
	all := e.All()
	if len(gone) > 0 && (len(all) == 0 || r.IntN(4) == 0) {
		i := r.IntN(len(gone))
		back := gone[i]
		gone = append(gone[:i:i], gone[i+1:]...)
		return estate.Change{Add: []estate.Placed{{Record: back, At: r.IntN(4)}}}, gone
	}
	if len(all) == 0 {
		return estate.Change{}, gone
	}
	rec := all[r.IntN(len(all))]
	c := estate.Change{Remove: []string{estate.Line(rec)}}
	switch r.IntN(6) {
	case 0:
		return c, append(gone, rec)
	case 4, 5:
		if p, _, err := notation.ParseLine(garble(r, e, rec)); err == nil {
			p.At = r.IntN(4)
			c.Add = []estate.Placed{p}
			c.Remove = c.Remove[r.IntN(2):]
		}
	case 1:
		c.Add = []estate.Placed{{Record: rec, At: 1 + r.IntN(3)}}
	default:
		line := estate.Line(rec) + " off"
		if rec.Meta().Off {
			line = estate.Line(estate.InForce(rec))
		}
		if p, _, err := notation.ParseLine(line); err == nil {
			c.Add = []estate.Placed{p}
		}
	}
	return c, gone
}

// Edited is an estate after some random edits; those that it does not take are passed over.
func Edited(r *rand.Rand, e *estate.Estate, edits int) *estate.Estate {
	var gone []estate.Record
	for range edits {
		c, kept := Edit(r, e, gone)
		if next, err := e.Apply(c); err == nil {
			gone, e = kept, next
		}
	}
	return e
}

// garble is a line with some of its words exchanged for words of other lines of its kind, left out or put in between.
func garble(r *rand.Rand, e *estate.Estate, rec estate.Record) string {
	words := strings.Fields(estate.Line(rec))
	others := e.Of(estate.KindOf(rec))
	for range 1 + r.IntN(3) {
		from := strings.Fields(estate.Line(others[r.IntN(len(others))]))
		word, at := from[r.IntN(len(from))], 1+r.IntN(len(words))
		switch {
		case r.IntN(3) == 0:
			words = slices.Insert(words, at, word)
		case at == len(words):
		case r.IntN(4) == 0:
			words = slices.Delete(words, at, at+1)
		default:
			words[at] = word
		}
	}
	return strings.Join(words, " ")
}
