package packetfilter

import (
	"fmt"
	"strings"
	"testing"

	"steady-compass/intake"
)

// read gives the lines that a listing is read as, but for the filters themselves, and what of it has no meaning.
func readAs(t *testing.T, rs *Ruleset, faults []intake.FileFault) (lines []string, left string) {
	t.Helper()
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	e := parsed(t, around)
	r := gate.Reading(rs, e)
	for _, line := range intake.Compare(e, r).Lines() {
		if line = strings.TrimPrefix(line, "+ "); !strings.HasPrefix(line, "filter ") {
			lines = append(lines, line)
		}
	}
	return lines, strings.Join(r.Left, "; ")
}

// TestSavedConditions reads one rule of the save format at a time, in the chain that its first word names.
func TestSavedConditions(t *testing.T) {
	for _, c := range []struct{ rule, want, left string }{
		{"INPUT -p tcp --dport 22 -j ACCEPT", "rule gate-input pass 22", ""},
		{"INPUT -p 6 --destination-port 22 -j DROP", "rule gate-input drop 22", ""},
		{"INPUT -p udp -m udp --dport 53 -j REJECT --reject-with icmp-port-unreachable", "rule gate-input refuse 53/udp", ""},
		{"INPUT -p tcp -m multiport --dports 80,443,8000:8010 -j DROP", "rule gate-input drop 80,443,8000-8010", ""},
		{"INPUT -p tcp -m multiport ! --dports 80,443 -j DROP", "rule gate-input drop 1-79,81-442,444-65535", ""},
		{"INPUT -p tcp ! --dport 22 -j DROP", "rule gate-input drop 1-21,23-65535", ""},
		{"INPUT -p tcp --dport 0 -j DROP", "", ""},
		{"INPUT -p tcp --dport 0:9 -j DROP", "rule gate-input drop 1-9", ""},
		{"INPUT -p icmp -j DROP", "", ""},
		{"INPUT -s 10.0.0.0/24 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 from yard", ""},
		{"INPUT -s 10.0.0.0/255.255.255.0 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 from yard", ""},
		{"INPUT -s 10.0.0.20/255.0.0.255 -p tcp --dport 22 -j DROP", "rule gate-input unknown 22", "whose mask has holes"},
		{"INPUT ! -s 10.0.0.20/255.0.0.255 -p tcp --dport 22 -j DROP", "rule gate-input unknown 22", "whose mask has holes"},
		{"INPUT -m conntrack --ctstatus DNAT -j DROP", "", ""},
		{"INPUT -m conntrack --ctstatus SNAT -p tcp --dport 22 -j DROP", "rule gate-input unknown 22", "--ctstatus SNAT"},
		{"INPUT -p tcp --tcp-flags SYN,ACK SYN --dport 22 -j DROP", "rule gate-input drop 22", ""},
		{"INPUT -p tcp --tcp-flags ALL NONE -j DROP", "", ""},
		{"INPUT -p tcp ! --tcp-flags FIN,SYN,RST,ACK SYN --dport 22 -j ACCEPT", "", ""},
		{"INPUT --source 10.0.0.5,10.0.0.7 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 from 10.0.0.5,10.0.0.7", ""},
		{"INPUT -d 203.0.113.9 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 to 203.0.113.9", ""},
		{"INPUT -i eth1 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 entering yard", ""},
		{"INPUT -i eth+ -p tcp --dport 22 -j DROP", "rule gate-input drop 22 entering internet; rule gate-input drop 22 entering yard", ""},
		{"INPUT ! -i eth0 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 entering yard; rule gate-input drop 22 from gate,127.0.0.0/8 to gate,127.0.0.0/8", ""},
		{"FORWARD ! -i eth0 -p tcp --dport 22 -j DROP", "rule gate-through drop 22 entering yard", ""},
		{"INPUT -i lo -j DROP", "rule gate-input drop any from gate,127.0.0.0/8", ""},
		{"FORWARD -i eth0 -o eth1 -p tcp --dport 22 -j DROP", "rule gate-through drop 22 entering internet leaving yard", ""},
		{"INPUT -p tcp --syn --dport 22 -j DROP", "rule gate-input drop 22", ""},
		{"INPUT -m state --state NEW -p tcp --dport 22 -j DROP", "rule gate-input drop 22", ""},
		{"INPUT -m conntrack --ctstate ESTABLISHED,RELATED -p tcp --dport 22 -j ACCEPT", "", ""},
		{"INPUT -m comment --comment \"the front door\" -p tcp --dport 22 -j DROP", "rule gate-input drop 22", ""},
		{"INPUT -p tcp --dport 22 -j LOG --log-prefix \"in: \"", "", ""},
		{"INPUT -p tcp --dport 22 -m recent --rcheck --name seen -j DROP", "rule gate-input unknown 22", "--rcheck"},
		{"INPUT -p tcp --dport 22 -j TARPIT", "rule gate-input unknown 22", "the target TARPIT"},
		{"INPUT -m iprange --src-range 10.0.0.4-10.0.0.7 -p tcp --dport 22 -j DROP", "rule gate-input drop 22 from 10.0.0.4/30", ""},
		{"INPUT -m pkttype --pkt-type broadcast -j DROP", "", ""},
		{"INPUT -m pkttype ! --pkt-type unicast -j DROP", "", ""},
		{"INPUT -m pkttype --pkt-type unicast -p tcp --dport 22 -j DROP", "rule gate-input drop 22", ""},
	} {
		chain, _, _ := strings.Cut(c.rule, " ")
		text := fmt.Sprintf("*filter\n:INPUT %s [0:0]\n:FORWARD %s [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A %s\nCOMMIT\n",
			map[bool]string{true: "DROP", false: "ACCEPT"}[strings.HasSuffix(c.rule, "ACCEPT")], "ACCEPT", c.rule)
		rs, faults := ReadSave("f", text)
		got, left := readAs(t, rs, faults)
		if strings.Join(got, "; ") != c.want || !strings.Contains(left, c.left) || c.left == "" && left != "" {
			t.Errorf("-A %s (%s)\nis %q, left %q\nwant %q, %q", c.rule, chain, got, left, c.want, c.left)
		}
	}
}

// TestListedConditions reads one rule of the JSON listing at a time, in a chain on input.
func TestListedConditions(t *testing.T) {
	match := func(left, right string) string {
		return fmt.Sprintf(`{"match": {"op": "==", "left": %s, "right": %s}}`, left, right)
	}
	port := match(`{"payload": {"protocol": "tcp", "field": "dport"}}`, "22")
	meta := func(key, right string) string { return match(fmt.Sprintf(`{"meta": {"key": %q}}`, key), right) }
	flags := func(op, right string) string {
		return fmt.Sprintf(`{"match": {"op": %q, "left": {"payload": {"protocol": "tcp", "field": "flags"}}, "right": %s}}`, op, right)
	}
	for _, c := range []struct{ expr, want, left string }{
		{port + `, {"drop": null}`, "rule gate-input drop 22", ""},
		{match(`{"payload": {"protocol": "tcp", "field": "dport"}}`, "0") + `, {"drop": null}`, "", ""},
		{match(`{"payload": {"protocol": "tcp", "field": "dport"}}`, `{"range": [0, 9]}`) + `, {"drop": null}`, "rule gate-input drop 1-9", ""},
		{match(`{"payload": {"protocol": "th", "field": "dport"}}`, `{"set": [53, {"range": [60, 70]}]}`) + `, {"drop": null}`, "rule gate-input drop 53,60-70/tcp+udp", ""},
		{meta("l4proto", `"udp"`) + `, {"drop": null}`, "rule gate-input drop any/udp", ""},
		{meta("l4proto", `{"set": ["tcp", "udp"]}`) + ", " + match(`{"payload": {"protocol": "th", "field": "dport"}}`, "53") + `, {"drop": null}`, "rule gate-input drop 53/tcp+udp", ""},
		{meta("l4proto", `"icmp"`) + `, {"drop": null}`, "", ""},
		{meta("iifname", `"eth1"`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22 entering yard", ""},
		{`{"match": {"op": "!=", "left": {"meta": {"key": "iifname"}}, "right": "eth0"}}, ` + port + `, {"drop": null}`, "rule gate-input drop 22 entering yard; rule gate-input drop 22 from gate,127.0.0.0/8,::1 to gate,127.0.0.0/8,::1", ""},
		{meta("pkttype", `"broadcast"`) + `, {"drop": null}`, "", ""},
		{meta("pkttype", `"unicast"`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22", ""},
		{meta("pkttype", `{"set": ["broadcast", "multicast"]}`) + `, {"drop": null}`, "", ""},
		{meta("pkttype", `"host"`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22", ""},
		{meta("protocol", `{"set": ["arp", "vlan"]}`) + `, {"drop": null}`, "", ""},
		{meta("protocol", `{"set": ["arp", "ip6"]}`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22 from ::/0 to ::/0", ""},
		{meta("l4proto", `{"range": [6, 17]}`) + ", " + match(`{"payload": {"protocol": "th", "field": "dport"}}`, "53") + `, {"drop": null}`, "rule gate-input drop 53/tcp+udp", ""},
		{meta("l4proto", `{"range": [7, 20]}`) + `, {"drop": null}`, "rule gate-input drop any/udp", ""},
		{meta("l4proto", `{"range": ["tcp", "udp"]}`) + `, {"drop": null}`, "rule gate-input unknown any", "protocols"},
		{flags("in", `"syn"`) + `, {"drop": null}`, "rule gate-input drop any/tcp", ""},
		{flags("in", `["syn", "ack"]`) + `, {"drop": null}`, "rule gate-input drop any/tcp", ""},
		{flags("==", `{"set": ["ack", {"|": ["syn", "ack"]}]}`) + `, {"drop": null}`, "", ""},
		{flags("!=", `"syn"`) + `, {"drop": null}`, "", ""},
		{port + `, {"notrack": null}`, "rule gate-input unknown 22", "notrack"},
		{port + `, {"mangle": {"key": {"payload": {"protocol": "ip", "field": "daddr"}}, "value": "10.0.0.9"}}`, "rule gate-input unknown 22 from 0.0.0.0/0 to 0.0.0.0/0", "is rewritten"},
		{port + `, {"mangle": {"key": {"meta": {"key": "mark"}}, "value": 1}}`, "", ""},
		{`{"match": {"op": "!=", "left": {"payload": {"protocol": "ip6", "field": "saddr"}}, "right": {"set": []}}}, ` + port + `, {"drop": null}`, "rule gate-input drop 22 from ::/0", ""},
		{port + `, {"xt": null}`, "rule gate-input unknown 22", "older tool"},
		{port + `, {"xt": {"type": "target", "name": "REJECT"}}`, "rule gate-input unknown 22", "older tool REJECT"},
		{port + `, {"queue": {"num": 3}}`, "rule gate-input unknown 22", "queue"},
		{port + `, {"set": {"op": "add", "elem": {"payload": {"protocol": "ip", "field": "saddr"}}, "set": "@seen", "stmt": [{"limit": {"rate": 9, "per": "minute"}}]}}, {"drop": null}`, "rule gate-input unknown 22 from 0.0.0.0/0 to 0.0.0.0/0", "rate or a count"},
		{meta("mark", "7") + ", " + port + `, {"drop": null}`, "rule gate-input unknown 22", "meta mark"},
		{match(`{"ct": {"key": "state"}}`, `"new"`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22", ""},
		{match(`{"ct": {"key": "state"}}`, `["established", "related"]`) + `, {"accept": null}`, "", ""},
		{match(`{"payload": {"protocol": "ip", "field": "saddr"}}`, `{"prefix": {"addr": "10.0.0.0", "len": 24}}`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22 from yard", ""},
		{match(`{"payload": {"protocol": "ip", "field": "saddr"}}`, `{"range": ["10.0.0.4", "10.0.0.7"]}`) + ", " + port + `, {"drop": null}`, "rule gate-input drop 22 from 10.0.0.4/30", ""},
		{match(`{"payload": {"protocol": "ip", "field": "ttl"}}`, "1") + ", " + port + `, {"drop": null}`, "rule gate-input unknown 22", "ip ttl"},
		{port + `, {"reject": {"type": "tcp reset"}}`, "rule gate-input refuse 22", ""},
		{port + `, {"counter": {"packets": 1, "bytes": 2}}, {"drop": null}`, "rule gate-input drop 22", ""},
		{port + `, {"limit": {"rate": 3, "per": "minute"}}, {"drop": null}`, "rule gate-input unknown 22", "limit"},
	} {
		text := fmt.Sprintf(`{"nftables": [
{"table": {"family": "inet", "name": "filter"}},
{"chain": {"family": "inet", "table": "filter", "name": "input", "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}},
{"rule": {"family": "inet", "table": "filter", "chain": "input", "expr": [%s]}},
{"rule": {"family": "inet", "table": "filter", "chain": "input", "expr": [%s]}}
]}`, match(`{"ct": {"key": "state"}}`, `"established"`)+`, {"accept": null}`, c.expr)
		rs, faults := ReadJSON("f", text)
		got, left := readAs(t, rs, faults)
		if strings.Join(got, "; ") != c.want || !strings.Contains(left, c.left) || c.left == "" && left != "" {
			t.Errorf("%s\nis %q, left %q\nwant %q, %q", c.expr, got, left, c.want, c.left)
		}
	}
}

// TestDottedMasks: a mask is ones and then zeros.
func TestDottedMasks(t *testing.T) {
	for _, c := range []struct {
		addr, mask, want string
	}{
		{"10.0.0.0", "255.255.255.0", "10.0.0.0/24"},
		{"10.1.2.3", "255.0.0.0", "10.0.0.0/8"},
		{"10.1.2.3", "255.255.255.255", "10.1.2.3/32"},
		{"10.1.2.3", "0.0.0.0", "0.0.0.0/0"},
		{"10.1.2.128", "255.255.255.192", "10.1.2.128/26"},
		{"10.0.0.0", "255.0.255.0", ""},
		{"10.0.0.0", "0.0.0.255", ""},
		{"10.0.0.0", "24", ""},
		{"::1", "255.0.0.0", ""},
		{"10.0.0.0", "ffff::", ""},
	} {
		p, ok := dotted(c.addr, c.mask)
		if ok != (c.want != "") || ok && p.String() != c.want {
			t.Errorf("%s/%s: %s %v, want %s", c.addr, c.mask, p, ok, c.want)
		}
	}
}

// TestStates reads what a chain does with flows that are known, and with what is of none: one line ahead of the established one takes
// no state away, wherever that one stands.
func TestStates(t *testing.T) {
	state := func(word, verdict string) string {
		return fmt.Sprintf(`{"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": %q}}, {%q: null}`, word, verdict)
	}
	drop := `{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 23}}, {"drop": null}`
	behind := `{"match": {"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "eth1"}}, `
	for _, c := range []struct {
		rules []string
		want  string
	}{
		{[]string{state("established", "accept")}, "otherwise drop"},
		{[]string{drop, state("established", "accept")}, "otherwise drop"},
		{[]string{behind + state("established", "accept")}, "otherwise drop"},
		{[]string{`{"jump": {"target": "known"}}`}, "otherwise drop"},
		{[]string{drop}, "otherwise drop stateless"},
		{[]string{state("invalid", "drop"), state("established", "accept")}, "otherwise drop strict"},
		{[]string{state("established", "accept"), state("invalid", "drop")}, "otherwise drop strict"},
		{[]string{behind + state("invalid", "drop"), state("established", "accept")}, "otherwise drop"},
	} {
		text := `{"nftables": [{"table": {"family": "inet", "name": "filter"}},
{"chain": {"family": "inet", "table": "filter", "name": "input", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
{"chain": {"family": "inet", "table": "filter", "name": "known"}},
{"rule": {"family": "inet", "table": "filter", "chain": "known", "expr": [` + state("established", "accept") + `]}}`
		for _, rule := range c.rules {
			text += `,
{"rule": {"family": "inet", "table": "filter", "chain": "input", "expr": [` + rule + `]}}`
		}
		rs, faults := ReadJSON("f", text+"]}")
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		got := strings.Join(intake.Compare(parsed(t, around), gate.Reading(rs, parsed(t, around))).Lines(), "\n")
		got, _, _ = strings.Cut(got, "\n")
		if strings.TrimSuffix(got, " loopback-too") != "+ filter gate-input on gate input "+c.want && strings.Replace(got, " loopback-too", "", 1) != "+ filter gate-input on gate input "+c.want {
			t.Errorf("%v\nis %s\nwant %s", c.rules, got, c.want)
		}
	}
}

// TestNotInForce: what a listing has and does not do, or does where it is not read, is named; nothing of it is open or shut.
func TestNotInForce(t *testing.T) {
	const text = `{"nftables": [{"table": {"family": "inet", "name": "asleep", "flags": ["dormant"]}},
{"chain": {"family": "inet", "table": "asleep", "name": "input", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
{"table": {"family": "netdev", "name": "wire"}},
{"chain": {"family": "netdev", "table": "wire", "name": "guard", "dev": ["eth0", "eth1"], "type": "filter", "hook": "ingress", "prio": 0, "policy": "accept"}},
{"rule": {"family": "netdev", "table": "wire", "chain": "guard", "expr": [{"drop": null}]}}
]}`
	rs, faults := ReadJSON("f", text)
	got, left := readAs(t, rs, faults)
	if strings.Join(got, "; ") != "rule guard unknown any" || !strings.Contains(left, "dormant") || !strings.Contains(left, "ingress is not read") {
		t.Errorf("%q, left %q", got, left)
	}
}
