package machine_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/intake"
	"steady-compass/intake/machine"
)

func parsed(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults, text)
	}
	return e
}

// plan are the lines that an import would bring and take, in the form of a change.
func plan(p intake.Plan) []string {
	out := p.Lines()
	for _, r := range p.Gone {
		out = append(out, "gone "+estate.Line(r))
	}
	return out
}

// What an account of a machine does to what is recorded of it, each in the lines that differ.
func TestReading(t *testing.T) {
	const whole = "# The account of box\n# whole: box address route name listen/tcp listen/udp container\n"
	tests := []struct{ name, recorded, account, want string }{
		{"what is recorded already stays, with its notes and services", `
			network yard 10.40.0.0/24 note "staff"
			host box note "the old one"
			address box 10.40.0.5 yard
			listen box 22 as ssh note "by key only"`, `
			network box-eth0 10.40.0.0/24
			host box
			address box 10.40.0.5 box-eth0
			listen box 22 as sshd`, ``},
		{"another family of a recorded network comes to it", `
			network yard 10.40.0.0/24
			host box`, `
			network box-eth0 10.40.0.0/24,fd00:40::/64
			host box
			address box fd00:40::5 box-eth0`, `
			- network yard 10.40.0.0/24
			+ network yard 10.40.0.0/24,fd00:40::/64
			+ address box fd00:40::5 yard`},
		{"of two networks with the range, the one that the machine is on", `
			network here 192.168.1.0/24
			network there 192.168.1.0/24
			host box
			address box 192.168.1.4 there`, `
			network box-eth0 192.168.1.0/24
			host box
			address box 192.168.1.5 box-eth0`, `
			- address box 192.168.1.4 there
			+ address box 192.168.1.5 there`},
		{"an address that nobody knew is known now", `
			network yard 10.40.0.0/24
			host box
			address box ? yard note "ask the host"`, `
			network box-eth0 10.40.0.0/24
			host box
			address box 10.40.0.5 box-eth0`, `
			- address box ? yard note "ask the host"
			+ address box 10.40.0.5 yard note "ask the host"`},
		{"a shared address is the machine's as well", `
			network yard 10.40.0.0/24
			host box
			host twin
			address twin,box 10.40.0.9 yard`, `
			network box-eth0 10.40.0.0/24
			host box
			address box 10.40.0.9 box-eth0`, ``},
		{"a machine that was unlisted is listed", `
			host box unlisted note "since May"`, `
			host box
			listen box 22 as sshd`, `
			- host box unlisted note "since May"
			+ host box note "since May"
			+ listen box 22 as sshd`},
		{"a listener that is gone is offered; one that lost a port is made narrower", `
			host box
			listen box 80,443 as front tls cert star
			listen box 9000 as old`, `
			host box
			listen box 443 as nginx`, `
			- listen box 80,443 as front tls cert star
			+ listen box 443 as front tls cert star
			gone listen box 9000 as old`},
		{"a socket of one family leaves the other", `
			host box
			listen box 443 as front`, `
			host box
			listen box 0.0.0.0:443 as front`, `
			- listen box 443 as front
			+ listen box 0.0.0.0:443 as front`},
		{"two sockets are the one line that has both", `
			host box
			listen box 53/tcp+udp as names`, `
			host box
			listen box 0.0.0.0:53/tcp+udp as named
			listen box [::]:53/tcp+udp as named`, ``},
		{"a planned listener that is there comes into force", `
			host box
			listen box 8443 as desk off note "the plan"`, `
			host box
			listen box 8443 as desk-web`, `
			- listen box 8443 as desk off note "the plan"
			+ listen box 8443 as desk note "the plan"`},
		{"a program whose name has another's sites gets one of its own", `
			host box
			host other
			listen other 80 as nginx
			site nginx www.fernmoor.example to http://127.0.0.1:8000`, `
			host box
			listen box 80 as nginx`, `
			+ listen box 80 as box-nginx`},
		{"the relay that holds a map's port is the map", `
			host box
			network dock 172.20.0.0/24 on box
			container box/web in dock
			map box/web 8080 to 80`, `
			host box
			network dock 172.20.0.0/24 on box
			container box/web in dock
			map box/web 8080 to 80
			listen box 8080 as docker-proxy
			listen box 8081 as docker-proxy`, `
			+ listen box 8081 as docker-proxy`},
		{"a container by its service's name, its network by its range", `
			host box
			network dock 172.20.0.0/24 on box
			container box/web in dock
			map box/web 8080 to 80
			listen box/web 80 as web`, `
			host box
			network shop_default 172.20.0.0/24 on box
			container box/shop-web-1 in shop_default alias web
			map box/shop-web-1 8080,8081 to 80
			listen box/shop-web-1 80 as node`, `
			- container box/web in dock
			+ container box/web in dock alias shop-web-1
			+ map box/web 8081 to 80`},
		{"a map that moved is changed, with its note; so is a service's listener, with its certificates", `
			host box
			network dock 172.20.0.0/24 on box
			container box/web in dock
			map box/web 8080 to 80 note "until May"
			listen box 443 as front tls cert star`, `
			host box
			network dock 172.20.0.0/24 on box
			container box/web in dock
			map box/web 8089 to 80
			listen box 8443 as front`, `
			- map box/web 8080 to 80 note "until May"
			+ map box/web 8089 to 80 note "until May"
			- listen box 443 as front tls cert star
			+ listen box 8443 as front tls cert star`},
		{"a container that is gone takes its maps and listeners along", `
			host box
			network dock 172.20.0.0/24 on box
			container box/web in dock
			map box/web 8080 to 80
			listen box/web 80 as web`, `
			host box
			network dock 172.20.0.0/24 on box`, `
			gone container box/web in dock
			gone map box/web 8080 to 80
			gone listen box/web 80 as web`},
		{"a container that shares the machine's addresses has its sockets", `
			host box
			container box/gauge shares-host
			listen box/gauge 9100 as gauge`, `
			host box
			container box/gauge shares-host
			listen box 9100 as node-exporter`, ``},
		{"a network of the machine's own whose name is taken", `
			host box
			host bridge`, `
			host box
			network bridge 172.17.0.0/16 on box
			container box/web in bridge`, `
			+ network box-bridge 172.17.0.0/16 on box
			+ container box/web in box-bridge`},
		{"the gateway of a container network is held by the machine anyway", `
			host box
			network dock 172.20.0.0/24 on box`, `
			host box
			network box-br0 172.20.0.0/24
			address box 172.20.0.1 box-br0`, ``},
		{"routes and the hosts file", `
			host box
			route box default via 10.40.0.1
			name a.fernmoor.example 10.40.0.3 on box
			name b.fernmoor.example 10.40.0.3 on box`, `
			host box
			route box 10.60.0.0/24 via 10.40.0.2
			name a.fernmoor.example 10.40.0.4 on box`, `
			- name a.fernmoor.example 10.40.0.3 on box
			+ name a.fernmoor.example 10.40.0.4 on box
			+ route box 10.60.0.0/24 via 10.40.0.2
			gone route box default via 10.40.0.1
			gone name b.fernmoor.example 10.40.0.3 on box`},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			e := parsed(t, test.recorded)
			a := machine.ReadText("box", whole+dedent(test.account))
			if len(a.Faults) > 0 {
				t.Fatal(a.Faults)
			}
			p := intake.Compare(e, a.Reading(e))
			got, want := plan(p), lines(test.want)
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
			next, err := e.Apply(p.Edit(true))
			if err != nil {
				t.Fatal(err)
			}
			again := intake.Compare(next, a.Reading(next))
			if left := plan(again); len(left) > 0 {
				t.Errorf("taken over, the same account still brings\n%s\nto\n%s", strings.Join(left, "\n"), notation.Print(next))
			}
		})
	}
}

func dedent(text string) string { return strings.Join(lines(text), "\n") + "\n" }

func lines(text string) []string {
	out := []string{}
	for _, l := range strings.Split(text, "\n") {
		if l = strings.TrimSpace(l); l != "" {
			out = append(out, l)
		}
	}
	return out
}

func TestListeners(t *testing.T) {
	any4, any6, both := netip.IPv4Unspecified(), netip.IPv6Unspecified(), netip.Addr{}
	one := netip.MustParseAddr("10.40.0.5")
	s := func(addr netip.Addr, port uint16, proto netset.Transport, program string) machine.Observed {
		return machine.Observed{Addr: addr, Port: port, Transport: proto, Program: program, Place: "box", Stack: "box"}
	}
	tests := []struct {
		name    string
		sockets []machine.Observed
		want    string
	}{
		{"ports of a program are a list, runs are ranges", []machine.Observed{s(any4, 8002, netset.TCP, "app"), s(any4, 80, netset.TCP, "app"), s(any4, 8000, netset.TCP, "app"), s(any4, 8001, netset.TCP, "app")}, `
			listen box 0.0.0.0:80,8000-8002 as app`},
		{"both families, both transports", []machine.Observed{s(any4, 53, netset.TCP, "named"), s(any6, 53, netset.TCP, "named"), s(both, 53, netset.UDP, "named"), s(any4, 953, netset.TCP, "named")}, `
			listen box 53/tcp+udp as named
			listen box 0.0.0.0:953 as named`},
		{"several sockets of one program are one", []machine.Observed{s(both, 443, netset.TCP, "front"), s(both, 443, netset.TCP, "front")}, `
			listen box 443 as front`},
		{"sockets of two programs that meet are shared", []machine.Observed{s(both, 5353, netset.UDP, "avahi"), s(one, 5353, netset.UDP, "browser"), s(one, 80, netset.TCP, "browser")}, `
			listen box [::]:5353/udp as avahi
			listen box 0.0.0.0:5353/udp as avahi shared
			listen box 10.40.0.5:80 as browser
			listen box 10.40.0.5:5353/udp as browser shared`},
		{"no program, or one that makes no name", []machine.Observed{s(any4, 2024, netset.TCP, ""), s(any4, 2025, netset.TCP, "…")}, `
			listen box 0.0.0.0:2024 as port-2024
			listen box 0.0.0.0:2025 as port-2025`},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var got []string
			for _, r := range machine.Listeners(test.sockets) {
				got = append(got, estate.Line(r))
			}
			if want := lines(test.want); !slices.Equal(got, want) {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
		})
	}
}

func TestAccountText(t *testing.T) {
	a := machine.Account{Host: "box", Left: []string{"Something is left out."}, Whole: []machine.Whole{{Aspect: machine.TCP, Place: "box"}, {Aspect: machine.Containers, Place: "box/web"}}}
	a.Records = parsed(t, "host box\nlisten box 22 as sshd").All()
	text := a.Text()
	if !machine.IsText(text) {
		t.Fatalf("not known as an account:\n%s", text)
	}
	b := machine.ReadText("f", text)
	if b.Host != a.Host || !slices.Equal(b.Whole, a.Whole) || !slices.Equal(b.Left, a.Left) || b.Text() != text {
		t.Errorf("read back as\n%s\nwritten\n%s", b.Text(), text)
	}
	if comments := b.Records[0].Meta().Comments; len(comments) > 0 {
		t.Errorf("the heading has become comments of %s: %v", estate.Line(b.Records[0]), comments)
	}
	bad := machine.ReadText("f", text+"listen box nothing\n")
	if len(bad.Faults) != 1 || bad.Faults[0].Line != strings.Count(text, "\n")+1 {
		t.Errorf("a wrong line is told as %v", bad.Faults)
	}
}
