package fetch

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"

	"steady-compass/core/look"
)

// mostServers is how many name servers of a zone are asked where an address is now.
const mostServers = 4

// placed gives a contact the address that the name which follows it has now, asked of the name servers of its own zone; false, and a look that says
// why, where it has none that may be contacted.
func (x *looking) placed(ctx context.Context, c *look.Contact) bool {
	key := c.Zone + " " + c.Follows
	now, known := x.now[key]
	if !known {
		now = x.whereNow(ctx, c.Zone, c.Follows)
		if x.now == nil {
			x.now = map[string]whereabouts{}
		}
		x.now[key] = now
	}
	if now.why == "" {
		c.Address = now.at.String()
		return true
	}
	x.give(ctx, look.Look{At: time.Now().UTC(), From: x.From, Target: endpoint(*c), Did: look.Connect, Came: look.NotLooked, Why: now.why, Follows: c.Follows, Revision: x.Revision})
	return false
}

// whereabouts are the address that a name has now, or why it is not to be contacted.
type whereabouts struct {
	at  netip.Addr
	why string
}

func (x *looking) whereNow(ctx context.Context, zone, name string) whereabouts {
	nowhere := func(format string, args ...any) whereabouts { return whereabouts{why: fmt.Sprintf(format, args...)} }
	if !x.Resolver.IsValid() {
		return nowhere("the system has no resolver to find the name servers of %s by; say one with --resolver", zone)
	}
	ctx, stop := context.WithTimeout(ctx, 2*x.Within)
	defer stop()
	servers := x.serversOf(ctx, zone)
	if len(servers) == 0 {
		return nowhere("the name servers of %s are not to be found", zone)
	}
	for _, server := range servers {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(name), dns.TypeA)
		m.RecursionDesired = false
		r, err := x.exchangeWith(ctx, server, "udp", m)
		if err != nil || !r.Authoritative || r.Rcode != dns.RcodeSuccess {
			continue
		}
		for _, rr := range r.Answer {
			a, ok := rr.(*dns.A)
			if !ok {
				continue
			}
			at, _ := netip.AddrFromSlice(a.A.To4())
			return x.ours(name, at)
		}
	}
	return nowhere("the name servers of %s give no address for %s", zone, name)
}

// ours is an address that a name gave, where it may be one that changes by itself: of the internet, and nobody else's of ours.
func (x *looking) ours(name string, a netip.Addr) whereabouts {
	switch {
	case look.Bounded(a, x.Self, false) != "":
		return whereabouts{why: fmt.Sprintf("%s gives %s, which is none of the internet", name, a)}
	case slices.ContainsFunc(x.Recorded, func(text string) bool {
		p, err := netip.ParsePrefix(text)
		return err == nil && p.Contains(a)
	}):
		return whereabouts{why: fmt.Sprintf("%s gives %s, which is recorded as another's", name, a)}
	}
	return whereabouts{at: a}
}

// serversOf are the addresses of a zone's name servers, by the resolver.
func (x *looking) serversOf(ctx context.Context, zone string) []netip.Addr {
	ask := func(name string, typ uint16) []dns.RR {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(name), typ)
		r, err := x.exchange(ctx, "udp", m)
		if err != nil || r.Rcode != dns.RcodeSuccess {
			return nil
		}
		return r.Answer
	}
	var out []netip.Addr
	for _, rr := range ask(zone, dns.TypeNS) {
		ns, ok := rr.(*dns.NS)
		if !ok {
			continue
		}
		for _, rr := range ask(ns.Ns, dns.TypeA) {
			if a, ok := rr.(*dns.A); ok && len(out) < mostServers {
				if at, ok := netip.AddrFromSlice(a.A.To4()); ok && look.Bounded(at, x.Self, false) == "" {
					out = append(out, at)
				}
			}
		}
	}
	return out
}
