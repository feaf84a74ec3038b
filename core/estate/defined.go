package estate

import "maps"

// Definitions are how often each name is brought in that lines may refer to.
type Definitions map[RefKind]map[string]int

// Defines gives what a line brings in.
func Defines(r Record) (Ref, bool) {
	if l, ok := r.(*Listen); ok {
		return Ref{Kind: RefService, Name: l.Service}, true
	}
	k := KindOf(r)
	if k.Defines == 0 {
		return Ref{}, false
	}
	return Ref{Kind: k.Defines, Name: k.Fields[0].Values(r)[0]}, true
}

// DefinedIn are the names that the lines of an estate bring in.
func DefinedIn(e *Estate) Definitions {
	d := Definitions{}
	for _, k := range Kinds {
		for _, r := range e.Of(k) {
			ref, ok := Defines(r)
			if !ok {
				break // as all of its kind
			}
			if d[ref.Kind] == nil {
				d[ref.Kind] = map[string]int{}
			}
			d[ref.Kind][ref.Name]++
		}
	}
	return d
}

// After are the definitions once lines of each kind have gone and come, and the names that are there now and were not, or the
// other way.
func (d Definitions) After(changed [][2][]Record) (Definitions, map[Ref]bool) {
	by := map[Ref]int{}
	for _, kind := range changed {
		for _, r := range kind[0] {
			if ref, ok := Defines(r); ok {
				by[ref]--
			}
		}
		for _, r := range kind[1] {
			if ref, ok := Defines(r); ok {
				by[ref]++
			}
		}
	}
	next, turned, own := maps.Clone(d), map[Ref]bool{}, map[RefKind]bool{}
	for ref, n := range by {
		was := d[ref.Kind][ref.Name]
		if n == 0 {
			continue
		}
		if (was == 0) != (was+n == 0) {
			turned[ref] = true
		}
		if !own[ref.Kind] {
			own[ref.Kind], next[ref.Kind] = true, map[string]int{}
			maps.Copy(next[ref.Kind], d[ref.Kind])
		}
		next[ref.Kind][ref.Name] = was + n
	}
	return next, turned
}

// Has says whether a name stands for something of the kinds that a reference is to.
func (d Definitions) Has(ref Ref) bool {
	for kind := range ref.Kind.Each() {
		if d[kind][ref.Name] > 0 {
			return true
		}
	}
	return false
}

// Nearest is the name of those kinds that is spelt most like a reference; "" where none is near.
func (d Definitions) Nearest(ref Ref) string {
	var candidates []string
	for kind := range ref.Kind.Each() {
		for name, n := range d[kind] {
			if n > 0 {
				candidates = append(candidates, name)
			}
		}
	}
	return Nearest(ref.Name, candidates)
}

// Near says behind a word that nothing is called by what is spelt most like it, of names of some kinds: " (nearest: azimuth)"; "" where nothing is.
func Near(e *Estate, word string, kinds RefKind) string {
	d := DefinedIn(e)
	if kinds&RefHostname != 0 { // names of the DNS, and the zones that they are in
		kinds |= RefZone
		names := maps.Clone(d[RefZone])
		if names == nil {
			names = map[string]int{}
		}
		for _, r := range e.Of(dnsKind) {
			names[r.(*DNS).Owner]++
		}
		d[RefZone] = names
	}
	near := d.Nearest(Ref{Kind: kinds, Name: word})
	if near == "" || near == word {
		return ""
	}
	return " (nearest: " + near + ")"
}
