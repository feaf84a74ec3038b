package fetch

import (
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"steady-compass/core/look"
)

// TestFollow asks the name servers of a name's own zone where a changing address is now, and contacts that and nothing else: none that is recorded as
// another's, private, for special use, or said by somebody who is no authority.
func TestFollow(t *testing.T) {
	for _, c := range []struct {
		name, says string // what the zone's name server answers
		lame       bool   // it is no authority for the zone
		want       string
	}{
		{"an address of the internet", "away.a.example. 60 IN A 9.9.9.200", false, "connect away.a.example:22 arrived"},
		{"one that is recorded as another's", "away.a.example. 60 IN A 9.9.9.9", false, "recorded as another's"},
		{"one in a recorded range", "away.a.example. 60 IN A 11.5.0.77", false, "recorded as another's"},
		{"a private one", "away.a.example. 60 IN A 192.168.1.1", false, "none of the internet"},
		{"loopback", "away.a.example. 60 IN A 127.0.0.1", false, "none of the internet"},
		{"one that the engine of a cloud answers at", "away.a.example. 60 IN A 169.254.169.254", false, "none of the internet"},
		{"an alias to elsewhere", "away.a.example. 60 IN CNAME www.elsewhere.example.", false, "give no address"},
		{"from no authority", "away.a.example. 60 IN A 9.9.9.200", true, "give no address"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWire()
			answer := func(of map[string]string, authority bool) func(net.Conn) {
				return func(conn net.Conn) {
					wire := &dns.Conn{Conn: conn}
					m, err := wire.ReadMsg()
					if err != nil {
						return
					}
					r := new(dns.Msg)
					r.SetReply(m)
					r.Authoritative = authority
					if text := of[m.Question[0].Name+" "+dns.TypeToString[m.Question[0].Qtype]]; text != "" {
						rr, err := dns.NewRR(text)
						if err != nil {
							t.Error(err)
						}
						r.Answer = append(r.Answer, rr)
					}
					_ = wire.WriteMsg(r)
				}
			}
			w.serve["9.9.9.53:53"] = answer(map[string]string{"a.example. NS": "a.example. 60 IN NS ns.host.example.", "ns.host.example. A": "ns.host.example. 60 IN A 9.9.8.8"}, false)
			w.serve["9.9.8.8:53"] = answer(map[string]string{"away.a.example. A": c.says}, !c.lame)
			w.serve["9.9.9.200:22"] = func(conn net.Conn) { _, _ = conn.Write([]byte("hello")) }
			o := LookOptions{Resolver: netip.MustParseAddr("9.9.9.53"), Rate: 400, Within: time.Second, Recorded: []string{"9.9.9.9/32", "11.5.0.0/24"}}
			got := strings.Join(looked(t, w, o, look.Contact{Target: "away.a.example:22", Did: look.Connect, Name: "away.a.example", Follows: "away.a.example", Zone: "a.example", Port: 22, Transport: "tcp"}), "\n")
			if !strings.Contains(got, c.want) {
				t.Errorf("%s, want %s", got, c.want)
			}
			for _, to := range w.dialed {
				if !slices.Contains([]string{"udp 9.9.9.53:53", "udp 9.9.8.8:53", "tcp 9.9.9.200:22"}, to) || strings.HasPrefix(to, "tcp") && !strings.HasPrefix(c.want, "connect") {
					t.Errorf("it contacted %s", to)
				}
			}
		})
	}
}
