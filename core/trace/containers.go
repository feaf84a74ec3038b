package trace

import (
	"net/netip"

	"steady-compass/core/model"
	"steady-compass/core/netset"
)

func (r *run) network(id model.NetID) *model.Network {
	if id == model.NoNet {
		return nil
	}
	return r.t.m.Networks[id]
}

// byMaps parts a flow for the machine's own addresses among its maps, the first written first. take says
// whether the map takes the translated part; what none takes is rest's.
func (r *run) byMaps(h *model.Place, w way, local bool, take func(*model.Map, way) bool, rest func(way)) {
	r.byMapsFrom(h, 0, w, local, take, rest)
}

func (r *run) byMapsFrom(h *model.Place, first int, w way, local bool, take func(*model.Map, way) bool, rest func(way)) {
	for i, mp := range h.Maps[first:] {
		if mp.Container == model.Nowhere || mp.Record.Bind.Transport&w.proto == 0 || !mp.Ports.Overlaps(w.ports) || !bindTakes(mp.Record.Bind.Addr, w.dst.addr, local) {
			continue
		}
		ports := w.ports.Intersect(mp.Ports)
		refused := false
		for _, v := range w.onPorts(ports).translated(mp.Pairs) {
			v.mapped = mp
			v.before, v.beforeShift, v.beforeMany = w.onPorts(ports).portsOf(v), w.shift, w.many
			refused = !take(mp, v) || refused
		}
		if refused {
			continue
		}
		if other := w.ports.Subtract(ports); !other.IsEmpty() {
			r.byMapsFrom(h, first+i+1, w.onPorts(other), local, take, rest)
		}
		return
	}
	rest(w)
}

// beforeMap is a flow that a map has translated, on the ports that it came with.
func (w way) beforeMap() way {
	w.ports, w.shift, w.many = w.before, w.beforeShift, w.beforeMany
	return w
}

// portsOf are the ports of w that became those of v.
func (w way) portsOf(v way) netset.Ports {
	if w.many {
		return w.ports
	}
	return shiftPorts(v.outer, w.shift)
}

func bindTakes(bound, dst netip.Addr, local bool) bool {
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
func (r *run) intoMapped(h *model.Place, mp *model.Map, in model.NetID, w way) {
	skip := func(f *model.Filter) bool { return !f.Record.GuardsContainers }
	for w := range r.filters(h, model.Through, w, in, mp.Net, skip) {
		for w := range r.filters(h, model.Departing, w, in, mp.Net, nil) {
			for w := range r.outbound(h, w, mp.Net) {
				r.toContainer(mp, w)
			}
		}
	}
}

func (r *run) containerDest(c model.PlaceID, net model.NetID, v6 bool) dest {
	if a, ok := r.place(c).Addr(net, v6); ok {
		return toAddr(a)
	}
	return dest{float: c, net: net, name: r.place(c).Name}
}

// toContainer is a mapped flow at the container's own sockets.
func (r *run) toContainer(mp *model.Map, w way) {
	w.dst = r.containerDest(mp.Container, mp.Net, w.six)
	r.sockets(r.place(r.place(mp.Container).Stack), w, false)
}

// intoContainer is a flow to a container's own address: made on its machine, or passing it on
// a routed network or from another container.
func (r *run) intoContainer(h *model.Place, w way, net model.NetID, c model.PlaceID, in model.NetID, local bool) {
	first, skip := model.Through, func(*model.Filter) bool { return false }
	if local {
		first = model.Output
	} else if in != model.NoNet && r.t.m.Networks[in].On == h.ID {
		skip = func(f *model.Filter) bool { return !f.Record.GuardsContainers }
	}
	for w := range r.filters(h, first, w, in, net, skip) {
		for w := range r.filters(h, model.Departing, w, in, net, nil) {
			w.walk(Step{
				Stage: StageRoute, At: r.place(c).Name, Verdict: Pass, Ground: Land, Records: lines(r.place(c).Record),
				Why: r.say("To the container's own address, on %s.", r.t.m.Networks[net].Name),
			})
			r.sockets(r.place(r.place(c).Stack), w, false)
		}
	}
}

// relay is a flow that the machine's port relay takes and makes anew towards the container.
func (r *run) relay(h *model.Place, mp *model.Map, w way) {
	net := r.network(mp.Net)
	if net == nil {
		r.end(w)
		return
	}
	v6 := w.six
	if !net.Family(v6) {
		v6 = !v6
	}
	w.six = v6
	w.dst = r.containerDest(mp.Container, mp.Net, v6)
	w.walk(Step{
		Stage: StageTranslate, At: h.Name, Verdict: Pass, Ground: Land, Records: lines(mp.Record),
		Why: r.say("The port relay of %s takes it and goes on to %s, port %s; the container sees the gateway of %s.", h.Name, r.place(mp.Container).Name, w.portWord(), net.Name),
	})
	if a, ok := h.Addr(mp.Net, v6); ok {
		w.rewriteSource(a)
	}
	w.held, w.relayed = nil, true // a connection of its own
	for w := range r.filters(h, model.Output, w, model.NoNet, mp.Net, nil) {
		for w := range r.filters(h, model.Departing, w, model.NoNet, mp.Net, nil) {
			r.toContainer(mp, w)
		}
	}
}
