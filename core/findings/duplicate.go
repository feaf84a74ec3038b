package findings

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
)

// sameLine finds the same line more than once.
func (c *check) sameLine(same []estate.Record) {
	if len(same) > 1 {
		line := estate.Line(same[0])
		c.add(Finding{
			Code: "conflict.record", Subject: line, Records: []string{line}, Why: "The same line stands here twice; the second says nothing new.",
			Mend: &flow.Mend{Remove: []string{line}, Add: []string{}},
		})
	}
}

// definedTwice finds names that two records of one name space define; the first holds.
func (c *check) definedTwice() {
	type key struct {
		space estate.RefKind
		name  string
	}
	first := map[key]estate.Record{}
	for _, k := range estate.Kinds {
		space := k.Defines
		if space == 0 || space == estate.RefZone {
			continue
		}
		if space&(estate.RefHost|estate.RefNetwork|estate.RefGroup) != 0 {
			space = estate.RefHost | estate.RefNetwork | estate.RefGroup
		}
		for _, r := range c.m.Estate.Of(k) {
			if r.Meta().Off {
				continue
			}
			at := key{space, k.Fields[0].Values(r)[0]}
			old := first[at]
			if old == nil {
				first[at] = r
				continue
			}
			if estate.Line(old) == estate.Line(r) {
				continue // conflict.record
			}
			c.add(Finding{
				Code: "conflict.name", Subject: at.name, Records: lines(old, r),
				Why: fmt.Sprintf("%s is the name of a %s and of a %s; the first holds, and lines that name it mean that one.", at.name, estate.KindOf(old).Word, k.Word),
			})
		}
	}
}

// recordSets finds what a name has that cannot stand beside one another (RFC 1034 §3.6.2), and values that stand there twice.
func (c *check) recordSets(all []estate.Record) {
	sets := map[string][]*estate.DNS{}
	var order []string
	for _, r := range all {
		d := r.(*estate.DNS)
		if d.Off {
			continue
		}
		audience := selectorWords(d.For)
		if sets[audience] == nil {
			order = append(order, audience)
		}
		sets[audience] = append(sets[audience], d)
	}
	for _, audience := range order {
		c.recordSet(sets[audience], audience)
	}
}

// zoneFor is the zone of a name for an audience; nil where there is none.
func (c *check) zoneFor(name, audience string) *estate.Zone {
	var zone *estate.Zone
	for _, r := range c.m.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off && z.Name == name && selectorWords(z.For) == audience {
			zone = z
		}
	}
	return zone
}

// recordSet looks at all that one name has for one audience.
func (c *check) recordSet(set []*estate.DNS, audience string) {
	values := map[string]*estate.DNS{}
	var aliases, others []*estate.DNS
	for _, d := range set {
		value := d.Type + " " + d.Dynamic + " " + strings.ToLower(strings.TrimSuffix(d.Value, "."))
		if d.Type == "TXT" {
			value = d.Type + " " + d.Value
		}
		if old := values[value]; old != nil {
			if estate.Line(old) != estate.Line(d) {
				c.add(Finding{
					Code: "conflict.name", Subject: d.Owner, Records: lines(old, d), Mend: &flow.Mend{Remove: lines(d), Add: []string{}},
					Why: fmt.Sprintf("%s has the same %s record twice, written otherwise.", d.Owner, d.Type),
				})
			}
			continue
		}
		values[value] = d
		if d.Type == "CNAME" {
			aliases = append(aliases, d)
		} else {
			others = append(others, d)
		}
	}
	if len(aliases) == 0 {
		return
	}
	alias := aliases[0]
	zone := c.zoneFor(alias.Owner, audience)
	followed := estate.With(alias, func(d *estate.DNS) { d.Type = "ALIAS" })
	f := Finding{Code: "conflict.name", Subject: alias.Owner, Records: lines(asRecords(append(slices.Clone(aliases), others...))...)}
	addressed := slices.ContainsFunc(others, func(d *estate.DNS) bool { return d.Type == "A" || d.Type == "AAAA" || d.Type == "ALIAS" })
	switch {
	case len(aliases) > 1:
		f.Why = fmt.Sprintf("%s is an alias of several names; an alias has one.", alias.Owner)
		f.Mend = &flow.Mend{Remove: lines(asRecords(aliases[1:])...), Add: []string{}}
	case zone != nil:
		f.Why = fmt.Sprintf("%s is a zone's own name, which has records of its own (SOA, NS): it cannot be an alias.", alias.Owner)
		if !slices.Contains(zone.Without, "apex-alias") {
			f.Mend = &flow.Mend{Remove: lines(alias), Add: lines(followed)}
		}
	case addressed:
		f.Why = fmt.Sprintf("%s is an alias and has records of its own; a name has one or the other.", alias.Owner)
		f.Mend = &flow.Mend{Remove: lines(alias), Add: []string{}}
	case len(others) > 0:
		f.Why = fmt.Sprintf("%s is an alias and has records of its own (%s); a name has one or the other.", alias.Owner, others[0].Type)
		f.Mend = &flow.Mend{Remove: lines(alias), Add: lines(followed)}
	default:
		return
	}
	c.add(f)
}

func asRecords(list []*estate.DNS) []estate.Record {
	out := make([]estate.Record, len(list))
	for i, d := range list {
		out[i] = d
	}
	return out
}

func selectorWords(list []estate.Selector) string {
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = s.String()
	}
	slices.Sort(words)
	return strings.Join(words, ",")
}

// heldTwice finds addresses that two machines hold on one network.
func (c *check) heldTwice() {
	for _, net := range c.m.Networks {
		holders := map[netip.Addr][]model.PlaceID{}
		for _, id := range net.Members {
			for _, attachment := range c.m.Places[id].Attachments {
				if attachment.Net != net.ID {
					continue
				}
				for _, a := range attachment.Addrs {
					if !slices.Contains(holders[a], id) {
						holders[a] = append(holders[a], id)
					}
				}
			}
		}
		for a, who := range holders {
			if len(who) < 2 {
				continue
			}
			names := make([]string, len(who))
			var records []estate.Record
			for i, id := range who {
				names[i] = c.m.Places[id].Name
				for _, h := range c.m.Owners(a) {
					if h.Place == id && h.Record != nil {
						records = append(records, h.Record)
					}
				}
			}
			c.add(Finding{
				Code: "conflict.address", Subject: a.String(), Records: lines(records...),
				Why: fmt.Sprintf("%s is held by %s, on %s; which of them answers is chance.", a, joined(names), net.Name),
			})
		}
	}
}

func joined(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// overlaps finds networks with addresses in common that one machine can meet both: it is on them, or routers lead it
// there. The same private range in two places that nothing joins is no fault.
func (c *check) overlaps() {
	type part struct {
		prefix netip.Prefix
		net    model.NetID
	}
	var parts []part
	for _, net := range c.m.Networks {
		for _, p := range net.Prefixes {
			parts = append(parts, part{p, net.ID})
		}
	}
	slices.SortFunc(parts, func(a, b part) int {
		if d := a.prefix.Addr().Compare(b.prefix.Addr()); d != 0 {
			return d
		}
		return a.prefix.Bits() - b.prefix.Bits()
	})
	var joinedTo []model.NetID
	var meet map[[2]model.NetID]*model.Place
	for i, a := range parts {
		for _, b := range parts[i+1:] {
			if !a.prefix.Contains(b.prefix.Addr()) {
				break
			}
			if a.net == b.net {
				continue
			}
			if joinedTo == nil {
				joinedTo = c.joinedNetworks()
				meet = c.meeting(joinedTo)
			}
			if at := meet[[2]model.NetID{joinedTo[a.net], joinedTo[b.net]}]; at != nil {
				c.overlap(a.net, b.net, at)
			}
		}
	}
}

func (c *check) overlap(a, b model.NetID, at *model.Place) {
	first, second := c.m.Networks[min(a, b)], c.m.Networks[max(a, b)]
	var records []estate.Record
	for _, net := range []*model.Network{first, second} {
		if net.Record != nil {
			records = append(records, net.Record)
		}
	}
	c.add(Finding{
		Code: "conflict.network", Subject: second.Name, Records: lines(records...),
		Why: fmt.Sprintf("%s and %s have addresses in common, and %s can meet both: which one it means is not told by the address.", first.Name, second.Name, at.Name),
	})
}

// joinedNetworks gives for each network one that stands for all that routers join it with, internet left out.
func (c *check) joinedNetworks() []model.NetID {
	to := make([]model.NetID, len(c.m.Networks))
	for i := range to {
		to[i] = model.NetID(i)
	}
	find := func(n model.NetID) model.NetID {
		for to[n] != n {
			to[n], n = to[to[n]], to[n]
		}
		return n
	}
	for _, p := range c.m.Places {
		// A router joins its networks; any machine joins its routed container networks with the rest.
		for _, a := range p.Attachments {
			for _, b := range p.Attachments {
				if a.Net != model.Internet && b.Net != model.Internet && c.joins(p, a.Net) && c.joins(p, b.Net) && (p.Router || c.m.Networks[b.Net].Routed()) {
					to[find(a.Net)] = find(b.Net)
				}
			}
		}
	}
	for i := range to {
		to[i] = find(model.NetID(i))
	}
	return to
}

// joins says whether what is in a network can be led on by a place: not out of a container network that is not routed.
func (c *check) joins(p *model.Place, n model.NetID) bool {
	net := c.m.Networks[n]
	return !p.IsContainer() && (!net.Container() || net.Routed())
}

// meeting is, for two networks that stand for all that routers join them with, the first place that is on something of both.
func (c *check) meeting(joinedTo []model.NetID) map[[2]model.NetID]*model.Place {
	out := map[[2]model.NetID]*model.Place{}
	for _, p := range c.m.Places {
		for _, a := range p.Attachments {
			for _, b := range p.Attachments {
				if a.Net == model.Internet || b.Net == model.Internet {
					continue
				}
				if both := [2]model.NetID{joinedTo[a.Net], joinedTo[b.Net]}; out[both] == nil {
					out[both] = p
				}
			}
		}
	}
	return out
}
