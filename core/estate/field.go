package estate

import (
	"iter"
	"reflect"
	"slices"
	"strings"
)

// RefKind is what a name in a record may stand for; several may be joined.
type RefKind uint16

const (
	RefNetwork RefKind = 1 << iota
	RefHost
	RefContainer
	RefGroup
	RefService
	RefFilter
	RefCert
	RefPool
	RefTunnel
	RefZone
	RefHostname // a DNS name; completion offers those known, no record need be there

	RefPlace    = RefHost | RefContainer
	RefSelector = RefNetwork | RefHost | RefContainer | RefGroup
)

var refWords = []string{"network", "host", "container", "group", "service", "filter", "cert", "pool", "tunnel", "zone", "name"}

// Each are the single kinds that are joined.
func (k RefKind) Each() iter.Seq[RefKind] {
	return func(yield func(RefKind) bool) {
		for one := RefKind(1); one <= RefZone; one <<= 1 {
			if k&one != 0 && !yield(one) {
				return
			}
		}
	}
}

func (k RefKind) String() string {
	var words []string
	for i, w := range refWords {
		if k&(1<<i) != 0 {
			words = append(words, w)
		}
	}
	if len(words) > 1 {
		return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
	}
	return strings.Join(words, "")
}

// Ref is a name that a record uses for another record.
type Ref struct {
	Kind RefKind
	Name string
}

// Field is one part of a record: how it is written, stored and offered. Parser, printer,
// completion, storage and the description of the API are all driven from the fields.
type Field struct {
	Lead     string   // the word that opens it; "" where its place does
	Column   string   // its name in storage and in the API
	Expected string   // what stands there, for a person
	Choices  []string // where only these words may stand there
	Wants    RefKind  // what its names stand for
	Refers   RefKind  // what its Refs may be to
	List     bool     // a comma list
	Flag     bool     // present or not, without a word of its own
	Number   bool     // stored as a whole number (seconds, counts)
	Option   bool     // may stand in any order behind the positional fields
	Alone    bool     // its lead may stand without a value
	Required bool
	Quoted   bool   // a text in double quotes
	Spare    bool   // left out where what it refers to goes; else the line goes with it
	Instead  string // the column of the option that may stand in its place
	Excludes string // at most one field of those that share this word

	take   func(Record, *Words) error
	load   func(Record, []string) error
	print  func(Record) string // the words after the lead; "" where absent and for a flag that is off
	values func(Record) []string
	refs   func(Record) []Ref
	reset  func(Record)
}

// Print is the field as it stands in the record's line, lead included; "" where absent.
func (f *Field) Print(r Record) string {
	text := f.print(r)
	switch {
	case text == "" || f.Lead == "" || f.Flag:
		return text
	case f.Alone && text == f.Lead:
		return text
	}
	return f.Lead + " " + text
}

// Take reads the field's words, the lead taken already.
func (f *Field) Take(r Record, w *Words) error { return f.take(r, w) }

// Values are the field's elements as words, each as Load takes it; none where absent.
func (f *Field) Values(r Record) []string { return f.values(r) }

// Load sets the field from the elements that Values gave.
func (f *Field) Load(r Record, values []string) error { return f.load(r, values) }

// Reset makes the field absent.
func (f *Field) Reset(r Record) { f.reset(r) }

// Refs are the names of other records that the field uses.
func (f *Field) Refs(r Record) []Ref {
	if f.refs == nil {
		return nil
	}
	return f.refs(r)
}

// form is how a value of type T is written.
type form[T any] struct {
	expected string
	choices  []string
	wants    RefKind
	list     bool
	number   bool
	quoted   bool // stands in double quotes
	absent   T    // the value of a field that is left out
	parse    func(w Word, from int, text string) (T, error)
	print    func(T) string
	split    func(T) []string
	refs     func(T) []Ref
}

// field binds a form to a place in a record.
func field[R any, T any](lead, column string, f form[T], at func(*R) *T) Field {
	get := func(r Record) *T { return at(any(r).(*R)) }
	is := func(v T) bool { return !reflect.DeepEqual(v, f.absent) }
	out := Field{
		Lead: lead, Column: column, Expected: f.expected, Choices: f.choices, Wants: f.wants, Refers: f.wants, List: f.list, Number: f.number, Quoted: f.quoted,
		take: func(r Record, w *Words) error {
			word, err := w.Take(f.expected)
			if err != nil {
				return err
			}
			v, err := f.parse(word, 0, word.Text)
			if err == nil {
				*get(r) = v
			}
			return err
		},
		load: func(r Record, values []string) error {
			w := Word{Text: strings.Join(values, ","), Quoted: f.quoted}
			if !f.quoted && strings.HasPrefix(w.Text, `"`) { // a word or a text: a text keeps its quotes
				w.Text, w.Quoted = unquote(w.Text), true
			}
			v, err := f.parse(w, 0, w.Text)
			if err == nil {
				*get(r) = v
			}
			return err
		},
		print: func(r Record) string {
			if v := *get(r); is(v) {
				return f.print(v)
			}
			return ""
		},
		values: func(r Record) []string {
			v := *get(r)
			switch {
			case !is(v):
				return nil
			case f.split != nil:
				return f.split(v)
			case f.quoted:
				return []string{any(v).(string)}
			}
			return []string{f.print(v)}
		},
		reset: func(r Record) { *get(r) = f.absent },
	}
	if f.refs != nil {
		out.refs = func(r Record) []Ref {
			if v := *get(r); is(v) {
				return f.refs(v)
			}
			return nil
		}
	}
	return out
}

func pos[R any, T any](column string, f form[T], at func(*R) *T) Field {
	out := field(``, column, f, at)
	out.Required = true
	return out
}

func led[R any, T any](lead, column string, f form[T], at func(*R) *T) Field {
	out := field(lead, column, f, at)
	out.Required = true
	return out
}

func opt[R any, T any](lead, column string, f form[T], at func(*R) *T) Field {
	out := field(lead, column, f, at)
	out.Option = true
	return out
}

func flag[R any](lead, column string, at func(*R) *bool) Field {
	get := func(r Record) *bool { return at(any(r).(*R)) }
	return Field{
		Lead: lead, Column: column, Flag: true, Option: true, Number: true,
		take: func(r Record, _ *Words) error { *get(r) = true; return nil },
		load: func(r Record, values []string) error { *get(r) = len(values) == 1 && values[0] == "1"; return nil },
		print: func(r Record) string {
			if *get(r) {
				return lead
			}
			return ""
		},
		values: func(r Record) []string {
			if *get(r) {
				return []string{"1"}
			}
			return nil
		},
		reset: func(r Record) { *get(r) = false },
	}
}

// oneOf is an option that is one of several bare words, as `ipv4` or `ipv6`.
func oneOf[R any](column string, at func(*R) *string, words ...string) Field {
	out := field("", column, enum(words...), at)
	out.Option = true
	return out
}

// excluding marks fields of which at most one may stand in a line.
func excluding(group string, fields ...Field) []Field {
	for i := range fields {
		fields[i].Excludes = group
	}
	return fields
}

// spare marks an option without which the line still says the same of all else.
func spare(f Field) Field { f.Spare = true; return f }

// required marks an option that must be there, in whatever order.
func required(f Field) Field { f.Required = true; return f }

func some(f ...Field) []Field { return f }

func enum(words ...string) form[string] {
	expected := strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
	return form[string]{
		expected: expected, choices: words,
		parse: func(w Word, from int, text string) (string, error) {
			lower := strings.ToLower(text)
			if slices.Contains(words, lower) && !w.Quoted {
				return lower, nil
			}
			fault := faultAt(w, from, expected, "%q cannot stand here", shorten(text))
			fault.Nearest = Nearest(text, words)
			return "", fault
		},
		print: func(s string) string { return s },
	}
}

// list is a comma list of what item reads.
func list[T any](item form[T]) form[[]T] {
	return form[[]T]{
		expected: item.expected, choices: item.choices, wants: item.wants, list: true,
		parse: func(w Word, from int, text string) ([]T, error) {
			if w.Quoted {
				return nil, faultAt(w, 0, item.expected, "a quoted text stands where a list belongs")
			}
			var out []T
			for part := range strings.SplitSeq(text, ",") {
				if part == "" {
					return nil, faultAt(w, from, item.expected, "a comma with nothing before it")
				}
				v, err := item.parse(w, from, part)
				if err != nil {
					return nil, err
				}
				out = append(out, v)
				from += len(part) + 1
			}
			return out, nil
		},
		print: func(vs []T) string {
			words := make([]string, len(vs))
			for i, v := range vs {
				words[i] = item.print(v)
			}
			return strings.Join(words, ",")
		},
		split: func(vs []T) []string {
			words := make([]string, len(vs))
			for i, v := range vs {
				words[i] = item.print(v)
			}
			return words
		},
		refs: func(vs []T) []Ref {
			var out []Ref
			if item.refs != nil {
				for _, v := range vs {
					out = append(out, item.refs(v)...)
				}
			}
			return out
		},
	}
}

// Quote is text in double quotes, with `"` and `\` escaped.
func Quote(text string) string {
	return `"` + quoting.Replace(text) + `"`
}

func unquote(text string) string {
	text = strings.TrimSuffix(strings.TrimPrefix(text, `"`), `"`)
	return unquoting.Replace(text)
}

// wordOrQuoted prints a text bare where it can stand so.
func wordOrQuoted(text string) string {
	if text == "" || strings.ContainsAny(text, "\" \t\\") || strings.HasPrefix(text, "#") || strings.HasSuffix(text, ",") {
		return Quote(text)
	}
	return text
}

var (
	quoting   = strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	unquoting = strings.NewReplacer(`\\`, `\`, `\"`, `"`)
)
