package look

import (
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// How often such a thing happens, beside one another.
const (
	waitedFor  = 12.0 // a program that hangs, where the front says that it waited in vain
	notRunning = 6.0
	lineOff    = 3.0
	standsElse = 2.0
	policy     = 1.5
	oneOf      = 1.0
	anyHow     = 0.3 // otherwise in a way not thought of
)

// hypothesis is one thing that may not be so in reality, as the change that would make the records say so.
type hypothesis struct {
	key      string // hypotheses about one thing are one suspect
	kind     SuspectKind
	line     string // that it is about; "" where nothing is written of it
	why      string
	check    string
	weight   float64
	change   estate.Change
	hangs    string // the line of a listener that takes connections and never answers
	own      bool   // only looks that read its line can be other than before
	machine  string // only looks that pass it can be; "" where any can
	weak     bool   // otherwise in a way not thought of: it may explain whatever reads the line
	records  []string
	foresees []string
	so       *bench // the estate in which it is so; nil until it is asked
}

// hypotheses are what may be otherwise: the lines that the looks to be explained were followed by, and what nobody wrote down at the machines
// on their ways.
func (x *inquiry) hypotheses() []*hypothesis {
	g := &guessing{inquiry: x, seen: map[string]bool{}}
	lines, machines := map[string]bool{}, map[string]bool{}
	for _, i := range x.asked {
		maps.Copy(lines, x.reads[i])
		maps.Copy(machines, x.machines[i])
	}
	for _, r := range x.t.Model.Estate.All() {
		if line := estate.Line(r); lines[line] {
			g.written(line, r)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(machines)) {
		p := x.t.Model.PlaceNamed(name)
		if p.Outside {
			continue
		}
		for _, i := range x.asked {
			g.unwritten(p, &x.looks[i])
		}
	}
	return g.out
}

type guessing struct {
	*inquiry
	out  []*hypothesis
	seen map[string]bool
}

func (g *guessing) add(h *hypothesis) {
	id := h.why + fmt.Sprint(h.change.Remove)
	if g.seen[id] {
		return
	}
	g.seen[id] = true
	if h.line != "" {
		h.key, h.kind, h.records = h.line, Written, []string{h.line}
	}
	g.out = append(g.out, h)
}

// written are the ways in which a line may not be so.
func (g *guessing) written(line string, r estate.Record) {
	turn := func(weight float64, why, check string, next ...estate.Record) {
		c := estate.Change{Remove: []string{line}}
		for _, n := range next {
			c.Add = append(c.Add, estate.Placed{Record: n})
		}
		_, isAddress := r.(*estate.Address)
		_, isRoute := r.(*estate.Route)
		f, isFilter := r.(*estate.Filter)
		g.add(&hypothesis{line: line, why: why, check: check, weight: weight, change: c, own: !isAddress && !isRoute && !(isFilter && f.Stateless)})
	}
	switch r := r.(type) {
	case *estate.Listen:
		check := fmt.Sprintf("On %s: is %s running, and what does it listen on?", r.Place, r.Service)
		turn(notRunning, fmt.Sprintf("%s does not run on %s", r.Service, r.Place), check)
		g.add(&hypothesis{
			line: line, why: fmt.Sprintf("%s hangs on %s: it takes connections, and answers nothing", r.Service, r.Place), own: true, hangs: line, weight: g.hanging(),
			check: fmt.Sprintf("On %s: what has %s logged last, and does it answer whoever asks it there?", r.Place, r.Service),
		})
		if !r.Bind.Addr.IsValid() || r.Bind.Addr.IsUnspecified() {
			turn(lineOff, fmt.Sprintf("%s listens on loopback only on %s", r.Service, r.Place), check, estate.With(r, func(n *estate.Listen) { n.Bind.Addr = netip.AddrFrom4([4]byte{127, 0, 0, 1}) }))
			turn(oneOf, fmt.Sprintf("%s listens on IPv4 only on %s", r.Service, r.Place), check, estate.With(r, func(n *estate.Listen) { n.Bind.Addr = netip.IPv4Unspecified() }))
			for _, a := range g.addressesOf(r.Place) {
				turn(oneOf, fmt.Sprintf("%s listens on %s only on %s", r.Service, a, r.Place), check, estate.With(r, func(n *estate.Listen) { n.Bind.Addr = a }))
			}
		}
		for _, port := range g.freePort(r.Place) {
			turn(oneOf, fmt.Sprintf("%s listens on another port on %s", r.Service, r.Place), check, estate.With(r, func(n *estate.Listen) { n.Bind.Ports.Ranges = []netset.PortRange{{Lo: port, Hi: port}} }))
		}
	case *estate.Rule:
		turn(lineOff, fmt.Sprintf("the line is not in force in filter %s", r.Filter), fmt.Sprintf("List the rules of %s as they are in force.", r.Filter))
		g.moved(line, r)
	case *estate.Filter:
		check := fmt.Sprintf("List filter %s as it is in force on %s.", r.Name, strings.Join(r.On, ", "))
		turn(lineOff, fmt.Sprintf("filter %s is not in force", r.Name), check)
		for _, otherwise := range []string{"pass", "drop", "refuse"} {
			if otherwise != r.Otherwise {
				turn(policy, fmt.Sprintf("what no line of filter %s names is not met by %s, but by %s", r.Name, r.Otherwise, otherwise), check, estate.With(r, func(n *estate.Filter) { n.Otherwise = otherwise }))
			}
		}
	case *estate.Forward:
		check := fmt.Sprintf("Look at the forwards of %s as they are in force.", r.Router)
		turn(lineOff, fmt.Sprintf("the forward is not in force on %s", r.Router), check)
		if free, ok := g.freeBeside(r.To.Addr); ok {
			turn(oneOf, fmt.Sprintf("the forward of %s leads to another machine", r.Router), check, estate.With(r, func(n *estate.Forward) { n.To.Addr = free }))
		}
		turn(oneOf, fmt.Sprintf("the forward of %s leads to another port", r.Router), check, estate.With(r, func(n *estate.Forward) {
			n.To.Ports = estate.Ports{Ranges: []netset.PortRange{{Lo: 65533, Hi: 65533}}, Transport: n.Bind.Transport}
		}))
	case *estate.Map:
		check := fmt.Sprintf("List the published ports of %s.", r.Container)
		turn(lineOff, fmt.Sprintf("the port of %s is not published", r.Container), check)
		turn(oneOf, fmt.Sprintf("the port of %s leads to another one inside", r.Container), check, estate.With(r, func(n *estate.Map) {
			n.To = estate.Ports{Ranges: []netset.PortRange{{Lo: 65533, Hi: 65533}}, Transport: n.Bind.Transport}
		}))
	case *estate.Address:
		check := fmt.Sprintf("List the addresses of %s.", strings.Join(r.Hosts, ", "))
		turn(standsElse, fmt.Sprintf("%s does not hold %s", strings.Join(r.Hosts, ", "), r.Held), check)
		if free, ok := g.freeBeside(r.Held.Addr); ok && g.asks(r.Hosts) { // who is only asked is met at neither
			turn(oneOf, fmt.Sprintf("%s holds another address than %s", strings.Join(r.Hosts, ", "), r.Held), check, estate.With(r, func(n *estate.Address) { n.Held.Addr = free }))
		}
	case *estate.Route:
		check := fmt.Sprintf("List the routes of %s.", r.Host)
		turn(standsElse, fmt.Sprintf("%s has no such route", r.Host), check)
		for _, via := range g.routersBeside(r.Via) {
			turn(oneOf, fmt.Sprintf("the %s route of %s leads by %s", r.To, r.Host, via), check, estate.With(r, func(n *estate.Route) { n.Via = via }))
		}
	case *estate.DNS:
		turn(lineOff, fmt.Sprintf("the record of %s is not in the zone", r.Owner), "Ask the zone's own name servers.")
		g.answered(line, r)
	case *estate.Site:
		turn(lineOff, fmt.Sprintf("the site of %s is not in force", r.Service), fmt.Sprintf("Look at the configuration that %s has loaded.", r.Service))
	case *estate.Cert:
		g.certificate(line, r)
	case *estate.Outbound:
		turn(lineOff, fmt.Sprintf("sources are not rewritten so on %s", r.Router), fmt.Sprintf("Look at the rewriting of sources on %s.", r.Router))
	default:
		return
	}
	g.add(&hypothesis{line: line, why: "it is otherwise, in a way not thought of", check: "Compare the line with what is in force.", weight: anyHow, weak: true})
}

// hanging is how often a program hangs beside other things. A front that got no connection says so with another status (RFC 9110 §15.6.5).
func (g *guessing) hanging() float64 {
	if slices.ContainsFunc(g.asked, func(i int) bool { return g.looks[i].Status == http.StatusGatewayTimeout }) {
		return waitedFor
	}
	return oneOf
}

// moved are the places that a rule may stand at instead.
func (g *guessing) moved(line string, r *estate.Rule) {
	last := 0
	for _, other := range g.t.Model.Estate.Of(estate.KindNamed("rule")) {
		if other.(*estate.Rule).Filter == r.Filter {
			last++
		}
	}
	for _, at := range []int{1, last} {
		g.add(&hypothesis{
			line: line, why: fmt.Sprintf("the line stands at place %d of filter %s", at, r.Filter), check: fmt.Sprintf("List the rules of %s in their order.", r.Filter), weight: oneOf,
			change: estate.Change{Remove: []string{line}, Add: []estate.Placed{{Record: r, At: at}}},
		})
	}
}

// answered has a name answer what was seen, as its record may be.
func (g *guessing) answered(line string, r *estate.DNS) {
	for _, i := range g.asked {
		l := &g.looks[i]
		if l.Did != Resolve || len(l.Answers) != 1 || !strings.HasSuffix(l.Target, " "+r.Type) {
			continue
		}
		next := estate.With(r, func(n *estate.DNS) { n.Value, n.Dynamic, n.Every = l.Answers[0], "", estate.NotGiven })
		g.add(&hypothesis{
			line: line, why: fmt.Sprintf("the zone has %s for %s", l.Answers[0], r.Owner), check: "Ask the zone's own name servers.", weight: lineOff,
			change: estate.Change{Remove: []string{line}, Add: []estate.Placed{{Record: next}}}, own: true,
		})
		g.add(&hypothesis{
			key: "an old answer of " + r.Owner, kind: Unwritten, records: []string{line}, why: fmt.Sprintf("%s is an old answer for %s, which the resolver still keeps", l.Answers[0], r.Owner),
			check: "Ask another resolver, and the zone's own name servers.", weight: standsElse, change: estate.Change{Remove: []string{line}, Add: []estate.Placed{{Record: next}}},
		})
	}
}

// certificate has a certificate be the one that was seen, or over.
func (g *guessing) certificate(line string, r *estate.Cert) {
	check := fmt.Sprintf("Read the certificate that %s shows, and the file that it was loaded from.", strings.Join(r.On, ", "))
	turn := func(weight float64, why string, edit func(*estate.Cert)) {
		g.add(&hypothesis{line: line, why: why, check: check, weight: weight, change: estate.Change{Remove: []string{line}, Add: []estate.Placed{{Record: estate.With(r, edit)}}}, own: true})
	}
	for _, i := range g.asked {
		if l := &g.looks[i]; l.Did == TLS && l.Expires != "" && l.Expires != string(r.Expires) {
			turn(lineOff, fmt.Sprintf("the certificate that is shown is another one, good until %s: %s was renewed, and not loaded", l.Expires, r.Name), func(n *estate.Cert) { n.Expires = estate.Date(l.Expires) })
		}
	}
	turn(oneOf, fmt.Sprintf("certificate %s has run out", r.Name), func(n *estate.Cert) { n.Expires = "2000-01-01" })
	g.add(&hypothesis{line: line, why: fmt.Sprintf("certificate %s is not there", r.Name), check: check, weight: lineOff, change: estate.Change{Remove: []string{line}}, own: true})
}

// unwritten is what nobody wrote down at a machine on the way of a look.
func (g *guessing) unwritten(p *model.Place, l *Look) {
	_, port := l.Aim()
	down := estate.Change{}
	for _, r := range g.t.Model.Estate.Of(estate.KindNamed("address")) {
		if a := r.(*estate.Address); !a.Off && len(a.Hosts) == 1 && a.Hosts[0] == p.Name {
			down.Remove = append(down.Remove, estate.Line(r))
		}
	}
	if len(down.Remove) > 0 {
		g.add(&hypothesis{key: p.Name + " is down", kind: Unwritten, why: p.Name + " is down", check: fmt.Sprintf("Is %s up, and on its networks?", p.Name), weight: standsElse, change: down})
	}
	if port == 0 {
		return
	}
	if l.Came == Arrived {
		g.add(&hypothesis{
			key: "a listener on " + p.Name, kind: Unwritten, weight: standsElse, why: fmt.Sprintf("a program that nobody wrote down listens on port %d of %s, or has had it opened", port, p.Name),
			check: fmt.Sprintf("List what listens on %s, and the mappings that programs asked it for.", p.Name), change: added(&estate.Listen{Place: p.Name, Bind: estate.Bind{Ports: onePort(port)}, Service: "unrecorded"}),
		})
		return
	}
	for _, action := range []string{"drop", "refuse"} {
		for _, who := range []string{"", "internet"} {
			for _, all := range []bool{false, true} {
				g.inFront(p, port, action, who, all)
			}
		}
	}
}

// inFront is a filter that nobody wrote down, in front of a machine: for one port or all, for everybody or the internet.
func (g *guessing) inFront(p *model.Place, port uint16, action, who string, all bool) {
	const name = "unrecorded"
	does := map[string]string{"drop": "drops", "refuse": "refuses"}[action]
	what, whom := fmt.Sprintf("port %d", port), "from everybody"
	rule := &estate.Rule{Filter: name, Action: action, Ports: onePort(port)}
	if all {
		rule.Ports, what = estate.Ports{Any: true, Transport: netset.TCP}, "every port"
	}
	if who != "" {
		rule.From, whom = []estate.Selector{{Word: who}}, "from the internet"
	}
	g.add(&hypothesis{
		key: "a filter in front of " + p.Name, kind: Unwritten, weight: policy, why: fmt.Sprintf("something in front of %s %s %s %s", p.Name, does, what, whom),
		check: fmt.Sprintf("Look for a filter that is not recorded: on %s, at its provider, on the way to it.", p.Name), machine: p.Name,
		change: added(&estate.Filter{Name: name, On: []string{p.Name}, Hook: "arriving", Otherwise: "pass"}, rule),
	})
}

func added(records ...estate.Record) estate.Change {
	var c estate.Change
	for _, r := range records {
		c.Add = append(c.Add, estate.Placed{Record: r})
	}
	return c
}

func onePort(port uint16) estate.Ports {
	return estate.Ports{Ranges: []netset.PortRange{{Lo: port, Hi: port}}, Transport: netset.TCP}
}

// freePort is a port of a place that nothing has.
func (g *guessing) freePort(place string) []uint16 {
	p := g.t.Model.PlaceNamed(place)
	if p == nil {
		return nil
	}
	taken := g.t.Model.TakenPorts(g.t.Model.Places[p.Namespace], netip.Addr{}, netset.TCP)
	for port := uint16(61001); port > 0; port++ {
		if !taken.Contains(port) {
			return []uint16{port}
		}
	}
	return nil
}

// addressesOf are the addresses of a place that has several, as far as it matters on which of them a program listens.
func (g *guessing) addressesOf(place string) []netip.Addr {
	p := g.t.Model.PlaceNamed(place)
	if p == nil {
		return nil
	}
	var out []netip.Addr
	for _, attachment := range g.t.Model.Places[p.Namespace].Attachments {
		out = append(out, attachment.Addrs...)
	}
	if len(out) < 2 {
		return nil
	}
	return out[:min(len(out), mostAddresses)]
}

// mostAddresses is of how many addresses one is supposed to be it.
const mostAddresses = 4

// asks says whether one of some machines looked.
func (g *guessing) asks(hosts []string) bool {
	return slices.ContainsFunc(g.looks, func(l Look) bool { return slices.Contains(hosts, l.From) })
}

// routersBeside are the addresses of other routers in the network of one.
func (g *guessing) routersBeside(via netip.Addr) []netip.Addr {
	on := func(n model.NetID, p *model.Place, a netip.Addr) bool {
		return slices.ContainsFunc(p.Attachments, func(l model.Attachment) bool { return l.Net == n && slices.Contains(l.Addrs, a) })
	}
	var out []netip.Addr
	for _, h := range g.t.Model.Owners(via) {
		for _, p := range g.t.Model.Places {
			for _, l := range p.Attachments {
				if !p.Router || p.ID == h.Place || !on(l.Net, g.t.Model.Places[h.Place], via) {
					continue
				}
				for _, a := range l.Addrs {
					if a.Is6() == via.Is6() && len(out) < mostAddresses {
						out = append(out, a)
					}
				}
			}
		}
	}
	return out
}

// freeBeside is an address of the same network that nobody holds.
func (g *guessing) freeBeside(a netip.Addr) (netip.Addr, bool) {
	for next, n := a.Next(), 0; next.IsValid() && n < 300; next, n = next.Next(), n+1 {
		if len(g.t.Model.Owners(next)) == 0 && g.t.Model.InRecordedNetwork(next) {
			return next, true
		}
	}
	return netip.Addr{}, false
}
