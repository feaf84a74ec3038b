package server

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

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
	origin atomic.Pointer[analysis] // the one that it goes on from, until it is checked
	packed *packedAnswers

	checked atomic.Pointer[findings.Checked]
	mu      sync.Mutex
	rows    map[string][]Row

	course *course

	recordsOnce sync.Once
	records     findings.Report // of the records by themselves

	chartOnce sync.Mutex
	charted   *ports.Chart

	usesOnce sync.Once
	uses     *uses.Index
}

// course is what the analyses of one revision after another share: the rows and the index that were worked out last, of whichever of
// them, from which the next goes on as far as no edit between touches it; and whose turn it is, since two at once would only take each other's time.
type course struct {
	checking, naming chan struct{} // held by whoever works out the findings, or rows
	uses             atomic.Pointer[uses.Index]
	mu               sync.Mutex
	rows             map[string]formerRows // by vantage
}

// formerRows are the rows from a vantage as a tracer had them.
type formerRows struct {
	rows   []Row
	tracer *trace.Tracer
}

// mostVantages is of how many vantages the last rows are kept.
const mostVantages = 8

func newCourse() *course {
	return &course{checking: make(chan struct{}, 1), naming: make(chan struct{}, 1), rows: map[string]formerRows{}}
}

// aside is a course that begins where this one stands, for what may never be kept.
func (c *course) aside() *course {
	out := newCourse()
	out.uses.Store(c.uses.Load())
	c.mu.Lock()
	out.rows = maps.Clone(c.rows)
	c.mu.Unlock()
	return out
}

// former are the last rows from a vantage.
func (c *course) former(from string) formerRows {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rows[from]
}

func (c *course) keep(from string, rows formerRows) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.rows[from] = rows
	for other := range c.rows {
		if len(c.rows) > mostVantages && other != from {
			delete(c.rows, other)
		}
	}
}

// hold waits for a turn, as long as the request lasts.
func hold(ctx context.Context, turn chan struct{}) error {
	select {
	case turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func analyse(s store.Snapshot, day estate.Date) *analysis {
	return analysisOf(s, day, trace.New(model.Compile(s.Estate), day), newCourse())
}

func analysisOf(s store.Snapshot, day estate.Date, t *trace.Tracer, c *course) *analysis {
	return &analysis{Snapshot: s, day: day, tracer: t, course: c, rows: map[string][]Row{}, packed: newPackedAnswers()}
}

// after is the analysis of an estate that came of the analysed one by an edit, on the same day.
func (a *analysis) after(s store.Snapshot) *analysis { return a.goOn(s, a.course) }

// draft is the analysis of what is not kept yet.
func (a *analysis) draft(e *estate.Estate) *analysis {
	return a.goOn(store.Snapshot{Estate: e, Revision: a.Revision}, a.course.aside())
}

func (a *analysis) goOn(s store.Snapshot, c *course) *analysis {
	next := analysisOf(s, a.day, a.tracer.After(s.Estate), c)
	next.origin.Store(a)
	return next
}

// check gives the findings, worked out once; who asks meanwhile waits, as long as its request lasts. They go on from those of the
// analysis that this one goes on from, so that no edit is judged by more than what it touches.
func (a *analysis) check(ctx context.Context) (*findings.Checked, error) {
	if known := a.checked.Load(); known != nil {
		return known, nil
	}
	var last *findings.Checked
	if origin := a.origin.Load(); origin != nil {
		var err error
		if last, err = origin.check(ctx); err != nil {
			return nil, err
		}
	}
	if err := hold(ctx, a.course.checking); err != nil {
		return nil, err
	}
	defer func() { <-a.course.checking }()
	if known := a.checked.Load(); known != nil {
		return known, nil
	}
	var checked *findings.Checked
	var err error
	if last != nil {
		checked, err = last.After(ctx, a.tracer)
	} else {
		checked, err = findings.Check(ctx, a.tracer, a.day)
	}
	if err != nil {
		return nil, err
	}
	a.tracer.GoOn()
	a.checked.Store(checked)
	a.origin.Store(nil)
	return checked, nil
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
	if rows, ok := a.knownRows(v.Word); ok {
		return rows, nil
	}
	if err := hold(ctx, a.course.naming); err != nil {
		return nil, err
	}
	defer func() { <-a.course.naming }()
	if rows, ok := a.knownRows(v.Word); ok {
		return rows, nil
	}
	all := a.tracer.Names()
	former := a.course.former(v.Word)
	known := rowsOf(all, former.rows)
	touch := trace.Anything()
	if former.tracer != nil {
		touch = former.tracer.Touched(a.tracer)
	}
	parts := parallel.Map(ctx, len(all), func(i int) []Row {
		if stand(known[i], all[i], touch) {
			return known[i]
		}
		return a.nameRows(all[i], v)
	})
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	rows := slices.Concat(parts...)
	if rows == nil {
		rows = []Row{}
	}
	a.mu.Lock()
	a.rows[v.Word] = rows
	a.mu.Unlock()
	a.course.keep(v.Word, formerRows{rows, a.tracer})
	return rows, nil
}

func (a *analysis) knownRows(from string) ([]Row, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	rows, ok := a.rows[from]
	return rows, ok
}

// rowsOf are the rows that each of some names has among rows in the same order; none where it has none.
func rowsOf(all []*trace.Name, rows []Row) [][]Row {
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

// stand says whether the rows of a name are what they were: nothing that they come by is touched.
func stand(old []Row, n *trace.Name, touch *trace.Touch) bool {
	if len(old) == 0 || old[0].Zone != n.Zone || !slices.Equal(old[0].For, n.From) {
		return false
	}
	return !slices.ContainsFunc(old, func(r Row) bool { return touch.Reading(r.reads) })
}

func (a *analysis) nameRows(n *trace.Name, v trace.Vantage) []Row {
	var reads trace.Reads // of the name: whatever touches one of its rows, touches all
	reads.Asked(n.Name)
	ports, known := a.tracer.PortsReading(n.Name, &v, &reads)
	if !known {
		ports = ports[:1] // one guess is enough for a row
	}
	target := trace.Target{Text: n.Name, Name: n.Name}
	var out []Row
	for _, k := range ports {
		paths, followed := []trace.Path(nil), false
		if checked := a.checked.Load(); checked != nil {
			paths, followed = checked.Paths(n.Name, k, v.Word, &reads)
		}
		if !followed {
			paths = a.tracer.TraceReading(target, k, v, &reads)
		}
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
	return a.tracer.Exposure(v), nil
}

// everyExposure is what internet and each recorded network reach.
func (a *analysis) everyExposure(ctx context.Context) (map[string][]trace.Open, error) {
	networks := a.tracer.Model().Networks
	open := parallel.Map(ctx, len(networks), func(i int) []trace.Open {
		x, _ := a.exposure(networks[i].Name) // a network is a vantage
		return x.Open
	})
	out := map[string][]trace.Open{}
	for i, net := range networks {
		out[net.Name] = open[i]
	}
	return out, ctx.Err()
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
	Causes     int `json:"causes"` // mistakes that findings come of
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
	causes, _ := report.Causes()
	c.Causes = len(causes)
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
