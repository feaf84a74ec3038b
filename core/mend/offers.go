package mend

import (
	"cmp"
	"context"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/serve"
)

// mostTried is how many other readings of one mistake are tried, and mostOffered how many mends are kept to choose from.
const (
	mostTried      = 16
	mostTriedLarge = 4 // in a large estate
	mostOffered    = 3
)

// Offers are the mends for what a proposal is for that hold, the preferred first: the proposal's own where it does, and other readings of
// the mistake. records are the lines that decided; nil where only the proposal's own is asked for. own is the trial of the proposal's own mend; nil where it has none.
func (s State) Offers(ctx context.Context, p Proposal, records []string) (offers []Trial, own *Trial, err error) {
	if !p.Mend.IsEmpty() {
		t, err := s.Try(ctx, p)
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil {
			t.against("%s", err)
		}
		if own = &t; t.Holds() {
			offers = append(offers, t)
		}
	}
	// In a large estate a trial may take long: other readings are for what has no mend that holds.
	large := s.Tracer.Model.Estate.Large()
	if records == nil || large && len(offers) > 0 || findings.OfLook(p.Code) { // which line is not so, only the world can tell
		return offers, own, nil
	}
	var others []Trial
	for _, m := range s.readings(p, records) {
		t, err := s.Try(ctx, Proposal{Mend: m, Code: p.Code, Subject: p.Subject, At: p.At})
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err == nil && t.Holds() && len(t.With) == 0 && len(t.Ends) > 0 {
			others = append(others, t)
		}
	}
	slices.SortStableFunc(others, func(a, b Trial) int {
		return cmp.Or(cmp.Compare(len(b.Ends), len(a.Ends)), cmp.Compare(len(a.Opens), len(b.Opens)), cmp.Compare(a.fresh(), b.fresh()), cmp.Compare(a.lines(), b.lines()))
	})
	offers = append(offers, others...)
	// A reading that ends more of what is wrong is the better one; else what was nearest where it was met comes first.
	slices.SortStableFunc(offers, func(a, b Trial) int { return cmp.Compare(len(b.Ends), len(a.Ends)) })
	return offers[:min(len(offers), mostOffered)], own, nil
}

// Deciding are the lines that a finding hangs on: its own, and those that a way it is of came by before it broke, the last first.
func (s State) Deciding(f *findings.Finding) []string {
	out := append([]string{}, f.Records...)
	if f.Trace == nil {
		return out
	}
	target, err := s.Tracer.ParseTarget(f.Trace.Target)
	if err != nil {
		return out
	}
	from, err := s.Tracer.VantageNamed(f.Trace.From)
	if err != nil {
		return out
	}
	for _, p := range s.Tracer.Trace(target, from).Paths {
		if p.Outcome.Good() && len(p.Breaks) == 0 {
			continue
		}
		for _, step := range slices.Backward(p.Steps) {
			for _, line := range step.Records {
				if !step.Ghost && !slices.Contains(out, line) {
					out = append(out, line)
				}
			}
		}
	}
	return out
}

// fresh is how many filters, networks and machines a mend puts in.
func (t *Trial) fresh() (n int) {
	for _, line := range t.Mend.Add {
		kind, _, _ := strings.Cut(line, " ")
		if kind == "filter" || kind == "network" || kind == "host" || kind == "container" {
			n++
		}
	}
	return max(0, n-len(t.Mend.Remove))
}

// lines is how many lines a mend changes: one that goes and one that comes in its place are one.
func (t *Trial) lines() int { return max(len(t.Mend.Remove), len(t.Mend.Add)) }

// readings are other readings of a mistake, the nearest first: a record that is off and speaks of the same; a word of a deciding line
// that is one step from a recorded one. What was proposed already is left out, and no intent is changed.
func (s State) readings(p Proposal, records []string) []*flow.Mend {
	m := s.Tracer.Model
	most := mostTried
	if m.Estate.Large() {
		most = mostTriedLarge
	}
	var deciding []estate.Record
	spoken := map[string]bool{}
	speak := func(word string) {
		for part := range parts(word) {
			spoken[part] = true
		}
	}
	for _, line := range records {
		if r := recorded(m.Estate, line); r != nil && !slices.Contains(deciding, r) {
			deciding = append(deciding, r)
			for _, word := range wordsOf(r) {
				speak(word)
			}
		}
	}
	speak(p.Subject)
	for _, r := range m.Estate.Of(estate.KindNamed("address")) { // whoever holds an address that is spoken of, and where
		if a := r.(*estate.Address); spoken[a.Held.String()] {
			for _, word := range wordsOf(r) {
				speak(word)
			}
		}
	}
	var out []*flow.Mend
	offer := func(mend *flow.Mend) {
		known := func(o *flow.Mend) bool {
			return o != nil && slices.Equal(o.Add, mend.Add) && slices.Equal(o.Remove, mend.Remove)
		}
		if len(out) < most && !known(p.Mend) && !slices.ContainsFunc(out, known) && !slices.Equal(mend.Add, mend.Remove) {
			out = append(out, mend)
		}
	}
	add := func(gone, come estate.Record) { offer(put(gone, come)) }
	says := func(r estate.Record) int { // those that speak of the same first
		if slices.ContainsFunc(namesIn(r), func(w string) bool { return spoken[w] }) {
			return 0
		}
		return 1
	}
	off := slices.DeleteFunc(slices.Clone(m.Off), func(r estate.Record) bool {
		_, cert := r.(*estate.Cert)
		return isWish(r) && !cert
	})
	slices.SortStableFunc(off, func(a, b estate.Record) int { return cmp.Compare(says(a), says(b)) })
	for _, r := range off[:min(len(off), most/2)] {
		add(r, estate.InForce(r))
	}
	misfits := s.misfits()
	for _, m := range misfits[:min(len(misfits), most/2)] {
		offer(m)
	}
	// What is open is not closed by another reading of a line; and a line that stops others is not to stop something else instead.
	if family, _, _ := strings.Cut(p.Code, "."); !findings.OfPath(p.Code) && family != "name" && family != "pool" && family != "tunnel" {
		return out
	}
	for _, slip := range s.slips(spoken) {
		if add(slip.was, slip.is); len(out) == most {
			break
		}
	}
	if len(out) == most {
		return out
	}
	known := s.vocabulary()
	for _, r := range append(deciding, siblings(m.Estate, deciding)...) {
		if rule, is := r.(*estate.Rule); isWish(r) || is && rule.Action != "pass" {
			continue
		}
		for near := range steps(r, known) {
			if add(r, near); len(out) == most {
				return out
			}
		}
	}
	return out
}

// siblings are the records that could have decided in place of those that did: the lines of a filter, the forwards of a router, the
// listeners of a place, the sites of a service.
func siblings(e *estate.Estate, deciding []estate.Record) []estate.Record {
	groups := map[string]bool{}
	for _, r := range deciding {
		switch r := r.(type) {
		case *estate.Filter:
			groups["rule "+r.Name] = true
		case *estate.Rule:
			groups["rule "+r.Filter] = true
		case *estate.Host:
			groups["forward "+r.Name], groups["listen "+r.Name] = true, true
		case *estate.Listen:
			groups["site "+r.Service], groups["listen "+r.Place] = true, true
		case *estate.Container:
			groups["listen "+r.Name] = true
		}
	}
	var out []estate.Record
	add := func(kind string, of func(estate.Record) string) {
		for _, r := range e.Of(estate.KindNamed(kind)) {
			if groups[kind+" "+of(r)] && !r.Meta().Off && !slices.Contains(deciding, r) {
				out = append(out, r)
			}
		}
	}
	add("rule", func(r estate.Record) string { return r.(*estate.Rule).Filter })
	add("forward", func(r estate.Record) string { return r.(*estate.Forward).Router })
	add("listen", func(r estate.Record) string { return r.(*estate.Listen).Place })
	add("site", func(r estate.Record) string { return r.(*estate.Site).Service })
	return out
}

// slip is a record with a word that stands nowhere else, and the record as it would be with one that does and is a step away.
type slip struct{ was, is estate.Record }

// slips are the records that nearly say what is spoken of: a word of theirs stands nowhere else, and is a letter or a digit from one that
// is spoken of.
func (s State) slips(spoken map[string]bool) []slip {
	words := slices.Sorted(maps.Keys(spoken))
	near := map[string][]string{} // by word, those spoken of that are a step from it
	times := map[string]int{}     // of those that have any
	type place struct {
		record estate.Record
		field  *estate.Field
		values []string
		n      int
		part   string
	}
	var at []place
	for _, k := range estate.Kinds {
		for _, r := range s.Tracer.Model.Estate.Of(k) {
			if isWish(r) || r.Meta().Off {
				continue
			}
			for i := range k.Fields {
				f := &k.Fields[i]
				if f.Flag || f.Number {
					continue
				}
				values := f.Values(r)
				for n, value := range values {
					for part := range parts(value) {
						by, known := near[part]
						if !known {
							by = slices.DeleteFunc(slices.Clone(words), func(w string) bool { return !serve.OneLetterOff(part, w) })
							near[part] = by
						}
						if len(by) == 0 {
							continue
						}
						if times[part]++; !slices.Contains(f.Choices, value) {
							at = append(at, place{r, f, values, n, part})
						}
					}
				}
			}
		}
	}
	var out []slip
	for _, p := range at {
		if times[p.part] != 1 {
			continue
		}
		for _, word := range near[p.part] {
			if _, is := p.record.(*estate.DNS); is && p.n == 0 && p.field.Column == "owner" && owns(s.Tracer.Model.Estate, word) {
				continue // two names that have their records each: neither is a slip
			}
			next := slices.Clone(p.values)
			next[p.n] = strings.Replace(p.values[p.n], p.part, word, 1)
			tried(p.record, p.field, next, func(is estate.Record) bool {
				out = append(out, slip{p.record, is})
				return true
			})
		}
	}
	return out
}

// parts are the words that stand within a word: places, addresses, names, ports. A range of addresses is one.
func parts(word string) iter.Seq[string] {
	if _, err := netip.ParsePrefix(word); err == nil {
		return slices.Values([]string{word})
	}
	if _, err := netip.ParseAddr(word); err == nil || word == "*" {
		return slices.Values([]string{word})
	}
	return strings.FieldsFuncSeq(word, func(c rune) bool { return strings.ContainsRune(":/[],=", c) })
}

// isWish says whether a record says what is meant, and not what is.
func isWish(r estate.Record) bool {
	switch r.(type) {
	case *estate.Intent, *estate.Acceptance, *estate.Name, *estate.Cert:
		return true
	}
	return false
}

// recorded is the record with a line; nil where none has it.
func recorded(e *estate.Estate, line string) estate.Record {
	kind, _, _ := strings.Cut(line, " ")
	k := estate.KindNamed(kind)
	if k == nil {
		return nil
	}
	list := e.Of(k)
	if i := slices.IndexFunc(list, func(r estate.Record) bool { return estate.Line(r) == line }); i >= 0 {
		return list[i]
	}
	return nil
}

// wordsOf are the words of a record's fields.
func wordsOf(r estate.Record) []string {
	var out []string
	k := estate.KindOf(r)
	for i := range k.Fields {
		out = append(out, k.Fields[i].Values(r)...)
	}
	return out
}

// namesIn are those of a record's words that name something: what a number or a choice says is said by many.
func namesIn(r estate.Record) []string {
	return slices.DeleteFunc(wordsOf(r), func(w string) bool { return len(w) < 3 || w == "true" || w == "internet" })
}

// vocabulary are the words that are recorded: those of each sort of field, and those that stand within them.
type vocabulary struct {
	of     map[sort][]string
	within []string
}

// sort is what stands in a field: fields of one sort may have each other's words.
type sort struct {
	wants    estate.RefKind
	expected string
}

func sortOf(f *estate.Field) sort { return sort{f.Wants, f.Expected} }

func (s State) vocabulary() vocabulary {
	type word struct {
		sort
		text string
	}
	seen := map[word]bool{}
	v := vocabulary{of: map[sort][]string{}}
	note := func(w word, to []string) []string {
		if seen[w] {
			return to
		}
		seen[w] = true
		return append(to, w.text)
	}
	for _, k := range estate.Kinds {
		for i := range k.Fields {
			f := &k.Fields[i]
			if f.Flag || f.Number {
				continue
			}
			of := sortOf(f)
			for _, r := range s.Tracer.Model.Estate.Of(k) {
				for _, value := range f.Values(r) {
					v.of[of] = note(word{of, value}, v.of[of])
					for part := range parts(value) {
						v.within = note(word{text: part}, v.within)
					}
				}
			}
		}
	}
	return v
}

// transported says whether the ports of a record may be of either transport.
func transported(r estate.Record) bool {
	switch r.(type) {
	case *estate.Forward, *estate.Map, *estate.Listen, *estate.Rule:
		return true
	}
	return false
}

// steps are the records that a record is one step from: one word of a field, or a part of one, is another that is recorded, and differs by
// a letter or a digit; or a transport is the other one, or a family is not told.
func steps(r estate.Record, known vocabulary) iter.Seq[estate.Record] {
	return func(yield func(estate.Record) bool) {
		k := estate.KindOf(r)
		for i := range k.Fields {
			f := &k.Fields[i]
			values := f.Values(r)
			if f.Flag || f.Number {
				continue
			}
			if f.Column == "family" && len(values) > 0 && !tried(r, f, nil, yield) {
				return
			}
			for n, w := range values {
				for other := range beside(w, known.of[sortOf(f)], known.within, transported(r)) {
					next := slices.Clone(values)
					if next[n] = other; !tried(r, f, next, yield) {
						return
					}
				}
			}
		}
	}
}

// tried gives a record with other words in a field, where they may stand there; false where no more are asked for.
func tried(r estate.Record, f *estate.Field, values []string, yield func(estate.Record) bool) bool {
	c := estate.Clone(r)
	if f.Load(c, values) != nil || estate.Complete(c) != nil {
		return true
	}
	return yield(c)
}

// beside are the words one step from a word: recorded ones, and the word with a part of it put for a recorded one, or the other transport.
func beside(word string, whole, within []string, transported bool) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, other := range whole {
			if serve.OneLetterOff(word, other) && !yield(other) {
				return
			}
		}
		for part := range parts(word) {
			for _, other := range within {
				if serve.OneLetterOff(part, other) && !yield(strings.Replace(word, part, other, 1)) {
					return
				}
			}
		}
		if !transported {
			return
		}
		if other, udp := strings.CutSuffix(word, "/udp"); udp && !yield(other) || !udp && word != "" && word[0] >= '0' && word[0] <= '9' && !yield(word+"/udp") {
			return
		}
	}
}
