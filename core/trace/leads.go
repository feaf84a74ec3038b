package trace

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Lead is one way in that ends at a place.
type Lead struct {
	Name      string `json:"name"` // "" where it is asked for by its address
	Address   string `json:"address"`
	Port      uint16 `json:"port"`
	Transport string `json:"transport"`
	URLPath   string `json:"urlpath"`
	From      string `json:"from"`
	End       string `json:"end"` // place and port where it ends
}

// Leads is every way in that ends at a place, on a port or, where that is 0, on any: by each name, from internet and each
// recorded network, and by bare address what a listener there takes itself.
func (t *Tracer) Leads(place string, port uint16) []Lead {
	out := []Lead{}
	for _, net := range t.m.Networks {
		v, err := t.VantageNamed(net.Name)
		if err != nil {
			continue
		}
		for _, n := range t.Names() {
			ports, _ := t.PortsOf(n.Name, &v)
			for _, k := range ports {
				for _, p := range t.TracePort(Target{Text: n.Name, Name: n.Name}, k, v) {
					if p.Outcome == Arrives && endsAt(p.End, place, port) {
						out = append(out, Lead{n.Name, p.Address, p.Port, p.Transport, p.URLPath, v.Word, *p.End})
					}
				}
			}
		}
		for _, e := range t.Exposure(v).Open {
			if e.Place != place || e.Site != nil || port != 0 && e.Port != port {
				continue
			}
			out = append(out, Lead{"", e.Address, e.Range.Lo, e.Transport, "/", v.Word, fmt.Sprintf("%s:%d", e.Place, e.Port)})
		}
	}
	slices.SortStableFunc(out, func(a, b Lead) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), cmp.Compare(a.Port, b.Port), strings.Compare(a.Address, b.Address), strings.Compare(a.URLPath, b.URLPath))
	})
	return slices.Compact(out)
}

func endsAt(end *string, place string, port uint16) bool {
	if end == nil {
		return false
	}
	at, on, _ := strings.Cut(*end, ":")
	return at == place && (port == 0 || on == fmt.Sprint(port))
}
