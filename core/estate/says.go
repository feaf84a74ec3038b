package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/netset"
)

// The meaning of each kind of record in one sentence, for the person who types it.

func sayName(r *Name) string { return fmt.Sprintf("This estate is called %s.", r.Text) }

func sayNetwork(r *Network) string {
	var prefixes []string
	for _, p := range r.Prefixes {
		prefixes = append(prefixes, p.String())
	}
	text := fmt.Sprintf("%s is the network %s", r.Name, joinWords(prefixes))
	if r.On != "" {
		text += ", a container network inside " + r.On
	}
	if r.Routed {
		text += ", whose addresses are reachable from outside it"
	}
	if r.Filtered {
		text += "; filters also see what passes between its containers"
	}
	return text + "."
}

func sayHost(r *Host) string {
	text := r.Name + " is a machine"
	if r.Router {
		text = r.Name + " is a router: it passes packets between its networks"
	}
	if r.Outside {
		text += ", not ours: what reaches it is done"
	}
	if r.Unlisted {
		text += "; its listeners are not written down yet"
	}
	return text + "."
}

func sayAddress(r *Address) string {
	who := r.Hosts[0]
	changes := ""
	if r.Dynamic {
		changes = ", which may change"
	}
	if len(r.Hosts) > 1 {
		changes += fmt.Sprintf("; shared with %s, without its being there now", joinWords(r.Hosts[1:]))
	}
	switch {
	case r.Held.Unknown:
		return fmt.Sprintf("%s holds an address on %s that nobody knows%s.", who, r.Network, changes)
	case r.Held.Block.IsValid():
		return fmt.Sprintf("On %s, all of %s leads to %s%s.", r.Network, r.Held.Block, who, changes)
	}
	return fmt.Sprintf("%s holds %s on %s%s.", who, r.Held.Addr, r.Network, changes)
}

func sayRoute(r *Route) string {
	what := "whatever has no closer way"
	if r.To != "default" {
		what = "what is for " + r.To
	}
	if !r.Via.IsValid() {
		return fmt.Sprintf("%s sends %s nowhere.", r.Host, what)
	}
	return fmt.Sprintf("%s sends %s by way of %s.", r.Host, what, r.Via)
}

func sayGroup(r *Group) string {
	return fmt.Sprintf("%s stands for %s.", r.Name, selectors(r.Members, ""))
}

func sayZone(r *Zone) string {
	text := fmt.Sprintf("Names under %s are ours to answer", r.Name)
	if len(r.For) > 0 {
		text += ", and this is all that " + selectors(r.For, "") + " see of them"
	}
	if r.TTL != NotGiven {
		text += fmt.Sprintf("; an answer may be kept %s", r.TTL)
	}
	return text + "."
}

func sayDNS(r *DNS) string {
	what := r.Type + " " + r.Value
	switch r.Type {
	case "A", "AAAA":
		what = "the address " + r.Value
	case "CNAME":
		what = "an alias of " + r.Value
	case "ALIAS":
		what = "the addresses of " + r.Value
	}
	if r.Dynamic != "" {
		what = "whatever address " + r.Dynamic + " holds on internet"
	}
	text := fmt.Sprintf("%s is %s", r.Owner, what)
	if len(r.For) > 0 {
		text += ", as seen from " + selectors(r.For, "")
	}
	if r.TTL != NotGiven {
		text += fmt.Sprintf("; an answer may be kept %s", r.TTL)
	}
	return text + "."
}

func sayHostsEntry(r *HostsEntry) string {
	return fmt.Sprintf("On %s itself, %s is %s, whatever DNS says.", r.Place, r.Hostname, r.Addr)
}

func portsWords(p Ports) string {
	if p.Any {
		if p.Transport == netset.Both {
			return "every port"
		}
		return "every port over " + p.Transport.String()
	}
	return p.List() + "/" + p.Transport.String()
}

func bindWords(b Bind) string {
	if b.Addr.IsValid() {
		return portsWords(b.Ports) + " of " + b.Addr.String()
	}
	return portsWords(b.Ports)
}

func sayForward(r *Forward) string {
	to := r.To.Addr.String()
	switch {
	case r.Pool != "":
		to = "the members in service of the pool " + r.Pool
	case !r.To.Kept():
		to += ", port " + r.To.Ports.List()
	}
	text := fmt.Sprintf("What comes to %s on %s goes on to %s", r.Router, bindWords(r.Bind), to)
	if len(r.From) > 0 {
		text += ", if it is from " + selectors(r.From, "")
	}
	switch {
	case r.Hairpin:
		text += "; from inside too, with the router as source"
	case r.Inside:
		text += "; from inside too"
	}
	return text + "."
}

func sayOutbound(r *Outbound) string {
	what := "What passes " + r.Router
	if r.Leaving != "" {
		what += " towards " + r.Leaving
	}
	if len(r.From) > 0 {
		what += " from " + selectors(r.From, "")
	}
	if r.As == "unchanged" {
		return what + " keeps its source."
	}
	return what + " gets the source " + r.As + "."
}

var hookWords = map[string]string{
	"arriving": "everything that arrives at", "input": "what is for", "through": "what passes through",
	"output": "what is made on", "departing": "everything that leaves",
}

var verbs = map[string]string{"pass": "passes", "drop": "is dropped", "refuse": "is refused", "unknown": "meets what cannot be told from the records"}

func sayFilter(r *Filter) string {
	what := hookWords[r.Hook] + " " + joinWords(r.On)
	if r.Family != "" {
		what += fmt.Sprintf(" (%s only)", map[string]string{"ipv4": "IPv4", "ipv6": "IPv6"}[r.Family])
	}
	text := fmt.Sprintf("%s judges %s; what no line of it names %s", r.Name, what, verbs[r.Otherwise])
	switch {
	case r.Strict:
		text += "; over tcp, what is of no flow it knows and begins none is dropped"
	case r.Stateless:
		text += "; it keeps no state, so that replies need lines of their own"
	}
	return text + "."
}

func sayRule(r *Rule) string {
	text := strings.ToUpper(portsWords(r.Ports)[:1]) + portsWords(r.Ports)[1:]
	if len(r.From) > 0 {
		text += " from " + selectors(r.From, "")
	} else {
		text += " from anywhere"
	}
	if len(r.To) > 0 {
		text += " to " + selectors(r.To, "")
	}
	if r.Entering != "" {
		text += ", coming in by " + r.Entering
	}
	if r.Leaving != "" {
		text += ", going out by " + r.Leaving
	}
	return text + " " + verbs[r.Action] + "."
}

func sayContainer(r *Container) string {
	host, name, _ := strings.Cut(r.Name, "/")
	if r.SharesHost {
		return fmt.Sprintf("%s is a container on %s that shares the machine's own network.", name, host)
	}
	var nets []string
	for _, a := range r.In {
		nets = append(nets, a.Network)
	}
	text := fmt.Sprintf("%s is a container on %s", name, host)
	if len(nets) > 0 {
		text += ", in " + joinWords(nets)
	}
	if len(r.Aliases) > 0 {
		text += ", known there as " + joinWords(r.Aliases) + " too"
	}
	return text + "."
}

func sayMap(r *Map) string {
	host, name, _ := strings.Cut(r.Container, "/")
	return fmt.Sprintf("Whoever reaches %s on %s gets to %s, port %s.", host, bindWords(r.Bind), name, r.To.List())
}

func sayListen(r *Listen) string {
	text := fmt.Sprintf("%s listens on %s as %s", r.Place, bindWords(r.Bind), r.Service)
	switch {
	case r.Bind.Addr.IsValid() && r.Bind.Addr.IsLoopback():
		text += ", for itself only"
	case r.TLS:
		text += ", and ends TLS there"
	case r.Passthrough:
		text += ", and hands TLS on unopened"
	}
	return text + "."
}

func sayTunnel(r *Tunnel) string {
	return fmt.Sprintf("%s dials out to %s; what comes back through it enters at %s.", r.Name, r.To, r.From)
}

func saySite(r *Site) string {
	who := joinWords(r.Names)
	if slices.Contains(r.Names, "*") {
		who = "any name"
	}
	switch {
	case strings.HasPrefix(r.Path, "="):
		who += " at the path " + r.Path[1:] + " alone"
	case strings.HasSuffix(r.Path, "*"):
		who += " where the path begins with " + strings.TrimSuffix(r.Path, "*")
	case r.Path != "":
		who += " under " + r.Path
	}
	does := ""
	switch {
	case r.Pool != "":
		does = "goes on to a member of pool " + r.Pool
	case !r.To.IsZero():
		does = "goes on to " + r.To.String()
	case r.Redirect.HTTPS:
		does = "is sent to https"
	case !r.Redirect.IsZero():
		does = "is sent to " + r.Redirect.URL.String()
	case r.Unknown:
		does = "meets what is not written down here"
	default:
		does = "is answered from files"
	}
	at := ""
	if r.At.Ranges != nil || r.At.Any {
		at = " on " + bindWords(r.At)
	}
	return fmt.Sprintf("Asked of %s%s, %s %s.", r.Service, at, who, does)
}

func sayPool(r *Pool) string {
	if r.Check < 0 {
		return fmt.Sprintf("%s spreads requests over its members, without checking them.", r.Name)
	}
	return fmt.Sprintf("%s spreads requests over the members that answer on port %d.", r.Name, r.Check)
}

func sayMember(r *Member) string {
	switch {
	case r.Out:
		return fmt.Sprintf("%s belongs to pool %s, and is taken out of service.", r.At, r.Pool)
	case r.Spare:
		return fmt.Sprintf("%s serves pool %s where no other member is left.", r.At, r.Pool)
	}
	return fmt.Sprintf("%s serves pool %s.", r.At, r.Pool)
}

func sayCert(r *Cert) string {
	if r.Expires == "" {
		return fmt.Sprintf("A certificate %s for %s is wanted on %s, and not issued yet.", r.Name, joinWords(r.For), joinWords(r.On))
	}
	return fmt.Sprintf("The certificate %s covers %s until %s; it lies on %s.", r.Name, joinWords(r.For), r.Expires, joinWords(r.On))
}

func sayIntent(r *Intent) string {
	text := fmt.Sprintf("%s on %s is meant for %s", r.Target, portsWords(r.Ports), selectors(r.For, ""))
	if r.Reaching.Host != "" {
		text += ", ending at " + r.Reaching.String()
	}
	if r.Guarded {
		text += ", behind a sign-in"
	}
	if len(r.For) == 1 && r.For[0].Word == "nobody" {
		return text + "."
	}
	return text + ", and for nobody else."
}

func sayAcceptance(r *Acceptance) string {
	return fmt.Sprintf("%s of %s is known and taken on until %s.", r.Code, r.Subject, r.Until)
}

func selectors(list []Selector, none string) string {
	if len(list) == 0 {
		return none
	}
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = s.String()
		if s.Prefix == (netip.Prefix{}) && s.Word == "internet" {
			words[i] = "the internet"
		}
	}
	return joinWords(words)
}
