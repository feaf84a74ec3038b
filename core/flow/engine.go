// Package flow says what happens to a flow: by which machines it goes, how it is translated and filtered on its way, which listener takes
// it, and whether the reply comes back. It works on sets of sources and ports, so that one pass tells what becomes of all of them.
package flow

import (
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/memo"
	"steady-compass/core/model"
)

// Engine follows flows through a model. It is immutable, and many may ask at once; what it works out it keeps, and an engine that
// goes on from another takes over from that, as far as the edit between does not touch it.
type Engine struct {
	Model  *model.Model
	before *model.Model // of the engine that it goes on from; nil where it goes on from none
	touch  *memo.Touch  // what the edit between may have changed; anything, where it goes on from none

	// Members tells who of a pool is in service for a router that forwards to it, and else the break of a pool of which nobody is. It is set
	// by what knows of requests; checking is what the flow carries of the checks it is a part of.
	Members func(pool string, router *model.Place, six bool, checking any, reads *memo.Reads) ([]PoolMember, Break)

	crossings  memo.Table[crossingKey, *Crossing]
	deliveries sync.Map // of deliveryKey: *delivery
	delivered  atomic.Int64
}

// New is an engine over a model.
func New(m *model.Model) *Engine {
	return &Engine{Model: m, touch: memo.Anything(), crossings: memo.NewTable[crossingKey, *Crossing](), Members: nobody}
}

// After is an engine over a model that came of this one's by an edit.
func (t *Engine) After(m *model.Model) *Engine {
	next := New(m)
	next.before, next.touch = t.Model, memo.Between(t.Model, m)
	if !next.touch.Everything() && SameEntries(t.Model, m) {
		next.crossings.GoOn(t.crossings)
	}
	return next
}

// Touch is what the edit that the engine came of may have changed; anything, where it came of none.
func (t *Engine) Touch() *memo.Touch { return t.touch }

// Since is what an edit may have changed that made of another model's estate the engine's own.
func (t *Engine) Since(m *model.Model) *memo.Touch {
	if t.before == m {
		return t.touch
	}
	return memo.Between(m, t.Model)
}

// SameEntries says whether nothing changed between two models that the addresses come of at which something of ours may answer.
func SameEntries(before, after *model.Model) bool {
	if !after.HangsTogetherAs(before) || !estate.Same(before.Estate, after.Estate, "outbound") {
		return false
	}
	gone, come := estate.Changed(before.Estate, after.Estate, estate.KindNamed("forward"))
	return !slices.ContainsFunc(slices.Concat(gone, come), func(r estate.Record) bool { return r.(*estate.Forward).Bind.Addr.IsValid() })
}

// PoolMember is a member of a pool that is in service.
type PoolMember struct {
	Record *estate.Member
	Addr   netip.Addr
	Port   uint16
}

// nobody is in service as long as nothing tells who is.
func nobody(pool string, _ *model.Place, _ bool, _ any, _ *memo.Reads) ([]PoolMember, Break) {
	return nil, Break{Code: "pool.down", Subject: pool, Short: "no member left", Why: "No member of pool " + pool + " is known to be in service."}
}
