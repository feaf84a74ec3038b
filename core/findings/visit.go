package findings

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// visitKey says what a visit is to: what an intent names, or a name as a vantage sees it.
type visitKey struct {
	intent     *estate.Intent
	name, from string
}

// visit is all that is walked for one intent, or for one name from one vantage.
type visit struct {
	walks []walk
	reads trace.Reads
	found []*Finding
	// unrecorded is a name that something uses and DNS does not know: a fault where no walk says so already.
	unrecorded *Finding

	met    []lineMet
	fronts []trace.Front
	at     []model.PlaceID // the places of met and fronts
}

// walk is one trace that a check makes.
type walk struct {
	label string // the target with its port, as a trace is asked for
	key   trace.PortKey
	from  trace.Vantage
	paths []trace.Path
}

// lineMet is a line that a walk came by.
type lineMet struct {
	line    string
	at      string // the place
	target  string // what the walk is to
	port    uint16
	lets    bool // the line let it on
	filter  bool // the line is of a filter, and the port the one that it met
	stopped bool // the line stopped it
}

// walks are the visits to everything that somebody is to reach, and what they came by.
type walks struct {
	*kept[visitKey, *visit]
	by      [][]*visit                // by place
	passing []atomic.Pointer[passing] // by place, worked out where it is asked for
	changed map[model.PlaceID]bool    // places that are come by in another way than before the edit
	fronted []model.PlaceID           // and those that something stands before on other ports
	names   []trace.Name
	visited []int32          // by visit to a name, which of names
	from    []*trace.Vantage // and from where
}

// passing is what visits came by at one place.
type passing struct {
	lets            map[string]bool // the lines that let something meant on
	needs           map[string][]string
	passed, stopped map[string][]uint16 // the ports of what met a line of a filter
	fronts          map[uint16]*backend // what stands before its ports
	fronted         []uint16            // these, rising
}

// walk visits every intent's target, and every name at the ports where no intent does.
func (s *survey) walk(before *walks, e edit) *walks {
	internet, err := s.t.VantageNamed("internet")
	if err != nil {
		return &walks{}
	}
	next := &walks{names: s.t.Names()}
	var old *kept[visitKey, *visit]
	if before != nil && before.kept != nil {
		old = before.kept
	}
	var keys []visitKey
	if old != nil && s.m.HangsTogetherAs(e.before) && estate.Same(e.before.Estate, s.m.Estate, "intend") && sameSlice(before.names, next.names) {
		keys, next.visited, next.from = old.keys, before.visited, before.from
	} else {
		keys = make([]visitKey, 0, len(s.m.Intents)+len(next.names))
		for _, i := range s.m.Intents {
			keys = append(keys, visitKey{intent: i})
		}
		next.visited, next.from = make([]int32, 0, len(next.names)), make([]*trace.Vantage, 0, len(next.names))
		visit := func(i int, v *trace.Vantage) {
			keys, next.visited, next.from = append(keys, visitKey{name: next.names[i].Name, from: v.Word}), append(next.visited, int32(i)), append(next.from, v)
		}
		for i := range next.names {
			if len(next.names[i].From) == 0 {
				visit(i, &internet)
			}
			for _, word := range next.names[i].From {
				if v, err := s.t.VantageNamed(word); err == nil {
					visit(i, &v)
				}
			}
		}
	}
	intents := len(s.m.Intents)
	stands := func(i int, v *visit) bool {
		if i < intents {
			return !e.touch.Trace(s.m.Intents[i].Target, &v.reads)
		}
		return !e.touch.Trace(keys[i].name, &v.reads)
	}
	var changes []renewed[*visit]
	next.kept, changes = redo(s.ctx, old, keys, stands, func(i int) *visit {
		c := &visiting{check{survey: *s}, &visit{}}
		if i < intents {
			c.intent(s.m.Intents[i])
		} else {
			c.name(next.names[next.visited[i-intents]], *next.from[i-intents])
		}
		return c.done()
	})
	if s.ctx.Err() != nil {
		return &walks{}
	}
	if before == nil || !s.m.HangsTogetherAs(e.before) {
		next.indexAll(s.m)
	} else {
		next.indexAfter(s.m, before, changes)
	}
	return next
}

// found is what all visits found.
func (w *walks) found() []*Finding {
	var out []*Finding
	for _, v := range w.values {
		out = append(out, v.found...)
	}
	at := map[string]bool{}
	for _, f := range out {
		if f.Code == "name.unresolved" {
			at[f.Subject] = true
		}
	}
	for _, v := range w.values {
		if v.unrecorded != nil && !at[v.unrecorded.Subject] {
			out = append(out, v.unrecorded)
		}
	}
	return out
}

// indexAll lists the visits by place.
func (w *walks) indexAll(m *model.Model) {
	w.by, w.passing = make([][]*visit, len(m.Places)), make([]atomic.Pointer[passing], len(m.Places))
	for _, v := range w.values {
		for _, id := range v.at {
			w.by[id] = append(w.by[id], v)
		}
	}
}

// indexAfter lists the visits by place, as before but for those that were renewed.
func (w *walks) indexAfter(m *model.Model, before *walks, changes []renewed[*visit]) {
	w.by, w.passing, w.changed = before.by, before.passing, map[model.PlaceID]bool{}
	if len(changes) == 0 {
		return
	}
	gone := map[*visit]bool{}
	come := map[model.PlaceID][]*visit{} // by every place that one came by before or after
	for _, c := range changes {
		if c.old == nil {
			c.old = &visit{}
		}
		if c.now == nil {
			c.now = &visit{}
		}
		gone[c.old] = true
		for _, id := range slices.Concat(c.old.at, c.now.at) {
			w.changed[id] = w.changed[id] || !c.old.sameAt(c.now, m.Places[id].Name)
			if _, known := come[id]; !known {
				come[id] = nil
			}
		}
		for _, id := range c.now.at {
			come[id] = append(come[id], c.now)
		}
	}
	w.by = slices.Clone(before.by)
	for id, list := range come {
		w.by[id] = append(slices.DeleteFunc(slices.Clone(before.by[id]), func(v *visit) bool { return gone[v] }), list...)
	}
	w.passing = make([]atomic.Pointer[passing], len(before.passing))
	for id := range w.passing {
		if !w.changed[model.PlaceID(id)] {
			w.passing[id].Store(before.passing[id].Load())
		}
	}
	for id, changed := range w.changed {
		if old := before.passing[id].Load(); changed && (old == nil || !slices.Equal(old.fronted, w.at(m.Places[id]).fronted)) {
			w.fronted = append(w.fronted, id)
		}
	}
}

// sameAt says whether another visit came by a place in the same way.
func (v *visit) sameAt(other *visit, place string) bool {
	at := func(v *visit) (met []lineMet, fronts []trace.Front) {
		for _, m := range v.met {
			if m.at == place {
				met = append(met, m)
			}
		}
		for _, f := range v.fronts {
			if f.To == place {
				fronts = append(fronts, f)
			}
		}
		return met, fronts
	}
	met, fronts := at(v)
	otherMet, otherFronts := at(other)
	return slices.Equal(met, otherMet) && slices.Equal(fronts, otherFronts)
}

// at is what visits came by at a place.
func (w *walks) at(p *model.Place) *passing {
	if known := w.passing[p.ID].Load(); known != nil {
		return known
	}
	x := &passing{map[string]bool{}, map[string][]string{}, map[string][]uint16{}, map[string][]uint16{}, map[uint16]*backend{}, nil}
	for _, v := range w.by[p.ID] {
		for i := range v.met {
			m := &v.met[i]
			if m.at != p.Name {
				continue
			}
			if m.lets {
				x.lets[m.line] = true
			}
			if !m.filter {
				continue
			}
			ports := x.passed
			if m.stopped {
				ports = x.stopped
			} else if m.lets {
				x.needs[m.line] = append(x.needs[m.line], m.target)
			}
			if !slices.Contains(ports[m.line], m.port) {
				ports[m.line] = append(ports[m.line], m.port)
			}
		}
		for i := range v.fronts {
			f := &v.fronts[i]
			if f.To != p.Name {
				continue
			}
			if x.fronts[f.ToPort] == nil {
				x.fronts[f.ToPort] = &backend{}
			}
			x.fronts[f.ToPort].handedBy(f, f.Site.Guard != (estate.Guard{}), f.Place)
		}
	}
	for line, list := range x.needs {
		slices.Sort(list)
		x.needs[line] = slices.Compact(list)
	}
	x.fronted = slices.Sorted(maps.Keys(x.fronts))
	w.passing[p.ID].Store(x)
	return x
}

// Needs are what is meant to get through by each line of a filter, as it is asked for.
func (x *Checked) Needs(filter string) map[string][]string {
	out := map[string][]string{}
	for _, id := range x.m.FilteredBy(filter) {
		for line, list := range x.walks.at(x.m.Places[id]).needs {
			both := append(out[line], list...)
			slices.Sort(both)
			out[line] = slices.Compact(both)
		}
	}
	return out
}

// visiting is a visit on the way.
type visiting struct {
	check
	*visit
}

// goes follows a target and notes the breaks of its paths.
func (c *visiting) goes(target trace.Target, label string, key trace.PortKey, from trace.Vantage) []trace.Path {
	paths := c.t.TraceReading(target, key, from, &c.reads)
	c.walks = append(c.walks, walk{label, key, from, paths})
	return paths
}

// intent walks from everybody whom an intent is for.
func (c *visiting) intent(i *estate.Intent) {
	a := &aim{intent: i}
	if tg, err := c.t.ParseTarget(i.Target); err == nil {
		for _, s := range i.For {
			v, err := c.t.VantageNamed(s.String())
			if s.Word == "nobody" || err != nil {
				continue
			}
			for _, key := range portKeys(i.Ports) {
				paths := c.goes(tg, i.Target+":"+keyWord(key), key, v)
				if tg.Name != "" {
					c.catches(tg.Name, keyWord(key), v, paths)
					c.leads(tg.Name, key, v, paths)
				}
				c.paths(i.Target+":"+keyWord(key), v.Word, paths)
				a.met(key, v, paths)
			}
		}
	}
	c.aim(a)
}

// name walks to a name at its ports, where no intent does.
func (c *visiting) name(n trace.Name, v trace.Vantage) {
	tg := trace.Target{Text: n.Name, Name: n.Name}
	ports, known := c.t.PortsReading(n.Name, &v, &c.reads)
	intents := c.t.IntentsOf(n.Name)
	var all []trace.Path
	for _, k := range ports {
		if slices.ContainsFunc(intents, func(i *estate.Intent) bool { return amongKeys(i.Ports, k) }) {
			continue
		}
		paths := c.goes(tg, n.Name+":"+keyWord(k), k, v)
		c.catches(n.Name, keyWord(k), v, paths)
		c.leads(n.Name, k, v, paths)
		if known {
			c.paths(n.Name+":"+keyWord(k), v.Word, paths)
		}
		all = append(all, paths...)
	}
	if !known && len(all) > 0 && !slices.ContainsFunc(all, func(p trace.Path) bool { return p.Outcome.Good() }) {
		c.paths(n.Name, v.Word, all[:1]) // nothing gives a port: once is enough
	}
	if !n.Owner && v.Word == "internet" && !c.t.AddressedAnywhere(n.Name, &c.reads) {
		c.unrecorded = Finding{
			Code: "name.unresolved", Subject: n.Name, Records: n.Records, Trace: &Where{n.Name, "internet"},
			Why: fmt.Sprintf("%s is used here, and no record gives it an address.", n.Name),
		}.made()
	}
}

// leads looks at a name by where it leads from the internet.
func (c *visiting) leads(name string, key trace.PortKey, v trace.Vantage, paths []trace.Path) {
	if v.Word == "internet" {
		c.family(name, key, paths)
		c.wildcardCatches(name, key, paths)
	}
}

// paths notes the breaks of paths, and the lines that they come by.
func (c *visiting) paths(target string, from string, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		c.remember(p, target)
		for _, b := range p.Breaks {
			f := Finding{Code: b.Code, Subject: b.Subject, Why: b.Why, Records: b.Records, Mend: b.Mend, Trace: &Where{target, from}}
			if from != "internet" {
				f.Why += fmt.Sprintf(" (from %s)", from)
			}
			if f.Subject == "" {
				f.Subject = target
			}
			c.add(f)
		}
	}
}

// remember notes which lines a path meets, those of filters with their ports, and what stands before what.
func (c *visiting) remember(p *trace.Path, target string) {
	for _, f := range p.Fronts() {
		if f.To != "" {
			c.fronts = append(c.fronts, f)
		}
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		m := lineMet{at: s.At, target: target, lets: s.Verdict == trace.Pass}
		if s.Stage == trace.StageFilter {
			if port, err := strconv.ParseUint(s.Flow.To[strings.LastIndexByte(s.Flow.To, ':')+1:], 10, 16); err == nil {
				m.filter, m.stopped, m.port = true, s.Verdict == trace.Broken, uint16(port)
			}
		}
		if !m.lets && !m.filter {
			continue
		}
		for _, m.line = range s.Records {
			if !slices.Contains(c.met, m) {
				c.met = append(c.met, m)
			}
		}
	}
}

// done is the visit, with the places that it came by.
func (c *visiting) done() *visit {
	v := c.visit
	v.found = c.check.found
	add := func(name string) {
		if p := c.m.PlaceNamed(name); p != nil && !slices.Contains(v.at, p.ID) {
			v.at = append(v.at, p.ID)
		}
	}
	last := ""
	for i := range v.met {
		if v.met[i].at != last {
			last = v.met[i].at
			add(last)
		}
	}
	for i := range v.fronts {
		add(v.fronts[i].To)
	}
	return v
}

// widest is how many ports of an intent are walked one by one.
const widest = 64

func portKeys(p estate.Ports) []trace.PortKey {
	var out []trace.PortKey
	if p.Any || p.Count() > widest {
		return nil
	}
	for _, t := range p.Transport.Each() {
		for _, r := range p.Ranges {
			for port := int(r.Lo); port <= int(r.Hi); port++ {
				out = append(out, trace.PortKey{Port: uint16(port), Transport: t})
			}
		}
	}
	return out
}

// amongKeys says whether ports that are walked one by one have a port among them.
func amongKeys(p estate.Ports, k trace.PortKey) bool {
	return !p.Any && p.Count() <= widest && p.Transport&k.Transport != 0 && p.Set().Contains(k.Port)
}

func keyWord(k trace.PortKey) string {
	if k.Transport == netset.UDP {
		return fmt.Sprintf("%d/udp", k.Port)
	}
	return fmt.Sprint(k.Port)
}

// catches notes a name that lands on a default site.
func (c *visiting) catches(name, port string, v trace.Vantage, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		site := p.Defaulted()
		if site == nil || slices.ContainsFunc(p.Breaks, func(b trace.Break) bool { return b.Code == "path.wrong-place" }) {
			continue
		}
		c.add(Finding{
			Code: "site.default-answers", Subject: name + ":" + port, Records: lines(site), Trace: &Where{name + ":" + port, v.Word},
			Why: fmt.Sprintf("No site has the name %s; the default one answers in its place.", name),
		})
	}
}
