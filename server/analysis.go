package server

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/parallel"
	"steady-compass/core/ports"
	"steady-compass/core/trace"
	"steady-compass/core/uses"
	"steady-compass/store"
)

// analysis is a revision compiled, with what has been asked of it so far. It is shared by all
// requests; each answer is worked out once.
type analysis struct {
	store.Snapshot
	day    estate.Date
	tracer *trace.Tracer

	checking chan struct{} // held by whoever works out the report
	report   *findings.Report
	mu       sync.Mutex
	rows     map[string][]Row
	open     map[string]trace.Exposure

	// Of an analysis that goes on from another: the rows there, for as long as the edit between does not touch them.
	before map[string][]Row
	touch  *trace.Touch

	recordsOnce sync.Once
	records     []findings.Finding // of the records by themselves

	chartOnce sync.Mutex
	charted   *ports.Chart

	usesOnce sync.Once
	uses     *uses.Index
}

func analyse(s store.Snapshot, day estate.Date) *analysis {
	return analysisOf(s, day, trace.New(model.Compile(s.Estate), day))
}

func analysisOf(s store.Snapshot, day estate.Date, t *trace.Tracer) *analysis {
	return &analysis{Snapshot: s, day: day, tracer: t, checking: make(chan struct{}, 1), rows: map[string][]Row{}, open: map[string]trace.Exposure{}}
}

// after is the analysis of an estate that came of the analysed one by an edit, on the same day.
func (a *analysis) after(s store.Snapshot) *analysis {
	next := analysisOf(s, a.day, a.tracer.After(s.Estate))
	a.mu.Lock()
	next.before = maps.Clone(a.rows)
	a.mu.Unlock()
	next.touch = a.tracer.Touched(next.tracer)
	return next
}

// draft is the analysis of what is not kept yet.
func (a *analysis) draft(e *estate.Estate) *analysis {
	return a.after(store.Snapshot{Estate: e, Revision: a.Revision})
}

// check gives the findings, worked out once; who asks meanwhile waits, as long as its request lasts.
func (a *analysis) check(ctx context.Context) (findings.Report, error) {
	select {
	case a.checking <- struct{}{}:
		defer func() { <-a.checking }()
	case <-ctx.Done():
		return findings.Report{}, ctx.Err()
	}
	if a.report == nil {
		r, err := findings.Check(ctx, a.tracer, a.day)
		if err != nil {
			return r, err
		}
		a.report = &r
	}
	return *a.report, nil
}

// Row is a name on a port, as the table of names shows it.
type Row struct {
	Name      string        `json:"name"`
	Unicode   string        `json:"unicode,omitempty"` // the name as people write it (RFC 5890), where that is not the same
	Zone      string        `json:"zone"`
	For       []string      `json:"for" nullable:"false"` // the vantages it is for, where not everybody's
	Port      uint16        `json:"port"`
	Transport string        `json:"transport"`
	Verdict   trace.Outcome `json:"verdict"`
	AsMeant   bool          `json:"asMeant"` // the name is not for this vantage, and does not resolve there
	Guessed   bool          `json:"guessed"` // nothing recorded gives this port
	Mends     int           `json:"mends"`
	Ways      []RowWay      `json:"ways" nullable:"false"`

	reads *trace.Reads // what it was worked out from
}

// RowWay is one way of a row.
type RowWay struct {
	Family  string        `json:"family"`
	Address string        `json:"address"`
	URLPath string        `json:"urlpath"`
	Outcome trace.Outcome `json:"outcome"`
	Inner   trace.Outcome `json:"inner,omitempty"`
	Cells   trace.Cells   `json:"cells"`
}

// names gives the rows seen from a vantage.
func (a *analysis) names(ctx context.Context, from string) ([]Row, error) {
	v, err := a.tracer.VantageNamed(from)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	rows, ok := a.rows[v.Word]
	a.mu.Unlock()
	if ok {
		return rows, nil
	}
	all := a.tracer.Names()
	known := rowsOf(all, a.before[v.Word])
	parts := parallel.Map(ctx, len(all), func(i int) []Row {
		if a.stand(known[i], all[i]) {
			return known[i]
		}
		return a.nameRows(all[i], v)
	})
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	rows = slices.Concat(parts...)
	if rows == nil {
		rows = []Row{}
	}
	a.mu.Lock()
	a.rows[v.Word] = rows
	a.mu.Unlock()
	return rows, nil
}

// rowsOf are the rows that each of some names has among rows in the same order; none where it has none.
func rowsOf(all []trace.Name, rows []Row) [][]Row {
	out := make([][]Row, len(all))
	for i := 0; i < len(all) && len(rows) > 0; {
		n := 1
		for n < len(rows) && rows[n].Name == rows[0].Name {
			n++
		}
		switch d := cmp.Or(strings.Compare(all[i].Zone, rows[0].Zone), trace.CompareNames(all[i].Name, rows[0].Name)); {
		case d < 0:
			i++
		case d > 0:
			rows = rows[n:]
		default:
			out[i], rows = rows[:n:n], rows[n:]
			i++
		}
	}
	return out
}

// stand says whether the rows of a name are what they were before the edit: nothing that they come by is touched.
func (a *analysis) stand(old []Row, n trace.Name) bool {
	if len(old) == 0 || old[0].Zone != n.Zone || !slices.Equal(old[0].For, n.From) {
		return false
	}
	return !slices.ContainsFunc(old, func(r Row) bool {
		return a.touch.Trace(n.Name, r.reads)
	})
}

func (a *analysis) nameRows(n trace.Name, v trace.Vantage) []Row {
	var reads trace.Reads // of the name: whatever touches one of its rows, touches all
	ports, known := a.tracer.PortsReading(n.Name, &v, &reads)
	if !known {
		ports = ports[:1] // one guess is enough for a row
	}
	target := trace.Target{Text: n.Name, Name: n.Name}
	var out []Row
	for _, k := range ports {
		paths := a.tracer.TraceReading(target, k, v, &reads)
		r := Row{reads: &reads, Name: n.Name, Unicode: names.Unicode(n.Name), Zone: n.Zone, For: n.From, Port: k.Port, Transport: k.Transport.String(), Verdict: trace.VerdictOf(paths), Guessed: !known, Ways: []RowWay{}}
		if r.For == nil {
			r.For = []string{}
		}
		mends := map[string]bool{}
		for i := range paths {
			p := &paths[i]
			r.Ways = append(r.Ways, RowWay{p.Family, p.Address, p.URLPath, p.Outcome, p.Inner, p.Cells})
			for _, b := range p.Breaks {
				mends[b.Code+b.At+strings.Join(b.Records, "\n")] = true
			}
		}
		r.Mends = len(mends)
		r.AsMeant = r.Verdict == trace.Unresolved && len(n.From) > 0 && !slices.Contains(n.From, v.Word)
		out = append(out, r)
	}
	return out
}

func (a *analysis) exposure(from string) (trace.Exposure, error) {
	v, err := a.tracer.VantageNamed(from)
	if err != nil {
		return trace.Exposure{}, err
	}
	a.mu.Lock()
	x, ok := a.open[v.Word]
	a.mu.Unlock()
	if ok {
		return x, nil
	}
	x = a.tracer.Exposure(v)
	a.mu.Lock()
	a.open[v.Word] = x
	a.mu.Unlock()
	return x, nil
}

// everyExposure is what internet and each recorded network reach.
func (a *analysis) everyExposure(ctx context.Context) (map[string][]trace.Open, error) {
	out := map[string][]trace.Open{}
	for _, net := range a.tracer.Model().Networks {
		x, err := a.exposure(net.Name)
		if err != nil {
			return nil, err
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out[net.Name] = x.Open
	}
	return out, nil
}

// Counts is what needs attention.
type Counts struct {
	Names      int `json:"names"`
	Stop       int `json:"stop"`       // rows that do not arrive
	Arrive     int `json:"arrive"`     // rows that do
	Undecided  int `json:"undecided"`  // rows that cannot be told
	Undeclared int `json:"undeclared"` // things open to the internet that no intent covers wholly
	Machines   int `json:"machines"`
	Open       int `json:"open"`
	Errors     int `json:"errors"`
	Warnings   int `json:"warnings"`
	Notes      int `json:"notes"`
}

func (a *analysis) counts(ctx context.Context) (Counts, error) {
	rows, err := a.names(ctx, "internet")
	if err != nil {
		return Counts{}, err
	}
	c := Counts{Names: len(rows)}
	for i := range rows {
		switch r := &rows[i]; {
		case r.Verdict == trace.Undecided:
			c.Undecided++
		case r.Verdict.Good():
			c.Arrive++
		case !r.AsMeant && r.stops():
			c.Stop++
		}
	}
	x, err := a.exposure("internet")
	if err != nil {
		return Counts{}, err
	}
	for _, p := range a.tracer.Model().Places {
		if !p.IsContainer() && !p.Outside {
			c.Machines++
		}
	}
	c.Open = len(x.Open)
	doors := map[string]bool{}
	for i := range x.Open {
		if o := &x.Open[i]; o.Intent != trace.Declared {
			doors[o.Address+o.Ports+o.Transport] = true
		}
	}
	c.Undeclared = len(doors)
	report, err := a.check(ctx)
	if err != nil {
		return c, err
	}
	c.Errors, c.Warnings, c.Notes = report.Counts[findings.Error], report.Counts[findings.Warning], report.Counts[findings.Note]
	return c, nil
}

func (r *Row) stops() bool {
	return r.Verdict != trace.Outside || r.Mends > 0
}

// Vantage is a place to look from.
type Vantage struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

func (a *analysis) vantages() []Vantage {
	out := []Vantage{{"internet", "internet"}}
	for _, kind := range []string{"network", "group", "host", "container"} {
		k := estate.KindNamed(kind)
		for _, r := range a.Estate.Of(k) {
			if name := k.Fields[0].Values(r)[0]; !r.Meta().Off && !slices.ContainsFunc(out, func(v Vantage) bool { return v.Name == name }) {
				out = append(out, Vantage{name, kind})
			}
		}
	}
	return out
}

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
	dns := estate.KindNamed("dns")
	was, is := map[string]bool{}, map[string]bool{}
	for _, r := range before.Estate.Of(dns) {
		was[estate.Line(r)] = true
	}
	for _, r := range after.Estate.Of(dns) {
		is[estate.Line(r)] = true
	}
	internet, err := before.tracer.VantageNamed("internet")
	if err != nil {
		return []OldAnswer{}
	}
	found := map[key]OldAnswer{}
	note := func(o OldAnswer) {
		if old, ok := found[key{o.Name, o.Type}]; o.Seconds > 0 && (!ok || o.Seconds > old.Seconds) {
			found[key{o.Name, o.Type}] = o
		}
	}
	for _, r := range before.Estate.Of(dns) {
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
	for _, r := range after.Estate.Of(dns) {
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
	if err := compareAdministration(ctx, &e, before, after); err != nil {
		return e, err
	}
	was, err := before.check(ctx)
	if err != nil {
		return e, err
	}
	is, err := after.check(ctx)
	if err != nil {
		return e, err
	}
	e.findings(was.Findings, is.Findings)
	return e, nil
}

// findings notes which came and which ended.
func (e *Effect) findings(was, is []findings.Finding) {
	key := func(f *findings.Finding) string { return f.Code + " " + f.Subject }
	had, has := map[string]bool{}, map[string]bool{}
	for i := range was {
		had[key(&was[i])] = true
	}
	for i := range is {
		has[key(&is[i])] = true
		if f := &is[i]; !had[key(f)] {
			e.Brought = append(e.Brought, Brief{f.Code, f.Level, f.Subject, f.Why})
		}
	}
	for i := range was {
		if f := &was[i]; !has[key(f)] {
			e.Fixed = append(e.Fixed, Brief{f.Code, f.Level, f.Subject, f.Why})
		}
	}
}

// ofRecords are the findings that the records give by themselves, without a flow followed.
func (a *analysis) ofRecords() []findings.Finding {
	a.recordsOnce.Do(func() { a.records = findings.CheckRecords(a.tracer, a.day).Findings })
	return a.records
}

// glance compares what the records say by themselves and, where the names are known as they were, how those end that the
// edit touches, where these are some: for an estate so large that following every flow takes longer than a person waits between two keys.
func glance(ctx context.Context, before, after *analysis) Effect {
	e := noEffect()
	e.Old = oldAnswers(before, after)
	if len(after.before["internet"]) > 0 && !after.touch.Everything() {
		_ = compareNames(ctx, &e, before, after, "internet") // it ends with the request
	}
	e.findings(before.ofRecords(), after.ofRecords())
	return e
}

// largeEstate is how many records make an estate one that is only glanced at while somebody types.
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
	was, err := before.exposure("internet")
	if err != nil {
		return err
	}
	is, err := after.exposure("internet")
	if err != nil {
		return err
	}
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

// compareAdministration finds ports for administration that nobody would reach any more, or not those who are meant to: by
// one of them one may just be coming in.
func compareAdministration(ctx context.Context, e *Effect, before, after *analysis) error {
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

// doors are the ports that stand open, whatever the sites behind them.
func doors(x trace.Exposure) doorSet {
	set := doorSet{at: map[string]DoorEffect{}}
	for i := range x.Open {
		o := &x.Open[i]
		k := strings.Join([]string{o.Address, o.Ports, o.Transport, o.Place, strings.Join(o.Sources.Only, ","), strings.Join(o.Sources.Except, ",")}, " ")
		d, there := set.at[k]
		if !there {
			d = DoorEffect{o.Address, o.Ports, o.Transport, o.Place, true, true}
			set.order = append(set.order, k)
		}
		d.Declared = d.Declared && o.Intent == trace.Declared
		set.at[k] = d
	}
	return set
}
