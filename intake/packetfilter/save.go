package packetfilter

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/netset"
	"steady-compass/intake"
)

// savedHooks are the hooks and priorities of the chains that each table of the save format has.
var savedHooks = map[string]map[string]struct {
	hook     string
	priority int
}{
	"raw":      {"PREROUTING": {"prerouting", -300}, "OUTPUT": {"output", -300}},
	"mangle":   {"PREROUTING": {"prerouting", -150}, "INPUT": {"input", -150}, "FORWARD": {"forward", -150}, "OUTPUT": {"output", -150}, "POSTROUTING": {"postrouting", -150}},
	"nat":      {"PREROUTING": {"prerouting", -100}, "INPUT": {"input", 100}, "OUTPUT": {"output", -100}, "POSTROUTING": {"postrouting", 100}},
	"filter":   {"INPUT": {"input", 0}, "FORWARD": {"forward", 0}, "OUTPUT": {"output", 0}},
	"security": {"INPUT": {"input", 50}, "FORWARD": {"forward", 50}, "OUTPUT": {"output", 50}},
}

// ReadSave reads the older save format, which is of one family: that of its addresses, IPv4 where it has none.
func ReadSave(file, text string) (*Ruleset, []intake.FileFault) {
	rs := &Ruleset{File: file, Saved: true}
	var faults []intake.FileFault
	family := "ip"
	if savedIsSix(text) {
		family = "ip6"
	}
	table := ""
	chains := map[string]*Chain{}
	for n, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(strings.TrimSuffix(line, "\r"))
		fault := func(what, expected string) {
			faults = intake.AddFault(faults, intake.FileFault{File: file, Line: n + 1, Column: 1, What: what, Expected: expected})
		}
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '*':
			table = line[1:]
			if savedHooks[table] == nil {
				fault(fmt.Sprintf("table %q is not known", table), "raw, mangle, nat, filter or security")
			}
		case line == "COMMIT":
			table = ""
		case table == "":
			fault(fmt.Sprintf("%q stands in no table", clip(line)), "a table first: *filter or *nat")
		case line[0] == ':':
			words := strings.Fields(line[1:])
			if len(words) < 2 {
				fault("the chain has no policy", ":CHAIN POLICY [0:0]")
				continue
			}
			c := &Chain{Family: family, Table: table, Name: words[0], Line: n + 1}
			if h, base := savedHooks[table][words[0]]; base {
				c.Type, c.Hook, c.Priority, c.Policy = "filter", h.hook, h.priority, strings.ToLower(words[1])
				if table == "nat" {
					c.Type = "nat"
				}
			}
			chains[table+" "+c.Name] = c
			rs.Chains = append(rs.Chains, c)
		default:
			words, ok := shellWords(line)
			if !ok {
				fault("a quote is not closed", "\" at the end of the words")
				continue
			}
			if len(words) > 0 && strings.HasPrefix(words[0], "[") { // counters
				words = words[1:]
			}
			if len(words) < 2 || words[0] != "-A" && words[0] != "--append" {
				fault(fmt.Sprintf("%q is no rule", clip(line)), "-A CHAIN …, :CHAIN POLICY, *TABLE or COMMIT")
				continue
			}
			c := chains[table+" "+words[1]]
			if c == nil {
				if _, base := savedHooks[table][words[1]]; !base {
					fault(fmt.Sprintf("chain %s is not there", words[1]), "a line :"+words[1]+" - before it")
					continue
				}
				h := savedHooks[table][words[1]]
				c = &Chain{Family: family, Table: table, Name: words[1], Type: "filter", Hook: h.hook, Priority: h.priority, Policy: "accept", Line: n + 1}
				if table == "nat" {
					c.Type = "nat"
				}
				chains[table+" "+words[1]] = c
				rs.Chains = append(rs.Chains, c)
			}
			rule := Rule{Line: n + 1, Text: fmt.Sprintf("table %s, chain %s, rule %d", table, c.Name, len(c.Rules)+1), Match: Everything(family)}
			p := savedRule{rule: rule, words: words[2:], six: family == "ip6"}
			p.read()
			if p.wrong != "" {
				fault(p.wrong, p.expected)
				continue
			}
			c.Rules = append(c.Rules, p.rule)
		}
	}
	for _, c := range rs.Chains {
		if c.Type == "nat" {
			c.Rules = mergedRules(c.Rules)
		}
	}
	return rs, faults
}

// mergedRules makes one of neighbours that differ in nothing but the source, the destination, the interface or the
// transport.
func mergedRules(list []Rule) []Rule {
	var out []Rule
	for _, rule := range list {
		out = append(out, rule)
		for n := len(out); n > 1; n = len(out) {
			m, ok := mergedRule(out[n-2], out[n-1])
			if !ok {
				break
			}
			out = append(out[:n-2], m)
		}
	}
	return out
}

func mergedRule(a, b Rule) (Rule, bool) {
	if a.Action != b.Action || a.Chain != b.Chain || a.Addr != b.Addr || !slices.Equal(a.Ports, b.Ports) || len(a.Strange)+len(b.Strange) > 0 {
		return a, false
	}
	x, y := a.Match, b.Match
	if x.Fresh != y.Fresh || x.GoingOn != y.GoingOn || !x.Fresh && !x.GoingOn && x.Invalid != y.Invalid || x.Translated != y.Translated || x.Local != y.Local || !x.Ports.Equal(y.Ports) {
		return a, false
	}
	from, to := x.From.Equal(y.From), x.To.Equal(y.To)
	in, out, transport := x.In.Equal(y.In), x.Out.Equal(y.Out), x.Transport == y.Transport
	switch {
	case to && in && out && transport:
		a.Match.From = netset.Union(x.From, y.From)
	case from && in && out && transport:
		a.Match.To = netset.Union(x.To, y.To)
	case from && to && in && out:
		a.Match.Transport |= y.Transport
	case from && to && out && transport && !x.In.Except && !y.In.Except:
		a.Match.In = Interfaces{List: slices.Concat(x.In.List, y.In.List)}
	case from && to && in && transport && !x.Out.Except && !y.Out.Except:
		a.Match.Out = Interfaces{List: slices.Concat(x.Out.List, y.Out.List)}
	default:
		return a, false
	}
	return a, true
}

// savedIsSix says whether a saved ruleset is of IPv6: its first address is, or it says so.
func savedIsSix(text string) bool {
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "#") && strings.Contains(line, "ip6") || strings.Contains(line, "icmp6-") || strings.Contains(line, "icmpv6") || strings.Contains(line, "ipv6-icmp") {
			return true
		}
		for _, w := range strings.Fields(line) {
			w, _, _ = strings.Cut(w, ",")
			if p, err := netip.ParsePrefix(w); err == nil {
				return p.Addr().Is6()
			}
			if a, err := netip.ParseAddr(strings.Trim(w, "[]")); err == nil {
				return a.Is6()
			}
		}
	}
	return false
}

func clip(text string) string {
	if len(text) > 60 {
		return text[:57] + "…"
	}
	return text
}

// shellWords parts a line into words; what is quoted is one.
func shellWords(line string) ([]string, bool) {
	var out []string
	var b strings.Builder
	inside, has := false, false
	for i := 0; i < len(line); i++ {
		switch ch := line[i]; {
		case ch == '\\' && inside && i+1 < len(line):
			i++
			b.WriteByte(line[i])
		case ch == '"':
			inside, has = !inside, true
		case (ch == ' ' || ch == '\t') && !inside:
			if b.Len() > 0 || has {
				out = append(out, b.String())
				b.Reset()
				has = false
			}
		default:
			b.WriteByte(ch)
		}
	}
	if b.Len() > 0 || has {
		out = append(out, b.String())
	}
	return out, !inside
}

// savedRule reads the words of one rule.
type savedRule struct {
	rule            Rule
	words           []string
	at              int
	six             bool
	wrong, expected string
}

func (p *savedRule) next() string {
	if p.at >= len(p.words) {
		p.wrong, p.expected = fmt.Sprintf("%s has nothing behind it", p.words[len(p.words)-1]), "a value"
		return ""
	}
	p.at++
	return p.words[p.at-1]
}

func (p *savedRule) read() {
	not := false
	for p.at < len(p.words) && p.wrong == "" {
		word := p.next()
		switch word {
		case "!":
			not = true
			continue
		case "-m", "--match":
			p.next()
		case "-j", "--jump", "-g", "--goto":
			p.target(word)
		default:
			p.option(word, not)
		}
		not = false
	}
}

func (p *savedRule) option(word string, not bool) {
	m := &p.rule.Match
	switch word {
	case "-s", "--source", "-d", "--destination":
		set, ok := p.addresses(p.next())
		if ok {
			m.narrowAddrs(word == "-d" || word == "--destination", set, not, p.six)
		}
	case "--src-range", "--dst-range":
		from, to, _ := strings.Cut(p.next(), "-")
		set, ok := netset.AddrRange(from, to)
		if !ok {
			p.wrong, p.expected = fmt.Sprintf("%s-%s is no range", from, to), "ADDRESS-ADDRESS"
			return
		}
		m.narrowAddrs(word == "--dst-range", set, not, p.six)
	case "-i", "--in-interface", "-o", "--out-interface":
		name := p.next()
		if strings.HasSuffix(name, "+") {
			name = strings.TrimSuffix(name, "+") + "*"
		}
		m.narrowInterfaces(word == "-o" || word == "--out-interface", []string{name}, not)
	case "-p", "--protocol":
		if proto := p.next(); proto != "all" && proto != "0" {
			p.rule = p.rule.protocols([]string{proto}, not)
		}
	case "--dport", "--destination-port", "--dports", "--destination-ports":
		set, ok := savedPorts(p.next())
		if !ok {
			p.wrong, p.expected = fmt.Sprintf("%s is no list of ports", p.words[p.at-1]), "ports and ranges, as 80,8000:8010"
			return
		}
		m.narrowPorts(set, not)
	case "--ctstatus":
		if list := strings.ToUpper(p.next()); list == "DNAT" && !not {
			m.Translated = true
		} else {
			p.rule = p.rule.strange("%s %s", word, list)
		}
	case "--ctstate", "--state":
		list := strings.Split(strings.ToLower(p.next()), ",")
		if slices.Contains(list, "dnat") && len(list) == 1 && !not {
			m.Translated = true
			return
		}
		if slices.Contains(list, "dnat") || slices.Contains(list, "snat") {
			p.rule = p.rule.strange("%s %s", word, p.words[p.at-1])
			return
		}
		p.rule = p.rule.states(list, not)
	case "--pkt-type":
		m.packetTypes(strings.Split(strings.ToLower(p.next()), ","), not)
	case "--dst-type":
		if kind := p.next(); kind == "LOCAL" && !not {
			m.Local = true
		} else {
			p.rule = p.rule.strange("%s %s", word, kind)
		}
	case "--syn":
		if not {
			m.Fresh = false
		} else {
			m.GoingOn = false
		}
		m.Transport &= netset.TCP
	case "--tcp-flags":
		mask, want := strings.Split(strings.ToLower(p.next()), ","), strings.Split(strings.ToLower(p.next()), ",")
		p.rule = p.rule.tcpFlags(func(has string) bool {
			among := slices.Contains(mask, "all") || slices.Contains(mask, has)
			others := slices.ContainsFunc(want, func(flag string) bool { return flag != "" && flag != "none" && flag != has })
			return (!others && slices.Contains(want, has) == among) != not
		})
	case "--comment":
		p.next()
	case "--icmp-type", "--icmpv6-type":
		p.next()
		m.Transport = 0
	case "--reject-with", "--log-prefix", "--log-level", "--nflog-prefix", "--nflog-group", "--set-xmark", "--set-mark", "--or-mark", "--and-mark", "--restore-mark", "--save-mark",
		"--nfmask", "--ctmask", "--log-uid", "--log-ip-options", "--log-tcp-options", "--log-tcp-sequence", "--zone", "--set-dscp", "--set-tos", "--helper", "--clamp-mss-to-pmtu", "--set-mss", "--checksum-fill", "--notrack", "--ttl-set", "--persistent", "--random", "--random-fully":
		// what is done beside, and how, does not decide
		for p.at < len(p.words) && !strings.HasPrefix(p.words[p.at], "-") && p.words[p.at] != "!" {
			p.at++
		}
	case "--to-destination", "--to-source", "--to-ports", "--to":
		p.translation(p.next())
	default:
		text := word
		for p.at < len(p.words) && !strings.HasPrefix(p.words[p.at], "-") && p.words[p.at] != "!" {
			text += " " + p.next()
		}
		p.rule = p.rule.strange("%s", text)
	}
}

// holed says whether a mask is one in which ones stand behind a zero: the addresses are no network.
func holed(before, mask string) bool {
	a, err := netip.ParseAddr(before)
	m, err2 := netip.ParseAddr(mask)
	return err == nil && err2 == nil && a.BitLen() == m.BitLen()
}

func (p *savedRule) addresses(list string) (netset.Addrs, bool) {
	var all []netip.Prefix
	for _, word := range strings.Split(list, ",") {
		prefix, err := netip.ParsePrefix(word)
		if err != nil {
			a, err := netip.ParseAddr(word)
			if err != nil {
				if before, mask, ok := strings.Cut(word, "/"); ok { // a mask in dots
					if prefix, ok = dotted(before, mask); ok {
						all = append(all, prefix)
						continue
					}
					if holed(before, mask) {
						p.rule = p.rule.strange("the addresses %s, whose mask has holes,", word)
						return netset.Addrs{}, false
					}
				}
				p.wrong, p.expected = fmt.Sprintf("%s is no address", word), "an address or CIDR"
				return netset.Addrs{}, false
			}
			prefix = netip.PrefixFrom(a, a.BitLen())
		}
		all = append(all, prefix.Masked())
	}
	return netset.PrefixesOf(all...), true
}

func dotted(addr, mask string) (netip.Prefix, bool) {
	a, err1 := netip.ParseAddr(addr)
	m, err2 := netip.ParseAddr(mask)
	if err1 != nil || err2 != nil || !a.Is4() || !m.Is4() {
		return netip.Prefix{}, false
	}
	bits, ended := 0, false
	for _, b := range m.As4() {
		for i := 7; i >= 0; i-- {
			switch one := b>>i&1 == 1; {
			case one && ended:
				return netip.Prefix{}, false
			case one:
				bits++
			default:
				ended = true
			}
		}
	}
	return netip.PrefixFrom(a, bits).Masked(), true
}

func savedPorts(list string) (netset.Ports, bool) {
	var out []netset.PortRange
	for _, word := range strings.Split(list, ",") {
		lo, hi, isRange := strings.Cut(strings.ReplaceAll(word, "-", ":"), ":")
		if !isRange {
			hi = lo
		}
		a, err1 := strconv.ParseUint(lo, 10, 16)
		b, err2 := strconv.ParseUint(hi, 10, 16)
		if err1 != nil || err2 != nil || a > b {
			return netset.Ports{}, false
		}
		out = append(out, netset.PortRange{Lo: max(uint16(a), 1), Hi: uint16(b)})
	}
	return netset.PortsOf(out...), true
}

func (p *savedRule) target(word string) {
	switch name := p.next(); name {
	case "ACCEPT", "DROP", "REJECT", "RETURN", "MASQUERADE", "DNAT", "SNAT", "REDIRECT":
		p.rule.Action = Action(strings.ToLower(name))
	case "LOG", "NFLOG", "ULOG", "MARK", "CONNMARK", "TCPMSS", "CT", "DSCP", "TOS", "CHECKSUM", "TTL", "HL", "CLASSIFY", "SET", "NOTRACK", "TRACE", "AUDIT", "CONNSECMARK", "SECMARK":
		p.rule.Action = None
	case "QUEUE", "NFQUEUE", "TPROXY", "NETMAP", "SYNPROXY", "TARPIT", "TEE", "CLUSTERIP":
		p.rule.Action = Strange
		p.rule = p.rule.strange("the target %s", name)
	default:
		p.rule.Action, p.rule.Chain = Jump, name
		if word == "-g" || word == "--goto" {
			p.rule.Action = Goto
		}
	}
}

func (p *savedRule) translation(to string) {
	addr, port := to, ""
	switch {
	case p.rule.Action == Redirect || p.rule.Action == Masquerade:
		addr, port = "", to
	case strings.HasPrefix(to, "["):
		if end := strings.Index(to, "]"); end > 0 {
			addr, port = to[1:end], strings.TrimPrefix(to[end+1:], ":")
		}
	case strings.Count(to, ":") == 1:
		addr, port, _ = strings.Cut(to, ":")
	}
	if addr != "" {
		a, err := netip.ParseAddr(addr)
		if err != nil {
			p.rule = p.rule.strange("a translation to %s", to)
			return
		}
		p.rule.Addr = a
	}
	if port != "" {
		set, ok := savedPorts(port)
		if !ok {
			p.rule = p.rule.strange("a translation to %s", to)
			return
		}
		p.rule.Ports = set.Ranges()
	}
}

// WriteSave writes the part of a ruleset that is of one family in the older save format. What passes a filter goes on to
// the next one on its hook. left names what the format cannot say.
func WriteSave(rs *Ruleset, six bool) (text string, left []string) {
	type savedChain struct {
		*Chain
		saved string // its name there
	}
	type table struct {
		name   string
		chains []savedChain
	}
	tables := []*table{{name: "mangle"}, {name: "nat"}, {name: "filter"}}
	where := map[string]struct{ table, chain string }{
		"filter input": {"filter", "INPUT"}, "filter forward": {"filter", "FORWARD"}, "filter output": {"filter", "OUTPUT"},
		"filter prerouting": {"mangle", "PREROUTING"}, "filter postrouting": {"mangle", "POSTROUTING"},
		"nat prerouting": {"nat", "PREROUTING"}, "nat output": {"nat", "OUTPUT"}, "nat postrouting": {"nat", "POSTROUTING"},
	}
	own := map[bool]string{false: "ip", true: "ip6"}[six]
	for _, c := range rs.Chains {
		if c.Family != own && c.Family != "inet" {
			continue
		}
		at := where[c.Type+" "+c.Hook]
		for _, t := range tables {
			if t.name == at.table {
				t.chains = append(t.chains, savedChain{c, at.chain})
			}
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# To be loaded by %stables-restore.\n", own)
	for _, t := range tables {
		if len(t.chains) == 0 {
			continue
		}
		fmt.Fprintf(&b, "*%s\n", t.name)
		order := []string{}
		byName := map[string][]*Chain{}
		for _, c := range t.chains {
			if byName[c.saved] == nil {
				order = append(order, c.saved)
			}
			byName[c.saved] = append(byName[c.saved], c.Chain)
		}
		for _, name := range order {
			policy := "ACCEPT"
			if list := byName[name]; len(list) == 1 && list[0].Policy == "drop" {
				policy = "DROP"
			}
			fmt.Fprintf(&b, ":%s %s [0:0]\n", name, policy)
		}
		for _, name := range order {
			for i := 1; i < len(byName[name]); i++ {
				fmt.Fprintf(&b, ":%s-%d - [0:0]\n", name, i)
			}
		}
		for _, name := range order {
			list := byName[name]
			for i, c := range list {
				// Several filters on one hook: what one passes goes on to the next.
				chain, onward := name, "ACCEPT"
				if i > 0 {
					chain = fmt.Sprintf("%s-%d", name, i)
				}
				if i < len(list)-1 {
					onward = fmt.Sprintf("%s-%d", name, i+1)
				}
				for n := range c.Rules {
					rule := c.Rules[n]
					if rule.Action == Reject && t.name != "filter" {
						rule.Action = Drop
						left = append(left, fmt.Sprintf("filter %s: the save format refuses nothing there; it is written as a drop", c.Name))
					}
					if name == "POSTROUTING" && !rule.Match.In.Any() {
						rule.Match.From, rule.Match.In = rule.Match.From.Intersect(rule.Match.Near), Interfaces{Except: true}
						left = append(left, "the save format cannot say by which interface a flow came that leaves: what is looped back is told by the addresses of the networks there")
					}
					for _, line := range savedLines(&rule, c, six, onward) {
						fmt.Fprintf(&b, "-A %s%s\n", chain, line)
					}
				}
				if len(list) > 1 {
					end := onward
					if c.Policy == "drop" {
						end = "DROP"
					}
					fmt.Fprintf(&b, "-A %s -j %s\n", chain, end)
				}
			}
		}
		b.WriteString("COMMIT\n")
	}
	slices.Sort(left)
	return b.String(), slices.Compact(left)
}

// savedLines are the lines that a rule is in the save format: one for each protocol, interface and block of addresses that
// it names.
func savedLines(rule *Rule, c *Chain, six bool, onward string) []string {
	m := rule.Match
	all := Everything(c.Family)
	from, to := m.From.Of(six), m.To.Of(six)
	if from.IsEmpty() || to.IsEmpty() {
		return nil
	}
	lines := []string{""}
	each := func(words []string) {
		var out []string
		for _, l := range lines {
			for _, w := range words {
				out = append(out, l+w)
			}
		}
		lines = out
	}
	addrs := func(flag string, set, whole netset.Addrs) {
		if set.Equal(whole.Of(six)) {
			return
		}
		if rest := whole.Of(six).Subtract(set); len(rest.Prefixes()) == 1 && len(set.Prefixes()) > 1 {
			each([]string{" ! " + flag + " " + rest.Prefixes()[0].String()})
			return
		}
		var words []string
		for _, p := range set.Prefixes() {
			words = append(words, " "+flag+" "+p.String())
		}
		each(words)
	}
	addrs("-s", from, all.From)
	addrs("-d", to, all.To)
	for _, i := range []struct {
		flag string
		of   Interfaces
	}{{"-i", m.In}, {"-o", m.Out}} {
		switch {
		case i.of.Any():
		case i.of.Except: // of one: FromRecords lists the others where there are more
			each([]string{" ! " + i.flag + " " + i.of.List[0]})
		default:
			var words []string
			for _, name := range i.of.List {
				words = append(words, " "+i.flag+" "+name)
			}
			each(words)
		}
	}
	switch {
	case m.ICMP:
		each([]string{" -p " + map[bool]string{false: "icmp", true: "ipv6-icmp"}[six]})
	case m.Transport == netset.Both && m.Ports.Equal(netset.AllPorts()):
	default:
		var words []string
		for _, t := range m.Transport.Each() {
			proto := " -p " + t.String()
			if m.Ports.Equal(netset.AllPorts()) {
				words = append(words, proto)
				continue
			}
			for _, list := range multiport(m.Ports) {
				words = append(words, proto+list)
			}
		}
		each(words)
	}
	switch {
	case m.Fresh:
	case m.Invalid && !m.GoingOn:
		each([]string{" -m conntrack --ctstate INVALID"})
	default:
		each([]string{" -m conntrack --ctstate RELATED,ESTABLISHED"})
	}
	if m.Translated {
		each([]string{" -m conntrack --ctstate DNAT"})
	}
	if m.Local {
		each([]string{" -m addrtype --dst-type LOCAL"})
	}
	target := ""
	switch rule.Action {
	case Accept:
		target = onward
	case Drop:
		target = "DROP"
	case Reject:
		target = "REJECT --reject-with " + map[bool]string{false: "icmp-port-unreachable", true: "icmp6-port-unreachable"}[six]
		if m.Transport == netset.TCP {
			target = "REJECT --reject-with tcp-reset"
		}
	case Masquerade:
		target = "MASQUERADE"
	case DNAT, SNAT:
		at := rule.Addr.String()
		if len(rule.Ports) > 0 {
			at = netip.AddrPortFrom(rule.Addr, rule.Ports[0].Lo).String()
		}
		target = map[Action]string{DNAT: "DNAT --to-destination ", SNAT: "SNAT --to-source "}[rule.Action] + at
	}
	each([]string{" -j " + target})
	return lines
}

// multiport lists ports as one rule may have them: a range counts for two of its fifteen.
func multiport(p netset.Ports) []string {
	ranges := p.Ranges()
	if len(ranges) == 1 {
		return []string{" --dport " + savedRange(ranges[0])}
	}
	var out []string
	var list []string
	used := 0
	for _, r := range ranges {
		cost := 1
		if r.Lo != r.Hi {
			cost = 2
		}
		if used+cost > 15 {
			out, list, used = append(out, " -m multiport --dports "+strings.Join(list, ",")), nil, 0
		}
		list, used = append(list, savedRange(r)), used+cost
	}
	return append(out, " -m multiport --dports "+strings.Join(list, ","))
}

func savedRange(r netset.PortRange) string {
	if r.Lo == r.Hi {
		return strconv.Itoa(int(r.Lo))
	}
	return fmt.Sprintf("%d:%d", r.Lo, r.Hi)
}
