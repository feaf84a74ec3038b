package trace

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/parallel"
)

// Lead is one way in that ends at a place.
type Lead struct {
	Name      string `json:"name"` // "" where it is asked for by its address
	Address   string `json:"address"`
	Port      uint16 `json:"port"`
	Transport string `json:"transport"`
	URLPath   string `json:"urlpath"`
	From      string `json:"from"`
	End       string `json:"end"`             // place and port where it ends
	Front     string `json:"front,omitempty"` // the places that hand it on, from the outside in; "" where it comes by none
}

// Leads is every way in that ends at a place, on a port or, where that is 0, on any: from internet and each recorded network.
func (t *Tracer) Leads(ctx context.Context, place string, port uint16) ([]Lead, error) {
	out := []Lead{}
	for _, net := range t.Model.Networks {
		v, err := t.VantageNamed(net.Name)
		if err != nil {
			continue
		}
		ways, err := t.LeadsFrom(ctx, v, place, port)
		if err != nil {
			return nil, err
		}
		out = append(out, ways...)
	}
	slices.SortStableFunc(out, inOrder)
	return slices.Compact(out), nil
}

// LeadsFrom is every way in from a vantage that ends at a place, on a port or, where that is 0, on any: by each name, and by bare
// address what a listener there takes itself.
func (t *Tracer) LeadsFrom(ctx context.Context, v flow.Vantage, place string, port uint16) ([]Lead, error) {
	all := t.Names()
	by := parallel.Map(ctx, len(all), func(i int) []Lead {
		var out []Lead
		n := all[i]
		ports, _ := t.PortsOf(n.Name, &v)
		for _, k := range ports {
			for _, p := range t.TracePort(Target{Text: n.Name, Name: n.Name}, k, v) {
				if p.Outcome == flow.Arrives && endsAt(p.End, place, port) {
					out = append(out, Lead{n.Name, p.Address, p.Port, p.Transport, p.URLPath, v.Word, *p.End, frontsOf(&p)})
				}
			}
		}
		return out
	})
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	out := append([]Lead{}, slices.Concat(by...)...)
	for _, e := range t.Exposure(v).Open {
		if e.Place != place || e.Site != nil || port != 0 && e.Port != port {
			continue
		}
		out = append(out, Lead{"", e.Address, e.Range.Lo, e.Transport, "/", v.Word, fmt.Sprintf("%s:%d", e.Place, e.Port), ""})
	}
	slices.SortStableFunc(out, inOrder)
	return slices.Compact(out), nil
}

// frontsOf are the places that hand a path on.
func frontsOf(p *Path) string {
	var places []string
	for _, f := range p.fronts {
		if !slices.Contains(places, f.Place) {
			places = append(places, f.Place)
		}
	}
	return strings.Join(places, ", then ")
}

func inOrder(a, b Lead) int {
	return cmp.Or(strings.Compare(a.Name, b.Name), cmp.Compare(a.Port, b.Port), strings.Compare(a.Address, b.Address), strings.Compare(a.URLPath, b.URLPath))
}

// ParseEnd reads a place at which ways end, with a port or, where it is 0, on any: azimuth/allsky or azimuth/allsky:3000.
func (t *Tracer) ParseEnd(text string) (place string, port uint16, err error) {
	place = strings.ToLower(strings.TrimSpace(text))
	if at, number, ok := strings.Cut(strings.TrimSuffix(strings.TrimSuffix(place, "/udp"), "/tcp"), ":"); ok {
		n, err := strconv.ParseUint(number, 10, 16)
		if err != nil || n == 0 {
			return "", 0, fmt.Errorf("%q is no place and port; expected one as azimuth/allsky:3000", text)
		}
		place, port = at, uint16(n)
	}
	if t.Model.PlaceNamed(place) == nil {
		return "", 0, fmt.Errorf("%q is no host and no container; expected one that is recorded%s", place, estate.Near(t.Model.Estate, place, estate.RefPlace))
	}
	return place, port, nil
}

func endsAt(end *string, place string, port uint16) bool {
	if end == nil {
		return false
	}
	at, on, _ := strings.Cut(*end, ":")
	return at == place && (port == 0 || on == fmt.Sprint(port))
}
