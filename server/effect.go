package server

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// Effect is what a change would do, or did: to names, to doors and to findings, the worst first.
type Effect struct {
	Shut    []ShutEffect `json:"shut" nullable:"false" doc:"Ports for administration that those who come in by them would lose"`
	Names   []NameEffect `json:"names" nullable:"false"`
	Doors   []DoorEffect `json:"doors" nullable:"false"`
	Fixed   []Brief      `json:"fixed" nullable:"false"`
	Brought []Brief      `json:"brought" nullable:"false"`
	Old     []OldAnswer  `json:"old" nullable:"false"`
}

// ShutEffect is a port for administration that would be shut.
type ShutEffect struct {
	Place   string   `json:"place"`
	Port    uint16   `json:"port"`
	Service string   `json:"service"`
	From    []string `json:"from" nullable:"false" doc:"Who loses it"`
	Nobody  bool     `json:"nobody" doc:"Nobody is left who reaches it"`
}

// OldAnswer is how long an answer that changed may still be seen as it was.
type OldAnswer struct {
	Name    string         `json:"name"`
	Type    string         `json:"type"`
	Seconds estate.Seconds `json:"seconds"`
	Missing bool           `json:"missing" doc:"What may be seen is that the name, or the type, was not there"`
}

func noEffect() Effect {
	return Effect{Shut: []ShutEffect{}, Names: []NameEffect{}, Doors: []DoorEffect{}, Fixed: []Brief{}, Brought: []Brief{}, Old: []OldAnswer{}}
}

// oldAnswers are the answers that differ between two estates, with how long caches may go on giving the old one: the
// TTL of the record that goes; for one that comes where nothing was, how long that may be remembered (RFC 2308 §5).
func oldAnswers(before, after *analysis) []OldAnswer {
	type key struct{ name, typ string }
	internet, err := before.tracer.VantageNamed("internet")
	if err != nil {
		return []OldAnswer{}
	}
	gone, come := estate.Changed(before.Estate, after.Estate, estate.KindNamed("dns"))
	was, is := map[string]bool{}, map[string]bool{}
	for _, r := range gone {
		was[estate.Line(r)] = true
	}
	for _, r := range come {
		is[estate.Line(r)] = true
	}
	found := map[key]OldAnswer{}
	note := func(o OldAnswer) {
		if old, ok := found[key{o.Name, o.Type}]; o.Seconds > 0 && (!ok || o.Seconds > old.Seconds) {
			found[key{o.Name, o.Type}] = o
		}
	}
	for _, r := range gone {
		d := r.(*estate.DNS)
		if is[estate.Line(r)] || d.Off {
			continue
		}
		link := names.Link{Owner: d.Owner, Record: d, TTL: d.TTL}
		if zone := before.tracer.Model().Names.ZoneOf(d.Owner, before.tracer.Model().AskerAt(model.Nowhere, model.Internet)); link.TTL == estate.NotGiven && zone != nil {
			link.TTL = zone.TTL
		}
		if age, known := link.Age(); known {
			note(OldAnswer{d.Owner, d.Type, age, false})
		}
	}
	for _, r := range come {
		d := r.(*estate.DNS)
		if was[estate.Line(r)] || d.Off || strings.HasPrefix(d.Owner, "*.") {
			continue
		}
		a := before.tracer.Answer(d.Owner, d.Type, internet)
		if len(a.Values) == 0 && a.Code != names.Outside && a.NegativeKnown {
			note(OldAnswer{d.Owner, d.Type, a.Negative, true})
		}
	}
	out := []OldAnswer{}
	for _, o := range found {
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b OldAnswer) int {
		return cmp.Or(-cmp.Compare(a.Seconds, b.Seconds), strings.Compare(a.Name, b.Name), strings.Compare(a.Type, b.Type))
	})
	return out
}

// NameEffect is a name whose verdict changes.
type NameEffect struct {
	Name   string        `json:"name"`
	Port   uint16        `json:"port"`
	From   string        `json:"from"`
	Before trace.Outcome `json:"before"` // "" where the name was not there
	After  trace.Outcome `json:"after"`
}

// DoorEffect is something that opens or closes, seen from the internet.
type DoorEffect struct {
	Address   string `json:"address"`
	Ports     string `json:"ports"`
	Transport string `json:"transport"`
	Place     string `json:"place"`
	To        string `json:"to"` // whom it is open to, in words
	Opens     bool   `json:"opens"`
	Declared  bool   `json:"declared"`
}

// Brief is a finding in short.
type Brief struct {
	Code    string         `json:"code"`
	Level   findings.Level `json:"level"`
	Subject string         `json:"subject"`
	Why     string         `json:"why"`
}

// compare says what differs between two analyses, seen from the internet and, for names that are for others,
// from those.
func compare(ctx context.Context, before, after *analysis) (Effect, error) {
	e := noEffect()
	e.Old = oldAnswers(before, after)
	was, err := before.check(ctx)
	if err != nil {
		return e, err
	}
	is, err := after.check(ctx)
	if err != nil {
		return e, err
	}
	e.findings(was.Report, is.Report)
	for _, from := range vantagesOf(before, after) {
		if err := compareNames(ctx, &e, before, after, from); err != nil {
			return e, err
		}
	}
	rank := func(o trace.Outcome) int {
		switch {
		case o == "":
			return 2
		case o.Good():
			return 1
		}
		return 0
	}
	slices.SortStableFunc(e.Names, func(a, b NameEffect) int { return cmp.Compare(rank(a.After), rank(b.After)) })
	if err := compareDoors(&e, before, after); err != nil {
		return e, err
	}
	err = compareAdministration(ctx, &e, before, after)
	return e, err
}

// findings notes which came and which ended.
func (e *Effect) findings(was, is findings.Report) {
	brief := func(list []*findings.Finding) []Brief {
		out := []Brief{}
		for _, f := range list {
			out = append(out, Brief{f.Code, f.Level, f.Subject, f.Why})
		}
		return out
	}
	e.Fixed, e.Brought = brief(findings.Ended(was, is)), brief(findings.Ended(is, was))
}

// ofRecords are the findings that the records give by themselves, without a flow followed.
func (a *analysis) ofRecords() findings.Report {
	a.recordsOnce.Do(func() { a.records = findings.CheckRecords(a.tracer, a.day) })
	return a.records
}

// effectSoon is what an edit would do, as far as that is told while somebody types: where a large estate is not looked over yet
// as it is, or the edit may have changed anything, only what the records say by themselves and, where the names are known, how
// those end that the edit touches.
func effectSoon(ctx context.Context, before, after *analysis) (Effect, error) {
	anything := after.tracer.Touch().Everything()
	if before.Estate.Count() <= largeEstate || before.checked.Load() != nil && !anything {
		return compare(ctx, before, after)
	}
	e := noEffect()
	e.Old = oldAnswers(before, after)
	if len(after.course.former("internet").rows) > 0 && !anything {
		if err := compareNames(ctx, &e, before, after, "internet"); err != nil {
			return e, err
		}
	}
	e.findings(before.ofRecords(), after.ofRecords())
	return e, nil
}

// largeEstate is how many records make an estate one that takes longer to look over than a person waits between two keys.
const largeEstate = 4_000

// vantagesOf are internet and whatever vantages some names are for.
func vantagesOf(list ...*analysis) []string {
	out := []string{"internet"}
	for _, a := range list {
		for _, n := range a.tracer.Names() {
			for _, from := range n.From {
				if _, err := a.tracer.VantageNamed(from); err == nil && !slices.Contains(out, from) {
					out = append(out, from)
				}
			}
		}
	}
	return out
}

func compareNames(ctx context.Context, e *Effect, before, after *analysis, from string) error {
	was, err := before.names(ctx, from)
	if err != nil && ctx.Err() != nil {
		return err
	}
	is, err := after.names(ctx, from)
	if err != nil && ctx.Err() != nil {
		return err
	}
	type key struct {
		name      string
		port      uint16
		transport string
	}
	for len(was) > 0 && len(is) > 0 && was[0].reads == is[0].reads { // these stand
		was, is = was[1:], is[1:]
	}
	for len(was) > 0 && len(is) > 0 && was[len(was)-1].reads == is[len(is)-1].reads {
		was, is = was[:len(was)-1], is[:len(is)-1]
	}
	old := map[key]trace.Outcome{}
	for i := range was {
		if r := &was[i]; concerns(r, from) {
			old[key{r.Name, r.Port, r.Transport}] = r.Verdict
		}
	}
	for i := range is {
		r := &is[i]
		if !concerns(r, from) {
			continue
		}
		k := key{r.Name, r.Port, r.Transport}
		if verdict, there := old[k]; !there || verdict != r.Verdict {
			e.Names = append(e.Names, NameEffect{r.Name, r.Port, from, verdict, r.Verdict})
		}
		delete(old, k)
	}
	for i := range was {
		k := key{was[i].Name, was[i].Port, was[i].Transport}
		if verdict, gone := old[k]; gone {
			e.Names = append(e.Names, NameEffect{k.name, k.port, from, verdict, ""})
			delete(old, k)
		}
	}
	return nil
}

// concerns says whether a name is for a vantage: everybody's names are looked at from the internet.
func concerns(r *Row, from string) bool {
	if len(r.For) == 0 {
		return from == "internet"
	}
	return slices.Contains(r.For, from)
}

func compareDoors(e *Effect, before, after *analysis) error {
	v, err := before.tracer.VantageNamed("internet")
	if err != nil {
		return err
	}
	w, err := after.tracer.VantageNamed("internet")
	if err != nil {
		return err
	}
	was, is := trace.Unlike(before.tracer.ByAddress(v), after.tracer.ByAddress(w))
	old, now := doors(was), doors(is)
	for _, k := range now.order {
		if _, there := old.at[k]; !there {
			e.Doors = append(e.Doors, now.at[k])
		}
	}
	slices.SortStableFunc(e.Doors, func(a, b DoorEffect) int {
		switch {
		case a.Declared == b.Declared:
			return 0
		case a.Declared:
			return 1
		}
		return -1
	})
	for _, k := range old.order {
		if _, there := now.at[k]; !there {
			d := old.at[k]
			d.Opens = false
			e.Doors = append(e.Doors, d)
		}
	}
	return nil
}

// adminDoor is a listener on a port for administration.
type adminDoor struct {
	place, service string
	port           uint16
}

// administration is who reaches each port for administration, and who of them is meant to.
func (a *analysis) administration(ctx context.Context) (reached, meant map[adminDoor][]string, order []adminDoor, err error) {
	reached, meant = map[adminDoor][]string{}, map[adminDoor][]string{}
	every, err := a.everyExposure(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	for _, net := range a.tracer.Model().Networks {
		for i := range every[net.Name] {
			o := &every[net.Name][i]
			if findings.Administration(o) == "" {
				continue
			}
			d := adminDoor{o.Place, o.Service, o.Port}
			if reached[d] == nil {
				order = append(order, d)
			}
			if !slices.Contains(reached[d], net.Name) {
				reached[d] = append(reached[d], net.Name)
			}
			if o.Intent != trace.None && !slices.Contains(meant[d], net.Name) {
				meant[d] = append(meant[d], net.Name)
			}
		}
	}
	return reached, meant, order, nil
}

// losesAdministration says whether some network reaches less ports for administration than it did.
func losesAdministration(ctx context.Context, before, after *analysis) (bool, error) {
	networks := before.tracer.Model().Networks
	lost := parallel.Map(ctx, len(networks), func(i int) bool {
		v, err := before.tracer.VantageNamed(networks[i].Name)
		if err != nil {
			return false
		}
		w, err := after.tracer.VantageNamed(networks[i].Name)
		if err != nil {
			return true
		}
		was, is := trace.Unlike(before.tracer.ByAddress(v), after.tracer.ByAddress(w))
		there := map[adminDoor]bool{}
		for _, o := range trace.OpenOf(is) {
			there[adminDoor{o.Place, o.Service, o.Port}] = true
		}
		return slices.ContainsFunc(trace.OpenOf(was), func(o *trace.Open) bool {
			return findings.Administration(o) != "" && !there[adminDoor{o.Place, o.Service, o.Port}]
		})
	})
	return slices.Contains(lost, true), ctx.Err()
}

// compareAdministration finds ports for administration that nobody would reach any more, or not those who are meant to: by
// one of them one may just be coming in.
func compareAdministration(ctx context.Context, e *Effect, before, after *analysis) error {
	if lost, err := losesAdministration(ctx, before, after); err != nil || !lost {
		return err
	}
	was, meant, order, err := before.administration(ctx)
	if err != nil {
		return err
	}
	is, _, _, err := after.administration(ctx)
	if err != nil {
		return err
	}
	for _, d := range order {
		if p := after.tracer.Model().PlaceNamed(d.place); p == nil || !slices.ContainsFunc(after.tracer.Model().Places[p.Stack].Sockets, func(s model.Socket) bool {
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
			e.Shut = append(e.Shut, ShutEffect{d.place, d.port, d.service, lost, len(is[d]) == 0})
		}
	}
	return nil
}

type doorSet struct {
	at    map[string]DoorEffect
	order []string
}

// doors are the ports that stand open at some addresses, whatever the sites behind them.
func doors(list []*trace.OpenAt) doorSet {
	set := doorSet{at: map[string]DoorEffect{}}
	for _, o := range trace.OpenOf(list) {
		k := strings.Join([]string{o.Address, o.Ports, o.Transport, o.Place, strings.Join(o.Sources.Only, ","), strings.Join(o.Sources.Except, ",")}, " ")
		d, there := set.at[k]
		if !there {
			d = DoorEffect{o.Address, o.Ports, o.Transport, o.Place, o.Sources.String(), true, true}
			set.order = append(set.order, k)
		}
		d.Declared = d.Declared && o.Intent == trace.Declared
		set.at[k] = d
	}
	return set
}
