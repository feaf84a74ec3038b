// Package serve says what happens behind a listener: who is asked for, TLS, the site that is picked, where that hands the request on
// to; and which listeners a name is meant for.
package serve

import (
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
)

// Engine follows requests to what answers them, on a day.
type Engine struct {
	*flow.Engine
	day   estate.Date
	Index *Index
}

// New is an engine over a model, on a day.
func New(m *model.Model, day estate.Date) *Engine {
	return &Engine{flow.New(m), day, buildIndex(m, nil)}
}

// After is an engine over a model that came of this one's by an edit, on the same day.
func (t *Engine) After(m *model.Model) *Engine {
	return &Engine{t.Engine.After(m), t.day, buildIndex(m, t)}
}
