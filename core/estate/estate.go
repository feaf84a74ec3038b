// Package estate holds what an administrator writes down: the kinds of records, each declared
// once (kinds.go), and the estate that they make up together. An estate is an immutable
// value; an edit gives a new one. How records are written is notation's; what they mean
// together is model's.
package estate

import (
	"fmt"
	"slices"
	"strings"
)

// Line is a record in canonical notation, without its comments.
func Line(r Record) string {
	if line := r.Meta().line; line != "" {
		return line
	}
	return compose(r, 0)
}

// LineAt is the record's line with the place it is to have among those of its group.
func LineAt(r Record, at int) string { return compose(r, at) }

func compose(r Record, at int) string {
	k := r.kind()
	var b strings.Builder
	b.WriteString(k.Word)
	for i := range k.Fields {
		if text := k.Fields[i].Print(r); text != "" {
			b.WriteByte(' ')
			b.WriteString(text)
		}
		if i == 0 && at > 0 && k.Placed {
			fmt.Fprintf(&b, " at %d", at)
		}
	}
	return b.String()
}

// Complete checks a record whose fields are set and fixes its line; it is not to be changed after.
// The fault it gives has no place.
func Complete(r Record) error {
	if what, expected := r.kind().check(r); what != "" {
		return &Fault{Column: 1, What: what, Expected: expected}
	}
	r.Meta().line = compose(r, 0)
	return nil
}

// Made completes a record that code of ours built. It panics where that breaks the kind's own rules.
func Made[R Record](r R) R {
	if err := Complete(r); err != nil {
		panic("estate: " + err.Error())
	}
	return r
}

// With is a copy of a record, changed by edit and complete. It panics where the edit breaks
// the kind's own rules, since only code of ours edits so.
func With[R any, P interface {
	*R
	Record
}](r P, edit func(P)) P {
	c := *r
	out := P(&c)
	out.Meta().line = ""
	edit(out)
	return Made(out)
}

// Clone is a copy of a record, for its fields to be set; Complete makes it a record again.
func Clone(r Record) Record {
	c := r.kind().clone(r)
	c.Meta().line = ""
	return c
}

// InForce is a copy of a record that is off, in force.
func InForce(r Record) Record {
	c := r.kind().clone(r)
	c.Meta().Off = false
	c.Meta().line = compose(c, 0)
	return c
}

// GroupOf is what a record is ordered among: the filter of a rule, the router of a forward,
// and so on; "" for kinds that are not ordered.
func GroupOf(r Record) string {
	switch r := r.(type) {
	case *Rule:
		return r.Filter
	case *Forward:
		return r.Router
	case *Outbound:
		return r.Router
	case *Map:
		host, _, _ := strings.Cut(r.Container, "/")
		return host
	case *Site:
		return r.Service
	case *Filter:
		return r.Hook + " on " + strings.Join(r.On, ",")
	}
	return ""
}

// Estate is an immutable set of records, in order within each kind.
type Estate struct {
	lists [][]Record // by Kind.index
	Tail  []string   // the comments behind the last record
	since map[*Kind]since
}

// New is the estate of the given records, in order. Rules are brought together by
// filter and sites by service, as they are printed.
func New(records []Record, tail []string) *Estate {
	e := &Estate{lists: make([][]Record, len(Kinds)), Tail: tail}
	for _, r := range records {
		i := r.kind().index
		e.lists[i] = append(e.lists[i], r)
	}
	e.arrange(func(*Kind) bool { return true })
	return e
}

// arrange brings rules together under their filters, in the order of the filters, and sites
// together under their services, in the order in which those first listen. Where no kind is loose all is arranged already.
func (e *Estate) arrange(loose func(*Kind) bool) {
	order := func(kind *Kind, rank map[string]int, group func(Record) string) {
		list := e.lists[kind.index]
		sorted := true
		for i, r := range list {
			if i > 0 && group(r) == group(list[i-1]) {
				continue
			}
			if _, ok := rank[group(r)]; !ok {
				rank[group(r)] = len(rank) + 1
			}
			sorted = sorted && (i == 0 || rank[group(list[i-1])] < rank[group(r)])
		}
		if !sorted {
			e.lists[kind.index] = slices.Clone(list) // the list may be another estate's too
			slices.SortStableFunc(e.lists[kind.index], func(a, b Record) int { return rank[group(a)] - rank[group(b)] })
		}
	}
	ranks := func(kind *Kind, name func(Record) string) map[string]int {
		rank := map[string]int{}
		last := ""
		for _, r := range e.lists[kind.index] {
			if at := name(r); at != last {
				if last = at; rank[at] == 0 {
					rank[at] = len(rank) + 1
				}
			}
		}
		return rank
	}
	if loose(filterKind) || loose(ruleKind) {
		order(ruleKind, ranks(filterKind, func(r Record) string { return r.(*Filter).Name }), func(r Record) string { return r.(*Rule).Filter })
	}
	if loose(listenKind) || loose(siteKind) {
		order(siteKind, ranks(listenKind, func(r Record) string { return r.(*Listen).Service }), func(r Record) string { return r.(*Site).Service })
	}
}

// WithTail is the estate with other comments behind its last record.
func (e *Estate) WithTail(tail []string) *Estate { return &Estate{lists: e.lists, Tail: tail} }

// Of are the records of one kind, in order; not to be changed.
func (e *Estate) Of(k *Kind) []Record { return e.lists[k.index] }

// Large says whether an estate takes longer to look over than a person waits between two keys.
func (e *Estate) Large() bool { return e.Count() > 4_000 }

// Count is how many records there are.
func (e *Estate) Count() int {
	n := 0
	for _, list := range e.lists {
		n += len(list)
	}
	return n
}

// Has says whether a line stands in the estate.
func (e *Estate) Has(line string) bool {
	word, _, _ := strings.Cut(line, " ")
	k := KindNamed(word)
	return k != nil && slices.ContainsFunc(e.lists[k.index], func(r Record) bool { return Line(r) == line })
}

// Name is what the estate is called; "" where nothing says.
func (e *Estate) Name() string {
	for _, r := range e.lists[nameKind.index] {
		return r.(*Name).Text
	}
	return ""
}

// All are the records in the order in which they are printed: by kind, rules under their filter.
func (e *Estate) All() []Record {
	out := make([]Record, 0, e.Count())
	rules := e.lists[ruleKind.index]
	for i, list := range e.lists {
		switch i {
		case filterKind.index:
			seen := map[string]bool{}
			for _, f := range list {
				out = append(out, f)
				if name := f.(*Filter).Name; !seen[name] {
					seen[name] = true
					for len(rules) > 0 && rules[0].(*Rule).Filter == name {
						out = append(out, rules[0])
						rules = rules[1:]
					}
				}
			}
		case ruleKind.index:
			out = append(out, rules...) // of filters that are not recorded
		default:
			out = append(out, list...)
		}
	}
	return out
}

// CertsNamed are the certificates that an estate has under a name, off ones too.
func CertsNamed(e *Estate, name string) []*Cert {
	var out []*Cert
	for _, r := range e.Of(certKind) {
		if c := r.(*Cert); c.Name == name {
			out = append(out, c)
		}
	}
	return out
}
