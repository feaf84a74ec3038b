package machine

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/intake"
)

// relays are the programs by which container engines hold the ports of their maps: a socket of theirs is the map itself.
var relays = []string{"docker-proxy", "rootlessport", "conmon", "pasta", "slirp4netns"}

// alignment is an account laid beside what is recorded.
type alignment struct {
	account    *Account
	e          *estate.Estate
	out        intake.Reading
	networks   map[string]string // the account's name of a network → the recorded one
	containers map[string]string // the same for containers
	stacks     map[string]string // a container that shares its host → the host
	observed   map[string]bool   // the containers that there are
	taken      map[string]bool   // the names of hosts, networks and groups
	served     map[string][]string
}

// Reading is what the account would bring to an estate.
func (a Account) Reading(e *estate.Estate) intake.Reading {
	l := &alignment{account: &a, e: e, networks: map[string]string{}, containers: map[string]string{}, stacks: map[string]string{}, observed: map[string]bool{}, taken: map[string]bool{}, served: servedBy(e)}
	l.out.Left, l.out.Faults = slices.Clone(a.Left), slices.Clone(a.Faults)
	for _, word := range []string{"host", "network", "group"} {
		for _, r := range e.Of(estate.KindNamed(word)) {
			l.taken[estate.KindOf(r).Fields[0].Values(r)[0]] = true
		}
	}
	for _, r := range all[*estate.Host](e.All()) {
		l.taken[r.Name] = true
	}
	l.pairContainers()
	l.hosts()
	l.pairNetworks()
	l.addresses()
	for _, r := range a.Records {
		switch r := r.(type) {
		case *estate.Route, *estate.HostsEntry:
			l.out.Records = append(l.out.Records, r)
		}
	}
	l.containerLines()
	l.maps()
	l.listeners()
	l.out.Covers = l.covers
	return l.out
}

// all are the records of one kind.
func all[T estate.Record](records []estate.Record) []T {
	var out []T
	for _, r := range records {
		if t, ok := r.(T); ok {
			out = append(out, t)
		}
	}
	return out
}

// keep leaves a recorded line as it is.
func (l *alignment) keep(r estate.Record) { l.out.Records = append(l.out.Records, r) }

// instead puts a line in the place of a recorded one.
func (l *alignment) instead(old, next estate.Record) {
	l.out.Instead = append(l.out.Instead, intake.Swap{Old: old, New: next})
}

// hosts keeps recorded hosts as they are, but for one that was unlisted and whose listeners are now told.
func (l *alignment) hosts() {
	for _, h := range all[*estate.Host](l.account.Records) {
		i := slices.IndexFunc(l.e.Of(estate.KindOf(h)), func(r estate.Record) bool { return r.(*estate.Host).Name == h.Name })
		if i < 0 {
			l.keep(h)
			continue
		}
		old := l.e.Of(estate.KindOf(h))[i].(*estate.Host)
		if old.Unlisted && l.account.IsWhole(TCP, h.Name) && l.account.IsWhole(UDP, h.Name) {
			l.instead(old, estate.With(old, func(o *estate.Host) { o.Unlisted = false }))
		} else {
			l.keep(old)
		}
	}
}

// pairNetworks finds, for each network of the account, the recorded one that it is: the same range, inside the same
// machine or outside of all. Of several with the range, it is the one that the machine is on already.
func (l *alignment) pairNetworks() {
	recorded := all[*estate.Network](l.e.Of(estate.KindNamed("network")))
	for _, n := range all[*estate.Network](l.account.Records) {
		var found []*estate.Network
		for _, r := range recorded {
			if (r.On == n.On || r.On == l.account.Host) && slices.ContainsFunc(r.Prefixes, func(p netip.Prefix) bool { return slices.Contains(n.Prefixes, p) }) {
				found = append(found, r)
			}
		}
		if len(found) == 0 {
			l.newNetwork(n)
			continue
		}
		best := found[0]
		for _, r := range found {
			if l.isOn(n.On, r.Name) {
				best = r
				break
			}
		}
		if len(found) > 1 && !l.isOn(n.On, best.Name) {
			l.out.Left = append(l.out.Left, fmt.Sprintf("%s is the range of %d recorded networks; %s is taken to be on %s.", prefixes(n.Prefixes), len(found), l.account.Host, best.Name))
		}
		l.networks[n.Name] = best.Name
		missing := slices.DeleteFunc(slices.Clone(n.Prefixes), func(p netip.Prefix) bool { return slices.Contains(best.Prefixes, p) })
		if len(missing) > 0 {
			l.instead(best, estate.With(best, func(o *estate.Network) { o.Prefixes = append(slices.Clone(best.Prefixes), missing...) }))
		} else {
			l.keep(best)
		}
	}
}

func (l *alignment) isOn(on, network string) bool {
	if on != "" {
		return true
	}
	return slices.ContainsFunc(all[*estate.Address](l.e.Of(estate.KindNamed("address"))), func(a *estate.Address) bool {
		return a.Network == network && slices.Contains(a.Hosts, l.account.Host)
	})
}

// newNetwork brings a network that nobody recorded, under a name that is free.
func (l *alignment) newNetwork(n *estate.Network) {
	name := n.Name
	for i := 1; l.taken[name]; i++ {
		name = l.account.Host + "-" + n.Name
		if i > 1 {
			name = fmt.Sprintf("%s-%d", name, i)
		}
	}
	l.taken[name] = true
	l.networks[n.Name] = name
	l.keep(estate.With(n, func(o *estate.Network) { o.Name = name }))
}

func prefixes(list []netip.Prefix) string {
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = p.String()
	}
	return strings.Join(words, ",")
}

// addresses keeps what is recorded of an address that the machine holds, also with others, and puts one that is held in
// the place of one that nobody knew.
func (l *alignment) addresses() {
	recorded := all[*estate.Address](l.e.Of(estate.KindNamed("address")))
	met := map[*estate.Address]bool{}
	for _, a := range all[*estate.Address](l.account.Records) {
		host := a.Hosts[0]
		network := l.networkOf(a)
		if l.inside(network) {
			continue // the gateway of a container network, which its machine holds by itself
		}
		next := estate.With(a, func(o *estate.Address) { o.Network = network })
		var same, unknown *estate.Address
		for _, r := range recorded {
			switch {
			case !slices.Contains(r.Hosts, host) || met[r]:
			case r.Held.Addr == a.Held.Addr && (same == nil || same.Off):
				same = r
			case r.Held.Unknown && !r.Off && r.Network == network && unknown == nil:
				unknown = r
			}
		}
		old := same
		if old == nil {
			old = unknown
		}
		switch {
		case old == nil:
			l.keep(next)
			continue
		case same != nil && !same.Off && same.Network == network:
			l.keep(same)
		default:
			l.instead(old, estate.With(old, func(o *estate.Address) { o.Held, o.Network, o.Off = a.Held, network, false }))
		}
		met[old] = true
	}
}

// inside says whether a recorded network is one of the machine's container networks.
func (l *alignment) inside(network string) bool {
	return slices.ContainsFunc(all[*estate.Network](l.e.Of(estate.KindNamed("network"))), func(n *estate.Network) bool {
		return n.Name == network && n.On == l.account.Host
	})
}

// networkOf is the recorded name of the network that an address of the account is in. A public one is on internet unless
// a recorded network has it.
func (l *alignment) networkOf(a *estate.Address) string {
	if a.Network == "internet" {
		for _, n := range all[*estate.Network](l.e.Of(estate.KindNamed("network"))) {
			if n.On == "" && slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Contains(a.Held.Addr) }) {
				return n.Name
			}
		}
		return "internet"
	}
	if name, ok := l.networks[a.Network]; ok {
		return name
	}
	return a.Network
}

// pairContainers finds, for each container of the account, the recorded one that it is: by its name, else by an alias.
func (l *alignment) pairContainers() {
	recorded := map[string]*estate.Container{}
	for _, r := range all[*estate.Container](l.e.Of(estate.KindNamed("container"))) {
		if recorded[r.Name] == nil {
			recorded[r.Name] = r
		}
		if r.SharesHost {
			l.stacks[r.Name] = hostOf(r.Name)
		}
	}
	come := all[*estate.Container](l.account.Records)
	taken := map[string]bool{}
	for _, c := range come {
		if recorded[c.Name] != nil {
			l.containers[c.Name], taken[c.Name] = c.Name, true
		}
	}
	for _, c := range come {
		for _, alias := range c.Aliases {
			name := hostOf(c.Name) + "/" + alias
			if l.containers[c.Name] == "" && recorded[name] != nil && !taken[name] {
				l.containers[c.Name], taken[name] = name, true
			}
		}
		if l.containers[c.Name] == "" {
			l.containers[c.Name] = c.Name
		}
		name := l.containers[c.Name]
		l.observed[name] = true
		if c.SharesHost {
			l.stacks[name] = hostOf(name)
		} else {
			delete(l.stacks, name)
		}
	}
}

func hostOf(place string) string {
	host, _, _ := strings.Cut(place, "/")
	return host
}

// place is the recorded name of a place of the account.
func (l *alignment) place(name string) string {
	if to, ok := l.containers[name]; ok {
		return to
	}
	return name
}

// stack is the place whose addresses a place's listeners are on.
func (l *alignment) stack(place string) string {
	if host, ok := l.stacks[place]; ok {
		return host
	}
	return place
}

func (l *alignment) containerLines() {
	recorded := map[string]*estate.Container{}
	for _, r := range all[*estate.Container](l.e.Of(estate.KindNamed("container"))) {
		if old := recorded[r.Name]; old == nil || old.Off {
			recorded[r.Name] = r
		}
	}
	for _, c := range all[*estate.Container](l.account.Records) {
		name := l.place(c.Name)
		next := estate.With(c, func(o *estate.Container) {
			o.Name, o.In = name, slices.Clone(c.In)
			for i := range o.In {
				if to, ok := l.networks[o.In[i].Network]; ok {
					o.In[i].Network = to
				}
			}
			short := name[len(hostOf(name))+1:]
			o.Aliases = slices.DeleteFunc(slices.Clone(c.Aliases), func(a string) bool { return a == short })
			if own := c.Name[len(hostOf(c.Name))+1:]; own != short && !c.SharesHost {
				o.Aliases = append(o.Aliases, own) // its own name leads to it too
			}
		})
		old := recorded[name]
		switch {
		case old == nil:
			l.keep(next)
		case !old.Off && sameContainer(old, next):
			l.keep(old)
		default:
			l.instead(old, estate.With(old, func(o *estate.Container) {
				o.In, o.Aliases, o.SharesHost, o.Off = next.In, next.Aliases, next.SharesHost, false
			}))
		}
	}
}

// sameContainer says whether two lines mean the same, in whatever order they list it. A name of the container's own that
// is among its recorded aliases says nothing new.
func sameContainer(a, b *estate.Container) bool {
	words := func(c *estate.Container) (in, aliases []string) {
		for _, at := range c.In {
			in = append(in, at.String())
		}
		slices.Sort(in)
		aliases = slices.Sorted(slices.Values(c.Aliases))
		return in, slices.Compact(aliases)
	}
	inA, aliasesA := words(a)
	inB, aliasesB := words(b)
	return a.SharesHost == b.SharesHost && slices.Equal(inA, inB) && slices.Equal(aliasesA, aliasesB)
}

// maps lays the account's maps beside the recorded ones, port for port.
func (l *alignment) maps() {
	seen := map[string][]claim{} // by container
	var order []string
	noRelay := map[string]bool{}
	for _, m := range all[*estate.Map](l.account.Records) {
		name := l.place(m.Container)
		if seen[name] == nil {
			order = append(order, name)
		}
		noRelay[name] = m.NoRelay
		seen[name] = append(seen[name], claimsOfBind(name, m.Bind, estate.Translate(m.Bind.Ports, m.To))...)
	}
	recorded := map[string][]*estate.Map{}
	for _, m := range all[*estate.Map](l.e.Of(estate.KindNamed("map"))) {
		recorded[m.Container] = append(recorded[m.Container], m)
	}
	for _, name := range order {
		rest := lay(l, recorded[name], seen[name], func(claim) bool { return l.wholeMaps(name) },
			func(m *estate.Map) []claim {
				return claimsOfBind(name, m.Bind, estate.Translate(m.Bind.Ports, m.To))
			},
			func(m *estate.Map, b binding) *estate.Map {
				return estate.With(m, func(o *estate.Map) { o.Bind, o.To, o.Off = b.Bind, b.to, false })
			})
		for _, b := range bindings(rest) {
			l.keep(estate.With(&estate.Map{Container: name, Bind: b.Bind, To: b.to, NoRelay: noRelay[name]}, func(*estate.Map) {}))
		}
	}
}

// wholeMaps says whether the account has all maps of a container: with all of its machine's, or with its own.
func (l *alignment) wholeMaps(container string) bool {
	return slices.ContainsFunc(l.account.Whole, func(w Whole) bool {
		return w.Aspect == Containers && (w.Place == hostOf(container) || l.place(w.Place) == container)
	})
}

// listeners lays the account's sockets beside the recorded listeners, port for port, whatever they are called.
func (l *alignment) listeners() {
	mapped := map[claim]bool{}
	for _, records := range [][]estate.Record{l.out.Records, l.account.Records} {
		for _, m := range all[*estate.Map](records) {
			for _, c := range claimsOfBind(hostOf(m.Container), m.Bind, estate.Translate(m.Bind.Ports, m.To)) {
				c.inner = c.outer
				mapped[c] = true
			}
		}
	}
	for _, m := range all[*estate.Map](l.e.Of(estate.KindNamed("map"))) {
		for _, c := range claimsOfBind(hostOf(m.Container), m.Bind, estate.Translate(m.Bind.Ports, m.To)) {
			c.inner = c.outer
			mapped[c] = mapped[c] || !m.Off
		}
	}
	type of struct {
		place, service string
		shared         bool
	}
	seen := map[string][]claim{} // by stack
	owner := map[claim][]of{}
	var stacks []string
	for _, s := range all[*estate.Listen](l.account.Records) {
		place := l.place(s.Place)
		stack := l.stack(place)
		if seen[stack] == nil {
			stacks = append(stacks, stack)
		}
		for _, c := range claimsOfBind(stack, s.Bind, estate.Translate(s.Bind.Ports, estate.Ports{})) {
			if mapped[c] && (slices.Contains(relays, s.Service) || strings.HasPrefix(s.Service, "port-")) {
				continue
			}
			at := of{place, s.Service, s.Shared}
			if !slices.Contains(owner[c], at) {
				owner[c] = append(owner[c], at)
			}
			if !slices.Contains(seen[stack], c) {
				seen[stack] = append(seen[stack], c)
			}
		}
	}
	for _, w := range l.account.Whole {
		if stack := l.stack(l.place(w.Place)); (w.Aspect == TCP || w.Aspect == UDP) && !slices.Contains(stacks, stack) {
			stacks = append(stacks, stack)
		}
	}
	recorded := map[string][]*estate.Listen{}
	for _, s := range all[*estate.Listen](l.e.Of(estate.KindNamed("listen"))) {
		recorded[l.stack(s.Place)] = append(recorded[l.stack(s.Place)], s)
	}
	for _, stack := range stacks {
		rest := lay(l, recorded[stack], seen[stack], func(c claim) bool { return l.wholeSocket(stack, c) },
			func(s *estate.Listen) []claim {
				return claimsOfBind(stack, s.Bind, estate.Translate(s.Bind.Ports, estate.Ports{}))
			},
			func(s *estate.Listen, b binding) *estate.Listen {
				return estate.With(s, func(o *estate.Listen) { o.Bind, o.Off = b.Bind, false })
			})
		groups := map[of][]claim{}
		var order []of
		for _, c := range rest {
			for _, at := range owner[c] {
				if groups[at] == nil {
					order = append(order, at)
				}
				groups[at] = append(groups[at], c)
			}
		}
		for _, at := range order {
			for _, b := range bindings(groups[at]) {
				l.keep(estate.With(&estate.Listen{Place: at.place, Bind: b.Bind, Service: l.service(at.place, at.service), Shared: at.shared}, func(*estate.Listen) {}))
			}
		}
	}
}

// service is the name of a program as a service of a place; with its place where another's sites would come with it.
func (l *alignment) service(place, program string) string {
	at := l.served[program]
	if len(at) == 0 || slices.Contains(at, place) {
		return program
	}
	return estate.CleanName(strings.ReplaceAll(place, "/", "-") + "-" + program)
}

// servedBy are the places at which each service that has sites listens.
func servedBy(e *estate.Estate) map[string][]string {
	sites := map[string]bool{}
	for _, s := range all[*estate.Site](e.Of(estate.KindNamed("site"))) {
		sites[s.Service] = true
	}
	out := map[string][]string{}
	for _, o := range all[*estate.Listen](e.Of(estate.KindNamed("listen"))) {
		if sites[o.Service] {
			out[o.Service] = append(out[o.Service], o.Place)
		}
	}
	return out
}

// wholeSocket says whether the account would have a socket if there were one.
func (l *alignment) wholeSocket(stack string, c claim) bool {
	aspect := TCP
	if c.proto == netset.UDP {
		aspect = UDP
		if c.outer >= FirstEphemeral {
			return false // those that programs ask from are not told
		}
	}
	return slices.ContainsFunc(l.account.Whole, func(w Whole) bool { return w.Aspect == aspect && l.place(w.Place) == stack })
}

// lay holds claims that are there against recorded lines. A line that has them all stays; one that has some is made
// narrower; one that is off, and has them all, comes into force. It gives the claims that no line has. A line that has
// none is gone, which Covers says.
func lay[R estate.Record](l *alignment, recorded []R, seen []claim, whole func(claim) bool, claims func(R) []claim, with func(R, binding) R) []claim {
	there := map[claim]bool{}
	for _, c := range seen {
		there[c] = true
	}
	taken := map[claim]bool{}
	for _, off := range []bool{false, true} {
		for _, r := range recorded {
			if r.Meta().Off != off {
				continue
			}
			var has, lacks []claim
			for _, c := range claims(r) {
				switch {
				case there[c] || !off && !whole(c):
					has = append(has, c)
				default:
					lacks = append(lacks, c)
				}
			}
			switch {
			case off && (len(lacks) > 0 || slices.ContainsFunc(has, func(c claim) bool { return taken[c] })):
				continue
			case off:
				l.instead(r, estate.InForce(r))
			case len(lacks) == 0:
				l.keep(r)
			case len(has) > 0:
				for i, b := range bindings(has) {
					if next := with(r, b); i == 0 {
						l.instead(r, next)
					} else {
						l.keep(next)
					}
				}
			}
			for _, c := range has {
				taken[c] = true
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(seen), func(c claim) bool { return taken[c] })
}

// covers says whether a recorded line would be in the account if it still held.
func (l *alignment) covers(r estate.Record) bool {
	whole := func(a Aspect, place string) bool { return l.account.IsWhole(a, place) }
	switch r := r.(type) {
	case *estate.Address:
		return len(r.Hosts) == 1 && r.Held.Addr.IsValid() && whole(Addresses, r.Hosts[0])
	case *estate.Route:
		return whole(Routes, r.Host)
	case *estate.HostsEntry:
		return whole(Names, r.Place)
	case *estate.Container:
		return whole(Containers, hostOf(r.Name))
	case *estate.Map:
		return l.wholeMaps(r.Container)
	case *estate.Listen:
		if strings.Contains(r.Place, "/") && whole(Containers, hostOf(r.Place)) && !l.observed[r.Place] {
			return true // its container is gone
		}
		stack := l.stack(r.Place)
		return !slices.ContainsFunc(claimsOfBind(stack, r.Bind, estate.Translate(r.Bind.Ports, estate.Ports{})), func(c claim) bool { return !l.wholeSocket(stack, c) })
	}
	return false
}
