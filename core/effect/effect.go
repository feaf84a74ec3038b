// Package effect says what a change does: which names end otherwise, what opens and closes, who loses a port for administration, which
// findings end and come, and for how long old answers may still be seen. It is the difference of two surveys, and judges nothing itself.
package effect

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/survey"
)

// Effect is what a change would do, or did: to ports for administration, to names, to doors and to findings, the worst first.
type Effect struct {
	Lost    []LostPort   `json:"lost" nullable:"false" doc:"Ports for administration that those who come in by them would lose"`
	Names   []NameChange `json:"names" nullable:"false"`
	Doors   []DoorChange `json:"doors" nullable:"false"`
	Ended   []Brief      `json:"ended" nullable:"false"`
	Brought []Brief      `json:"brought" nullable:"false"`
	Old     []OldAnswer  `json:"old" nullable:"false"`
	Short   string       `json:"short" doc:"In one line"`
	Part    bool         `json:"part" doc:"Only what can be told at once: the estate is large, and not looked over yet"`
}

// LostPort is a port for administration that would be shut.
type LostPort struct {
	Place   string   `json:"place"`
	Port    uint16   `json:"port"`
	Service string   `json:"service"`
	From    []string `json:"from" nullable:"false" doc:"Who loses it"`
	Nobody  bool     `json:"nobody" doc:"Nobody is left who reaches it"`
}

// NameChange is a name on a port whose verdict changes.
type NameChange struct {
	Name      string        `json:"name"`
	Port      uint16        `json:"port"`
	Transport string        `json:"transport"`
	From      string        `json:"from"`
	Before    *flow.Outcome `json:"before" nullable:"true" doc:"null where the name was not there"`
	After     *flow.Outcome `json:"after" nullable:"true" doc:"null where the name is not there any more"`
}

func good(o *flow.Outcome) bool { return o != nil && o.Good() }

// Stops says whether the name got somewhere and does so no longer.
func (n NameChange) Stops() bool { return good(n.Before) && !good(n.After) }

// Starts says whether the name gets somewhere and did not.
func (n NameChange) Starts() bool { return good(n.After) && !good(n.Before) }

// DoorChange is something that opens or closes, as a vantage sees it.
type DoorChange struct {
	From      string           `json:"from"`
	Address   string           `json:"address"`
	Ports     string           `json:"ports"`
	Transport string           `json:"transport"`
	Place     string           `json:"place"`
	Port      uint16           `json:"port" doc:"Where the first of the ports lands"`
	To        string           `json:"to" doc:"Whom it is open to, in words"`
	Opens     bool             `json:"opens"`
	Intent    exposure.Covered `json:"intent" doc:"How far intents cover it"`
}

// Brief is a finding in short.
type Brief struct {
	Code    string         `json:"code"`
	Level   findings.Level `json:"level"`
	Subject string         `json:"subject"`
	Why     string         `json:"why"`

	Trace *findings.Where `json:"trace,omitempty" doc:"The trace that shows it"`
}

func none() Effect {
	return Effect{Lost: []LostPort{}, Names: []NameChange{}, Doors: []DoorChange{}, Ended: []Brief{}, Brought: []Brief{}, Old: []OldAnswer{}}
}

// Of says what differs between an estate before a change and after it, seen from the internet and from whatever vantage some name is for.
func Of(ctx context.Context, before, after *survey.Survey) (Effect, error) {
	e := none()
	e.Old = OldAnswers(before.Tracer, after.Tracer)
	was, err := before.Check(ctx)
	if err != nil {
		return e, err
	}
	is, err := after.Check(ctx)
	if err != nil {
		return e, err
	}
	e.findings(was.Report, is.Report)
	vantages := Vantages(before, after)
	for _, from := range vantages {
		if err := e.names(ctx, before, after, from); err != nil {
			return e, err
		}
		e.doors(before, after, from)
	}
	rank := func(o *flow.Outcome) int {
		switch {
		case o == nil:
			return 2
		case o.Good():
			return 1
		}
		return 0
	}
	slices.SortStableFunc(e.Names, func(a, b NameChange) int { return cmp.Compare(rank(a.After), rank(b.After)) })
	slices.SortStableFunc(e.Doors, func(a, b DoorChange) int { return cmp.Compare(a.rank(), b.rank()) })
	e.Short = e.inShort()
	return e, e.administration(ctx, before, after)
}

// Soon is what a change would do, as far as that is told while somebody types: where a large estate is not looked over yet
// as it is, or the edit may have changed anything, only what the records say by themselves and, where the names are known, how
// those end that the edit touches.
func Soon(ctx context.Context, before, after *survey.Survey) (Effect, error) {
	anything := after.Tracer.Touch().Everything()
	if !before.Tracer.Model.Estate.Large() || before.Checked() != nil && !anything {
		return Of(ctx, before, after)
	}
	e := none()
	e.Part, e.Old = true, OldAnswers(before.Tracer, after.Tracer)
	if after.Named("internet") && !anything {
		if err := e.names(ctx, before, after, "internet"); err != nil {
			return e, err
		}
	}
	e.findings(before.OfRecords(), after.OfRecords())
	e.Short = e.inShort()
	return e, nil
}

// Worse says whether a name that got somewhere stops, something opens that nobody declared, or a port for administration is lost.
func (e *Effect) Worse() bool {
	return len(e.Lost) > 0 || slices.ContainsFunc(e.Names, NameChange.Stops) ||
		slices.ContainsFunc(e.Doors, func(d DoorChange) bool { return d.Opens && d.Intent != exposure.Declared })
}

// inShort is the effect in one line: "2 names arrive, 1 door opens".
func (e *Effect) inShort() string {
	var parts []string
	count := func(n int, one, many string) {
		if n == 1 {
			parts = append(parts, "1 "+one)
		} else if n > 1 {
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	opened, closed := 0, 0
	for _, d := range e.Doors {
		if d.Opens {
			opened++
		} else {
			closed++
		}
	}
	stops, arrives := 0, 0
	for _, n := range e.Names {
		switch {
		case n.Starts():
			arrives++
		case n.Stops():
			stops++
		}
	}
	count(arrives, "name arrives", "names arrive")
	count(stops, "name stops", "names stop")
	count(opened, "door opens", "doors open")
	count(closed, "door closes", "doors close")
	count(len(e.Ended), "finding ends", "findings end")
	count(len(e.Brought), "finding comes", "findings come")
	return strings.Join(parts, ", ")
}

// findings notes which ended and which came.
func (e *Effect) findings(was, is findings.Report) {
	brief := func(list []*findings.Finding) []Brief {
		out := []Brief{}
		for _, f := range list {
			out = append(out, Brief{f.Code, f.Level, f.Subject, f.Why, f.Trace})
		}
		return out
	}
	e.Ended, e.Brought = brief(findings.Ended(was, is)), brief(findings.Ended(is, was))
}

// Vantages are internet and whatever vantages some names are for.
func Vantages(list ...*survey.Survey) []string {
	out := []string{"internet"}
	for _, s := range list {
		for _, n := range s.Tracer.Names() {
			for _, from := range n.From {
				if slices.Contains(out, from) {
					continue
				}
				if _, err := s.Tracer.VantageNamed(from); err == nil {
					out = append(out, from)
				}
			}
		}
	}
	return out
}

func (e *Effect) names(ctx context.Context, before, after *survey.Survey, from string) error {
	was, err := before.Names(ctx, from)
	if err != nil && ctx.Err() != nil {
		return err
	}
	is, err := after.Names(ctx, from)
	if err != nil && ctx.Err() != nil {
		return err
	}
	type key struct {
		name      string
		port      uint16
		transport string
	}
	was, is = survey.Unlike(was, is)
	old := map[key]*flow.Outcome{}
	for i := range was {
		if r := &was[i]; Concerns(r, from) {
			old[key{r.Name, r.Port, r.Transport}] = &r.Verdict
		}
	}
	for i := range is {
		r := &is[i]
		if !Concerns(r, from) {
			continue
		}
		k := key{r.Name, r.Port, r.Transport}
		if verdict := old[k]; verdict == nil || *verdict != r.Verdict {
			e.Names = append(e.Names, NameChange{r.Name, r.Port, r.Transport, from, verdict, &r.Verdict})
		}
		delete(old, k)
	}
	for i := range was {
		k := key{was[i].Name, was[i].Port, was[i].Transport}
		if verdict := old[k]; verdict != nil {
			e.Names = append(e.Names, NameChange{k.name, k.port, k.transport, from, verdict, nil})
			delete(old, k)
		}
	}
	return nil
}

// Concerns says whether a name is for a vantage: everybody's names are looked at from the internet.
func Concerns(r *survey.Row, from string) bool {
	if len(r.For) == 0 {
		return from == "internet"
	}
	return slices.Contains(r.For, from)
}

// doors notes what opens and closes from a vantage that is internet or a network.
func (e *Effect) doors(before, after *survey.Survey, from string) {
	v, err := before.Tracer.VantageNamed(from)
	if err != nil || before.Tracer.Model.NetNamed(from) == nil {
		return
	}
	w, err := after.Tracer.VantageNamed(from)
	if err != nil || after.Tracer.Model.NetNamed(from) == nil {
		return
	}
	was, is := exposure.Unlike(before.Tracer.ByAddress(v), after.Tracer.ByAddress(w))
	old, now := doorsOf(was, from), doorsOf(is, from)
	for _, k := range now.order {
		if _, there := old.at[k]; !there {
			d := now.at[k]
			d.Opens = true
			e.Doors = append(e.Doors, d)
		}
	}
	for _, k := range old.order {
		if _, there := now.at[k]; !there {
			e.Doors = append(e.Doors, old.at[k])
		}
	}
}

// rank puts what opens undeclared before what is declared, and that before what closes.
func (d DoorChange) rank() int {
	switch {
	case !d.Opens:
		return 2
	case d.Intent == exposure.Declared:
		return 1
	}
	return 0
}

type doorSet struct {
	at    map[string]DoorChange
	order []string
}

// doorsOf are the ports that stand open at some addresses, whatever the sites behind them.
func doorsOf(list []*exposure.OpenAt, from string) doorSet {
	set := doorSet{at: map[string]DoorChange{}}
	for _, o := range exposure.OpenOf(list) {
		k := strings.Join([]string{o.Address, o.Ports, o.Transport, o.Place, strings.Join(o.Sources.Only, ","), strings.Join(o.Sources.Except, ",")}, " ")
		d, there := set.at[k]
		if !there {
			d = DoorChange{From: from, Address: o.Address, Ports: o.Ports, Transport: o.Transport, Place: o.Place, Port: o.Port, To: o.Sources.String(), Intent: o.Intent}
			set.order = append(set.order, k)
		}
		if d.Intent != o.Intent { // of several sites one is covered, another not
			d.Intent = exposure.Partial
		}
		set.at[k] = d
	}
	return set
}

// adminPort is a listener on a port for administration.
type adminPort struct {
	place, service string
	port           uint16
}

// administered is who reaches each port for administration, and who of them is meant to.
func administered(ctx context.Context, s *survey.Survey) (reached, meant map[adminPort][]string, order []adminPort, err error) {
	reached, meant = map[adminPort][]string{}, map[adminPort][]string{}
	every, err := s.Every(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	for _, net := range s.Tracer.Model.Networks {
		for i := range every[net.Name] {
			o := &every[net.Name][i]
			if findings.Administration(o) == "" {
				continue
			}
			d := adminPort{o.Place, o.Service, o.Port}
			if reached[d] == nil {
				order = append(order, d)
			}
			if !slices.Contains(reached[d], net.Name) {
				reached[d] = append(reached[d], net.Name)
			}
			if o.Intent != exposure.None && !slices.Contains(meant[d], net.Name) {
				meant[d] = append(meant[d], net.Name)
			}
		}
	}
	return reached, meant, order, nil
}

// losesAdministration says whether some network reaches less ports for administration than it did.
func losesAdministration(ctx context.Context, before, after *survey.Survey) (bool, error) {
	networks := before.Tracer.Model.Networks
	lost := parallel.Map(ctx, len(networks), func(i int) bool {
		v, err := before.Tracer.VantageNamed(networks[i].Name)
		if err != nil {
			return false
		}
		w, err := after.Tracer.VantageNamed(networks[i].Name)
		if err != nil {
			return true
		}
		was, is := exposure.Unlike(before.Tracer.ByAddress(v), after.Tracer.ByAddress(w))
		there := map[adminPort]bool{}
		for _, o := range exposure.OpenOf(is) {
			there[adminPort{o.Place, o.Service, o.Port}] = true
		}
		return slices.ContainsFunc(exposure.OpenOf(was), func(o *exposure.Open) bool {
			return findings.Administration(o) != "" && !there[adminPort{o.Place, o.Service, o.Port}]
		})
	})
	return slices.Contains(lost, true), ctx.Err()
}

// administration finds ports for administration that nobody would reach any more, or not those who are meant to: by
// one of them one may just be coming in.
func (e *Effect) administration(ctx context.Context, before, after *survey.Survey) error {
	if lost, err := losesAdministration(ctx, before, after); err != nil || !lost {
		return err
	}
	was, meant, order, err := administered(ctx, before)
	if err != nil {
		return err
	}
	is, _, _, err := administered(ctx, after)
	if err != nil {
		return err
	}
	for _, d := range order {
		if p := after.Tracer.Model.PlaceNamed(d.place); p == nil || !slices.ContainsFunc(after.Tracer.Model.Places[p.Namespace].Sockets, func(s model.Socket) bool {
			return s.Record.Service == d.service && s.Ports.Contains(d.port)
		}) {
			continue // it is taken away, and not shut
		}
		var lost []string
		for _, from := range was[d] {
			if !slices.Contains(is[d], from) && (len(is[d]) == 0 || slices.Contains(meant[d], from)) {
				lost = append(lost, from)
			}
		}
		if len(lost) > 0 {
			e.Lost = append(e.Lost, LostPort{d.place, d.port, d.service, lost, len(is[d]) == 0})
		}
	}
	return nil
}
