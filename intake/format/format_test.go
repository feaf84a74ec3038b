package format_test

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"unicode"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/intake"
	"steady-compass/intake/format"
	"steady-compass/intake/machine"
)

// samples are texts of each format, for the fuzzer to start from.
var samples = []struct{ word, text string }{
	{"zone", "$ORIGIN a.example.\n$TTL 5m\n@ SOA ns x 1 2 3 4 5\n@ NS ns\nns A 192.0.2.1\n$INCLUDE b\nw CNAME ns\nt TXT \"\\027[31m\" x\n_s._tcp SRV 1 2 3 ns\n"},
	{"hosts", "127.0.0.1 localhost plates.example\n2001:db8::1 a b # c\n192.0.2.7 \x1b[2J\n"},
	{"estate", "network lan 10.1.0.0/24\nhost gate\naddress gate 10.1.0.1 lan\nforward gate 80 to 10.1.0.2\n"},
	{"csv", "router,bind,to,note\ngate,80,10.1.0.2:8080,'=1+1\n"},
	{"csv", "host;addr;network\ngate;10.1.0.9;lan\n"},
	{"machine", (&machine.Account{Host: "gate"}).Text() + "network lan 10.1.0.0/24\nlisten gate 22 as sshd\n"},
	{"sockets", "Netid State Recv-Q Send-Q Local Peer Process\ntcp LISTEN 0 128 0.0.0.0%eth0:22 0.0.0.0:* users:((\"ss\x1bhd\",pid=1,fd=3))\nudp UNCONN 0 0 [::]:53 [::]:*\n"},
	{"sockets", "Active Connections\n\n  Proto  Local Address  Foreign Address  State\n  TCP    0.0.0.0:135    0.0.0.0:0        LISTENING\n"},
	{"sockets", "USER COMMAND PID FD PROTO LOCAL ADDRESS FOREIGN ADDRESS\nroot sshd 1 3 tcp4 *:22 *:*\n"},
	{"ip", `[{"ifname":"eth0","addr_info":[{"family":"inet","local":"10.1.0.7","prefixlen":24}]},{"dst":"default","gateway":"10.1.0.1","dev":"eth0"},{"dst":"10.9.0.0/16","type":"blackhole"}]`},
	{"compose", "name: p\nservices:\n  web:\n    image: a/b:1\n    ports: ['80:8080', '127.0.0.1:9000-9002:9000-9002/udp']\n    networks: {front: {ipv4_address: 172.20.0.5}}\n    extra_hosts: ['host.docker.internal:host-gateway']\nnetworks: {front: {ipam: {config: [{subnet: 172.20.0.0/24}]}}}\n"},
	{"inspect", `[{"Name":"/web","Config":{"Hostname":"w","ExposedPorts":{"80/tcp":{}}},"HostConfig":{"PortBindings":{"80/tcp":[{"HostIp":"","HostPort":"8080"}]}},"NetworkSettings":{"Networks":{"n":{"IPAddress":"172.20.0.2"}}}},{"Name":"n","Driver":"bridge","IPAM":{"Config":[{"Subnet":"172.20.0.0/24"}]}}]`},
	{"nft", `{"nftables":[{"table":{"family":"inet","name":"f"}},{"chain":{"family":"inet","table":"f","name":"i","type":"filter","hook":"input","prio":0,"policy":"drop"}},{"rule":{"family":"inet","table":"f","chain":"i","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":{"set":[22,{"range":[80,90]}]}}},{"accept":null}]}}]}`},
	{"save", "*filter\n:INPUT DROP [0:0]\n-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A INPUT -s 10.1.0.0/24 -p tcp -m multiport --dports 22,80:90 -j ACCEPT\nCOMMIT\n*nat\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -p tcp --dport 80 -j DNAT --to-destination 10.1.0.2:8080\nCOMMIT\n"},
}

// known is an estate that files are read against.
func known(t testing.TB) *estate.Estate {
	e, faults := notation.Parse("network lan 10.1.0.0/24\nhost gate\naddress gate 10.1.0.1 lan\nforward gate 80 to 10.1.0.2\ndns t.a.example A 192.0.2.1\n")
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

// acting says whether a terminal or a page would act upon something in a text instead of showing it.
func acting(text string) bool {
	return strings.ContainsFunc(text, func(r rune) bool {
		return unicode.IsControl(r) && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
	})
}

func held(t testing.TB, r intake.Reading, e *estate.Estate) {
	t.Helper()
	records := slices.Clone(r.Records)
	for _, sw := range r.Instead {
		records = append(records, sw.New)
	}
	for _, rec := range records {
		line := estate.Line(rec)
		p, _, err := notation.ParseLine(line)
		if err != nil {
			t.Fatalf("%q is taken over, and cannot be read: %v", line, err)
		}
		if again := estate.Line(p.Record); again != line {
			t.Fatalf("%q is read as %q", line, again)
		}
		if acting(line) {
			t.Fatalf("%q would act on what shows it", line)
		}
	}
	for _, f := range r.Faults {
		if f.Line < 1 || f.What == "" || acting(f.String()) {
			t.Fatalf("a fault without a place, or not to be shown: %q", f)
		}
	}
	for _, sentence := range r.Left {
		if acting(sentence) {
			t.Fatalf("%q would act on what shows it", sentence)
		}
	}
	if len(r.Faults) > intake.MostFaults+1 {
		t.Fatalf("%d faults are listed", len(r.Faults))
	}
	intake.Compare(e, r)
}

// FuzzRead reads a text as each format: what is taken over is what the notation can say, and what is said of it can be shown.
func FuzzRead(f *testing.F) {
	for _, s := range samples {
		f.Add(slices.Index(format.Words, s.word), s.text)
	}
	f.Fuzz(func(t *testing.T, n int, text string) {
		if n < 0 || n >= len(format.Words) {
			t.Skip()
		}
		e := known(t)
		r, err := format.Read(format.Source{
			Format: format.Words[n], Texts: []intake.File{{Name: "f\x1b", Text: text}}, Files: fstest.MapFS{"f\x1b": {Data: []byte(text)}, "b": {Data: []byte("x A 192.0.2.2\n")}},
			Place: "gate", Project: "p",
		}, e)
		if err != nil {
			if acting(err.Error()) {
				t.Fatalf("%q would act on what shows it", err)
			}
			return
		}
		held(t, r, e)
	})
}

// TestMany gives a great many lines that are no good: the first are listed, and that there are more.
func TestMany(t *testing.T) {
	for _, test := range []struct{ word, head, line string }{
		{"hosts", "", "nonsense here\n"},
		{"estate", "", "nonsense here\n"},
		{"csv", "router,bind,to\n", "gate,nonsense,10.1.0.1\n"},
		{"save", "*filter\n", "-A NONE -j\n"},
		{"sockets", "Netid State\n", "tcp LISTEN 0 1 nonsense *:*\n"},
	} {
		r, err := format.Read(format.Source{Format: test.word, Place: "gate", Texts: []intake.File{{Name: "f", Text: test.head + strings.Repeat(test.line, 4000)}}}, known(t))
		if err != nil {
			t.Fatal(err)
		}
		if len(r.Faults) != intake.MostFaults+1 {
			t.Fatalf("%s: %d faults", test.word, len(r.Faults))
		}
		if last := r.Faults[intake.MostFaults]; !strings.Contains(last.What, "not") || last.Line < intake.MostFaults {
			t.Errorf("%s: the last of them: %v", test.word, last)
		}
	}
	text := strings.Repeat("192.0.2.1 a.example\n", 3000)
	if _, err := format.Read(format.Source{Format: "hosts", Place: "gate", Most: 2000, Texts: []intake.File{{Name: "f", Text: text}}}, known(t)); err == nil || !strings.Contains(err.Error(), "3000 records; expected at most 2000") {
		t.Errorf("more than may be: %v", err)
	}
}
