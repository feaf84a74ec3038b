package trace

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/say"
	"steady-compass/core/serve"
)

// Target is what a trace is asked of: a name, an address or a place, with a port or not, or a URL.
type Target struct {
	Text  string // as asked
	Name  string
	Addr  netip.Addr
	Place *model.Place
	Port  uint16 // 0: the ports of the name
	Proto netset.Transport
	Path  string // "": each path that the sites tell apart
	Says  serve.Speech
}

// ErrNoTarget is wrapped by the error for a target that cannot be read.
var ErrNoTarget = errors.New("not a target")

// ParseTarget reads name, name:port, IP:port, PLACE:port or a URL; `/udp` may stand behind a port.
func (t *Tracer) ParseTarget(text string) (Target, error) {
	text = strings.TrimSpace(text)
	bad := func(expected string) (Target, error) {
		return Target{}, fmt.Errorf("%w: %q; expected %s", ErrNoTarget, clip(text), expected)
	}
	const expected = "a name, a host, a container or an address, with a port or not, or a URL"
	if len(text) > 2048 {
		return bad("at most 2048 characters")
	}
	tg := Target{Text: text, Proto: netset.TCP}
	host := text
	if scheme, _, ok := strings.Cut(text, "://"); ok {
		u, err := url.Parse(text)
		if err != nil || u.Hostname() == "" || u.User != nil {
			return bad(expected)
		}
		switch strings.ToLower(scheme) {
		case "http":
			tg.Says, tg.Port = serve.SpeaksPlain, 80
		case "https":
			tg.Says, tg.Port = serve.SpeaksTLS, 443
		default:
			return bad("a URL with http or https")
		}
		if u.Port() != "" {
			p, ok := portNumber(u.Port())
			if !ok {
				return bad("a port from 1 to 65535")
			}
			tg.Port = p
		}
		if tg.Path = u.EscapedPath(); tg.Path == "" {
			tg.Path = "/"
		}
		return t.aimAt(tg, u.Hostname(), bad)
	}
	if rest, ok := strings.CutSuffix(strings.ToLower(host), "/udp"); ok {
		host, tg.Proto = rest, netset.UDP
	} else if rest, ok := strings.CutSuffix(strings.ToLower(host), "/tcp"); ok {
		host = rest
	}
	if a, err := netip.ParseAddr(host); err != nil || a.Is4() {
		if strings.HasPrefix(host, "[") {
			end := strings.Index(host, "]")
			if end < 0 || end+1 < len(host) && host[end+1] != ':' {
				return bad(expected)
			}
			if end+1 < len(host) {
				p, ok := portNumber(host[end+2:])
				if !ok {
					return bad("a port from 1 to 65535")
				}
				tg.Port = p
			}
			host = host[1:end]
		} else if i := strings.LastIndex(host, ":"); i >= 0 {
			p, ok := portNumber(host[i+1:])
			if !ok {
				return bad("a port from 1 to 65535 behind the colon")
			}
			host, tg.Port = host[:i], p
		}
	}
	if tg.Proto == netset.UDP && tg.Port == 0 {
		return bad("a port before /udp")
	}
	return t.aimAt(tg, host, bad)
}

// AsSpokenBy is the target, asked again in the speech that a path to it had.
func (tg Target) AsSpokenBy(p *Path) Target {
	if p.Transport != netset.TCP.String() || tg.Says != serve.SpeaksByPort {
		return tg
	}
	tg.Says = serve.SpeaksPlain
	if p.spokeTLS {
		tg.Says = serve.SpeaksTLS
	}
	return tg
}

func (t *Tracer) aimAt(tg Target, host string, bad func(string) (Target, error)) (Target, error) {
	if a, err := netip.ParseAddr(host); err == nil && a.Zone() == "" {
		tg.Addr = a.Unmap()
		return tg, nil
	}
	if p := t.Model.PlaceNamed(strings.ToLower(host)); p != nil {
		tg.Place = p
		return tg, nil
	}
	name, ok := estate.CleanHostname(host)
	if !ok || strings.Contains(name, "/") {
		if strings.Contains(host, "/") {
			return bad("a container that is recorded, as host/name")
		}
		return bad("a name, a host, a container or an address, with a port or not, or a URL")
	}
	tg.Name = name
	return tg, nil
}

func portNumber(text string) (uint16, bool) {
	n, err := strconv.ParseUint(text, 10, 16)
	return uint16(n), err == nil && n > 0
}

func clip(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:57]) + "…"
	}
	return text
}

func (tg *Target) subject() string {
	switch {
	case tg.Place != nil:
		return tg.Place.Name
	case tg.Addr.IsValid():
		return tg.Addr.String()
	}
	return tg.Name
}

// Trace follows a target from a vantage, on one port or on all that are its own.
func (t *Tracer) Trace(tg Target, v flow.Vantage) Result {
	r := Result{Target: tg.Text, Unicode: names.Unicode(tg.Name), From: v.Word, Paths: []Path{}}
	ports := []flow.PortKey{{Port: tg.Port, Transport: tg.Proto}}
	if tg.Port == 0 {
		ports, _ = t.PortsOf(tg.subject(), &v)
	}
	for _, p := range ports {
		r.Paths = append(r.Paths, t.TracePort(tg, p, v)...)
	}
	r.Verdict = VerdictOf(r.Paths)
	return r
}

// TracePort follows a target on one port.
func (t *Tracer) TracePort(tg Target, port flow.PortKey, v flow.Vantage) []Path {
	return t.TraceReading(tg, port, v, nil)
}

// TraceReading follows a target on one port, and adds to reads what that came by.
func (t *Tracer) TraceReading(tg Target, port flow.PortKey, v flow.Vantage, reads *memo.Reads) []Path {
	path := tg.Path
	if path == "" {
		path = "/"
	}
	q := serve.Request{Name: tg.Name, Handshake: tg.Name, Port: port.Port, Speech: tg.Says, Path: path, PathGiven: tg.Path != "", Client: true}
	if tg.Says == serve.SpeaksTLS && tg.Addr.IsValid() {
		q.Certified = tg.Addr.String()
	}
	var ends []serve.Served
	for _, o := range v.Origins {
		here := t.Ask(serve.Question{Origin: o, Vantage: &v, Request: q, Addr: tg.Addr, Place: tg.Place, Transport: port.Transport, Base: flow.Part{Reads: reads}})
		if ends == nil {
			ends = here
		} else {
			ends = append(ends, here...)
		}
	}
	paths := t.join(ends, tg, port, &v)
	slices.SortStableFunc(paths, comparePaths)
	return paths
}

// join makes paths of branches; those that differ in nothing but their sources become one.
func (t *Tracer) join(ends []serve.Served, tg Target, port flow.PortKey, v *flow.Vantage) []Path {
	paths := make([]Path, 0, len(ends))
	var of []netset.Addrs // the sources of each
	var six []bool        // and whether these are of IPv6
	at := map[string]int{}
	for i := range ends {
		f := &ends[i]
		p := t.path(f, tg, port)
		key := p.likeness()
		if n, ok := at[key]; ok {
			of[n] = netset.Union(of[n], f.Origins)
			continue
		}
		at[key] = len(paths)
		paths, of, six = append(paths, p), append(of, f.Origins), append(six, f.AskedIPv6)
	}
	for i := range paths {
		paths[i].Sources, paths[i].lowest = v.Say(of[i], six[i])
	}
	return paths
}

// likeness is a word that paths have in common which differ in nothing but their sources.
func (p *Path) likeness() string {
	words := []string{p.Address, p.URLPath, p.Member, string(p.Outcome), string(p.Inner), p.Via, say.OrEmpty(p.End)}
	for i := range p.Breaks {
		b := &p.Breaks[i]
		words = append(words, b.Code, b.At, b.Why)
	}
	return strings.Join(words, "|")
}

// path makes the wire form of one branch.
func (t *Tracer) path(f *serve.Served, tg Target, port flow.PortKey) Path {
	p := Path{Port: port.Port, Transport: port.Transport.String(), URLPath: f.URLPath, Address: f.AskedWord, addr: f.AskedAddr, Cells: *f.Cells, Inner: f.Inner, Via: f.Via, Member: f.Member}
	p.Family = "ipv4"
	if f.AskedIPv6 {
		p.Family = "ipv6"
	}
	switch {
	case f.Stopped != "":
		p.Outcome = f.Stopped
	case f.Redirect:
		p.Outcome = flow.Redirects
	default:
		p.Outcome = flow.Arrives
	}
	switch {
	case f.Took != nil:
		end := fmt.Sprintf("%s:%d", t.Model.Places[f.Took.Place].Name, f.TookPort)
		p.End, p.Service = &end, &f.Took.Record.Service
	case f.Outside != "":
		end := f.Outside
		p.End = &end
	}
	if i := t.IntentOf(tg.subject(), port.Port, port.Transport); i != nil && i.Reaching.Host != "" {
		reaching := i.Reaching.String()
		p.Intended = &reaching
	}
	p.fronts, p.guarded, p.site, p.oneSided, p.spokeTLS = f.Fronts, f.Guarded, f.Site, f.OneSided, f.SpokeTLS
	if f.Defaulted != nil {
		p.defaulted, p.caughtBy = f.Defaulted.Name, f.Defaulted.Record
	}
	p.Steps, p.Breaks = f.Collect()
	settle(p.Breaks)
	if p.Steps == nil {
		p.Steps = []flow.Step{}
	}
	if p.Breaks == nil {
		p.Breaks = []flow.Break{}
	}
	p.Mark = MarkOf(p.Outcome, false, len(p.Breaks) > 0)
	if p.Cells.LetsIn == "" && p.Cells.Machine != "" {
		p.Cells.LetsIn = "no filter"
	}
	return p
}

// settle brings together mends of which one changes a line that another adds: both are then the line as it should be, and
// each can be made by itself.
func settle(breaks []flow.Break) {
	for j := range breaks {
		if breaks[j].Mend == nil {
			continue
		}
		for _, line := range breaks[j].Mend.Remove {
			i := slices.IndexFunc(breaks[:j], func(b flow.Break) bool { return b.Mend != nil && slices.Contains(b.Mend.Add, line) })
			if i < 0 {
				continue
			}
			first, second := breaks[i].Mend, breaks[j].Mend
			both := &flow.Mend{Remove: slices.Clone(first.Remove), Add: []string{}}
			for _, l := range second.Remove {
				if l != line && !slices.Contains(both.Remove, l) {
					both.Remove = append(both.Remove, l)
				}
			}
			for _, l := range first.Add {
				if l == line {
					both.Add = append(both.Add, second.Add...)
				} else {
					both.Add = append(both.Add, l)
				}
			}
			breaks[i].Mend, breaks[j].Mend = both, both
			break
		}
	}
}

// comparePaths is the order of branches: port, transport, IPv6 before IPv4, address, URL path, sources.
func comparePaths(a, b Path) int {
	if d := serve.ComparePorts(flow.PortKey{Port: a.Port, Transport: flow.ProtoOf(a.Transport)}, flow.PortKey{Port: b.Port, Transport: flow.ProtoOf(b.Transport)}); d != 0 {
		return d
	}
	if a.Family != b.Family {
		return cmp.Compare(b.Family, a.Family) // ipv6 first
	}
	return cmp.Or(a.addr.Compare(b.addr), cmp.Compare(a.Address, b.Address), cmp.Compare(a.URLPath, b.URLPath), a.lowest.Compare(b.lowest), cmp.Compare(a.Via, b.Via))
}
