package packetfilter

import (
	"encoding/json"
	"strings"

	"steady-compass/core/netset"
)

type dict = map[string]any

// WriteJSON writes a ruleset as the kernel packet filter's own JSON, an object a line: ahead of each table what takes the
// one that is there away, so that it can be loaded again.
func WriteJSON(rs *Ruleset) string {
	var list []any
	tables := map[string]bool{}
	for _, c := range rs.Chains {
		if key := c.Family + " " + c.Table; !tables[key] {
			tables[key] = true
			table := dict{"table": dict{"family": c.Family, "name": c.Table}}
			list = append(list, dict{"add": table}, dict{"flush": table})
		}
	}
	for _, c := range rs.Chains {
		chain := dict{"family": c.Family, "table": c.Table, "name": c.Name}
		if c.Hook != "" {
			chain["type"], chain["hook"], chain["prio"], chain["policy"] = c.Type, c.Hook, c.Priority, c.Policy
		}
		list = append(list, dict{"add": dict{"chain": chain}})
	}
	for _, c := range rs.Chains {
		for i := range c.Rules {
			list = append(list, dict{"add": dict{"rule": dict{"family": c.Family, "table": c.Table, "chain": c.Name, "expr": expressions(c, &c.Rules[i])}}})
		}
	}
	var b strings.Builder
	b.WriteString("{\"nftables\": [\n")
	for i, o := range list {
		line, _ := json.Marshal(o) // plain values: it does not fail
		b.Write(line)
		if i < len(list)-1 {
			b.WriteByte(',')
		}
		b.WriteByte('\n')
	}
	b.WriteString("]}\n")
	return b.String()
}

func matching(op string, left, right any) dict {
	return dict{"match": dict{"op": op, "left": left, "right": right}}
}

func fieldOf(protocol, field string) dict {
	return dict{"payload": dict{"protocol": protocol, "field": field}}
}

func expressions(c *Chain, rule *Rule) []any {
	m := &rule.Match
	all := Everything(c.Family)
	var out []any
	add := func(d dict) { out = append(out, d) }
	if m.ICMP {
		add(matching("==", dict{"meta": dict{"key": "l4proto"}}, dict{"set": []any{"icmp", "ipv6-icmp"}}))
	}
	switch {
	case m.Fresh:
	case m.Invalid && !m.GoingOn:
		add(matching("in", dict{"ct": dict{"key": "state"}}, "invalid"))
	default:
		add(matching("in", dict{"ct": dict{"key": "state"}}, []any{"established", "related"}))
	}
	for _, i := range []struct {
		key string
		of  Interfaces
	}{{"iifname", m.In}, {"oifname", m.Out}} {
		if i.of.Any() {
			continue
		}
		op := "=="
		if i.of.Except {
			op = "!="
		}
		add(matching(op, dict{"meta": dict{"key": i.key}}, oneOrSet(anys(i.of.List))))
	}
	four, six := m.From.Of(false).IsEmpty() || m.To.Of(false).IsEmpty(), m.From.Of(true).IsEmpty() || m.To.Of(true).IsEmpty()
	if c.Family == "inet" && four != six && !addressed(m, all, !four) {
		word := "ipv4"
		if four {
			word = "ipv6"
		}
		add(matching("==", dict{"meta": dict{"key": "nfproto"}}, word))
	}
	for _, a := range []struct {
		field string
		set   netset.Addrs
		all   netset.Addrs
	}{{"saddr", m.From, all.From}, {"daddr", m.To, all.To}} {
		for _, v6 := range []bool{false, true} {
			set := a.set.Of(v6)
			if set.IsEmpty() || set.Equal(a.all.Of(v6)) {
				continue
			}
			add(matching("==", fieldOf(map[bool]string{false: "ip", true: "ip6"}[v6], a.field), oneOrSet(prefixes(set))))
		}
	}
	if m.Translated {
		add(matching("in", dict{"ct": dict{"key": "status"}}, "dnat"))
	}
	if m.Local {
		add(matching("==", dict{"fib": dict{"result": "type", "flags": []any{"daddr"}}}, "local"))
	}
	out = append(out, transport(m)...)
	add(verdict(c, rule))
	return out
}

// addressed says whether a match has a condition on an address of a family, which says the family as well.
func addressed(m *Match, all Match, v4 bool) bool {
	return !m.From.Of(!v4).Equal(all.From.Of(!v4)) || !m.To.Of(!v4).Equal(all.To.Of(!v4))
}

func transport(m *Match) []any {
	if m.ICMP || m.Transport == 0 {
		return nil
	}
	whole := m.Ports.Equal(netset.AllPorts())
	if m.Transport == netset.Both {
		if whole {
			return nil
		}
		return []any{
			matching("==", dict{"meta": dict{"key": "l4proto"}}, dict{"set": []any{"tcp", "udp"}}),
			matching("==", fieldOf("th", "dport"), oneOrSet(portList(m.Ports))),
		}
	}
	if whole {
		return []any{matching("==", dict{"meta": dict{"key": "l4proto"}}, m.Transport.String())}
	}
	return []any{matching("==", fieldOf(m.Transport.String(), "dport"), oneOrSet(portList(m.Ports)))}
}

func verdict(c *Chain, rule *Rule) dict {
	switch rule.Action {
	case Reject:
		if rule.Match.Transport == netset.TCP {
			return dict{"reject": dict{"type": "tcp reset"}}
		}
		if c.Family == "inet" {
			return dict{"reject": dict{"type": "icmpx", "expr": "port-unreachable"}}
		}
		return dict{"reject": dict{"type": map[string]string{"ip": "icmp", "ip6": "icmpv6"}[c.Family], "expr": "port-unreachable"}}
	case DNAT, SNAT:
		to := dict{"addr": rule.Addr.String()}
		if len(rule.Ports) > 0 {
			to["port"] = portWord(rule.Ports[0])
		}
		return dict{string(rule.Action): to}
	}
	return dict{string(rule.Action): nil}
}

func anys(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

func oneOrSet(list []any) any {
	if len(list) == 1 {
		return list[0]
	}
	return dict{"set": list}
}

func prefixes(set netset.Addrs) []any {
	var out []any
	for _, p := range set.Prefixes() {
		if p.IsSingleIP() {
			out = append(out, p.Addr().String())
		} else {
			out = append(out, dict{"prefix": dict{"addr": p.Addr().String(), "len": p.Bits()}})
		}
	}
	return out
}

func portWord(r netset.PortRange) any {
	if r.Lo == r.Hi {
		return int(r.Lo)
	}
	return dict{"range": []any{int(r.Lo), int(r.Hi)}}
}

func portList(p netset.Ports) []any {
	var out []any
	for _, r := range p.Ranges() {
		out = append(out, portWord(r))
	}
	return out
}
