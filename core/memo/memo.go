// Package memo is what one revision takes over from the one before: kept values, each with what it read, and what an edit may have changed
// of that. A kept value is given again only if nothing that it read has changed.
package memo

import (
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
)

// Reads are what a trace came by on its way, past breaks too, besides how machines hang together: where none of it changes,
// it says what it said before.
type Reads struct {
	places   []model.PlaceID // machines and containers, by whatever branch
	services []string
	names    []string // that were asked for
	all      bool     // listeners wherever they are
	marks    marks    // of all these
}

// And adds what another read.
func (r *Reads) And(other *Reads) {
	if r == nil {
		return
	}
	for _, id := range other.places {
		r.Place(id)
	}
	for _, s := range other.services {
		r.Service(s)
	}
	r.Asked(other.names...)
	r.all = r.all || other.all
}

func (r *Reads) Clone() Reads {
	c := *r
	c.places, c.services, c.names = slices.Clone(r.places), slices.Clone(r.services), slices.Clone(r.names)
	return c
}

func (r *Reads) Place(id model.PlaceID) {
	if r != nil && !slices.Contains(r.places, id) {
		r.places = append(r.places, id)
		r.marks.place(id)
	}
}

// Everywhere adds listeners wherever they are.
func (r *Reads) Everywhere() {
	if r != nil {
		r.all = true
	}
}

func (r *Reads) Service(name string) {
	if r != nil && !slices.Contains(r.services, name) {
		r.services = append(r.services, name)
		r.marks.service(name)
	}
}

// Asked adds names that were asked for.
func (r *Reads) Asked(chain ...string) {
	for _, name := range chain {
		if r != nil && !slices.Contains(r.names, name) {
			r.names = append(r.names, name)
			r.marks.name(name)
		}
	}
}

// Touch is what an edit may have changed for a trace.
type Touch struct {
	all      bool
	places   []bool // by place
	services map[string]bool
	names    map[string]bool // themselves
	below    []string        // and whatever is at or below these
	marks    marks           // of all these

	ofService, ofName func(string) bool // whether one is among them
}

// Anything is a touch that may have changed whatever there is.
func Anything() *Touch { return &Touch{all: true} }

// Between is what an edit may have changed that made of one model's estate the other's.
func Between(m, after *model.Model) *Touch {
	if !after.HangsTogetherAs(m) {
		return Anything()
	}
	x := &Touch{places: make([]bool, len(m.Places)), services: map[string]bool{}, names: map[string]bool{}}
	left := mostTouching
	for _, k := range estate.Kinds {
		gone, come := estate.Changed(m.Estate, after.Estate, k)
		if left -= len(gone) + len(come); left < 0 {
			return &Touch{all: true}
		}
		for _, r := range slices.Concat(gone, come) {
			x.record(m, after, r)
		}
	}
	x.mark()
	return x
}

// mark ends the making of a touch.
func (x *Touch) mark() {
	x.ofService, x.ofName = estate.OneOf(x.services), estate.OneOf(x.names)
	for id, touched := range x.places {
		if touched {
			x.marks.place(model.PlaceID(id))
		}
	}
	for name := range x.services {
		x.marks.service(name)
	}
	for name := range x.names {
		x.marks.word(2, name)
	}
	for _, base := range x.below {
		if x.marks.word(3, base); base == "." {
			x.marks.all()
		}
	}
}

// Also is a touch that has some other places besides.
func (x *Touch) Also(places ...[]model.PlaceID) *Touch {
	if x.all {
		return x
	}
	next := *x
	next.places = slices.Clone(x.places)
	for _, list := range places {
		for _, id := range list {
			next.places[id] = true
			next.marks.place(id)
		}
	}
	return &next
}

// mostTouching is how many records may change before an edit counts as one that may have changed anything.
const mostTouching = 256

func (x *Touch) record(m, after *model.Model, r estate.Record) {
	place := func(name string) {
		if p := m.PlaceNamed(name); p != nil {
			x.places[p.ID], x.places[p.Namespace], x.places[p.Host] = true, true, true
		}
	}
	filter := func(name string) {
		x.all = x.all || m.Stateless || after.Stateless // a reply may come by there too
		for _, of := range []*model.Model{m, after} {
			for _, p := range of.FilteredBy(name) {
				x.places[p] = true
			}
		}
	}
	switch r := r.(type) {
	case *estate.Rule:
		filter(r.Filter)
	case *estate.Filter:
		filter(r.Name)
	case *estate.Forward:
		place(r.Router)
		for _, h := range slices.Concat(m.Owners(r.To.Addr), m.Owners(r.Bind.Addr)) { // it may give names there a port
			place(m.Places[h.Place].Name)
		}
	case *estate.Outbound:
		place(r.Router)
	case *estate.Map:
		place(r.Container)
		host, _, _ := strings.Cut(r.Container, "/")
		place(host)
	case *estate.Listen:
		place(r.Place)
		if isNamed(m, r.Service) || isNamed(after, r.Service) { // else it is found by its place alone
			x.services[r.Service] = true
		}
	case *estate.Site:
		x.services[r.Service] = true
		for _, name := range append(slices.Clip(r.Names), r.Asking, r.To.Host) { // what it asks for need not resolve elsewhere
			if name != "" {
				x.covers(name)
			}
		}
	case *estate.Intent:
		x.names[r.Target] = true
	case *estate.Cert:
		x.cert(m, after, r)
	case *estate.DNS:
		x.dns(m, after, r.Owner, r.Type)
	case *estate.Zone:
		x.covers("*." + r.Name)
		x.names[r.Name] = true
	case *estate.HostsEntry:
		x.names[r.Hostname] = true
	case *estate.Acceptance, *estate.Name:
	default: // how machines hang together, and what is rare
		x.all = true
	}
}

// isNamed says whether a service is found by its name: it has sites, signs in the visitors of one, or answers challenges; in force or not.
func isNamed(m *model.Model, service string) bool {
	return slices.ContainsFunc(m.Estate.Of(estate.KindNamed("site")), func(r estate.Record) bool {
		s := r.(*estate.Site)
		return s.Service == service || s.Guard.Service == service
	}) || slices.ContainsFunc(m.Estate.Of(estate.KindNamed("cert")), func(r estate.Record) bool { return r.(*estate.Cert).Through == service })
}

// covers is a name of a site or certificate, a wildcard perhaps.
func (x *Touch) covers(name string) {
	if base, wild := strings.CutPrefix(name, "*."); wild {
		x.under(base)
	}
	x.names[name] = true
}

// cert is a certificate: whoever shows it, by name or by where it lies, and the names that it has; and those of others of its
// name, of which the first alone is in force.
func (x *Touch) cert(m, after *model.Model, r *estate.Cert) {
	for _, of := range []*model.Model{m, after} {
		for _, c := range estate.CertsNamed(of.Estate, r.Name) {
			for _, on := range c.On {
				if p := m.PlaceNamed(on); p != nil {
					x.places[p.ID] = true
				}
			}
			for _, name := range c.For {
				x.covers(name)
			}
		}
		for _, s := range of.Services {
			shows := slices.ContainsFunc(s.Listens, func(l *estate.Listen) bool { return slices.Contains(l.Certs, r.Name) }) ||
				slices.ContainsFunc(s.Sites, func(site *model.Site) bool { return site.Record.Cert == r.Name })
			if shows {
				x.services[s.Name] = true
			}
		}
	}
}

// dns is a record of a name. It may make names exist above it and stop a wildcard there, so whatever shares its first label
// below the zone's own name is touched.
func (x *Touch) dns(m, after *model.Model, owner, kind string) {
	x.names[owner] = true
	inZone := false
	for _, of := range []*model.Model{m, after} {
		for _, zone := range zonesAbove(of, owner) {
			inZone = true
			if owner == zone {
				if kind == "NS" || kind == "DNAME" {
					x.under(zone)
				}
				continue
			}
			inside := strings.TrimSuffix(owner, "."+zone)
			if zone == "." {
				inside = owner
			}
			label := inside[strings.LastIndexByte(inside, '.')+1:]
			switch {
			case label == "*":
				x.under(zone)
			case zone == ".":
				x.under(label)
			default:
				x.under(label + "." + zone)
			}
		}
	}
	if !inZone {
		x.under(owner)
	}
}

// under is a name with all that is below it.
func (x *Touch) under(name string) {
	if !slices.Contains(x.below, name) {
		x.below = append(x.below, name)
	}
}

// zonesAbove are the recorded zones that a name is in.
func zonesAbove(m *model.Model, name string) []string {
	var out []string
	for _, r := range m.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !slices.Contains(out, z.Name) && names.Under(name, z.Name) {
			out = append(out, z.Name)
		}
	}
	return out
}

// Everything says whether the edit may have changed any trace at all: how machines hang together.
func (x *Touch) Everything() bool { return x.all }

// Some says whether the edit may have changed what some places do.
func (x *Touch) Some(places []model.PlaceID) bool {
	return x.all || slices.ContainsFunc(places, func(id model.PlaceID) bool { return x.places[id] })
}

// Reading says whether the edit may have changed anything that something read.
func (x *Touch) Reading(r *Reads) bool {
	if x.all || r.all {
		return true
	}
	if !x.marks.meet(&r.marks) {
		return false
	}
	for _, id := range r.places {
		if x.places[id] {
			return true
		}
	}
	if len(x.services) > 0 && slices.ContainsFunc(r.services, x.ofService) {
		return true
	}
	return len(x.names) > 0 && slices.ContainsFunc(r.names, x.name)
}

func (x *Touch) name(name string) bool {
	return len(x.names) > 0 && (x.ofName(name) || slices.ContainsFunc(x.below, func(base string) bool { return names.Under(name, base) }))
}
