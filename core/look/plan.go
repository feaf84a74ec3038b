package look

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// How much is looked at: new contacts a second, those open at one address and in all, how long each is waited for, and the ports of one address.
const (
	Rate        = 40
	OpenAtOne   = 4
	OpenInAll   = 400
	Within      = 4.0 // seconds
	MostPorts   = 100
	mostTargets = 20_000
)

// Contact is one thing to be looked at, and all that is sent for it.
type Contact struct {
	Target    string `json:"target"`
	Did       Did    `json:"did" doc:"How far it goes: a connection, a TLS greeting on it, a request in it"`
	Name      string `json:"name,omitempty" doc:"That is asked for, in the handshake and the request"`
	Type      string `json:"type,omitempty" doc:"Of a resolution: A or AAAA"`
	Address   string `json:"address,omitempty"`
	Port      uint16 `json:"port,omitempty"`
	Transport string `json:"transport,omitempty"`
	TLS       bool   `json:"tls,omitempty"`
	Path      string `json:"path,omitempty"`
	Mark      string `json:"mark,omitempty" doc:"What the page is to have in its body; it is asked for whole then"`
	Follows   string `json:"follows,omitempty" doc:"The own name that follows the address, which changes by itself: it is the one that the name servers of its zone give now"`
	Zone      string `json:"zone,omitempty" doc:"The zone of that name"`

	Ours      string       `json:"ours,omitempty" doc:"The line by which a host of ours holds the address"`
	Sends     string       `json:"sends" doc:"What is sent, in words"`
	Predicted flow.Outcome `json:"predicted,omitempty"`
	Expected  string       `json:"expected" doc:"What the records say is seen, in words"`
}

// Refusal is what is not looked at, and why.
type Refusal struct {
	Target  string `json:"target"`
	Address string `json:"address,omitempty"`
	Why     string `json:"why"`
}

// Plan is all that a look would send, before anything is sent.
type Plan struct {
	From     string    `json:"from"`
	Certain  bool      `json:"certain" doc:"Private addresses mean there what the records say"`
	Why      string    `json:"why" doc:"How it is known from where it looks"`
	Sources  []string  `json:"sources" nullable:"false" doc:"The machine's own addresses"`
	Resolver string    `json:"resolver,omitempty"`
	Contacts []Contact `json:"contacts" nullable:"false"`
	Refused  []Refusal `json:"refused" nullable:"false"`
	Recorded []string  `json:"recorded,omitempty" doc:"Where something follows its address: the ranges and addresses that are recorded, which it is not"`
	Rate     int       `json:"rate" doc:"New contacts a second"`
	Longest  float64   `json:"longest" doc:"Seconds that it takes where nothing answers"`
}

// Question is what is to be looked at.
type Question struct {
	From    string   // the vantage as it was said; "" for the machine that is recorded, if it is one
	Targets []string // none: what the intents name, what should arrive and what should not
	All     bool     // all ports of an address that is for nobody, and not only the first MostPorts
}

// PlanOf works out what is to be sent, and what is not. Nothing is contacted that no line in force says is ours.
func PlanOf(ctx context.Context, t *trace.Tracer, self Self, q Question) (Plan, error) {
	standing, err := Stand(t, self, q.From)
	if err != nil {
		return Plan{}, err
	}
	x := &planning{t: t, standing: standing, touch: newTouching(t.Model, self, standing), all: q.All, known: map[string]bool{}, ports: map[netip.Addr]int{}, left: map[netip.Addr]bool{}, anywhere: map[netset.Transport]netset.Ports{}}
	targets := q.Targets
	if len(targets) == 0 {
		targets = x.meant(ctx)
	}
	for i, text := range targets {
		if i == mostTargets {
			x.refuse(text, "", fmt.Sprintf("more than %d targets are not looked at in one go", mostTargets))
			break
		}
		tg, err := t.ParseTarget(text)
		if err != nil && len(q.Targets) > 0 {
			return Plan{}, err
		}
		if err == nil {
			x.target(tg)
		}
		if err := ctx.Err(); err != nil {
			return Plan{}, err
		}
	}
	p := Plan{From: standing.Vantage.Word, Certain: standing.Certain, Why: standing.Why, Contacts: append([]Contact{}, x.contacts...), Refused: append([]Refusal{}, x.refused...), Rate: Rate, Sources: []string{}}
	for _, own := range self.Prefixes {
		p.Sources = append(p.Sources, own.Addr().String())
	}
	if slices.ContainsFunc(p.Contacts, func(c Contact) bool { return c.Follows != "" }) {
		p.Recorded = x.recorded()
	}
	p.Longest = longest(p.Contacts)
	return p, nil
}

// AskFor has pages asked for whole, and looked through for a mark: what tells a site from another's answer in its place.
func (p *Plan) AskFor(mark string) {
	for i := range p.Contacts {
		if c := &p.Contacts[i]; c.Did == HTTP {
			c.Mark, c.Sends = mark, strings.Replace(c.Sends, "HEAD ", "GET ", 1)+", of which at most 64 KiB are read"
		}
	}
}

// longest is how long contacts take of which none answers.
func longest(all []Contact) float64 {
	at, most := map[string]int{}, 0
	for i := range all {
		if a := all[i].Address; a != "" {
			at[a]++
			most = max(most, at[a])
		}
	}
	waves := (most + OpenAtOne - 1) / OpenAtOne
	return max(float64(len(all))/Rate+Within, float64(waves)*Within)
}

type planning struct {
	t        *trace.Tracer
	standing Standing
	touch    *touching
	all      bool
	known    map[string]bool
	ports    map[netip.Addr]int
	left     map[netip.Addr]bool               // addresses of which not all ports are looked at, as is said
	anywhere map[netset.Transport]netset.Ports // the ports that any line names, once worked out
	contacts []Contact
	refused  []Refusal
}

func (x *planning) refuse(target, address, why string) {
	if key := "refused " + target + " " + address + " " + why; !x.known[key] {
		x.known[key] = true
		x.refused = append(x.refused, Refusal{target, address, why})
	}
}

// meant are the targets that intents name, and what should not be reached beside them: bare addresses, and backends around their fronts.
func (x *planning) meant(ctx context.Context) []string {
	var out []string
	seen := map[string]bool{}
	add := func(text string) {
		if !seen[text] {
			seen[text] = true
			out = append(out, text)
		}
	}
	for _, i := range x.t.Model.Intents {
		if ctx.Err() != nil {
			break
		}
		if strings.HasPrefix(i.Target, "*") {
			continue // nobody can ask for it
		}
		for _, key := range x.portsOf(i) {
			add(HostPort(i.Target, key))
			tg, err := x.t.ParseTarget(HostPort(i.Target, key))
			if err != nil || tg.Name == "" {
				continue
			}
			for _, p := range x.t.TracePort(tg, key, x.standing.Vantage) {
				if p.Site() != nil && p.Addr().IsValid() {
					add(HostPort(p.Addr().String(), key))
				}
				if fronts := p.Fronts(); len(fronts) > 0 && p.End != nil && p.Outcome.Good() {
					add(*p.End)
				}
			}
		}
	}
	return out
}

// HostPort is a target of a host or address and a port.
func HostPort(host string, key flow.PortKey) string {
	if a, err := netip.ParseAddr(host); err == nil {
		host = a.String()
		if a.Is6() {
			host = "[" + host + "]"
		}
	}
	text := fmt.Sprintf("%s:%d", host, key.Port)
	if key.Transport == netset.UDP {
		text += "/udp"
	}
	return text
}

// portsOf are the ports of an intent: as it names them, or, where it means any, those that a line names at the place.
func (x *planning) portsOf(i *estate.Intent) []flow.PortKey {
	var out []flow.PortKey
	nobody := len(i.For) == 1 && i.For[0].Word == "nobody"
	for _, proto := range i.Ports.Transport.Each() {
		ports := i.Ports.Set()
		switch {
		case i.Ports.Any && nobody: // whatever anybody of ours speaks may be there
			ports = x.everywhere(proto)
		case i.Ports.Any:
			p := x.t.Model.PlaceNamed(i.Target)
			if a, err := netip.ParseAddr(i.Target); err == nil {
				if owners := x.t.Model.Owners(a); len(owners) > 0 {
					p = x.t.Model.Places[owners[0].Place]
				}
			}
			if p == nil {
				continue
			}
			ports = x.t.Model.TakenPorts(x.t.Model.Places[p.Namespace], netip.Addr{}, proto)
		}
		n := 0
		for _, r := range ports.Ranges() {
			for port := int(r.Lo); port <= int(r.Hi) && (x.all || n < MostPorts); port++ {
				out = append(out, flow.PortKey{Port: uint16(port), Transport: proto})
				n++
			}
		}
	}
	return out
}

// everywhere are the ports that any line of the estate names.
func (x *planning) everywhere(proto netset.Transport) netset.Ports {
	if known, ok := x.anywhere[proto]; ok {
		return known
	}
	var all []netset.PortRange
	for _, p := range x.t.Model.Places {
		for i := range p.Sockets {
			if s := &p.Sockets[i]; s.Record.Bind.Transport&proto != 0 {
				all = append(all, s.Ports.Ranges()...)
			}
		}
		for _, m := range p.Maps {
			if m.Record.Bind.Transport&proto != 0 {
				all = append(all, m.Ports.Ranges()...)
			}
		}
		for _, f := range p.Forwards {
			if f.Record.Bind.Transport&proto != 0 && !f.Record.Bind.Any {
				all = append(all, f.Ports.Ranges()...)
			}
		}
	}
	x.anywhere[proto] = netset.PortsOf(all...)
	return x.anywhere[proto]
}

// target adds what is to be sent for a target: the question for its name, and a contact for each address and path that it leads to.
func (x *planning) target(tg trace.Target) {
	v := x.standing.Vantage
	ports := []flow.PortKey{{Port: tg.Port, Transport: tg.Proto}}
	if tg.Port == 0 {
		ports, _ = x.t.PortsOf(cmp.Or(tg.Name, tg.Text), &v)
	}
	if tg.Name != "" {
		for _, typ := range []string{"A", "AAAA"} {
			a := x.t.Answer(tg.Name, typ, v)
			x.add(Contact{Target: tg.Name + " " + typ, Did: Resolve, Name: tg.Name, Type: typ, Sends: "a DNS question", Expected: answerWords(a.Code.String(), typ, a.Values)})
		}
	}
	for _, key := range ports {
		for _, p := range x.t.TracePort(tg, key, v) {
			x.path(tg, key, &p)
		}
	}
}

// path adds the contact for a way that a target leads.
func (x *planning) path(tg trace.Target, key flow.PortKey, p *trace.Path) {
	target := HostPort(cmp.Or(tg.Name, p.Address), key)
	a := p.Addr()
	switch {
	case p.Outcome == flow.Unresolved:
		return // asking for the name is all
	case p.Outcome == flow.Outside:
		x.refuse(target, p.Address, "it is not ours")
		return
	case !a.IsValid():
		x.refuse(target, p.Address, "no address of it is written down")
		return
	case key.Transport == netset.UDP && key.Port != 53 && key.Port != 123:
		x.refuse(target, a.String(), "over udp only name servers and clocks have a harmless question to answer")
		return
	}
	ours, why := x.touch.may(a)
	if line := x.touch.changing(a); ours == nil && line != nil && a.Is4() {
		if name, zone := x.follows(tg, line); name != "" {
			c := Contact{Target: target, Did: Connect, Name: tg.Name, Follows: name, Zone: zone, Port: key.Port, Transport: key.Transport.String(), Ours: estate.Line(line), Predicted: p.Outcome, Expected: outcomeWords(p.Outcome)}
			c.deepen(p)
			c.Sends = fmt.Sprintf("DNS questions for %s to the name servers of %s, and to the address that they give %s", name, zone, c.Sends)
			x.add(c)
			return
		}
	}
	if ours == nil {
		x.refuse(target, a.String(), why)
		return
	}
	if p.Outcome == flow.Unroutable && within(private, a) {
		x.refuse(target, a.String(), "it is private, and by the records nothing leads there from here: it would mean another machine")
		return
	}
	c := Contact{Target: target, Did: Connect, Name: tg.Name, Address: a.String(), Port: key.Port, Transport: key.Transport.String(), Ours: estate.Line(ours), Predicted: p.Outcome, Expected: outcomeWords(p.Outcome)}
	c.deepen(p)
	x.add(c)
}

// follows is the own name by which an address that changes is found, and its zone: one on the target's way that follows the holder; "" where none
// does.
func (x *planning) follows(tg trace.Target, held *estate.Address) (name, zone string) {
	if tg.Name == "" {
		return "", ""
	}
	typ := "A"
	if held.Held.Addr.Is6() {
		typ = "AAAA"
	}
	for _, link := range x.t.Answer(tg.Name, typ, x.standing.Vantage).Links {
		d, ok := link.Record.(*estate.DNS)
		if !ok || !slices.Contains(held.Hosts, d.Dynamic) {
			continue
		}
		for _, r := range x.t.Model.Estate.Of(estate.KindNamed("zone")) {
			z := r.(*estate.Zone)
			if in := d.Owner == z.Name || strings.HasSuffix(d.Owner, "."+z.Name); in && !z.Off && len(z.Name) > len(zone) {
				name, zone = d.Owner, z.Name
			}
		}
	}
	return name, zone
}

// recorded are the ranges and addresses that are recorded: what somebody of ours has is not what a changing address is now.
func (x *planning) recorded() []string {
	var out []string
	for _, r := range x.t.Model.Estate.All() {
		switch r := r.(type) {
		case *estate.Network:
			for _, p := range r.Prefixes {
				out = append(out, p.String())
			}
		case *estate.Address:
			switch {
			case r.Dynamic || r.Off:
			case r.Held.Block.IsValid():
				out = append(out, r.Held.Block.String())
			case r.Held.Addr.IsValid():
				out = append(out, netip.PrefixFrom(r.Held.Addr, r.Held.Addr.BitLen()).String())
			}
		}
	}
	return out
}

// deepen says how far a contact goes: into TLS and a request where the records say that this is what is spoken there.
func (c *Contact) deepen(p *trace.Path) {
	c.Sends = "a TCP connection"
	if c.Transport == "udp" {
		c.Sends = map[uint16]string{53: "a DNS question", 123: "a question for the time"}[c.Port]
		return
	}
	web := c.Port == 80 || c.Port == 443
	if site := p.Site(); site != nil {
		web = site.To.Scheme != "tcp" && site.To.Scheme != "udp" && site.Speaking != "tcp" && site.Speaking != "udp"
	}
	if p.Outcome == flow.Unanswered {
		web = true
	}
	c.TLS = p.SpokeTLS() || c.Port == 443
	if c.TLS {
		c.Did, c.Sends = TLS, "a TCP connection and a TLS greeting"
	}
	if web {
		c.Did, c.Path = HTTP, cmp.Or(p.URLPath, "/")
		c.Sends += ", and HEAD " + c.Path
		c.Target = urlOf(c)
	}
}

func urlOf(c *Contact) string {
	scheme := map[bool]string{true: "https", false: "http"}[c.TLS]
	host := cmp.Or(c.Name, c.Address)
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	if !(c.TLS && c.Port == 443) && !(!c.TLS && c.Port == 80) {
		host = fmt.Sprintf("%s:%d", host, c.Port)
	}
	return scheme + "://" + host + c.Path
}

// add adds a contact once, and of each address no more ports than are looked at.
func (x *planning) add(c Contact) {
	key := fmt.Sprintf("%s %s %s %d", c.Target, c.Address, c.Transport, c.Port)
	if x.known[key] {
		return
	}
	x.known[key] = true
	if a, err := netip.ParseAddr(c.Address); err == nil && !x.all {
		port := fmt.Sprintf("%s port %d/%s", c.Address, c.Port, c.Transport)
		if !x.known[port] {
			x.known[port] = true
			x.ports[a]++
		}
		if x.ports[a] > MostPorts {
			if !x.left[a] {
				x.left[a] = true
				x.refuse(c.Address, c.Address, fmt.Sprintf("it has more than %d ports to look at; the others with --all", MostPorts))
			}
			return
		}
	}
	x.contacts = append(x.contacts, c)
}

// Bounded says why an address may not be contacted whatever the records say of it: for a machine that has a list of contacts and no records.
func Bounded(a netip.Addr, self Self, said bool) string {
	switch {
	case !a.IsValid() || a.IsUnspecified() || a.IsMulticast() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.Is4In6() || a.Zone() != "":
		return "it is no address of one machine on a network"
	case nobodys(a, self):
		return "it is of a range for documentation, which nobody has"
	case within(private, a):
		if !said {
			return "it is private, and nothing says for certain from where this machine looks; say it with --from"
		}
	case !within(documentation, a) && !netset.GloballyReachable().Contains(a):
		return "it is of a range for special use, and cannot be reached over a network"
	}
	return ""
}
