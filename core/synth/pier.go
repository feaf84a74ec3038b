package synth

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Pier is a small estate in which each service is published in its own way: by a site of a front, by a forward to a machine or to a mapped
// container, to the inside alone, over IPv6 without any translation; behind filters that let in what is published and nothing else.
func Pier(r *rand.Rand) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say(`network lan 10.1.0.0/24,2001:db8:a:1::/64
network far 10.2.0.0/24
network crew 172.30.0.0/24 on box
host gate router
host box
host shed
address gate 203.0.113.1 internet
address gate 2001:db8:a::/48 internet
address gate 10.1.0.1 lan
address gate 2001:db8:a:1::1 lan
address gate 10.2.0.1 far
address box 10.1.0.10 lan
address box 2001:db8:a:1::10 lan
address shed 10.1.0.20 lan
address shed 2001:db8:a:1::20 lan
zone pier.example
container box/front in crew=172.30.0.2
map box/front 80,443 to 80,443
listen box/front 80 as front
listen box/front 443 as front tls cert star
cert star for *.pier.example expires 2027-10-01 on box/front by dns-01
site front * at 80 redirect https
forward gate 80,443 to 10.1.0.10
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to box
filter boxs on box input otherwise drop
filter sheds on shed input otherwise drop`)
	for n := range 4 + r.IntN(4) {
		name, port := fmt.Sprintf("s%d.pier.example", n), 3000+n
		place := []string{"box", "shed"}[r.IntN(2)]
		addr := map[string]string{"box": "10", "shed": "20"}[place]
		switch r.IntN(6) {
		case 0: // by the front, to a container beside it
			say("container box/c%d in crew=172.30.0.%d\nlisten box/c%d %d as svc%d", n, 10+n, n, port, n)
			say("dns %s A 203.0.113.1\nsite front %s at 443 to http://c%d:%d\nintend %s 80,443 for internet reaching box/c%d:%d", name, name, n, port, name, n, port)
		case 1: // by the front, to another machine
			say("listen shed %d as svc%d\nrule sheds pass %d from box", port, n, port)
			say("dns %s A 203.0.113.1\nsite front %s at 443 to http://10.1.0.20:%d\nintend %s 80,443 for internet reaching shed:%d", name, name, port, name, port)
		case 2: // by a forward
			say("listen %s %d as svc%d\nrule %ss pass %d from internet", place, port, n, place, port)
			say("dns %s A 203.0.113.1\nforward gate %d to 10.1.0.%s\nrule edge pass %d from internet to %s\nintend %s %d for internet reaching %s:%d", name, port, addr, port, place, name, port, place, port)
		case 3: // by a forward to a mapped container
			say("container box/c%d in crew=172.30.0.%d\nlisten box/c%d 80 as svc%d\nmap box/c%d %d to 80", n, 10+n, n, n, n, port)
			say("dns %s A 203.0.113.1\nforward gate %d to 10.1.0.10\nrule edge pass %d from internet to box\nintend %s %d for internet reaching box/c%d:80", name, port, port, name, port, n)
		case 4: // to the inside alone
			say("listen %s %d as svc%d\nrule %ss pass %d from far", place, port, n, place, port)
			say("dns %s A 10.1.0.%s for far\nrule edge pass %d from far to %s\nintend %s %d for far reaching %s:%d", name, addr, port, place, name, port, place, port)
		case 5: // over IPv6
			say("listen %s %d as svc%d\nrule %ss pass %d from internet", place, port, n, place, port)
			say("dns %s AAAA 2001:db8:a:1::%s\nrule edge pass %d from internet to %s\nintend %s %d for internet reaching %s:%d", name, addr, port, place, name, port, place, port)
		}
	}
	return b.String()
}
