package mend

import (
	"net/netip"
	"slices"
	"strconv"
	"sync"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/serve"
)

// misfits are the readings by which what does not fit together fits: a name that lines refer to and nothing has, where one is a step away; an
// address that two hold, or that its network has not. Much else may hang on these, whatever it is said of.
func (s State) misfits() []*flow.Mend {
	var out []*flow.Mend
	refers := map[estate.Ref][]estate.Record{}
	var unknown []estate.Ref
	within := sync.OnceValue(func() []string { return s.vocabulary().within })
	for _, f := range s.Checked.Findings {
		ref, is := f.Unknown()
		switch {
		case is:
			if refers[ref] == nil {
				unknown = append(unknown, ref)
			}
			refers[ref] = append(refers[ref], recorded(s.Tracer.Model.Estate, f.Subject))
		case f.Code == "site.unknown-service" && f.Mend != nil:
			out = append(out, f.Mend)
		case f.Code == "conflict.address":
			out = append(out, s.apart(f, within())...)
		case f.Code == "pool.down" || f.Code == "pool.check":
			out = append(out, s.checkedAt(f.Subject)...)
		}
	}
	for _, ref := range unknown {
		out = append(out, s.respelt(ref, refers[ref])...)
	}
	return slices.Concat(out, s.rerouted(), s.renumbered())
}

// checkedAt are the readings of a pool whose check asks at a port a step away from that of its members.
func (s State) checkedAt(name string) []*flow.Mend {
	m := s.Tracer.Model
	pool := m.Pools[name]
	if pool == nil || pool.Check < 1 {
		return nil
	}
	var out []*flow.Mend
	for _, member := range m.Members[name] {
		if port := int(member.At.Port); serve.OneLetterOff(strconv.Itoa(port), strconv.Itoa(pool.Check)) {
			out = append(out, put(pool, estate.With(pool, func(n *estate.Pool) { n.Check = port })))
		}
	}
	return out
}

// rerouted are the readings of a way by an address that nobody holds: that it is by one a step away, of a machine on a network of that one.
func (s State) rerouted() []*flow.Mend {
	m := s.Tracer.Model
	var out []*flow.Mend
	for _, r := range m.Estate.Of(estate.KindNamed("route")) {
		route := r.(*estate.Route)
		host := m.PlaceNamed(route.Host)
		if route.Off || host == nil || !route.Via.IsValid() || len(m.Owners(route.Via)) > 0 {
			continue
		}
		for _, r := range m.Estate.Of(estate.KindNamed("address")) {
			a := r.(*estate.Address)
			net := m.NetNamed(a.Network)
			if a.Off || net == nil || host.Attachment(net.ID) == nil || !serve.OneLetterOff(a.Held.String(), route.Via.String()) {
				continue
			}
			out = append(out, put(route, estate.With(route, func(n *estate.Route) { n.Via = a.Held.Addr })))
		}
	}
	return out
}

// respelt are the two ends of a slip: what is one step from a name that lines refer to gets that name; or all those lines get its.
func (s State) respelt(ref estate.Ref, lines []estate.Record) []*flow.Mend {
	var out []*flow.Mend
	for _, k := range estate.Kinds {
		if k.Defines&ref.Kind == 0 {
			continue
		}
		for _, r := range s.Tracer.Model.Estate.Of(k) {
			f := &k.Fields[0]
			name := f.Values(r)[0]
			if !serve.OneLetterOff(name, ref.Name) {
				continue
			}
			tried(r, f, []string{ref.Name}, func(is estate.Record) bool {
				out = append(out, put(r, is))
				return true
			})
			all := &flow.Mend{}
			for _, line := range lines {
				if m := findings.Respelt(line, ref, name); m != nil {
					all.Remove, all.Add = append(all.Remove, m.Remove...), append(all.Add, m.Add...)
				}
			}
			if len(all.Remove) > 0 {
				out = append(out, all)
			}
		}
	}
	return out
}

// apart are the readings of an address that two hold: that one of them holds another that is recorded, and that nobody does.
func (s State) apart(f *findings.Finding, within []string) []*flow.Mend {
	m := s.Tracer.Model
	var out []*flow.Mend
	for _, line := range f.Records {
		a, is := recorded(m.Estate, line).(*estate.Address)
		if !is {
			continue
		}
		for _, word := range within {
			other, err := netip.ParseAddr(word)
			if err != nil || len(m.Owners(other)) > 0 || !serve.OneLetterOff(word, a.Held.String()) {
				continue
			}
			out = append(out, put(a, estate.With(a, func(n *estate.Address) { n.Held.Addr = other })))
		}
	}
	return out
}

// renumbered are the readings of an address that its network has not: that it has the network's part, where that is a step away; or that
// the network's range is one a step away that has all of its addresses.
func (s State) renumbered() []*flow.Mend {
	m := s.Tracer.Model
	e := m.Estate
	on := map[string][]netip.Addr{}
	var out []*flow.Mend
	for _, r := range e.Of(estate.KindNamed("address")) {
		a := r.(*estate.Address)
		if a.Off || !a.Held.Addr.IsValid() {
			continue
		}
		on[a.Network] = append(on[a.Network], a.Held.Addr)
		net := m.NetNamed(a.Network)
		if net == nil {
			continue
		}
		for _, block := range net.Prefixes {
			if meant, is := moved(a.Held.Addr, block); is && len(m.Owners(meant)) == 0 && serve.OneLetterOff(meant.String(), a.Held.String()) {
				out = append(out, put(a, estate.With(a, func(n *estate.Address) { n.Held.Addr = meant })))
			}
		}
	}
	for _, r := range e.Of(estate.KindNamed("network")) {
		n := r.(*estate.Network)
		for i, block := range n.Prefixes {
			held := slices.DeleteFunc(slices.Clone(on[n.Name]), func(a netip.Addr) bool { return a.Is4() != block.Addr().Is4() })
			if len(held) == 0 || !slices.ContainsFunc(held, func(a netip.Addr) bool { return !block.Contains(a) }) {
				continue
			}
			for bits := range block.Addr().BitLen() + 1 {
				meant, err := held[0].Prefix(bits)
				if err != nil || !serve.OneLetterOff(meant.String(), block.String()) || slices.ContainsFunc(held, func(a netip.Addr) bool { return !meant.Contains(a) }) {
					continue
				}
				out = append(out, put(n, estate.With(n, func(n *estate.Network) {
					n.Prefixes = slices.Clone(n.Prefixes)
					n.Prefixes[i] = meant
				})))
			}
		}
	}
	return out
}

// moved is an address of a range that it is not in: with the range's part in place of its own.
func moved(a netip.Addr, into netip.Prefix) (netip.Addr, bool) {
	if a.Is4() != into.Addr().Is4() || into.Contains(a) {
		return a, false
	}
	out, network := a.AsSlice(), into.Addr().AsSlice()
	for bit := range into.Bits() {
		mask := byte(0x80 >> (bit % 8))
		out[bit/8] = out[bit/8]&^mask | network[bit/8]&mask
	}
	return netip.AddrFromSlice(out)
}

// put is one record in the place of another.
func put(gone, come estate.Record) *flow.Mend {
	return &flow.Mend{Remove: []string{estate.Line(gone)}, Add: []string{estate.Line(come)}}
}
