package flow

import (
	"net/netip"

	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

func (r *run) network(id model.NetID) *model.Network {
	if id == model.NoNet {
		return nil
	}
	return r.t.Model.Networks[id]
}

// byMaps parts a flow for the machine's own addresses among its maps, the first written first; one whose container is in no recorded
// network takes nothing. take says whether the map takes the translated part; what none takes is rest's.
func (r *run) byMaps(h *model.Place, w Part, local bool, take func(*model.Map, Part) bool, rest func(Part)) {
	r.byMapsFrom(h, 0, w, local, take, rest)
}

func (r *run) byMapsFrom(h *model.Place, first int, w Part, local bool, take func(*model.Map, Part) bool, rest func(Part)) {
	for i, mp := range h.Maps[first:] {
		if mp.Net == model.NoNet || mp.Record.Bind.Transport&w.Transport == 0 || !mp.Ports.Overlaps(w.Ports) || !BindTakes(mp.Record.Bind.Addr, w.Dst.Addr, local) {
			continue
		}
		ports := w.Ports.Intersect(mp.Ports)
		refused := false
		for _, v := range w.onPorts(ports).translated(mp.Pairs) {
			v.Mapped = mp
			v.Before, v.beforeShift, v.beforeMany = w.onPorts(ports).portsOf(v), w.Shift, w.Many
			refused = !take(mp, v) || refused
		}
		if refused {
			continue
		}
		if other := w.Ports.Subtract(ports); !other.IsEmpty() {
			r.byMapsFrom(h, first+i+1, w.onPorts(other), local, take, rest)
		}
		return
	}
	rest(w)
}

// beforeMap is a flow that a map has translated, on the ports that it came with.
func (w Part) beforeMap() Part {
	w.Ports, w.Shift, w.Many = w.Before, w.beforeShift, w.beforeMany
	return w
}

// portsOf are the ports of w that became those of v.
func (w Part) portsOf(v Part) netset.Ports {
	if w.Many {
		return w.Ports
	}
	return shiftPorts(v.Outer, w.Shift)
}

func BindTakes(bound, dst netip.Addr, local bool) bool {
	switch {
	case !bound.IsValid():
		return true
	case bound.IsUnspecified():
		return bound.Is6() == dst.Is6()
	case bound.IsLoopback():
		return local && bound == dst
	}
	return bound == dst
}

// intoMapped is a mapped flow from another machine on its way into the container: past the through filters,
// but for those that guard containers.
func (r *run) intoMapped(h *model.Place, mp *model.Map, in model.NetID, w Part) {
	skip := func(f *model.Filter) bool { return !f.Record.GuardsContainers }
	for w := range r.filters(h, model.Forwarding, w, in, mp.Net, skip) {
		for w := range r.filters(h, model.Postrouting, w, in, mp.Net, nil) {
			for w := range r.outbound(h, w, mp.Net) {
				r.toContainer(mp, w)
			}
		}
	}
}

func (r *run) containerDest(c model.PlaceID, net model.NetID, v6 bool) Dest {
	if a, ok := r.place(c).Addr(net, v6); ok {
		return ToAddr(a)
	}
	return Dest{Float: c, Net: net, Name: r.place(c).Name}
}

// toContainer is a mapped flow at the container's own sockets.
func (r *run) toContainer(mp *model.Map, w Part) {
	w.Dst = r.containerDest(mp.Container, mp.Net, w.IPv6)
	r.sockets(r.place(r.place(mp.Container).Namespace), w, false)
}

// intoContainer is a flow to a container's own address: made on its machine, or passing it on
// a routed network or from another container.
func (r *run) intoContainer(h *model.Place, w Part, net model.NetID, c model.PlaceID, in model.NetID, local bool) {
	first, skip := model.Forwarding, func(*model.Filter) bool { return false }
	if local {
		first = model.Output
	} else if in != model.NoNet && r.t.Model.Networks[in].On == h.ID {
		skip = func(f *model.Filter) bool { return !f.Record.GuardsContainers }
	}
	for w := range r.filters(h, first, w, in, net, skip) {
		for w := range r.filters(h, model.Postrouting, w, in, net, nil) {
			w.Add(Step{
				Stage: StageRoute, At: r.place(c).Name, Verdict: Pass, Ground: Internal, Records: say.Lines(r.place(c).Record),
				Why: r.say("To the container's own address, on %s.", r.t.Model.Networks[net].Name),
			})
			r.sockets(r.place(r.place(c).Namespace), w, false)
		}
	}
}

// relay is a flow that the machine's port relay takes and makes anew towards the container.
func (r *run) relay(h *model.Place, mp *model.Map, w Part) {
	net := r.network(mp.Net)
	v6 := w.IPv6
	if !net.Family(v6) {
		v6 = !v6
	}
	w.IPv6 = v6
	w.Dst = r.containerDest(mp.Container, mp.Net, v6)
	w.Add(Step{
		Stage: StageTranslate, At: h.Name, Verdict: Pass, Ground: Internal, Records: say.Lines(mp.Record),
		Why: r.say("The port relay of %s takes it and goes on to %s, port %s; the container sees the gateway of %s.", h.Name, r.place(mp.Container).Name, w.portWord(), net.Name),
	})
	if a, ok := h.Addr(mp.Net, v6); ok {
		w.rewriteSource(a)
	}
	w.Met, w.Relayed = nil, true // a connection of its own
	for w := range r.filters(h, model.Output, w, model.NoNet, mp.Net, nil) {
		for w := range r.filters(h, model.Postrouting, w, model.NoNet, mp.Net, nil) {
			r.toContainer(mp, w)
		}
	}
}
