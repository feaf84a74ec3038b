package notation

import (
	"fmt"
	"strings"

	"github.com/agnivade/levenshtein"

	"steady-compass/core/estate"
)

// ParseChange reads the text of a change: lines of notation, each behind `+ ` where it comes and `- ` where it goes; empty lines and
// comments between them count for nothing. A line of an ordered kind may carry its place. What goes has to be in the estate.
func ParseChange(text string, e *estate.Estate) (estate.Change, Faults) {
	var c estate.Change
	var faults Faults
	going := map[string]int{}
	number := 0
	for raw := range strings.SplitSeq(strings.TrimPrefix(text, "\uFEFF"), "\n") {
		number++
		raw = strings.TrimRight(raw, " \t\r")
		line := strings.TrimLeft(raw, " \t")
		if line == "" || line[0] == '#' {
			continue
		}
		fault := func(column int, f *estate.Fault) {
			f.Line, f.Column = number, f.Column+column
			faults = append(faults, f)
		}
		column := len(raw) - len(line)
		sign, rest := line[0], strings.TrimLeft(line[1:], " \t")
		if sign != '+' && sign != '-' || rest == line[1:] {
			fault(column, &estate.Fault{Column: 1, What: fmt.Sprintf("%q is no line of a change", clip(line)), Expected: "'+ ' or '- ' and a line of notation"})
			continue
		}
		column = len(raw) - len(rest)
		p, _, err := ParseLine(rest)
		if err != nil {
			fault(column, err.(*estate.Fault))
			continue
		}
		if p.Record == nil { // a comment
			continue
		}
		if sign == '+' {
			c.Add = append(c.Add, p)
			continue
		}
		gone := estate.Line(p.Record)
		if going[gone]++; going[gone] > standing(e, p.Record) {
			fault(column, &estate.Fault{Column: 1, What: "no such line to take out: " + clip(gone), Expected: "one that is recorded", Nearest: nearestLine(e, p.Record)})
			continue
		}
		c.Remove = append(c.Remove, gone)
	}
	return c, faults
}

// standing is how often a line is in an estate.
func standing(e *estate.Estate, r estate.Record) (n int) {
	line := estate.Line(r)
	for _, other := range e.Of(estate.KindOf(r)) {
		if estate.Line(other) == line {
			n++
		}
	}
	return n
}

// nearestLine is the line of an estate, of the same kind, that differs least from another, where that is less than half of it.
func nearestLine(e *estate.Estate, r estate.Record) string {
	line := estate.Line(r)
	best, least := "", len(line)/2
	for _, other := range e.Of(estate.KindOf(r)) {
		text := estate.Line(other)
		if apart := len(text) - len(line); apart > least || -apart > least {
			continue
		}
		if d := levenshtein.ComputeDistance(line, text); d < least {
			best, least = text, d
		}
	}
	return best
}

// PrintChange writes a change as text that ParseChange reads.
func PrintChange(c estate.Change) string {
	var b strings.Builder
	for _, line := range c.Remove {
		b.WriteString("- " + line + "\n")
	}
	for _, p := range c.Add {
		b.WriteString("+ " + p.Line() + "\n")
	}
	return b.String()
}
