// Package ports lays the ports of a machine out in layers, from the outside in: forwarded at, let in by, mapped,
// listening, served as; and says from how far out each is reached.
package ports

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// Reach is from how far out a port is reached.
type Reach string

const (
	World  Reach = "world"
	Inside Reach = "inside"
	Itself Reach = "itself"
	Nobody Reach = "nobody"
)

// Port is a port, or an unbroken range that is alike, of one machine and transport.
type Port struct {
	Port       uint16 `json:"port"`
	Last       uint16 `json:"last"` // Port, where it is no range
	Transport  string `json:"transport"`
	Reach      Reach  `json:"reach"`
	Undeclared bool   `json:"undeclared" doc:"The world reaches it, and no intent says so"`
	Clash      string `json:"clash,omitempty" doc:"Why two that want it clash"`
}

// Machine is a machine with its used ports, in their order.
type Machine struct {
	Name      string   `json:"name"`
	Router    bool     `json:"router"`
	Addresses []string `json:"addresses" nullable:"false"`
	Sockets   int      `json:"sockets"`
	Maps      int      `json:"maps"`
	Ports     []Port   `json:"ports" nullable:"false"`
}

// Clash is why two that want a range of a machine's ports clash.
type Clash struct {
	Machine   string
	Transport string
	Range     netset.PortRange
	Why       string
}

// Chart is the ports of all machines.
type Chart struct {
	t       *trace.Tracer
	m       *model.Model
	open    map[string][]exposure.Open // by vantage
	reached map[place]map[Reach]netset.Ports
	bare    map[place]netset.Ports // reached by the world, with something that nobody declared
	meant   map[place]netset.Ports // reached by the world, with something that somebody did
	past    map[place]netset.Ports // mapped ahead of input filters that would have stopped them
	clashes []Clash
}

type place struct {
	machine string
	proto   netset.Transport
}

// New makes the chart of an estate. open is what each vantage reaches: internet and the recorded networks.
func New(t *trace.Tracer, open map[string][]exposure.Open, clashes []Clash) *Chart {
	c := &Chart{t: t, m: t.Model, open: open, reached: map[place]map[Reach]netset.Ports{}, bare: map[place]netset.Ports{}, meant: map[place]netset.Ports{}, past: map[place]netset.Ports{}, clashes: clashes}
	for from, list := range open {
		for i := range list {
			c.note(from, &list[i])
		}
	}
	return c
}

// note marks the ports of the machine by which something open is entered.
func (c *Chart) note(from string, e *exposure.Open) {
	machine, ports := c.entered(e)
	at := place{machine, protoOf(e.Transport)}
	reach := Inside
	if from == "internet" {
		reach = World
	} else if net := c.m.NetNamed(from); net == nil || net.Container() && c.m.Places[net.On].Name == machine {
		reach = Itself
	}
	if c.reached[at] == nil {
		c.reached[at] = map[Reach]netset.Ports{}
	}
	c.reached[at][reach] = c.reached[at][reach].Union(ports)
	switch {
	case reach == World && e.Intent == exposure.None:
		c.bare[at] = c.bare[at].Union(ports)
	case reach == World:
		c.meant[at] = c.meant[at].Union(ports)
	}
	if e.PastInput {
		c.past[at] = c.past[at].Union(ports)
	}
}

// entered is the machine on which something open stands, and the machine's own ports that lead to it.
func (c *Chart) entered(e *exposure.Open) (string, netset.Ports) {
	machine, _, _ := strings.Cut(e.Place, "/")
	last := int(e.Port) + e.Range.Len() - 1
	inner := netset.PortRange{Lo: e.Port, Hi: uint16(min(last, netset.MaxPort))}
	if e.Map == nil {
		return machine, netset.PortsOf(inner)
	}
	var out []netset.PortRange
	for _, p := range estate.Translate(e.Map.Bind.Ports, e.Map.To) {
		lo, hi := int(p.To), int(p.Inner(p.From.Hi))
		switch {
		case p.Many && inner.Lo == p.To:
			out = append(out, p.From)
		case !p.Many && int(inner.Lo) <= hi && int(inner.Hi) >= lo:
			from := max(int(inner.Lo), lo) - lo
			to := min(int(inner.Hi), hi) - lo
			out = append(out, netset.PortRange{Lo: p.From.Lo + uint16(from), Hi: p.From.Lo + uint16(to)})
		}
	}
	return machine, netset.PortsOf(out...)
}

func protoOf(word string) netset.Transport {
	if word == "udp" {
		return netset.UDP
	}
	return netset.TCP
}

// widest is how many ports a rule may let in by number and still stand for ports that somebody means.
const widest = 8

// used are the ranges of ports that something of a machine speaks of, for one transport.
func (c *Chart) used(p *model.Place, proto netset.Transport) []netset.PortRange {
	var out []netset.PortRange
	add := func(t netset.Transport, ranges []netset.PortRange) {
		if t&proto != 0 {
			out = append(out, ranges...)
		}
	}
	for i := range p.Sockets {
		add(p.Sockets[i].Record.Bind.Transport, p.Sockets[i].Ports.Ranges())
	}
	for _, m := range p.Maps {
		add(m.Record.Bind.Transport, m.Ports.Ranges())
	}
	for _, r := range c.m.Places {
		for _, f := range r.Forwards {
			if !p.Owns(f.Record.To.Addr) || f.Record.Bind.Any {
				continue
			}
			for _, pair := range f.Pairs {
				add(f.Record.Bind.Transport, []netset.PortRange{{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)}})
			}
		}
	}
	for _, f := range p.Filters[model.Input] {
		for _, r := range f.Rules {
			if r.Record.Action == "pass" && !r.Record.Ports.Any && r.Record.Ports.Count() <= widest {
				add(r.Record.Ports.Transport, r.Record.Ports.Ranges)
			}
		}
	}
	return out
}

// alike cuts ranges where one of them begins or ends, so that each part is one thing throughout.
func alike(ranges []netset.PortRange) []netset.PortRange {
	cuts := map[int]bool{}
	for _, r := range ranges {
		cuts[int(r.Lo)], cuts[int(r.Hi)+1] = true, true
	}
	var at []int
	for c := range cuts {
		at = append(at, c)
	}
	slices.Sort(at)
	all := netset.PortsOf(ranges...)
	var out []netset.PortRange
	for i := 0; i+1 < len(at); i++ {
		if part := (netset.PortRange{Lo: uint16(at[i]), Hi: uint16(at[i+1] - 1)}); all.Contains(part.Lo) {
			out = append(out, part)
		}
	}
	return out
}

// Machines are all machines of ours with their used ports.
func (c *Chart) Machines() []Machine {
	out := []Machine{}
	for _, p := range c.m.Places {
		if p.IsContainer() || p.Outside {
			continue
		}
		out = append(out, c.machine(p))
	}
	return out
}

func (c *Chart) machine(p *model.Place) Machine {
	m := Machine{Name: p.Name, Router: p.Router, Addresses: []string{}, Sockets: len(p.Sockets), Maps: len(p.Maps), Ports: []Port{}}
	for _, attachment := range p.Attachments {
		for _, a := range attachment.Addrs {
			if !attachment.Gateway {
				m.Addresses = append(m.Addresses, a.String())
			}
		}
	}
	for _, proto := range netset.Both.Each() {
		for _, r := range alike(c.used(p, proto)) {
			m.Ports = append(m.Ports, c.port(p, proto, r))
		}
	}
	slices.SortStableFunc(m.Ports, func(a, b Port) int { return cmp.Compare(a.Port, b.Port) })
	return m
}

func (c *Chart) port(p *model.Place, proto netset.Transport, r netset.PortRange) Port {
	at := place{p.Name, proto}
	out := Port{Port: r.Lo, Last: r.Hi, Transport: proto.String(), Reach: Nobody, Undeclared: c.bare[at].Contains(r.Lo) && !c.meant[at].Contains(r.Lo)}
	switch by := c.reached[at]; {
	case by[World].Contains(r.Lo):
		out.Reach = World
	case by[Inside].Contains(r.Lo):
		out.Reach = Inside
	case by[Itself].Contains(r.Lo) || c.taken(p, proto, r.Lo):
		out.Reach = Itself
	}
	for _, clash := range c.clashes {
		if clash.Machine == p.Name && clash.Transport == out.Transport && clash.Range.Lo <= r.Hi && r.Lo <= clash.Range.Hi {
			out.Clash = clash.Why
		}
	}
	return out
}

// taken says whether a listener has a port: its own machine reaches it, whatever the filters say.
func (c *Chart) taken(p *model.Place, proto netset.Transport, port uint16) bool {
	for i := range p.Sockets {
		if s := &p.Sockets[i]; s.Record.Bind.Transport&proto != 0 && s.Ports.Contains(port) {
			return true
		}
	}
	for _, m := range p.Maps { // the first that takes the port has it
		if m.Record.Bind.Transport&proto == 0 || !m.Ports.Contains(port) || m.Container == model.Nowhere {
			continue
		}
		namespace := c.m.Places[c.m.Places[m.Container].Namespace]
		for _, pair := range m.Pairs {
			if port < pair.From.Lo || port > pair.From.Hi {
				continue
			}
			return slices.ContainsFunc(namespace.Sockets, func(s model.Socket) bool {
				return s.Record.Bind.Transport&proto != 0 && s.Ports.Contains(pair.Inner(port))
			})
		}
	}
	return false
}

// NextFree is the lowest port above another that nothing of a machine has on an address, on any where that is not valid,
// for a transport; 0 where there is none.
func (c *Chart) NextFree(machine string, on netip.Addr, proto netset.Transport, above uint16) (uint16, bool) {
	p := c.m.PlaceNamed(machine)
	if p == nil || p.IsContainer() {
		return 0, false
	}
	free := netset.AllPorts().Subtract(c.m.TakenPorts(p, on, proto))
	for _, r := range free.Ranges() {
		if int(r.Hi) > int(above) {
			return max(r.Lo, above+1), true
		}
	}
	return 0, false
}

// Layer is one of the layers that a flow meets, from the outside in.
type Layer int

// The layers.
const (
	Forwarded Layer = iota
	LetIn
	Mapped
	Listening
	Served
	Layers = 5
)

// Item is what stands in one layer of a port.
type Item struct {
	Text   string `json:"text"`
	Stops  bool   `json:"stops"` // what comes in stops here
	Beyond bool   `json:"beyond"`
}

// Depth is a port with its layers.
type Depth struct {
	Port
	Layers  [Layers][]Item `json:"layers"`
	First   int            `json:"first"` // the layer where what comes in begins
	Ends    int            `json:"ends"`  // the layer to which it gets
	Arrives bool           `json:"arrives"`
	Target  string         `json:"target"` // the trace that shows it, and from where
	From    string         `json:"from"`
}

// Depths are the ports of a machine in depth; nil where there is no such machine.
func (c *Chart) Depths(machine string) []Depth {
	p := c.m.PlaceNamed(machine)
	if p == nil || p.IsContainer() {
		return nil
	}
	out := []Depth{}
	for _, port := range c.machine(p).Ports {
		out = append(out, c.depth(p, port))
	}
	return out
}

// entrance is where a flow from outside comes in to a machine's port.
type entrance struct {
	from    string
	addr    netip.Addr
	port    uint16
	forward *model.Forward
	router  *model.Place
	other   bool // the forward is for the other transport
}

// entranceOf is the outermost way to a port: a forward, an address of the machine's own out there, else the network from
// which it is reached, else the machine's own.
func (c *Chart) entranceOf(p *model.Place, port Port) entrance {
	proto := protoOf(port.Transport)
	var wrong *entrance
	for _, r := range c.m.Places {
		for _, f := range r.Forwards {
			if !p.Owns(f.Record.To.Addr) {
				continue
			}
			for _, pair := range f.Pairs {
				if pair.Many && pair.To != port.Port || !pair.Many && (port.Port < pair.To || port.Port > pair.Inner(pair.From.Hi)) {
					continue
				}
				e := entrance{from: "internet", addr: f.Record.Bind.Addr, port: pair.From.Lo, forward: f, router: r}
				if !pair.Many {
					e.port += port.Port - pair.To
				}
				if outer := c.m.OuterAddrs(r, f.Record.To.Addr.Is6()); !e.addr.IsValid() && len(outer) > 0 {
					e.addr = outer[0]
				}
				if !e.addr.IsValid() {
					continue
				}
				if f.Record.Bind.Transport&proto != 0 {
					return e
				}
				e.other = true
				wrong = &e
			}
		}
	}
	if wrong != nil {
		return *wrong
	}
	reached := func(from string) (netip.Addr, bool) {
		for i := range c.open[from] {
			e := &c.open[from][i]
			machine, ports := c.entered(e)
			if machine == p.Name && e.Transport == port.Transport && ports.Contains(port.Port) {
				if a, err := netip.ParseAddr(e.Address); err == nil && p.Owns(a) {
					return a, true
				}
			}
		}
		return netip.Addr{}, false
	}
	if a, ok := reached("internet"); ok {
		return entrance{from: "internet", addr: a, port: port.Port}
	}
	for _, net := range c.m.Networks[1:] {
		if net.Container() && c.m.Places[net.On] == p {
			continue
		}
		if a, ok := reached(net.Name); ok {
			return entrance{from: net.Name, addr: a, port: port.Port}
		}
	}
	for _, attachment := range p.Attachments {
		for _, a := range attachment.Addrs {
			if !attachment.Gateway {
				return entrance{from: c.m.Networks[attachment.Net].Name, addr: a, port: port.Port}
			}
		}
	}
	return entrance{from: p.Name, addr: netip.AddrFrom4([4]byte{127, 0, 0, 1}), port: port.Port}
}

// depth follows the outermost way to a port, and puts what it meets into layers.
func (c *Chart) depth(p *model.Place, port Port) Depth {
	d := Depth{Port: port, First: int(Listening), Ends: int(Listening)}
	e := c.entranceOf(p, port)
	proto := protoOf(port.Transport)
	d.From, d.Target = e.from, fmt.Sprintf("%s:%d", bracketed(e.addr), e.port)
	if port.Transport == "udp" {
		d.Target += "/udp"
	}
	switch {
	case e.from == "internet":
		d.First = int(Forwarded)
	case e.from != p.Name:
		d.First = int(LetIn)
	}
	if e.forward != nil {
		text := fmt.Sprintf("%s %d", e.router.Name, e.port)
		if e.other {
			text = fmt.Sprintf("%s %d/%s", e.router.Name, e.port, e.forward.Record.Bind.Transport)
		}
		d.put(Forwarded, Item{Text: text, Stops: e.other})
	}
	v, err := c.t.VantageNamed(e.from)
	if err != nil {
		return d
	}
	tg := trace.Target{Text: d.Target, Addr: e.addr, Port: e.port, Proto: proto}
	paths := c.t.TracePort(tg, flow.PortKey{Port: e.port, Transport: proto}, v)
	if e.other {
		d.Ends = int(Forwarded)
	} else if len(paths) > 0 {
		best := &paths[0]
		for i := range paths {
			if paths[i].Outcome.Good() {
				best = &paths[i]
				break
			}
		}
		d.follow(best)
	}
	if c.past[place{p.Name, proto}].Contains(port.Port) {
		for _, f := range p.Filters[model.Input] {
			d.put(LetIn, Item{Text: "past " + f.Record.Name})
		}
	}
	c.shouldBe(&d, p, port)
	return d
}

func (d *Depth) put(l Layer, i Item) {
	if !slices.ContainsFunc(d.Layers[l], func(x Item) bool { return x.Text == i.Text }) {
		d.Layers[l] = append(d.Layers[l], i)
	}
}

// stopped says whether something stops in a layer.
func (d *Depth) stopped() (Layer, bool) {
	for l, items := range d.Layers {
		for _, i := range items {
			if i.Stops {
				return Layer(l), true
			}
		}
	}
	return 0, false
}

// follow reads the steps of a path up to the listener.
func (d *Depth) follow(p *trace.Path) {
	broken := map[int]*flow.Break{}
	for i := range p.Breaks {
		if broken[p.Breaks[i].Step] == nil {
			broken[p.Breaks[i].Step] = &p.Breaks[i]
		}
	}
	for i, s := range p.Steps {
		layer := map[flow.Stage]Layer{flow.StageFilter: LetIn, flow.StageTranslate: Mapped, flow.StageSocket: Listening, flow.StageRoute: LetIn}
		l, ok := layer[s.Stage]
		if !ok {
			if s.Stage == flow.StageTLS || s.Stage == flow.StageSite {
				break
			}
			continue
		}
		if b := broken[i]; b != nil && !s.Ghost {
			d.put(l, Item{Text: b.Short, Stops: true})
			break
		}
		word := recordWord(s.Records)
		if s.Stage == flow.StageFilter && word != "" {
			d.put(LetIn, Item{Text: word})
		}
		if s.Stage == flow.StageSocket {
			d.Ends, d.Arrives = int(Listening), true
			break
		}
	}
	if l, ok := d.stopped(); ok {
		d.Ends, d.Arrives = int(l), false
	}
}

func firstRecord(records []string) string {
	if len(records) == 0 {
		return ""
	}
	return records[0]
}

// recordWord is the name of the filter in a rule or filter line.
func recordWord(records []string) string {
	words := strings.Fields(firstRecord(records))
	if len(words) > 1 && (words[0] == "rule" || words[0] == "filter") {
		return words[1]
	}
	return ""
}

// shouldBe fills the inner layers with what is recorded for the port, also where nothing gets to it.
func (c *Chart) shouldBe(d *Depth, p *model.Place, port Port) {
	proto := protoOf(port.Transport)
	beyond := !d.Arrives
	at, namespace, inner := p.Name, p, port.Port
	for _, m := range p.Maps {
		if m.Record.Bind.Transport&proto == 0 || !m.Ports.Contains(port.Port) {
			continue
		}
		for _, pair := range m.Pairs {
			if pair.From.Lo <= port.Port && port.Port <= pair.From.Hi {
				_, short, _ := strings.Cut(m.Record.Container, "/")
				d.put(Mapped, Item{Text: fmt.Sprintf("%s %d", short, pair.Inner(port.Port)), Beyond: beyond})
				if namespace == p && m.Container != model.Nowhere {
					at, namespace, inner = m.Record.Container, c.m.Places[c.m.Places[m.Container].Namespace], pair.Inner(port.Port)
				}
			}
		}
	}
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
		if s.Record.Bind.Transport&proto == 0 || !s.Ports.Contains(inner) || namespace != p && c.m.Places[s.Place].Name != at {
			continue
		}
		d.put(Listening, Item{Text: s.Record.Service, Beyond: beyond})
		c.served(d, s, inner, beyond)
	}
	if d.Arrives && len(d.Layers[Served]) > 0 {
		d.Ends = int(Served)
	}
}

// served are the sites of a listener's service at a port: the one, or how many.
func (c *Chart) served(d *Depth, s *model.Socket, port uint16, beyond bool) {
	service := c.m.Services[s.Record.Service]
	var found []string
	for _, site := range service.Sites {
		if site.Ports.IsEmpty() || site.Ports.Contains(port) {
			text := site.Name
			if !site.Record.Redirect.IsZero() {
				text += " redirects"
			}
			found = append(found, text)
		}
	}
	switch {
	case len(found) == 0:
	case len(found) <= 2:
		for _, text := range found {
			d.put(Served, Item{Text: text, Beyond: beyond})
		}
	default:
		d.put(Served, Item{Text: fmt.Sprintf("%d sites", len(found)), Beyond: beyond})
	}
}

func bracketed(a netip.Addr) string {
	if a.Is6() {
		return "[" + a.String() + "]"
	}
	return a.String()
}
