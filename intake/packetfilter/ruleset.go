// Package packetfilter reads and writes what the kernel's packet filter holds: its own JSON listing and the older save
// format. A ruleset stands between these and the records: tables of chains of rules, each rule a set of flows and what is
// done with them. What a rule asks for that the records cannot say is kept by name, and its flows are undecided.
package packetfilter

import (
	"net/netip"
	"slices"

	"steady-compass/core/netset"
)

// Ruleset is all that a listing holds.
type Ruleset struct {
	File   string
	Saved  bool // in the save format, which writes a list of addresses, interfaces or transports as a rule each
	Chains []*Chain
	Unread []Chain  // chains of which is not known what they stop, without their rules: at the wire itself, or perhaps not in force
	Idle   []string // what is listed and not in force, a sentence each
}

// Chain is a list of rules: one that a hook leads into, or one that rules jump to.
type Chain struct {
	Family   string // ip, ip6 or inet
	Table    string
	Name     string
	Type     string // filter or nat; "" for a chain that only rules lead to
	Hook     string // prerouting, input, forward, output or postrouting; "" likewise
	Priority int
	Policy   string // accept or drop
	Line     int
	Rules    []Rule
}

// early says whether a chain meets packets before the kernel knows of which flow they are: there all are of none.
func (c *Chain) early() bool {
	return (c.Hook == "prerouting" || c.Hook == "output") && c.Priority < -200
}

// Action is what a rule does with the flows that it takes.
type Action string

const (
	Accept     Action = "accept"
	Drop       Action = "drop"
	Reject     Action = "reject"
	Jump       Action = "jump"
	Goto       Action = "goto"
	Return     Action = "return"
	DNAT       Action = "dnat"
	SNAT       Action = "snat"
	Masquerade Action = "masquerade"
	Redirect   Action = "redirect"
	None       Action = ""        // it counts, logs or marks
	Strange    Action = "strange" // something that has no meaning here, and may decide
)

// Rule is one rule. One in the listing that means several, by a map, is several here.
type Rule struct {
	Line   int
	Text   string // what it is called in a sentence
	Match  Match
	Action Action
	Chain  string // that is jumped to
	Addr   netip.Addr
	Ports  []netset.PortRange // of a translation; none: the ports stay
	// Strange are conditions and actions that have no meaning here: it is not known which of the flows it takes.
	Strange []string
}

// Match is the flows that a rule takes.
type Match struct {
	From, To   netset.Addrs
	Transport  netset.Transport // 0: other protocols only
	Ports      netset.Ports
	In, Out    Interfaces
	Fresh      bool         // flows that begin are among them; else only those that go on
	GoingOn    bool         // flows that are known, and what belongs to them
	Invalid    bool         // what is of no flow and begins none is among them
	Stated     bool         // it has a condition on which of these it is
	Near       netset.Addrs // written only: the addresses on the networks of In, for the save format, which cannot name these on leaving
	ICMP       bool         // written only: the protocol that tells of errors, which is taken as allowed
	Translated bool         // only what a translation leads on
	Local      bool         // only what is for the machine itself
}

// Interfaces is those that are listed, or all but those.
type Interfaces = netset.Choice[string]

// Everything is the match of a rule without conditions, in a table of a family.
func Everything(family string) Match {
	m := Match{Transport: netset.Both, Ports: netset.AllPorts(), In: Interfaces{Except: true}, Out: Interfaces{Except: true}, Fresh: true, GoingOn: true, Invalid: true}
	switch family {
	case "ip":
		m.From, m.To = netset.IPv4(), netset.IPv4()
	case "ip6":
		m.From, m.To = netset.IPv6(), netset.IPv6()
	default:
		m.From, m.To = netset.Everything(), netset.Everything()
	}
	return m
}

// isAll says whether the match has no condition on addresses, ports and interfaces.
func (m *Match) isAll(family string) bool {
	all := Everything(family)
	return m.From.Equal(all.From) && m.To.Equal(all.To) && m.Transport == netset.Both && m.Ports.Equal(all.Ports) && m.In.Any() && m.Out.Any() && !m.Translated && !m.Local
}

// isOfTCP says whether the match has no condition but, perhaps, that it is TCP.
func (m Match) isOfTCP(family string) bool {
	m.Transport |= netset.UDP
	return m.isAll(family)
}

// isLocalOnly says whether the match has no condition but that it is for the machine itself.
func (m Match) isLocalOnly(family string) bool {
	m.Local = false
	return m.isAll(family)
}

// narrow takes in one more condition.
func (m *Match) narrowAddrs(to bool, set netset.Addrs, not, six bool) {
	at := &m.From
	if to {
		at = &m.To
	}
	if not { // a condition on an address is one on its family too
		*at = at.Of(six).Subtract(set)
		return
	}
	*at = at.Intersect(set)
}

// narrowFamily narrows to one family.
func (m *Match) narrowFamily(six bool) { m.From, m.To = m.From.Of(six), m.To.Of(six) }

func (m *Match) narrowPorts(set netset.Ports, not bool) {
	if not {
		m.Ports = m.Ports.Subtract(set)
		return
	}
	m.Ports = m.Ports.Intersect(set)
}

func (m *Match) narrowInterfaces(out bool, list []string, not bool) {
	at := &m.In
	if out {
		at = &m.Out
	}
	*at = at.Intersect(Interfaces{Except: not, List: list})
}

// packetTypes narrows to packets for one machine, to many or to all: broadcast and multicast are nobody's flows. To be for one
// machine is called by two words.
func (m *Match) packetTypes(list []string, not bool) {
	if (slices.Contains(list, "unicast") || slices.Contains(list, "host")) == not {
		m.Transport = 0
	}
}

// empty says whether no TCP or UDP flow is in the match.
func (m *Match) empty() bool {
	return m.Transport == 0 || m.From.IsEmpty() || m.To.IsEmpty() || m.Ports.IsEmpty() || !m.In.Except && len(m.In.List) == 0 || !m.Out.Except && len(m.Out.List) == 0
}
