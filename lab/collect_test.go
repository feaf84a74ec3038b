package lab

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"steady-compass/collect"
	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/intake/iproute"
	"steady-compass/intake/machine"
	"steady-compass/intake/sockets"
)

// What collect says of this very machine is what the system's own listings say of it.
func TestCollectAgainstTheSystem(t *testing.T) {
	listing := func(name string, args ...string) string {
		out, err := exec.Command(name, args...).Output()
		if err != nil {
			t.Skipf("%s %v: %v", name, args, err)
		}
		return string(out)
	}
	kinds := func(records []estate.Record, words ...string) []string {
		var out []string
		for _, r := range records {
			if slices.Contains(words, estate.KindOf(r).Word) {
				out = append(out, estate.Line(r))
			}
		}
		slices.Sort(out)
		return out
	}
	var differ string
	for range 5 { // others may open sockets in between
		a, err := collect.Machine(context.Background(), collect.Options{Host: "here", Engine: "none"})
		if err != nil {
			t.Fatal(err)
		}
		ss := sockets.Read("ss", listing("ss", "-H", "-tuln"), "here")
		addrs := machine.Account{Host: "here"}
		addrs.Join(iproute.Read("addr", listing("ip", "-json", "addr"), "here"))
		for _, family := range []string{"-4", "-6"} {
			addrs.Join(iproute.Read("route", listing("ip", "-json", family, "route"), "here"))
		}
		if len(ss.Faults)+len(addrs.Faults) > 0 {
			t.Fatal(ss.Faults, addrs.Faults)
		}
		differ = ""
		if got, want := claims(a.Records), claims(ss.Records); !slices.Equal(got, want) {
			differ = fmt.Sprintf("collect has the sockets %v, ss %v", got, want)
		}
		if got, want := kinds(a.Records, "network", "address", "route"), kinds(addrs.Records, "network", "address", "route"); !slices.Equal(got, want) {
			differ += fmt.Sprintf("\ncollect has\n%s\nip has\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
		if differ == "" {
			t.Logf("%d sockets, %d addresses and routes", len(claims(a.Records)), len(kinds(a.Records, "address", "route")))
			return
		}
	}
	t.Error(differ)
}

// A container's own sockets are seen in its namespace, and those of one that shares the machine's addresses are told apart
// by nothing but its process.
func TestCollectInContainers(t *testing.T) {
	needNamespaces(t)
	inside, err := newSpace("inside")
	if err != nil {
		t.Fatal(err)
	}
	defer inside.close()
	for _, s := range []struct {
		addr  string
		port  uint16
		proto netset.Transport
	}{{"0.0.0.0", 3000, netset.TCP}, {"127.0.0.1", 9000, netset.TCP}, {"0.0.0.0", 53, netset.UDP}} {
		b, err := inside.answer(netip.MustParseAddr(s.addr), s.port, s.proto, "app")
		if err != nil {
			t.Fatal(err)
		}
		defer b.close()
	}
	sleep := exec.Command("sleep", "60")
	if err := inside.do(sleep.Start); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = sleep.Process.Kill(); _ = sleep.Wait() }()
	fixture, err := json.Marshal(map[string]any{
		"networks": []any{map[string]any{"Name": "dock", "Id": "n1", "Driver": "bridge", "IPAM": map[string]any{"Config": []any{map[string]any{"Subnet": "172.20.0.0/24"}}}}},
		"containers": []any{map[string]any{
			"Id": strings.Repeat("ab", 32), "Name": "/app", "State": map[string]any{"Status": "running", "Pid": sleep.Process.Pid},
			"HostConfig":      map[string]any{"NetworkMode": "dock", "PortBindings": map[string]any{"3000/tcp": []any{map[string]any{"HostPort": "8080"}}}},
			"NetworkSettings": map[string]any{"Networks": map[string]any{"dock": map[string]any{"IPAMConfig": map[string]any{"IPv4Address": "172.20.0.9"}}}},
		}},
	})
	if err != nil {
		t.Fatal(err)
	}
	hosts := filepath.Join(t.TempDir(), "hosts")
	if err := os.WriteFile(hosts, []byte("10.40.0.3 store.fernmoor.example store\n::1 localhost\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	outer, err := newSpace("outer")
	if err != nil {
		t.Fatal(err)
	}
	defer outer.close()
	if err := join(outer, "eth0", inside, "elsewhere"); err != nil {
		t.Fatal(err)
	}
	for _, a := range []string{"10.40.0.5/24", "203.0.113.7/29", "fd00:40::5/64"} {
		if err := outer.hold("eth0", a); err != nil {
			t.Fatal(err)
		}
	}
	if err := outer.route("default", "via", "10.40.0.1"); err != nil {
		t.Fatal(err)
	}
	if err := outer.route("10.60.0.0/16", "via", "10.40.0.2"); err != nil {
		t.Fatal(err)
	}
	if err := outer.set("net/ipv4/ip_forward", "1"); err != nil {
		t.Fatal(err)
	}
	ssh, err := outer.answer(netip.Addr{}, 22, netset.TCP, "ssh")
	if err != nil {
		t.Fatal(err)
	}
	defer ssh.close()
	socket := serveEngine(t, fixture)
	var a machine.Account
	if err := outer.do(func() (err error) {
		a, err = collect.Machine(context.Background(), collect.Options{Host: "box", Engine: socket, Hosts: hosts})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range a.Records {
		if l, ok := r.(*estate.Listen); ok { // the program is this test's
			r = estate.With(l, func(l *estate.Listen) { l.Service = "x" })
		}
		got = append(got, estate.Line(r))
	}
	slices.Sort(got)
	want := []string{
		"address box 10.40.0.5 box-eth0", "address box 203.0.113.7 internet", "address box fd00:40::5 box-eth0",
		"container box/app in dock=172.20.0.9", "host box router",
		"listen box 22 as x", "listen box/app 0.0.0.0:3000 as x", "listen box/app 0.0.0.0:53/udp as x", "listen box/app 127.0.0.1:9000 as x",
		"map box/app 8080 to 3000",
		"name store 10.40.0.3 on box", "name store.fernmoor.example 10.40.0.3 on box",
		"network box-eth0 10.40.0.0/24,fd00:40::/64", "network dock 172.20.0.0/24 on box",
		"route box 10.60.0.0/16 via 10.40.0.2", "route box default via 10.40.0.1",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for _, w := range []machine.Whole{{Aspect: machine.TCP, Place: "box"}, {Aspect: machine.UDP, Place: "box/app"}, {Aspect: machine.Routes, Place: "box"}, {Aspect: machine.Containers, Place: "box"}} {
		if !slices.Contains(a.Whole, w) {
			t.Errorf("it is not said to be the whole of %v", w)
		}
	}
}

// BenchmarkCollect reads a machine with 2,000 sockets in a namespace of its own.
func BenchmarkCollect(b *testing.B) {
	needNamespaces(b)
	s, err := newSpace("busy")
	if err != nil {
		b.Fatal(err)
	}
	defer s.close()
	for i := range 1000 {
		for _, proto := range netset.Both.Each() {
			held, err := s.answer(netip.IPv4Unspecified(), uint16(10000+i), proto, "x")
			if err != nil {
				b.Fatal(err)
			}
			defer held.close()
		}
	}
	for b.Loop() {
		var a machine.Account
		if err := s.do(func() (err error) {
			a, err = collect.Machine(context.Background(), collect.Options{Host: "busy", Engine: "none"})
			return err
		}); err != nil {
			b.Fatal(err)
		}
		if n := len(claims(a.Records)); n != 2000 {
			b.Fatalf("%d sockets are told", n)
		}
	}
}
