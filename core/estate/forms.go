package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// The forms in which the values of records are written.

func stringer[T fmt.Stringer](v T) string { return v.String() }

func asIs(s string) string { return s }

func nameForm(kind RefKind) form[string] {
	expected := expectName
	if kind != 0 {
		expected = "the name of a " + kind.String()
	}
	f := form[string]{expected: expected, wants: kind, print: asIs, parse: func(w Word, from int, text string) (string, error) {
		name, err := parseName(w, from, text)
		if fault, ok := err.(*Fault); ok {
			fault.Expected = expected
		}
		return name, err
	}}
	if kind != 0 {
		f.refs = func(s string) []Ref { return []Ref{{kind, s}} }
	}
	return f
}

var (
	newName = nameForm(0)

	placeForm = form[string]{
		expected: "a host, or a container as host/name", wants: RefPlace, print: asIs, parse: parsePlace,
		refs: func(s string) []Ref { return []Ref{{placeKind(s), s}} },
	}
	// newContainer is the host/name that a container line, and it alone, brings in.
	newContainer = form[string]{
		expected: "a container, as host/name", wants: RefHost, print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if !strings.Contains(text, "/") && !w.Quoted {
				return "", faultAt(w, from, "a container, as host/name", "%q names no container", shorten(text))
			}
			return parsePlace(w, from, text)
		},
		refs: func(s string) []Ref { host, _, _ := strings.Cut(s, "/"); return []Ref{{RefHost, host}} },
	}
	containerForm = func() form[string] {
		f := newContainer
		f.wants = RefContainer
		f.refs = func(s string) []Ref { return []Ref{{RefContainer, s}} }
		return f
	}()

	hostname = form[string]{expected: expectHostname, wants: RefHostname, print: asIs, parse: parseHostname}

	addrForm     = form[netip.Addr]{expected: expectIP, print: netip.Addr.String, parse: parseAddr}
	gatewayForm  = form[netip.Addr]{expected: "an IP address, or nowhere", choices: []string{nowhere}, absent: netip.IPv6Unspecified(), print: printGateway, parse: parseGateway}
	prefixForm   = form[netip.Prefix]{expected: expectCIDR, print: netip.Prefix.String, parse: parsePrefix}
	portsForm    = form[Ports]{expected: expectPorts, print: Ports.String, parse: ParsePorts}
	innerPorts   = form[Ports]{expected: "ports, as 3000 or 80,443", print: Ports.List, parse: parseInnerPorts}
	bindForm     = form[Bind]{expected: "ports, or an address and ports, as 443 or 10.40.8.10:443", print: Bind.String, parse: parseBind}
	heldForm     = form[Held]{expected: "an address, a CIDR routed to the host, or ?", print: Held.String, parse: parseHeld}
	attachment   = form[Attachment]{expected: "a container network, with addresses where they are fixed, as dock or dock=172.20.0.5", wants: RefNetwork, print: Attachment.String, parse: parseAttachment, refs: func(a Attachment) []Ref { return []Ref{{RefNetwork, a.Network}} }}
	dateForm     = form[Date]{expected: expectDate, print: func(d Date) string { return string(d) }, parse: parseDate}
	durationForm = form[Seconds]{expected: expectDuration, number: true, absent: NotGiven, print: Seconds.String, parse: parseSeconds}

	networkOrInternet = form[string]{
		expected: "a network, or internet", choices: []string{"internet"}, wants: RefNetwork, print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if strings.EqualFold(text, "internet") && !w.Quoted {
				return "internet", nil
			}
			name, err := parseName(w, from, text)
			if fault, ok := err.(*Fault); ok {
				fault.Expected = "a network, or internet"
			}
			return name, err
		},
		refs: func(s string) []Ref {
			if s == "internet" {
				return nil
			}
			return []Ref{{RefNetwork, s}}
		},
	}

	destination = form[string]{
		expected: "a network in CIDR form, or default", print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if strings.EqualFold(text, "default") && !w.Quoted {
				return "default", nil
			}
			if a, ok := parseIP(text); ok {
				return netip.PrefixFrom(a, a.BitLen()).String(), nil
			}
			p, err := parsePrefix(w, from, text)
			return p.String(), err
		},
	}

	rewriteForm = form[string]{
		expected: "the address that the source becomes, or unchanged", print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if strings.EqualFold(text, "unchanged") && !w.Quoted {
				return "unchanged", nil
			}
			a, err := parseAddr(w, from, text)
			return a.String(), err
		},
	}

	quotedForm = form[string]{
		expected: "a text in double quotes", print: Quote, quoted: true,
		parse: func(w Word, from int, text string) (string, error) {
			switch {
			case !w.Quoted:
				return "", faultAt(w, from, "a text in double quotes", "%q is not in quotes", shorten(text))
			case text == "":
				return "", faultAt(w, from, "a text in double quotes", "the text is empty")
			}
			return text, nil
		},
	}

	// siteName is what a site is picked by: a host name, an address, or "*".
	siteName = form[string]{
		expected: "a host name, an address or *", wants: RefHostname, print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if text == "*" && !w.Quoted {
				return "*", nil
			}
			if a, ok := parseIP(text); ok && !w.Quoted {
				return a.String(), nil
			}
			return parseHostname(w, from, text)
		},
	}

	// certified is what a certificate is for: a host name or an address (RFC 5280 §4.2.1.6).
	certified = form[string]{
		expected: "a host name or an address", wants: RefHostname, print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if a, ok := parseIP(text); ok && !w.Quoted {
				return a.String(), nil
			}
			return parseHostname(w, from, text)
		},
	}

	// sitePath is a path that a site is picked by: /v1 and what is below it, /v1* and what begins so, or =/v1 alone.
	sitePath = form[string]{
		expected: "a path as /v1, /v1* or =/v1", print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			const expected = "a path as /v1, /v1* or =/v1"
			path := strings.TrimPrefix(text, "=")
			switch {
			case w.Quoted:
				return "", faultAt(w, 0, expected+", without quotes", "a quoted text stands where a path belongs")
			case !strings.HasPrefix(path, "/"):
				return "", faultAt(w, from, expected, "%q is no path", shorten(text))
			case path != text && strings.HasSuffix(path, "*"):
				return "", faultAt(w, from, expected, "%q is one path alone and every path that begins so", shorten(text))
			}
			return text, nil
		},
	}

	pathForm = form[string]{
		expected: "a path that begins with /", print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if w.Quoted {
				return "", faultAt(w, 0, "a path that begins with /, without quotes", "a quoted text stands where a path belongs")
			}
			if !strings.HasPrefix(text, "/") {
				return "", faultAt(w, from, "a path that begins with /", "%q is no path", shorten(text))
			}
			return text, nil
		},
	}

	redirectForm = form[Redirect]{
		expected: "https, or a URL", print: stringer[Redirect],
		parse: func(w Word, from int, text string) (Redirect, error) {
			if strings.EqualFold(text, "https") && !w.Quoted {
				return Redirect{HTTPS: true}, nil
			}
			u, err := ParseURL(w, from, text)
			if err == nil && u.Scheme != "http" && u.Scheme != "https" {
				return Redirect{}, faultAt(w, from, "an http or https URL", "nobody can be redirected to a %s URL", u.Scheme)
			}
			return Redirect{URL: u}, err
		},
	}

	guardForm = form[Guard]{
		expected: "the service that signs visitors in, or a text in quotes", wants: RefService, print: stringer[Guard],
		parse: func(w Word, from int, text string) (Guard, error) {
			if w.Quoted && text == "" {
				return Guard{}, faultAt(w, from, "who signs visitors in", "the text is empty")
			}
			if w.Quoted {
				return Guard{Text: text}, nil
			}
			name, err := parseName(w, from, text)
			return Guard{Service: name}, err
		},
		refs: func(g Guard) []Ref {
			if g.Service == "" {
				return nil
			}
			return []Ref{{RefService, g.Service}}
		},
	}

	askingForm = form[string]{
		expected: "kept, upstream or a host name", print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if lower := strings.ToLower(text); !w.Quoted && (lower == "kept" || lower == "upstream") {
				return lower, nil
			}
			return parseHostname(w, from, text)
		},
	}

	subjectForm = form[string]{
		expected: "the finding's subject", print: wordOrQuoted,
		parse: func(w Word, from int, text string) (string, error) {
			if text == "" {
				return "", faultAt(w, from, "the finding's subject", "the text is empty")
			}
			return text, nil
		},
	}

	codeForm = form[string]{
		expected: "a finding's code, as exposure.undeclared", choices: Codes, print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			lower := strings.ToLower(text)
			if w.Quoted || !slices.Contains(Codes, lower) {
				fault := faultAt(w, from, "a finding's code, as exposure.undeclared", "%q is none", shorten(text))
				fault.Nearest = Nearest(text, Codes)
				return "", fault
			}
			return lower, nil
		},
	}

	// reachingForm is PLACE[:PORT].
	reachingForm = form[Endpoint]{
		expected: "a host or container, with a port where it matters, as azimuth/allsky:3000", wants: RefPlace, print: Endpoint.String,
		parse: func(w Word, from int, text string) (Endpoint, error) {
			e, err := parseEndpoint(w, from, text, parsePlace)
			if err == nil && e.Addr.IsValid() {
				return e, faultAt(w, from, "a host or container", "%q is an address", text)
			}
			return e, err
		},
		refs: func(e Endpoint) []Ref { return []Ref{{placeKind(e.Host), e.Host}} },
	}

	endpointForm = form[Endpoint]{
		expected: "an address, a place or a name, with a port, as orrery-a:8443", wants: RefPlace | RefHostname, print: Endpoint.String,
		parse: parseWithPort(func(w Word, from int, text string) (string, error) {
			if strings.Contains(text, "/") {
				return parsePlace(w, from, text)
			}
			return parseHostname(w, from, text)
		}),
		refs: func(e Endpoint) []Ref {
			if strings.Contains(e.Host, "/") {
				return []Ref{{RefContainer, e.Host}}
			}
			return nil
		},
	}
	tunnelEnd = form[Endpoint]{
		expected: "an address or a host name, with a port, as gate.example:7000 or 203.0.113.7:51820/udp", wants: RefHostname, print: Endpoint.String,
		parse: func(w Word, from int, text string) (Endpoint, error) {
			plain, udp := strings.CutSuffix(text, "/udp")
			plain = strings.TrimSuffix(plain, "/tcp")
			e, err := parseWithPort(parseHostname)(w, from, plain)
			e.UDP = udp
			return e, err
		},
	}

	// intendTarget is a host name, an address or a place: what an intent speaks of.
	intendTarget = form[string]{
		expected: "a host name, an address, a host or a container", wants: RefHostname | RefPlace, print: asIs,
		parse: func(w Word, from int, text string) (string, error) {
			if a, ok := parseIP(text); ok && !w.Quoted {
				return a.String(), nil
			}
			if strings.Contains(text, "/") {
				return parsePlace(w, from, text)
			}
			return parseHostname(w, from, text)
		},
		refs: func(s string) []Ref {
			if strings.Contains(s, "/") {
				return []Ref{{RefContainer, s}}
			}
			return nil
		},
	}
)

func placeKind(place string) RefKind {
	if strings.Contains(place, "/") {
		return RefContainer
	}
	return RefHost
}

func parseWithPort(host func(Word, int, string) (string, error)) func(Word, int, string) (Endpoint, error) {
	return func(w Word, from int, text string) (Endpoint, error) {
		e, err := parseEndpoint(w, from, text, host)
		if err == nil && e.Port == 0 {
			return e, faultAt(w, from+len(text), "a colon and a port", "no port is given")
		}
		return e, err
	}
}

func selectorForm(words ...string) form[Selector] {
	return form[Selector]{
		expected: strings.Join(append(words, "a network, host, container, group, address or CIDR"), ", "), choices: words,
		wants: RefSelector, print: Selector.String, parse: parseSelector(words...),
		refs: func(s Selector) []Ref {
			switch {
			case s.Name == "":
				return nil
			case strings.Contains(s.Name, "/"):
				return []Ref{{RefContainer, s.Name}}
			}
			return []Ref{{RefSelector &^ RefContainer, s.Name}}
		},
	}
}

func countForm(what string, low, high int) form[int] {
	expected := fmt.Sprintf("%s, from %d to %d", what, low, high)
	return form[int]{
		expected: expected, number: true, absent: -1, print: strconv.Itoa,
		parse: func(w Word, from int, text string) (int, error) {
			n, err := strconv.ParseUint(text, 10, 31)
			if err != nil || w.Quoted || int(n) < low || int(n) > high {
				return -1, faultAt(w, from, expected, "%q is none", shorten(text))
			}
			return int(n), nil
		},
	}
}
