package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/rules"
)

// standing is a filter, and the machines on which its rules mean the same.
type standing struct {
	filter *model.Filter
	hook   model.Hook
	on     []*model.Place
}

// filterPart is a filter read as an ordered list, wherever it stands, and what was found of it.
type filterPart struct {
	on    []standing
	found []*Finding
	reads []model.PlaceID // the machines whose listeners it comes of
}

// all is what was found; of none, nothing.
func (x *filterPart) all() []*Finding {
	if x == nil {
		return nil
	}
	return x.found
}

// standings are the filters that have rules, in the order of the places, each with everywhere it stands: all, or those with
// some names.
func (s *survey) standings(wanted func(name string) bool) (filters []*estate.Filter, on map[*estate.Filter][]standing) {
	on = map[*estate.Filter][]standing{}
	for _, p := range s.m.Places {
		for hook, list := range p.Filters {
			for _, f := range list {
				if len(f.Rules) == 0 || !wanted(f.Record.Name) {
					continue
				}
				here, known := on[f.Record]
				if !known {
					filters = append(filters, f.Record)
				}
				if n := slices.IndexFunc(here, func(st standing) bool { return st.filter.Rules[0] == f.Rules[0] }); n >= 0 {
					here[n].on = append(here[n].on, p)
				} else {
					on[f.Record] = append(here, standing{f, model.Hook(hook), []*model.Place{p}})
				}
			}
		}
	}
	return filters, on
}

// lookAtFilters reads every filter as an ordered list: lines that earlier ones leave nothing, that later ones say as well, and
// that stand before no listener.
func (s *survey) lookAtFilters(before *kept[*estate.Filter, *filterPart], e edit, listening *listening, records *recordParts) (*kept[*estate.Filter, *filterPart], turn) {
	filters, on, goneOn := s.standingsAfter(before, e)
	stands := func(i int, x *filterPart) bool {
		if here, told := on[filters[i]]; (told || !goneOn) && !slices.EqualFunc(here, x.on, func(a, b standing) bool { return a.filter == b.filter && slices.EqualFunc(a.on, b.on, samePlace) }) {
			return false
		}
		for _, st := range x.on {
			if len(s.walks.changed) > 0 && slices.ContainsFunc(st.on, func(p *model.Place) bool { return s.walks.changed[p.ID] }) ||
				len(records.respelt) > 0 && slices.ContainsFunc(st.filter.Rules, func(r *model.Rule) bool { return records.respelt[estate.Line(r.Record)] }) {
				return false
			}
		}
		return !e.touch.Some(x.reads)
	}
	next, changes := redo(s.ctx, before, filters, stands, func(i int) *filterPart {
		c := check{survey: *s}
		reads := map[model.PlaceID]bool{}
		here, told := on[filters[i]]
		if !told {
			here = s.standingAgain(before.values[i].on)
		}
		c.order(here, listening, reads, records)
		return &filterPart{here, c.found, slices.Collect(maps.Keys(reads))}
	})
	var t turn
	for _, c := range changes {
		t.part(ofFilters, c.old.all(), c.now.all())
	}
	return next, t
}

// standingsAfter are the filters that have rules, and where they stand; where gone on, that is told of those only that the edit
// speaks of, and the others stand as before.
func (s *survey) standingsAfter(before *kept[*estate.Filter, *filterPart], e edit) (filters []*estate.Filter, on map[*estate.Filter][]standing, goneOn bool) {
	if before != nil && estate.Same(e.before.Estate, s.m.Estate, "filter") {
		spoken := map[string]bool{}
		gone, come := estate.Changed(e.before.Estate, s.m.Estate, estate.KindNamed("rule"))
		for _, r := range slices.Concat(gone, come) {
			spoken[r.(*estate.Rule).Filter] = true
		}
		if len(spoken) == 0 {
			return before.keys, nil, true
		}
		wanted := estate.OneOf(spoken)
		filters, on = s.standings(wanted)
		was := slices.DeleteFunc(slices.Clone(before.keys), func(f *estate.Filter) bool { return !wanted(f.Name) })
		if slices.Equal(filters, was) { // none has its first rule now, or none any more
			return before.keys, on, true
		}
	}
	filters, on = s.standings(func(string) bool { return true })
	return filters, on, false
}

func samePlace(a, b *model.Place) bool { return a.ID == b.ID }

// standingAgain is where a filter stands, whose lines are as they were: on the same machines, as these are now.
func (s *survey) standingAgain(before []standing) []standing {
	out := slices.Clone(before)
	for i := range out {
		out[i].on = slices.Clone(out[i].on)
		for n, p := range out[i].on {
			out[i].on[n] = s.m.Places[p.ID]
		}
	}
	return out
}

// order reads one filter wherever it stands.
func (c *check) order(on []standing, listening *listening, reads map[model.PlaceID]bool, records *recordParts) {
	// What is so on every machine that a line stands on.
	type judged struct {
		line     *rules.Line
		reading  *rules.Reading
		shadowed bool
		idle     bool
		uses     []use
	}
	var inOrder []*judged
	byRecord := map[*estate.Rule]*judged{}
	for _, s := range on {
		reading := rules.Read(c.m, s.filter, s.on)
		behind := lookout{listening, map[listeningKey]behind{}, reads}
		for n := range reading.Lines {
			line := &reading.Lines[n]
			j := byRecord[line.Rule.Record]
			if j == nil {
				j = &judged{line: line, reading: &reading, shadowed: true, idle: true}
				byRecord[line.Rule.Record] = j
				inOrder = append(inOrder, j)
			}
			j.shadowed = j.shadowed && line.Shadowed()
			j.idle = j.idle && line.Idle
			for _, p := range s.on {
				j.uses = append(j.uses, behind.use(p, s.hook, s.filter, line.Rule))
			}
		}
	}
	passed, stopped := c.portsMet(on)
	for _, j := range inOrder {
		record := estate.Line(j.line.Rule.Record)
		switch {
		case j.line.Rule.Dead: // record.unknown-reference
		case j.shadowed:
			c.shadowed(j.reading, j.line, passed, stopped)
		case j.idle:
			c.add(Finding{
				Code: "order.redundant", Subject: record, Records: lines(j.line.Rule.Record), Mend: everyLine(j.reading.Filter, j.line.Rule.Record),
				Why: fmt.Sprintf("Line %d of filter %s changes nothing: what is met after it says %s to the same flows.", j.line.Rule.Place, j.reading.Filter.Record.Name, j.line.Rule.Record.Action),
			})
		}
		if u := joinUses(j.uses); !j.line.Rule.Dead && !u.all && !records.misspelt(record) {
			for _, port := range passed(record) { // something meant, and not there yet
				u.ports = u.ports.Union(netset.PortsOf(netset.OnePort(port)))
				u.why = ""
			}
			c.unused(j.reading.Filter, j.line.Rule, u)
		}
	}
}

// portsMet gives the ports of meant flows that a line of a filter passes, and of those that it stops, wherever the filter stands.
func (c *check) portsMet(on []standing) (passed, stopped func(line string) []uint16) {
	ports := func(of func(*passing) map[string][]uint16) func(string) []uint16 {
		return func(line string) []uint16 {
			var out []uint16
			for _, s := range on {
				for _, p := range s.on {
					out = append(out, of(c.walks.at(p))[line]...)
				}
			}
			return out
		}
	}
	return ports(func(x *passing) map[string][]uint16 { return x.passed }), ports(func(x *passing) map[string][]uint16 { return x.stopped })
}

// shadowed notes a line to which the lines before it leave nothing.
func (c *check) shadowed(r *rules.Reading, line *rules.Line, passed, stopped func(string) []uint16) {
	rec := line.Rule.Record
	records := []estate.Record{rec}
	var places []string
	var against *model.Rule
	for _, rule := range line.Before {
		if estate.Line(rule.Record) == estate.Line(rec) {
			return // the same line twice: conflict.record
		}
		records = append(records, rule.Record)
		places = append(places, fmt.Sprint(rule.Place))
		if against == nil && rule.Record.Action != rec.Action {
			against = rule
		}
	}
	f := Finding{Code: "order.shadowed", Subject: estate.Line(rec), Records: lines(records...), Mend: offLine(rec)}
	f.Why = fmt.Sprintf("Line %d of filter %s takes nothing: ", line.Rule.Place, r.Filter.Record.Name)
	first := line.Before[0].Record.Action
	ahead := " before it"
	if slices.ContainsFunc(line.Before, func(b *model.Rule) bool { return b.Place > line.Rule.Place }) { // where what drops goes first
		ahead = ", ahead of it by drop-wins,"
	}
	switch {
	case len(line.Before) == 1:
		f.Why += fmt.Sprintf("line %s%s %s all that it names.", places[0], ahead, does[first])
	case against == nil || first != rec.Action && !slices.ContainsFunc(line.Before, func(b *model.Rule) bool { return b.Record.Action != first }):
		f.Why += fmt.Sprintf("lines %s%s %s all that it names.", joined(places), ahead, first)
	default:
		f.Why += fmt.Sprintf("lines %s%s take all that it names, and line %d %s what this one would %s.", joined(places), ahead, against.Place, does[against.Record.Action], rec.Action)
	}
	if against != nil && belongsAhead(r, line, against, passed, stopped) {
		f.Mend.Add = []string{estate.LineAt(rec, against.Place)}
	}
	c.add(f)
}

// does is what one line does, by its action.
var does = map[string]string{"pass": "passes", "drop": "drops", "refuse": "refuses", "unknown": "does what is not recorded with"}

// belongsAhead says whether a line that another leaves nothing was meant ahead of it: one that passes, where a flow that is
// meant is stopped there; one that stops, where nothing that is meant passes there.
func belongsAhead(r *rules.Reading, line *rules.Line, against *model.Rule, passed, stopped func(string) []uint16) bool {
	if r.Filter.Record.DropWins {
		return false // no place is ahead of a drop
	}
	narrower := slices.ContainsFunc(r.Lines, func(l rules.Line) bool {
		return l.Rule == against && len(l.Names.Subtract(line.Names)) > 0
	})
	if !narrower {
		return false // it would leave the other line nothing
	}
	met := passed
	if line.Rule.Record.Action == "pass" {
		met = stopped
	}
	needed := slices.ContainsFunc(met(estate.Line(against.Record)), line.Rule.Ports.Contains)
	return needed == (line.Rule.Record.Action == "pass")
}

// unused notes a line that nothing recorded could ever need, wholly or for some of its ports.
func (c *check) unused(f *model.Filter, rule *model.Rule, u use) {
	rec := rule.Record
	if u.why != "" {
		code := "order.unused"
		if u.elsewhere {
			code = "order.direction"
		}
		c.add(Finding{Code: code, Subject: estate.Line(rec), Records: lines(rec, f.Record), Why: u.why, Mend: everyLine(f, rec)})
		return
	}
	if rec.Ports.Any || u.all {
		return
	}
	var used, idle []netset.PortRange
	for _, r := range rec.Ports.Ranges {
		if u.ports.Intersect(netset.PortsOf(r)).IsEmpty() {
			idle = append(idle, r)
		} else {
			used = append(used, r)
		}
	}
	if len(idle) == 0 || len(used) == 0 {
		return
	}
	shorter := estate.With(rec, func(n *estate.Rule) { n.Ports.Ranges = used })
	c.add(Finding{
		Code: "order.unused", Subject: estate.Line(rec), Records: lines(rec),
		Why:  fmt.Sprintf("Nothing listens on %s behind this line.", portWords(idle, rec.Ports.Transport)),
		Mend: &flow.Mend{Remove: lines(rec), Add: []string{estate.LineAt(shorter, rule.Place)}},
	})
}

// everyLine takes a line out of a filter, as often as it stands there.
func everyLine(f *model.Filter, rec *estate.Rule) *flow.Mend {
	mend := &flow.Mend{Remove: []string{}, Add: []string{}}
	for _, r := range f.Rules {
		if line := estate.Line(r.Record); line == estate.Line(rec) {
			mend.Remove = append(mend.Remove, line)
		}
	}
	return mend
}

func portWords(ranges []netset.PortRange, t netset.Transport) string {
	return estate.Ports{Ranges: ranges, Transport: t}.String()
}

// use is what a line of a filter stands before on one machine.
type use struct {
	all       bool         // something that nobody wrote the listeners of down
	ports     netset.Ports // those on which something listens
	why       string       // why nothing is there
	elsewhere bool         // its ports are met on another hook of the machine
}

func joinUses(uses []use) use {
	var out use
	for _, u := range uses {
		if u.why == "" {
			out.all = out.all || u.all
			out.ports = out.ports.Union(u.ports)
		}
	}
	if out.all || !out.ports.IsEmpty() {
		return out
	}
	i := max(0, slices.IndexFunc(uses, func(u use) bool { return u.elsewhere }))
	return uses[i]
}

// behind is what may listen at an address, as flows to it look on their way.
type behind struct {
	all       bool // nobody wrote down what
	ports     [2]netset.Ports
	forwarded [2]netset.Ports // of these, those to which a forward leads
}

func transportIndex(t netset.Transport) int {
	if t == netset.UDP {
		return 1
	}
	return 0
}

func (b *behind) add(t netset.Transport, ports netset.Ports) {
	for _, one := range t.Each() {
		i := transportIndex(one)
		b.ports[i] = b.ports[i].Union(ports)
	}
}

// listeners adds the ports of some of a namespace's sockets.
func (b *behind) listeners(namespace *model.Place, which func(*model.Socket) bool) {
	var ranges [2][]netset.PortRange
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
		if !which(s) {
			continue
		}
		for _, one := range s.Record.Bind.Transport.Each() {
			k := transportIndex(one)
			ranges[k] = append(ranges[k], s.Ports.Ranges()...)
		}
	}
	for k := range ranges {
		b.ports[k] = b.ports[k].Union(netset.PortsOf(ranges[k]...))
	}
}

func (b *behind) join(o behind) {
	b.all = b.all || o.all
	for i := range b.ports {
		b.ports[i] = b.ports[i].Union(o.ports[i])
		b.forwarded[i] = b.forwarded[i].Union(o.forwarded[i])
	}
}

// of are the ports over a line's transports.
func (b *behind) of(t netset.Transport) netset.Ports {
	var out netset.Ports
	for _, one := range t.Each() {
		out = out.Union(b.ports[transportIndex(one)])
	}
	return out
}

func portWordOf(p netset.Ports, t netset.Transport) string {
	return estate.Ports{Ranges: p.Ranges(), Transport: t}.String()
}

// who says whom a selector list names, for a sentence.
func whom(list []estate.Selector) string {
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = s.String()
	}
	return strings.Join(words, ",")
}
