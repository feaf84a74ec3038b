package estate

import (
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/idna"

	"steady-compass/core/netset"
)

// Date is a day, written 2026-12-31; "" where none is given. Dates compare as their text.
type Date string

// Time is midnight UTC at the start of the day; the zero time where none is given.
func (d Date) Time() time.Time {
	t, _ := time.Parse(time.DateOnly, string(d))
	return t
}

// Seconds is a length of time; -1 where none is given.
type Seconds int64

// NotGiven is the Seconds of a duration that a record leaves out.
const NotGiven Seconds = -1

// MaxSeconds is the longest duration that can be written: what a TTL can hold (RFC 2181 §8).
const MaxSeconds Seconds = 1<<31 - 1

var units = []struct {
	letter string
	size   Seconds
}{{"w", 7 * 24 * 3600}, {"d", 24 * 3600}, {"h", 3600}, {"m", 60}, {"s", 1}}

func (s Seconds) String() string {
	for _, u := range units {
		if s != 0 && s%u.size == 0 {
			return strconv.FormatInt(int64(s/u.size), 10) + u.letter
		}
	}
	return "0s"
}

// Ports is a port list as written: the order matters in translations.
type Ports struct {
	Ranges    []netset.PortRange // empty where Any
	Any       bool
	Transport netset.Transport
}

// Set is the ports as a set, whatever the transport.
func (p Ports) Set() netset.Ports {
	if p.Any {
		return netset.AllPorts()
	}
	return netset.PortsOf(p.Ranges...)
}

// Count is how many ports are listed, one listed twice counted twice.
func (p Ports) Count() int {
	if p.Any {
		return netset.MaxPort
	}
	n := 0
	for _, r := range p.Ranges {
		n += r.Len()
	}
	return n
}

// List is the ports without their transport: "80,8000-8010".
func (p Ports) List() string {
	if p.Any {
		return "any"
	}
	words := make([]string, len(p.Ranges))
	for i, r := range p.Ranges {
		words[i] = r.String()
	}
	return strings.Join(words, ",")
}

func (p Ports) String() string {
	switch {
	case p.Any && p.Transport != netset.Both, !p.Any && p.Transport != netset.TCP:
		return p.List() + "/" + p.Transport.String()
	}
	return p.List()
}

// Bind is an address with ports: "[IP:]PORTS". Addr is the zero address where none is written.
type Bind struct {
	Addr netip.Addr
	Ports
}

func (b Bind) String() string {
	switch {
	case !b.Addr.IsValid():
		return b.Ports.String()
	case b.Addr.Is4():
		return b.Addr.String() + ":" + b.Ports.String()
	}
	return "[" + b.Addr.String() + "]:" + b.Ports.String()
}

// Target is where a forward leads: an address, with ports where they differ from the outer ones.
type Target struct {
	Addr  netip.Addr
	Ports Ports // no Ranges and not Any where none are written
}

// Kept says whether the target keeps the outer ports.
func (t Target) Kept() bool { return len(t.Ports.Ranges) == 0 }

func (t Target) String() string {
	switch {
	case t.Kept():
		return t.Addr.String()
	case t.Addr.Is4():
		return t.Addr.String() + ":" + t.Ports.List()
	}
	return "[" + t.Addr.String() + "]:" + t.Ports.List()
}

// Selector is a SOURCE, DEST, ASKER, AUDIENCE or group MEMBER: a word for a set of addresses.
// Exactly one of its fields is set.
type Selector struct {
	Word   string // any, internet, on-link or nobody
	Name   string // a network, host, container or group
	Prefix netip.Prefix
}

func (s Selector) String() string {
	switch {
	case s.Word != "":
		return s.Word
	case s.Name != "":
		return s.Name
	case s.Prefix.IsSingleIP():
		return s.Prefix.Addr().String()
	}
	return s.Prefix.String()
}

// Held is the middle word of an address line: an address, a block routed to the host, or "?".
// Exactly one of its fields is set.
type Held struct {
	Addr    netip.Addr
	Block   netip.Prefix
	Unknown bool // the host holds an address there that nobody knows
}

func (h Held) String() string {
	switch {
	case h.Addr.IsValid():
		return h.Addr.String()
	case h.Block.IsValid():
		return h.Block.String()
	}
	return "?"
}

// Endpoint is one port of an address, a place or a name.
type Endpoint struct {
	Addr netip.Addr // valid where the host part is an address
	Host string     // else its words
	Port uint16     // 0 where none is written
	UDP  bool       // of a tunnel: it is dialled over UDP
}

func (e Endpoint) String() string {
	host := e.Host
	if e.Addr.IsValid() {
		host = e.Addr.String()
	}
	if e.Port == 0 {
		return host
	}
	if e.Addr.Is6() {
		host = "[" + host + "]"
	}
	text := host + ":" + strconv.Itoa(int(e.Port))
	if e.UDP {
		text += "/udp"
	}
	return text
}

// URL is where a site hands on or redirects to (RFC 3986): scheme, host, port, and the rest as written.
type URL struct {
	Scheme string
	Endpoint
	Path string // with query and fragment; "" where none
}

// IsZero says whether no URL is written.
func (u URL) IsZero() bool { return u.Scheme == "" }

// EffectivePort is the port written, else that of the scheme (RFC 9110 §4.2).
func (u URL) EffectivePort() uint16 {
	switch {
	case u.Port != 0:
		return u.Port
	case u.Scheme == "https":
		return 443
	}
	return 80
}

// Transport is the transport that the scheme speaks over.
func (u URL) Transport() netset.Transport {
	if u.Scheme == "udp" {
		return netset.UDP
	}
	return netset.TCP
}

// Encrypted says whether the scheme begins with a TLS handshake.
func (u URL) Encrypted() bool { return u.Scheme == "https" || u.Scheme == "tls" }

func (u URL) String() string {
	if u.IsZero() {
		return ""
	}
	host := u.Endpoint.String()
	if u.Addr.Is6() && u.Port == 0 {
		host = "[" + host + "]"
	}
	return u.Scheme + "://" + host + u.Path
}

// Attachment is a container's attachment in a network, with the addresses written for it.
type Attachment struct {
	Network string
	Addrs   []netip.Addr
}

func (a Attachment) String() string {
	text := a.Network
	for i, ip := range a.Addrs {
		text += string("=+"[min(i, 1)]) + ip.String()
	}
	return text
}

const (
	expectName     = "a name (letters, digits, '-', '_', '.')"
	expectHostname = "a host name"
	expectPorts    = "ports, as 443, 80,443, 8000-8010, 53/udp or any"
	expectIP       = "an IP address"
	expectCIDR     = "a network in CIDR form, as 10.40.0.0/24"
	expectDuration = "a duration, as 90, 5m, 1h, 30d"
	expectDate     = "a date, as 2026-12-31"
	expectURL      = "a URL with http, https, tcp, udp or tls, as http://allsky:3000"
)

var reserved = map[string]bool{"any": true, "internet": true, "on-link": true, "nobody": true, "default": true, "localhost": true, "unchanged": true}

func parseIP(text string) (netip.Addr, bool) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, false
	}
	return a.Unmap(), true
}

func isNameText(text string) bool {
	if text == "" || text[0] == '-' || len(text) > 253 {
		return false
	}
	for i := 0; i < len(text); i++ {
		c := text[i]
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.') {
			return false
		}
	}
	_, ip := parseIP(text)
	return !ip
}

// CleanName makes a name of a text that others wrote: lower case, a dash for what a name cannot have; "" where nothing
// is left.
func CleanName(text string) string {
	name := strings.Map(func(c rune) rune {
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '-', c == '_', c == '.':
			return c
		}
		return '-'
	}, strings.ToLower(text))
	name = strings.Trim(name, "-.")
	if reserved[name] || !isNameText(name) {
		return ""
	}
	return name
}

// parseName reads the name of something of ours, in lower case.
func parseName(w Word, from int, text string) (string, error) {
	lower := strings.ToLower(text)
	switch {
	case w.Quoted:
		return "", faultAt(w, 0, expectName, "a quoted text stands where a name belongs")
	case reserved[lower]:
		return "", faultAt(w, from, expectName, "%q is a reserved word", text)
	case !isNameText(lower):
		if _, ip := parseIP(text); ip {
			return "", faultAt(w, from, expectName, "%q is an address", text)
		}
		return "", faultAt(w, from, expectName, "%q is no name", shorten(text))
	}
	return lower, nil
}

// parsePlace reads a host name or a container's host/name.
func parsePlace(w Word, from int, text string) (string, error) {
	host, container, slash := strings.Cut(text, "/")
	name, err := parseName(w, from, host)
	if err != nil || !slash {
		return name, err
	}
	inner, err := parseName(w, from+len(host)+1, container)
	return name + "/" + inner, err
}

// CleanHostname is a DNS name in the form kept here: lower case, A-labels (RFC 5891), no
// trailing dot, the root as ".". It says false where the text is no name (RFC 1035 §2.3.4).
func CleanHostname(text string) (string, bool) {
	if text == "." {
		return ".", true
	}
	name := strings.ToLower(strings.TrimSuffix(text, "."))
	for i := 0; i < len(name); i++ {
		if name[i] >= 0x80 {
			ascii, err := idna.Lookup.ToASCII(strings.TrimPrefix(name, "*."))
			if err != nil {
				return "", false
			}
			if strings.HasPrefix(name, "*.") {
				ascii = "*." + ascii
			}
			name = ascii
			break
		}
	}
	if name == "" || len(name) > 253 {
		return "", false
	}
	for label := range strings.SplitSeq(name, ".") {
		if label == "" || len(label) > 63 {
			return "", false
		}
		for i := 0; i < len(label); i++ {
			c := label[i]
			if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '*' && label == "*" || c == '/') {
				return "", false
			}
		}
	}
	return name, true
}

func parseHostname(w Word, from int, text string) (string, error) {
	if w.Quoted {
		return "", faultAt(w, 0, expectHostname, "a quoted text stands where a host name belongs")
	}
	if _, ip := parseIP(text); ip {
		return "", faultAt(w, from, expectHostname, "%q is an address", text)
	}
	name, ok := CleanHostname(text)
	if !ok {
		return "", faultAt(w, from, expectHostname, "%q is no host name", shorten(text))
	}
	return name, nil
}

// nowhere is the way of what is thrown away.
const nowhere = "nowhere"

func printGateway(a netip.Addr) string {
	if !a.IsValid() {
		return nowhere
	}
	return a.String()
}

func parseGateway(w Word, from int, text string) (netip.Addr, error) {
	if strings.EqualFold(text, nowhere) && !w.Quoted {
		return netip.Addr{}, nil
	}
	a, err := parseAddr(w, from, text)
	if err == nil && a.IsUnspecified() {
		return netip.Addr{}, faultAt(w, from, "an IP address, or nowhere", "%s is nobody's address", a)
	}
	return a, err
}

func parseAddr(w Word, from int, text string) (netip.Addr, error) {
	if a, ok := parseIP(text); ok && !w.Quoted {
		return a, nil
	}
	return netip.Addr{}, faultAt(w, from, expectIP, "%q is no IP address", shorten(text))
}

// parsePrefix reads a CIDR; advise is what to write where host bits are set.
func parsePrefix(w Word, from int, text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil || w.Quoted || p.Addr().Is4In6() {
		return netip.Prefix{}, faultAt(w, from, expectCIDR, "%q is no network", shorten(text))
	}
	if p != p.Masked() {
		return netip.Prefix{}, faultAt(w, from, p.Masked().String(), "%s has bits set behind its length", text)
	}
	return p, nil
}

func parsePort(text string) (uint16, bool) {
	n, err := strconv.ParseUint(text, 10, 16)
	if err != nil || n == 0 || text[0] == '+' {
		return 0, false
	}
	return uint16(n), true
}

// ParsePorts reads a port list with its transport; from is where it begins in the word.
func ParsePorts(w Word, from int, text string) (Ports, error) {
	list, transport, slash := strings.Cut(text, "/")
	ports := Ports{Transport: netset.TCP}
	if w.Quoted {
		return ports, faultAt(w, 0, expectPorts, "a quoted text stands where ports belong")
	}
	lower := strings.ToLower(list)
	if lower == "any" {
		ports.Any, ports.Transport = true, netset.Both
	}
	if slash {
		switch strings.ToLower(transport) {
		case "tcp":
			ports.Transport = netset.TCP
		case "udp":
			ports.Transport = netset.UDP
		case "tcp+udp", "udp+tcp":
			ports.Transport = netset.Both
		default:
			fault := faultAt(w, from+len(list)+1, "tcp, udp or tcp+udp, once behind the whole list", "%q is no transport", shorten(transport))
			fault.Nearest = Nearest(transport, []string{"tcp", "udp", "tcp+udp"})
			return ports, fault
		}
	}
	if ports.Any {
		return ports, nil
	}
	at := from
	for item := range strings.SplitSeq(list, ",") {
		low, high, dash := strings.Cut(item, "-")
		lo, ok := parsePort(low)
		hi, okHigh := lo, true
		if dash {
			hi, okHigh = parsePort(high)
		}
		switch {
		case !ok || !okHigh:
			fault := faultAt(w, at, expectPorts, "%q is no port", shorten(item))
			if n, err := strconv.Atoi(item); err == nil && (n < 1 || n > netset.MaxPort) {
				fault.Expected = "a port from 1 to 65535"
			}
			return ports, fault
		case hi < lo:
			return ports, faultAt(w, at, fmt.Sprintf("%d-%d", hi, lo), "the range %s runs backwards", item)
		}
		ports.Ranges = append(ports.Ranges, netset.PortRange{Lo: lo, Hi: hi})
		at += len(item) + 1
	}
	return ports, nil
}

// splitEndpoint parts "host:rest", with an IPv6 address in brackets. rest is "" where there is none.
func splitEndpoint(text string) (host, rest string, at int, ok bool) {
	if strings.HasPrefix(text, "[") {
		end := strings.Index(text, "]")
		if end < 0 {
			return "", "", 0, false
		}
		host = text[1:end]
		if a, isIP := parseIP(host); !isIP || a.Is4() && !strings.Contains(host, ":") {
			return "", "", 0, false
		}
		if end+1 == len(text) {
			return host, "", 0, true
		}
		if text[end+1] != ':' || end+2 == len(text) {
			return "", "", 0, false
		}
		return host, text[end+2:], end + 2, true
	}
	i := strings.LastIndex(text, ":")
	if _, isIP := parseIP(text); isIP || i < 0 {
		return text, "", 0, text != ""
	}
	return text[:i], text[i+1:], i + 1, i > 0 && i+1 < len(text)
}

// parseBind reads "[IP:]PORTS". "*:443" is the same as "443".
func parseBind(w Word, from int, text string) (Bind, error) {
	const expected = "ports, or an address and ports, as 443, 10.40.8.10:443 or [2001:db8::20]:443"
	host, rest, at, ok := splitEndpoint(text)
	if !ok {
		return Bind{}, faultAt(w, from, expected, "%q is neither", shorten(text))
	}
	if rest == "" {
		if _, isIP := parseIP(host); isIP {
			return Bind{}, faultAt(w, from+len(text), expected, "%s has no port", text)
		}
		ports, err := ParsePorts(w, from, host)
		return Bind{Ports: ports}, err
	}
	var bind Bind
	if host != "*" {
		addr, err := parseAddr(w, from, host)
		if err != nil {
			return Bind{}, err
		}
		bind.Addr = addr
	}
	ports, err := ParsePorts(w, from+at, rest)
	bind.Ports = ports
	return bind, err
}

func parseTarget(w Word, from int, text string) (Target, error) {
	host, rest, at, ok := splitEndpoint(text)
	if !ok {
		return Target{}, faultAt(w, from, "an address, with or without ports, as 10.40.8.10 or 10.40.8.10:22", "%q is none", shorten(text))
	}
	addr, err := parseAddr(w, from, host)
	if err != nil || rest == "" {
		return Target{Addr: addr}, err
	}
	ports, err := parseInnerPorts(w, from+at, rest)
	if err == nil && ports.Any {
		return Target{}, faultAt(w, from+at, "the address alone, where the ports stay as they are", "'any' cannot stand behind the address")
	}
	return Target{Addr: addr, Ports: ports}, err
}

// parseInnerPorts reads the ports behind `to`, which take the left side's transport.
func parseInnerPorts(w Word, from int, text string) (Ports, error) {
	if i := strings.Index(text, "/"); i >= 0 {
		return Ports{}, faultAt(w, from+i, "ports alone", "what stands after 'to' takes the transport of the ports before it")
	}
	return ParsePorts(w, from, text)
}

func parseEndpoint(w Word, from int, text string, host func(w Word, from int, text string) (string, error)) (Endpoint, error) {
	name, rest, at, ok := splitEndpoint(text)
	if !ok || w.Quoted {
		return Endpoint{}, faultAt(w, from, "a host and a port, as azimuth:443 or [2001:db8::20]:443", "%q is none", shorten(text))
	}
	var e Endpoint
	if rest != "" {
		if e.Port, ok = parsePort(rest); !ok {
			return e, faultAt(w, from+at, "a port from 1 to 65535", "%q is no port", shorten(rest))
		}
	}
	if a, isIP := parseIP(name); isIP {
		e.Addr = a
		return e, nil
	}
	var err error
	e.Host, err = host(w, from, name)
	return e, err
}

// ParseURL reads a URL of one of the schemes that a site can hand on or redirect to.
func ParseURL(w Word, from int, text string) (URL, error) {
	scheme, rest, ok := strings.Cut(text, "://")
	scheme = strings.ToLower(scheme)
	if !ok || w.Quoted {
		return URL{}, faultAt(w, from, expectURL, "%q is no URL", shorten(text))
	}
	switch scheme {
	case "http", "https", "tcp", "udp", "tls":
	default:
		fault := faultAt(w, from, expectURL, "%q is no scheme known here", shorten(scheme))
		fault.Nearest = Nearest(scheme, []string{"http", "https", "tcp", "udp", "tls"})
		return URL{}, fault
	}
	parsed, err := url.Parse(text)
	if err != nil || parsed.User != nil || parsed.Host == "" || parsed.Opaque != "" {
		return URL{}, faultAt(w, from, expectURL, "%q is no URL", shorten(text))
	}
	end := strings.IndexAny(rest, "/?#")
	if end < 0 {
		end = len(rest)
	}
	u := URL{Scheme: scheme, Path: rest[end:]}
	u.Endpoint, err = parseEndpoint(w, from+len(scheme)+3, rest[:end], parseURLHost)
	switch {
	case err != nil:
		return URL{}, err
	case u.Port == 0 && scheme != "http" && scheme != "https":
		return URL{}, faultAt(w, from+len(text), "a port, as "+scheme+"://host:8883", "a %s URL has no port of its own", scheme)
	case u.Path != "" && scheme != "http" && scheme != "https":
		return URL{}, faultAt(w, from+len(scheme)+3+end, "the end of the URL", "a %s URL has no path", scheme)
	}
	return u, nil
}

// parseURLHost reads a name or a container's alias. A place's host/name cannot stand in a URL.
func parseURLHost(w Word, from int, text string) (string, error) {
	name, ok := CleanHostname(text)
	if !ok || strings.ContainsAny(name, "*/") {
		return "", faultAt(w, from, "a host name or an address", "%q is none", shorten(text))
	}
	return name, nil
}

func parseSeconds(w Word, from int, text string) (Seconds, error) {
	digits, size := strings.ToLower(text), Seconds(1)
	for _, u := range units {
		if rest, ok := strings.CutSuffix(digits, u.letter); ok {
			digits, size = rest, u.size
			break
		}
	}
	n, err := strconv.ParseUint(digits, 10, 31)
	if err != nil || w.Quoted || Seconds(n)*size > MaxSeconds {
		return NotGiven, faultAt(w, from, expectDuration, "%q is no duration", shorten(text))
	}
	return Seconds(n) * size, nil
}

func parseDate(w Word, from int, text string) (Date, error) {
	if t, err := time.Parse(time.DateOnly, text); err != nil || w.Quoted || t.Year() < 1 {
		return "", faultAt(w, from, expectDate, "%q is no day of the calendar", shorten(text))
	}
	return Date(text), nil
}

// parseSelector reads a word for a set of addresses; words are the reserved ones allowed here.
func parseSelector(words ...string) func(Word, int, string) (Selector, error) {
	expected := "a network, host, container, group, address or CIDR"
	if len(words) > 0 {
		expected = strings.Join(words, ", ") + ", " + expected
	}
	return func(w Word, from int, text string) (Selector, error) {
		lower := strings.ToLower(text)
		for _, word := range words {
			if lower == word && !w.Quoted {
				return Selector{Word: word}, nil
			}
		}
		if a, ok := parseIP(text); ok && !w.Quoted {
			return Selector{Prefix: netip.PrefixFrom(a, a.BitLen())}, nil
		}
		if head, _, ok := strings.Cut(text, "/"); ok {
			if _, isIP := parseIP(head); isIP {
				p, err := parsePrefix(w, from, text)
				return Selector{Prefix: p}, err
			}
		}
		name, err := parsePlace(w, from, text)
		if fault, ok := err.(*Fault); ok {
			fault.Expected = expected
			fault.Nearest = Nearest(text, words)
		}
		return Selector{Name: name}, err
	}
}

func parseHeld(w Word, from int, text string) (Held, error) {
	const expected = "an address, a CIDR routed to the host, or ?"
	if text == "?" && !w.Quoted {
		return Held{Unknown: true}, nil
	}
	if strings.Contains(text, "/") {
		p, err := netip.ParsePrefix(text)
		if err != nil || p.Addr().Is4In6() {
			return Held{}, faultAt(w, from, expected, "%q is none", shorten(text))
		}
		if p != p.Masked() {
			return Held{}, faultAt(w, from, fmt.Sprintf("%s; the length belongs to the network", p.Addr()), "%s has bits set behind its length", text)
		}
		return Held{Block: p}, nil
	}
	a, ok := parseIP(text)
	if !ok || w.Quoted {
		return Held{}, faultAt(w, from, expected, "%q is none", shorten(text))
	}
	return Held{Addr: a}, nil
}

func parseAttachment(w Word, from int, text string) (Attachment, error) {
	network, addrs, has := strings.Cut(text, "=")
	name, err := parseName(w, from, network)
	a := Attachment{Network: name}
	if err != nil || !has {
		return a, err
	}
	at := from + len(network) + 1
	for item := range strings.SplitSeq(addrs, "+") {
		ip, err := parseAddr(w, at, item)
		if err != nil {
			return a, err
		}
		a.Addrs = append(a.Addrs, ip)
		at += len(item) + 1
	}
	return a, nil
}

// ParseSeconds reads a duration, as 90, 5m or 30d.
func ParseSeconds(text string) (Seconds, error) { return parseSeconds(Word{Text: text}, 0, text) }
