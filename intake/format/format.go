// Package format knows the formats that can be taken over and written out, by their words.
package format

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/intake"
	"steady-compass/intake/account"
	"steady-compass/intake/compose"
	"steady-compass/intake/engine"
	"steady-compass/intake/hostsfile"
	"steady-compass/intake/iproute"
	"steady-compass/intake/machine"
	"steady-compass/intake/packetfilter"
	"steady-compass/intake/pem"
	"steady-compass/intake/sheet"
	"steady-compass/intake/sockets"
	"steady-compass/intake/webserver"
	"steady-compass/intake/zonefile"
)

// Words are the formats that can be read: a zone file (RFC 1035), a hosts file, estate notation, a machine's account of
// itself, a socket listing, ip -json, Compose files, what container engines' inspect prints, and a packet filter's ruleset
// as JSON or in the older save format, a sheet of one kind of record (RFC 4180), certificates (RFC 7468), the configuration of web servers, and what the script of collect printed.
var Words = []string{"zone", "hosts", "estate", "machine", "sockets", "ip", "compose", "inspect", "nft", "save", "csv", "pem", "nginx", "apache", "haproxy", "account"}

// Written are the formats that can be written.
var Written = []string{"zone", "hosts", "estate", "nft", "save", "save6", "csv"}

// Foldered are the formats that lie in a folder of several files.
var Foldered = []string{"nginx", "apache", "haproxy"}

// Together are the formats of which several files make one reading.
var Together = []string{"ip", "compose", "inspect", "pem", "nginx", "apache", "haproxy"}

// Source is what is to be taken over, and what it does not say itself.
type Source struct {
	Format    string
	Texts     []intake.File // one, or several of a format that is read together
	Files     fs.FS         // of a zone file: where those that it includes are
	Zone      string        // of a zone file: its name; "": that of its SOA, else the one in its file's name
	For       string        // of a zone file: whose copy it is, a comma list; "": everybody's
	Place     string        // of what a machine or container has: which it is
	Project   string        // of Compose files: the project's name
	Profiles  []string
	Variables map[string]string
	// Interfaces are the recorded networks by the names of a machine's interfaces, for what names only these.
	Interfaces map[string]string
	Most       int // records at most; 0: as many as the format bears

	account *machine.Account        // what a machine says of itself, where that is read already
	held    map[string][]netip.Addr // the addresses of its interfaces
	taken   *netset.Ports           // the TCP ports that its programs hold; nil where these are not all known
}

// Parts are the sources that one has in it, to be read one after another, each against the estate that the one before left: several of a machine's
// account, else itself.
func (src Source) Parts() ([]Source, error) {
	if len(src.Texts) == 0 || src.Format != "account" && !(src.Format == "machine" && account.Is(Decoded(src.Texts[0].Text))) {
		return []Source{src}, nil
	}
	main := src.Texts[0]
	a := account.Read(main.Name, Decoded(main.Text), strings.ToLower(strings.TrimSpace(src.Place)))
	if a.Machine.Host == "" && len(a.Faults) > 0 && account.Is(Decoded(main.Text)) {
		return nil, ErrNoPlace
	}
	a.Machine.Faults = append(a.Machine.Faults, a.Faults...)
	of := func(word string, texts ...intake.File) Source {
		return Source{Format: word, Texts: texts, Place: a.Machine.Host, Interfaces: src.Interfaces, Most: src.Most, held: a.Interfaces}
	}
	first := of("machine", main)
	first.account = &a.Machine
	parts := []Source{first}
	for _, rs := range a.Rulesets {
		parts = append(parts, of(rs.Format, rs.File))
	}
	if len(a.Certs) > 0 {
		parts = append(parts, of("pem", a.Certs...))
	}
	for _, word := range slices.Sorted(maps.Keys(a.Servers)) {
		part := of(word, a.Servers[word]...)
		if a.Machine.IsWhole(machine.TCP, a.Machine.Host) {
			part.taken = portsHeld(a.Machine.Records)
		}
		parts = append(parts, part)
	}
	return parts, nil
}

// portsHeld are the TCP ports that listeners have on the machine's own addresses, and those that containers have mapped.
func portsHeld(records []estate.Record) *netset.Ports {
	apart := map[string]bool{} // containers with addresses of their own
	for _, r := range records {
		if c, ok := r.(*estate.Container); ok && !c.SharesHost {
			apart[c.Name] = true
		}
	}
	var all []netset.PortRange
	for _, r := range records {
		switch r := r.(type) {
		case *estate.Listen:
			if !apart[r.Place] {
				all = append(all, r.Bind.Ranges...)
			}
		case *estate.Map:
			all = append(all, r.Bind.Ranges...)
		}
	}
	ports := netset.PortsOf(all...)
	return &ports
}

// running leaves a configuration out of which no port is held: its server does not run.
func (src *Source) running(r intake.Reading) intake.Reading {
	if src.taken == nil {
		return r
	}
	var said []string
	for _, rec := range r.Records {
		l, ok := rec.(*estate.Listen)
		if !ok {
			continue
		}
		if !l.Bind.Set().Intersect(*src.taken).IsEmpty() {
			return r
		}
		said = append(said, l.Bind.List())
	}
	if len(said) == 0 {
		return r
	}
	return intake.Reading{Faults: r.Faults, Left: []string{fmt.Sprintf("The configuration of %s is left out: nothing listens on its ports (%s), so it does not run.", src.Format, strings.Join(said, ", "))}}
}

// interfaces are the recorded networks by the names of a machine's interfaces: as they were said, and as the addresses on each are recorded.
func (src *Source) interfaces(e *estate.Estate) map[string]string {
	out := map[string]string{}
	for _, r := range e.Of(estate.KindNamed("address")) {
		held := r.(*estate.Address)
		if held.Off || !slices.Contains(held.Hosts, src.Place) {
			continue
		}
		for name, addrs := range src.held {
			if slices.Contains(addrs, held.Held.Addr) {
				out[name] = held.Network
			}
		}
	}
	maps.Copy(out, src.Interfaces)
	return out
}

// ErrUnknown is wrapped by the error for a format that is not known.
var ErrUnknown = errors.New("no such format")

// ErrNoPlace is the error for what a machine has, where the machine is not known.
var ErrNoPlace = errors.New("it does not say of which machine it is: expected a host or container")

// MostBytes is how long a text may be that is taken over.
const MostBytes = 64 << 20

// Decoded is a text without the mark that says how its characters are coded, and in UTF-8 where that says UTF-16, as some systems
// write what a command prints (Unicode Standard §23.8).
func Decoded(text string) string {
	var order binary.ByteOrder
	switch {
	case strings.HasPrefix(text, "\uFEFF"):
		return strings.TrimPrefix(text, "\uFEFF")
	case strings.HasPrefix(text, "\xFF\xFE"):
		order = binary.LittleEndian
	case strings.HasPrefix(text, "\xFE\xFF"):
		order = binary.BigEndian
	default:
		return text
	}
	units := make([]uint16, 0, len(text)/2)
	for i := 2; i+1 < len(text); i += 2 {
		units = append(units, order.Uint16([]byte(text[i:i+2])))
	}
	return string(utf16.Decode(units))
}

// errNoHost is the error for what only a machine has, and a container is said.
var errNoHost = fmt.Errorf("%w, and no container has it: expected a host", ErrNoPlace)

// Needs is what an error of Read asks for: zone, place, or nothing.
func Needs(err error) string {
	switch {
	case errors.Is(err, zonefile.ErrNoZone):
		return "zone"
	case errors.Is(err, ErrNoPlace):
		return "place"
	}
	return ""
}

func unknown(word string, words []string) error {
	return fmt.Errorf("%w: %q; expected %s", ErrUnknown, word, strings.Join(words, ", "))
}

// What the configuration of a web server's sites has, where it stands in braces, in tags, or in sections.
var (
	inSections = regexp.MustCompile(`(?m)^(frontend|backend|listen)\s+\S+\s*\n\s+(bind|mode|server|balance|option|timeout|acl|default_backend|use_backend|http-request)\s`)
	inTags     = regexp.MustCompile(`(?mi)^\s*<(VirtualHost|IfModule|Directory|Proxy)\b[^>\n]*>`)
	inBraces   = regexp.MustCompile(`(?m)^\s*(server|http|upstream\s+\S+)\s*\{`)
)

// Guess is the format that a file's name and its first lines speak for.
func Guess(name, text string) string {
	text = Decoded(text)
	base := strings.ToLower(path.Base(strings.ReplaceAll(name, `\`, "/")))
	ext := path.Ext(base)
	first := strings.ToLower(strings.TrimSpace(text[:min(len(text), 400)]))
	switch {
	case account.Is(text):
		return "account"
	case machine.IsText(text):
		return "machine"
	case strings.HasSuffix(base, ".estate"):
		return "estate"
	case pem.Is(text):
		return "pem"
	case ext == ".csv":
		return "csv"
	case base == "nginx.conf" || inBraces.MatchString(text):
		return "nginx"
	case base == "apache2.conf" || base == "httpd.conf" || inTags.MatchString(text):
		return "apache"
	case base == "haproxy.cfg" || inSections.MatchString(text):
		return "haproxy"
	case ext == ".yaml" || ext == ".yml":
		return "compose"
	case strings.HasPrefix(first, "[") || strings.HasPrefix(first, "{"):
		if strings.Contains(text, `"nftables"`) {
			return "nft"
		}
		if strings.Contains(text, `"ifname"`) || strings.Contains(text, `"dst"`) {
			return "ip"
		}
		return "inspect"
	case strings.HasPrefix(first, "*filter") || strings.HasPrefix(first, "*nat") || strings.HasPrefix(first, "*mangle") || strings.HasPrefix(first, "*raw") || strings.Contains(text, "\nCOMMIT"):
		return "save"
	case strings.HasPrefix(first, "netid") || strings.HasPrefix(first, "state ") || strings.HasPrefix(first, "active ") && strings.Contains(first, "connections") || strings.HasPrefix(first, "user ") && strings.Contains(first, "local address") || strings.HasPrefix(first, "tcp4 ") || strings.HasPrefix(first, "udp4 ") || strings.HasPrefix(first, "tcp ") || strings.HasPrefix(first, "udp ") || strings.HasPrefix(first, "listen "):
		return "sockets"
	case base == "hosts" || strings.HasSuffix(base, ".hosts") || strings.HasPrefix(base, "hosts."):
		return "hosts"
	case strings.HasSuffix(base, ".zone") || strings.HasPrefix(base, "db.") || strings.Contains(text, "$ORIGIN") || strings.Contains(text, "$TTL") || strings.Contains(text, "SOA"):
		return "zone"
	}
	if _, faults := notation.Parse(text); len(faults) == 0 && strings.TrimSpace(text) != "" {
		return "estate"
	}
	return "hosts"
}

// Read reads a source against the estate that it would come to. What it says of the source can be shown as it stands.
func Read(src Source, e *estate.Estate) (intake.Reading, error) {
	r, err := read(src, e)
	if err == nil && src.Most > 0 && len(r.Records) > src.Most {
		return intake.Reading{}, fmt.Errorf("%s has %d records; expected at most %d at a time", intake.Shown(src.Texts[0].Name), len(r.Records), src.Most)
	}
	for i := range r.Faults {
		f := &r.Faults[i]
		f.File, f.What, f.Expected = intake.Shown(f.File), intake.Shown(f.What), intake.Shown(f.Expected)
	}
	for i := range r.Left {
		r.Left[i] = intake.Shown(r.Left[i])
	}
	if err != nil && intake.Shown(err.Error()) != err.Error() {
		err = shown{err}
	}
	return r, err
}

// shown is an error that quotes somebody else's text.
type shown struct{ error }

func (s shown) Error() string { return intake.Shown(s.error.Error()) }
func (s shown) Unwrap() error { return s.error }

func read(src Source, e *estate.Estate) (intake.Reading, error) {
	if len(src.Texts) == 0 {
		return intake.Reading{}, errors.New("there is no file to read")
	}
	for i := range src.Texts {
		if len(src.Texts[i].Text) > MostBytes {
			return intake.Reading{}, fmt.Errorf("%s has %d bytes; expected at most %d", src.Texts[i].Name, len(src.Texts[i].Text), MostBytes)
		}
		src.Texts[i].Text = Decoded(src.Texts[i].Text)
	}
	main := src.Texts[0]
	place := strings.ToLower(strings.TrimSpace(src.Place))
	switch src.Format {
	case "zone":
		return readZone(src, e)
	case "estate":
		return readEstate(main.Name, main.Text), nil
	case "csv":
		return sheet.Read(main.Name, main.Text), nil
	case "machine":
		if src.account != nil {
			return src.account.Reading(e), nil
		}
		a := machine.ReadText(main.Name, main.Text)
		if clean, ok := placeName(a.Host); !ok || clean != a.Host || strings.Contains(clean, "/") {
			return intake.Reading{}, fmt.Errorf("%s is no account of a machine: its first line names none, but %q; expected what steady-compass collect printed", main.Name, a.Host)
		}
		return a.Reading(e), nil
	case "hosts", "sockets", "ip", "compose", "inspect", "nft", "save", "pem", "nginx", "apache", "haproxy":
		clean, ok := placeName(place)
		switch {
		case !ok:
			return intake.Reading{}, ErrNoPlace
		case strings.Contains(clean, "/") && !slices.Contains([]string{"hosts", "sockets", "pem", "nginx", "apache", "haproxy"}, src.Format):
			return intake.Reading{}, errNoHost
		}
		return src.running(readMachine(src, clean, e)), nil
	}
	return intake.Reading{}, unknown(src.Format, Words)
}

// placeName is a host's or container's name as it is kept.
func placeName(text string) (string, bool) {
	p, _, err := notation.ParseLine("listen " + text + " 1 as x")
	if err != nil {
		return "", false
	}
	return p.Record.(*estate.Listen).Place, true
}

// readMachine reads what a machine or container has.
func readMachine(src Source, place string, e *estate.Estate) intake.Reading {
	main := src.Texts[0]
	switch src.Format {
	case "hosts":
		return hostsfile.Read(main.Name, main.Text, place)
	case "pem":
		return pem.Read(src.Texts, place, e)
	case "nginx":
		return webserver.Read(webserver.Braces, src.Texts, place, e)
	case "haproxy":
		return webserver.Read(webserver.Sections, src.Texts, place, e)
	case "apache":
		return webserver.Read(webserver.Tags, src.Texts, place, e)
	case "sockets":
		return sockets.Read(main.Name, main.Text, place).Reading(e)
	case "compose":
		c := compose.Source{Files: src.Texts, Host: place, Project: src.Project, Profiles: src.Profiles, Variables: src.Variables}
		return compose.Read(c, e).Reading(e)
	case "nft", "save":
		read := packetfilter.ReadJSON
		if src.Format == "save" {
			read = packetfilter.ReadSave
		}
		rs, faults := read(main.Name, main.Text)
		r := packetfilter.Source{Host: place, Interfaces: src.interfaces(e)}.Reading(rs, e)
		r.Faults = append(r.Faults, faults...)
		return r
	case "ip":
		a := machine.Account{Host: place}
		for _, t := range src.Texts {
			a.Join(iproute.Read(t.Name, t.Text, place))
		}
		return a.Reading(e)
	}
	var all engine.State
	var faults []intake.FileFault
	for _, t := range src.Texts {
		s, wrong := engine.Parse(t.Name, t.Text)
		faults = append(faults, wrong...)
		all.Containers, all.Networks = append(all.Containers, s.Containers...), append(all.Networks, s.Networks...)
	}
	a, _ := all.Account(place, false)
	a.Faults = append(a.Faults, faults...)
	return a.Reading(e)
}

func readZone(src Source, e *estate.Estate) (intake.Reading, error) {
	audience, err := Askers(src.For)
	if err != nil {
		return intake.Reading{}, err
	}
	main := src.Texts[0].Name
	z := zonefile.Source{Zone: src.Zone, Files: src.Files, Main: main, For: audience, Most: src.Most}
	r, err := zonefile.Read(z, e)
	if errors.Is(err, zonefile.ErrNoZone) {
		name := strings.TrimSuffix(strings.TrimSuffix(strings.TrimPrefix(path.Base(main), "db."), ".zone"), ".txt")
		if clean, ok := estate.CleanHostname(name); ok && strings.Contains(clean, ".") {
			z.Zone = clean
			return zonefile.Read(z, e)
		}
	}
	return r, err
}

// Askers reads a comma list of places that a zone is for.
func Askers(list string) ([]estate.Selector, error) {
	if list == "" {
		return nil, nil
	}
	p, _, err := notation.ParseLine("zone example.invalid for " + list)
	if err != nil {
		return nil, fmt.Errorf("for %s: %w", list, err)
	}
	return p.Record.(*estate.Zone).For, nil
}

func readEstate(file, text string) intake.Reading {
	located, _, faults := notation.ParseLines(text)
	r := intake.Reading{}
	for _, f := range faults {
		r.Faults = intake.AddFault(r.Faults, intake.FileFault{File: file, Line: f.Line, Column: f.Column, What: f.What, Expected: f.Expected})
	}
	for _, l := range located {
		r.Records = append(r.Records, l.Record)
	}
	return r
}

// Write writes a format out: a zone as an asker sees it, a place's hosts file, or a machine's ruleset, whose interfaces have
// the names given for their networks. left says what could not be written.
func Write(word, name, from string, interfaces map[string]string, e *estate.Estate) (text string, left []string, err error) {
	switch word {
	case "zone":
		zone, ok := estate.CleanHostname(name)
		if !ok {
			return "", nil, fmt.Errorf("%q is no zone: expected the name of one", name)
		}
		m := model.Compile(e)
		return zonefile.Write(m.Names, zone, names.Asker{Levels: [][]string{{orInternet(from)}}})
	case "hosts":
		m := model.Compile(e)
		if m.PlaceNamed(strings.ToLower(name)) == nil {
			return "", nil, fmt.Errorf("%q is no host or container: expected one that is recorded", name)
		}
		return hostsfile.Write(e, strings.ToLower(name)), nil, nil
	case "estate":
		return notation.Print(e), nil, nil
	case "csv":
		text, err := sheet.Write(e, name)
		return text, nil, err
	case "nft", "save", "save6":
		rs, left, err := packetfilter.FromRecords(e, strings.ToLower(name), interfaces)
		if err != nil {
			return "", nil, err
		}
		if word == "nft" {
			return packetfilter.WriteJSON(rs), left, nil
		}
		text, more := packetfilter.WriteSave(rs, word == "save6")
		return text, append(left, more...), nil
	}
	return "", nil, unknown(word, Written)
}

func orInternet(from string) string {
	if from == "" {
		return "internet"
	}
	return strings.ToLower(from)
}
