package lab

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"steady-compass/collect"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/intake/machine"
)

var judgedSockets = flag.Int("judge.sockets", 12, "how many random sets of listeners are held against the kernel")

const yard = `network yard 10.40.0.0/24,fd00:40::/64
host box
host peer
address box 10.40.0.5 yard
address box 10.40.0.6 yard
address box fd00:40::5 yard
address peer 10.40.0.9 yard
address peer fd00:40::9 yard
`

// yardSpaces are the two machines of the yard.
func yardSpaces(t *testing.T) (box, peer *space) {
	t.Helper()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	var err error
	box, err = newSpace("box")
	must(err)
	t.Cleanup(box.close)
	peer, err = newSpace("peer")
	must(err)
	t.Cleanup(peer.close)
	must(join(box, "eth0", peer, "eth0"))
	for _, a := range []string{"10.40.0.5/24", "10.40.0.6/24", "fd00:40::5/64"} {
		must(box.hold("eth0", a))
	}
	for _, a := range []string{"10.40.0.9/24", "fd00:40::9/64"} {
		must(peer.hold("eth0", a))
	}
	return box, peer
}

var (
	bindings  = []string{"", "", "0.0.0.0:", "[::]:", "10.40.0.5:", "10.40.0.6:", "[fd00:40::5]:", "127.0.0.1:", "[::1]:", "127.0.0.2:"}
	addresses = []string{"10.40.0.5", "10.40.0.6", "fd00:40::5", "127.0.0.1", "::1", "127.0.0.2"}
)

// Listeners bound one after the other, without address or port reuse: the kernel refuses exactly those that the records
// call a clash, a flow gets exactly where they say, and collect gives back exactly what was made.
func TestSocketsAgainstTheKernel(t *testing.T) {
	needNamespaces(t)
	box, peer := yardSpaces(t)
	hosts := filepath.Join(t.TempDir(), "hosts")
	if err := os.WriteFile(hosts, []byte("127.0.0.1 localhost\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	clashes, tried, told := 0, 0, map[string]int{}
	for seed := range uint64(*judgedSockets) {
		r := rand.New(rand.NewPCG(seed, 99))
		base := uint16(7000 + 3*(seed%8000)) // fresh ports: connections that are over hold theirs for a while
		var held []string
		var sockets []*bound
		for i := range 4 + r.IntN(8) {
			proto := netset.TCP
			word := ""
			if r.IntN(3) == 0 {
				proto, word = netset.UDP, "/udp"
			}
			at := bindings[r.IntN(len(bindings))]
			port := base + uint16(r.IntN(3))
			line := fmt.Sprintf("listen box %s%d%s as s%d", at, port, word, i)
			e := parsedEstate(t, yard+strings.Join(append(slices.Clone(held), line), "\n"))
			clash := anyClash(e)
			addr := e.Of(estate.KindNamed("listen"))[len(held)].(*estate.Listen).Bind.Addr
			b, err := box.answer(addr, port, proto, fmt.Sprintf("s%d", i))
			refused := errors.Is(err, syscall.EADDRINUSE)
			if err != nil && !refused {
				t.Fatalf("%s: %v", line, err)
			}
			if refused != clash {
				t.Fatalf("seed %d: beside\n%s\nthe kernel refuses %s: %v; the records call it a clash: %v", seed, strings.Join(held, "\n"), line, refused, clash)
			}
			if refused {
				clashes++
				continue
			}
			held, sockets = append(held, line), append(sockets, b)
		}
		e := parsedEstate(t, yard+strings.Join(held, "\n"))
		tr := trace.New(model.Compile(e), "2026-11-25")
		for _, from := range []*space{peer, box} {
			var probes []*probe
			for _, a := range addresses {
				for port := base; port < base+3; port++ {
					for _, proto := range netset.Both.Each() {
						addr := netip.MustParseAddr(a)
						if from == peer && addr.IsLoopback() {
							continue
						}
						probes = append(probes, &probe{to: netip.AddrPortFrom(addr, port), proto: proto})
					}
				}
			}
			if err := from.tryAll(probes); err != nil {
				t.Fatal(err)
			}
			for _, p := range probes {
				tried++
				told[p.got]++
				if want, got := verdictOn(t, tr, from.name, p, func(path *trace.Path) string { return *path.Service }), strings.TrimSpace(p.got+" "+p.name); got != want {
					t.Errorf("seed %d: from %s to %s/%s the kernel: %s; the records: %s\n%s", seed, from.name, p.to, p.proto, got, want, strings.Join(held, "\n"))
				}
			}
		}
		var a machine.Account
		if err := box.do(func() (err error) {
			a, err = collect.Machine(context.Background(), collect.Options{Host: "box", Engine: "none", Hosts: hosts})
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if got, want := claims(a.Records), claims(e.All()); !slices.Equal(got, want) {
			t.Errorf("seed %d: collect gives\n%v\nmade were\n%v", seed, got, want)
		}
		var holds []string
		for _, rec := range a.Records {
			if l, ok := rec.(*estate.Address); ok {
				holds = append(holds, l.Held.String())
			}
		}
		slices.Sort(holds)
		if want := []string{"10.40.0.5", "10.40.0.6", "fd00:40::5"}; !slices.Equal(holds, want) {
			t.Errorf("collect gives the addresses %v and not %v", holds, want)
		}
		for _, b := range sockets {
			b.close()
		}
	}
	t.Logf("%d clashes, %d connections: %v", clashes, tried, told)
}

func parsedEstate(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults, text)
	}
	return e
}

// anyClash says whether two listeners of an estate clash.
func anyClash(e *estate.Estate) bool {
	report := findings.CheckRecords(trace.New(model.Compile(e), "2026-11-25"), "2026-11-25")
	return slices.ContainsFunc(report.Findings, func(f *findings.Finding) bool { return f.Code == "conflict.socket" })
}

func amongSources(s flow.Sources, a netip.Addr) bool {
	has := func(list []string) bool {
		return slices.ContainsFunc(list, func(c string) bool { return netip.MustParsePrefix(c).Contains(a) })
	}
	return (len(s.Only) == 0 || has(s.Only)) && !has(s.Except)
}

// claims are the single ports of single addresses that listen lines take.
func claims(records []estate.Record) []string {
	var out []string
	for _, r := range records {
		l, ok := r.(*estate.Listen)
		if !ok {
			continue
		}
		addrs := []netip.Addr{l.Bind.Addr}
		if !l.Bind.Addr.IsValid() {
			addrs = []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()}
		}
		for _, proto := range l.Bind.Transport.Each() {
			for _, a := range addrs {
				for _, ports := range l.Bind.Ranges {
					for p := int(ports.Lo); p <= int(ports.Hi); p++ {
						out = append(out, fmt.Sprintf("%s/%s", netip.AddrPortFrom(a, uint16(p)), proto))
					}
				}
			}
		}
	}
	slices.Sort(out)
	return out
}
