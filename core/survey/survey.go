// Package survey is one estate looked over: its findings, its table of names, what is open and how much of it needs attention, each
// worked out once, whoever asks. A survey goes on from the one before an edit, so that no answer costs more than what the edit touches.
package survey

import (
	"context"
	"maps"
	"sync"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/ports"
	"steady-compass/core/trace"
	"steady-compass/core/uses"
)

// Survey is an estate on a day, with what has been asked of it so far. Many may ask at once.
type Survey struct {
	Day    estate.Date
	Tracer *trace.Tracer
	before atomic.Pointer[Survey] // the one that it goes on from, until it is checked

	checked atomic.Pointer[findings.Checked]
	mu      sync.Mutex
	rows    map[string][]Row

	lineage *lineage

	recordsOnce sync.Once
	records     findings.Report // of the records by themselves

	chartOnce sync.Mutex
	chart     *ports.Chart

	usesOnce sync.Once
	uses     *uses.Index
}

// lineage is what one survey after another shares: the rows and the index that were worked out last, of whichever of them, from which
// the next goes on as far as no edit between touches it; and whose turn it is, since two at once would only take each other's time.
type lineage struct {
	checking, naming parallel.Turn // of who works out the findings, or rows
	uses             atomic.Pointer[uses.Index]
	passing          bool // it is of what may never be kept
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

func newLineage() *lineage {
	return &lineage{checking: parallel.NewTurn(), naming: parallel.NewTurn(), rows: map[string]formerRows{}}
}

// aside is a lineage that begins where this one stands, for what may never be kept.
func (c *lineage) aside() *lineage {
	out := newLineage()
	out.passing = true
	out.uses.Store(c.uses.Load())
	c.mu.Lock()
	out.rows = maps.Clone(c.rows)
	c.mu.Unlock()
	return out
}

// former are the last rows from a vantage.
func (c *lineage) former(from string) formerRows {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rows[from]
}

func (c *lineage) keep(from string, rows formerRows) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.rows[from] = rows
	for other := range c.rows {
		if len(c.rows) > mostVantages && other != from {
			delete(c.rows, other)
		}
	}
}

// New is a survey of an estate, on a day.
func New(e *estate.Estate, day estate.Date) *Survey {
	return of(trace.New(model.Compile(e), day), day, newLineage())
}

func of(t *trace.Tracer, day estate.Date, c *lineage) *Survey {
	return &Survey{Day: day, Tracer: t, lineage: c, rows: map[string][]Row{}}
}

// After is the survey of an estate that came of this one's by an edit, on the same day.
func (s *Survey) After(e *estate.Estate) *Survey { return s.goOn(e, s.lineage) }

// Draft is the survey of what an edit that may never be kept would make of the estate.
func (s *Survey) Draft(e *estate.Estate) *Survey { return s.goOn(e, s.lineage.aside()) }

func (s *Survey) goOn(e *estate.Estate, c *lineage) *Survey {
	next := of(s.Tracer.After(e), s.Day, c)
	next.before.Store(s)
	return next
}

// Checked are the findings, where they are worked out already; nil else.
func (s *Survey) Checked() *findings.Checked { return s.checked.Load() }

// Check gives the findings, worked out once; who asks meanwhile waits, as long as its context lasts. They go on from those of the
// survey that this one goes on from, so that no edit is judged by more than what it touches.
func (s *Survey) Check(ctx context.Context) (*findings.Checked, error) {
	if known := s.checked.Load(); known != nil {
		return known, nil
	}
	var last *findings.Checked
	if before := s.before.Load(); before != nil {
		var err error
		if last, err = before.Check(ctx); err != nil {
			return nil, err
		}
	}
	return inTurn(ctx, s.lineage, s.lineage.checking, func(ctx context.Context) (*findings.Checked, error) { return s.check(ctx, last) })
}

// inTurn does a piece of work in its turn. Of what may never be kept it ends with whoever asked; else it goes on to its end, since it will be asked
// for again: on an estate that takes longer than a request may, it would never be done.
func inTurn[T any](ctx context.Context, c *lineage, turn parallel.Turn, work func(context.Context) (T, error)) (T, error) {
	if err := turn.Take(ctx); err != nil {
		var none T
		return none, err
	}
	inIt := func(ctx context.Context) (T, error) {
		defer turn.Leave()
		return work(ctx)
	}
	if c.passing {
		return inIt(ctx)
	}
	return parallel.ToItsEnd(ctx, inIt)
}

// check works out the findings; they go on from the last ones, where there are any.
func (s *Survey) check(ctx context.Context, last *findings.Checked) (*findings.Checked, error) {
	if known := s.checked.Load(); known != nil {
		return known, nil
	}
	var checked *findings.Checked
	var err error
	if last != nil {
		checked, err = last.After(ctx, s.Tracer)
	} else {
		checked, err = findings.Check(ctx, s.Tracer, s.Day)
	}
	if err != nil {
		return nil, err
	}
	s.Tracer.GoOn()
	s.checked.Store(checked)
	s.before.Store(nil)
	return checked, nil
}

// OfRecords are the findings that the records give by themselves, without a flow followed.
func (s *Survey) OfRecords() findings.Report {
	s.recordsOnce.Do(func() { s.records = findings.CheckRecords(s.Tracer, s.Day) })
	return s.records
}

// Ports are the ports of all machines, made when they are first asked for.
func (s *Survey) Ports(ctx context.Context) (*ports.Chart, error) {
	s.chartOnce.Lock()
	defer s.chartOnce.Unlock()
	if s.chart != nil {
		return s.chart, nil
	}
	open, err := s.Every(ctx)
	if err != nil {
		return nil, err
	}
	m := s.Tracer.Model
	var clashes []ports.Clash
	for _, x := range m.Clashes() {
		clashes = append(clashes, ports.Clash{Machine: m.Places[x.Namespace].Name, Transport: x.Transport.String(), Range: x.Ports, Why: x.Why(m)})
	}
	s.chart = ports.New(s.Tracer, open, clashes)
	return s.chart, nil
}

// Uses is the index of what uses what, made when it is first asked for; it goes on from the last.
func (s *Survey) Uses() *uses.Index {
	s.usesOnce.Do(func() {
		if last := s.lineage.uses.Load(); last != nil {
			s.uses = last.After(s.Tracer)
		} else {
			s.uses = uses.New(s.Tracer)
		}
		s.lineage.uses.Store(s.uses)
	})
	return s.uses
}
