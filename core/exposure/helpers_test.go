package exposure

import (
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

const day = "2026-11-25"

func compiled(t testing.TB, e *estate.Estate) *Engine {
	t.Helper()
	return New(model.Compile(e), day)
}

// after is a tracer gone on from another by an edit: "- line" goes, another comes.
func after(t *testing.T, tr *Engine, lines ...string) *Engine {
	t.Helper()
	return tr.After(tr.Model.Recompile(notationtest.Edit(t, tr.Model.Estate, lines...)))
}

const touching = synth.Office
