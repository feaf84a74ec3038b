package sockets_test

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/intake/machine"
	"steady-compass/intake/sockets"
)

func TestRead(t *testing.T) {
	tests := []struct {
		name, text string
		want       []string
		whole      []machine.Aspect
		left       int
	}{
		{"ss -tulpn", `
Netid State  Recv-Q Send-Q      Local Address:Port  Peer Address:PortProcess
udp   UNCONN 0      0           127.0.0.53%lo:53         0.0.0.0:*    users:(("systemd-resolve",pid=411,fd=13))
udp   UNCONN 0      0                 0.0.0.0:41234      0.0.0.0:*    users:(("chronyd",pid=500,fd=5))
udp   ESTAB  0      0               10.40.8.10:68       10.40.8.1:67  users:(("dhclient",pid=377,fd=9))
tcp   LISTEN 0      4096              0.0.0.0:22         0.0.0.0:*    users:(("sshd",pid=700,fd=3),("systemd",pid=1,fd=90))
tcp   LISTEN 0      4096                 [::]:22            [::]:*    users:(("sshd",pid=700,fd=4),("systemd",pid=1,fd=91))
tcp   LISTEN 0      511                     *:443              *:*    users:(("nginx",pid=900,fd=6),("nginx",pid=901,fd=6))
tcp   LISTEN 0      511                     *:80               *:*    users:(("systemd",pid=1,fd=52),("nginx",pid=900,fd=7))
tcp   LISTEN 0      128     [fe80::1]%eth0:9000            [::]:*    users:(("x",pid=1000,fd=7))
tcp   ESTAB  0      0               10.40.8.10:22       10.40.0.7:50112 users:(("sshd",pid=1200,fd=4))
`, []string{
			"host azimuth",
			"listen azimuth 127.0.0.53:53/udp as systemd-resolve",
			"listen azimuth 22 as sshd",
			"listen azimuth 80,443 as nginx",
		}, []machine.Aspect{machine.TCP, machine.UDP}, 2},
		{"bound to a device, and nothing taken as whole", `
tcp LISTEN 0 128 *%eth1:1010 *:* users:(("a",pid=1,fd=3))
tcp LISTEN 0 128 0.0.0.0%eth0:1009 0.0.0.0:* users:(("b",pid=1,fd=3))
udp UNCONN 0 0 0.0.0.0%lo:69 0.0.0.0:* users:(("c",pid=1,fd=3))
tcp LISTEN 0 128 [::1]%lo:22 [::]:* users:(("d",pid=1,fd=3))
`, []string{"host azimuth", "listen azimuth 127.0.0.1:69/udp as c", "listen azimuth [::1]:22 as d"}, nil, 1},
		{"netstat -ano of another system", `
Active Connections

  Proto  Local Address          Foreign Address        State           PID
  TCP    0.0.0.0:135            0.0.0.0:0              LISTENING       1100
 [svchost.exe]
  TCP    10.40.8.30:52100       10.40.8.10:443         ESTABLISHED     4400
  TCP    [::]:135               [::]:0                 LISTENING       1100
  UDP    0.0.0.0:500            *:*                                    900
`, []string{"host azimuth", "listen azimuth 0.0.0.0:500/udp as port-500", "listen azimuth 135 as port-135"}, []machine.Aspect{machine.TCP, machine.UDP}, 1},
		{"netstat -an with dots before the ports", `
Active Internet connections (including servers)
Proto Recv-Q Send-Q Local Address          Foreign Address        (state)
tcp4       0      0 *.22                   *.*                    LISTEN
tcp6       0      0 *.22                   *.*                    LISTEN
tcp46      0      0 *.80                   *.*                    LISTEN
tcp4       0      0 127.0.0.1.631          *.*                    LISTEN
tcp4       0     36 10.40.8.9.22           10.40.0.7.50112        ESTABLISHED
udp4       0      0 *.123                  *.*
`, []string{"host azimuth", "listen azimuth 0.0.0.0:123/udp as port-123", "listen azimuth 127.0.0.1:631 as port-631", "listen azimuth 22 as port-22", "listen azimuth 80 as port-80"}, []machine.Aspect{machine.TCP, machine.UDP}, 1},
		{"sockstat -l", `
USER     COMMAND    PID   FD  PROTO  LOCAL ADDRESS         FOREIGN ADDRESS
root     sshd       771   3   tcp4   *:22                  *:*
root     sshd       771   4   tcp6   *:22                  *:*
ntpd     ntpd       700   20  udp4   10.40.8.9:123         *:*
`, []string{"host azimuth", "listen azimuth 10.40.8.9:123/udp as ntpd", "listen azimuth 22 as sshd"}, []machine.Aspect{machine.TCP, machine.UDP}, 0},
		{"ss -Htln, without names", `
LISTEN 0 128 127.0.0.1:9090 0.0.0.0:*
LISTEN 0 128 [::1]:9090 [::]:*
`, []string{"host azimuth", "listen azimuth 127.0.0.1:9090 as port-9090", "listen azimuth [::1]:9090 as port-9090"}, []machine.Aspect{machine.TCP}, 1},
		{"ss of old, all addresses", `
State      Recv-Q Send-Q Local Address:Port               Peer Address:Port
LISTEN     0      128          *:22                       *:*                   users:(("sshd",pid=1,fd=3))
LISTEN     0      128         :::22                      :::*                   users:(("sshd",pid=1,fd=4))
`, []string{"host azimuth", "listen azimuth 22 as sshd"}, []machine.Aspect{machine.TCP}, 0},
		{"netstat -tulpn", `
Active Internet connections (only servers)
Proto Recv-Q Send-Q Local Address           Foreign Address         State       PID/Program name
tcp        0      0 0.0.0.0:22              0.0.0.0:*               LISTEN      700/sshd: /usr/sbin
tcp        0      0 127.0.0.1:5432          0.0.0.0:*               LISTEN      800/postgres
tcp6       0      0 :::22                   :::*                    LISTEN      700/sshd: /usr/sbin
tcp6       0      0 :::8080                 :::*                    LISTEN      950/java
udp        0      0 0.0.0.0:123             0.0.0.0:*                           500/ntpd
udp6       0      0 fe80::1:123             :::*                                500/ntpd
udp        0      0 10.40.8.10:68           10.40.8.1:67            ESTABLISHED 377/dhclient
tcp        0      0 10.40.8.10:22           10.40.0.7:50112         ESTABLISHED 1200/sshd
`, []string{
			"host azimuth",
			"listen azimuth 22 as sshd",
			"listen azimuth 127.0.0.1:5432 as postgres",
			"listen azimuth 8080 as java",
			"listen azimuth 0.0.0.0:123/udp as ntpd",
		}, []machine.Aspect{machine.TCP, machine.UDP}, 1},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			a := sockets.Read("f", test.text, "azimuth")
			var got []string
			for _, r := range a.Records {
				got = append(got, estate.Line(r))
			}
			slices.Sort(got)
			slices.Sort(test.want)
			if !slices.Equal(got, test.want) || len(a.Faults) > 0 {
				t.Errorf("%v\ngot\n%s\nwant\n%s", a.Faults, strings.Join(got, "\n"), strings.Join(test.want, "\n"))
			}
			for _, aspect := range []machine.Aspect{machine.TCP, machine.UDP} {
				if a.IsWhole(aspect, "azimuth") != slices.Contains(test.whole, aspect) {
					t.Errorf("%s: whole is %v", aspect, a.IsWhole(aspect, "azimuth"))
				}
			}
			if len(a.Left) != test.left {
				t.Errorf("left out %d: %q", test.left, a.Left)
			}
		})
	}
}

func TestReadFaults(t *testing.T) {
	tests := []struct {
		text         string
		line, column int
	}{
		{"", 1, 1},
		{"Netid State\nhello there", 2, 1},
		{"tcp LISTEN 0 128 0.0.0.0:ssh 0.0.0.0:*", 1, 18},
		{"tcp LISTEN 0 128", 1, 17},
		{"tcp LISTEN 0 128 10.40.0.300:22 0.0.0.0:*", 1, 18},
		{"tcp LISTEN 0 128 10.40.0.3:70000 0.0.0.0:*", 1, 18},
		{"tcp 0 0 10.40.0.3", 1, 18},
	}
	for _, test := range tests {
		a := sockets.Read("f", test.text, "azimuth")
		if len(a.Faults) != 1 || a.Faults[0].Line != test.line || a.Faults[0].Column != test.column || a.Faults[0].Expected == "" {
			t.Errorf("%q: %v; expected a fault at %d:%d", test.text, a.Faults, test.line, test.column)
		}
		if len(a.Whole) > 0 {
			t.Errorf("%q is damaged, and said to be whole", test.text)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("Netid State\ntcp LISTEN 0 128 [::1]%lo:22 [::]:* users:((\"sshd\",pid=1,fd=3))")
	f.Add("tcp6 0 0 :::22 :::* LISTEN 7/x")
	f.Fuzz(func(t *testing.T, text string) {
		a := sockets.Read("f", text, "azimuth")
		b := machine.ReadText("f", a.Text())
		if len(b.Faults) > 0 {
			t.Fatalf("%v in\n%s", b.Faults, a.Text())
		}
	})
}
