// Package serve says what happens behind a listener: who is asked for, TLS, the site that is picked, where that hands the request on
// to; and which listeners a name is meant for.
package serve

import (
	"sync"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
)

// Engine follows requests to what answers them, on a day.
type Engine struct {
	*flow.Engine
	day   estate.Date
	Index *Index

	standings sync.Map // of standingKey: *standings
}

// New is an engine over a model, on a day.
func New(m *model.Model, day estate.Date) *Engine {
	return on(flow.New(m), day, buildIndex(m, nil))
}

// After is an engine over a model that came of this one's by an edit, on the same day.
func (t *Engine) After(m *model.Model) *Engine {
	return on(t.Engine.After(m), t.day, buildIndex(m, t))
}

func on(flows *flow.Engine, day estate.Date, index *Index) *Engine {
	t := &Engine{Engine: flows, day: day, Index: index}
	flows.Members = t.membersFrom
	return t
}
