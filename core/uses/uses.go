// Package uses says where an address, a name, a machine or a port stands in the records, and what the lines would be with
// another in its place.
package uses

import (
	"errors"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

// Kind is what is looked for.
type Kind string

const (
	Address Kind = "address"
	Name    Kind = "name" // a DNS name
	Machine Kind = "machine"
)

// How says in what way a record uses what is looked for.
type How string

const (
	Direct How = "direct" // it stands in the record
	Inside How = "inside" // the record has a network, or a wildcard, that it is inside of
	Told   How = "told"   // only a note tells of it
	Led    How = "led"    // the record uses a name, or an address, that stands for it
)

// Use is a record that uses what is looked for.
type Use struct {
	Record estate.Record
	How    How
	Via    string // the name or address by which it is led here; "" else
}

// Index finds the records of an estate by the words in them. It is immutable.
type Index struct {
	*entries
	all    []estate.Record
	gone   map[int32]bool // the entries' records that the estate has not any more
	come   *entries       // those that it has since the entries were made
	before []int32        // of each that came, the entry that it stands before
	tracer *trace.Tracer  // for ports, which stand in records only by what they mean
}

// entries are the words of an estate's records. They serve the estates that come of it by a few edits too.
type entries struct {
	of       []estate.Record
	at       map[estate.Record]int32 // their places in of
	words    map[string][]int32      // the records in which a word stands
	addrs    map[netip.Addr][]int32  // the same for addresses, however they are written
	networks []network
	machines map[string][]int32
}

type network struct {
	prefix netip.Prefix
	at     int32
}

// mostAside is how many records may have come or gone before an index is made anew.
const mostAside = 500

// New makes the index of the estate that a tracer is for.
func New(t *trace.Tracer) *Index {
	all := t.Model.Estate.All()
	return &Index{entries: entriesOf(all), all: all, come: entriesOf(nil), tracer: t}
}

func entriesOf(records []estate.Record) *entries {
	x := &entries{records, make(map[estate.Record]int32, len(records)), map[string][]int32{}, map[netip.Addr][]int32{}, nil, map[string][]int32{}}
	for i, r := range records {
		at := int32(i)
		x.at[r] = at
		x.add(at, estate.Line(r))
		if name, ok := machineOf(r); ok {
			note(x.machines, name, at)
		}
	}
	return x
}

func machineOf(r estate.Record) (string, bool) {
	switch r := r.(type) {
	case *estate.Host:
		return r.Name, true
	case *estate.Container:
		return r.Name, true
	}
	return "", false
}

// After is the index of an estate that came of this one's by an edit. It answers as a new one does.
func (x *Index) After(t *trace.Tracer) *Index {
	next := &Index{entries: x.entries, all: t.Model.Estate.All(), gone: map[int32]bool{}, tracer: t}
	var come []estate.Record
	i := int32(0)
	for _, r := range next.all {
		if int(i) < len(x.of) && x.of[i] == r {
			i++
			continue
		}
		switch at, known := x.at[r]; {
		case !known:
			come, next.before = append(come, r), append(next.before, i)
		case at < i:
			return New(t) // it changed its place among the others
		default:
			for ; i < at; i++ {
				next.gone[i] = true
			}
			i++
		}
		if len(come)+len(next.gone) > mostAside {
			return New(t)
		}
	}
	for ; int(i) < len(x.of); i++ {
		next.gone[i] = true
	}
	next.come = entriesOf(come)
	return next
}

// isMachine says whether a machine or container of that name is recorded, be it off.
func (x *Index) isMachine(name string) bool {
	return len(x.come.machines[name]) > 0 || slices.ContainsFunc(x.machines[name], func(at int32) bool { return !x.gone[at] })
}

func isWordByte(c byte) bool { return isNameByte(c) || c == '.' || c == ':' || c == '*' }

// add notes every word of a line, and every way in which it may be an address: alone, before a port, behind a family.
func (x *entries) add(at int32, line string) {
	for i := 0; i < len(line); {
		if !isWordByte(line[i]) {
			i++
			continue
		}
		from := i
		for i < len(line) && isWordByte(line[i]) {
			i++
		}
		word := strings.Trim(line[from:i], ".:")
		if word == "" {
			continue
		}
		word = strings.ToLower(word)
		note(x.words, word, at)
		tries := []string{word, word, word}
		if k := strings.LastIndexByte(word, ':'); k > 0 {
			tries[1] = word[:k]
			note(x.words, word[:k], at)
		}
		if k := strings.IndexByte(word, ':'); k > 0 {
			tries[2] = word[k+1:]
			note(x.words, word[k+1:], at)
		}
		for j, t := range tries {
			if j > 0 && t == word || t[0] > 'f' && t[0] != ':' {
				continue
			}
			a, err := netip.ParseAddr(t)
			if err != nil {
				continue
			}
			note(x.addrs, a.Unmap(), at)
			bits := 0
			for k := i + 1; i < len(line) && line[i] == '/' && k < len(line) && line[k] >= '0' && line[k] <= '9' && bits < 200; k++ {
				bits = bits*10 + int(line[k]-'0')
			}
			if p, err := a.Prefix(bits); err == nil && bits > 0 && !p.IsSingleIP() {
				x.networks = append(x.networks, network{p, at})
			}
		}
	}
}

func note[K comparable](m map[K][]int32, key K, at int32) {
	if list := m[key]; len(list) == 0 || list[len(list)-1] != at {
		m[key] = append(list, at)
	}
}

// KindOf says what a word is: an address, a port of a machine, a machine that is recorded, else a name.
func (x *Index) KindOf(word string) (Kind, string, bool) {
	word = strings.ToLower(strings.TrimSpace(word))
	if p, ok := x.parsePort(word); ok {
		return Port, p.String(), true
	}
	if a, err := netip.ParseAddr(word); err == nil && a.Zone() == "" {
		return Address, a.Unmap().String(), true
	}
	if x.isMachine(word) {
		return Machine, word, true
	}
	if name, ok := estate.CleanHostname(word); ok {
		return Name, name, true
	}
	return "", word, false
}

// candidates are the records in which a word may stand, in the order of the estate.
func (x *Index) candidates(m matcher) []estate.Record {
	var out []estate.Record
	come := x.come.candidates(m)
	for _, at := range x.entries.candidates(m) {
		if x.gone[at] {
			continue
		}
		for ; len(come) > 0 && x.before[come[0]] <= at; come = come[1:] {
			out = append(out, x.come.of[come[0]])
		}
		out = append(out, x.of[at])
	}
	for _, at := range come {
		out = append(out, x.come.of[at])
	}
	return out
}

func (x *entries) candidates(m matcher) []int32 {
	var out []int32
	switch m.kind {
	case Address:
		out = slices.Clone(x.addrs[m.addr])
		for _, n := range x.networks {
			if n.prefix.Contains(m.addr) {
				out = append(out, n.at)
			}
		}
	case Name:
		out = slices.Clone(x.words[m.word])
		for base := m.word; ; {
			_, up, ok := strings.Cut(base, ".")
			if !ok {
				break
			}
			out, base = append(out, x.words["*."+up]...), up
		}
	case Machine:
		host, _, _ := strings.Cut(m.word, "/")
		out = slices.Clone(x.words[host])
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// mostLed is how many names and addresses a search follows.
const mostLed = 256

// Find gives every record that uses a word, in the order of the estate: those in which it stands first, then those
// that are led to it. Records that are off count too.
func (x *Index) Find(word string) []Use {
	kind, word, ok := x.KindOf(word)
	if !ok {
		return nil
	}
	if kind == Port {
		p, _ := x.parsePort(word)
		return p.find(x.all)
	}
	var out []Use
	seen := map[estate.Record]bool{}
	var led []string
	follow := func(kind Kind, word string, r estate.Record) {
		if via := leadsBy(kind, word, r); via != "" && !slices.Contains(led, via) {
			led = append(led, via)
		}
	}
	m := matcherOf(kind, word)
	for _, r := range x.candidates(m) {
		if how, found := m.use(r); found {
			seen[r] = true
			out = append(out, Use{r, how, ""})
			if how == Direct {
				follow(kind, word, r)
			}
		}
	}
	for i := 0; i < len(led) && i < mostLed; i++ { // a name may be an alias's target, and that one another's
		kind, via, _ := x.KindOf(led[i])
		m := matcherOf(kind, via)
		for _, r := range x.candidates(m) {
			if holds(r, via) {
				continue
			}
			if how, found := m.use(r); found && how == Direct {
				if !seen[r] {
					seen[r] = true
					out = append(out, Use{r, Led, via})
				}
				follow(kind, via, r)
			}
		}
	}
	return out
}

// holds says whether a record only holds a name, as its owner or its zone, and does not use it.
func holds(r estate.Record, name string) bool {
	switch r := r.(type) {
	case *estate.Zone:
		return true
	case *estate.DNS:
		_, used := matcher{kind: Name, word: name}.how(r.Value)
		return r.Owner == name && !used
	}
	return false
}

// leadsBy is the name or address through which others use a word: the owner of a record that gives it, the address
// that a machine holds.
func leadsBy(kind Kind, word string, r estate.Record) string {
	switch r := r.(type) {
	case *estate.DNS:
		value := strings.ToLower(strings.TrimSuffix(r.Value, "."))
		given := kind == Machine && r.Dynamic == word || value == word && (kind == Address || r.Type == "CNAME" || r.Type == "ALIAS" || r.Type == "DNAME")
		if given && r.Owner != word && !strings.HasPrefix(r.Owner, "*.") {
			return r.Owner
		}
	case *estate.Address:
		if kind == Machine && slices.Contains(r.Hosts, word) && r.Held.Addr.IsValid() && !r.Off {
			return r.Held.Addr.String()
		}
	}
	return ""
}

// Swap is a line with another address, name or machine in the old one's place.
type Swap struct {
	Use
	New   string // the line
	Keep  bool   // by itself it stays: a note, a line that is off, a network that only has it inside
	Wrong string // why the new line cannot stand
}

// CanTake says whether a word can stand in the place of another: an address for an address, a port number for a port, a
// name or machine for a name or machine.
func (x *Index) CanTake(kind Kind, to string) bool {
	if kind == Port {
		n, err := strconv.ParseUint(strings.TrimSpace(to), 10, 16)
		return err == nil && n > 0
	}
	other, _, ok := x.KindOf(to)
	return ok && other != Port && (kind == Address) == (other == Address)
}

// Move gives, for each record in which a word stands, the line with another in its place; for a port, with another port
// number. Other records may come with it: where one of these takes the port, what leads to it from elsewhere leads to that one, and stays.
func (x *Index) Move(from, to string, with ...estate.Record) []Swap {
	kind, from, ok := x.KindOf(from)
	if !ok || !x.CanTake(kind, to) {
		return nil
	}
	if kind == Port {
		p, _ := x.parsePort(from)
		n, _ := strconv.ParseUint(strings.TrimSpace(to), 10, 16)
		swaps := p.move(x.all, uint16(n))
		if slices.ContainsFunc(with, p.takenBy) {
			for i := range swaps {
				switch swaps[i].Record.(type) {
				case *estate.Forward, *estate.Rule, *estate.Intent:
					swaps[i].Keep = true
				}
			}
		}
		return swaps
	}
	m := matcherOf(kind, from)
	to = strings.ToLower(strings.TrimSpace(to))
	var out []Swap
	for _, r := range x.candidates(m) {
		how, found := m.use(r)
		if !found || how == Inside {
			continue
		}
		s := Swap{Use: Use{Record: r, How: how}, New: m.replace(r, to), Keep: how == Told || r.Meta().Off}
		if _, _, err := notation.ParseLine(s.New); err != nil {
			s.Keep, s.Wrong = true, err.Error()
			var fault *estate.Fault
			if errors.As(err, &fault) {
				s.Wrong = fault.What + "; expected " + fault.Expected
			}
		}
		out = append(out, s)
	}
	return out
}

// matcher finds one word in the fields of a record.
type matcher struct {
	kind Kind
	word string
	addr netip.Addr
}

func matcherOf(kind Kind, word string) matcher {
	m := matcher{kind: kind, word: word}
	if kind == Address {
		m.addr = netip.MustParseAddr(word)
	}
	return m
}

// use says whether a record uses the word, and how.
func (m matcher) use(r estate.Record) (How, bool) {
	best := How("")
	rank := map[How]int{Direct: 3, Inside: 2, Told: 1}
	k := estate.KindOf(r)
	for i := range k.Fields {
		f := &k.Fields[i]
		text := f.Print(r)
		if text == "" {
			continue
		}
		how, found := m.inField(k, f, i, r, text)
		if found && rank[how] > rank[best] {
			best = how
		}
	}
	return best, best != ""
}

func (m matcher) inField(k *estate.Kind, f *estate.Field, at int, r estate.Record, text string) (How, bool) {
	note := f.Column == "note"
	if m.kind == Machine {
		return Direct, !note && m.standsFor(k, f, at, r)
	}
	how, found := m.how(text)
	switch {
	case note && found:
		how = Told
	case how == Inside && k.Word == "network":
		return "", false // a network has all its addresses inside
	}
	return how, found
}

// standsFor says whether a field names the machine itself or, for a host, a container on it.
func (m matcher) standsFor(k *estate.Kind, f *estate.Field, at int, r estate.Record) bool {
	is := func(name string) bool { return name == m.word || strings.HasPrefix(name, m.word+"/") }
	if at == 0 && k.Defines&estate.RefPlace != 0 {
		return is(f.Values(r)[0])
	}
	for _, ref := range f.Refs(r) {
		if ref.Kind&estate.RefPlace != 0 && is(ref.Name) {
			return true
		}
	}
	if site, ok := r.(*estate.Site); ok && f.Column == "target" {
		return site.To.Host == m.word // a container's alias stands for it only from beside it
	}
	if _, ok := r.(*estate.Acceptance); ok && f.Column == "subject" { // of a finding about the machine
		return len(m.machines(f.Print(r), 0)) > 0
	}
	if f.Wants&estate.RefHostname == 0 || f.Wants&estate.RefPlace == 0 {
		return false
	}
	// Where a host name may stand too, a machine of exactly that name is meant.
	return slices.ContainsFunc(f.Values(r), func(word string) bool {
		host, _, _ := strings.Cut(word, ":")
		return is(host)
	})
}

// addressForm finds what may be an address; a text may say before it of which family it is (RFC 7208 §5.6).
var addressForm = regexp.MustCompile(`(?i)(?:\bip[46]:)?([0-9a-f]*[:.][0-9a-f:.]*)(/[0-9]+)?`)

var familyWord = regexp.MustCompile(`(?i)\bip[46]:$`)

// span is a part of a text.
type span struct{ from, to int }

// addresses are the places in a text where the address stands; inside is whether a network has it.
func (m matcher) addresses(text string) (spans []span, inside bool) {
	for _, at := range addressForm.FindAllStringSubmatchIndex(text, -1) {
		from, to := at[2], at[3]
		if at[0] == at[2] && from > 0 && isNameByte(text[from-1]) || to < len(text) && at[4] < 0 && isNameByte(text[to]) {
			continue // a part of a name
		}
		word := text[from:to]
		a, err := netip.ParseAddr(strings.TrimRight(word, "."))
		if err != nil { // an address and a port
			if i := strings.LastIndexByte(word, ':'); i > 0 {
				a, err = netip.ParseAddr(word[:i])
				to = from + i
			}
		} else {
			to = from + len(strings.TrimRight(word, "."))
		}
		if err != nil {
			continue
		}
		if at[4] >= 0 {
			if p, err := netip.ParsePrefix(text[from:at[5]]); err == nil && !p.IsSingleIP() {
				inside = inside || p.Masked().Contains(m.addr)
				continue
			}
		}
		if a.Unmap() == m.addr {
			spans = append(spans, span{from, to})
		}
	}
	return spans, inside
}

func isNameByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_'
}

// how says in what way a text uses the word.
func (m matcher) how(text string) (How, bool) {
	find := m.namesIn
	if m.kind == Address {
		find = m.addresses
	}
	found, within := find(text)
	switch {
	case len(found) > 0:
		return Direct, true
	case within:
		return Inside, true
	}
	return "", false
}

var nameForm = regexp.MustCompile(`(?i)[a-z0-9_*][a-z0-9_*.-]*`)

// namesIn are the places in a text where the name stands; inside is whether a wildcard has it.
func (m matcher) namesIn(text string) (spans []span, inside bool) {
	for _, at := range nameForm.FindAllStringIndex(text, -1) {
		word := strings.ToLower(strings.TrimRight(text[at[0]:at[1]], ".-"))
		if ofAddress(text, at[0], at[1]) {
			continue
		}
		if word == m.word {
			spans = append(spans, span{at[0], at[0] + len(word)})
		} else if base, ok := strings.CutPrefix(word, "*."); ok && m.word != base && strings.HasSuffix(m.word, "."+base) {
			inside = true
		}
	}
	return spans, inside
}

// ofAddress says whether a word in a text is one of the groups of an IPv6 address (RFC 4291 §2.2).
func ofAddress(text string, from, to int) bool {
	part := func(c byte) bool { return isNameByte(c) || c == ':' || c == '.' }
	for from > 0 && part(text[from-1]) {
		from--
	}
	for to < len(text) && part(text[to]) {
		to++
	}
	a, err := netip.ParseAddr(strings.TrimPrefix(strings.ToLower(text[from:to]), "ip6:"))
	return err == nil && a.Is6()
}

// replace is the record's line with another word where this one stands.
func (m matcher) replace(r estate.Record, to string) string {
	k := estate.KindOf(r)
	words := []string{k.Word}
	for i := range k.Fields {
		f := &k.Fields[i]
		text := f.Print(r)
		if text == "" {
			continue
		}
		var spans []span
		switch m.kind {
		case Address:
			spans, _ = m.addresses(text)
		case Name:
			spans, _ = m.namesIn(text)
		case Machine:
			if f.Column != "note" && m.standsFor(k, f, i, r) {
				spans = m.machines(text, len(f.Lead))
			}
		}
		for _, s := range slices.Backward(spans) {
			head := text[:s.from]
			if m.kind == Address { // a text says the family of the address that it names (RFC 7208 §5.6)
				head = familyWord.ReplaceAllString(head, map[bool]string{true: "ip6:", false: "ip4:"}[strings.Contains(to, ":")])
			}
			text = head + to + text[s.to:]
		}
		words = append(words, text)
	}
	return strings.Join(words, " ")
}

// machines are the places in a field's text where the machine's name stands, as a whole word or before a container's.
func (m matcher) machines(text string, from int) []span {
	var out []span
	for _, at := range nameForm.FindAllStringIndex(text[from:], -1) {
		s := span{from + at[0], from + at[1]}
		if ofAddress(text, s.from, s.to) {
			continue
		}
		whole := m.word
		if host, name, container := strings.Cut(m.word, "/"); container {
			if text[s.from:s.to] != host || !strings.HasPrefix(text[s.to:], "/"+name) || s.to+1+len(name) < len(text) && isNameByte(text[s.to+1+len(name)]) {
				continue
			}
			s.to += 1 + len(name)
		} else if strings.ToLower(text[s.from:s.to]) != whole || s.from > 0 && text[s.from-1] == '/' && !strings.HasSuffix(text[:s.from], "://") {
			continue
		}
		out = append(out, s)
	}
	return out
}
