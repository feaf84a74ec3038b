package estate

import (
	"fmt"
	"net/netip"
	"strings"

	"steady-compass/core/netset"
)

// What a single line must hold beyond the form of its fields. Each gives what is wrong
// and what was expected, or two empty texts.

func checkNetwork(r *Network) (string, string) {
	if (r.Routed || r.Filtered) && r.On == "" {
		return "only a container network is routed or filtered", "on HOST"
	}
	return "", ""
}

func checkRoute(r *Route) (string, string) {
	if r.To == "default" {
		if !r.Via.IsValid() {
			return "what has no closer way goes nowhere without a line, and of which family this is cannot be said", "via IP, or a CIDR"
		}
		return "", ""
	}
	if !r.Via.IsValid() {
		return "", ""
	}
	if p := netip.MustParsePrefix(r.To); p.Addr().Is4() != r.Via.Is4() {
		return fmt.Sprintf("%s and %s are of different families", r.To, r.Via), "an address of the destination's family"
	}
	return "", ""
}

func checkDNS(r *DNS) (string, string) {
	switch {
	case r.Value == "" && r.Dynamic == "":
		return "the record has no value", "a value, or dynamic and a host"
	case r.Value != "" && r.Dynamic != "":
		return "a record has a value or is dynamic, not both", "one of them"
	case r.Every != NotGiven && r.Dynamic == "":
		return "every goes with dynamic", "dynamic HOST every DURATION"
	case r.Owner == "." && (r.Type == "CNAME" || r.Type == "DNAME"):
		return "the root cannot be an alias", "another owner"
	}
	return "", ""
}

func checkForward(r *Forward) (string, string) {
	if r.Pool != "" {
		return "", ""
	}
	if a := r.Bind.Addr; a.IsValid() && a.Is4() != r.To.Addr.Is4() {
		return fmt.Sprintf("%s and %s are of different families", a, r.To.Addr), "a target of the same family"
	}
	if !r.To.Kept() {
		return checkTranslation(r.Bind.Ports, r.To.Ports)
	}
	return "", ""
}

// checkTranslation: ports are translated one to one in the order written, or many to one.
func checkTranslation(outer, inner Ports) (string, string) {
	if inner.Any && !outer.Any {
		return "'any' stands after 'to' only where it stands before it", "the ports as they are inside"
	}
	if n, m := outer.Count(), inner.Count(); m != 1 && n != m {
		return fmt.Sprintf("%d ports cannot be translated to %d", n, m), fmt.Sprintf("one port, or %d, after to", n)
	}
	return "", ""
}

func checkContainer(r *Container) (string, string) {
	if r.SharesHost && len(r.Aliases) > 0 {
		return "a container that shares its host has no aliases", "in NETWORK, or no alias"
	}
	return "", ""
}

func checkMap(r *Map) (string, string) { return checkTranslation(r.Bind.Ports, r.To) }

func checkSite(r *Site) (string, string) {
	actions := 0
	for _, has := range []bool{!r.To.IsZero() || r.Pool != "", !r.Redirect.IsZero(), r.Files.Served, r.Unknown} {
		if has {
			actions++
		}
	}
	hands := !r.To.IsZero() || r.Pool != ""
	switch {
	case actions == 0:
		return "the site does nothing", "to URL, to pool NAME, redirect https, redirect URL, files or unknown"
	case r.Speaking != "" && r.Pool == "":
		return "speaking goes with a pool", "to pool NAME speaking " + r.Speaking
	case !hands && r.Asking != "":
		return "asking goes with to", "to URL or to pool NAME"
	case !hands && r.Verified:
		return "verified goes with to", "to URL or to pool NAME"
	case !hands && r.Through != "":
		return "through goes with to", "to URL or to pool NAME"
	}
	return "", ""
}

func checkPool(r *Pool) (string, string) {
	if r.Check < 0 {
		for word, given := range map[string]bool{"path": r.Path != "", "tls": r.TLS, "every": r.Every != NotGiven, "up-after": r.UpAfter >= 0, "down-after": r.DownAfter >= 0, "within": r.Within != NotGiven} {
			if given {
				return word + " goes with check", "check PORT"
			}
		}
	}
	return "", ""
}

func checkAcceptance(r *Acceptance) (string, string) {
	switch {
	case r.Until == "":
		return "a finding is accepted until a day", "until DATE"
	case r.Note == "":
		return "a finding is accepted for a reason", `note "…"`
	}
	return "", ""
}

// Pair is one range of a port translation: the outer ports From to its length become To and on,
// or, where Many, all become To.
type Pair struct {
	From netset.PortRange
	To   uint16
	Many bool
}

// Inner is the port that p becomes.
func (p Pair) Inner(port uint16) uint16 {
	if p.Many {
		return p.To
	}
	return p.To + (port - p.From.Lo)
}

// Translate lays outer ports on inner ones, one to one in the order written or many to one.
// Without inner ports each keeps its own.
func Translate(outer, inner Ports) []Pair {
	var pairs []Pair
	ranges := outer.Ranges
	if outer.Any {
		ranges = netset.AllPorts().Ranges()
	}
	switch {
	case len(inner.Ranges) == 0:
		for _, r := range ranges {
			pairs = append(pairs, Pair{From: r, To: r.Lo})
		}
	case inner.Count() == 1:
		for _, r := range ranges {
			pairs = append(pairs, Pair{From: r, To: inner.Ranges[0].Lo, Many: true})
		}
	default:
		// Both lists are cut wherever either has an end.
		i, used := 0, 0
		for _, r := range ranges {
			for lo := int(r.Lo); lo <= int(r.Hi); {
				in := inner.Ranges[i]
				n := min(int(r.Hi)-lo+1, in.Len()-used)
				pairs = append(pairs, Pair{From: netset.PortRange{Lo: uint16(lo), Hi: uint16(lo + n - 1)}, To: in.Lo + uint16(used)})
				lo += n
				if used += n; used == in.Len() {
					i, used = i+1, 0
				}
			}
		}
	}
	return pairs
}

func joinWords(words []string) string {
	switch len(words) {
	case 0:
		return ""
	case 1:
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
