package estate

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
)

// Word is one word of a line of estate notation. A quoted word's Text is without its quotes
// and escapes; Raw is always as written.
type Word struct {
	Text   string
	Raw    string
	Quoted bool
	Column int // of its first character, from 1
	parts  []part
}

// part tells at which column the text from byte At on stands, in a word joined from several.
type part struct{ at, column int }

// ColumnAt is the column of the byte at i of the word's text.
func (w Word) ColumnAt(i int) int {
	column, from := w.Column, 0
	for _, p := range w.parts {
		if p.at <= i {
			column, from = p.column, p.at
		}
	}
	return column + i - from
}

// Fault is one thing wrong with a text: where, what, and what was expected there.
type Fault struct {
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	What     string `json:"what"`
	Expected string `json:"expected,omitempty"`
	Nearest  string `json:"nearest,omitempty"` // the nearest known word, where there is one
}

func (f *Fault) Error() string {
	text := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.What)
	if f.Expected != "" {
		text += "; expected " + f.Expected
	}
	if f.Nearest != "" {
		text += fmt.Sprintf(" (nearest: %s)", f.Nearest)
	}
	return text
}

// Words is a cursor over the words of one line.
type Words struct {
	words []Word
	next  int
	end   int // the column behind the last word
}

// NewWords is a cursor over words; end is the column where the line's last word ends.
func NewWords(words []Word, end int) *Words { return &Words{words: words, end: end} }

// More says whether a word is left.
func (w *Words) More() bool { return w.next < len(w.words) }

// Peek is the next word as written, without taking it.
func (w *Words) Peek() (Word, bool) {
	if !w.More() {
		return Word{}, false
	}
	return w.words[w.next], true
}

// TakeRaw takes one word as written, without joining what a comma joins.
func (w *Words) TakeRaw() (Word, bool) {
	word, ok := w.Peek()
	if ok {
		w.next++
	}
	return word, ok
}

// TakeIf takes the next word where it is the bare word text.
func (w *Words) TakeIf(text string) bool {
	word, ok := w.Peek()
	if ok && !word.Quoted && strings.EqualFold(word.Text, text) {
		w.next++
		return true
	}
	return false
}

// Take takes the next word; one that ends in a comma takes the next with it.
func (w *Words) Take(expected string) (Word, error) {
	first, ok := w.TakeRaw()
	if !ok {
		return Word{}, w.Missing(expected)
	}
	for !first.Quoted && strings.HasSuffix(first.Text, ",") {
		more, ok := w.TakeRaw()
		if !ok {
			return Word{}, &Fault{Column: w.end - 1, What: "the line ends in a comma", Expected: "one more after it, or no comma"}
		}
		first.parts = append(first.parts, part{len(first.Text), more.Column})
		first.Text += more.Text
		first.Raw += more.Raw
	}
	return first, nil
}

// Missing is the fault of a line that ends too early.
func (w *Words) Missing(expected string) *Fault {
	return &Fault{Column: w.end, What: "the line ends here", Expected: expected}
}

// faultAt is a fault at a byte of a word.
func faultAt(w Word, i int, expected, format string, args ...any) *Fault {
	return &Fault{Column: w.ColumnAt(i), What: fmt.Sprintf(format, args...), Expected: expected}
}

// Nearest is the one of words that differs least from text, where that is little; else "".
func Nearest(text string, words []string) string {
	if len(text) > 64 {
		return ""
	}
	type near struct {
		word     string
		distance int
	}
	text = strings.ToLower(text)
	var found []near
	for _, w := range words {
		d := levenshtein.ComputeDistance(text, strings.ToLower(w))
		if d <= max(1, min(len(w), len(text))/2) {
			found = append(found, near{w, d})
		}
	}
	if len(found) == 0 {
		return ""
	}
	return slices.MinFunc(found, func(a, b near) int {
		return cmp.Or(cmp.Compare(a.distance, b.distance), cmp.Compare(a.word, b.word))
	}).word
}

// OneOf says of a word whether it is in a set: quickly, where that is small.
func OneOf(set map[string]bool) func(string) bool {
	if few := slices.Collect(maps.Keys(set)); len(few) <= 8 {
		return func(word string) bool { return slices.Contains(few, word) }
	}
	return func(word string) bool { return set[word] }
}

// shorten keeps a word quoted in an error to a length one can read.
func shorten(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:57]) + "…"
	}
	return text
}
