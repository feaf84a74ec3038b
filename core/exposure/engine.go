// Package exposure says what can be touched from a vantage, exactly: every address, transport, port and source, which listener and site
// takes it, and whether somebody meant it to be open.
package exposure

import (
	"sync"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/serve"
)

// Engine says what can be touched, from where.
type Engine struct {
	*serve.Engine
	entries *entryList

	*learned
	taking     memo.Table[takingKey, *taking]
	admissions memo.Table[takingKey, *admission]
	narrow     memo.Table[sitesKey, *narrowSites]
	openOnce   sync.Once
	openTouch  *memo.Touch // of what is open

	was *learned // of the engine that it goes on from, where that holds
}

// learned is what is asked for by exposure only, each once, and perhaps after others went on from here.
type learned struct {
	landOnce   sync.Once
	landings   atomic.Pointer[landings]
	abroadOnce sync.Once
	abroad     atomic.Pointer[[]int]
	views      sync.Map // of viewKey: *view
}

// New is an engine over a model, on a day.
func New(m *model.Model, day estate.Date) *Engine { return fresh(serve.New(m, day)) }

func fresh(requests *serve.Engine) *Engine {
	return &Engine{
		Engine: requests, entries: &entryList{}, learned: &learned{},
		taking: memo.NewTable[takingKey, *taking](), admissions: memo.NewTable[takingKey, *admission](), narrow: memo.NewTable[sitesKey, *narrowSites](),
	}
}

// After is an engine over a model that came of this one's by an edit, on the same day.
func (t *Engine) After(m *model.Model) *Engine {
	next := fresh(t.Engine.After(m))
	if !next.Touch().Everything() && flow.SameEntries(t.Model, m) {
		next.entries, next.was = t.entries, t.learned
		next.taking.GoOn(t.taking)
		next.admissions.GoOn(t.admissions)
		next.narrow.GoOn(t.narrow)
	}
	return next
}
