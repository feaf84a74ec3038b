package findings

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/parallel"
	"steady-compass/core/rules"
	"steady-compass/core/trace"
)

// order reads every filter as an ordered list: lines that earlier ones leave nothing, that later ones say as well, and that
// stand before no listener.
func (c *check) order() {
	type standing struct { // a filter, and the machines on which its rules mean the same
		filter *model.Filter
		hook   model.Hook
		on     []*model.Place
	}
	var all []*standing
	byRules := map[*model.Rule]*standing{}
	for _, p := range c.m.Places {
		for hook, list := range p.Filters {
			for _, f := range list {
				if len(f.Rules) == 0 {
					continue
				}
				if s := byRules[f.Rules[0]]; s != nil {
					s.on = append(s.on, p)
					continue
				}
				s := &standing{f, model.Hook(hook), []*model.Place{p}}
				byRules[f.Rules[0]] = s
				all = append(all, s)
			}
		}
	}
	type read struct {
		rules.Reading
		uses [][]use // by line: what it stands before, on each of the machines
	}
	listening := newListening(c.m)
	readings := parallel.Map(c.ctx, len(all), func(i int) read {
		s := all[i]
		r := read{Reading: rules.Read(c.m, s.filter, s.on)}
		behind := lookout{listening, map[listeningKey]behind{}}
		for n := range r.Lines {
			uses := make([]use, len(s.on))
			for at, p := range s.on {
				uses[at] = behind.use(p, s.hook, s.filter, r.Lines[n].Rule)
			}
			r.uses = append(r.uses, uses)
		}
		return r
	})
	if c.ctx.Err() != nil {
		return
	}
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
	for i := range readings {
		for n := range readings[i].Lines {
			line := &readings[i].Lines[n]
			j := byRecord[line.Rule.Record]
			if j == nil {
				j = &judged{line: line, reading: &readings[i].Reading, shadowed: true, idle: true}
				byRecord[line.Rule.Record] = j
				inOrder = append(inOrder, j)
			}
			j.shadowed = j.shadowed && line.Shadowed()
			j.idle = j.idle && line.Idle
			j.uses = append(j.uses, readings[i].uses[n]...)
		}
	}
	for _, j := range inOrder {
		switch {
		case j.line.Rule.Dead: // record.unknown-reference
		case j.shadowed:
			c.shadowed(j.reading, j.line)
		case j.idle:
			c.add(Finding{
				Code: "order.redundant", Subject: estate.Line(j.line.Rule.Record), Records: lines(j.line.Rule.Record), Mend: offLine(j.line.Rule.Record),
				Why: fmt.Sprintf("Line %d of filter %s changes nothing: what is met after it says %s to the same flows.", j.line.Rule.Place, j.reading.Filter.Record.Name, j.line.Rule.Record.Action),
			})
		}
		_, misspelt := c.at[[2]string{"record.unknown-reference", estate.Line(j.line.Rule.Record)}]
		if u := joinUses(j.uses); !j.line.Rule.Dead && !u.all && !misspelt {
			for _, port := range c.passed[estate.Line(j.line.Rule.Record)] { // something meant, and not there yet
				u.ports = u.ports.Union(netset.PortsOf(netset.OnePort(port)))
				u.why = ""
			}
			c.unused(j.reading.Filter, j.line.Rule, u)
		}
	}
}

// shadowed notes a line to which the lines before it leave nothing.
func (c *check) shadowed(r *rules.Reading, line *rules.Line) {
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
	switch {
	case len(line.Before) == 1:
		f.Why += fmt.Sprintf("line %s before it %s all that it names.", places[0], does[first])
	case against == nil || first != rec.Action && !slices.ContainsFunc(line.Before, func(b *model.Rule) bool { return b.Record.Action != first }):
		f.Why += fmt.Sprintf("lines %s before it %s all that it names.", joined(places), first)
	default:
		f.Why += fmt.Sprintf("lines %s before it take all that it names, and line %d %s what this one would %s.", joined(places), against.Place, does[against.Record.Action], rec.Action)
	}
	if against != nil && c.belongsAhead(r, line, against) {
		f.Mend.Add = []string{estate.LineAt(rec, against.Place)}
	}
	c.add(f)
}

// does is what one line does, by its action.
var does = map[string]string{"pass": "passes", "drop": "drops", "refuse": "refuses", "unknown": "does what is not recorded with"}

// belongsAhead says whether a line that another leaves nothing was meant ahead of it: one that passes, where a flow that is
// meant is stopped there; one that stops, where nothing that is meant passes there.
func (c *check) belongsAhead(r *rules.Reading, line *rules.Line, against *model.Rule) bool {
	if r.Filter.Record.DropWins {
		return false // no place is ahead of a drop
	}
	narrower := slices.ContainsFunc(r.Lines, func(l rules.Line) bool {
		return l.Rule == against && len(l.Names.Subtract(line.Names)) > 0
	})
	if !narrower {
		return false // it would leave the other line nothing
	}
	of, met := c.passed, estate.Line(against.Record)
	if line.Rule.Record.Action == "pass" {
		of = c.blocked
	}
	needed := slices.ContainsFunc(of[met], line.Rule.Ports.Contains)
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
		c.add(Finding{Code: code, Subject: estate.Line(rec), Records: lines(rec, f.Record), Why: u.why, Mend: offLine(rec)})
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
		Mend: &trace.Mend{Remove: lines(rec), Add: []string{estate.LineAt(shorter, rule.Place)}},
	})
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

// listeners adds the ports of some of a stack's sockets.
func (b *behind) listeners(stack *model.Place, which func(*model.Socket) bool) {
	var ranges [2][]netset.PortRange
	for i := range stack.Sockets {
		s := &stack.Sockets[i]
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
