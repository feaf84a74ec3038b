package account_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/intake"
	"steady-compass/intake/account"
	"steady-compass/intake/format"
	"steady-compass/intake/machine"
)

const box = `steady-compass account 1
@ machine 
|system Linux
|name box.example.org
|root yes
|forwards
= ok
@ addresses 
|link lo up loopback
|link eth0 up -
|link eth1 up -
|link br0 up -
|addr lo 127.0.0.1/8 -
|addr eth0 10.40.8.10/24 -
|addr eth0 fd00:40:8::10/64 -
|addr eth0 fd00:40:8::9999/64 -,dynamic,temporary
|addr eth1 10.50.0.1/24 -
|addr br0 172.20.0.1/24 -
= ok
@ routes 
|route default 10.40.8.1
|route 10.9.0.0/16 -
= ok
@ sockets 
|sock tcp 0.0.0.0:22 sshd
|sock tcp [::]:22 sshd
|sock tcp 127.0.0.53%lo:53 resolved
|sock udp *:123 ntpd
|sock tcp *:9100 -
= ok
@ hosts /etc/hosts
|127.0.0.1 localhost
|10.40.8.20 store.lan store
= ok
@ nft 
= no right
@ save iptables-save
|*filter
|:INPUT DROP
|-A INPUT -i eth0 -p tcp -m tcp --dport 22 -j ACCEPT
|-A INPUT -p tcp -m string -j ACCEPT --withheld
|COMMIT
= ok
@ containers docker
|container c1 /shop running 7 dock p shop
|bind {"80/tcp":[{"HostIp":"","HostPort":"8080"}]}
|port {"80/tcp":[{"HostIp":"0.0.0.0","HostPort":"8080"}]}
|leg dock n1 172.20.0.5 - shop store
|container c2 /idle exited 0 dock p idle
|bind {}
|port {}
|leg dock n1 - - idle
|container c3 /deep running 9 dock p deep
|bind {}
|port {}
|leg dock n1 - - deep
= ok
@ inside c1
|sock tcp *:80 shopd
|sock udp 127.0.0.11:53 -
= ok
@ inside c3
= no right
@ networks docker
|network n1 dock bridge false - 172.20.0.0/24
= ok
@ done 11
`

// taken is an estate with an account taken over, what is said of it, and what it finds gone.
func taken(t *testing.T, text, place string, e *estate.Estate) (lines string, left, faults, gone []string) {
	t.Helper()
	src := format.Source{Format: "account", Texts: []intake.File{{Name: "box.account", Text: text}}, Place: place}
	parts, err := src.Parts()
	if err != nil {
		return "", nil, []string{err.Error()}, nil
	}
	for _, part := range parts {
		r, err := format.Read(part, e)
		if err != nil {
			return "", left, append(faults, err.Error()), gone
		}
		for _, f := range r.Faults {
			faults = append(faults, f.String())
		}
		left = append(left, r.Left...)
		p := intake.Compare(e, r)
		for _, g := range p.Gone {
			gone = append(gone, estate.Line(g))
		}
		if e, err = e.Apply(p.Edit(false)); err != nil {
			t.Fatal(err)
		}
	}
	return notation.Print(e), left, faults, gone
}

// TestTakenOver takes an account over: addresses, routes, sockets, hosts file, containers, and the packet filter by its interfaces' networks.
func TestTakenOver(t *testing.T) {
	got, left, faults, _ := taken(t, box, "", notationtest.Parse(t, "network dmz 10.40.8.0/24\n"))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	got = strings.Join(strings.Fields(got), " ")
	for _, want := range []string{
		"host box router", "address box 10.40.8.10 dmz", "address box 10.50.0.1 box-eth1", "route box default via 10.40.8.1", "route box 10.9.0.0/16 via nowhere",
		"listen box 22 as sshd", "listen box 127.0.0.53:53 as resolved", "listen box 123/udp as ntpd", "listen box 9100 as port-9100",
		"name store.lan 10.40.8.20 on box", "network dock 172.20.0.0/24 on box", "container box/shop in dock=172.20.0.5 alias store", "map box/shop 8080 to 80", "listen box/shop 80 as shopd",
		"on box input otherwise drop", "pass 22 entering dmz",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("not taken over: %s\n%s", want, got)
		}
	}
	if strings.Contains(got, "127.0.0.11") {
		t.Errorf("the engine's own resolver is taken over\n%s", got)
	}
	if strings.Contains(got, "9999") || strings.Contains(got, "172.20.0.1 ") {
		t.Errorf("a temporary address, or a container network's own, is taken over\n%s", got)
	}
	if !slices.ContainsFunc(left, func(l string) bool { return strings.Contains(l, "Not readable without more rights: nft") }) {
		t.Errorf("left out: %q", left)
	}
	if !slices.ContainsFunc(left, func(l string) bool { return strings.Contains(l, "these containers is not in the account: box/deep.") }) {
		t.Errorf("of containers that nobody looked into is said: %q", left)
	}
	if !strings.Contains(got, "unknown") {
		t.Errorf("a condition that was withheld is taken for none\n%s", got)
	}
}

// TestRulesetOnce: what both formats of the packet filter list is taken once, and the rest of each.
func TestRulesetOnce(t *testing.T) {
	const both = `|{"nftables": [{"metainfo": {"json_schema_version": 1}}, {"table": {"family": "ip", "name": "filter", "handle": 1}}, {"chain": {"family": "ip", "table": "filter", "name": "INPUT", "handle": 1, "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}}, {"rule": {"family": "ip", "table": "filter", "chain": "INPUT", "handle": 2, "expr": [{"accept": null}]}}, {"table": {"family": "inet", "name": "own", "handle": 2}}, {"chain": {"family": "inet", "table": "own", "name": "in", "handle": 1, "type": "filter", "hook": "input", "prio": 10, "policy": "drop"}}, {"rule": {"family": "inet", "table": "own", "chain": "in", "handle": 2, "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 9100}}, {"accept": null}]}}]}`
	text := strings.Replace(box, "@ nft \n= no right", "@ nft \n"+both+"\n= ok", 1)
	got, left, faults, _ := taken(t, text, "", notationtest.Parse(t, "network dmz 10.40.8.0/24\n"))
	got = strings.Join(strings.Fields(got), " ")
	if len(faults) > 0 || strings.Count(got, "filter box-") != 2 || !strings.Contains(got, "pass 9100") || !strings.Contains(got, "pass 22 entering dmz") || strings.Contains(got, "pass any from any") {
		t.Errorf("%v %v\n%s", faults, left, got)
	}
	only := strings.Replace(text, `, {"table": {"family": "inet"`, `, {"table": {"family": "ip"`, 1)
	only = only[:strings.Index(only, `, {"table": {"family": "ip", "name": "own"`)] + "]}\n= ok" + only[strings.Index(only, "\n@ save"):]
	if got, _, faults, _ := taken(t, only, "", notationtest.Parse(t, "network dmz 10.40.8.0/24\n")); len(faults) > 0 || strings.Count(strings.Join(strings.Fields(got), " "), "filter box-") != 1 {
		t.Errorf("%v\n%s", faults, got)
	}
}

// TestServers takes over what a web server is told, with the certificate that it shows, where it runs; of one that does not, only that is said.
func TestServers(t *testing.T) {
	with := func(socket string) string {
		text := strings.Replace(box, "|sock tcp *:9100 -\n", "|sock tcp *:9100 -\n"+socket, 1)
		return strings.Replace(text, "@ done 11", "@ nginx /etc/nginx/nginx.conf\n|http {\n|include /etc/nginx/sites-enabled/*;\n|}\n= ok\n@ nginx /etc/nginx/sites-enabled/shop\n|server {\n|listen 80;\n|server_name shop.example;\n|location / {\n|proxy_pass http://127.0.0.1:8080;\n|}\n|}\n= ok\n@ done 13", 1)
	}
	got, left, faults, _ := taken(t, with("|sock tcp 0.0.0.0:80 nginx\n"), "", notationtest.Parse(t, "network dmz 10.40.8.0/24\n"))
	if got = strings.Join(strings.Fields(got), " "); len(faults) > 0 || !strings.Contains(got, "site nginx shop.example at 0.0.0.0:80 to http://127.0.0.1:8080") || strings.Count(got, "listen box 80 ")+strings.Count(got, "listen box 0.0.0.0:80 ") != 1 {
		t.Errorf("%v %v\n%s", faults, left, got)
	}
	got, left, faults, _ = taken(t, with(""), "", notationtest.Parse(t, "network dmz 10.40.8.0/24\n"))
	if len(faults) > 0 || strings.Contains(got, "shop.example") || !strings.Contains(strings.Join(left, "\n"), "so it does not run") {
		t.Errorf("it does not run: %v %v\n%s", faults, left, got)
	}
}

// TestOwn: an account that the program made of its machine stands before what the script says of it, and both are taken over.
func TestOwn(t *testing.T) {
	own := machine.Account{Host: "box"}
	machine.Add(&own, &estate.Host{Name: "box"})
	own.Networks([]machine.Interface{{Name: "eth0", Addresses: []machine.Leased{{Prefix: netip.MustParsePrefix("10.40.8.10/24")}}}}, true)
	more := "steady-compass account 1\n@ addresses \n|link eth0 up -\n|addr eth0 10.40.8.10/24 -\n= ok\n@ save iptables-save\n|*filter\n|:INPUT DROP\n|-A INPUT -i eth0 -p tcp -m tcp --dport 22 -j ACCEPT\n|COMMIT\n= ok\n@ done 2\n"
	text, err := account.Beside(own.Text(), more)
	if err != nil {
		t.Fatal(err)
	}
	got, _, faults, _ := taken(t, text, "", notationtest.Parse(t, ""))
	if got = strings.Join(strings.Fields(got), " "); len(faults) > 0 || !strings.Contains(got, "address box 10.40.8.10 box-eth0") || !strings.Contains(got, "pass 22 entering box-eth0") {
		t.Errorf("%v\n%s", faults, got)
	}
	if _, err := account.Beside(own.Text(), more[:40]); err == nil {
		t.Error("half of it is taken for all")
	}
}

// TestWhole: what a whole account does not have is gone; of one that was cut off nothing is, wherever that was.
func TestWhole(t *testing.T) {
	before := notationtest.Parse(t, "network dmz 10.40.8.0/24\nhost box\naddress box 10.40.8.77 dmz\nlisten box 8000 as old\nroute box 10.99.0.0/16 via 10.40.8.1\ncontainer box/gone\n")
	_, _, _, gone := taken(t, box, "", before)
	for _, want := range []string{"listen box 8000 as old", "route box 10.99.0.0/16 via 10.40.8.1", "container box/gone"} {
		if !slices.Contains(gone, want) {
			t.Errorf("%s is not gone; gone are %v", want, gone)
		}
	}
	for n := 0; n < len(box)-1; n += 3 {
		if _, _, _, gone := taken(t, box[:n], "box", before); len(gone) > 0 {
			t.Fatalf("cut off after %d bytes, and these are gone: %v\n%s", n, gone, box[:n])
		}
	}
	half := strings.Replace(box, "|sock udp *:123 ntpd\n|sock tcp *:9100 -\n= ok", "|sock udp *:123 ntpd\n= cut", 1)
	if _, _, _, gone := taken(t, half, "box", before); slices.Contains(gone, "listen box 8000 as old") || !slices.Contains(gone, "container box/gone") {
		t.Errorf("one section is cut off; gone are %v", gone)
	}
}

// TestGarbled says of what is no account where that is, and takes nothing to be gone.
func TestGarbled(t *testing.T) {
	for _, c := range []struct{ name, text, place, want string }{
		{"another text", "hello\nworld\n", "box", "it is no account"},
		{"a later kind", strings.Replace(box, "account 1", "account 2", 1), "box", "no account that is known here"},
		{"a line of nobody's", strings.Replace(box, "|route default 10.40.8.1", "route default 10.40.8.1", 1), "box", "box.account:21:1"},
		{"an address that is none", strings.Replace(box, "10.40.8.10/24", "10.40.8.310/24", 1), "box", "addr INTERFACE ADDRESS/LENGTH"},
		{"fewer sections", strings.Replace(box, "done 11", "done 12", 1), "box", "each section whole"},
		{"more behind it", box + "|x\n", "box", "more behind its end"},
		{"no name", strings.Replace(box, "|name box.example.org", "|name ???", 1), "", "does not say of which machine"},
	} {
		_, _, faults, gone := taken(t, c.text, c.place, notationtest.Parse(t, "host box\nlisten box 8000 as old\n"))
		if !strings.Contains(strings.Join(faults, "\n"), c.want) || len(gone) > 0 {
			t.Errorf("%s: %q, want %s; gone %v", c.name, faults, c.want, gone)
		}
	}
	if _, _, faults, _ := taken(t, "Welcome to box\n\n"+strings.ReplaceAll(box, "\n", "\r\n"), "", notationtest.Parse(t, "")); len(faults) > 0 {
		t.Errorf("a greeting before it: %v", faults)
	}
}

// FuzzRead: whatever comes, it is read without an end of the process, and of what has no end nothing is whole.
func FuzzRead(f *testing.F) {
	f.Add(box)
	f.Add(box[:len(box)/2])
	f.Add("steady-compass account 1\n@ sockets \n|sock tcp [::ffff:1.2.3.4%x]:70000 -\n= ok\n@ done 1\n")
	f.Fuzz(func(t *testing.T, text string) {
		a := account.Read("x", text, "box")
		if !strings.Contains(text, "@ done ") && len(a.Machine.Whole) > 0 {
			t.Errorf("%q has no end, and is the whole of %v", text, a.Machine.Whole)
		}
		for _, addrs := range a.Interfaces {
			if slices.ContainsFunc(addrs, func(a netip.Addr) bool { return !a.IsValid() }) {
				t.Errorf("%q has an address that is none", text)
			}
		}
	})
}
