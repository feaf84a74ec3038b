// Package gone answers what becomes of an estate without a part of it: a machine, a network, an address, a service, a certificate or a zone
// that is down, as if its lines were off. Which names stop, which go on and through what, which filters let in nobody any more; and, of a
// name, what it stands on alone.
package gone

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/survey"
)

// Kind is what a part of an estate is.
type Kind string

const (
	Host        Kind = "host"
	Container   Kind = "container"
	Network     Kind = "network"
	Address     Kind = "address"
	Service     Kind = "service"
	Certificate Kind = "certificate"
	Zone        Kind = "zone"
)

// Kinds are all of them, in the order in which a word is looked for among them.
var Kinds = []Kind{Host, Container, Network, Address, Service, Certificate, Zone}

// Part is a part of an estate, with the lines that are off where it is down.
type Part struct {
	Word  string   `json:"word"`
	Kind  Kind     `json:"kind"`
	Lines []string `json:"lines" nullable:"false" doc:"What is taken as off"`

	change estate.Change
}

// Find finds the part that a word is, among all kinds or one. Its error says what was expected.
func Find(e *estate.Estate, word string, kind Kind) (*Part, error) {
	word = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(word), "."))
	for _, k := range Kinds {
		if kind != "" && kind != k {
			continue
		}
		if p := find(e, word, k); p != nil {
			return p, nil
		}
	}
	if kind != "" {
		return nil, fmt.Errorf("no %s %q is recorded and in force", kind, word)
	}
	return nil, fmt.Errorf("%q is nothing that can be down; expected a host, container, network, address, service, certificate or zone that is recorded and in force, or a name with its port%s", word, estate.Near(e, word, estate.RefPlace|estate.RefNetwork|estate.RefService|estate.RefHostname))
}

func find(e *estate.Estate, word string, k Kind) *Part {
	p := &Part{Word: word, Kind: k, Lines: []string{}}
	off := func(kind string, is func(estate.Record) bool) {
		for _, r := range e.Of(estate.KindNamed(kind)) {
			if r.Meta().Off || !is(r) {
				continue
			}
			down := estate.Clone(r)
			if down.Meta().Off = true; estate.Complete(down) != nil {
				continue
			}
			p.Lines = append(p.Lines, estate.Line(r))
			p.change.Remove = append(p.change.Remove, estate.Line(r))
			p.change.Add = append(p.change.Add, estate.Placed{Record: down})
		}
	}
	switch k {
	case Host:
		off("host", func(r estate.Record) bool { return r.(*estate.Host).Name == word })
	case Container:
		off("container", func(r estate.Record) bool { return r.(*estate.Container).Name == word })
	case Network:
		off("network", func(r estate.Record) bool { return r.(*estate.Network).Name == word })
	case Address:
		if a, err := netip.ParseAddr(word); err == nil {
			off("address", func(r estate.Record) bool { return r.(*estate.Address).Held.Addr == a })
		}
	case Service:
		off("listen", func(r estate.Record) bool { return r.(*estate.Listen).Service == word })
	case Certificate:
		off("cert", func(r estate.Record) bool { return r.(*estate.Cert).Name == word })
	case Zone:
		zones := map[string]bool{}
		for _, r := range e.Of(estate.KindNamed("zone")) {
			zones[r.(*estate.Zone).Name] = !r.Meta().Off
		}
		if zones[word] { // whoever serves it is silent: of what is in it nothing is answered
			off("dns", func(r estate.Record) bool { return zoneOf(r.(*estate.DNS).Owner, zones) == word })
		}
	}
	if len(p.Lines) == 0 {
		return nil
	}
	return p
}

// zoneOf is the recorded zone that a name is in.
func zoneOf(name string, zones map[string]bool) string {
	for z, ok := name, true; ok; z, ok = names.Parent(z) {
		if zones[z] {
			return z
		}
	}
	return ""
}

// Without is what becomes of an estate without a part of it.
type Without struct {
	Part
	Stops []Affected  `json:"stops" nullable:"false" doc:"Names that arrive, and would not"`
	Fewer []Affected  `json:"fewer" nullable:"false" doc:"Names that would arrive by some of their ways only"`
	GoOn  []Affected  `json:"goOn" nullable:"false" doc:"Names that hang on it, and go on by another way"`
	Unmet []Unmet     `json:"unmet" nullable:"false" doc:"What is meant besides, and would not be so any more"`
	Shut  []FailsShut `json:"shut" nullable:"false" doc:"Filters that let in nobody else: they fail shut"`
}

// Affected is a name on a port, as a vantage sees it.
type Affected struct {
	Name      string       `json:"name"`
	Port      uint16       `json:"port"`
	Transport string       `json:"transport"`
	From      string       `json:"from"`
	After     flow.Outcome `json:"after"`
	Through   []string     `json:"through" nullable:"false" doc:"By what it goes on: addresses, machines and backends"`
}

// Unmet is an intent that is not met any more.
type Unmet struct {
	Subject string `json:"subject"`
	Why     string `json:"why" doc:"Whom it is meant for: for yard and perimeter"`
}

// FailsShut is a filter whose lines let in the part alone.
type FailsShut struct {
	Filter string   `json:"filter"`
	Lines  []string `json:"lines" nullable:"false"`
	Why    string   `json:"why"`
}

// Of works out what becomes of an estate without a part of it.
func (p *Part) Of(ctx context.Context, before *survey.Survey) (Without, error) {
	out := Without{Part: *p, Stops: []Affected{}, Fewer: []Affected{}, GoOn: []Affected{}, Unmet: []Unmet{}, Shut: p.failing(before.Tracer.Model)}
	e, err := before.Tracer.Model.Estate.Apply(p.change)
	if err != nil {
		return out, err
	}
	after := before.Draft(e)
	told := map[string]bool{}
	for _, from := range effect.Vantages(before) {
		if from == p.Word {
			continue // nobody looks from there
		}
		was, err := before.Names(ctx, from)
		if err != nil {
			return out, err
		}
		is, err := after.Names(ctx, from)
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if err != nil {
			continue // the vantage went with the part
		}
		out.names(from, was, is, told)
	}
	return out, out.unmet(ctx, before, after, told)
}

// rowKey is a name on a port.
type rowKey struct {
	name, transport string
	port            uint16
}

func keyOf(r *survey.Row) rowKey { return rowKey{r.Name, r.Transport, r.Port} }

func (w *Without) names(from string, was, is []survey.Row, told map[string]bool) {
	was, is = survey.Unlike(was, is)
	now := map[rowKey]*survey.Row{}
	for i := range is {
		now[keyOf(&is[i])] = &is[i]
	}
	for i := range was {
		r := &was[i]
		if !effect.Concerns(r, from) || !r.Verdict.Good() && r.Verdict != flow.Partly {
			continue
		}
		n := Affected{Name: r.Name, Port: r.Port, Transport: r.Transport, From: from, After: flow.Unresolved, Through: []string{}}
		left := now[keyOf(r)]
		if left != nil {
			n.After, n.Through = downed(left.Verdict), through(left)
		}
		switch {
		case n.After.Good() && left != nil && sameWays(r, left):
		case n.After.Good():
			w.GoOn = append(w.GoOn, n)
		case n.After == flow.Partly:
			w.Fewer = append(w.Fewer, n)
		default:
			w.Stops = append(w.Stops, n)
		}
		if !n.After.Good() {
			told[fmt.Sprintf("%s:%d", n.Name, n.Port)] = true
		}
	}
}

// downed is how a name ends whose address is ours still, and held by nobody who is up.
func downed(o flow.Outcome) flow.Outcome {
	if o == flow.Outside {
		return flow.Silent
	}
	return o
}

// sameWays says whether a name goes by the same as before.
func sameWays(a, b *survey.Row) bool { return slices.Equal(through(a), through(b)) }

// through is what the good ways of a row go by.
func through(r *survey.Row) []string {
	out := []string{}
	for i := range r.Ways {
		way := &r.Ways[i]
		if !way.Outcome.Good() {
			continue
		}
		words := []string{way.Address}
		for _, word := range []string{way.Cells.Machine, way.Cells.Backend} {
			if word != "" && !slices.Contains(words, word) {
				words = append(words, word)
			}
		}
		if text := strings.Join(words, " › "); !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}

// unmet are the intents that are met, and would not be; those of names that stop are told already.
func (w *Without) unmet(ctx context.Context, before, after *survey.Survey, told map[string]bool) error {
	was, err := before.Check(ctx)
	if err != nil {
		return err
	}
	is, err := after.Check(ctx)
	if err != nil {
		return err
	}
	meant := map[string]string{}
	for _, i := range before.Tracer.Model.Intents {
		words := make([]string, len(i.For))
		for n, s := range i.For {
			words[n] = s.String()
		}
		meant[i.Target+":"+i.Ports.String()] = "for " + strings.Join(words, ", ")
	}
	for _, f := range findings.Ended(is.Report, was.Report) {
		target, _, _ := strings.Cut(f.Subject, ",")
		if f.Code == "intent.unmet" && !told[target] && !w.isOf(f.Subject) {
			w.Unmet = append(w.Unmet, Unmet{f.Subject, meant[f.Subject]})
		}
	}
	return nil
}

// isOf says whether a subject is of the part itself: that nobody gets to what is down goes without saying.
func (w *Without) isOf(subject string) bool {
	at := subject
	if i := strings.LastIndexByte(subject, ':'); i >= 0 {
		at = subject[:i]
	}
	return at == w.Word || strings.HasPrefix(at, w.Word+"/")
}

// failing are the filters that let in a machine, container or address alone: with it gone nobody gets in by them.
func (p *Part) failing(m *model.Model) []FailsShut {
	out := []FailsShut{}
	is := map[string]bool{p.Word: true}
	if place := m.PlaceNamed(p.Word); place != nil && (p.Kind == Host || p.Kind == Container) {
		for i := range place.Attachments {
			for _, a := range place.Attachments[i].Addrs {
				is[a.String()], is[netip.PrefixFrom(a, a.BitLen()).String()] = true, true
			}
		}
	} else if p.Kind != Address && p.Kind != Network {
		return out
	}
	alone := func(r *estate.Rule) bool {
		return len(r.From) > 0 && !slices.ContainsFunc(r.From, func(s estate.Selector) bool { return !is[s.String()] })
	}
	byFilter := map[string][]*estate.Rule{}
	var order []string
	for _, r := range m.Estate.Of(estate.KindNamed("rule")) {
		rule := r.(*estate.Rule)
		if rule.Off || rule.Action != "pass" {
			continue
		}
		if byFilter[rule.Filter] == nil {
			order = append(order, rule.Filter)
		}
		byFilter[rule.Filter] = append(byFilter[rule.Filter], rule)
	}
	for _, name := range order {
		f := FailsShut{Filter: name, Lines: []string{}}
		var ports []string
		for _, rule := range byFilter[name] {
			if !alone(rule) {
				continue
			}
			others := slices.ContainsFunc(byFilter[name], func(o *estate.Rule) bool {
				return !alone(o) && (o.Ports.Any || rule.Ports.Any || o.Ports.Set().Overlaps(rule.Ports.Set()))
			})
			if !others {
				f.Lines, ports = append(f.Lines, estate.Line(rule)), append(ports, rule.Ports.String())
			}
		}
		if len(f.Lines) > 0 && closes(m, name) {
			f.Why = fmt.Sprintf("Filter %s lets in %s alone on %s: without it nobody gets in there.", name, p.Word, strings.Join(ports, ", "))
			out = append(out, f)
		}
	}
	return out
}

// closes says whether a filter stops what no line of it names.
func closes(m *model.Model, name string) bool {
	return slices.ContainsFunc(m.Estate.Of(estate.KindNamed("filter")), func(r estate.Record) bool {
		f := r.(*estate.Filter)
		return f.Name == name && !f.Off && f.Otherwise != "pass"
	})
}
