package estate_test

import (
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// TestSays holds the sentence that a person is shown while typing a line, of every kind, against what the line means.
func TestSays(t *testing.T) {
	said := map[string]bool{}
	for _, c := range []struct{ line, want string }{
		{`estate "North Pier"`, "This estate is called North Pier."},
		{"network lan 10.0.0.0/24,2001:db8::/64", "lan is the network 10.0.0.0/24 and 2001:db8::/64."},
		{"network dock 172.20.0.0/24 on box", "dock is the network 172.20.0.0/24, a container network inside box."},
		{"network dock 172.20.0.0/24 on box routed", "dock is the network 172.20.0.0/24, a container network inside box, whose addresses are reachable from outside it."},
		{"network dock 172.20.0.0/24 on box filtered", "dock is the network 172.20.0.0/24, a container network inside box; filters also see what passes between its containers."},
		{"host box", "box is a machine."},
		{"host gate router", "gate is a router: it passes packets between its networks."},
		{"host cache outside", "cache is a machine, not ours: what reaches it is done."},
		{"host box unlisted", "box is a machine; its listeners are not written down yet."},
		{"address gate 203.0.113.1 internet", "gate holds 203.0.113.1 on internet."},
		{"address gate 2001:db8::/56 internet", "On internet, all of 2001:db8::/56 leads to gate."},
		{"address gate ? internet", "gate holds an address on internet that nobody knows."},
		{"address a,b 10.0.0.9 lan", "a holds 10.0.0.9 on lan; shared with b, without its being there now."},
		{"route box default via 10.0.0.1", "box sends whatever has no closer way by way of 10.0.0.1."},
		{"route box 10.9.0.0/16 via nowhere", "box sends what is for 10.9.0.0/16 nowhere."},
		{"route box 10.9.0.0/16 via 10.0.0.1", "box sends what is for 10.9.0.0/16 by way of 10.0.0.1."},
		{"group office 198.51.100.0/26", "office stands for 198.51.100.0/26."},
		{"zone a.example ttl 1h", "Names under a.example are ours to answer; an answer may be kept 1h."},
		{"dns a.example A 203.0.113.1 ttl 5m", "a.example is the address 203.0.113.1; an answer may be kept 5m."},
		{"name a.example 10.0.0.9 on box", "On box itself, a.example is 10.0.0.9, whatever DNS says."},
		{"forward gate 80,443 to 10.0.0.9", "What comes to gate on 80,443/tcp goes on to 10.0.0.9."},
		{"forward gate 8883/udp to 10.0.0.9", "What comes to gate on 8883/udp goes on to 10.0.0.9."},
		{"outbound gate from lan as 203.0.113.1", "What passes gate from lan gets the source 203.0.113.1."},
		{"filter edge on gate through otherwise drop ipv4", "edge judges what passes through gate (IPv4 only); what no line of it names is dropped."},
		{"filter local on box input otherwise pass", "local judges what is for box; what no line of it names passes."},
		{"rule edge pass any from lan", "Every port from lan passes."},
		{"rule edge drop 22 from internet", "22/tcp from the internet is dropped."},
		{"rule edge refuse 25 to internet", "25/tcp from anywhere to the internet is refused."},
		{"rule edge unknown 25 to internet", "25/tcp from anywhere to the internet meets what cannot be told from the records."},
		{"container box/app in dock", "app is a container on box, in dock."},
		{"map box/app 8080 to 3000", "Whoever reaches box on 8080/tcp gets to app, port 3000."},
		{"listen box 22 as ssh", "box listens on 22/tcp as ssh."},
		{"listen box 10.0.0.9:53/udp as names", "box listens on 53/udp of 10.0.0.9 as names."},
		{"site front a.example at 443 to http://app:3000", "Asked of front on 443/tcp, a.example goes on to http://app:3000."},
		{"pool desk in-turn check 8080", "desk spreads requests over the members that answer on port 8080."},
		{"tunnel hill from box to 198.51.100.7:51820", "hill dials out to 198.51.100.7:51820; what comes back through it enters at box."},
		{`accept exposure.admin box:22 until 2027-01-01 note "the office"`, "exposure.admin of box:22 is known and taken on until 2027-01-01."},
		{"member desk box:8443", "box:8443 serves pool desk."},
		{"cert star for *.a.example expires 2027-02-20 on box by dns-01", "The certificate star covers *.a.example until 2027-02-20; it lies on box."},
		{"intend a.example 443 for internet reaching box/app", "a.example on 443/tcp is meant for the internet, ending at box/app, and for nobody else."},
		{"intend box 5432 for nobody", "box on 5432/tcp is meant for nobody."},
	} {
		p, _, err := notation.ParseLine(c.line)
		if err != nil {
			t.Errorf("%s: %v", c.line, err)
			continue
		}
		kind := estate.KindOf(p.Record)
		said[kind.Word] = true
		if got := kind.Says(p.Record); got != c.want {
			t.Errorf("%s\nsays %s\nwant %s", c.line, got, c.want)
		}
	}
	for _, k := range estate.Kinds {
		if !said[k.Word] {
			t.Errorf("no line of kind %s is tried", k.Word)
		}
	}
}
