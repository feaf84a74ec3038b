package packetfilter

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/netset"
	"steady-compass/intake"
)

// object is one entry of the JSON listing; one of its fields is set.
type object struct {
	Table *struct {
		Family, Name string
		Flags        wordList
	}
	Chain *struct {
		Family, Table, Name, Type, Hook, Policy string
		Prio                                    int
		Dev                                     wordList
	}
	Rule *struct {
		Family, Table, Chain string
		Handle               int
		Expr                 []map[string]json.RawMessage
	}
	Set, Map *struct {
		Family, Table, Name string
		Flags               wordList
		Elem                []json.RawMessage
	}
}

// wordList is one word, or a list of them.
type wordList []string

func (w *wordList) UnmarshalJSON(text []byte) error {
	var one string
	if json.Unmarshal(text, &one) == nil {
		*w = wordList{one}
		return nil
	}
	return json.Unmarshal(text, (*[]string)(w))
}

// jsonReader reads one listing.
type jsonReader struct {
	sets    map[string][]json.RawMessage // by family, table and name
	dynamic map[string]bool              // sets that the kernel itself fills
	chains  map[string]*Chain
	out     *Ruleset
}

// ReadJSON reads the kernel packet filter's own JSON listing. Its faults are places at which it is no such listing.
func ReadJSON(file, text string) (*Ruleset, []intake.FileFault) {
	r := &jsonReader{sets: map[string][]json.RawMessage{}, dynamic: map[string]bool{}, chains: map[string]*Chain{}, out: &Ruleset{File: file}}
	fault := func(offset int64, what, expected string) []intake.FileFault {
		line, column := position(text, offset)
		return []intake.FileFault{{File: file, Line: line, Column: column, What: what, Expected: expected}}
	}
	dec := json.NewDecoder(strings.NewReader(text))
	const expected = `the packet filter's listing as JSON: {"nftables": […]}`
	for _, want := range []any{json.Delim('{'), "nftables", json.Delim('[')} {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return r.out, fault(dec.InputOffset(), "there is no listing in it", expected)
		}
		if err != nil {
			return r.out, []intake.FileFault{intake.JSONFault(file, text, dec, err, expected)}
		}
		if tok != want {
			return r.out, fault(dec.InputOffset(), fmt.Sprintf("%v is no listing", tok), expected)
		}
	}
	type placed struct {
		object
		line int
	}
	var all []placed
	for dec.More() {
		start := dec.InputOffset()
		var o object
		var command struct {
			object
			Add *object // a listing that is to be loaded has commands
		}
		err := dec.Decode(&command)
		if o = command.object; command.Add != nil {
			o = *command.Add
		}
		var kind *json.UnmarshalTypeError
		if errors.As(err, &kind) {
			return r.out, fault(start+1, fmt.Sprintf("%s is a %s", kind.Field, kind.Value), expected)
		}
		if err != nil {
			return r.out, []intake.FileFault{intake.JSONFault(file, text, dec, err, expected)}
		}
		line, _ := position(text, start+1)
		all = append(all, placed{o, line})
	}
	if _, err := dec.Token(); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return r.out, fault(dec.InputOffset(), "it ends before the listing does", expected)
	} else if err != nil {
		return r.out, []intake.FileFault{intake.JSONFault(file, text, dec, err, expected)}
	}
	dormant, doubtful := map[string]bool{}, map[string]bool{}
	for _, o := range all {
		if o.Table == nil {
			continue
		}
		key := o.Table.Family + " " + o.Table.Name
		for _, flag := range o.Table.Flags {
			switch flag {
			case "dormant":
				dormant[key] = true
			case "owner", "persist":
			default: // some versions list the table's name for its flag
				doubtful[key] = true
			}
		}
	}
	for _, o := range all { // sets and chains stand before or behind the rules that name them
		switch {
		case o.Chain != nil && dormant[o.Chain.Family+" "+o.Chain.Table]:
			r.out.Idle = append(r.out.Idle, fmt.Sprintf("line %d: table %s %s, chain %s: the table is dormant, and not in force", o.line, o.Chain.Family, o.Chain.Table, o.Chain.Name))
		case o.Chain != nil && (o.Chain.Hook == "ingress" || o.Chain.Hook == "egress" || o.Chain.Hook != "" && doubtful[o.Chain.Family+" "+o.Chain.Table]):
			r.out.Unread = append(r.out.Unread, Chain{Family: o.Chain.Family, Table: o.Chain.Table, Name: o.Chain.Name, Hook: o.Chain.Hook, Policy: o.Chain.Policy, Line: o.line})
		case o.Chain != nil && slices.Contains([]string{"ip", "ip6", "inet"}, o.Chain.Family):
			c := &Chain{Family: o.Chain.Family, Table: o.Chain.Table, Name: o.Chain.Name, Type: o.Chain.Type, Hook: o.Chain.Hook, Priority: o.Chain.Prio, Policy: o.Chain.Policy, Line: o.line}
			r.chains[c.Family+" "+c.Table+" "+c.Name] = c
			r.out.Chains = append(r.out.Chains, c)
		case o.Set != nil || o.Map != nil:
			s := o.Set
			if s == nil {
				s = o.Map
			}
			key := s.Family + " " + s.Table + " " + s.Name
			r.sets[key] = s.Elem
			r.dynamic[key] = slices.Contains(s.Flags, "dynamic") || slices.Contains(s.Flags, "timeout")
		}
	}
	number := map[*Chain]int{}
	for _, o := range all {
		if o.Rule == nil {
			continue
		}
		key := o.Rule.Family + " " + o.Rule.Table + " "
		c := r.chains[key+o.Rule.Chain]
		if c == nil {
			continue // of a family that carries no IP
		}
		number[c]++
		base := Rule{Line: o.line, Text: fmt.Sprintf("table %s %s, chain %s, rule %d", c.Family, c.Table, c.Name, number[c]), Match: Everything(c.Family)}
		c.Rules = append(c.Rules, r.rule(base, key, o.Rule.Expr)...)
	}
	return r.out, nil
}

// position is the line and column of an offset, from 1.
func position(text string, offset int64) (line, column int) {
	before := text[:min(int(offset), len(text))]
	return 1 + strings.Count(before, "\n"), 1 + len(before) - (strings.LastIndexByte(before, '\n') + 1)
}

// rule reads the expressions of a rule: one, or one for each element of a map or of a set of several fields.
func (r *jsonReader) rule(base Rule, at string, list []map[string]json.RawMessage) []Rule {
	rules := []Rule{base}
	for _, statement := range list {
		for word, body := range statement {
			var next []Rule
			for _, rule := range rules {
				next = append(next, r.statement(rule, at, word, body)...)
			}
			rules = next
		}
	}
	return rules
}

func (rule Rule) strange(format string, args ...any) Rule {
	rule.Strange = append(slices.Clone(rule.Strange), fmt.Sprintf(format, args...))
	return rule
}

func (r *jsonReader) statement(rule Rule, at, word string, body json.RawMessage) []Rule {
	switch word {
	case "counter", "log", "comment", "continue", "ct helper", "ct timeout", "last", "flow", "secmark", "ct expectation":
		return []Rule{rule} // what is done beside does not decide
	case "dup":
		return []Rule{rule.of(body)}
	case "mangle":
		var m struct{ Key field }
		_ = json.Unmarshal(body, &m)
		if p := m.Key.Payload; p != nil && (strings.HasSuffix(p.Field, "addr") || strings.HasSuffix(p.Field, "port")) {
			rule = rule.strange("%s %s is rewritten", p.Protocol, p.Field)
			rule.Action = Strange
		}
		return []Rule{rule.of(body)}
	case "limit", "quota", "ct count", "connlimit":
		return []Rule{rule.strange("%s", word)} // what follows is for what keeps within it
	case "set", "meter": // with a rate or a count in it, what follows is for what keeps within it
		if bytes.Contains(body, []byte(`"limit"`)) || bytes.Contains(body, []byte(`"ct count"`)) || bytes.Contains(body, []byte(`"quota"`)) || bytes.Contains(body, []byte(`"connlimit"`)) {
			rule = rule.strange("a rate or a count for each")
		}
		return []Rule{rule.of(body)}
	case "xt": // of the older tool: a condition, or something that decides; what it is is not always told
		var x struct{ Type, Name string }
		_ = json.Unmarshal(body, &x)
		rule = rule.strange("an extension of the older tool%s", strings.TrimRight(" "+x.Name, " "))
		if x.Type != "match" && rule.Action == None {
			rule.Action = Strange
		}
		return []Rule{rule}
	case "queue", "tproxy", "synproxy", "fwd":
		rule = rule.strange("%s", word)
		rule.Action = Strange
		return []Rule{rule}
	case "accept", "drop", "return":
		rule.Action = Action(word)
	case "reject": // the answer is of one family, or of one transport, and so is what gets it
		var with struct{ Type string }
		_ = json.Unmarshal(body, &with)
		switch with.Type {
		case "icmp", "icmpv6":
			rule.Match.narrowFamily(with.Type == "icmpv6")
		case "tcp reset":
			rule.Match.Transport &= netset.TCP
		}
		rule.Action = Reject
	case "masquerade":
		rule.Action = Masquerade
	case "jump", "goto":
		var to struct{ Target string }
		_ = json.Unmarshal(body, &to)
		rule.Action, rule.Chain = Action(word), to.Target
	case "dnat", "snat", "redirect":
		return r.translation(rule, at, word, body)
	case "match":
		var m struct {
			Op          string
			Left, Right json.RawMessage
		}
		if json.Unmarshal(body, &m) != nil {
			return []Rule{rule.strange("a match that cannot be read")}
		}
		return r.match(rule, at, m.Op, m.Left, m.Right)
	case "vmap":
		var m struct{ Key, Data json.RawMessage }
		if json.Unmarshal(body, &m) != nil {
			return []Rule{rule.strange("a map that cannot be read")}
		}
		var out []Rule
		for _, pair := range r.elements(&rule, at, m.Data) {
			var kv []json.RawMessage
			if json.Unmarshal(pair, &kv) != nil || len(kv) != 2 {
				return []Rule{rule.strange("a map that cannot be read")}
			}
			var verdict map[string]json.RawMessage
			_ = json.Unmarshal(kv[1], &verdict)
			for _, one := range r.match(rule, at, "==", m.Key, kv[0]) {
				for word, body := range verdict {
					out = append(out, r.statement(one, at, word, body)...)
				}
			}
		}
		return out
	default: // it may decide, or change what is met later
		if rule.Action == None {
			rule.Action = Strange
		}
		return []Rule{rule.strange("%s", word)}
	}
	return []Rule{rule}
}

// named are the headers of which a statement takes a field.
var named = regexp.MustCompile(`"protocol":\s*"(ip6?|tcp|udp)"`)

// of narrows a rule to what has the headers that a statement takes fields of: on other packets it ends there.
func (rule Rule) of(body json.RawMessage) Rule {
	for _, m := range named.FindAllSubmatch(body, -1) {
		switch string(m[1]) {
		case "ip", "ip6":
			rule.Match.narrowFamily(string(m[1]) == "ip6")
		case "tcp":
			rule.Match.Transport &= netset.TCP
		case "udp":
			rule.Match.Transport &= netset.UDP
		}
	}
	return rule
}

// elements are those of a set: one written there, or one by name.
func (r *jsonReader) elements(rule *Rule, at string, data json.RawMessage) []json.RawMessage {
	var anonymous struct{ Set []json.RawMessage }
	if json.Unmarshal(data, &anonymous) == nil && anonymous.Set != nil {
		return anonymous.Set
	}
	var name string
	if json.Unmarshal(data, &name) == nil && strings.HasPrefix(name, "@") {
		key := at + name[1:]
		if list, known := r.sets[key]; known {
			if r.dynamic[key] {
				*rule = rule.strange("set %s, which changes by itself", name[1:])
			}
			return list
		}
		*rule = rule.strange("set %s, which is not listed", name[1:])
		return nil
	}
	return []json.RawMessage{data}
}

// field is the left side of a match.
type field struct {
	Payload *struct{ Protocol, Field string }
	Meta    *struct{ Key string }
	CT      *struct{ Key, Dir string }
	Fib     *struct {
		Result string
		Flags  []string
	}
	Concat []json.RawMessage
	And    []json.RawMessage `json:"&"`
}

func (r *jsonReader) match(rule Rule, at, op string, left, right json.RawMessage) []Rule {
	var f field
	if json.Unmarshal(left, &f) != nil {
		return []Rule{rule.strange("a match on %s", compact(left))}
	}
	elements := r.elements(&rule, at, right)
	if len(f.Concat) > 0 {
		if op == "!=" {
			return []Rule{rule.strange("not one of a set of several fields")}
		}
		var out []Rule
		for _, e := range elements {
			var parts struct{ Concat []json.RawMessage }
			if json.Unmarshal(value(e), &parts) != nil || len(parts.Concat) != len(f.Concat) {
				return []Rule{rule.strange("a set of several fields that cannot be read")}
			}
			rules := []Rule{rule}
			for i, one := range f.Concat {
				var next []Rule
				for _, rule := range rules {
					next = append(next, r.match(rule, at, op, one, parts.Concat[i])...)
				}
				rules = next
			}
			out = append(out, rules...)
		}
		return out
	}
	not := op == "!="
	if op != "==" && op != "!=" && op != "in" {
		return []Rule{rule.strange("%s with %s", compact(left), op)}
	}
	switch {
	case f.Payload != nil && f.Payload.Protocol == "tcp" && f.Payload.Field == "flags":
		return []Rule{rule.flags(op, nil, elements)}
	case f.Payload != nil:
		return []Rule{payload(rule, f.Payload.Protocol, f.Payload.Field, elements, not)}
	case f.Meta != nil:
		return []Rule{meta(rule, f.Meta.Key, elements, not)}
	case f.CT != nil && f.CT.Key == "state":
		return []Rule{rule.states(words(elements), not)}
	case f.CT != nil && f.CT.Key == "status" && slices.Equal(words(elements), []string{"dnat"}) && !not:
		rule.Match.Translated = true
		return []Rule{rule}
	case f.Fib != nil && f.Fib.Result == "type" && slices.Equal(f.Fib.Flags, []string{"daddr"}) && slices.Equal(words(elements), []string{"local"}) && !not:
		rule.Match.Local = true
		return []Rule{rule}
	case len(f.And) == 2:
		var flags field
		if json.Unmarshal(f.And[0], &flags) == nil && flags.Payload != nil && flags.Payload.Protocol == "tcp" && flags.Payload.Field == "flags" {
			return []Rule{rule.flags(op, f.And[1], elements)}
		}
	}
	return []Rule{rule.strange("a match on %s", compact(left))}
}

func payload(rule Rule, protocol, name string, elements []json.RawMessage, not bool) Rule {
	m := &rule.Match
	switch protocol {
	case "tcp":
		m.Transport &= netset.TCP
	case "udp":
		m.Transport &= netset.UDP
	case "icmp", "icmpv6", "sctp", "dccp", "udplite", "esp", "ah", "comp":
		m.Transport = 0
		return rule
	}
	switch {
	case (protocol == "ip" || protocol == "ip6") && (name == "saddr" || name == "daddr"):
		set, ok := addresses(elements)
		if !ok {
			return rule.strange("an address that cannot be read")
		}
		m.narrowAddrs(name == "daddr", set, not, protocol == "ip6")
	case protocol == "ip" && name == "protocol", protocol == "ip6" && name == "nexthdr":
		m.From = m.From.Of(protocol == "ip6")
		return rule.protocols(words(elements), not)
	case (protocol == "tcp" || protocol == "udp" || protocol == "th") && name == "dport":
		set, ok := ports(elements)
		if !ok {
			return rule.strange("a port that cannot be read")
		}
		m.narrowPorts(set, not)
	default:
		return rule.strange("%s %s", protocol, name)
	}
	return rule
}

func meta(rule Rule, key string, elements []json.RawMessage, not bool) Rule {
	m := &rule.Match
	list := words(elements)
	switch key {
	case "iif", "iifname", "oif", "oifname":
		m.narrowInterfaces(key[0] == 'o', list, not)
	case "l4proto":
		return rule.protocols(list, not)
	case "nfproto", "protocol":
		four := slices.Contains(list, "ipv4") || slices.Contains(list, "ip")
		six := slices.Contains(list, "ipv6") || slices.Contains(list, "ip6")
		switch four, six = four != not, six != not; {
		case !four && !six: // what carries no IP
			m.Transport = 0
		case four != six:
			m.narrowFamily(six)
		}
	case "pkttype":
		m.packetTypes(list, not)
	default:
		return rule.strange("meta %s", key)
	}
	return rule
}

// numbers reads a range of numbers, as the listing or the tool writes it.
func numbers(text string) (lo, hi int, ok bool) {
	var written struct{ Range []int }
	if json.Unmarshal([]byte(text), &written) == nil && len(written.Range) == 2 {
		return written.Range[0], written.Range[1], true
	}
	from, to, ranged := strings.Cut(text, "-")
	lo, err := strconv.Atoi(from)
	hi, err2 := strconv.Atoi(to)
	return lo, hi, ranged && err == nil && err2 == nil
}

// protocols narrows a rule to transports.
func (rule Rule) protocols(list []string, not bool) Rule {
	var t netset.Transport
	for _, p := range list {
		switch p {
		case "tcp", "6":
			t |= netset.TCP
		case "udp", "17":
			t |= netset.UDP
		default:
			if lo, hi, ok := numbers(p); ok {
				if lo <= 6 && 6 <= hi {
					t |= netset.TCP
				}
				if lo <= 17 && 17 <= hi {
					t |= netset.UDP
				}
			} else if strings.HasPrefix(p, "{") {
				return rule.strange("protocols %s", p)
			}
		}
	}
	if not {
		t = netset.Both &^ t
	}
	rule.Match.Transport &= t
	return rule
}

// states narrows a rule to flows that begin, or to those that go on.
func (rule Rule) states(list []string, not bool) Rule {
	fresh, going, invalid := slices.Contains(list, "new"), slices.Contains(list, "established"), slices.Contains(list, "invalid")
	if not {
		fresh, going, invalid = !fresh, !going, !invalid
	}
	rule.Match.Stated, rule.Match.Invalid = true, rule.Match.Invalid && invalid
	if slices.Contains(list, "untracked") && !fresh {
		return rule.strange("flows that are not tracked")
	}
	rule.Match.Fresh, rule.Match.GoingOn = rule.Match.Fresh && fresh, rule.Match.GoingOn && going
	return rule
}

// flags reads a condition on the flags of a TCP segment, of those in a mask where there is one: to be just some (==), to be others
// (!=), or to have any (in).
func (rule Rule) flags(op string, mask json.RawMessage, elements []json.RawMessage) Rule {
	var among []string
	if mask != nil {
		var ok bool
		if among, ok = flagWords(mask); !ok {
			return rule.strange("TCP flags %s", compact(mask))
		}
	}
	var wanted [][]string
	for _, e := range elements {
		list, ok := flagWords(value(e))
		if !ok || op == "in" && mask != nil {
			return rule.strange("TCP flags %s", compact(e))
		}
		wanted = append(wanted, list)
	}
	return rule.tcpFlags(func(has string) bool {
		if op == "in" {
			return slices.ContainsFunc(wanted, func(list []string) bool { return slices.Contains(list, has) })
		}
		var seen []string
		if mask == nil || slices.Contains(among, has) {
			seen = []string{has}
		}
		return slices.ContainsFunc(wanted, func(list []string) bool { return slices.Equal(list, seen) }) != (op == "!=")
	})
}

// flagWords are the flags in one value, sorted: a word, several joined by "or", or 0.
func flagWords(raw json.RawMessage) ([]string, bool) {
	var one string
	var list []json.RawMessage
	var joined struct {
		Or []json.RawMessage `json:"|"`
	}
	switch {
	case string(raw) == "0":
		return nil, true
	case json.Unmarshal(raw, &one) == nil:
		return []string{one}, one != ""
	case json.Unmarshal(raw, &list) == nil:
	case json.Unmarshal(raw, &joined) == nil && joined.Or != nil:
		list = joined.Or
	default:
		return nil, false
	}
	var out []string
	for _, part := range list {
		words, ok := flagWords(part)
		if !ok {
			return nil, false
		}
		out = append(out, words...)
	}
	slices.Sort(out)
	return slices.Compact(out), true
}

// tcpFlags narrows a rule by a condition on the flags of a TCP segment: what begins a connection has SYN alone, and what goes on
// has ACK (RFC 9293 section 3.5).
func (rule Rule) tcpFlags(holds func(has string) bool) Rule {
	rule.Match.Transport &= netset.TCP
	rule.Match.Fresh, rule.Match.GoingOn = rule.Match.Fresh && holds("syn"), rule.Match.GoingOn && holds("ack")
	return rule
}

// translation is a rule that gives a flow another destination or source.
func (r *jsonReader) translation(rule Rule, at, word string, body json.RawMessage) []Rule {
	rule.Action = Action(word)
	var to struct {
		Addr, Port json.RawMessage
	}
	_ = json.Unmarshal(body, &to)
	var mapped struct {
		Map struct{ Key, Data json.RawMessage }
	}
	if json.Unmarshal(to.Addr, &mapped) == nil && mapped.Map.Key != nil {
		var out []Rule
		for _, pair := range r.elements(&rule, at, mapped.Map.Data) {
			var kv []json.RawMessage
			if json.Unmarshal(pair, &kv) != nil || len(kv) != 2 {
				return []Rule{rule.strange("a map that cannot be read")}
			}
			addr, port := kv[1], to.Port
			var both struct{ Concat []json.RawMessage }
			if json.Unmarshal(kv[1], &both) == nil && len(both.Concat) == 2 {
				addr, port = both.Concat[0], both.Concat[1]
			}
			for _, one := range r.match(rule, at, "==", mapped.Map.Key, kv[0]) {
				out = append(out, one.translated(addr, port))
			}
		}
		return out
	}
	return []Rule{rule.translated(to.Addr, to.Port)}
}

func (rule Rule) translated(addr, port json.RawMessage) Rule {
	if len(addr) > 0 && string(addr) != "null" {
		set, ok := addresses([]json.RawMessage{addr})
		one, single := set.Single()
		if !ok || !single {
			return rule.strange("a translation to %s", compact(addr))
		}
		rule.Addr = one
	}
	if len(port) > 0 && string(port) != "null" {
		set, ok := ports([]json.RawMessage{port})
		if !ok {
			return rule.strange("a translation to port %s", compact(port))
		}
		rule.Ports = set.Ranges()
	}
	return rule
}

// value is an element of a set without what is said of it beside (how long it stays, a comment).
func value(e json.RawMessage) json.RawMessage {
	var wrapped struct{ Elem struct{ Val json.RawMessage } }
	if json.Unmarshal(e, &wrapped) == nil && wrapped.Elem.Val != nil {
		return wrapped.Elem.Val
	}
	return e
}

func addresses(elements []json.RawMessage) (netset.Addrs, bool) {
	var sets []netset.Addrs
	for _, e := range elements {
		e = value(e)
		var single string
		var written struct {
			Prefix *struct {
				Addr string
				Len  int
			}
			Range []string
		}
		switch {
		case json.Unmarshal(e, &single) == nil:
			a, err := netip.ParseAddr(single)
			if err != nil {
				return netset.Addrs{}, false
			}
			sets = append(sets, netset.AddrsOf(a))
		case json.Unmarshal(e, &written) != nil:
			return netset.Addrs{}, false
		case written.Prefix != nil:
			a, err := netip.ParseAddr(written.Prefix.Addr)
			p := netip.PrefixFrom(a, written.Prefix.Len)
			if err != nil || !p.IsValid() {
				return netset.Addrs{}, false
			}
			sets = append(sets, netset.PrefixesOf(p))
		case len(written.Range) == 2:
			set, ok := netset.AddrRange(written.Range[0], written.Range[1])
			if !ok {
				return netset.Addrs{}, false
			}
			sets = append(sets, set)
		default:
			return netset.Addrs{}, false
		}
	}
	return netset.Union(sets...), true
}

func ports(elements []json.RawMessage) (netset.Ports, bool) {
	var out []netset.PortRange
	one := func(raw json.RawMessage) (uint16, bool) {
		n, err := strconv.ParseUint(strings.Trim(string(raw), `"`), 10, 16)
		return uint16(n), err == nil
	}
	for _, e := range elements {
		e = value(e)
		var written struct{ Range []json.RawMessage }
		if json.Unmarshal(e, &written) == nil && len(written.Range) == 2 {
			lo, ok1 := one(written.Range[0])
			hi, ok2 := one(written.Range[1])
			if !ok1 || !ok2 || lo > hi {
				return netset.Ports{}, false
			}
			out = append(out, netset.PortRange{Lo: max(lo, 1), Hi: hi})
			continue
		}
		p, ok := one(e)
		if !ok {
			return netset.Ports{}, false
		}
		out = append(out, netset.OnePort(p))
	}
	return netset.PortsOf(out...), true
}

// words are elements as text.
func words(elements []json.RawMessage) []string {
	var out []string
	for _, e := range elements {
		e = value(e)
		var one string
		var list []json.RawMessage
		switch {
		case json.Unmarshal(e, &one) == nil:
			out = append(out, one)
		case json.Unmarshal(e, &list) == nil:
			out = append(out, words(list)...)
		default:
			out = append(out, compact(e))
		}
	}
	return out
}

func compact(raw json.RawMessage) string {
	var b bytes.Buffer
	if json.Compact(&b, raw) != nil {
		return string(raw)
	}
	return b.String()
}
