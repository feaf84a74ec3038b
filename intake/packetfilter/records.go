package packetfilter

import (
	"cmp"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/rules"
	"steady-compass/intake"
)

// Source is a machine's ruleset and what it does not say itself.
type Source struct {
	Host       string
	Interfaces map[string]string // a recorded network by the interface's name; one that is not there is the network of its own name
}

// reading turns a ruleset into records.
type reading struct {
	Source
	e       *estate.Estate
	m       *model.Model
	host    *model.Place
	rs      *Ruleset
	out     intake.Reading
	chains  []*chainReading // filters, in the order in which they are met
	unknown []*estate.Rule  // what translations that have no meaning here may do, by filters ahead of them
	loops   []Match         // translated flows that get the machine's own source
	led     []*led

	maps, outboundsRead []piece
}

// Reading is what a ruleset says as records of a host. Rules that name something without a meaning here leave their flows
// undecided, and are named by line.
func (s Source) Reading(rs *Ruleset, e *estate.Estate) intake.Reading {
	r := &reading{Source: s, e: e, m: model.Compile(e), rs: rs}
	r.host = r.m.PlaceNamed(s.Host)
	if r.host == nil || r.host.IsContainer() {
		r.out.Faults = append(r.out.Faults, intake.FileFault{File: rs.File, Line: 1, What: fmt.Sprintf("%s is no host that is recorded", s.Host), Expected: "one that is, with its addresses: a listing names interfaces only"})
		return r.out
	}
	r.out.Left = append(r.out.Left, rs.Idle...)
	for i := range rs.Unread {
		r.unread(&rs.Unread[i])
	}
	for _, hook := range []string{"prerouting", "input", "forward", "output", "postrouting"} {
		for _, c := range r.base("filter", hook) {
			r.filter(c)
		}
	}
	for _, c := range r.base("nat", "postrouting") {
		r.loopsOf(c)
	}
	for _, c := range r.base("nat", "prerouting") {
		r.forwards(c)
	}
	for _, c := range r.base("nat", "output") {
		r.made(c)
	}
	for _, c := range r.base("nat", "postrouting") {
		r.outbounds(c)
	}
	r.settle()
	r.record()
	return r.out
}

// unread says of a chain that nothing of it is known: where it meets flows, all are undecided.
func (r *reading) unread(c *Chain) {
	hooks, what, which := []model.Hook{model.Prerouting}, fmt.Sprintf("a chain at %s is not read", c.Hook), "all that arrives"
	switch c.Hook {
	case "ingress":
	case "egress":
		hooks, which = []model.Hook{model.Postrouting}, "all that leaves"
	default:
		hooks = map[string][]model.Hook{"input": {model.Input}, "forward": {model.Forwarding}, "output": {model.Output}, "postrouting": {model.Postrouting}}[c.Hook]
		if hooks == nil {
			hooks = []model.Hook{model.Prerouting}
		}
		what, which = "the listing does not tell whether the table is dormant", "all that it meets"
	}
	r.leftOf(c, what+"; "+which+" is undecided")
	for _, hook := range hooks {
		name := cmp.Or(estate.CleanName(c.Name), r.Host+"-"+c.Hook)
		all := Everything(c.Family)
		rule := &estate.Rule{Filter: name, Action: "unknown", Ports: estate.Ports{Any: true, Transport: netset.Both}}
		filter := &estate.Filter{Name: name, On: []string{r.Host}, Hook: hook.String(), Otherwise: "pass"}
		switch {
		case all.From.Of(true).IsEmpty():
			filter.Family = "ipv4"
		case all.From.Of(false).IsEmpty():
			filter.Family = "ipv6"
		}
		r.out.Records = append(r.out.Records, estate.Made(filter), estate.Made(rule))
	}
}

// base are the chains that a hook leads into, in the order in which they are met.
func (r *reading) base(kind, hook string) []*Chain {
	var out []*Chain
	for _, c := range r.rs.Chains {
		if c.Hook == hook && (c.Type == kind || kind == "filter" && c.Type == "route") {
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(a, b *Chain) int { return a.Priority - b.Priority })
	return out
}

func (r *reading) chain(near *Chain, name string) *Chain {
	for _, c := range r.rs.Chains {
		if c.Family == near.Family && c.Table == near.Table && c.Name == name {
			return c
		}
	}
	return nil
}

func (r *reading) left(rule *Rule, what string) {
	r.leave(fmt.Sprintf("line %d: %s: %s", rule.Line, rule.Text, what))
}

func (r *reading) leftOf(c *Chain, what string) {
	r.leave(fmt.Sprintf("line %d: table %s %s, chain %s: %s", c.Line, c.Family, c.Table, c.Name, what))
}

// leave says of something that it is left, once.
func (r *reading) leave(line string) {
	if !slices.Contains(r.out.Left, line) {
		r.out.Left = append(r.out.Left, line)
	}
}

// part is a set of flows and what a chain does with it.
type part struct {
	flows  rules.Flows
	action string // pass, drop, refuse or unknown
}

// chainReading is one base chain as a filter of the model.
type chainReading struct {
	*reading
	base   *Chain
	hook   model.Hook
	itself bool // of what it meets only what the machine sends to itself
	parts  []part
	keeps  known // what some rule lets in of what is known
	strict bool  // what is of no flow and begins none is dropped
	fresh  bool  // some rule decides on what begins, and not on what is known
	ahead  *Rule // the first that may stop what is known, and is met before what lets it in
	unsure bool  // it is not known what becomes of some of what is known
	stops  bool  // a rule has been met that may stop some of what is known
	alone  bool  // what the machine sends to itself passes before any rule decides
	lets   bool  // containers are let pass ahead of it

	steps   int
	tired   bool // the rest of it was not followed
	mayStop bool // some flow may be stopped
	idle    bool // it makes no difference: of interest only where a filter is recorded for it
}

// mostParts is how many lines a chain may become, mostSteps how many rules are followed for it, and mostBoxes how many sets the
// flows that are left may fall into.
const (
	mostParts = 50_000
	mostSteps = 200_000
	mostBoxes = 512
)

func (r *reading) filter(c *Chain) {
	hooks := map[string][]model.Hook{"prerouting": {model.Prerouting}, "input": {model.Input}, "forward": {model.Forwarding}, "output": {model.Output}, "postrouting": {model.Postrouting}}[c.Hook]
	if c.Hook == "prerouting" && c.Priority > -100 {
		hooks = []model.Hook{model.Input, model.Forwarding} // it meets what is translated already
	}
	for _, hook := range hooks {
		r.filterAt(c, hook, netset.AnyOf[model.NetID](), false)
	}
	if c.Hook == "postrouting" || c.Hook == "prerouting" && hooks[0] == model.Prerouting { // and what the machine sends to itself
		r.filterAt(c, model.Input, netset.AnyOf[model.NetID](), true)
	}
	inside := r.containerNets()
	if len(inside) == 0 || c.Hook != "prerouting" || hooks[0] != model.Prerouting {
		return
	}
	// The kernel's chain meets flows from the machine's own containers too, which filters that are arriving do not.
	for _, hook := range []model.Hook{model.Input, model.Forwarding} {
		r.filterAt(c, hook, netset.OnlyOf(inside...), false)
	}
}

// filterAt reads a chain as a filter on a hook: all of it, or of what it meets only what enters by some networks, or what the machine
// sends to itself.
func (r *reading) filterAt(c *Chain, hook model.Hook, entering rules.Nets, itself bool) {
	whole := entering.Any() && !itself
	cr := &chainReading{reading: r, base: c, hook: hook, itself: itself}
	every := knownOf(Everything(c.Family))
	all := cr.all(c)
	all.Entering = entering
	if itself {
		all.From, all.To = all.From.Intersect(r.itself()), all.To.Intersect(r.itself())
	}
	cr.flatten(c, []rules.Flows{all}, 0)
	if !cr.stops && c.Policy != "drop" {
		cr.keeps = every // nothing stops what is known
	}
	if cr.ahead != nil && cr.keeps != 0 && (c.Policy == "drop" || cr.stops) {
		r.left(cr.ahead, takenAsLetIn)
	}
	if cr.unsure || cr.keeps != 0 && cr.keeps != every || cr.keeps == 0 && cr.fresh {
		r.leftOf(c, "what becomes of known flows is not the same for all, and cannot be said; all that it meets is undecided")
		cr.parts, cr.keeps = slices.Insert(cr.parts, 0, part{all, "unknown"}), 0
	}
	if whole {
		cr.dropPreamble()
	} else if c.Policy == "drop" { // the rest is not for this filter to stop
		cr.put([]rules.Flows{all}, "drop")
		rest := *c
		rest.Policy = "accept"
		cr.base = &rest
	}
	if inside := r.containerNets(); hook == model.Prerouting { // at the wire it does not meet its own containers
		cr.parts = slices.DeleteFunc(cr.parts, func(p part) bool {
			only := p.flows.Entering.Only()
			return len(only) > 0 && !slices.ContainsFunc(only, func(id model.NetID) bool { return !slices.Contains(inside, id) })
		})
	}
	cr.join()
	decides := c.Policy == "drop" && whole
	left := []rules.Flows{all}
	for _, p := range cr.parts {
		decides = decides || p.action != "pass" && slices.ContainsFunc(left, func(f rules.Flows) bool { return !f.Intersect(p.flows).IsEmpty() })
		if len(left) < 256 {
			left = less(left, []rules.Flows{p.flows})
		}
	}
	if cr.idle = !decides; decides || whole {
		r.chains = append(r.chains, cr)
	}
}

// join makes one of neighbours that only a ruleset has to write apart: by transport, since each is refused in its own way,
// and by family, since a condition on an address is one on its family. Where nothing is recorded to hold them against, those
// of the save format that differ in their addresses are one too.
func (c *chainReading) join() {
	var out []part
	for _, p := range c.parts {
		if n := len(out); n > 0 {
			if f, ok := joined(out[n-1], p, false); ok {
				out[n-1].flows = f
				continue
			}
		}
		out = append(out, p)
	}
	c.parts = out
}

// runs are the numbers of parts, from the first on, that are one together, and what they are.
func runs(parts []part) iter.Seq2[int, part] {
	return func(yield func(int, part) bool) {
		var stack []part
		for i, p := range parts {
			stack = append(stack, p)
			for k := len(stack); k > 1; k = len(stack) {
				f, ok := joined(stack[k-2], stack[k-1], true)
				if !ok {
					break
				}
				stack = append(stack[:k-2], part{f, p.action})
			}
			if len(stack) == 1 && !yield(i+1, stack[0]) || len(stack) > 4 || stack[0].action != p.action {
				return
			}
		}
	}
}

// joined is what two parts are together, where that is one set of flows; with lists, where they differ in any addresses.
func joined(p, q part, lists bool) (rules.Flows, bool) {
	a, b := p.flows, q.flows
	if p.action != q.action || !a.Ports.Equal(b.Ports) || !a.Entering.Equal(b.Entering) || !a.Leaving.Equal(b.Leaving) {
		return a, false
	}
	sameFrom, sameTo := a.From.Equal(b.From), a.To.Equal(b.To)
	if sameFrom && sameTo {
		a.Transport |= b.Transport
		return a, true
	}
	if a.Transport != b.Transport {
		return a, false
	}
	apart := func(x, y netset.Addrs) bool { return x.Of(true).IsEmpty() && y.Of(false).IsEmpty() }
	if (sameFrom || apart(a.From, b.From)) && (sameTo || apart(a.To, b.To)) || lists && (sameFrom || sameTo) {
		a.From, a.To = netset.Union(a.From, b.From), netset.Union(a.To, b.To)
		return a, true
	}
	return a, false
}

func (r *reading) containerNets() []model.NetID {
	var out []model.NetID
	for _, leg := range r.host.Attachments {
		if leg.Gateway {
			out = append(out, leg.Net)
		}
	}
	return out
}

func (c *chainReading) all(chain *Chain) rules.Flows {
	m := Everything(chain.Family)
	return rules.Flows{From: m.From, To: m.To, Transport: m.Transport, Ports: m.Ports, Entering: netset.AnyOf[model.NetID](), Leaving: netset.AnyOf[model.NetID]()}
}

func (c *chainReading) put(flows []rules.Flows, action string) {
	for _, f := range flows {
		c.parts = append(c.parts, part{f, action})
	}
}

func (c *chainReading) policy() string {
	if c.base.Policy == "drop" {
		return "drop"
	}
	return "pass"
}

// flatten follows a chain, and what it jumps to, for some flows. The first line that names a flow decides, as in the
// chain: what earlier rules have taken need not be left out of later ones, only what returns.
func (c *chainReading) flatten(chain *Chain, in []rules.Flows, depth int) {
	for i := range chain.Rules {
		rule := &chain.Rules[i]
		if len(in) == 0 || c.tired {
			return
		}
		if c.steps++; c.steps > mostSteps || len(c.parts) > mostParts || len(in) > mostBoxes {
			c.tired = true
			c.left(rule, "the chain branches so often that it is not followed further; all that is left of it is undecided")
			c.put([]rules.Flows{c.all(c.base)}, "unknown")
			return
		}
		if rule.Match.Stated && c.base.early() {
			if !rule.Match.Invalid {
				continue
			}
			met := *rule
			met.Match.Fresh, met.Match.GoingOn, rule = true, true, &met
		}
		if !rule.Match.Fresh {
			c.goingOn(chain, rule, knownAmong(in), depth)
			continue
		}
		c.fresh = c.fresh || !rule.Match.GoingOn && (rule.Action == Accept || rule.Action == Drop || rule.Action == Reject)
		boxes, loop, strange := c.boxes(rule)
		if len(boxes) == 0 || rule.Action == None {
			continue
		}
		if loop && len(c.parts) == 0 && rule.Action == Accept && len(strange) == 0 && c.hook != model.Forwarding {
			c.alone = true
			continue
		}
		if decides := rule.Action != Accept && rule.Action != Return; rule.Match.GoingOn && decides && (rule.Action != Jump && rule.Action != Goto || len(strange) > 0) {
			c.stops = true
			if c.ahead == nil && c.keeps != knownOf(Everything(c.base.Family)) {
				c.ahead = rule
			}
		}
		var taken []rules.Flows
		for _, f := range in {
			for _, b := range boxes {
				if t := f.Intersect(b); !t.IsEmpty() {
					taken = append(taken, t)
				}
			}
		}
		switch {
		case len(taken) == 0:
		case len(strange) > 0 || rule.Action == Strange:
			c.left(rule, strings.Join(strange, ", ")+" has no meaning here; the flows that it may take are undecided")
			c.put(taken, "unknown")
		case rule.Action == Accept:
			c.put(taken, "pass")
		case rule.Action == Drop:
			c.put(taken, "drop")
		case rule.Action == Reject:
			c.put(taken, "refuse")
		case rule.Action == Return && depth == 0:
			c.put(taken, c.policy())
		case rule.Action == Return:
			in = less(in, boxes)
		case rule.Action == Jump || rule.Action == Goto:
			to := c.chain(chain, rule.Chain)
			if to == nil || depth > 32 {
				c.left(rule, fmt.Sprintf("chain %s is not listed; the flows that go there are undecided", rule.Chain))
				c.put(taken, "unknown")
				break
			}
			c.flatten(to, taken, depth+1)
			switch {
			case rule.Action != Goto:
			case depth == 0: // what returns from there has come to its end
				c.put(taken, c.policy())
			default:
				in = less(in, boxes)
			}
		default:
			c.left(rule, string(rule.Action)+" has no meaning in a chain that filters; its flows are undecided")
			c.put(taken, "unknown")
		}
	}
}

// takenAsLetIn is said of a rule that stops more than the records say.
const takenAsLetIn = "it may stop known flows too, ahead of the line that lets them in; what comes back is taken as let in"

// known is what of known flows comes back to whoever asked, from any port to those that programs ask from: a bit for each transport
// of each family.
type known uint8

// askedFrom are the ports that every system takes some of to ask from (RFC 6056 §3.2).
var askedFrom = netset.PortsOf(netset.PortRange{Lo: 32768, Hi: 60999})

func knownOf(m Match) known {
	return knownAmong([]rules.Flows{{From: m.From, To: m.To, Transport: m.Transport, Ports: m.Ports}})
}

func knownAmong(list []rules.Flows) known {
	var out known
	for _, f := range list {
		if !askedFrom.Subtract(f.Ports).IsEmpty() {
			continue
		}
		for i, six := range []bool{false, true} {
			if !f.From.Of(six).IsEmpty() && !f.To.Of(six).IsEmpty() {
				out |= known(f.Transport&netset.Both) << (2 * i)
			}
		}
	}
	return out
}

// goingOn notes what a rule that is for known flows only does with some of those.
func (c *chainReading) goingOn(chain *Chain, rule *Rule, of known, depth int) {
	of &= knownOf(rule.Match)
	stops := rule.Action == Drop || rule.Action == Reject
	switch {
	case !rule.Match.GoingOn:
		c.strict = c.strict || rule.Match.Invalid && stops && rule.Match.isOfTCP(chain.Family) && len(rule.Strange) == 0
	case c.keeps&of == of || rule.Action == None || rule.Action == Return: // what is let in already is
	case len(rule.Strange) > 0 || rule.Action == Strange:
		c.left(rule, "it is not known what becomes of known flows")
		c.unsure = true
	case rule.Action == Accept:
		c.keeps |= of
	case stops:
		c.left(rule, "it stops known flows")
		c.stops, c.unsure = true, true
	case rule.Action == Jump || rule.Action == Goto:
		to := c.chain(chain, rule.Chain)
		if to == nil || depth > 32 {
			c.left(rule, "it is not known what becomes of known flows")
			c.unsure = true
			return
		}
		for i := range to.Rules {
			if c.steps++; c.steps > mostSteps {
				c.unsure = true
				return
			}
			c.goingOn(to, &to.Rules[i], of, depth+1)
		}
	}
}

func less(in, boxes []rules.Flows) []rules.Flows {
	for _, b := range boxes {
		var left []rules.Flows
		for _, f := range in {
			left = append(left, f.Subtract(b)...)
		}
		in = left
	}
	return in
}

// boxes are the flows that a rule takes, as the model knows them; loop where it is only for what the machine sends to itself.
func (c *chainReading) boxes(rule *Rule) (out []rules.Flows, loop bool, strange []string) {
	m := rule.Match
	strange = rule.Strange
	if m.empty() {
		return nil, false, nil
	}
	f := rules.Flows{From: m.From, To: m.To, Transport: m.Transport, Ports: m.Ports}
	own := c.reading.itself()
	ownToo := false // the loopback is among interfaces that are said by those that are not meant, and is no network's
	inside := func(i Interfaces, at *netset.Addrs, by string) (rules.Nets, bool) {
		nets, lo, odd := c.nets(i)
		if odd != "" {
			strange = append(slices.Clone(strange), odd)
		}
		switch {
		case lo && !i.Except && len(nets.Only()) == 0:
			*at, loop = at.Intersect(own), true
			return netset.AnyOf[model.NetID](), c.hook == model.Input || c.hook == model.Output || c.hook == model.Prerouting
		case lo && i.Except && (c.hook == model.Input || c.hook == model.Output):
			*at = at.Subtract(own)
		case i.Except && len(i.List) > 0 && (c.hook == model.Input || c.hook == model.Output):
			ownToo = !c.alone
		}
		return nets, true
	}
	// What comes from the machine itself has come by no interface, and what is not sent on yet has none to go by.
	switch {
	case c.itself:
		in, out := "lo", ""
		if c.base.Hook == "postrouting" {
			in, out = "", "lo"
		}
		if !c.hasInterface(m.In, in) || !c.hasInterface(m.Out, out) {
			return nil, false, nil
		}
		m.In, m.Out = netset.AnyOf[string](), netset.AnyOf[string]()
	case c.hook == model.Output:
		if !m.In.Except {
			return nil, false, nil
		}
		m.In = netset.AnyOf[string]()
	case c.hook == model.Input || c.hook == model.Prerouting:
		if !m.Out.Except {
			return nil, false, nil
		}
		m.Out = netset.AnyOf[string]()
	}
	var ok bool
	if f.Entering, ok = inside(m.In, &f.From, "iif"); !ok {
		return nil, false, nil
	}
	if f.Leaving, ok = inside(m.Out, &f.To, "oif"); !ok {
		return nil, false, nil
	}
	if loop && c.hook == model.Prerouting {
		return nil, false, nil // at the wire the machine does not meet itself
	}
	if m.Local && c.hook != model.Input {
		f.To = f.To.Intersect(own)
		loop = loop || c.hook == model.Output && m.isLocalOnly(c.base.Family)
	}
	out = []rules.Flows{f}
	if ownToo {
		self := f
		self.From, self.To = f.From.Intersect(own), f.To.Intersect(own)
		self.Entering, self.Leaving = netset.AnyOf[model.NetID](), netset.AnyOf[model.NetID]()
		out = append(out, self)
	}
	if m.Translated {
		out = nil
		for _, t := range c.translations() {
			if both := f.Intersect(t); !both.IsEmpty() {
				out = append(out, both)
			}
		}
	}
	out = slices.DeleteFunc(out, rules.Flows.IsEmpty)
	return out, loop, strange
}

// hasInterface says whether an interface, "" for none, is among some.
func (r *reading) hasInterface(among Interfaces, name string) bool {
	listed := slices.ContainsFunc(among.List, func(one string) bool {
		head, pattern := strings.CutSuffix(one, "*")
		return one == name || pattern && name != "" && strings.HasPrefix(name, head)
	})
	return listed != among.Except
}

// itself are the addresses at which the machine reaches itself.
func (r *reading) itself() netset.Addrs {
	return netset.Union(r.ownAddrs(), netset.PrefixesOf(netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")))
}

func (r *reading) ownAddrs() netset.Addrs {
	var all []netip.Addr
	for _, leg := range r.host.Attachments {
		all = append(all, leg.Addrs...)
	}
	return netset.AddrsOf(all...)
}

// translations are the flows that the ruleset leads elsewhere, as they go on.
func (r *reading) translations() []rules.Flows {
	var out []rules.Flows
	for _, c := range r.rs.Chains {
		for i := range c.Rules {
			rule := &c.Rules[i]
			if rule.Action != DNAT || !rule.Addr.IsValid() {
				continue
			}
			f := rules.Flows{From: rule.Match.From, To: netset.AddrsOf(rule.Addr), Transport: rule.Match.Transport, Ports: rule.Match.Ports, Entering: netset.AnyOf[model.NetID](), Leaving: netset.AnyOf[model.NetID]()}
			if len(rule.Ports) > 0 {
				f.Ports = netset.PortsOf(rule.Ports...)
			}
			out = append(out, f)
		}
	}
	return out
}

// nets are the networks of interfaces; lo says that the loopback is among those named, odd which is no network that is
// recorded.
func (r *reading) nets(i Interfaces) (nets rules.Nets, lo bool, odd string) {
	var ids []model.NetID
	for _, name := range i.List {
		if name == "lo" {
			lo = true
			continue
		}
		if head, pattern := strings.CutSuffix(name, "*"); pattern && strings.HasPrefix("lo", head) {
			lo = true
		}
		found := false
		for _, leg := range r.host.Attachments {
			if net := r.m.Networks[leg.Net]; r.interfaceOf(name) == net.Name || strings.HasSuffix(name, "*") && r.matchesPattern(name, net.Name) {
				ids, found = append(ids, leg.Net), true
			}
		}
		if !found {
			odd = fmt.Sprintf("interface %s, which no network of %s is known by,", name, r.Host)
		}
	}
	if i.Except {
		return netset.AllBut(ids...), lo, odd
	}
	if odd != "" && len(ids) == 0 {
		return netset.AnyOf[model.NetID](), lo, odd // any of them, perhaps
	}
	return netset.OnlyOf(ids...), lo, odd
}

func (r *reading) interfaceOf(name string) string {
	if net, known := r.Interfaces[name]; known {
		return strings.ToLower(net)
	}
	return strings.ToLower(name)
}

// matchesPattern says whether a name that ends in * is for the interface of a network.
func (r *reading) matchesPattern(pattern, net string) bool {
	head := strings.TrimSuffix(pattern, "*")
	if strings.HasPrefix(net, strings.ToLower(head)) {
		return true
	}
	for name, n := range r.Interfaces {
		if strings.ToLower(n) == net && strings.HasPrefix(name, head) {
			return true
		}
	}
	return false
}

// dropPreamble takes out of a through filter what lets containers pass ahead of it, where that is all that its first lines
// do: then it does not guard containers.
func (c *chainReading) dropPreamble() {
	if c.hook != model.Forwarding {
		return
	}
	inside := c.containerNets()
	out := map[model.NetID]bool{}
	n := 0
lines:
	for _, p := range c.parts {
		from, to := p.flows.Entering.Only(), p.flows.Leaving.Only()
		whole := p.flows.Transport == netset.Both && p.flows.Ports.Equal(netset.AllPorts())
		switch {
		case p.action != "pass":
		case len(from) == 1 && slices.Contains(inside, from[0]) && len(to) == 0 && whole:
			out[from[0]] = true
			n++
			continue
		case len(to) == 1 && slices.Contains(inside, to[0]) && c.isTranslation(p.flows):
			n++
			continue
		}
		break lines
	}
	if len(inside) > 0 && len(out) == len(inside) {
		c.parts, c.lets = c.parts[n:], true
	}
}

func (c *chainReading) isTranslation(f rules.Flows) bool {
	return slices.ContainsFunc(c.translations(), func(t rules.Flows) bool { return len(f.Subtract(t)) == 0 || f.To.Equal(t.To) })
}
