// Package notation is the text form of an estate: one record a line. It parses, prints and
// completes; what a line may hold is declared with the kinds, in package estate.
package notation

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"steady-compass/core/estate"
)

// Faults are all that is wrong with a text, in the order of lines and columns.
type Faults []*estate.Fault

func (fs Faults) Error() string {
	if len(fs) == 1 {
		return fs[0].Error()
	}
	return fmt.Sprintf("%s (and %d more)", fs[0], len(fs)-1)
}

// MostFaults is how many lines of a text may be wrong until the rest is not read.
const MostFaults = 1000

// MaxLine is the longest line, in bytes, that is read.
const MaxLine = 64 << 10

// Located is a record with the line of the text, from 1, on which it stands.
type Located struct {
	estate.Placed
	Line int
}

// Parse reads a whole estate. Where anything is wrong it gives every fault and no estate.
func Parse(text string) (*estate.Estate, Faults) {
	located, tail, faults := ParseLines(text)
	if len(faults) > 0 {
		return nil, faults
	}
	// `at N` is a place among the lines written before it.
	empty := estate.New(nil, tail)
	if !slices.ContainsFunc(located, func(l Located) bool { return l.At > 0 }) {
		records := make([]estate.Record, len(located))
		for i, l := range located {
			records[i] = l.Record
		}
		return estate.New(records, tail), nil
	}
	var c estate.Change
	for _, l := range located {
		c.Add = append(c.Add, l.Placed)
	}
	e, err := empty.Apply(c)
	if err != nil {
		return nil, Faults{{Line: 1, Column: 1, What: err.Error()}}
	}
	return e, nil
}

// ParseLines reads the lines of a text, each with its place, and the comments behind the last.
func ParseLines(text string) ([]Located, []string, Faults) {
	var (
		out      []Located
		comments []string
		faults   Faults
		single   = map[string]int{}
	)
	number := 0
	text = strings.TrimPrefix(text, "\uFEFF")
	for raw := range strings.SplitSeq(text, "\n") {
		number++
		raw = strings.TrimSuffix(raw, "\r")
		placed, comment, err := ParseLine(raw)
		if err != nil {
			fault := err.(*estate.Fault)
			fault.Line = number
			if faults = append(faults, fault); len(faults) == MostFaults {
				return out, comments, append(faults, &estate.Fault{Line: number + 1, Column: 1, What: "what follows was not read", Expected: "fewer faults before it"})
			}
			continue
		}
		if comment != "" {
			comments = append(comments, comment)
		}
		if placed.Record == nil {
			continue
		}
		if k := estate.KindOf(placed.Record); k.Single {
			if first := single[k.Word]; first > 0 {
				faults = append(faults, &estate.Fault{Line: number, Column: 1, What: fmt.Sprintf("a second %s line; the first is line %d", k.Word, first), Expected: "one"})
			}
			single[k.Word] = number
		}
		placed.Record.Meta().Comments, comments = comments, nil
		out = append(out, Located{placed, number})
	}
	return out, comments, faults
}

// ParseLine reads one line. The record is nil where the line is empty or holds a comment only. The
// error is an *estate.Fault.
func ParseLine(text string) (estate.Placed, string, error) {
	words, comment, end, err := split(text)
	if err != nil || len(words) == 0 {
		return estate.Placed{}, comment, err
	}
	p := &parser{words: estate.NewWords(words[1:], end)}
	placed, err := p.record(words[0])
	return placed, comment, err
}

// split parts a line into words and the comment behind them.
func split(text string) (words []estate.Word, comment string, end int, err error) {
	if len(text) > MaxLine {
		return nil, "", 0, &estate.Fault{Column: 1, What: fmt.Sprintf("the line has %d bytes", len(text)), Expected: fmt.Sprintf("at most %d", MaxLine)}
	}
	for i, c := range text {
		if c == utf8.RuneError && !strings.HasPrefix(text[i:], "\uFFFD") {
			return nil, "", 0, &estate.Fault{Column: i + 1, What: "the line is not UTF-8 here", Expected: "UTF-8 text"}
		}
		if unicode.Is(unicode.Bidi_Control, c) {
			return nil, "", 0, &estate.Fault{Column: i + 1, What: fmt.Sprintf("a mark that turns the direction of writing, and is not seen (U+%04X)", c), Expected: "text that reads as it is written"}
		}
		if unicode.IsControl(c) && c != '\t' || c == '\u2028' || c == '\u2029' {
			return nil, "", 0, &estate.Fault{Column: i + 1, What: fmt.Sprintf("a control character (U+%04X)", c), Expected: "printable text"}
		}
	}
	i := 0
	for {
		for i < len(text) && (text[i] == ' ' || text[i] == '\t') {
			i++
		}
		if i == len(text) {
			return words, "", end, nil
		}
		if text[i] == '#' {
			return words, strings.TrimRight(text[i:], " \t"), end, nil
		}
		word, next, err := word(text, i)
		if err != nil {
			return nil, "", 0, err
		}
		words = append(words, word)
		i, end = next, next+1
	}
}

// word reads one word from i. A word that opens with a quote is quoted; a quote further in
// (as in zone files) keeps blanks together and stays as written.
func word(text string, i int) (estate.Word, int, error) {
	start := i
	if text[i] == '"' {
		var b strings.Builder
		for i++; i < len(text) && text[i] != '"'; i++ {
			if text[i] == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\') {
				i++
			}
			b.WriteByte(text[i])
		}
		if i >= len(text) {
			return estate.Word{}, 0, &estate.Fault{Column: start + 1, What: "a quote that is not closed", Expected: `a closing "`}
		}
		i++
		if i < len(text) && text[i] != ' ' && text[i] != '\t' {
			return estate.Word{}, 0, &estate.Fault{Column: i + 1, What: "something stands right behind a closing quote", Expected: "a blank"}
		}
		return estate.Word{Text: b.String(), Raw: text[start:i], Quoted: true, Column: start + 1}, i, nil
	}
	for i < len(text) && text[i] != ' ' && text[i] != '\t' {
		i++
	}
	return estate.Word{Text: text[start:i], Raw: text[start:i], Column: start + 1}, i, nil
}

// parser reads the fields of one record. It notes what could stand where the words end, for
// completion.
type parser struct {
	words *estate.Words
	kind  *estate.Kind
	draft estate.Record
	field *estate.Field // the field being read when the words ended
	last  *estate.Field // the last field that was read whole
	leads []string      // the words that could open the next field
}

func (p *parser) record(first estate.Word) (estate.Placed, error) {
	k := estate.KindNamed(first.Text)
	if k == nil || first.Quoted {
		fault := &estate.Fault{Column: first.Column, What: fmt.Sprintf("no kind of record is called %q", clip(first.Text)), Expected: "one of " + strings.Join(estate.KindWords(), ", "), Nearest: estate.Nearest(first.Text, estate.KindWords())}
		return estate.Placed{}, fault
	}
	p.kind, p.draft = k, k.New()
	r := p.draft
	at := 0
	var options []*estate.Field
	for i := range k.Fields {
		f := &k.Fields[i]
		if f.Option {
			options = append(options, f)
			continue
		}
		if len(options) > 0 {
			break
		}
		p.field, p.leads = f, nil
		if f.Lead != "" {
			p.leads = []string{f.Lead}
			if err := p.lead(f.Lead); err != nil {
				return estate.Placed{}, err
			}
			p.leads = nil
		}
		if err := f.Take(r, p.words); err != nil {
			return estate.Placed{}, err
		}
		p.last = f
		if i == 0 && k.Placed {
			var err error
			if at, err = p.place(); err != nil {
				return estate.Placed{}, err
			}
		}
	}
	if err := p.options(r, options); err != nil {
		return estate.Placed{}, err
	}
	if err := estate.Complete(r); err != nil {
		fault := err.(*estate.Fault)
		fault.Column = first.Column
		return estate.Placed{}, fault
	}
	return estate.Placed{Record: r, At: at}, nil
}

// lead takes the word that opens a positional field.
func (p *parser) lead(text string) error {
	if p.words.TakeIf(text) {
		return nil
	}
	w, ok := p.words.Peek()
	if !ok {
		return p.words.Missing("'" + text + "'")
	}
	fault := &estate.Fault{Column: w.Column, What: fmt.Sprintf("%q cannot stand here", clip(w.Text)), Expected: "'" + text + "'"}
	fault.Nearest = estate.Nearest(w.Text, []string{text})
	return fault
}

// place reads `at N` behind the first field.
func (p *parser) place() (int, error) {
	if !p.words.TakeIf("at") {
		return 0, nil
	}
	const expected = "a place, from 1"
	w, err := p.words.Take(expected)
	if err != nil {
		return 0, err
	}
	n := 0
	if _, err := fmt.Sscanf(w.Text, "%d", &n); err != nil || n < 1 || n > 1_000_000 || fmt.Sprint(n) != w.Text {
		return 0, &estate.Fault{Column: w.Column, What: fmt.Sprintf("%q is no place", clip(w.Text)), Expected: expected}
	}
	return n, nil
}

func (p *parser) options(r estate.Record, options []*estate.Field) error {
	taken := map[*estate.Field]bool{}
	for {
		p.field, p.leads = nil, nil
		for _, f := range options {
			if taken[f] || f.Excludes != "" && slices.ContainsFunc(options, func(o *estate.Field) bool { return taken[o] && o.Excludes == f.Excludes }) {
				continue
			}
			if f.Lead != "" {
				p.leads = append(p.leads, f.Lead)
			} else {
				p.leads = append(p.leads, f.Choices...)
			}
		}
		w, ok := p.words.Peek()
		if !ok {
			break
		}
		f := optionOpenedBy(options, w)
		if f == nil {
			return &estate.Fault{Column: w.Column, What: fmt.Sprintf("%q cannot stand here", clip(w.Text)), Expected: oneOf(p.leads), Nearest: estate.Nearest(w.Text, p.leads)}
		}
		if taken[f] {
			return &estate.Fault{Column: w.Column, What: fmt.Sprintf("%s stands here a second time", w.Text), Expected: "each option at most once"}
		}
		if f.Excludes != "" {
			for _, o := range options {
				if taken[o] && o.Excludes == f.Excludes {
					return &estate.Fault{Column: w.Column, What: fmt.Sprintf("%s and %s cannot stand together", o.Lead, w.Text), Expected: "one of " + f.Excludes}
				}
			}
		}
		taken[f] = true
		p.field, p.leads = f, nil
		if f.Lead != "" {
			p.words.TakeRaw()
		}
		if err := f.Take(r, p.words); err != nil {
			return err
		}
		p.last = f
	}
	for _, f := range options {
		if f.Required && !taken[f] {
			return p.words.Missing("'" + f.Lead + "'")
		}
	}
	return nil
}

func optionOpenedBy(options []*estate.Field, w estate.Word) *estate.Field {
	if w.Quoted {
		return nil
	}
	word := strings.ToLower(w.Text)
	for _, f := range options {
		if f.Lead == word || f.Lead == "" && slices.Contains(f.Choices, word) {
			return f
		}
	}
	return nil
}

func oneOf(words []string) string {
	if len(words) == 0 {
		return "the end of the line"
	}
	return strings.Join(words, ", ") + " or the end of the line"
}

func clip(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:57]) + "…"
	}
	return text
}

// Print is the estate in canonical form: grouped by kind, the kinds' words aligned.
func Print(e *estate.Estate) string {
	var b strings.Builder
	for _, r := range e.All() {
		for _, c := range r.Meta().Comments {
			b.WriteString(c)
			b.WriteByte('\n')
		}
		b.WriteString(Align(estate.Line(r)))
		b.WriteByte('\n')
	}
	for _, c := range e.Tail {
		b.WriteString(c)
		b.WriteByte('\n')
	}
	return b.String()
}

// Align pads the kind of a canonical line, so that what follows lines up down the page.
func Align(line string) string {
	kind, rest, _ := strings.Cut(line, " ")
	return fmt.Sprintf("%-9s %s", kind, rest)
}
