package notation

import (
	"cmp"
	"slices"
	"strings"

	"steady-compass/core/estate"
)

// Suggestion is a word that could stand where the cursor is.
type Suggestion struct {
	Text   string `json:"text"`
	Detail string `json:"detail"` // what it is
}

// Completion is what could stand at a place in a line.
type Completion struct {
	From     int          `json:"from"`     // the byte of the line at which the word to be completed begins
	Expected string       `json:"expected"` // what belongs there, for a person
	Words    []Suggestion `json:"words" nullable:"false"`
}

// maxSuggestions keeps a list to what a person reads.
const maxSuggestions = 40

// Complete says what could stand at a byte offset of a line, given what the estate has names for.
func Complete(line string, cursor int, e *estate.Estate) Completion {
	cursor = max(0, min(cursor, len(line)))
	before := line[:cursor]
	from := strings.LastIndexAny(before, " \t,") + 1
	partial := strings.ToLower(before[from:])
	words, _, end, err := split(strings.TrimRight(before[:from], " \t,"))
	if err != nil {
		return Completion{From: from, Words: []Suggestion{}}
	}
	c := Completion{From: from}
	if len(words) == 0 {
		c.Expected = "a kind of record"
		for _, k := range estate.Kinds {
			c.Words = append(c.Words, Suggestion{k.Word, "record"})
		}
		c.Words = Matching(c.Words, partial)
		return c
	}
	inList := strings.HasSuffix(strings.TrimRight(before[:from], " \t"), ",")
	p := &parser{words: estate.NewWords(words[1:], end)}
	_, parseErr := p.record(words[0])
	if p.kind == nil {
		return Completion{From: from, Words: []Suggestion{}}
	}
	if inList && p.last != nil {
		p.field, p.leads = p.last, nil
	} else if fault, ok := parseErr.(*estate.Fault); ok && p.words.More() && fault.Column < end {
		return Completion{From: from, Words: []Suggestion{}} // wrong before the cursor already
	}
	for _, lead := range p.leads {
		c.Words = append(c.Words, Suggestion{lead, "option"})
	}
	if f := p.field; f != nil && len(p.leads) == 0 {
		c.Expected = f.Expected
		c.Words = append(c.Words, offered(p.draft, f.Column, e)...)
		for _, choice := range f.Choices {
			c.Words = append(c.Words, Suggestion{choice, ""})
		}
		c.Words = append(c.Words, namesFor(f, e)...)
	}
	c.Words = Matching(c.Words, partial)
	return c
}

// namesFor are the recorded names that a field can use.
func namesFor(f *estate.Field, e *estate.Estate) []Suggestion {
	var out []Suggestion
	seen := map[string]bool{}
	add := func(name, detail string) {
		if !seen[name] {
			seen[name] = true
			out = append(out, Suggestion{name, detail})
		}
	}
	for _, k := range estate.Kinds {
		if k.Defines&f.Wants == 0 {
			continue
		}
		for _, r := range e.Of(k) {
			add(k.Fields[0].Values(r)[0], k.Word)
		}
	}
	if f.Wants&estate.RefService != 0 {
		for _, r := range e.Of(estate.KindNamed("listen")) {
			add(r.(*estate.Listen).Service, "service")
		}
	}
	if f.Wants&estate.RefHostname != 0 {
		for _, r := range e.Of(estate.KindNamed("zone")) {
			add(r.(*estate.Zone).Name, "zone")
		}
		for _, r := range e.Of(estate.KindNamed("dns")) {
			add(r.(*estate.DNS).Owner, "name")
		}
	}
	return out
}

// Matching keeps the words that begin with what is typed, then those that have it further in.
func Matching(words []Suggestion, partial string) []Suggestion {
	out := []Suggestion{}
	for _, w := range words {
		if strings.Contains(w.Text, partial) && w.Text != partial {
			out = append(out, w)
		}
	}
	if len(out) == 0 && len(partial) > 2 { // a slip: what is nearest
		texts := make([]string, len(words))
		for i, w := range words {
			texts[i] = w.Text
		}
		if near := estate.Nearest(partial, texts); near != "" && near != partial {
			w := words[slices.Index(texts, near)]
			return append(out, Suggestion{near, strings.TrimPrefix(w.Detail+", nearest", ", ")})
		}
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int {
		return cmp.Compare(rank(a.Text, partial), rank(b.Text, partial))
	})
	if len(out) > maxSuggestions {
		out = out[:maxSuggestions]
	}
	return out
}

func rank(text, partial string) int {
	if strings.HasPrefix(text, partial) {
		return 0
	}
	return 1
}
