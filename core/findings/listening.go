package findings

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"sync"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// listening is what stands behind the addresses of an estate, as the flows to it look on their way.
type listening struct {
	m        *model.Model
	recorded netset.Addrs
	owned    [][]behind // by machine: what it has on each of its addresses
	leads    *sync.Map  // by machine: to which doors it leads
	// at are the addresses as other machines reach them: on the outer ports of maps and forwards.
	at    carry.Map[netip.Addr, []door]
	addrs []netip.Addr                      // of at, in the order met
	feeds map[model.PlaceID][]model.PlaceID // the machines to which one's forwards lead, or whose forwards lead to it
}

// lookout asks again and again what is listening behind the lines of one filter.
type lookout struct {
	*listening
	known map[listeningKey]behind
	reads map[model.PlaceID]bool // the machines that were looked at
}

func (l *lookout) look(p model.PlaceID) {
	l.reads[p] = true
	for _, id := range l.feeds[p] {
		l.reads[id] = true
	}
}

// door is what stands at an address of a place.
type door struct {
	place model.PlaceID
	behind
}

type listeningKey struct {
	place   model.PlaceID
	hook    model.Hook
	v4      bool
	v6      bool
	outside bool
	loops   bool
	any     bool
	to      netset.Addrs
	from    netset.Addrs
}

// listeners is what stands behind addresses: as before, where nothing speaks of that.
func (s *survey) listeners(before *listening, e edit) *listening {
	switch {
	case before == nil || !sameProved(before.m, s.m):
		return newListening(s.m, nil)
	case !estate.Same(e.before.Estate, s.m.Estate, "forward"):
		return newListening(s.m, before)
	case !estate.Same(e.before.Estate, s.m.Estate, "listen", "map"):
		return before.after(s.m)
	}
	return before
}

// sameProved says whether the ports are as they were that programs listen on while they have certificates proved.
func sameProved(before, after *model.Model) bool {
	alone := func(m *model.Model) []*estate.Cert {
		return slices.DeleteFunc(slices.Clone(m.CertList), func(c *estate.Cert) bool { return !c.Alone })
	}
	return slices.EqualFunc(alone(before), alone(after), func(a, b *estate.Cert) bool { return a.By == b.By && slices.Equal(a.On, b.On) })
}

// newListening works it out; before, where it is set, is what stood there in a model in which machines hang together as in this.
func newListening(m *model.Model, before *listening) *listening {
	if before == nil {
		before = &listening{recorded: recordedAddrs(m)}
	}
	l := &listening{m: m, recorded: before.recorded, feeds: map[model.PlaceID][]model.PlaceID{}, owned: make([][]behind, len(m.Places)), leads: &sync.Map{}}
	w := &writing{listening: l, at: map[netip.Addr][]door{}, feeds: l.feeds}
	w.stand(m.Places, before)
	l.at, l.addrs = carry.MapOf(w.at), w.addrs
	if before.m != nil && l.sameDoors(before) {
		l.leads = before.leads
	}
	return l
}

// after is what stands there once listeners or maps came or went, and no forward: only that is worked out again which machines come by
// that have others now.
func (l *listening) after(m *model.Model) *listening {
	var todo []model.PlaceID
	for _, p := range m.Places {
		if !p.IsContainer() && !sameStacks(l.m, m, p) {
			todo = append(todo, p.ID)
		}
	}
	again := map[model.PlaceID]bool{}
	for len(todo) > 0 {
		id := todo[len(todo)-1]
		if todo = todo[:len(todo)-1]; again[id] {
			continue
		}
		again[id] = true
		todo = append(todo, l.feeds[id]...)
		for _, a := range l.doorsteps(m.Places[id]) {
			for _, d := range l.at.Of(a) { // an address of several
				todo = append(todo, d.place)
			}
		}
	}
	var places []*model.Place
	for _, p := range m.Places {
		if again[p.ID] {
			places = append(places, p)
		}
	}
	next := *l
	next.m, next.owned = m, slices.Clone(l.owned)
	w := &writing{listening: &next, at: map[netip.Addr][]door{}, feeds: map[model.PlaceID][]model.PlaceID{}}
	w.stand(places, l)
	next.at = l.at.After(nil, w.at)
	return &next
}

// doorsteps are the addresses at which a machine has doors.
func (l *listening) doorsteps(p *model.Place) []netip.Addr {
	out := ownAddrs(p)
	for _, f := range p.Forwards {
		out = append(out, l.outerAddrs(p, f)...)
	}
	return out
}

// ownAddrs are those of a machine, its containers' gateways aside.
func ownAddrs(p *model.Place) []netip.Addr {
	var out []netip.Addr
	for _, attachment := range p.Attachments {
		if !attachment.Gateway {
			out = append(out, attachment.Addrs...)
		}
	}
	return out
}

// writing is what stands at addresses, on the way.
type writing struct {
	*listening
	at    map[netip.Addr][]door
	addrs []netip.Addr
	feeds map[model.PlaceID][]model.PlaceID
}

// stand puts what some machines have at their addresses; before them none is there.
func (w *writing) stand(places []*model.Place, before *listening) {
	for _, p := range places {
		if p.IsContainer() {
			continue
		}
		w.owned[p.ID] = nil
		if before.m != nil && sameStacks(before.m, w.m, p) {
			w.owned[p.ID] = before.owned[p.ID]
		}
		for i, a := range ownAddrs(p) {
			if i == len(w.owned[p.ID]) {
				w.owned[p.ID] = append(w.owned[p.ID], w.own(p, a))
			}
			w.put(p, a, w.owned[p.ID][i])
		}
	}
	for _, p := range places { // behind the others: a forward to a router that forwards is not followed
		for _, f := range p.Forwards {
			w.forward(p, f)
		}
	}
}

// sameStacks says whether a machine and its containers are as they were.
func sameStacks(before, after *model.Model, p *model.Place) bool {
	return before.Places[p.ID] == p && !slices.ContainsFunc(p.Containers, func(id model.PlaceID) bool { return before.Places[id] != after.Places[id] })
}

// recordedAddrs is every address that something recorded may be seen to ask from, elsewhere than in its own machine.
func recordedAddrs(m *model.Model) netset.Addrs {
	sets := []netset.Addrs{m.Internet}
	for _, n := range m.Networks {
		if !n.Container() || n.Routed() {
			sets = append(sets, n.Set)
		}
	}
	var held []netip.Addr
	for _, p := range m.Places {
		for _, attachment := range p.Attachments {
			if n := m.Networks[attachment.Net]; !n.Container() || n.Routed() {
				held = append(held, attachment.Addrs...)
			}
			for _, b := range attachment.Blocks {
				sets = append(sets, netset.PrefixesOf(b))
			}
		}
	}
	return netset.Union(append(sets, netset.AddrsOf(held...))...)
}

func (w *writing) put(p *model.Place, a netip.Addr, b behind) {
	if _, known := w.at[a]; !known {
		w.addrs = append(w.addrs, a)
	}
	for i, d := range w.at[a] {
		if d.place == p.ID {
			w.at[a][i].join(b)
			return
		}
	}
	w.at[a] = append(w.at[a], door{p.ID, b})
}

// own is what a machine has on one of its addresses: its sockets, and what its maps lead to.
func (l *listening) own(p *model.Place, a netip.Addr) behind {
	b := behind{all: p.Unlisted || p.Outside}
	l.sockets(&b, p, a)
	for _, mp := range p.Maps {
		if on := mp.Record.Bind.Addr; on.IsValid() && on != a && !(on.IsUnspecified() && on.Is6() == a.Is6()) && !on.IsLoopback() {
			continue
		}
		b.add(mp.Record.Bind.Transport, l.outer(mp.Pairs, mp.Ports, l.inContainer(mp), mp.Record.Bind.Transport))
	}
	return b
}

// sockets adds the listeners of a namespace on one of its addresses; one for the namespace itself only is there all the same.
func (l *listening) sockets(b *behind, namespace *model.Place, a netip.Addr) {
	b.listeners(namespace, func(s *model.Socket) bool { return s.Takes(a, false) || s.Record.Bind.Addr.IsLoopback() })
	b.add(netset.TCP, l.m.ProvedAt(namespace))
}

func (l *listening) inContainer(mp *model.Map) behind {
	if mp.Container == model.Nowhere {
		return behind{}
	}
	c := l.m.Places[mp.Container]
	return l.container(c)
}

func (l *listening) container(c *model.Place) behind {
	b := behind{all: c.Unlisted}
	b.listeners(l.m.Places[c.Namespace], func(*model.Socket) bool { return true })
	b.add(netset.TCP, l.m.ProvedAt(c))
	return b
}

// outer are the ports of a translation behind which something listens.
func (l *listening) outer(pairs []estate.Pair, all netset.Ports, inner behind, t netset.Transport) netset.Ports {
	if inner.all {
		return all
	}
	listens := inner.of(t)
	var out []netset.PortRange
	for _, pair := range pairs {
		led := listens.Intersect(netset.PortsOf(netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)}))
		if pair.Many {
			if !led.IsEmpty() {
				out = append(out, pair.From)
			}
			continue
		}
		for _, r := range led.Ranges() {
			by := int(pair.From.Lo) - int(pair.To)
			out = append(out, netset.PortRange{Lo: uint16(int(r.Lo) + by), Hi: uint16(int(r.Hi) + by)})
		}
	}
	return netset.PortsOf(out...)
}

func (w *writing) forward(p *model.Place, f *model.Forward) {
	to, t := f.Record.To.Addr, f.Record.Bind.Transport
	var inner behind
	if p.Owns(to) {
		inner = w.own(p, to)
	}
	var led []netset.PortRange
	for _, pair := range f.Pairs {
		led = append(led, netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
	}
	for i, d := range w.at[to] {
		inner.join(d.behind)
		w.feeds[p.ID] = append(w.feeds[p.ID], d.place)
		w.feeds[d.place] = append(w.feeds[d.place], p.ID)
		for _, one := range t.Each() {
			k := transportIndex(one)
			w.at[to][i].forwarded[k] = w.at[to][i].forwarded[k].Union(netset.PortsOf(led...))
		}
	}
	outer := behind{}
	outer.add(t, w.outer(f.Pairs, f.Ports, inner, t))
	outer.forwarded = [2]netset.Ports{netset.AllPorts(), netset.AllPorts()} // it is reached at this address itself
	for _, a := range w.outerAddrs(p, f) {
		w.put(p, a, outer)
	}
}

// outerAddrs are the addresses that a forward takes flows to.
func (l *listening) outerAddrs(p *model.Place, f *model.Forward) []netip.Addr {
	if a := f.Record.Bind.Addr; a.IsValid() {
		return []netip.Addr{a}
	}
	return l.m.OuterAddrs(p, f.Record.To.Addr.Is6())
}

// inside is a container of a machine that listens on what a line names, and the map that leads there, where one does.
func (l *lookout) inside(p *model.Place, rule *model.Rule) (*model.Place, *model.Map) {
	t := rule.Record.Ports.Transport
	for _, id := range p.Containers {
		c := l.m.Places[id]
		has := l.container(c)
		named := has.of(t).Intersect(rule.Ports)
		if c.Namespace != id || named.IsEmpty() {
			continue
		}
		var there behind
		there.add(t, named)
		for _, mp := range p.Maps {
			if mp.Container == id && !l.outer(mp.Pairs, mp.Ports, there, t).IsEmpty() {
				return c, mp
			}
		}
		return c, nil
	}
	return nil, nil
}

// use says what a line stands before on one machine.
func (l *lookout) use(p *model.Place, hook model.Hook, f *model.Filter, rule *model.Rule) use {
	rec := rule.Record
	switch {
	case rec.Entering != "" && hook == model.Output:
		return use{why: fmt.Sprintf("What %s makes itself comes in by no network: a line with \"entering\" never takes any of it.", p.Name)}
	case rec.Leaving != "" && (hook == model.Prerouting || hook == model.Input):
		return use{why: fmt.Sprintf("Where a filter is %s it is not known yet by which network a flow leaves: a line with \"leaving\" never takes any.", hookWord(hook))}
	case hook != model.Output && !rule.From.Any && len(rule.From.Float) == 0 && !l.asks(p, rule.From.Set):
		return use{why: fmt.Sprintf("Nothing recorded has an address in %s.", whom(rec.From))}
	}
	b := l.behind(p, hook, f, rule.From, rule.To)
	ports := b.of(rec.Ports.Transport)
	if b.all || !ports.Intersect(rule.Ports).IsEmpty() {
		return use{all: b.all, ports: ports}
	}
	what := portWordOf(rule.Ports, rec.Ports.Transport)
	if rec.Ports.Any {
		what = "any port"
	}
	for _, other := range []model.Hook{model.Input, model.Forwarding} {
		if other == hook || hook == model.Prerouting {
			continue
		}
		if there := l.met(p, other, f); !there.all && !there.ports.Intersect(rule.Ports).IsEmpty() && !rec.Ports.Any {
			return use{elsewhere: true, why: fmt.Sprintf("No flow to %s meets this line: what listens there is met by filters %s of %s, and this one is %s.", portWordOf(there.ports.Intersect(rule.Ports), rec.Ports.Transport), hookWord(other), p.Name, hookWord(hook))}
		}
	}
	switch {
	case len(rec.To) > 0:
		return use{why: fmt.Sprintf("Nothing listens on %s at %s, as far as flows that filters %s of %s meet lead there.", what, whom(rec.To), hookWord(hook), p.Name)}
	case hook == model.Input || hook == model.Prerouting && !p.Router:
		why := fmt.Sprintf("Nothing on %s listens on %s.", p.Name, what)
		switch c, mp := l.inside(p, rule); {
		case mp != nil:
			why = fmt.Sprintf("%s itself has nothing on %s: %s listens there inside it, and flows come to that by %s.", p.Name, what, c.Name, estate.Line(mp.Record))
		case c != nil:
			why = fmt.Sprintf("%s itself has nothing on %s: %s listens there inside it, and nothing leads to that from outside.", p.Name, what, c.Name)
		}
		return use{why: why}
	}
	return use{why: fmt.Sprintf("Nothing that %s leads to listens on %s.", p.Name, what)}
}

// asks says whether anything recorded may be seen at a machine to ask from a set of addresses.
func (l *listening) asks(p *model.Place, set netset.Addrs) bool {
	return set.Overlaps(l.recorded) || slices.ContainsFunc(p.Attachments, func(attachment model.Attachment) bool {
		return attachment.Gateway && l.m.Networks[attachment.Net].Set.Overlaps(set)
	})
}

func hookWord(h model.Hook) string { return strconv.Quote(h.String()) }

// met are the ports of a machine that flows to it, or by it to others, meet on a hook, for whatever transport a filter's
// line has.
func (l *lookout) met(p *model.Place, hook model.Hook, f *model.Filter) use {
	anywhere := model.Match{Any: true, Set: netset.Everything()}
	from := anywhere
	if hook == model.Forwarding {
		from = model.Match{Set: l.m.Internet} // what comes in, not what may leave
	}
	b := l.behind(p, hook, f, from, anywhere)
	if hook == model.Forwarding {
		for _, attachment := range p.Attachments { // what its own forwards and maps lead on
			for _, a := range attachment.Addrs {
				for _, mp := range p.Maps {
					if bindsOn(mp.Record.Bind.Addr, a) {
						b.add(mp.Record.Bind.Transport, mp.Ports)
					}
				}
			}
		}
	}
	return use{all: b.all, ports: b.of(netset.Both)}
}

func bindsOn(on, a netip.Addr) bool {
	return !on.IsValid() || on == a || on.IsUnspecified() && on.Is6() == a.Is6()
}

// behind is what flows that meet a hook of a machine may lead to, of what a line names.
func (l *lookout) behind(p *model.Place, hook model.Hook, f *model.Filter, from, to model.Match) behind {
	l.look(p.ID)
	v4, v6 := f.Record.Family != "ipv6", f.Record.Family != "ipv4"
	outside := !from.Any && !from.Set.IsEmpty() && l.m.Internet.Covers(from.Set)
	self := hook == model.Prerouting || hook == model.Input || hook == model.Output && f.Record.LoopbackToo
	key := listeningKey{p.ID, hook, v4, v6, outside, f.Record.LoopbackToo, to.Any, to.Set, netset.Addrs{}}
	if self { // whom a port relay takes flows of hangs on who they are
		key.from = from.Set
	}
	keep := len(to.Float)+len(from.Float) == 0
	if b, known := l.known[key]; known && keep {
		return b
	}
	var b behind
	seen := func(a netip.Addr) bool {
		return (v4 && !a.Is6() || v6 && a.Is6()) && (to.Any || to.Set.Contains(a))
	}
	take := func(a netip.Addr, d behind) {
		if outside && !netset.GloballyReachable().Contains(a) { // only by a forward
			for i := range d.ports {
				d.ports[i] = d.ports[i].Intersect(d.forwarded[i])
			}
			d.all = d.all && !(d.forwarded[0].IsEmpty() && d.forwarded[1].IsEmpty())
		}
		b.join(d)
	}
	if self {
		for _, attachment := range p.Attachments {
			for _, a := range attachment.Addrs {
				if !seen(a) {
					continue
				}
				d := behind{all: p.Unlisted}
				switch hook {
				case model.Prerouting:
					for _, at := range l.at.Of(a) {
						if at.place == p.ID {
							d = at.behind
						}
					}
				default:
					l.sockets(&d, p, a)
					l.relayed(&d, p, a, from)
					d.forwarded = [2]netset.Ports{netset.AllPorts(), netset.AllPorts()}
					if at := l.at.Of(a); len(at) > 0 {
						d.forwarded = at[0].forwarded
					}
				}
				take(a, d)
			}
		}
		if hook == model.Prerouting {
			for _, f := range p.Forwards { // on addresses that it does not hold
				if a := f.Record.Bind.Addr; a.IsValid() && !p.Owns(a) && seen(a) {
					for _, at := range l.at.Of(a) {
						take(a, at.behind)
					}
				}
			}
		}
	}
	if hook == model.Output || p.Router && hook != model.Input {
		if !outside && (to.Any || to.Set.Overlaps(l.m.Internet)) && l.leadsOut(p, v6 && !v4) {
			b.all = true
		} else {
			l.others(p, to, seen, take)
		}
	}
	if hook != model.Input && hook != model.Prerouting {
		for _, id := range p.Containers {
			c := l.m.Places[id]
			if c.Namespace != c.ID {
				continue
			}
			for _, attachment := range c.Attachments {
				if !l.guarded(p, hook, f, attachment.Net) {
					continue
				}
				if attachment.Float() && (to.Any || slices.Contains(to.Float, c.ID) || to.Set.Overlaps(l.m.Networks[attachment.Net].Free)) {
					b.join(l.container(c))
				}
				for _, a := range attachment.Addrs {
					if seen(a) {
						b.join(l.container(c))
					}
				}
			}
		}
		if len(l.m.Places) > 0 && hook == model.Postrouting && !outside && (to.Any || to.Set.Overlaps(l.m.Internet)) && l.leadsOut(p, v6 && !v4) {
			b.all = true // what its containers ask for
		}
	}
	if keep {
		l.known[key] = b
	}
	return b
}

// guarded says whether flows into a container network of a machine meet its filters on a hook.
func (l *listening) guarded(p *model.Place, hook model.Hook, f *model.Filter, net model.NetID) bool {
	n := l.m.Networks[net]
	return hook != model.Forwarding || f.Record.GuardsContainers || n.Routed() || n.Record != nil && n.Record.Filtered
}

// relayed adds the maps that a machine's port relay takes, whose outer ports its input filters meet: in a family that the
// containers do not have, and from containers of the same network, where a line is for these.
func (l *listening) relayed(b *behind, p *model.Place, a netip.Addr, from model.Match) {
	for _, mp := range p.Maps {
		if mp.Record.NoRelay || mp.Net == model.NoNet || !bindsOn(mp.Record.Bind.Addr, a) {
			continue
		}
		net := l.m.Networks[mp.Net]
		own := !from.Any && (slices.ContainsFunc(from.Float, func(c model.PlaceID) bool { return l.m.Places[c].Attachment(mp.Net) != nil }) || !from.Set.IsEmpty() && net.Set.Overlaps(from.Set))
		if !net.Family(a.Is6()) || own {
			b.add(mp.Record.Bind.Transport, mp.Ports)
		}
	}
}

// others are the addresses of other machines to which a machine leads.
func (l *lookout) others(p *model.Place, to model.Match, seen func(netip.Addr) bool, take func(netip.Addr, behind)) {
	if few, ok := to.Set.Addrs(32); ok && !to.Any {
		for _, a := range few {
			for _, d := range l.at.Of(a) {
				if seen(a) && l.leadsTo(p, a, d) {
					l.look(d.place)
					take(a, d.behind)
				}
			}
		}
		return
	}
	leads := l.leadsToAll(p)
	n := 0 // of the doors of all addresses
	for _, a := range l.addrs {
		doors := l.at.Of(a)
		for i, d := range doors {
			if leads[(n+i)/64]>>((n+i)%64)&1 == 1 && seen(a) {
				l.look(d.place)
				take(a, d.behind)
			}
		}
		n += len(doors)
	}
}

// leadsTo says whether a machine leads flows for an address to one of its doors, on another machine.
func (l *listening) leadsTo(p *model.Place, a netip.Addr, d door) bool {
	if d.place == p.ID || p.Owns(a) {
		return false
	}
	hop := l.m.NextHop(p, a)
	return hop.Kind != model.NoWay && (hop.Kind != model.OnLink || hop.Place == d.place)
}

// leadsToAll is that for every door, a bit each, in the order of the addresses; worked out once for a machine.
func (l *listening) leadsToAll(p *model.Place) []uint64 {
	if known, ok := l.leads.Load(p.ID); ok {
		return known.([]uint64)
	}
	var out []uint64
	n := 0
	for _, a := range l.addrs {
		for _, d := range l.at.Of(a) {
			if n%64 == 0 {
				out = append(out, 0)
			}
			if l.leadsTo(p, a, d) {
				out[n/64] |= 1 << (n % 64)
			}
			n++
		}
	}
	l.leads.Store(p.ID, out)
	return out
}

// sameDoors says whether another has doors of the same machines at the same addresses.
func (l *listening) sameDoors(other *listening) bool {
	return slices.EqualFunc(l.addrs, other.addrs, func(a, b netip.Addr) bool {
		return a == b && slices.EqualFunc(l.at.Of(a), other.at.Of(b), func(x, y door) bool { return x.place == y.place })
	})
}

// leadsOut says whether a machine has a way to addresses that nobody recorded holds.
func (l *listening) leadsOut(p *model.Place, v6 bool) bool {
	out := l.m.Internet.Of(v6)
	return !out.IsEmpty() && l.m.NextHop(p, out.Lowest()).Kind != model.NoWay
}
