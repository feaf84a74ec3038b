package packetfilter

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/rules"
	"steady-compass/intake"
)

// record makes filters and rules of the chains, beside what is recorded of the host: a filter on the same hook and of the
// same family keeps its name, and a line that says the same keeps its words.
func (r *reading) record() {
	recorded := map[model.Hook][]*model.Filter{}
	for hook, list := range r.host.Filters {
		for _, f := range list {
			if len(f.Record.On) == 1 && f.Record.On[0] == r.Host {
				recorded[model.Hook(hook)] = append(recorded[model.Hook(hook)], f)
			}
		}
	}
	names := map[string]bool{}
	for _, rec := range r.e.Of(estate.KindNamed("filter")) {
		names[rec.(*estate.Filter).Name] = true
	}
	whole := map[string]bool{} // the filters that the listing is the whole of
	if len(r.unknown) > 0 {
		f := estate.Made(&estate.Filter{Name: r.free(r.Host+"-translations", names), On: []string{r.Host}, Hook: "arriving", Otherwise: "pass"})
		r.out.Records = append(r.out.Records, f)
		for _, rule := range r.unknown {
			r.out.Records = append(r.out.Records, estate.With(rule, func(n *estate.Rule) { n.Filter = f.Name }))
		}
		whole[f.Name] = true
	}
	for _, c := range r.chains {
		old := r.recordedAs(recorded, c)
		f := c.record(old)
		v4, v6 := f.Family != "ipv6", f.Family != "ipv4"
		if old == nil && c.idle {
			continue
		}
		if old != nil && old.Record.Family == "" && f.Family != "" {
			// Recorded for both families, and this is one of them: it stays where it says the same.
			if rest := r.beside(f.Name, old, c.parts, v4, v6, false); rest && old.Record.Otherwise == f.Otherwise {
				whole[old.Record.Name] = false
				continue
			}
			r.out.Left = append(r.out.Left, fmt.Sprintf("filter %s is recorded for both families, and this listing is of one: what it says comes as a filter of its own", old.Record.Name))
			old = nil
		}
		if old != nil {
			f.Name = old.Record.Name
		} else {
			f.Name = r.free(c.wishedName(), names)
		}
		whole[f.Name], names[f.Name] = true, true
		r.filterRecord(c, old, f)
		r.beside(f.Name, old, c.parts, v4, v6, true)
	}
	families := map[string]bool{}
	for _, c := range r.rs.Chains {
		families[c.Family] = true
	}
	r.out.Covers = func(rec estate.Record) bool {
		switch rec := rec.(type) {
		case *estate.Rule:
			return whole[rec.Filter]
		case *estate.Filter:
			if len(rec.On) != 1 || rec.On[0] != r.Host {
				return false
			}
			return families["inet"] || rec.Family == "ipv4" && families["ip"] || rec.Family == "ipv6" && families["ip6"] || families["ip"] && families["ip6"]
		case *estate.Forward:
			return rec.Router == r.Host && (families["inet"] || families[familyOf(rec.To.Addr)])
		case *estate.Outbound:
			return rec.Router == r.Host && (families["inet"] || families["ip"] && families["ip6"])
		}
		return false
	}
}

// free is a name that no filter has.
func (r *reading) free(name string, taken map[string]bool) string {
	out := name
	for n := 2; taken[out]; n++ {
		out = fmt.Sprintf("%s%d", name, n)
	}
	return out
}

// wishedName is the chain's own name, where that says more than its hook.
func (c *chainReading) wishedName() string {
	name := strings.ToLower(c.base.Name)
	if !slices.Contains([]string{"input", "forward", "output", "prerouting", "postrouting"}, name) && c.base.Priority <= 0 {
		if clean := strings.Map(func(x rune) rune {
			if x >= 'a' && x <= 'z' || x >= '0' && x <= '9' || x == '-' || x == '_' || x == '.' {
				return x
			}
			return -1
		}, name); clean == name && name != "" && name[0] != '-' && !strings.HasPrefix(name, ".") {
			if _, err := netip.ParseAddr(name); err != nil {
				return name
			}
		}
	}
	return c.Host + "-" + c.hook.String()
}

// family is that of the chain, as a filter says it; "" for both.
func (c *chainReading) family() string {
	return map[string]string{"ip": "ipv4", "ip6": "ipv6"}[c.base.Family]
}

// record is the chain as a filter, without a name; old is the one that is recorded as it.
func (c *chainReading) record(old *model.Filter) *estate.Filter {
	f := &estate.Filter{Name: "x", On: []string{c.Host}, Hook: c.hook.String(), Otherwise: c.policy(), Family: c.family()}
	// A rule at the end for everything is what is done with the rest, unless it is recorded otherwise.
	if n := len(c.parts); n > 0 && (old == nil || old.Record.Otherwise != c.policy()) {
		last := c.parts[n-1]
		all := c.all(c.base)
		if last.action != "unknown" && last.flows.Transport == netset.Both && last.flows.Ports.Equal(all.Ports) && last.flows.From.Equal(all.From) && last.flows.To.Equal(all.To) && last.flows.Entering.Any() && last.flows.Leaving.Any() {
			f.Otherwise, c.parts = last.action, c.parts[:n-1]
		}
	}
	stops := f.Otherwise != "pass" || slices.ContainsFunc(c.parts, func(p part) bool { return p.action != "pass" })
	c.mayStop = stops
	f.Stateless = stops && c.keeps == 0
	f.Strict = stops && c.keeps != 0 && c.strict
	f.LoopbackToo = !c.alone && (c.hook == model.Input || c.hook == model.Output) && stops
	f.GuardsContainers = c.hook == model.Forwarding && !c.lets && len(c.containerNets()) > 0
	return f
}

// recordedAs is the recorded filter that a chain is: on the same hook, of the same family or of both.
func (r *reading) recordedAs(recorded map[model.Hook][]*model.Filter, c *chainReading) *model.Filter {
	list := recorded[c.hook]
	for _, family := range []string{c.family(), ""} {
		for i, o := range list {
			if o.Record.Family == family {
				recorded[c.hook] = slices.Delete(slices.Clone(list), i, i+1)
				return o
			}
		}
	}
	return nil
}

// filterRecord puts a filter, in the place of the one that is recorded. One in which drops win says the same as one that
// has them first.
func (r *reading) filterRecord(c *chainReading, old *model.Filter, f *estate.Filter) {
	if old == nil {
		r.out.Records = append(r.out.Records, estate.Made(f))
		return
	}
	next := estate.With(f, func(n *estate.Filter) {
		n.Note, n.Until, n.Comments = old.Record.Note, old.Record.Until, old.Record.Comments
		n.DropWins = old.Record.DropWins
		// What makes no difference there is as it was.
		if c.hook != model.Forwarding || len(c.containerNets()) == 0 {
			n.GuardsContainers = old.Record.GuardsContainers
		}
		if !c.mayStop {
			n.Stateless, n.Strict = old.Record.Stateless, old.Record.Strict
		}
		if c.hook != model.Input && c.hook != model.Output || !c.mayStop {
			n.LoopbackToo = old.Record.LoopbackToo
		}
	})
	if estate.Line(next) == estate.Line(old.Record) {
		r.out.Records = append(r.out.Records, old.Record)
		return
	}
	r.out.Instead = append(r.out.Instead, intake.Swap{Old: old.Record, New: next})
}

// beside puts the lines of a chain beside those that are recorded of a filter: in the same place, one that says the same
// stays, another takes its place. It says whether all are the same; nothing is put where that is only asked.
func (r *reading) beside(name string, old *model.Filter, parts []part, v4, v6, put bool) bool {
	var was []*model.Rule
	if old != nil {
		for _, rule := range old.Rules {
			if meets(rule, v4, v6) {
				was = append(was, rule)
			} else if put {
				r.out.Records = append(r.out.Records, rule.Record) // it names nothing that the listing is of
			}
		}
	}
	same := true
	for i := 0; len(parts) > 0; i++ {
		n, p := 1, parts[0]
		kept := false
		if i < len(was) {
			for k, whole := range runs(parts) { // as many as together say what is recorded
				if kept = r.sameRule(was[i], whole, v4, v6); kept {
					n = k
				}
				if kept || !r.rs.Saved {
					break
				}
			}
		}
		if !kept && r.rs.Saved {
			for k, whole := range runs(parts) {
				n, p = k, whole
			}
		}
		parts = parts[n:]
		if kept {
			if put {
				r.out.Records = append(r.out.Records, was[i].Record)
			}
			continue
		}
		same = false
		if !put {
			return false
		}
		for j, line := range r.lines(name, p.action, p.flows, v4, v6) {
			if j == 0 && i < len(was) {
				r.out.Instead = append(r.out.Instead, intake.Swap{Old: was[i].Record, New: line})
				continue
			}
			r.out.Records = append(r.out.Records, line)
		}
	}
	return same
}

// meets says whether a line names flows of some families.
func meets(rule *model.Rule, v4, v6 bool) bool {
	if len(rule.From.Float)+len(rule.To.Float) > 0 {
		return true
	}
	in := func(six bool) bool { return !rule.From.Set.Of(six).IsEmpty() && !rule.To.Set.Of(six).IsEmpty() }
	return v4 && in(false) || v6 && in(true)
}

// sameRule says whether a recorded line means what was read, in some families.
func (r *reading) sameRule(was *model.Rule, p part, v4, v6 bool) bool {
	w := was.Record
	if w.Action != p.action || w.Ports.Transport != p.flows.Transport || !was.Ports.Equal(p.flows.Ports) || len(was.From.Float)+len(was.To.Float) > 0 {
		return false
	}
	net := func(id model.NetID) rules.Nets {
		if id == model.NoNet {
			return netset.AnyOf[model.NetID]()
		}
		return netset.OnlyOf(id)
	}
	if !p.flows.Entering.Equal(net(was.Entering)) || !p.flows.Leaving.Equal(net(was.Leaving)) {
		return false
	}
	// What is of one family on one side is so on the other.
	for _, six := range []bool{false, true} {
		if six && !v6 || !six && !v4 {
			continue
		}
		from, to := was.From.Set.Of(six), was.To.Set.Of(six)
		readFrom, readTo := p.flows.From.Of(six), p.flows.To.Of(six)
		none, readNone := from.IsEmpty() || to.IsEmpty(), readFrom.IsEmpty() || readTo.IsEmpty()
		if none != readNone || !none && (!from.Equal(readFrom) || !to.Equal(readTo)) {
			return false
		}
	}
	return true
}

// lines are a set of flows as rules: one for each network by which they come or go.
func (r *reading) lines(filter, action string, f rules.Flows, v4, v6 bool) []*estate.Rule {
	if filter == "" {
		filter = "x"
	}
	base := &estate.Rule{Filter: filter, Action: action}
	base.Ports = estate.Ports{Ranges: f.Ports.Ranges(), Transport: f.Transport}
	if f.Ports.Equal(netset.AllPorts()) {
		base.Ports = estate.Ports{Any: true, Transport: f.Transport}
	}
	base.From, base.To = r.selectors(f.From, v4, v6), r.selectors(f.To, v4, v6)
	var out []*estate.Rule
	for _, in := range r.netNames(f.Entering) {
		for _, leaving := range r.netNames(f.Leaving) {
			out = append(out, estate.With(base, func(n *estate.Rule) { n.Entering, n.Leaving = in, leaving }))
		}
	}
	return out
}

// netNames are the networks by which flows come or go; one that is "" where any will do.
func (r *reading) netNames(n rules.Nets) []string {
	if n.Any() {
		return []string{""}
	}
	var out []string
	for _, leg := range r.host.Attachments {
		if n.Has(leg.Net) {
			out = append(out, r.m.Networks[leg.Net].Name)
		}
	}
	return out
}

// selectors are a set of addresses by the names that the estate has for them; none where it is every address of the
// families in question.
func (r *reading) selectors(set netset.Addrs, v4, v6 bool) []estate.Selector {
	if netset.Everything().Families(v4, v6).Subtract(set).IsEmpty() {
		return nil
	}
	var out []estate.Selector
	left := set
	take := func(part netset.Addrs, s estate.Selector) {
		if part = part.Families(v4, v6); !part.IsEmpty() && left.Covers(part) {
			out, left = append(out, s), left.Subtract(part)
		}
	}
	take(netset.IPv4(), estate.Selector{Prefix: netip.PrefixFrom(netip.IPv4Unspecified(), 0)})
	take(netset.IPv6(), estate.Selector{Prefix: netip.PrefixFrom(netip.IPv6Unspecified(), 0)})
	take(r.m.Internet, estate.Selector{Word: "internet"})
	for _, n := range r.m.Networks[1:] {
		if len(out) < 32 {
			take(n.Set, estate.Selector{Name: n.Name})
		}
	}
	for _, p := range left.Prefixes() {
		if !p.IsSingleIP() {
			continue
		}
		if owners := r.m.Owners(p.Addr()); len(owners) == 1 {
			place := r.m.Places[owners[0].Place]
			s := estate.Selector{Name: place.Name}
			if match := r.m.Selected(s); len(match.Float) == 0 {
				take(match.Set, s)
			}
		}
	}
	for _, p := range left.Prefixes() {
		out = append(out, estate.Selector{Prefix: p})
	}
	if plain := set.Prefixes(); !left.IsEmpty() && len(plain) < len(out) { // names are there to say it shorter
		out = out[:0]
		for _, p := range plain {
			out = append(out, estate.Selector{Prefix: p})
		}
	}
	return out
}
