package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// Kind is one kind of record, declared once: its words, fields, storage and meaning.
type Kind struct {
	Word    string
	Fields  []Field
	Placed  bool    // ordered within its first field; a new line may say `at N` behind it
	Defines RefKind // what its first field brings in; 0 where nothing refers to it
	Single  bool    // at most one record

	index int
	make  func() Record
	clone func(Record) Record
	says  func(Record) string
	check func(Record) (what, expected string)
}

// New is an empty record of the kind, every field absent.
func (k *Kind) New() Record {
	r := k.make()
	for i := range k.Fields {
		k.Fields[i].reset(r)
	}
	return r
}

// Says is the record's meaning in one sentence.
func (k *Kind) Says(r Record) string { return k.says(r) }

// Kinds are all kinds in the order in which they are printed.
var Kinds = []*Kind{
	nameKind, networkKind, hostKind, addressKind, routeKind, groupKind, zoneKind, dnsKind, hostsEntryKind, forwardKind, outboundKind, filterKind, ruleKind,
	containerKind, mapKind, listenKind, tunnelKind, siteKind, poolKind, memberKind, certKind, intentKind, acceptanceKind,
}

func init() {
	for i, k := range Kinds {
		k.index = i
	}
}

// Usage is how a line of the kind is written: required parts plain, options in brackets.
func (k *Kind) Usage() string {
	words := []string{k.Word}
	for i := range k.Fields {
		f := &k.Fields[i]
		word := strings.ToUpper(strings.ReplaceAll(f.Column, "_", "-"))
		if len(f.Choices) > 0 && !f.List && f.Wants == 0 && f.Column != "target" && f.Column != "via" && k.Word != "dns" {
			word = "(" + strings.Join(f.Choices, "|") + ")"
		}
		switch {
		case f.Flag:
			word = f.Lead
		case f.Lead != "":
			word = f.Lead + " " + word
		}
		if !f.Required {
			word = "[" + word + "]"
		}
		words = append(words, word)
	}
	return strings.Join(words, " ")
}

// KindNamed finds a kind by its word; nil where there is none.
func KindNamed(word string) *Kind {
	lower := strings.ToLower(word)
	for _, k := range Kinds {
		if k.Word == lower {
			return k
		}
	}
	return nil
}

// KindWords are the first words that a line may have.
func KindWords() []string {
	words := make([]string, len(Kinds))
	for i, k := range Kinds {
		words[i] = k.Word
	}
	return words
}

// declare makes a kind of its fields, and those that every kind has.
func declare[R any, P interface {
	*R
	Record
}](k Kind, says func(*R) string, check func(*R) (what, expected string), fields ...[]Field) *Kind {
	k.Fields = slices.Concat(fields...)
	k.Fields = append(k.Fields,
		flag("off", "off", func(r *R) *bool { return &P(r).Meta().Off }),
		opt("until", "until", dateForm, func(r *R) *Date { return &P(r).Meta().Until }),
		opt("note", "note", quotedForm, func(r *R) *string { return &P(r).Meta().Note }))
	k.make = func() Record { return P(new(R)) }
	k.clone = func(r Record) Record { c := *any(r).(*R); return P(&c) }
	k.says = func(r Record) string { return says(any(r).(*R)) }
	k.check = func(r Record) (string, string) {
		if check == nil {
			return "", ""
		}
		return check(any(r).(*R))
	}
	return &k
}

var (
	sources   = list(selectorForm("any", "internet", "on-link"))
	askers    = list(selectorForm())
	audiences = list(selectorForm("internet", "nobody"))
)

var nameKind = declare(Kind{Word: "estate", Single: true}, sayName, nil, some(
	pos("name", quotedForm, func(r *Name) *string { return &r.Text })))

var networkKind = declare(Kind{Word: "network", Defines: RefNetwork}, sayNetwork, checkNetwork, some(
	pos("name", newName, func(r *Network) *string { return &r.Name }),
	pos("cidrs", list(prefixForm), func(r *Network) *[]netip.Prefix { return &r.Prefixes }),
	opt("on", "host", nameForm(RefHost), func(r *Network) *string { return &r.On }),
	flag("routed", "routed", func(r *Network) *bool { return &r.Routed }),
	flag("filtered", "filtered", func(r *Network) *bool { return &r.Filtered })))

var hostKind = declare(Kind{Word: "host", Defines: RefHost}, sayHost, nil, some(
	pos("name", newName, func(r *Host) *string { return &r.Name }),
	flag("router", "router", func(r *Host) *bool { return &r.Router }),
	flag("outside", "outside", func(r *Host) *bool { return &r.Outside }),
	flag("unlisted", "unlisted", func(r *Host) *bool { return &r.Unlisted })))

var addressKind = declare(Kind{Word: "address"}, sayAddress, nil, some(
	pos("hosts", list(nameForm(RefHost)), func(r *Address) *[]string { return &r.Hosts }),
	pos("held", heldForm, func(r *Address) *Held { return &r.Held }),
	pos("network", networkOrInternet, func(r *Address) *string { return &r.Network }),
	flag("dynamic", "dynamic", func(r *Address) *bool { return &r.Dynamic })))

var routeKind = declare(Kind{Word: "route"}, sayRoute, checkRoute, some(
	pos("host", nameForm(RefHost), func(r *Route) *string { return &r.Host }),
	pos("destination", destination, func(r *Route) *string { return &r.To }),
	led("via", "via", gatewayForm, func(r *Route) *netip.Addr { return &r.Via })))

var groupKind = declare(Kind{Word: "group", Defines: RefGroup}, sayGroup, nil, some(
	pos("name", newName, func(r *Group) *string { return &r.Name }),
	pos("members", list(selectorForm()), func(r *Group) *[]Selector { return &r.Members })))

var zoneKind = declare(Kind{Word: "zone", Defines: RefZone}, sayZone, nil, some(
	pos("name", hostname, func(r *Zone) *string { return &r.Name }),
	opt("ttl", "ttl", durationForm, func(r *Zone) *Seconds { return &r.TTL }),
	opt("expires", "expires", dateForm, func(r *Zone) *Date { return &r.Expires }),
	opt("for", "askers", askers, func(r *Zone) *[]Selector { return &r.For }),
	opt("without", "without", list(enum("wildcard", "apex-alias")), func(r *Zone) *[]string { return &r.Without })))

var dnsKind = declare(Kind{Word: "dns"}, sayDNS, checkDNS, some(
	pos("owner", hostname, func(r *DNS) *string { return &r.Owner }),
	pos("type", typeForm, func(r *DNS) *string { return &r.Type }),
	dnsValue(),
	opt("dynamic", "dynamic", nameForm(RefHost), func(r *DNS) *string { return &r.Dynamic }),
	opt("every", "every", durationForm, func(r *DNS) *Seconds { return &r.Every }),
	opt("ttl", "ttl", durationForm, func(r *DNS) *Seconds { return &r.TTL }),
	opt("for", "askers", askers, func(r *DNS) *[]Selector { return &r.For })))

var hostsEntryKind = declare(Kind{Word: "name"}, sayHostsEntry, nil, some(
	pos("hostname", hostname, func(r *HostsEntry) *string { return &r.Hostname }),
	pos("address", addrForm, func(r *HostsEntry) *netip.Addr { return &r.Addr }),
	led("on", "place", placeForm, func(r *HostsEntry) *string { return &r.Place })))

var forwardKind = declare(Kind{Word: "forward", Placed: true}, sayForward, checkForward, some(
	pos("router", nameForm(RefHost), func(r *Forward) *string { return &r.Router }),
	pos("bind", bindForm, func(r *Forward) *Bind { return &r.Bind }),
	forwardTo(),
	opt("from", "sources", sources, func(r *Forward) *[]Selector { return &r.From })),
	excluding("inside or hairpin",
		flag("inside", "inside", func(r *Forward) *bool { return &r.Inside }),
		flag("hairpin", "hairpin", func(r *Forward) *bool { return &r.Hairpin })))

var outboundKind = declare(Kind{Word: "outbound", Placed: true}, sayOutbound, nil, some(
	pos("router", nameForm(RefHost), func(r *Outbound) *string { return &r.Router }),
	opt("from", "sources", sources, func(r *Outbound) *[]Selector { return &r.From }),
	opt("leaving", "leaving", networkOrInternet, func(r *Outbound) *string { return &r.Leaving }),
	required(opt("as", "rewritten", rewriteForm, func(r *Outbound) *string { return &r.As }))))

var filterKind = declare(Kind{Word: "filter", Placed: true, Defines: RefFilter}, sayFilter, nil, some(
	pos("name", newName, func(r *Filter) *string { return &r.Name }),
	led("on", "machines", list(nameForm(RefHost|RefGroup)), func(r *Filter) *[]string { return &r.On }),
	pos("hook", enum("arriving", "input", "through", "output", "departing"), func(r *Filter) *string { return &r.Hook }),
	led("otherwise", "otherwise", enum("pass", "drop", "refuse"), func(r *Filter) *string { return &r.Otherwise }),
	oneOf("family", func(r *Filter) *string { return &r.Family }, "ipv4", "ipv6"),
	flag("drop-wins", "drop_wins", func(r *Filter) *bool { return &r.DropWins })),
	excluding("stateless or strict",
		flag("stateless", "stateless", func(r *Filter) *bool { return &r.Stateless }),
		flag("strict", "strict", func(r *Filter) *bool { return &r.Strict })), some(
		flag("loopback-too", "loopback_too", func(r *Filter) *bool { return &r.LoopbackToo }),
		flag("guards-containers", "guards_containers", func(r *Filter) *bool { return &r.GuardsContainers })))

var ruleKind = declare(Kind{Word: "rule", Placed: true}, sayRule, nil, some(
	pos("filter", nameForm(RefFilter), func(r *Rule) *string { return &r.Filter }),
	pos("action", enum("pass", "drop", "refuse", "unknown"), func(r *Rule) *string { return &r.Action }),
	pos("ports", portsForm, func(r *Rule) *Ports { return &r.Ports }),
	opt("from", "sources", sources, func(r *Rule) *[]Selector { return &r.From }),
	opt("to", "destinations", sources, func(r *Rule) *[]Selector { return &r.To }),
	opt("entering", "entering", networkOrInternet, func(r *Rule) *string { return &r.Entering }),
	opt("leaving", "leaving", networkOrInternet, func(r *Rule) *string { return &r.Leaving })))

var containerKind = declare(Kind{Word: "container", Defines: RefContainer}, sayContainer, checkContainer, some(
	pos("name", newContainer, func(r *Container) *string { return &r.Name })),
	excluding("in or shares-host",
		opt("in", "networks", list(attachment), func(r *Container) *[]Attachment { return &r.In })), some(
		opt("alias", "aliases", list(newName), func(r *Container) *[]string { return &r.Aliases })),
	excluding("in or shares-host",
		flag("shares-host", "shares_host", func(r *Container) *bool { return &r.SharesHost })))

var mapKind = declare(Kind{Word: "map", Placed: true}, sayMap, checkMap, some(
	pos("container", containerForm, func(r *Map) *string { return &r.Container }),
	pos("bind", bindForm, func(r *Map) *Bind { return &r.Bind }),
	led("to", "inner", innerPorts, func(r *Map) *Ports { return &r.To }),
	flag("no-relay", "no_relay", func(r *Map) *bool { return &r.NoRelay })))

var listenKind = declare(Kind{Word: "listen"}, sayListen, nil, some(
	pos("place", placeForm, func(r *Listen) *string { return &r.Place }),
	pos("bind", bindForm, func(r *Listen) *Bind { return &r.Bind }),
	led("as", "service", newName, func(r *Listen) *string { return &r.Service })),
	excluding("tls or passthrough",
		flag("tls", "tls", func(r *Listen) *bool { return &r.TLS }),
		flag("passthrough", "passthrough", func(r *Listen) *bool { return &r.Passthrough })), some(
		spare(opt("cert", "certs", list(nameForm(RefCert)), func(r *Listen) *[]string { return &r.Certs })),
		flag("first-answers", "first_answers", func(r *Listen) *bool { return &r.FirstAnswers }),
		flag("in-order", "in_order", func(r *Listen) *bool { return &r.InOrder }),
		flag("shared", "shared", func(r *Listen) *bool { return &r.Shared })))

var tunnelKind = declare(Kind{Word: "tunnel", Defines: RefTunnel}, sayTunnel, nil, some(
	pos("name", newName, func(r *Tunnel) *string { return &r.Name }),
	led("from", "place", placeForm, func(r *Tunnel) *string { return &r.From }),
	led("to", "target", tunnelEnd, func(r *Tunnel) *Endpoint { return &r.To })))

var siteKind = declare(Kind{Word: "site", Placed: true}, saySite, checkSite, some(
	pos("service", nameForm(RefService), func(r *Site) *string { return &r.Service }),
	pos("names", list(siteName), func(r *Site) *[]string { return &r.Names }),
	opt("at", "bind", bindForm, func(r *Site) *Bind { return &r.At }),
	opt("path", "path", sitePath, func(r *Site) *string { return &r.Path })),
	excluding("to, redirect, files or unknown",
		siteTo(),
		opt("redirect", "redirect", redirectForm, func(r *Site) *Redirect { return &r.Redirect }),
		siteFiles(),
		flag("unknown", "unknown", func(r *Site) *bool { return &r.Unknown })), some(
		opt("speaking", "speaking", enum("http", "https", "tcp", "tls", "udp"), func(r *Site) *string { return &r.Speaking }),
		opt("asking", "asking", askingForm, func(r *Site) *string { return &r.Asking }),
		flag("verified", "verified", func(r *Site) *bool { return &r.Verified }),
		opt("through", "tunnel", nameForm(RefTunnel), func(r *Site) *string { return &r.Through }),
		flag("default", "is_default", func(r *Site) *bool { return &r.Default }),
		opt("guard", "guard", guardForm, func(r *Site) *Guard { return &r.Guard }),
		opt("sources", "sources", sources, func(r *Site) *[]Selector { return &r.Sources }),
		spare(opt("cert", "cert", nameForm(RefCert), func(r *Site) *string { return &r.Cert }))))

var poolKind = declare(Kind{Word: "pool", Defines: RefPool}, sayPool, checkPool, some(
	pos("name", newName, func(r *Pool) *string { return &r.Name }),
	oneOf("turn", func(r *Pool) *string { return &r.Turn }, "in-turn", "least-busy", "random"),
	flag("sticky", "sticky", func(r *Pool) *bool { return &r.Sticky }),
	opt("check", "check_port", countForm("a port", 1, 65535), func(r *Pool) *int { return &r.Check }),
	opt("path", "path", pathForm, func(r *Pool) *string { return &r.Path }),
	flag("tls", "tls", func(r *Pool) *bool { return &r.TLS }),
	opt("every", "every", durationForm, func(r *Pool) *Seconds { return &r.Every }),
	opt("up-after", "up_after", countForm("a count", 1, 1000), func(r *Pool) *int { return &r.UpAfter }),
	opt("down-after", "down_after", countForm("a count", 1, 1000), func(r *Pool) *int { return &r.DownAfter }),
	opt("within", "within", durationForm, func(r *Pool) *Seconds { return &r.Within })))

var memberKind = declare(Kind{Word: "member"}, sayMember, nil, some(
	pos("pool", nameForm(RefPool), func(r *Member) *string { return &r.Pool }),
	pos("endpoint", endpointForm, func(r *Member) *Endpoint { return &r.At }),
	opt("share", "share", countForm("a share", 0, 1_000_000), func(r *Member) *int { return &r.Share }),
	flag("spare", "spare", func(r *Member) *bool { return &r.Spare }),
	flag("out", "is_out", func(r *Member) *bool { return &r.Out })))

var certKind = declare(Kind{Word: "cert", Defines: RefCert}, sayCert, nil, some(
	pos("name", newName, func(r *Cert) *string { return &r.Name }),
	led("for", "hostnames", list(certified), func(r *Cert) *[]string { return &r.For }),
	opt("expires", "expires", dateForm, func(r *Cert) *Date { return &r.Expires }),
	required(opt("on", "places", list(placeForm), func(r *Cert) *[]string { return &r.On })),
	opt("by", "method", enum("http-01", "dns-01", "tls-alpn-01", "hand"), func(r *Cert) *string { return &r.By }),
	flag("alone", "alone", func(r *Cert) *bool { return &r.Alone }),
	spare(opt("through", "service", nameForm(RefService), func(r *Cert) *string { return &r.Through })),
	opt("renew", "renew", durationForm, func(r *Cert) *Seconds { return &r.Renew }),
	opt("every", "every", durationForm, func(r *Cert) *Seconds { return &r.Every }),
	flag("trial", "trial", func(r *Cert) *bool { return &r.Trial })))

var intentKind = declare(Kind{Word: "intend"}, sayIntent, nil, some(
	pos("target", intendTarget, func(r *Intent) *string { return &r.Target }),
	pos("ports", portsForm, func(r *Intent) *Ports { return &r.Ports }),
	led("for", "audience", audiences, func(r *Intent) *[]Selector { return &r.For }),
	spare(opt("reaching", "reaching", reachingForm, func(r *Intent) *Endpoint { return &r.Reaching })),
	flag("guarded", "guarded", func(r *Intent) *bool { return &r.Guarded })))

var acceptanceKind = declare(Kind{Word: "accept"}, sayAcceptance, checkAcceptance, some(
	pos("code", codeForm, func(r *Acceptance) *string { return &r.Code }),
	pos("subject", subjectForm, func(r *Acceptance) *string { return &r.Subject })))

func (*Name) kind() *Kind       { return nameKind }
func (*Network) kind() *Kind    { return networkKind }
func (*Host) kind() *Kind       { return hostKind }
func (*Address) kind() *Kind    { return addressKind }
func (*Route) kind() *Kind      { return routeKind }
func (*Group) kind() *Kind      { return groupKind }
func (*Zone) kind() *Kind       { return zoneKind }
func (*DNS) kind() *Kind        { return dnsKind }
func (*HostsEntry) kind() *Kind { return hostsEntryKind }
func (*Forward) kind() *Kind    { return forwardKind }
func (*Outbound) kind() *Kind   { return outboundKind }
func (*Filter) kind() *Kind     { return filterKind }
func (*Rule) kind() *Kind       { return ruleKind }
func (*Container) kind() *Kind  { return containerKind }
func (*Map) kind() *Kind        { return mapKind }
func (*Listen) kind() *Kind     { return listenKind }
func (*Tunnel) kind() *Kind     { return tunnelKind }
func (*Site) kind() *Kind       { return siteKind }
func (*Pool) kind() *Kind       { return poolKind }
func (*Member) kind() *Kind     { return memberKind }
func (*Cert) kind() *Kind       { return certKind }
func (*Intent) kind() *Kind     { return intentKind }
func (*Acceptance) kind() *Kind { return acceptanceKind }

// ---- fields that are more than one word behind a lead

var typeForm = form[string]{
	expected: "a record type, as A, AAAA, CNAME, MX, TXT or ALIAS", choices: []string{"A", "AAAA", "ALIAS", "CNAME", "MX", "TXT", "NS", "SRV", "CAA", "DNAME", "PTR", "SOA", "HTTPS", "SVCB", "TLSA"}, print: asIs,
	parse: func(w Word, from int, text string) (string, error) {
		upper := strings.ToUpper(text)
		if _, known := dns.StringToType[upper]; !w.Quoted && (known && !metaTypes[upper] || upper == "ALIAS" || unknownType(upper)) {
			return upper, nil
		}
		fault := faultAt(w, from, "a record type, as A, AAAA, CNAME, MX, TXT or ALIAS", "%q is no record type", shorten(text))
		fault.Nearest = Nearest(upper, []string{"A", "AAAA", "ALIAS", "CNAME", "DNAME", "MX", "NS", "TXT", "SRV", "CAA", "PTR", "SOA", "TLSA", "SSHFP", "HTTPS", "SVCB"})
		return "", fault
	},
}

// metaTypes stand in questions only, or are no record that one writes down.
var metaTypes = map[string]bool{"ANY": true, "AXFR": true, "IXFR": true, "MAILA": true, "MAILB": true, "OPT": true, "TSIG": true, "TKEY": true, "None": true, "NONE": true, "RESERVED": true, "Reserved": true}

// unknownType says whether text is TYPE and a number (RFC 3597 §5).
func unknownType(text string) bool {
	digits, ok := strings.CutPrefix(text, "TYPE")
	if !ok || digits == "" || len(digits) > 5 || digits[0] == '0' && len(digits) > 1 {
		return false
	}
	n := 0
	for _, c := range digits {
		if c < '0' || c > '9' {
			return false
		}
		n = n*10 + int(c-'0')
	}
	return n <= 65535
}

// dnsStops are the bare words that end a value.
var dnsStops = map[string]bool{"ttl": true, "for": true, "off": true, "until": true, "note": true}

func dnsValue() Field {
	const expected = "the record's value, as in a zone file"
	get := func(r Record) *DNS { return r.(*DNS) }
	return Field{
		Column: "value", Expected: expected, Wants: RefHostname, Required: true, Instead: "dynamic",
		reset: func(r Record) { get(r).Value = "" },
		take: func(r Record, w *Words) error {
			rec := get(r)
			first, ok := w.Peek()
			if !ok {
				return w.Missing(expected + ", or dynamic and a host")
			}
			if (rec.Type == "A" || rec.Type == "AAAA") && !first.Quoted && strings.EqualFold(first.Text, "dynamic") {
				return nil // the option that follows
			}
			var raw []string
			for {
				word, ok := w.Peek()
				if !ok || !word.Quoted && dnsStops[strings.ToLower(word.Text)] {
					break
				}
				w.TakeRaw()
				raw = append(raw, word.Raw)
			}
			if len(raw) == 0 {
				return faultAt(first, 0, expected, "a %s record needs a value", rec.Type)
			}
			value, err := cleanRData(rec.Owner, rec.Type, raw, first)
			words := strings.Split(value, " ")
			if last := len(words) - 1; dnsStops[words[last]] {
				words[last] += "." // a name that is called as a word that ends the value: it was written so
			}
			rec.Value = strings.Join(words, " ")
			return err
		},
		load:  func(r Record, values []string) error { get(r).Value = strings.Join(values, " "); return nil },
		print: func(r Record) string { return get(r).Value },
		values: func(r Record) []string {
			if v := get(r).Value; v != "" {
				return []string{v}
			}
			return nil
		},
	}
}

// nameTypes have one host name as their value.
var nameTypes = map[string]bool{"CNAME": true, "ALIAS": true, "NS": true, "DNAME": true, "PTR": true}

// cleanRData checks a value by its type (RFC 1035 §3.3 and the type's own RFC) and brings
// addresses and names to one form; all else is kept as written.
func cleanRData(owner, typ string, raw []string, first Word) (string, error) {
	value := strings.Join(raw, " ")
	bad := func(expected, format string, args ...any) (string, error) {
		return "", faultAt(first, 0, expected, format, args...)
	}
	switch {
	case typ == "A" || typ == "AAAA":
		a, ok := parseIP(value)
		switch {
		case !ok && typ == "A":
			return bad("an IPv4 address", "%q is none", shorten(value))
		case !ok:
			return bad("an IPv6 address", "%q is none", shorten(value))
		case typ == "A" && !a.Is4():
			return bad("an IPv4 address, or the type AAAA", "%s is an IPv6 address", value)
		case typ == "AAAA" && !a.Is6():
			return bad("an IPv6 address, or the type A", "%s is an IPv4 address", value)
		}
		return a.String(), nil
	case nameTypes[typ]:
		if len(raw) > 1 {
			return bad("one host name", "a %s record has one value", typ)
		}
		name, ok := CleanHostname(value)
		if _, ip := parseIP(value); ip || !ok {
			return bad(expectHostname, "%q is none", shorten(value))
		}
		if dnsStops[name] {
			name += "."
		}
		return name, nil
	}
	if _, err := dns.NewRR(strings.TrimSuffix(owner, ".") + ". 0 IN " + typ + " " + value); err != nil {
		what := err.Error()
		if _, rest, ok := strings.Cut(what, "dns: "); ok {
			what = rest
		}
		if i := strings.LastIndex(what, " at line:"); i > 0 {
			what = what[:i]
		}
		return bad("a "+typ+" value as in a zone file", "%s", shorten(what))
	}
	return value, nil
}

// forwardTo is where a forward leads: an address, or a pool.
func forwardTo() Field {
	const expected = "an address, with ports where they change, as 10.40.8.10 or 10.40.8.10:22; or pool and its name"
	get := func(r Record) *Forward { return r.(*Forward) }
	target := func(r Record) string {
		switch f := get(r); {
		case f.Pool != "":
			return "pool " + f.Pool
		case f.To.Addr.IsValid():
			return f.To.String()
		}
		return ""
	}
	take := func(r Record, w *Words) error {
		return takePoolOr(w, &get(r).Pool, &get(r).To, expected, parseTarget)
	}
	return Field{
		Lead: "to", Column: "target", Expected: expected, Required: true, Choices: []string{"pool"}, Refers: RefPool,
		take: take, print: target, load: loadWords(take),
		values: func(r Record) []string {
			if text := target(r); text != "" {
				return []string{text}
			}
			return nil
		},
		refs: func(r Record) []Ref {
			if p := get(r).Pool; p != "" {
				return []Ref{{RefPool, p}}
			}
			return nil
		},
		reset: func(r Record) { get(r).To, get(r).Pool = Target{}, "" },
	}
}

// loadWords reads a field from its words as they are written.
func loadWords(take func(Record, *Words) error) func(Record, []string) error {
	return func(r Record, values []string) error {
		var words []Word
		for _, text := range strings.Fields(strings.Join(values, " ")) {
			words = append(words, Word{Text: text, Raw: text})
		}
		return take(r, NewWords(words, 0))
	}
}

// takePoolOr takes `pool` and its name, or else what a parser reads.
func takePoolOr[T any](w *Words, pool *string, to *T, expected string, parse func(Word, int, string) (T, error)) error {
	if w.TakeIf("pool") {
		name := nameForm(RefPool)
		word, err := w.Take(name.expected)
		if err == nil {
			*pool, err = name.parse(word, 0, word.Text)
		}
		return err
	}
	word, err := w.Take(expected)
	if err == nil {
		*to, err = parse(word, 0, word.Text)
	}
	return err
}

func siteTo() Field {
	const expected = "a URL, or pool and its name"
	get := func(r Record) *Site { return r.(*Site) }
	target := func(r Record) string {
		if get(r).Pool != "" {
			return "pool " + get(r).Pool
		}
		return get(r).To.String()
	}
	take := func(r Record, w *Words) error {
		return takePoolOr(w, &get(r).Pool, &get(r).To, expected, ParseURL)
	}
	return Field{
		Lead: "to", Column: "target", Expected: expected, Option: true, Choices: []string{"pool", "http://", "https://"}, Refers: RefPool,
		take:  take,
		print: target,
		load:  loadWords(take),
		values: func(r Record) []string {
			if text := target(r); text != "" {
				return []string{text}
			}
			return nil
		},
		refs: func(r Record) []Ref {
			if p := get(r).Pool; p != "" {
				return []Ref{{RefPool, p}}
			}
			return nil
		},
		reset: func(r Record) { get(r).To, get(r).Pool = URL{}, "" },
	}
}

func siteFiles() Field {
	get := func(r Record) *Files { return &r.(*Site).Files }
	return Field{
		Lead: "files", Column: "files", Expected: "a text in double quotes, or nothing", Option: true, Alone: true,
		take: func(r Record, w *Words) error {
			get(r).Served = true
			word, ok := w.Peek()
			switch {
			case ok && word.Quoted:
				w.TakeRaw()
				get(r).Root = word.Text
			case ok && strings.ContainsAny(word.Text, `/\`):
				return &Fault{Column: word.Column, What: fmt.Sprintf("%s stands without quotes", shorten(word.Text)), Expected: "a text in double quotes, as " + Quote(shorten(word.Text))}
			}
			return nil
		},
		load: func(r Record, values []string) error {
			*get(r) = Files{Served: true, Root: values[0]}
			return nil
		},
		print: func(r Record) string {
			switch f := get(r); {
			case !f.Served:
				return ""
			case f.Root == "":
				return "files"
			default:
				return Quote(f.Root)
			}
		},
		values: func(r Record) []string {
			if get(r).Served {
				return []string{get(r).Root}
			}
			return nil
		},
		reset: func(r Record) { *get(r) = Files{} },
	}
}

// ParseType reads a record type, as A, MX or TYPE65534.
func ParseType(text string) (string, error) {
	return typeForm.parse(Word{Text: text, Column: 1}, 0, text)
}
