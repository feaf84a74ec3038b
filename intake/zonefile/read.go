// Package zonefile reads and writes zones as master files (RFC 1035 §5): $ORIGIN, $TTL (RFC 2308 §4), $INCLUDE and
// $GENERATE, unknown types by RFC 3597.
package zonefile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"testing/fstest"

	"github.com/miekg/dns"

	"steady-compass/core/estate"
	"steady-compass/core/names"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

// mostRecords is how many records a zone may have where its source does not say; $GENERATE makes many out of few.
const mostRecords = 500_000

// mostFaults is how many faults are looked for; after each the file is read anew.
const mostFaults = 50

// Source is a zone to be read.
type Source struct {
	Zone  string // its name; "": that of its SOA
	Files fs.FS
	Main  string            // the file to begin with
	For   []estate.Selector // whose copy of the zone it is; none: everybody's
	Most  int               // how many records it may have; 0: half a million
}

// Memory is a file of one's own, as a source.
func Memory(name, text string) (fs.FS, string) {
	name = strings.TrimLeft(strings.ReplaceAll(name, `\`, "/"), "/")
	if !fs.ValidPath(name) || name == "." {
		name = "zone"
	}
	return fstest.MapFS{name: {Data: []byte(text)}}, name
}

// ErrNoZone is wrapped by the error for a source whose zone is not known.
var ErrNoZone = errors.New("the zone's name is not known: the file has no SOA, and none was given")

// rr is a record as it was read.
type rr struct {
	dns.RR
	comment string
	at      place
}

// place is a line of a file, from 1; 0 before the first.
type place struct {
	file string
	line int
}

// Read reads a zone. What is wrong with the files is in the reading's faults; the records are those that stand
// beside them. The estate says what ttl its own `zone` line gives.
func Read(src Source, e *estate.Estate) (intake.Reading, error) {
	files := &mended{FS: src.Files, text: map[string][]byte{}}
	zone, ok := estate.CleanHostname(src.Zone)
	if src.Zone != "" && !ok {
		return intake.Reading{}, fmt.Errorf("%q is no zone: expected a name as example.org", src.Zone)
	}
	var faults []intake.FileFault
	var got []rr
	if src.Most == 0 {
		src.Most = mostRecords
	}
	left := 2 * src.Most // to be read in all: after each fault the file is read anew
	for {
		var fault *intake.FileFault
		var err error
		files.used = 0
		got, fault, err = parse(files, src.Main, zone, src.Most, &left)
		if err != nil {
			return intake.Reading{}, err
		}
		if open := files.open; open != nil {
			files.open, fault = nil, open
		}
		if fault == nil {
			break
		}
		faults = append(faults, *fault)
		if len(faults) == mostFaults || left <= 0 {
			faults = append(faults, intake.FileFault{File: fault.File, Line: fault.Line, What: "what follows was not read", Expected: "fewer faults before it"})
			break
		}
		also, ok := files.blank(*fault)
		faults = append(faults, also...)
		if !ok {
			break
		}
	}
	if zone == "" {
		i := slices.IndexFunc(got, func(r rr) bool { return r.Header().Rrtype == dns.TypeSOA })
		if i < 0 || got[i].Header().Name == "." { // "@" of a file that does not say where it is; the root is asked for by name
			return intake.Reading{Faults: faults}, ErrNoZone
		}
		if zone, ok = estate.CleanHostname(got[i].Header().Name); !ok {
			return intake.Reading{}, fmt.Errorf("%q has the SOA, and is no zone: expected a name as example.org", got[i].Header().Name)
		}
	}
	text, _ := files.read(src.Main)
	ttl, made := defaultTTL(string(text))
	b := &builder{zone: zone, audience: src.For, ttl: ttl, made: made, main: src.Main, files: files, seen: map[string]bool{}}
	b.reading.Faults = faults
	b.begin(e)
	for _, r := range got {
		b.take(r)
	}
	b.end(e)
	return b.reading, nil
}

// FromRecords is the reading of a zone that came over the wire (RFC 5936).
func FromRecords(zone string, records []dns.RR, audience []estate.Selector, e *estate.Estate) intake.Reading {
	b := &builder{zone: zone, audience: audience, ttl: commonTTL(records), main: zone, seen: map[string]bool{}}
	b.begin(e)
	for _, r := range records {
		b.take(rr{RR: r})
	}
	b.end(e)
	return b.reading
}

// commonTTL is the ttl that most records have.
func commonTTL(records []dns.RR) estate.Seconds {
	count := map[uint32]int{}
	best := estate.NotGiven
	for _, r := range records {
		t := r.Header().Ttl
		if estate.Seconds(t) > estate.MaxSeconds {
			continue
		}
		count[t]++
		if best == estate.NotGiven || count[t] > count[uint32(best)] || count[t] == count[uint32(best)] && estate.Seconds(t) < best {
			best = estate.Seconds(t)
		}
	}
	return best
}

// parse reads all records up to the first fault; left counts down what may be read.
func parse(files *mended, main, zone string, most int, left *int) ([]rr, *intake.FileFault, error) {
	text, err := files.read(main)
	if err != nil {
		return nil, nil, err
	}
	zp := dns.NewZoneParser(files.follow(main, text), dns.Fqdn(zone), main)
	zp.SetIncludeAllowed(true)
	zp.SetIncludeFS(files)
	zp.SetDefaultTTL(uint32(standInTTL))
	var out []rr
	last := place{main, 0}
	for r, ok := zp.Next(); ok; r, ok = zp.Next() {
		if len(out) == most {
			return nil, nil, fmt.Errorf("%s has more than %d records: expected a smaller zone", main, most)
		}
		*left--
		last = files.place(main)
		out = append(out, rr{r, zp.Comment(), last})
	}
	if err := zp.Err(); err != nil {
		f := faultOf(err, main)
		files.blame(&f, last)
		return out, &f, nil
	}
	return out, nil, nil
}

var badForm = regexp.MustCompile(`^bad ([A-Z0-9]+) .*: "(.*)"$`)

var notOpened = regexp.MustCompile("^failed to open `(.*?)'.* no such file")

var faultForm = regexp.MustCompile(`^(?:(.*?): )?dns: (.*) at line: (\d+):(\d+)$`)

func faultOf(err error, main string) intake.FileFault {
	f := intake.FileFault{File: main, Line: 1, What: err.Error(), Expected: "a record as in a zone file"}
	if m := faultForm.FindStringSubmatch(err.Error()); m != nil {
		if m[1] != "" {
			f.File = m[1]
		}
		f.What = m[2]
		if name := notOpened.FindStringSubmatch(f.What); name != nil {
			f.What, f.Expected = fmt.Sprintf("the file %q is not among those given", name[1]), "it to be given with this one"
		}
		if bad := badForm.FindStringSubmatch(f.What); bad != nil {
			f.What = fmt.Sprintf("%q cannot stand in a record of type %s", bad[2], bad[1])
		}
		f.Line, _ = strconv.Atoi(m[3])
		f.Column, _ = strconv.Atoi(m[4])
	}
	return f
}

// mended are files with what cannot be read blanked out.
type mended struct {
	fs.FS
	text    map[string][]byte
	parted  parted
	reading []*followed       // the file that is read, and what it includes within it
	open    *intake.FileFault // a parenthesis that is never closed, in the files read so far
	used    int               // how often one was included
}

// parted is the file that was last taken apart into its entries.
type parted struct {
	file string
	text []byte
	of   []entry
}

// mostIncludes is how often files may include others: one that includes itself would go on for ever.
const mostIncludes = 200

// followed is a file that is read byte by byte, so that it is known at which line the reader is.
type followed struct {
	fs.File
	*bytes.Reader
	place
	ended bool // the next byte begins a line
	shut  bool
}

// follow reads a file from its start, and not within another.
func (m *mended) follow(name string, text []byte) *followed {
	f := &followed{Reader: bytes.NewReader(text), place: place{name, 0}, ended: true}
	m.reading = []*followed{f}
	return f
}

func (f *followed) ReadByte() (byte, error) {
	c, err := f.Reader.ReadByte()
	if err == nil {
		if f.ended {
			f.line++
		}
		f.ended = c == '\n'
	}
	return c, err
}

func (f *followed) Close() error {
	f.shut = true
	return nil
}

func (f *followed) Read(p []byte) (int, error) { return f.Reader.Read(p) }

// place is where the reader is: in the innermost file that it has not left.
func (m *mended) place(main string) place {
	for _, f := range slices.Backward(m.reading) {
		if !f.shut {
			return f.place
		}
	}
	return place{main, 0}
}

// entriesOf are the entries of a file as it is mended.
func (m *mended) entriesOf(file string) []entry {
	if m.parted.of == nil || m.parted.file != file || &m.parted.text[0] != &m.text[file][0] {
		m.parted.file, m.parted.text = file, m.text[file]
		m.parted.of = entries(strings.SplitAfter(string(m.text[file]), "\n"))
	}
	return m.parted.of
}

// entryAt is the entry of a file that a line is of.
func (m *mended) entryAt(at place) (entry, bool) {
	if len(m.text[at.file]) == 0 {
		return entry{}, false
	}
	list := m.entriesOf(at.file)
	i := sort.Search(len(list), func(i int) bool { return at.line <= list[i].last+1 })
	if i == len(list) || at.line <= list[i].first {
		return entry{}, false
	}
	return list[i], true
}

// blame puts a fault where its record begins: the parser tells of what a directive makes by its lines there, and of a record that is
// too short by where the next one stands.
func (m *mended) blame(f *intake.FileFault, last place) {
	if at := m.place(f.File); len(m.reading) > 0 {
		if e, ok := m.entryAt(at); ok && strings.HasPrefix(strings.ToUpper(e.text), "$GENERATE") {
			f.File, f.Line, f.Column = at.file, e.first+1, 1
			return
		}
	}
	if f.File != last.file {
		return
	}
	if len(m.text[f.File]) == 0 {
		return
	}
	for _, e := range m.entriesOf(f.File) {
		text := strings.TrimSpace(e.text)
		if e.first < last.line || text == "" || text[0] == ';' || text[0] == '$' {
			continue
		}
		if e.last+1 < f.Line {
			f.Line, f.Column = e.first+1, 1
			f.What = "the record ends too soon"
		}
		return
	}
}

func (m *mended) read(name string) ([]byte, error) {
	if text, ok := m.text[name]; ok {
		return text, nil
	}
	text, err := fs.ReadFile(m.FS, name)
	if err != nil {
		return nil, err
	}
	m.text[name] = withGeneratedTTL(text)
	m.lookForOpen(name)
	return m.text[name], nil
}

// lookForOpen notes the first entry of a file whose parenthesis is never closed: the parser would take all that
// follows for a part of it.
func (m *mended) lookForOpen(name string) {
	lines := strings.SplitAfter(string(m.text[name]), "\n")
	for _, e := range entries(lines) {
		if depthAfter(lines[e.first], 0) > 0 && e.last == e.first {
			m.open = &intake.FileFault{File: name, Line: e.first + 1, Column: strings.IndexByte(e.text, '(') + 1, What: "a parenthesis is opened here and never closed", Expected: ") behind the last word of the record"}
			return
		}
	}
}

var generateLine = regexp.MustCompile(`(?i)^(\$GENERATE[ \t]+\S+[ \t]+\S+)([ \t]+)(\S+)`)

// withGeneratedTTL writes the ttl in force into the $GENERATE lines that have none: the parser does not pass it on.
func withGeneratedTTL(text []byte) []byte {
	if !bytes.Contains(bytes.ToUpper(text), []byte("$GENERATE")) {
		return text
	}
	ttl := ""
	lines := strings.SplitAfter(string(text), "\n")
	for i, line := range lines {
		if m := ttlLine.FindStringSubmatch(line); m != nil {
			ttl = m[1]
		}
		if m := generateLine.FindStringSubmatch(line); m != nil && ttl != "" && (m[3][0] < '0' || m[3][0] > '9') {
			lines[i] = m[1] + " " + ttl + m[2] + line[len(m[1])+len(m[2]):]
		}
	}
	return []byte(strings.Join(lines, ""))
}

// Open gives a file as it is mended.
func (m *mended) Open(name string) (fs.File, error) {
	if m.used++; m.used > mostIncludes {
		return nil, fmt.Errorf("files are included more than %d times", mostIncludes)
	}
	name = m.given(name)
	text, err := m.read(name)
	if err != nil {
		return nil, err
	}
	file, err := fstest.MapFS{name: {Data: text}}.Open(name)
	if err != nil {
		return nil, err
	}
	f := &followed{File: file, Reader: bytes.NewReader(text), place: place{name, 0}, ended: true}
	m.reading = append(m.reading, f)
	return f, nil
}

// given is the file among those given that a name stands for, where there is none of that very name: the name is one of the machine
// that the zone is from, and the files may have come without their folders.
func (m *mended) given(name string) string {
	for rest, more := name, true; more; _, rest, more = strings.Cut(rest, "/") {
		if _, err := fs.Stat(m.FS, rest); err == nil {
			return rest
		}
	}
	return name
}

// blank takes the entry with a fault out of its file, and what hangs on it: lines that take their owner from it, or
// all up to the next directive of the kind. It gives the faults of these; false where there is nothing to take out.
func (m *mended) blank(f intake.FileFault) ([]intake.FileFault, bool) {
	text, ok := m.text[f.File]
	if !ok {
		return nil, false
	}
	lines := strings.SplitAfter(string(text), "\n")
	all := entries(lines)
	at := slices.IndexFunc(all, func(e entry) bool { return f.Line-1 >= e.first && f.Line-1 <= e.last })
	for at > 0 && all[at].empty() {
		at-- // the fault was noticed at the end of the line before
	}
	if at < 0 || all[at].empty() {
		return nil, false
	}
	clear := func(e entry) {
		for i := e.first; i <= e.last; i++ {
			if strings.HasSuffix(lines[i], "\n") {
				lines[i] = "\n"
			} else {
				lines[i] = ""
			}
		}
	}
	clear(all[at])
	var also []intake.FileFault
	word := all[at].directive()
	following := all[at+1:]
	if all[at].indented() {
		following = nil // it has its owner from a line before
	}
	for _, next := range following {
		switch {
		case next.empty():
			continue
		case word == "$ORIGIN" || word == "$TTL":
			if next.directive() == word {
				word = "-"
			}
		case word != "" || !next.indented():
			word = "-"
		}
		if word == "-" {
			break
		}
		clear(next)
		what := fmt.Sprintf("the %s it needs stands in line %d, which cannot be read", orWord(strings.TrimPrefix(word, "$"), "owner"), all[at].first+1)
		also = append(also, intake.FileFault{File: f.File, Line: next.first + 1, Column: 1, What: what, Expected: "that line mended"})
	}
	m.text[f.File] = []byte(strings.Join(lines, ""))
	m.lookForOpen(f.File)
	return also, true
}

func orWord(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// entry is one record or directive with its lines, from 0.
type entry struct {
	first, last int
	text        string // of its first line
}

func (e entry) empty() bool {
	t := strings.TrimSpace(e.text)
	return t == "" || t[0] == ';'
}
func (e entry) indented() bool { return e.text[0] == ' ' || e.text[0] == '\t' }
func (e entry) directive() string {
	if e.text == "" || e.text[0] != '$' {
		return ""
	}
	return strings.ToUpper(strings.Fields(e.text)[0])
}

// entries cuts a file into its entries: lines, joined where a parenthesis is open (RFC 1035 §5.1). One that is never
// closed holds its own line only.
func entries(lines []string) []entry {
	var out []entry
	for i := 0; i < len(lines); i++ {
		e := entry{i, i, lines[i]}
		depth := 0
		for j := i; j < len(lines); j++ {
			if depth = depthAfter(lines[j], depth); depth <= 0 {
				e.last = j
				break
			}
		}
		out = append(out, e)
		i = e.last
	}
	return out
}

func depthAfter(line string, depth int) int {
	quoted := false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == ';':
			return depth
		case c == '(':
			depth++
		case c == ')':
			depth--
		}
	}
	return depth
}

// builder turns resource records into records of the estate.
type builder struct {
	zone     string
	audience []estate.Selector
	ttl      estate.Seconds // of records that give none
	made     bool           // ttl only stands in for one that is not recorded
	main     string
	files    *mended // nil for records that came over the wire
	reading  intake.Reading
	seen     map[string]bool
	signed   int
	strange  int
}

// begin adds the zone itself.
func (b *builder) begin(e *estate.Estate) {
	z := &estate.Zone{Name: b.zone, TTL: b.ttl, For: b.audience}
	if b.made {
		z.TTL = estate.NotGiven
	}
	if estate.Complete(z) == nil {
		b.reading.Records = append(b.reading.Records, z)
	}
}

func sameAudience(a, b []estate.Selector) bool {
	return slices.EqualFunc(a, b, func(x, y estate.Selector) bool { return x.String() == y.String() })
}

func (b *builder) take(r rr) {
	h := r.Header()
	if strings.Contains(r.comment, madeForFile) {
		return
	}
	switch h.Rrtype {
	case dns.TypeRRSIG, dns.TypeNSEC, dns.TypeNSEC3, dns.TypeNSEC3PARAM, dns.TypeDNSKEY, dns.TypeCDS, dns.TypeCDNSKEY, dns.TypeZONEMD:
		b.signed++
		return
	}
	if h.Class != dns.ClassINET {
		b.strange++
		return
	}
	d, err := b.record(r)
	if err != nil {
		f := intake.FileFault{File: b.main, Line: 1, What: fmt.Sprintf("%s %s: %v", h.Name, dns.TypeToString[h.Rrtype], err), Expected: "a record of the zone " + b.zone}
		if b.files != nil {
			if e, ok := b.files.entryAt(r.at); ok {
				f.File, f.Line = r.at.file, e.first+1
			}
		}
		b.reading.Faults = intake.AddFault(b.reading.Faults, f)
		return
	}
	if line := estate.Line(d); !b.seen[line] {
		b.seen[line] = true
		b.reading.Records = append(b.reading.Records, d)
	}
}

func (b *builder) record(r rr) (*estate.DNS, error) {
	h := r.Header()
	owner, ok := estate.CleanHostname(h.Name)
	switch {
	case !ok:
		return nil, errors.New("the owner is no name that can be written down")
	case !names.Under(owner, b.zone):
		return nil, errors.New("the owner is not in the zone")
	case estate.Seconds(h.Ttl) > estate.MaxSeconds:
		return nil, fmt.Errorf("a ttl of %d s is over the %d s that one can be (RFC 2181, section 8)", h.Ttl, estate.MaxSeconds)
	}
	if line, ok := strings.CutPrefix(strings.TrimSpace(strings.TrimPrefix(r.comment, ";")), recordedAs); ok {
		line = strings.NewReplacer("%3B", ";", "%25", "%").Replace(strings.TrimSpace(line))
		if p, _, err := notation.ParseLine(line); err == nil {
			if d, ok := p.Record.(*estate.DNS); ok && d.Owner == owner && (d.Dynamic != "" || d.Type == "ALIAS" || b.says(d, r)) {
				return d, nil
			}
		}
	}
	d, err := newDNS(owner, r.RR)
	if err != nil {
		return nil, err
	}
	d.For = b.audience
	if ttl := estate.Seconds(h.Ttl); ttl != b.ttl {
		d.TTL = ttl
	}
	return d, estate.Complete(d)
}

// says says whether a recorded line is what stands before it in the file.
func (b *builder) says(d *estate.DNS, r rr) bool {
	if dns.Type(r.Header().Rrtype).String() != d.Type || d.TTL != estate.NotGiven && d.TTL != estate.Seconds(r.Header().Ttl) {
		return false
	}
	plain, err := newDNS(d.Owner, r.RR)
	return err == nil && intake.RData(plain) == intake.RData(d)
}

// newDNS is a record with a value as it was read, without a ttl; it is not complete yet.
func newDNS(owner string, r dns.RR) (*estate.DNS, error) {
	d := &estate.DNS{Owner: owner, Type: dns.Type(r.Header().Rrtype).String(), TTL: estate.NotGiven, Every: estate.NotGiven}
	target := ""
	switch r := r.(type) {
	case *dns.A:
		if a, ok := netip.AddrFromSlice(r.A); ok {
			d.Value = a.Unmap().String()
			return d, nil
		}
	case *dns.AAAA:
		if a, ok := netip.AddrFromSlice(r.AAAA); ok && !a.Is4In6() {
			d.Value = a.String()
			return d, nil
		}
	case *dns.CNAME:
		target = r.Target
	case *dns.NS:
		target = r.Ns
	case *dns.PTR:
		target = r.Ptr
	case *dns.DNAME:
		target = r.Target
	}
	value := intake.Value(r)
	if target != "" {
		if name, ok := estate.CleanHostname(target); ok {
			value = name
		}
	}
	if _, unknown := r.(*dns.RFC3597); unknown {
		d.Type = "TYPE" + strconv.Itoa(int(r.Header().Rrtype))
	}
	p, _, err := notation.ParseLine("dns " + owner + " " + d.Type + " " + value)
	if err != nil {
		return nil, err
	}
	return estate.With(p.Record.(*estate.DNS), func(*estate.DNS) {}), nil
}

func (b *builder) end(e *estate.Estate) {
	if b.signed > 0 {
		b.reading.Left = append(b.reading.Left, fmt.Sprintf("%d records that a signer makes (DNSSEC) are left out.", b.signed))
	}
	if b.strange > 0 {
		b.reading.Left = append(b.reading.Left, fmt.Sprintf("%d records of another class than IN are left out.", b.strange))
	}
	zones := map[string]bool{b.zone: true}
	for _, r := range e.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off && (len(z.For) == 0 || sameAudience(z.For, b.audience)) {
			zones[z.Name] = true
		}
	}
	b.reading.Covers = func(r estate.Record) bool {
		d, ok := r.(*estate.DNS)
		if !ok || !sameAudience(d.For, b.audience) {
			return false
		}
		for up, ok := d.Owner, true; ok; up, ok = names.Parent(up) {
			if zones[up] {
				return up == b.zone
			}
		}
		return b.zone == "."
	}
}

var ttlLine = regexp.MustCompile(`(?mi)^\$TTL[ \t]+(\S+)(.*)$`)

// standInTTL stands in a file for a ttl that nobody recorded.
const standInTTL = estate.Seconds(3600)

// defaultTTL is the first $TTL of a file; made says that it only stands in for one.
func defaultTTL(text string) (ttl estate.Seconds, made bool) {
	m := ttlLine.FindStringSubmatch(text)
	if m == nil {
		return standInTTL, true
	}
	rr, err := dns.NewRR("$TTL " + m[1] + "\n. IN A 192.0.2.1")
	if err != nil || rr == nil {
		return standInTTL, true
	}
	return estate.Seconds(rr.Header().Ttl), strings.Contains(m[2], noTTL)
}
