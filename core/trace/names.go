package trace

import (
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
)

// Name is a name of ours and what brings it in.
type Name struct {
	Name    string
	Zone    string   // the longest recorded zone that it is under; "" where none is
	Records []string // the records that bring it in
	Owner   bool     // an address or alias record has it
	From    []string // the vantages that it is for, where not everybody's
}

// nameList is all names, worked out once.
type nameList struct {
	once sync.Once
	list atomic.Pointer[[]*Name]
	from map[string][]string // of those that are not everybody's
}

// Names are all names in DNS, a site, an intent or a certificate, in the order of zone and name; not to be changed. Names with
// an underscore label are not for visitors, and left out. A name of which an edit does not speak is the same before and after.
func (t *Tracer) Names() []*Name {
	x := t.names
	x.once.Do(func() {
		list := t.namesAfter()
		x.from = map[string][]string{}
		for _, n := range list {
			if len(n.From) > 0 {
				x.from[n.Name] = n.From
			}
		}
		x.list.Store(&list)
	})
	return *x.list.Load()
}

// VantagesOf are the vantages that a name of ours is looked at from: those that it is for, where not everybody's.
func (t *Tracer) VantagesOf(name string) []string {
	t.Names()
	if from := t.names.from[name]; from != nil {
		return from
	}
	return []string{"internet"}
}

// sameNames says whether two estates have the same records that names come of.
func sameNames(before, after *estate.Estate) bool {
	return estate.Same(before, after, "zone", "dns", "host", "container", "network", "group", "listen", "site", "intend", "cert")
}

// namesAfter are the names; those of before that the edit does not speak of are taken over.
func (t *Tracer) namesAfter() []*Name {
	before, e := t.was, t.Model.Estate
	var list []*Name
	if before != nil {
		if known := before.list.Load(); known != nil {
			list = *known
		}
	}
	if list == nil || !estate.Same(before.estate, e, "zone", "host", "container", "network", "group") {
		return t.findNames(nil)
	}
	only := map[string]bool{}
	listening := map[string]bool{}
	for _, word := range []string{"dns", "listen", "site", "intend", "cert"} {
		gone, come := estate.Changed(before.estate, e, estate.KindNamed(word))
		for _, r := range slices.Concat(gone, come) {
			switch r := r.(type) {
			case *estate.DNS:
				only[r.Owner] = true
			case *estate.Listen:
				listening[r.Service] = true
			case *estate.Site:
				for _, name := range r.Names {
					only[name] = true
				}
			case *estate.Intent:
				only[r.Target] = true
			case *estate.Cert: // of several with one name the first alone is in force
				for _, c := range append(estate.CertsNamed(before.estate, r.Name), estate.CertsNamed(e, r.Name)...) {
					for _, name := range c.For {
						only[name] = true
					}
				}
			}
		}
	}
	if len(listening) > 0 {
		heard := estate.OneOf(listening)
		for _, r := range e.Of(estate.KindNamed("site")) {
			if s := r.(*estate.Site); heard(s.Service) {
				for _, name := range s.Names {
					only[name] = true
				}
			}
		}
	}
	if len(only) == 0 {
		return list
	}
	come := t.findNames(only)
	wanted := estate.OneOf(only)
	out := make([]*Name, 0, len(list)+len(come))
	for _, n := range list {
		if wanted(n.Name) {
			continue
		}
		for len(come) > 0 && come[0].compare(n) < 0 {
			out, come = append(out, come[0]), come[1:]
		}
		out = append(out, n)
	}
	return append(out, come...)
}

// compare puts names in the order of zone and name.
func (n *Name) compare(o *Name) int {
	if n.Zone != o.Zone {
		return strings.Compare(n.Zone, o.Zone)
	}
	return CompareNames(n.Name, o.Name)
}

// findNames are the names: all, or only some.
func (t *Tracer) findNames(only map[string]bool) []*Name {
	at := map[string]*Name{}
	wanted := func(string) bool { return true }
	if only != nil {
		wanted = estate.OneOf(only)
	}
	note := func(name string, r estate.Record) *Name {
		if !wanted(name) || name == "*" || name == "" || exposure.IsIP(name) || strings.HasPrefix(name, "_") || strings.Contains(name, "._") {
			return nil
		}
		n := at[name]
		if n == nil {
			n = &Name{Name: name}
			at[name] = n
		}
		n.Records = append(n.Records, estate.Line(r))
		return n
	}
	everybody := map[string]bool{}
	narrowed := map[string][]string{}
	zones := map[string]*estate.Zone{}
	for _, r := range t.Model.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off {
			if _, seen := zones[z.Name]; !seen || len(zones[z.Name].For) > 0 {
				zones[z.Name] = z
			}
		}
	}
	for _, r := range t.Model.Estate.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if d.Off || d.Type != "A" && d.Type != "AAAA" && d.Type != "ALIAS" && d.Type != "CNAME" {
			continue
		}
		n := note(d.Owner, d)
		if n == nil {
			continue
		}
		n.Owner = true
		if len(d.For) == 0 {
			everybody[d.Owner] = true
		}
		for _, s := range d.For {
			narrowed[d.Owner] = append(narrowed[d.Owner], s.String())
		}
	}
	t.eachSite(only, func(name string, site *estate.Site) { note(name, site) })
	for _, i := range t.Model.Intents {
		if wanted(i.Target) && t.Model.PlaceNamed(i.Target) == nil && t.Model.NetNamed(i.Target) == nil {
			note(i.Target, i)
		}
	}
	for _, c := range t.Model.CertList {
		for _, name := range c.For {
			if !strings.HasPrefix(name, "*.") || at[name] != nil {
				note(name, c)
			}
		}
	}
	out := make([]*Name, 0, len(at))
	for name, n := range at {
		for up, ok := name, true; ok && n.Zone == ""; up, ok = names.Parent(up) {
			if zones[up] != nil {
				n.Zone = up
			}
		}
		if n.Zone == "" && zones["."] != nil {
			n.Zone = "."
		}
		switch z := zones[n.Zone]; {
		case !everybody[name] && len(narrowed[name]) > 0:
			n.From = slices.Compact(slices.Sorted(slices.Values(narrowed[name])))
		case z != nil && len(z.For) > 0 && !everybody[name]:
			for _, s := range z.For {
				if word := s.String(); !slices.Contains(n.From, word) {
					n.From = append(n.From, word)
				}
			}
		}
		slices.Sort(n.Records)
		out = append(out, n)
	}
	slices.SortFunc(out, (*Name).compare)
	return out
}

// eachSite gives the sites of services that something listens as, by each of their names: all, or those of some names.
func (t *Tracer) eachSite(only map[string]bool, found func(name string, site *estate.Site)) {
	if only == nil {
		for _, s := range t.Model.Services {
			for _, site := range s.Sites {
				found(site.Name, site.Record)
			}
		}
		return
	}
	for name := range only {
		sites := t.Index.Exact.Of(name)
		if base, wild := strings.CutPrefix(name, "*."); wild {
			sites = t.Index.Wildcards.Of(base)
		}
		for _, s := range sites {
			if !s.Off && t.Model.Services[s.Service] != nil {
				found(name, s)
			}
		}
	}
}

// CompareNames orders names by their labels from the right, the shorter first: the order of RFC 4034 §6.1.
func CompareNames(a, b string) int {
	for a != "" && b != "" {
		i, j := strings.LastIndexByte(a, '.'), strings.LastIndexByte(b, '.')
		if d := strings.Compare(a[i+1:], b[j+1:]); d != 0 {
			return d
		}
		a, b = a[:max(i, 0)], b[:max(j, 0)]
	}
	return len(a) - len(b)
}

// IntentsOf are the intents for a name, address or place, in the order written.
func (t *Tracer) IntentsOf(target string) []*estate.Intent { return t.Index.Intents.Of(target) }

// AddressedAnywhere says whether some network gets an address for a name; what is asked for is added to reads.
func (t *Tracer) AddressedAnywhere(name string, reads *memo.Reads) bool {
	for _, net := range t.Model.Networks {
		v6, v4 := t.Model.Names.Addresses(name, t.Model.AskerAt(model.Nowhere, net.ID))
		reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
		if len(v6.Addresses)+len(v4.Addresses) > 0 {
			return true
		}
	}
	return false
}

// InHostsFile says whether some machine's own hosts file gives a name.
func (t *Tracer) InHostsFile(name string) bool {
	return slices.ContainsFunc(t.Model.Estate.Of(estate.KindNamed("name")), func(r estate.Record) bool {
		entry := r.(*estate.HostsEntry)
		return !entry.Off && entry.Hostname == name
	})
}

// OnlyAskedInside says whether a name is no more than what a front asks of its backend: the name of a site that a hand-on asks for.
func (t *Tracer) OnlyAskedInside(name string) bool {
	if len(t.Index.Intents.Of(name)) > 0 || len(t.Model.CertsFor[name]) > 0 {
		return false
	}
	return slices.ContainsFunc(t.Model.Estate.Of(estate.KindNamed("site")), func(r estate.Record) bool {
		s := r.(*estate.Site)
		return !s.Off && (s.Asking == name || s.Asking == "upstream" && s.To.Host == name)
	})
}

// ForwardsTo are the forwards that lead to an address.
func (t *Tracer) ForwardsTo(a netip.Addr) []*model.Forward { return t.Index.Forwards[a] }

// Defaulted is the site that took a path only since none has the name; nil where one has it.
func (p *Path) Defaulted() estate.Record { return p.caughtBy }

// Answer is what a name answers to a vantage, for one type.
func (t *Tracer) Answer(name, qtype string, v flow.Vantage) names.Answer {
	return t.Model.Names.Ask(name, qtype, t.Asker(v.Origins[0]))
}
