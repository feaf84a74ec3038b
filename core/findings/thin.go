package findings

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/trace"
)

// keep is a line that alone keeps the internet from something that is not meant for it.
type keep struct{ line, what string }

// Keeps is what each line keeps shut alone, a filter's line or a rule's, as place and port.
func (x *Checked) Keeps() map[string][]string {
	out := map[string][]string{}
	for v := range x.walks.all() {
		for _, k := range v.keeps {
			if !slices.Contains(out[k.line], k.what) {
				out[k.line] = append(out[k.line], k.what)
			}
		}
	}
	return out
}

// mostKept is how many listeners of a place are looked at, where an intent is for all of its ports.
const mostKept = 64

// thin finds what an intent means for nobody, or for the inside only, and one line alone keeps shut.
func (c *visiting) thin(i *estate.Intent, target trace.Target) {
	if slices.ContainsFunc(i.For, func(s estate.Selector) bool { return s.Word == "internet" || s.Word == "any" }) {
		return
	}
	for _, l := range c.meantAt(i, target) {
		for _, shut := range c.t.KeptShut(l.place, l.key, &c.reads) {
			subject := fmt.Sprintf("%s:%d/%s", shut.Host.Name, shut.Port, shut.Transport)
			what := fmt.Sprintf("%s:%s", l.place.Name, keyWord(l.key))
			f := Finding{
				Code: "exposure.thin", Subject: subject, Records: lines(append(shut.By, i)...), keys: []string{flow.RecordCause(estate.Line(shut.By[0]))},
				Trace: &Where{fmt.Sprintf("%s:%s", hostPort(shut.Addr.String()), keyWord(flow.PortKey{Port: shut.Port, Transport: shut.Transport})), "internet"},
				Why:   fmt.Sprintf("One line alone keeps the internet from %s, which is meant for %s: %s.", what, meantWord(i), keepers(shut.By)),
			}
			c.add(f)
			for _, by := range shut.By {
				c.keeps = append(c.keeps, keep{estate.Line(by), what})
			}
		}
	}
}

// listenerAt is a port of a place.
type listenerAt struct {
	place *model.Place
	key   flow.PortKey
}

// meantAt are the listeners that an intent speaks of: those to which its ways come first, and, of a place or address, those there.
func (c *visiting) meantAt(i *estate.Intent, target trace.Target) []listenerAt {
	var out []listenerAt
	add := func(p *model.Place, key flow.PortKey) {
		if l := (listenerAt{p, key}); p != nil && !p.Outside && len(out) < mostKept && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	for _, w := range c.walks {
		for n := range w.paths {
			for k := range w.paths[n].Steps {
				if s := &w.paths[n].Steps[k]; s.Stage == flow.StageSocket && s.Verdict == flow.Pass {
					add(c.m.PlaceNamed(s.At), flow.PortKey{Port: portIn(s.Flow.To), Transport: w.key.Transport})
					break
				}
			}
		}
	}
	place := target.Place
	if owners := c.m.Owners(target.Addr); place == nil && target.Addr.IsValid() && len(owners) > 0 {
		place = c.m.Places[owners[0].Place]
	}
	if place == nil {
		return out
	}
	namespace := c.m.Places[place.Namespace]
	for n := range namespace.Sockets {
		s := &namespace.Sockets[n]
		if s.Record.Bind.Addr.IsValid() && s.Record.Bind.Addr.IsLoopback() {
			continue
		}
		for _, t := range s.Record.Bind.Transport.Each() {
			if i.Ports.Transport&t == 0 {
				continue
			}
			ports := s.Ports
			if !i.Ports.Any {
				ports = ports.Intersect(i.Ports.Set())
			}
			for _, r := range ports.Ranges() {
				add(c.m.Places[s.Place], flow.PortKey{Port: r.Lo, Transport: t})
			}
		}
	}
	return out
}

func meantWord(i *estate.Intent) string {
	if forNobody(i) {
		return "nobody"
	}
	return selectorsOf(i.For) + " only"
}

// keepers says which lines each do.
func keepers(by []estate.Record) string {
	filter := by[0].(*estate.Filter)
	words := fmt.Sprintf("filter %s on %s", filter.Name, strings.Join(filter.On, ","))
	if len(by) > 1 {
		words += fmt.Sprintf(", and in it the line %q", estate.Line(by[1]))
	}
	return words
}
