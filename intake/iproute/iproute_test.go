package iproute_test

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/intake/iproute"
	"steady-compass/intake/machine"
)

const addresses = `[{"ifindex":1,"ifname":"lo","flags":["LOOPBACK","UP"],"link_type":"loopback","addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8,"scope":"host"}]},
{"ifindex":2,"ifname":"eth0","flags":["BROADCAST","UP"],"link_type":"ether","addr_info":[
 {"family":"inet","local":"10.40.8.10","prefixlen":24,"scope":"global"},
 {"family":"inet","local":"10.40.8.11","prefixlen":24,"scope":"global","secondary":true},
 {"family":"inet6","local":"fd00:40:8::10","prefixlen":64,"scope":"global"},
 {"family":"inet6","local":"fd00:40:8::9999","prefixlen":64,"scope":"global","temporary":true,"dynamic":true},
 {"family":"inet6","local":"fe80::1","prefixlen":64,"scope":"link"}]},
{"ifindex":3,"ifname":"wan@x","flags":["UP"],"link_type":"ether","addr_info":[{"family":"inet","local":"203.0.113.20","prefixlen":29,"scope":"global","dynamic":true}]},
{"ifindex":4,"ifname":"down0","flags":["BROADCAST"],"link_type":"ether","addr_info":[{"family":"inet","local":"10.9.9.9","prefixlen":24}]}]`

const routes = `[{"dst":"default","gateway":"203.0.113.17","dev":"wan"},{"dst":"10.40.8.0/24","dev":"eth0","protocol":"kernel","scope":"link"},
{"dst":"10.60.0.7","gateway":"10.40.8.1"},{"type":"blackhole","dst":"10.66.0.0/16"},{"dst":"10.70.0.0/16","nexthops":[{"gateway":"10.40.8.1"},{"gateway":"10.40.8.2"}]},
{"dst":"default","gateway":"fe80::2","dev":"eth0"},{"dst":"10.80.0.0/16","via":{"family":"inet6","host":"fd00:40:8::1"}}]`

func TestRead(t *testing.T) {
	a := iproute.Read("f", addresses+"\n"+routes, "azimuth")
	var got []string
	for _, r := range a.Records {
		got = append(got, estate.Line(r))
	}
	want := []string{
		"host azimuth",
		"network azimuth-eth0 10.40.8.0/24,fd00:40:8::/64",
		"address azimuth 10.40.8.10 azimuth-eth0",
		"address azimuth 10.40.8.11 azimuth-eth0",
		"address azimuth fd00:40:8::10 azimuth-eth0",
		"address azimuth 203.0.113.20 internet dynamic",
		"route azimuth default via 203.0.113.17",
		"route azimuth 10.60.0.7/32 via 10.40.8.1",
		"route azimuth 10.66.0.0/16 via nowhere",
		"route azimuth 10.70.0.0/16 via 10.40.8.1",
		"route azimuth 10.70.0.0/16 via 10.40.8.2",
	}
	if !slices.Equal(got, want) || len(a.Faults) > 0 {
		t.Errorf("%v\ngot\n%s\nwant\n%s", a.Faults, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if !a.IsWhole(machine.Addresses, "azimuth") || !a.IsWhole(machine.Routes, "azimuth") {
		t.Errorf("whole: %v", a.Whole)
	}
	for _, word := range []string{"link-local address is", "temporary", "down0", "default", "10.80.0.0/16"} {
		if !slices.ContainsFunc(a.Left, func(l string) bool { return strings.Contains(l, word) }) {
			t.Errorf("nothing says that %s is left out: %q", word, a.Left)
		}
	}
}

func TestReadFaults(t *testing.T) {
	tests := []struct {
		text         string
		line, column int
	}{
		{"", 1, 1},
		{"[{\"ifname\":\"eth0\",\n \"addr_info\": [}]", 2, 16},
		{"[{\"ifname\":\"eth0\",\n \"addr_info\": 7}]", 2, 15},
		{"[]\n nonsense", 2, 3},
	}
	for _, test := range tests {
		a := iproute.Read("f", test.text, "azimuth")
		if len(a.Faults) != 1 || a.Faults[0].Line != test.line || a.Faults[0].Column != test.column {
			t.Errorf("%q: %v; expected a fault at %d:%d", test.text, a.Faults, test.line, test.column)
		}
		if a.IsWhole(machine.Addresses, "azimuth") || a.IsWhole(machine.Routes, "azimuth") {
			t.Errorf("%q is damaged, and said to be whole", test.text)
		}
	}
}
