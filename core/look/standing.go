package look

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/trace"
)

// Self is the machine that looks, as it knows itself.
type Self struct {
	Hostname string
	Prefixes []netip.Prefix // each of its addresses with the length of the network that it is on-link to; loopback is not among them
}

// holds says whether the machine has exactly an address.
func (s Self) holds(a netip.Addr) bool {
	return slices.ContainsFunc(s.Prefixes, func(p netip.Prefix) bool { return p.Addr() == a })
}

// in says whether the machine has an address in a range, or an on-link network: as machines of a test have, and none else.
func (s Self) in(r netip.Prefix) bool {
	return slices.ContainsFunc(s.Prefixes, r.Overlaps)
}

// Standing is from where a machine looks, and how that is known.
type Standing struct {
	Vantage flow.Vantage
	Certain bool             // private addresses mean there what the records say
	Why     string           // how that is known
	place   *model.Place     // the recorded place that it is; nil where it is in a network that is nobody's
	nets    []*model.Network // the networks that it is on
}

// Stand finds from where a machine looks. What was said is taken as it is; else it is a recorded host where the machine has one of that host's
// addresses exactly, and its name or another of its addresses too. A vantage is never chosen from a range: a friend's private range looks like
// one's own. Failing that, it looks from the internet, and at no private address.
func Stand(t *trace.Tracer, self Self, said string) (Standing, error) {
	if said != "" {
		v, err := t.VantageNamed(said)
		if err != nil {
			return Standing{}, err
		}
		s := Standing{Vantage: v, Certain: true, Why: "it was said"}
		s.from(t.Model)
		return s, nil
	}
	var found []*model.Place
	for _, p := range t.Model.Places {
		if !p.IsContainer() && !p.Outside && isMachine(p, self) {
			found = append(found, p)
		}
	}
	if len(found) == 1 {
		v, err := t.VantageNamed(found[0].Name)
		if err != nil {
			return Standing{}, err
		}
		s := Standing{Vantage: v, Certain: true, Why: fmt.Sprintf("this machine has the addresses or the name of %s, and one of its addresses", found[0].Name)}
		s.from(t.Model)
		return s, nil
	}
	v, err := t.VantageNamed("internet")
	if err != nil {
		return Standing{}, err
	}
	s := Standing{Vantage: v, Why: "no recorded host has this machine's name and one of its addresses, or two of its addresses: private addresses are not looked at"}
	if len(found) > 1 {
		s.Why = fmt.Sprintf("this machine may be %s or %s by the records: private addresses are not looked at", found[0].Name, found[1].Name)
	}
	s.from(t.Model)
	return s, nil
}

// AtHand are the vantages from which one can look next: where this machine stands, and where looks came from that there are.
func AtHand(t *trace.Tracer, self Self, said string, seen []Look) ([]string, error) {
	standing, err := Stand(t, self, said)
	if err != nil {
		return nil, err
	}
	out := []string{standing.Vantage.Word}
	for i := range seen {
		if from := seen[i].From; !slices.Contains(out, from) {
			if _, err := t.VantageNamed(from); err == nil {
				out = append(out, from)
			}
		}
	}
	return out, nil
}

// isMachine says whether the machine that looks is a recorded one: it has an address of it exactly, and its name or another one too.
func isMachine(p *model.Place, self Self) bool {
	same := 0
	for i := range p.Attachments {
		attachment := &p.Attachments[i]
		if attachment.Gateway { // every engine gives its networks the same
			continue
		}
		for _, a := range attachment.Addrs {
			if self.holds(a) {
				same++
			}
		}
	}
	name, _, _ := strings.Cut(strings.ToLower(self.Hostname), ".")
	return same > 1 || same == 1 && (name == p.Name || strings.EqualFold(self.Hostname, p.Name))
}

// from fills in what follows from the vantage.
func (s *Standing) from(m *model.Model) {
	for _, o := range s.Vantage.Origins {
		if o.Place == model.Nowhere {
			s.nets = append(s.nets, m.Networks[o.Net])
			continue
		}
		s.place = m.Places[o.Place]
		for i := range s.place.Attachments {
			s.nets = append(s.nets, m.Networks[s.place.Attachments[i].Net])
		}
	}
	if len(s.Vantage.Origins) != 1 { // a group is no one place
		s.place = nil
	}
}
