package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/rules"
)

type filterQuery struct {
	Name string `query:"name" required:"true" maxLength:"300"`
	On   string `query:"on" maxLength:"300" doc:"The machine whose on-link networks are meant; the first where not given"`
}

// Share is a part of what a line takes: every flow with one of its sources, ports and destinations.
type Share struct {
	From     []string `json:"from" nullable:"false" doc:"Networks, machines and CIDRs; none: any"`
	To       []string `json:"to" nullable:"false"`
	Ports    string   `json:"ports"`
	Entering []string `json:"entering" nullable:"false"`
	Leaving  []string `json:"leaving" nullable:"false"`
}

// FilterLine is a line of a filter where it stands.
type FilterLine struct {
	Place    int      `json:"place" doc:"From 1, among all lines that are written"`
	Record   string   `json:"record"`
	Action   string   `json:"action"`
	Off      bool     `json:"off"`
	Takes    []Share  `json:"takes" nullable:"false" doc:"What it decides, that no line met before did"`
	More     int      `json:"more" doc:"How many parts of it are not listed"`
	Partly   bool     `json:"partly" doc:"It overlaps too many lines for all of it to be told"`
	Before   []int    `json:"before" nullable:"false" doc:"The places of lines that take some of what it names"`
	Shadowed bool     `json:"shadowed" doc:"Nothing is left for it"`
	Idle     bool     `json:"idle" doc:"Nothing would change without it"`
	Needs    int      `json:"needs" doc:"How many names, addresses and places get through by it"`
	NeededBy []string `json:"neededBy" nullable:"false" doc:"The first of these"`
	Keeps    []string `json:"keeps" nullable:"false" doc:"Of a line that stops: what is not meant for the internet, and it alone keeps the internet from"`
}

// FilterAnswer is a filter read as an ordered list.
type FilterAnswer struct {
	Name      string       `json:"name"`
	Record    string       `json:"record"`
	Says      string       `json:"says"`
	On        []string     `json:"on" nullable:"false" doc:"The machines it stands on"`
	Otherwise string       `json:"otherwise"`
	DropWins  bool         `json:"dropWins"`
	Lines     []FilterLine `json:"lines" nullable:"false"`
	Keeps     []string     `json:"keeps" nullable:"false" doc:"What is not meant for the internet, and the filter alone keeps the internet from"`
}

const (
	mostShares = 12
	mostNeeds  = 40
)

func (s *Server) getFilter(ctx context.Context, in *filterQuery) (*body[FilterAnswer], error) {
	a := s.asked(ctx)
	m := a.Tracer.Model
	name := strings.ToLower(in.Name)
	var on []*model.Place
	var filter *model.Filter
	for _, p := range m.Places {
		for _, list := range p.Filters {
			for _, f := range list {
				if f.Record.Name != name {
					continue
				}
				on = append(on, p)
				if filter == nil || p.Name == in.On {
					filter = f
				}
			}
		}
	}
	if filter == nil {
		return nil, &Problem{Title: "That filter is not there", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%q is no filter that is recorded, in force and on a machine", in.Name)}
	}
	checked, err := a.Check(ctx)
	if err != nil {
		return nil, err
	}
	f := filter.Record
	out := FilterAnswer{Name: f.Name, Record: estate.Line(f), Says: estate.KindOf(f).Says(f), Otherwise: f.Otherwise, DropWins: f.DropWins, Lines: []FilterLine{}, On: []string{}}
	for _, p := range on {
		out.On = append(out.On, p.Name)
	}
	reading := rules.Read(m, filter, on)
	byRecord := map[*estate.Rule]*rules.Line{}
	for i := range reading.Lines {
		byRecord[reading.Lines[i].Rule.Record] = &reading.Lines[i]
	}
	needed, keeps := checked.Needs(f.Name), checked.Keeps()
	out.Keeps = append([]string{}, keeps[out.Record]...)
	place := 0
	for _, r := range a.Estate.Of(estate.KindNamed("rule")) {
		rule := r.(*estate.Rule)
		if rule.Filter != f.Name {
			continue
		}
		place++
		line := FilterLine{Place: place, Record: estate.Line(rule), Action: rule.Action, Off: rule.Off, Takes: []Share{}, Before: []int{}, NeededBy: []string{}}
		line.Keeps = append([]string{}, keeps[line.Record]...)
		if l := byRecord[rule]; l != nil {
			line.read(m, &reading, l)
			needs := needed[line.Record]
			line.Needs, line.NeededBy = len(needs), append(line.NeededBy, needs[:min(len(needs), mostNeeds)]...)
		}
		out.Lines = append(out.Lines, line)
	}
	return &body[FilterAnswer]{out}, nil
}

func (line *FilterLine) read(m *model.Model, r *rules.Reading, l *rules.Line) {
	line.Shadowed, line.Idle, line.Partly = l.Shadowed(), l.Idle, l.Partly
	for _, before := range l.Before {
		line.Before = append(line.Before, before.Place)
	}
	slices.Sort(line.Before)
	six := r.Filter.Record.Family
	for i, flows := range l.Takes {
		if i == mostShares {
			line.More = len(l.Takes) - i
			return
		}
		line.Takes = append(line.Takes, Share{
			From: addressWords(m, r, flows.From, six), To: addressWords(m, r, flows.To, six), Entering: netWords(m, flows.Entering), Leaving: netWords(m, flows.Leaving),
			Ports: portsWord(flows),
		})
	}
}

func portsWord(f rules.Flows) string {
	p := estate.Ports{Ranges: f.Ports.Ranges(), Transport: f.Transport}
	if f.Ports.Equal(netset.AllPorts()) {
		p = estate.Ports{Any: true, Transport: f.Transport}
	}
	return p.String()
}

func netWords(m *model.Model, n rules.Nets) []string {
	out := []string{}
	for _, id := range n.Only() {
		out = append(out, m.Networks[id].Name)
	}
	for _, id := range n.But() {
		out = append(out, "not "+m.Networks[id].Name)
	}
	return out
}

// addressWords are a set of addresses by the names that the estate has for them, as few as will do; none where it is every
// address of the filter's family.
func addressWords(m *model.Model, r *rules.Reading, set netset.Addrs, family string) []string {
	whole := netset.Everything()
	switch family {
	case "ipv4":
		whole = netset.IPv4()
	case "ipv6":
		whole = netset.IPv6()
	}
	out := []string{}
	if set.Covers(whole) {
		return out
	}
	containers, left := r.Containers(m, set)
	words, left := nameSet(m, left, whole)
	out = append(out, words...)
	out = append(out, containers...)
	if left.IsEmpty() {
		return out
	}
	if missing := whole.Subtract(set); len(missing.Prefixes()) < len(left.Prefixes()) { // shorter by what is not in it
		but, rest := nameSet(m, missing, whole)
		out = []string{"all but " + strings.Join(append(but, rest.Strings()...), ", ")}
		return out
	}
	for _, p := range left.Prefixes() {
		if p.IsSingleIP() {
			out = append(out, p.Addr().String())
		} else {
			out = append(out, p.String())
		}
	}
	return out
}

// nameSet takes out of a set what has a name: internet, networks, groups, machines.
func nameSet(m *model.Model, set, whole netset.Addrs) (words []string, left netset.Addrs) {
	left = set
	take := func(part netset.Addrs, word string) {
		if part = part.Intersect(whole); !part.IsEmpty() && left.Covers(part) {
			words, left = append(words, word), left.Subtract(part)
		}
	}
	take(m.Internet, "internet")
	for _, n := range m.Networks[1:] {
		take(n.Set, n.Name)
	}
	for _, r := range m.Estate.Of(estate.KindNamed("group")) {
		if g := r.(*estate.Group); !g.Off && !left.IsEmpty() {
			take(m.Selected(estate.Selector{Name: g.Name}).Set, g.Name)
		}
	}
	if singles, few := left.Addrs(256); few {
		for _, a := range singles {
			for _, h := range m.Owners(a) {
				if left.Contains(a) {
					take(m.Selected(estate.Selector{Name: m.Places[h.Place].Name}).Set, m.Places[h.Place].Name)
				}
			}
		}
	}
	return words, left
}
