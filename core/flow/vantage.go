package flow

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// Vantage is where a flow is made.
type Vantage struct {
	Word    string // as it was asked for
	Whole   netset.Addrs
	Origins []Origin
}

// Origin is one place or network of a vantage; a group has several.
type Origin struct {
	Place model.PlaceID // Nowhere where it is made in a network, by a machine nobody recorded
	Net   model.NetID
	Set   netset.Addrs // the sources; empty for a place, whose source hangs on its way out
	word  string
}

// ErrNoVantage is wrapped by the error for a vantage that is not recorded.
var ErrNoVantage = errors.New("no such vantage")

// unknownVantage is a word that is no vantage. What is spelt most like it is looked for where somebody reads of it: of many lines each may have such a
// word, and be judged as if it were not there.
type unknownVantage struct {
	word   string
	estate *estate.Estate
}

func (u unknownVantage) Error() string {
	return fmt.Sprintf("%v: %q; expected internet, a network, group, host, container or address that is recorded%s", ErrNoVantage, u.word, estate.Near(u.estate, u.word, estate.RefSelector))
}

func (unknownVantage) Unwrap() error { return ErrNoVantage }

// VantageNamed finds a vantage: internet, a network, group, host, container or one address.
func (t *Engine) VantageNamed(word string) (Vantage, error) {
	if word == "" {
		word = "internet"
	}
	lower := strings.ToLower(word)
	v := Vantage{Word: lower}
	if err := t.addOrigins(&v, lower, map[string]bool{}); err != nil {
		return Vantage{}, err
	}
	if len(v.Origins) == 0 {
		return Vantage{}, fmt.Errorf("%w: group %s has no member to ask from", ErrNoVantage, lower)
	}
	var sets []netset.Addrs
	for _, o := range v.Origins {
		sets = append(sets, o.Set)
	}
	v.Whole = netset.Union(sets...)
	return v, nil
}

func (t *Engine) addOrigins(v *Vantage, word string, passed map[string]bool) error {
	m := t.Model
	if n := m.NetNamed(word); n != nil {
		v.Origins = append(v.Origins, Origin{model.Nowhere, n.ID, n.Free, word})
		return nil
	}
	if p := m.PlaceNamed(word); p != nil {
		v.Origins = append(v.Origins, Origin{Place: p.ID, Net: model.NoNet, word: word})
		return nil
	}
	if a, err := netip.ParseAddr(word); err == nil && a.Zone() == "" {
		return t.addAddress(v, netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()))
	}
	if p, err := netip.ParsePrefix(word); err == nil {
		return t.addAddress(v, p.Masked())
	}
	if members, ok := m.GroupNamed(word); ok {
		if passed[word] {
			return nil
		}
		passed[word] = true
		for _, s := range members {
			name := s.Name
			if name == "" {
				name = s.Prefix.String()
				if s.Prefix.IsSingleIP() {
					name = s.Prefix.Addr().String()
				}
			}
			if err := t.addOrigins(v, name, passed); err != nil && !errors.Is(err, ErrNoVantage) {
				return err
			}
		}
		return nil
	}
	return unknownVantage{word, m.Estate}
}

// addAddress adds the addresses of a prefix: those of a machine of ours as that machine, the
// others where they are.
func (t *Engine) addAddress(v *Vantage, p netip.Prefix) error {
	set := netset.PrefixesOf(p)
	before := len(v.Origins)
	if p.IsSingleIP() {
		if owners := t.Model.Owners(p.Addr()); len(owners) > 0 {
			v.Origins = append(v.Origins, Origin{Place: owners[0].Place, Net: model.NoNet, Set: set, word: p.Addr().String()})
			return nil
		}
	}
	for _, n := range t.Model.Networks {
		if part := set.Intersect(n.Free); !part.IsEmpty() {
			v.Origins = append(v.Origins, Origin{model.Nowhere, n.ID, part, wordOf(p)})
		}
	}
	if len(v.Origins) == before {
		return fmt.Errorf("%w: %s is in no recorded network and not on the internet", ErrNoVantage, wordOf(p))
	}
	return nil
}

func wordOf(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// Asker is who asks for a name from an origin.
func (t *Engine) Asker(o Origin) names.Asker {
	if o.Place == model.Nowhere {
		return t.Model.AskerOf(o.Set, o.Net)
	}
	return t.Model.AskerAt(o.Place, o.Net)
}

// Start is a fresh branch from an origin, its source still open where it is a place.
func (o Origin) Start(proto netset.Transport, ports netset.Ports) Part {
	return Part{
		Origins: o.Set, Transport: proto, Ports: ports, Outer: ports, Cells: &noCells,
		Src: Source{Set: o.Set, Float: model.Nowhere, Net: model.NoNet, word: o.word},
	}
}

// Say gives a branch's sources in terms of the vantage: whichever of "only" and "except" is
// shorter.
func (v *Vantage) Say(set netset.Addrs, v6 bool) (Sources, netip.Addr) {
	s := Sources{Of: v.Word, Only: []string{}, Except: []string{}}
	whole := v.Whole.Of(v6)
	if set.IsEmpty() || whole.IsEmpty() || set.Of(v6).Equal(whole) {
		return s, netip.Addr{}
	}
	only, except := set.Of(v6).Strings(), whole.Subtract(set).Strings()
	if len(except) < len(only) {
		s.Except = except
		return s, netip.Addr{}
	}
	s.Only = only
	return s, set.Of(v6).Lowest()
}
