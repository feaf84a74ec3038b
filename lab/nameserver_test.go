package lab

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"steady-compass/core/estate"
	"steady-compass/core/names"
	"steady-compass/core/notation"
	"steady-compass/fetch"
	"steady-compass/intake"
	"steady-compass/intake/zonefile"
)

var (
	judgeZones     = flag.Int("judge.zones", 40, "how many random zones the name server is asked about")
	judgeQuestions = flag.Int("judge.questions", 70, "how many questions a zone")
	judgeSeed      = flag.Uint64("judge.seed", 1, "the seed of the random zones")
)

// nameServer is an authoritative server from the system's packages, on loopback.
type nameServer struct {
	t       *testing.T
	address string
	client  dns.Client
}

// serveZones starts a name server with zone files, by zone; without NSD on the machine the test is skipped.
func serveZones(t *testing.T, zones map[string]string, more string) *nameServer {
	t.Helper()
	nsd, err := exec.LookPath("nsd")
	if err != nil {
		t.Skip("no name server on this machine: install Debian's package nsd")
	}
	dir := t.TempDir()
	port := freePort(t)
	var config strings.Builder
	fmt.Fprintf(&config, "server:\n server-count: 1\n ip-address: 127.0.0.1@%d\n username: \"\"\n zonesdir: %q\n database: \"\"\n pidfile: \"\"\n xfrdfile: \"\"\n zonelistfile: %q\n logfile: %q\n rrl-ratelimit: 0\nremote-control:\n control-enable: no\n%s",
		port, dir, filepath.Join(dir, "zone.list"), filepath.Join(dir, "log"), more)
	for zone, text := range zones {
		file := filepath.Join(dir, zone+".zone")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&config, "zone:\n name: %s\n zonefile: %q\n provide-xfr: 127.0.0.1 NOKEY\n", zone, file)
		if strings.Contains(more, "key:") {
			fmt.Fprintf(&config, " provide-xfr: 127.0.0.1 transfer.\n")
		}
		said, err := exec.Command("nsd-checkzone", zone, file).CombinedOutput()
		if err != nil || strings.TrimSpace(string(said)) != "zone "+zone+" is ok" {
			t.Fatalf("%s is not loaded without a warning: %v %s\n%s", zone, err, said, text)
		}
	}
	path := filepath.Join(dir, "nsd.conf")
	if err := os.WriteFile(path, []byte(config.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(nsd, "-d", "-c", path)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		said, _ := os.ReadFile(filepath.Join(dir, "log"))
		for line := range strings.Lines(string(said)) {
			if strings.Contains(line, "warning") && !strings.Contains(line, "receive buffer") && !strings.Contains(line, "shutting down") {
				t.Errorf("the name server warns: %s", line)
			}
		}
	})
	s := &nameServer{t: t, address: fmt.Sprintf("127.0.0.1:%d", port), client: dns.Client{Timeout: 3 * time.Second}}
	for range 100 {
		m := new(dns.Msg).SetQuestion("up.invalid.", dns.TypeA)
		if _, _, err := s.client.Exchange(m, s.address); err == nil {
			return s
		}
		time.Sleep(50 * time.Millisecond)
	}
	said, _ := os.ReadFile(filepath.Join(dir, "log"))
	t.Fatalf("the name server does not answer: %s", said)
	return nil
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port
}

// answer is what both sides say, in one form.
type answer struct {
	code   string
	chain  string
	values string
}

// ask puts a question, and asks on where an alias leads elsewhere, as a resolver does.
func (s *nameServer) ask(name, qtype string) answer {
	s.t.Helper()
	chain := []string{name}
	for {
		m := new(dns.Msg).SetQuestion(dns.Fqdn(chain[len(chain)-1]), dns.StringToType[qtype])
		m.RecursionDesired = false
		m.SetEdns0(4096, false)
		r, _, err := s.client.Exchange(m, s.address)
		if err == nil && r.Truncated {
			tcp := dns.Client{Net: "tcp", Timeout: 3 * time.Second}
			r, _, err = tcp.Exchange(m, s.address)
		}
		if err != nil {
			s.t.Fatalf("%s %s: %v", name, qtype, err)
		}
		say := func(code string) answer { return answer{code, strings.Join(chain, " "), ""} }
		switch {
		case r.Rcode == dns.RcodeRefused:
			return say("outside")
		case r.Rcode == dns.RcodeYXDomain:
			return say("YXDOMAIN")
		case len(r.Answer) == 0 && !r.Authoritative:
			return say("outside") // a referral
		}
		var values []string
		before := len(chain)
		for _, rr := range r.Answer {
			owner := strings.ToLower(strings.TrimSuffix(rr.Header().Name, "."))
			if owner != chain[len(chain)-1] {
				continue
			}
			if c, ok := rr.(*dns.CNAME); ok && qtype != "CNAME" {
				next := strings.ToLower(strings.TrimSuffix(c.Target, "."))
				loop := slices.Contains(chain, next)
				chain = append(chain, next)
				if loop || len(chain) > 32 {
					return say("SERVFAIL")
				}
			} else if rr.Header().Rrtype == dns.StringToType[qtype] {
				if values = append(values, intake.Value(rr)); values[0] == "nobody.invalid." {
					values = nil // the server of a zone that has none recorded
				}
			}
		}
		if len(values) > 0 {
			slices.Sort(values)
			return answer{"NOERROR", strings.Join(chain, " "), strings.Join(values, " ")}
		}
		if len(chain) == before {
			return say(dns.RcodeToString[r.Rcode])
		}
	}
}

// engineSays is the engine's answer in the same form.
func engineSays(n *names.Names, name, qtype string, asker names.Asker) answer {
	a := n.Ask(name, qtype, asker)
	var values []string
	for _, v := range a.Values {
		values = append(values, intake.RData(&estate.DNS{Type: qtype, Value: v}))
	}
	slices.Sort(values)
	return answer{a.Code.String(), strings.Join(a.Chain, " "), strings.Join(values, " ")}
}

// zoneMaker makes random zones out of few labels, so that names meet.
type zoneMaker struct {
	r     *rand.Rand
	zones []string
	out   strings.Builder
}

var labels = []string{"a", "b", "c", "*", "d"}

func (z *zoneMaker) name(zone string) string {
	name := zone
	for range z.r.IntN(4) {
		name = labels[z.r.IntN(len(labels))] + "." + name
	}
	return name
}

// target is a name in the zone, in another, or in none.
func (z *zoneMaker) target(zone string) string {
	switch z.r.IntN(8) {
	case 0:
		return "x." + z.name("elsewhere.invalid")
	case 1, 2:
		return z.name(z.zones[z.r.IntN(len(z.zones))])
	}
	return z.name(zone)
}

func (z *zoneMaker) zone(zone, audience string) {
	fmt.Fprintf(&z.out, "zone %s ttl %d%s\n", zone, 60+z.r.IntN(9)*60, audience)
	used := map[string]map[string]bool{zone: {"NS": true}}
	add := func(owner, typ, value string) {
		if used[owner] == nil {
			used[owner] = map[string]bool{}
		}
		used[owner][typ] = true
		if key := owner + typ + value; !used[owner][key] {
			used[owner][key] = true
			fmt.Fprintf(&z.out, "dns %s %s %s%s\n", owner, typ, value, audience)
		}
	}
	occupied := func(owner string) bool { // in another zone, or below a DNAME, where nothing stands
		for _, other := range z.zones {
			if len(other) > len(zone) && names.Under(owner, other) {
				return true
			}
		}
		for other, types := range used {
			if types["DNAME"] && names.Under(owner, other) {
				return true
			}
		}
		return false
	}
	for range 3 + z.r.IntN(14) {
		owner := z.name(zone)
		if used[owner]["CNAME"] || occupied(owner) {
			continue
		}
		wild := strings.Contains(owner, "*")
		switch k := z.r.IntN(20); {
		case k < 7:
			for range 1 + z.r.IntN(3) {
				add(owner, "A", fmt.Sprintf("192.0.2.%d", z.r.IntN(250)))
			}
		case k < 9:
			add(owner, "AAAA", fmt.Sprintf("2001:db8::%x", 1+z.r.IntN(999)))
		case k < 11:
			add(owner, "TXT", fmt.Sprintf("%q", "t"+owner))
		case k < 13:
			add(owner, "MX", fmt.Sprintf("%d %s.", z.r.IntN(3), z.target(zone)))
		case k < 17 && len(used[owner]) == 0:
			add(owner, "CNAME", z.target(zone))
		case k < 18 && !wild && len(used[owner]) == 0:
			below := false
			for other := range used {
				below = below || other != owner && names.Under(other, owner)
			}
			if !below {
				add(owner, "DNAME", z.target(zone))
			}
		case k < 19 && !wild && len(used[owner]) == 0:
			add(owner, "NS", "ns.elsewhere.invalid")
		}
	}
}

// TestNameServer holds every answer against a real authoritative server's: its code, its chain of aliases, its
// values; for everybody and for a network that has copies of some zones and records of its own in others.
func TestNameServer(t *testing.T) {
	z := &zoneMaker{r: rand.New(rand.NewPCG(*judgeSeed, 0))}
	for i := range *judgeZones {
		z.zones = append(z.zones, fmt.Sprintf("z%d.test", i))
		if i%7 == 0 {
			z.zones = append(z.zones, fmt.Sprintf("%s.z%d.test", labels[z.r.IntN(3)], i))
		}
	}
	for i, zone := range z.zones {
		z.zone(zone, "")
		if i%5 == 0 {
			z.zone(zone, " for yard")
		}
	}
	everybody, yard := names.Asker{Levels: [][]string{{"internet"}}}, names.Asker{Levels: [][]string{{"yard"}}}
	text := z.out.String()
	n := namesOf(t, text)
	for i, zone := range z.zones { // where the yard has no copy, a name of its own here and there
		if owner := z.name(zone); i%5 != 0 && i%3 == 0 {
			if a := n.Ask(owner, "A", yard); len(a.Values) > 0 && len(a.Chain) == 1 && !a.Wildcard {
				text += fmt.Sprintf("dns %s A 10.0.0.%d for yard\n", owner, i%250)
			}
		}
	}
	n = namesOf(t, text)
	asked, differ := 0, 0
	for _, view := range []struct {
		name  string
		asker names.Asker
	}{{"everybody", everybody}, {"the yard", yard}} {
		files := map[string]string{}
		for _, zone := range z.zones {
			file, left, err := zonefile.Write(n, zone, view.asker)
			if err != nil || len(left) > 0 {
				t.Fatal(err, left)
			}
			files[zone] = file
		}
		server := serveZones(t, files, "")
		for _, zone := range z.zones {
			for range *judgeQuestions {
				name := z.name(zone)
				if z.r.IntN(2) == 0 {
					name = strings.ReplaceAll(name, "*", "q")
				}
				qtype := []string{"A", "A", "A", "AAAA", "AAAA", "TXT", "MX", "CNAME", "NS", "DNAME"}[z.r.IntN(10)]
				asked++
				got, want := engineSays(n, name, qtype, view.asker), server.ask(name, qtype)
				if got != want {
					if differ++; differ <= 20 {
						t.Errorf("%s asks %s %s\nengine %v\nserver %v\n%s", view.name, name, qtype, got, want, files[zone])
					}
				}
			}
		}
	}
	t.Logf("%d questions over %d zones, each for two askers; %d answers differ", asked, len(z.zones), differ)
}

func namesOf(t *testing.T, text string) *names.Names {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return names.Compile(e, func(string, bool) ([]netip.Addr, bool) { return nil, false })
}

// TestTransfer takes a zone from a name server, signed with a key and not, and what comes is what was written.
func TestTransfer(t *testing.T) {
	const text = `
zone a.test ttl 1h
dns a.test SOA ns.a.test. root.a.test. 7 7200 3600 1209600 300
dns a.test NS ns.a.test
dns ns.a.test A 192.0.2.1
dns a.test MX 10 ns.a.test. ttl 5m
dns *.lab.a.test TXT "one; two" "three"
dns www.a.test CNAME a.test
dns odd.a.test TYPE65534 \# 2 0a0b
`
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	file, _, err := zonefile.Write(namesOf(t, text), "a.test", names.Asker{Levels: [][]string{{"internet"}}})
	if err != nil {
		t.Fatal(err)
	}
	const secret = "c3RlYWR5IGNvbXBhc3Mgc3RlYWR5IGNvbXBhc3M="
	server := serveZones(t, map[string]string{"a.test": file}, "key:\n name: transfer.\n algorithm: hmac-sha256\n secret: \""+secret+"\"\n")
	for _, c := range []struct{ key, want string }{
		{"", ""},
		{"transfer:hmac-sha256:" + secret, ""},
		{"transfer:" + secret, ""},
		{"transfer:hmac-sha256:d3Jvbmc=", "key"},
		{"stranger:hmac-sha256:" + secret, "key"},
	} {
		var key *fetch.Key
		if c.key != "" {
			k, err := fetch.ParseKey(c.key)
			if err != nil {
				t.Fatal(err)
			}
			key = &k
		}
		records, err := fetch.Transfer(t.Context(), "a.test", server.address, key)
		if c.want != "" {
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, want a word about the %s", c.key, err, c.want)
			}
			continue
		}
		if err != nil {
			t.Fatalf("%q: %v", c.key, err)
		}
		p := intake.Compare(e, zonefile.FromRecords("a.test", records, nil, e))
		if len(p.Add)+len(p.Change)+len(p.Gone) > 0 || p.Leave != 8 {
			t.Errorf("%q: %d to add, %d to change, %d gone, %d left", c.key, len(p.Add), len(p.Change), len(p.Gone), p.Leave)
		}
	}
	if _, err := fetch.Transfer(t.Context(), "b.test", server.address, nil); err == nil || !strings.Contains(err.Error(), "gives no transfer of b.test") {
		t.Errorf("a zone that is not there: %v", err)
	}
}
