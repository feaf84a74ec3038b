package flow

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Goal is what a flow is meant for, as far as the records say. It decides how following it goes on
// past a break.
type Goal struct {
	Diagnose bool          // note breaks and go on; else a break ends the branch, and only what is open is asked for
	Upstream bool          // a flow from a front to its backend
	Subject  string        // what findings for its breaks are about
	Place    model.PlaceID // the place meant; Nowhere where nothing says
	Service  string        // the service meant there
	Port     uint16        // the port meant there; 0 for any of the service
	Absent   Absent        // what is taken as if it were off
}

// Absent is a line that a flow does not meet, as if it were off; one of both is nil.
type Absent struct {
	Filter *estate.Filter
	Rule   *estate.Rule
}

// Landing is where a branch of a flow ends on the network: at a socket, or nowhere.
type Landing struct {
	Part
	Socket    *model.Socket // nil where nobody took it
	Namespace model.PlaceID // where it got to; Nowhere where it got nowhere of ours
	local     bool

	AskedWord string     // for a request by bare address: that address as text
	AskedAddr netip.Addr // the address a client asked for
}

// run is one delivery: every branch of one flow, from where it is made to where it ends.
type run struct {
	t      *Engine
	goal   Goal
	out    []Landing
	within []crossingKey // the crossings that this delivery is a part of

	// An address that nobody holds, and the machine that it is taken for, past the break that says so.
	asIf     model.PlaceID
	asIfHeld netip.Addr
}

// say is a sentence for a step; none where only what is open is asked for, and nobody reads it.
func (r *run) say(format string, args ...any) string {
	if !r.goal.Diagnose {
		return ""
	}
	return fmt.Sprintf(format, args...)
}

// maxPools is the most forwards to a pool, one behind the other, of which every branch is followed.
const maxPools = 2

// maxHops is the most machines that a flow passes before it counts as going round.
const maxHops = 24

// Deliver follows a flow from an origin to whatever takes it.
func (t *Engine) Deliver(o Origin, w Part, g Goal) []Landing {
	r := &run{t: t, goal: g}
	w.IPv6, w.Quiet = w.Dst.Addr.Is6(), !g.Diagnose
	if w.Dst.Float != model.Nowhere {
		w.IPv6 = !t.Model.Networks[w.Dst.Net].Family(false)
	}
	if o.Place != model.Nowhere {
		r.fromPlace(t.Model.Places[o.Place], w)
		return r.out
	}
	net := t.Model.Networks[o.Net]
	if w.Src.Set = w.Src.Set.Of(w.IPv6); w.Src.Set.IsEmpty() {
		r.noWay(w, net.Name, "%s has no addresses of that family", net.Name)
		return r.out
	}
	w.Origins = w.Origins.Of(w.IPv6)
	if net.Container() && net.On != model.Nowhere {
		r.fromContainerNet(nil, net, w)
		return r.out
	}
	if w.Dst.Float != model.Nowhere && w.Dst.Net == o.Net {
		r.ownAddress(net, t.Model.Places[w.Dst.Float], w)
		return r.out
	}
	r.follow(nil, model.Nowhere, w, t.Model.FromNetwork(o.Net, w.Dst.Addr))
	return r.out
}

// end is a branch that nobody took.
func (r *run) end(w Part) {
	if !w.fruitless() {
		r.out = append(r.out, Landing{Part: w, Namespace: model.Nowhere})
	}
}

// fruitless says whether nobody asks what becomes of a way that nobody took: only what is open is asked for, and it is not.
func (w *Part) fruitless() bool { return w.Quiet && w.Stopped != Undecided }

func (r *run) undecided(w Part) {
	if w.Stopped == "" {
		w.Stopped = Undecided
	}
	r.end(w)
}

func (r *run) place(id model.PlaceID) *model.Place { return r.t.Model.Places[id] }

// ground is how far in a machine stands: a router or a machine with an address on internet is the edge.
func (r *run) ground(p *model.Place) Ground {
	if p.Router {
		return Edge
	}
	return Internal
}

// stopAt notes a break at a machine, with the step that shows it.
func (r *run) stopAt(w *Part, stage Stage, at string, ground Ground, outcome Outcome, b Break, shown ...estate.Record) {
	w.Add(Step{Stage: stage, At: at, Verdict: Broken, Why: b.Why, Records: say.Lines(shown...), Ground: ground})
	b.At = at
	if b.Subject == "" {
		b.Subject = r.goal.Subject
	}
	if b.Records == nil {
		b.Records = say.Lines(shown...)
	}
	w.Stop(outcome, b)
}

// ---- made here

// fromPlace is a flow made at a host or container.
func (r *run) fromPlace(p *model.Place, w Part) {
	w.Reads.Place(p.ID)
	w.Reads.Place(p.Host)
	namespace := r.place(p.Namespace)
	if namespace.IsContainer() {
		r.fromContainer(namespace, w)
		return
	}
	r.fromHost(namespace, w)
}

func isLoopback(a netip.Addr) bool { return a.IsLoopback() || a.IsUnspecified() }

func (r *run) fromHost(h *model.Place, w Part) {
	if isLoopback(w.Dst.Addr) || h.Owns(w.Dst.Addr) {
		r.setOwnSource(&w)
		r.toSelf(h, w)
		return
	}
	if w.Dst.Float != model.Nowhere {
		r.setSource(&w, h, w.Dst.Net)
		r.intoContainer(h, w, w.Dst.Net, w.Dst.Float, model.NoNet, true)
		return
	}
	hop := r.t.Model.NextHop(h, w.Dst.Addr)
	r.setSource(&w, h, hop.Net)
	if w.Src.Set.IsEmpty() {
		r.noSource(h, w)
		return
	}
	if isContainerHop(r, hop) && r.place(hop.Place).IsContainer() {
		r.intoContainer(h, w, hop.Net, hop.Place, model.NoNet, true)
		return
	}
	if leadsNowhere(hop) { // without a way no filter is met
		r.follow(h, h.ID, w, hop)
		return
	}
	for w := range r.filters(h, model.Output, w, model.NoNet, hop.Net, nil) {
		for w := range r.filters(h, model.Postrouting, w, model.NoNet, hop.Net, nil) {
			for w, written := range r.outbound(h, w, hop.Net) {
				if written {
					r.follow(h, h.ID, w, hop)
					continue
				}
				for w := range r.ownRewriting(h, w, model.NoNet, hop.Net, true) {
					r.follow(h, h.ID, w, hop)
				}
			}
		}
	}
}

// leadsNowhere says whether a machine that looks up the way on finds none: nothing leads there, or nobody holds the address of a block
// that is routed to it.
func leadsNowhere(hop model.Hop) bool {
	return hop.Kind == model.NoWay && hop.Net == model.NoNet || hop.Kind == model.Nobody && (hop.Net == model.NoNet || hop.Net == model.Internet)
}

// noSource is a flow of a family that its machine has no address of.
func (r *run) noSource(h *model.Place, w Part) {
	for _, attachment := range h.Attachments {
		if attachment.Unknown {
			w.Add(Step{Stage: StageRoute, At: h.Name, Verdict: Unsettled, Ground: r.ground(h), Records: say.Lines(attachment.Records...), Why: fmt.Sprintf("%s may have an address of that family: one of its own nobody knows.", h.Name)})
			r.undecided(w)
			return
		}
	}
	r.noWay(w, h.Name, "%s has no address of that family", h.Name)
}

func isContainerHop(r *run, hop model.Hop) bool {
	return hop.Kind == model.OnLink && r.t.Model.Networks[hop.Net].Container()
}

// setSource gives a flow made at a host the address by which it leaves, unless the vantage was an address.
func (r *run) setSource(w *Part, h *model.Place, out model.NetID) {
	if !w.Src.Set.IsEmpty() || w.Src.Float != model.Nowhere {
		return
	}
	defer func() {
		if w.Handed == 0 {
			w.Origins = w.Src.Set
		}
	}()
	if a, ok := h.Addr(out, w.IPv6); ok {
		w.Src.Set = netset.AddrsOf(a)
	} else {
		for _, attachment := range h.Attachments {
			if a, ok := h.Addr(attachment.Net, w.IPv6); ok {
				w.Src.Set = netset.AddrsOf(a)
				break
			}
		}
	}
}

// setOwnSource gives a flow to its own machine its source: the address that it is sent to, as the kernel does.
func (r *run) setOwnSource(w *Part) {
	if !w.Src.Set.IsEmpty() || w.Src.Float != model.Nowhere {
		return
	}
	own := w.Dst.Addr
	if own.IsUnspecified() {
		own = netip.AddrFrom4([4]byte{127, 0, 0, 1})
		if w.IPv6 {
			own = netip.IPv6Loopback()
		}
	}
	w.Src.Set = netset.AddrsOf(own)
	if w.Handed == 0 {
		w.Origins = w.Src.Set
	}
}

// toSelf is a flow from a machine to one of its own addresses: by a map to a container, else to its own
// sockets, past no filter that is not `loopback-too`.
func (r *run) toSelf(h *model.Place, w Part) {
	looped := func(w Part) (out []Part) {
		others := func(f *model.Filter) bool { return !f.Record.LoopbackToo }
		for w := range r.filters(h, model.Output, w, model.NoNet, model.NoNet, others) {
			out = slices.AppendSeq(out, r.filters(h, model.Input, w, model.NoNet, model.NoNet, others))
		}
		return out
	}
	r.byMaps(h, w, true, func(mp *model.Map, w Part) bool {
		net := r.network(mp.Net)
		if !isLoopback(w.Dst.Addr) && net != nil && net.Family(w.IPv6) {
			w.Dst = r.containerDest(mp.Container, mp.Net, w.IPv6)
			w.Add(Step{
				Stage: StageTranslate, At: h.Name, Verdict: Pass, Ground: r.ground(h), Records: say.Lines(mp.Record),
				Why: r.say("Mapped to %s, port %s.", r.place(mp.Container).Name, w.portWord()),
			})
			for w := range r.filters(h, model.Output, w, model.NoNet, mp.Net, nil) {
				for w := range r.filters(h, model.Postrouting, w, model.NoNet, mp.Net, nil) {
					r.toContainer(mp, w)
				}
			}
			return true
		}
		if mp.Record.NoRelay {
			return false
		}
		for _, w := range looped(w.beforeMap()) {
			for _, pair := range w.translated(mp.Pairs) {
				r.relay(h, mp, pair)
			}
		}
		return true
	}, func(w Part) {
		for _, w := range looped(w) {
			r.sockets(h, w, true)
		}
	})
}

func (r *run) fromContainer(c *model.Place, w Part) {
	if isLoopback(w.Dst.Addr) || c.Owns(w.Dst.Addr) || w.Dst.Float == c.ID {
		r.sockets(c, w, true)
		return
	}
	// On one of its networks: direct.
	for i := range c.Attachments {
		net := r.t.Model.Networks[c.Attachments[i].Net]
		if w.Dst.Float != model.Nowhere && w.Dst.Net == net.ID || w.Dst.Addr.IsValid() && net.Set.Contains(w.Dst.Addr) {
			r.containerSource(&w, c, &c.Attachments[i])
			switch {
			case net.Container():
				r.inContainerNet(net, w)
			case w.Dst.Float != model.Nowhere:
				r.ownAddress(net, r.place(w.Dst.Float), w)
			default:
				r.follow(c, c.ID, w, r.t.Model.NextHop(c, w.Dst.Addr))
			}
			return
		}
	}
	for i := range c.Attachments {
		net := r.t.Model.Networks[c.Attachments[i].Net]
		if net.Container() && net.Family(w.IPv6) {
			r.containerSource(&w, c, &c.Attachments[i])
			r.fromContainerNet(c, net, w)
			return
		}
	}
	for i := range c.Attachments { // beside machines, as one of them
		if net := r.t.Model.Networks[c.Attachments[i].Net]; net.Family(w.IPv6) && w.Dst.Addr.IsValid() {
			r.containerSource(&w, c, &c.Attachments[i])
			r.follow(c, c.ID, w, r.t.Model.NextHop(c, w.Dst.Addr))
			return
		}
	}
	r.noWay(w, c.Name, "Nothing leads out of %s for this family: it is in no network that has it", c.Name)
}

// containerSource gives a flow made in a container its own address there, or marks it as some point of the
// network.
func (r *run) containerSource(w *Part, c *model.Place, attachment *model.Attachment) {
	if !w.Src.Set.IsEmpty() {
		return
	}
	for _, a := range attachment.Addrs {
		if a.Is6() == w.IPv6 {
			w.Src.Set = netset.AddrsOf(a)
			if w.Handed == 0 {
				w.Origins = w.Src.Set
			}
			return
		}
	}
	w.Src.Float, w.Src.Net = c.ID, attachment.Net
}

// ownAddress is a flow to a container that is beside machines, in a network that is inside none.
func (r *run) ownAddress(net *model.Network, c *model.Place, w Part) {
	w.Add(Step{
		Stage: StageRoute, At: c.Name, Verdict: Pass, Ground: Internal, Records: say.Lines(c.Record),
		Why: r.say("To the container's own address, on %s.", net.Name),
	})
	r.sockets(r.place(c.Namespace), w, false)
}

// inContainerNet is a flow within one container network.
func (r *run) inContainerNet(net *model.Network, w Part) {
	h := r.place(net.On)
	w.Reads.Place(h.ID)
	if h.Owns(w.Dst.Addr) {
		r.arrive(h, net.ID, w)
		return
	}
	target := w.Dst.Float
	if target == model.Nowhere {
		holding, ok := net.Holder(w.Dst.Addr)
		if !ok {
			r.nobody(w, h.Name)
			return
		}
		target = holding.Place
	}
	ways := []Part{w}
	if net.Record.Filtered {
		ways = slices.Collect(r.filters(h, model.Forwarding, w, net.ID, net.ID, nil))
	}
	for _, w := range ways {
		w.Add(Step{
			Stage: StageRoute, At: r.place(target).Name, Verdict: Pass, Ground: Internal, Records: say.Lines(r.place(target).Record),
			Why: r.say("Beside it on %s, direct.", net.Name),
		})
		r.sockets(r.place(r.place(target).Namespace), w, false)
	}
}

// fromContainerNet is a flow that leaves a container network: it arrives at the machine.
func (r *run) fromContainerNet(c *model.Place, net *model.Network, w Part) {
	h := r.place(net.On)
	if c == nil && (w.Dst.Float != model.Nowhere && w.Dst.Net == net.ID || net.Set.Contains(w.Dst.Addr)) {
		r.inContainerNet(net, w)
		return
	}
	r.arrive(h, net.ID, w)
}

// ---- on the way

// follow takes a flow to its next machine. at is the machine that sends it, nil for one nobody
// recorded.
func (r *run) follow(at *model.Place, sender model.PlaceID, w Part, hop model.Hop) {
	w.Hops++
	where := r.t.Model.Networks[model.Internet].Name
	if at != nil {
		where = at.Name
	}
	if w.Hops > maxHops {
		r.noWay(w, where, "The flow goes round between routers and never ends")
		return
	}
	switch hop.Kind {
	case model.OnLink, model.Via:
		p := r.place(hop.Place)
		net := r.t.Model.Networks[hop.Net]
		switch {
		case p.IsContainer() && hop.Kind == model.OnLink && !net.Container():
			r.ownAddress(net, p, w)
			return
		case p.IsContainer() && !net.Container():
			r.noWay(w, where, "%s is a container, and leads nowhere", p.Name)
			return
		case p.IsContainer():
			if at == nil || at.ID != net.On {
				r.noWay(w, where, "%s is inside %s, and its own addresses lead nowhere from outside", net.Name, r.place(net.On).Name)
				return
			}
			r.intoContainer(at, w, hop.Net, hop.Place, model.NoNet, false)
			return
		}
		if hop.Kind == model.Via {
			w.Add(Step{
				Stage: StageRoute, At: p.Name, Verdict: Pass, Ground: r.ground(p), Records: say.Lines(hop.Records...),
				Why: r.say("By way of %s, on %s.", p.Name, net.Name),
			})
		}
		if hop.Net == model.Internet {
			r.cross(p, w)
			return
		}
		r.arrive(p, hop.Net, w)
	case model.Nobody:
		r.nobody(w, where, hop.Records...)
	case model.Outward:
		w.Add(Step{
			Stage: StageRoute, At: "internet", Verdict: Pass, Ground: External, Records: say.Lines(hop.Records...),
			Why: r.say("%s is held by nobody recorded: it is outside.", w.Dst.Addr),
		})
		if w.Stopped == "" {
			w.Stopped = Outside
		}
		r.end(w)
	case model.Tie:
		r.tie(at, where, w, hop)
	case model.Unknown:
		w.Add(Step{
			Stage: StageRoute, At: where, Verdict: Unsettled, Ground: Edge, Records: say.Lines(hop.Records...),
			Why: fmt.Sprintf("%s holds an address there that nobody knows; it may be %s.", r.place(hop.Place).Name, w.Dst.Addr),
		})
		r.undecided(w)
	default:
		for _, rec := range hop.Records {
			if route, ok := rec.(*estate.Route); ok && !route.Via.IsValid() {
				r.stray(w, where, say.Lines(rec), "%s sends what is for %s nowhere", where, route.To)
				return
			}
		}
		r.noWay(w, where, "Nothing leads from %s to %s", where, w.Dst.Addr)
	}
}

// nobody is a flow for an address that no machine holds.
func (r *run) nobody(w Part, where string, shown ...estate.Record) {
	if w.fruitless() {
		return
	}
	b := Break{
		Code: "path.no-route", Short: fmt.Sprintf("nobody has %s", w.Dst.Addr),
		Why: fmt.Sprintf("No machine holds %s.", w.Dst.Addr),
	}
	h, in := r.namedBy(w)
	if h != nil {
		b.Why = fmt.Sprintf("No machine holds %s, which lines of %s name.", w.Dst.Addr, h.Name)
		b.Mend = AddLine(&estate.Address{Hosts: []string{h.Name}, Held: estate.Held{Addr: w.Dst.Addr}, Network: r.t.Model.Networks[in].Name})
	}
	r.stopAt(&w, StageRoute, where, Edge, Unroutable, b, shown...)
	if h == nil {
		r.end(w)
		return
	}
	w.imagined = true
	r.asIf, r.asIfHeld = h.ID, w.Dst.Addr
	r.arrive(h, in, w)
}

// namedBy is the one machine whose listeners, forwards or maps are bound to the address that a flow is for, though nobody holds it;
// with the network of its own in which the address is.
func (r *run) namedBy(w Part) (*model.Place, model.NetID) {
	if !r.goal.Diagnose || r.asIfHeld.IsValid() || !w.Dst.Addr.IsValid() {
		return nil, model.NoNet
	}
	w.Reads.Everywhere()
	var found *model.Place
	net := model.NoNet
	for _, id := range r.t.Model.NetworksAround(w.Dst.Addr) {
		for _, member := range r.t.Model.Networks[id].Members {
			p := r.place(member)
			w.Reads.Place(member)
			if p.IsContainer() || !namesAddress(p, w.Dst.Addr) || p == found {
				continue
			}
			if found != nil {
				return nil, model.NoNet
			}
			found, net = p, id
		}
	}
	return found, net
}

// namesAddress says whether a line of a machine is bound to an address.
func namesAddress(p *model.Place, a netip.Addr) bool {
	return slices.ContainsFunc(p.Sockets, func(s model.Socket) bool { return s.Record.Bind.Addr == a }) ||
		slices.ContainsFunc(p.Forwards, func(f *model.Forward) bool { return f.Record.Bind.Addr == a }) ||
		slices.ContainsFunc(p.Maps, func(m *model.Map) bool { return m.Record.Bind.Addr == a })
}

// owns says whether an address is a machine's own, or taken for it past a break.
func (r *run) owns(h *model.Place, a netip.Addr) bool {
	return h.Owns(a) || r.asIfHeld.IsValid() && r.asIfHeld == a && r.asIf == h.ID
}

// forwardNowhere is a forward to an address that nobody holds: on to the machine meant, as if it led there.
func (r *run) forwardNowhere(h *model.Place, in model.NetID, w Part, outcome Outcome) {
	b := Break{Code: "path.forward-nowhere", Short: fmt.Sprintf("nobody has %s", w.Dst.Addr), Why: fmt.Sprintf("The forward leads to %s, which no machine holds.", w.Dst.Addr)}
	to, ok := r.meantFrom(h, w.IPv6)
	if ok {
		b.Mend = Replace(w.Forward.Record, func(f *estate.Forward) { f.To.Addr = to })
	}
	r.stopAt(&w, StageTranslate, h.Name, Edge, outcome, b, w.Forward.Record)
	if !ok {
		r.end(w)
		return
	}
	w.Dst = ToAddr(to)
	r.pass(h, in, w)
}

// dropped is what a machine's filters do with a flow that it passes on: "" where they let it pass.
func (r *run) dropped(h *model.Place, in model.NetID, w Part, hop model.Hop) Outcome {
	for _, hook := range []model.Hook{model.Forwarding, model.Postrouting} {
		for _, f := range h.Filters[hook] {
			if f.Record.Family == "ipv4" && w.IPv6 || f.Record.Family == "ipv6" && !w.IPv6 {
				continue
			}
			for _, p := range r.t.judge(f, &w, r.goal.Absent, in, hop.Net) {
				switch p.action {
				case "drop":
					return Silent
				case "refuse":
					return Refused
				}
			}
		}
	}
	return ""
}

func (r *run) noWay(w Part, where, format string, args ...any) {
	r.stray(w, where, nil, format, args...)
}

// stray is a flow that nothing leads on, by some records where it is these that say so.
func (r *run) stray(w Part, where string, records []string, format string, args ...any) {
	if w.fruitless() {
		return
	}
	why := fmt.Sprintf(format, args...)
	r.stopAt(&w, StageRoute, where, Edge, Unroutable, Break{Code: "path.no-route", Short: "no way there", Why: why + ".", Records: records})
	r.end(w)
}

// arrive is a flow that comes to a machine by one of its networks.
func (r *run) arrive(h *model.Place, in model.NetID, w Part) {
	w.Reads.Place(h.ID)
	if h.Outside {
		w.Add(Step{
			Stage: StageEnd, At: h.Name, Verdict: Pass, Ground: External, Records: say.Lines(h.Record),
			Why: r.say("%s is not ours: what reaches it is done.", h.Name),
		})
		r.out = append(r.out, Landing{Part: w, Namespace: h.ID})
		return
	}
	if w.Hops++; w.Hops > maxHops {
		r.noWay(w, h.Name, "The flow goes round between routers and never ends")
		return
	}
	w.Met = &Met{prev: w.Met, Place: h.ID} // passed so far, not known of
	if r.goal.Diagnose && w.Handed == 0 && h.Router && w.Cells.Edge == "" {
		c := w.Cell()
		c.Edge, c.Router = h.Name+", direct", h.Name
	}
	for w := range r.filters(h, model.Prerouting, w, in, model.NoNet, r.notAtTheWire(h, in)) {
		r.translate(h, in, w)
	}
}

// notAtTheWire: an arriving filter sees flows from other machines, not those of the machine's own containers.
func (r *run) notAtTheWire(h *model.Place, in model.NetID) func(*model.Filter) bool {
	if in == model.NoNet || r.t.Model.Networks[in].On != h.ID {
		return nil
	}
	return func(*model.Filter) bool { return true }
}

// translate tries the machine's forwards in order, then its maps, then takes the flow as it is.
func (r *run) translate(h *model.Place, in model.NetID, w Part) { r.translateFrom(h, 0, in, w) }

func (r *run) translateFrom(h *model.Place, first int, in model.NetID, w Part) {
	for i, f := range h.Forwards[first:] {
		if !r.forwardMeets(h, f, in, &w) {
			continue
		}
		taken, rest := r.byForward(h, f, w)
		for _, v := range taken {
			r.forwarded(h, f, in, v)
		}
		for _, v := range rest {
			r.translateFrom(h, first+i+1, in, v)
		}
		return
	}
	if r.owns(h, w.Dst.Addr) {
		r.toMachine(h, in, w)
	} else {
		r.pass(h, in, w)
	}
}

// forwardMeets says whether a forward is for a flow, of whatever source.
func (r *run) forwardMeets(h *model.Place, f *model.Forward, in model.NetID, w *Part) bool {
	rec := f.Record
	return (rec.Pool != "" || rec.To.Addr.Is6() == w.IPv6) && rec.Bind.Transport&w.Transport != 0 && f.Ports.Overlaps(w.Ports) && r.forwardTakes(h, f, w.Dst.Addr) &&
		(in == model.NoNet || r.t.Model.Outer(h, in) || rec.Inside || rec.Hairpin)
}

// byForward parts a flow into what a forward takes, translated, and the rest.
func (r *run) byForward(h *model.Place, f *model.Forward, w Part) (taken, rest []Part) {
	rec, ports := f.Record, w.Ports.Intersect(f.Ports)
	if other := w.Ports.Subtract(ports); !other.IsEmpty() {
		rest = append(rest, w.onPorts(other))
	}
	named, out, sure := r.t.SourceSplit(f.From, w.onPorts(ports), w.IPv6)
	if out != nil {
		rest = append(rest, *out)
	}
	if named == nil {
		return nil, rest
	}
	if !sure {
		named.Add(Step{Stage: StageTranslate, At: h.Name, Verdict: Unsettled, Ground: Edge, Records: say.Lines(rec), Why: "The forward is for part of a network, and the source may be any point of it."})
		r.undecided(*named)
		return nil, rest
	}
	if rec.Pool != "" {
		return r.toMembers(h, f, *named), rest
	}
	for _, v := range named.translated(f.Pairs) {
		v.Before = named.portsOf(v)
		v.Dst, v.Forward = ToAddr(rec.To.Addr), f
		v.translatedBy(h.ID, named.Dst)
		taken = append(taken, v)
	}
	return taken, rest
}

// toMembers is a flow that a forward translates to a pool: a branch for each member in service.
func (r *run) toMembers(h *model.Place, f *model.Forward, w Part) (taken []Part) {
	if w.pools++; w.pools > maxPools {
		w.Add(Step{Stage: StageTranslate, At: h.Name, Verdict: Unsettled, Ground: Edge, Records: say.Lines(f.Record), Why: "More pools lead on from one to the next than are followed."})
		r.undecided(w)
		return nil
	}
	members, none := r.t.Members(f.Record.Pool, h, w.IPv6, w.Checking, w.Reads)
	for _, m := range members {
		v := w
		v.Before, v.beforeShift, v.beforeMany = w.Ports, w.Shift, w.Many
		v.Ports, v.Many = netset.PortsOf(netset.OnePort(m.Port)), true
		v.Dst, v.Forward, v.Member = ToAddr(m.Addr), f, (estate.Endpoint{Addr: m.Addr, Port: m.Port}).String()
		v.translatedBy(h.ID, w.Dst)
		taken = append(taken, v)
	}
	if len(members) == 0 {
		w.stopBy(none, h, f.Record)
		r.end(w)
	}
	return taken
}

// stopBy is a flow for a pool none of whose members is in service.
func (w *Part) stopBy(none Break, h *model.Place, rec *estate.Forward) {
	none.At, none.Records = h.Name, say.Lines(rec)
	w.Add(Step{Stage: StageTranslate, At: h.Name, Verdict: Broken, Ground: Edge, Records: none.Records, Why: none.Why})
	w.Stop(Refused, none)
}

// forwardTakes says whether a forward is for an address.
func (r *run) forwardTakes(h *model.Place, f *model.Forward, dst netip.Addr) bool {
	if a := f.Record.Bind.Addr; a.IsValid() {
		return a == dst && (r.owns(h, a) || r.routedTo(h, a))
	}
	return slices.Contains(r.t.Model.OuterAddrs(h, dst.Is6()), dst)
}

func (r *run) routedTo(h *model.Place, a netip.Addr) bool {
	for _, attachment := range h.Attachments {
		for _, b := range attachment.Blocks {
			if b.Contains(a) {
				return true
			}
		}
	}
	return false
}

// forwarded is a flow that a forward has translated.
func (r *run) forwarded(h *model.Place, f *model.Forward, in model.NetID, w Part) {
	if r.goal.Diagnose && w.Handed == 0 {
		c := w.Cell()
		c.Edge, c.Router = fmt.Sprintf("%s → %s", w.Before, w.flow().To), h.Name
	}
	w.Add(Step{
		Stage: StageTranslate, At: h.Name, Verdict: Pass, Ground: Edge, Records: say.Lines(f.Record),
		Why: r.say("Forwarded: %s → %s.", w.Before, w.flow().To),
	})
	if h.Owns(w.Dst.Addr) {
		r.atDoor(h, &w)
		for w := range r.filters(h, model.Input, w, in, model.NoNet, nil) {
			r.byMaps(h, w, false, func(mp *model.Map, w Part) bool {
				if mp.Record.NoRelay {
					return false
				}
				r.relay(h, mp, w)
				return true
			}, func(w Part) { r.sockets(h, w, false) })
		}
		return
	}
	if r.goal.Diagnose {
		if hop := r.t.Model.NextHop(h, w.Dst.Addr); hop.Kind == model.Nobody || hop.Kind == model.NoWay {
			outcome := Unroutable
			if drop := r.dropped(h, in, w, hop); drop != "" {
				outcome = drop
			}
			r.forwardNowhere(h, in, w, outcome)
			return
		}
	}
	if in != model.NoNet && !r.t.Model.Outer(h, in) && f.Record.Hairpin {
		hop := r.t.Model.NextHop(h, w.Dst.Addr)
		if a, ok := h.Addr(hop.Net, w.IPv6); ok {
			r.passAs(h, in, w, &a)
			return
		}
	}
	r.pass(h, in, w)
}

// toMachine is a flow for one of the machine's own addresses that no forward took.
func (r *run) toMachine(h *model.Place, in model.NetID, w Part) {
	r.atDoor(h, &w)
	fromInside := in != model.NoNet && r.t.Model.Networks[in].On == h.ID
	r.byMaps(h, w, false, func(mp *model.Map, w Part) bool {
		net := r.network(mp.Net)
		family := net != nil && net.Family(w.IPv6)
		switch {
		case fromInside && in != mp.Net && family: // from another network of the machine
			w.Add(Step{
				Stage: StageTranslate, At: h.Name, Verdict: Broken, Ground: Internal, Records: say.Lines(mp.Record),
				Why: fmt.Sprintf("%s and %s are strangers: what is mapped into one is not reached from the other.", r.t.Model.Networks[in].Name, net.Name),
			})
			w.Stop(Silent, Break{Code: "path.no-route", At: h.Name, Short: "strange network", Why: fmt.Sprintf("%s and %s are two container networks of %s, and strangers.", r.t.Model.Networks[in].Name, net.Name, h.Name), Records: say.Lines(mp.Record), Subject: r.goal.Subject})
			if r.goal.Diagnose {
				r.toContainer(mp, w)
			} else {
				r.end(w)
			}
			return true
		case !fromInside && family:
			w.StoppedAtInput = r.inputStops(h, in, w.beforeMap())
			w.translatedBy(h.ID, w.Dst)
			w.Dst = r.containerDest(mp.Container, mp.Net, w.IPv6)
			w.Add(Step{
				Stage: StageTranslate, At: h.Name, Verdict: Pass, Ground: Internal, Records: say.Lines(mp.Record),
				Why: r.say("Mapped ahead of the input filter: to %s, port %s.", r.place(mp.Container).Name, w.portWord()),
			})
			r.intoMapped(h, mp, in, w)
			return true
		case mp.Record.NoRelay:
			return false
		}
		// By the relay: the outer port meets the input filter.
		for v := range r.filters(h, model.Input, w.beforeMap(), in, model.NoNet, nil) {
			for _, pair := range v.translated(mp.Pairs) {
				r.relay(h, mp, pair)
			}
		}
		return true
	}, func(w Part) { r.toSockets(h, in, w) })
}

// atDoor notes how a flow looks as it comes to the machine that it is for.
func (r *run) atDoor(h *model.Place, w *Part) {
	if !r.goal.Diagnose {
		w.Ingress = &Ingress{h.ID, w.Dst.Addr, w.Src.Set, w.Src.Set.Equal(w.Origins)}
	}
}

// inputStops are the sources that a machine's input filters would stop, of a flow that never meets them, since a map takes
// it. It is looked at for exposure alone.
func (r *run) inputStops(h *model.Place, in model.NetID, w Part) netset.Addrs {
	if r.goal.Diagnose || len(h.Filters[model.Input]) == 0 || w.Src.Set.IsEmpty() {
		return netset.Addrs{}
	}
	left := w.Src.Set
	for passed := range r.filters(h, model.Input, w, in, model.NoNet, nil) {
		if passed.Ports.Equal(w.Ports) {
			left = left.Subtract(passed.Src.Set)
		}
	}
	return left
}

// toSockets is a flow for the machine's own sockets, by way of its input filters. Where nothing listens and
// the flow is meant for another machine, what is missing is a forward.
func (r *run) toSockets(h *model.Place, in model.NetID, w Part) {
	w.WouldForward = r.goal.Diagnose && h.Router && !r.anySocket(h, w) && r.lacksForward(h, in, w)
	if len(h.Filters[model.Input]) == 0 && r.anySocket(h, w) {
		w.Add(Step{Stage: StageFilter, At: h.Name, Verdict: Assumed, Ground: r.ground(h), Records: []string{}, Why: r.say("No filter is recorded on %s: the flow passes.", h.Name)})
	}
	for w := range r.filters(h, model.Input, w, in, model.NoNet, nil) {
		if w.WouldForward {
			r.missingForward(h, in, w)
			continue
		}
		r.sockets(h, w, false)
	}
}

// lacksForward says whether what is missing at a router's own address is a forward: one in force is only so far off, or the flow
// is meant for another machine, and no listener of the router itself is recorded there.
func (r *run) lacksForward(h *model.Place, in model.NetID, w Part) bool {
	meant := r.goal.Place != model.Nowhere
	if meant && r.place(r.goal.Place).Host == h.ID {
		return false
	}
	if f, why := r.almostForward(h, w, in == model.NoNet || r.t.Model.Outer(h, in)); f != nil && (why == "hairpin" || why == "transport") {
		return true
	}
	if r.offListener(h, w) {
		return false
	}
	return meant || r.goal.Subject != "" && !r.goal.Upstream
}

// offListener says whether a listener or map of a machine that is recorded and off would take a flow.
func (r *run) offListener(h *model.Place, w Part) bool {
	return slices.ContainsFunc(r.t.Model.Off, func(off estate.Record) bool {
		switch off := off.(type) {
		case *estate.Listen:
			place := r.t.Model.PlaceNamed(off.Place)
			s := model.Socket{Record: off, Ports: off.Bind.Set()}
			return place != nil && place.Namespace == h.ID && !r.claims(&s, w, false).IsEmpty()
		case *estate.Map:
			c := r.t.Model.PlaceNamed(off.Container)
			return c != nil && c.Host == h.ID && off.Bind.Transport&w.Transport != 0 && BindTakes(off.Bind.Addr, w.Dst.Addr, false) && !w.Ports.Intersect(off.Bind.Set()).IsEmpty()
		}
		return false
	})
}

func (r *run) anySocket(h *model.Place, w Part) bool {
	for i := range h.Sockets {
		s := &h.Sockets[i]
		if s.Record.Bind.Transport&w.Transport != 0 && s.Takes(w.Dst.Addr, false) && !s.Ports.Intersect(w.Ports).IsEmpty() {
			return true
		}
	}
	return h.Unlisted
}

// pass is a flow for somebody else: by the machine's through filters, its ways and its departing filters.
func (r *run) pass(h *model.Place, in model.NetID, w Part) { r.passAs(h, in, w, nil) }

func (r *run) passAs(h *model.Place, in model.NetID, w Part, as *netip.Addr) {
	inside := in != model.NoNet && r.t.Model.Networks[in].On == h.ID
	hop := r.t.Model.NextHop(h, w.Dst.Addr)
	if hop.Kind == model.Via && hop.Place == h.ID {
		hop = model.Hop{Kind: model.Nobody, Net: hop.Net}
	}
	toContainers := hop.Kind == model.OnLink && r.t.Model.Networks[hop.Net].On == h.ID
	switch {
	case toContainers && inside && hop.Net != in:
		r.stopAt(&w, StageRoute, h.Name, Internal, Silent, Break{
			Code: "path.no-route", Short: "strange network",
			Why: fmt.Sprintf("%s and %s are two container networks of %s, and strangers.", r.t.Model.Networks[in].Name, r.t.Model.Networks[hop.Net].Name, h.Name),
		})
		if !r.goal.Diagnose {
			r.end(w)
			return
		}
	case toContainers && !inside && !r.t.Model.Networks[hop.Net].Routed():
		r.noWay(w, h.Name, "%s is inside %s, and its own addresses lead nowhere from outside", r.t.Model.Networks[hop.Net].Name, h.Name)
		return
	case !h.Router && !inside && !toContainers:
		r.stopAt(&w, StageRoute, h.Name, Internal, Silent, Break{
			Code: "path.no-route", Short: "no router",
			Why: fmt.Sprintf("%s is no router: it passes nothing on to %s.", h.Name, w.Dst.Addr), Mend: r.makeRouter(h),
		}, h.Record)
		w.imagined = true
		if !r.goal.Diagnose {
			r.end(w)
			return
		}
	}
	if toContainers {
		r.intoContainer(h, w, hop.Net, hop.Place, in, false)
		return
	}
	if leadsNowhere(hop) {
		r.follow(h, h.ID, w, hop)
		return
	}
	skip := func(f *model.Filter) bool { return inside && !f.Record.GuardsContainers }
	if len(h.Filters[model.Forwarding]) == 0 && h.Router && hop.Kind != model.NoWay {
		w.Add(Step{Stage: StageFilter, At: h.Name, Verdict: Assumed, Ground: Edge, Records: []string{}, Why: r.say("No filter is recorded on %s: the flow passes.", h.Name)})
	}
	for w := range r.filters(h, model.Forwarding, w, in, hop.Net, skip) {
		for w := range r.filters(h, model.Postrouting, w, in, hop.Net, nil) {
			for w, written := range r.outbound(h, w, hop.Net) {
				switch {
				case written:
					r.follow(h, h.ID, w, hop)
				case as != nil:
					r.follow(h, h.ID, r.loopBack(h, w, *as), hop)
				default:
					for w := range r.ownRewriting(h, w, in, hop.Net, false) {
						r.follow(h, h.ID, w, hop)
					}
				}
			}
		}
	}
}

// loopBack gives a flow that a forward sends back inside the router's own source.
func (r *run) loopBack(h *model.Place, w Part, as netip.Addr) Part {
	by := h.Record
	if w.Forward != nil {
		by = w.Forward.Record
	}
	w.rewrittenBy(h.ID, as, nil)
	w.Add(Step{Stage: StageRewrite, At: h.Name, Verdict: Pass, Ground: Edge, Records: say.Lines(by), Why: r.say("Looped back: the source becomes %s.", as)})
	return w
}

func (r *run) makeRouter(h *model.Place) *Mend {
	if rec, ok := h.Record.(*estate.Host); ok {
		return Replace(rec, func(n *estate.Host) { n.Router = true })
	}
	return nil
}

// outbound rewrites the source of what leaves a machine, by the first line written that applies; false with what none
// applies to.
func (r *run) outbound(h *model.Place, w Part, out model.NetID) iter.Seq2[Part, bool] {
	return func(yield func(Part, bool) bool) { r.outboundFrom(h, 0, w, out, yield) }
}

func (r *run) outboundFrom(h *model.Place, first int, w Part, out model.NetID, yield func(Part, bool) bool) bool {
	for i, o := range h.Outbounds[first:] {
		if o.Dead || o.Leaving != model.NoNet && o.Leaving != out || o.As.IsValid() && o.As.Is6() != w.IPv6 {
			continue
		}
		named, other, sure := r.t.SourceSplit(o.From, w, w.IPv6)
		if named == nil {
			continue
		}
		v := *named
		switch {
		case !sure:
			v.Add(Step{Stage: StageRewrite, At: h.Name, Verdict: Unsettled, Ground: r.ground(h), Records: say.Lines(o.Record), Why: "The line is for part of a network, and the source may be any point of it."})
			if v.Stopped == "" {
				v.Stopped = Undecided
			}
		case !o.As.IsValid():
			v.Add(Step{Stage: StageRewrite, At: h.Name, Verdict: Pass, Ground: r.ground(h), Records: say.Lines(o.Record), Why: "The source stays as it is."})
		default:
			r.rewrite(&v, h, o.As, o.Record)
		}
		return yield(v, true) && (other == nil || r.outboundFrom(h, first+i+1, *other, out, yield))
	}
	return yield(w, false)
}

// ownRewriting is what a machine does to sources without being told: one-to-one forwards outward, containers
// that leave the machine, and private sources that leave a router to internet.
func (r *run) ownRewriting(h *model.Place, w Part, in, out model.NetID, local bool) iter.Seq[Part] {
	return func(yield func(Part) bool) {
		as, by, ok := r.ownSource(h, &w, in, out, local)
		if !ok {
			yield(w)
			return
		}
		if by != h.Record || w.Src.Float != model.Nowhere {
			r.rewrite(&w, h, as, by)
			yield(w)
			return
		}
		// What leaves a router for internet keeps a source that is known there.
		private := w.Src.Set
		if global := w.Src.Set.Intersect(netset.GloballyReachable()); !global.IsEmpty() {
			private = w.Src.Set.Subtract(global)
			if !yield(w.from(global)) || private.IsEmpty() {
				return
			}
		}
		v := w.from(private)
		r.rewrite(&v, h, as, by)
		yield(v)
	}
}

// ownSource is the address that a machine gives to what leaves it, without being told, and by which record.
func (r *run) ownSource(h *model.Place, w *Part, in, out model.NetID, local bool) (netip.Addr, estate.Record, bool) {
	if out == model.Internet {
		for _, f := range h.Forwards {
			b := f.Record.Bind
			if a, one := w.Src.Set.Single(); b.Any && b.Addr.IsValid() && w.Src.Float == model.Nowhere && one && a == f.Record.To.Addr {
				return b.Addr, f.Record, true
			}
		}
	}
	if in != model.NoNet && r.t.Model.Networks[in].On == h.ID && !r.t.Model.Networks[in].Routed() {
		a, ok := r.addrTowards(h, out, w.IPv6)
		return a, r.t.Model.Networks[in].Record, ok
	}
	if out != model.Internet || !h.Router || local {
		return netip.Addr{}, nil, false
	}
	a, ok := h.Addr(model.Internet, w.IPv6)
	return a, h.Record, ok
}

func (r *run) rewrite(w *Part, h *model.Place, a netip.Addr, by estate.Record) {
	if s, ok := w.Src.Set.Single(); ok && s == a {
		return
	}
	w.rewrittenBy(h.ID, a, by)
	w.Add(Step{Stage: StageRewrite, At: h.Name, Verdict: Pass, Ground: r.ground(h), Records: say.Lines(by), Why: r.say("The source becomes %s.", a)})
}

func (r *run) addrTowards(h *model.Place, out model.NetID, v6 bool) (netip.Addr, bool) {
	if a, ok := h.Addr(out, v6); ok {
		return a, true
	}
	for _, attachment := range h.Attachments {
		if !attachment.Gateway {
			if a, ok := h.Addr(attachment.Net, v6); ok {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}

// Noted notes what a flow is meant for.
func (g *Goal) Noted(m *model.Model, reads *memo.Reads) {
	if g.Place != model.Nowhere {
		reads.Place(g.Place)
		reads.Place(m.Places[g.Place].Host)
	}
	if g.Service != "" {
		reads.Service(g.Service)
	}
}
