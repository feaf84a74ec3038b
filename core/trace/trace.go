// Package trace follows a target from a vantage: each way to its end, with every step, every break on the way past the first, and the lines
// that would mend each. It asks the engines below it, and knows which names there are and by which ports each is asked for.
package trace

import (
	"net/netip"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/serve"
)

// Path is one way that a flow takes, to its end.
type Path struct {
	Port      uint16       `json:"port"`
	Transport string       `json:"transport"`
	Family    string       `json:"family"`
	Address   string       `json:"address"`
	URLPath   string       `json:"urlpath"`
	Member    string       `json:"member,omitempty"`
	Via       string       `json:"via,omitempty"` // which of several routers it goes by, where no route says
	Sources   flow.Sources `json:"sources"`
	Outcome   flow.Outcome `json:"outcome"`
	Inner     flow.Outcome `json:"inner,omitempty"`
	End       *string      `json:"end"`
	Service   *string      `json:"service"`
	Intended  *string      `json:"intended"`
	Steps     []flow.Step  `json:"steps" nullable:"false"`
	Breaks    []flow.Break `json:"breaks" nullable:"false"`
	Cells     flow.Cells   `json:"cells"`
	Mark      Mark         `json:"mark"`

	fronts    []serve.Front
	site      *estate.Site // that took it first
	oneSided  *model.Filter
	guarded   bool
	spokeTLS  bool   // to whatever took the flow first
	defaulted string // the site that took it only since none has its name
	caughtBy  estate.Record
	addr      netip.Addr
	lowest    netip.Addr
}

// Fronts are the places that handed the request on, in turn, past breaks too.
func (p *Path) Fronts() []serve.Front { return p.fronts }

// Site is the site that took the request first; nil where none did.
func (p *Path) Site() *estate.Site { return p.site }

// SpokeTLS says whether whoever asks speaks TLS first.
func (p *Path) SpokeTLS() bool { return p.spokeTLS }

// Addr is the address that is asked; not valid where the name gives none.
func (p *Path) Addr() netip.Addr { return p.addr }

// OneSided is a filter that keeps the state of the flow and does not see its replies; nil where each sees both.
func (p *Path) OneSided() *estate.Filter {
	if p.oneSided == nil {
		return nil
	}
	return p.oneSided.Record
}

// Guarded says whether visitors sign in on the way.
func (p *Path) Guarded() bool { return p.guarded }

// Result is the answer to a trace.
type Result struct {
	Target  string       `json:"target"`
	Unicode string       `json:"unicode,omitempty"` // the name as people write it (RFC 5890), where that is not the same
	From    string       `json:"from"`
	Verdict flow.Outcome `json:"verdict"`
	Paths   []Path       `json:"paths" nullable:"false"`
}

// Holds says whether every path arrives or redirects to something that does, or leads outside,
// without a break.
func (r *Result) Holds() bool {
	for i := range r.Paths {
		p := &r.Paths[i]
		if !p.Outcome.Good() && p.Outcome != flow.Outside || len(p.Breaks) > 0 {
			return false
		}
	}
	return true
}

// VerdictOf is the verdict of a name over its paths, the first being what a client tries first.
func VerdictOf(paths []Path) flow.Outcome {
	if len(paths) == 0 {
		return flow.Undecided
	}
	good, redirects := 0, 0
	for i := range paths {
		if paths[i].Outcome.Good() {
			good++
		}
		if paths[i].Outcome == flow.Redirects {
			redirects++
		}
	}
	switch {
	case redirects == len(paths):
		return flow.Redirects
	case good == len(paths):
		return flow.Arrives
	case good > 0:
		return flow.Partly
	}
	return paths[0].Outcome
}

// Tracer asks questions of a model. It is immutable, and many may ask at once.
type Tracer struct {
	*exposure.Engine
	names *nameList
	was   *named // the names of the estate before the edit that this one came of; nil where it came of none, or they are the same
}

// named are the names of an estate.
type named struct {
	estate *estate.Estate
	*nameList
}

// New is a tracer over a model, on a day.
func New(m *model.Model, day estate.Date) *Tracer {
	return &Tracer{Engine: exposure.New(m, day), names: &nameList{}}
}

// After is a tracer over an estate that came of the tracer's own by an edit, on the same day. It answers as a new one does,
// and shares with this one what no changed line speaks of.
func (t *Tracer) After(e *estate.Estate) *Tracer {
	next := &Tracer{Engine: t.Engine.After(t.Model.Recompile(e)), names: t.names}
	if !sameNames(t.Model.Estate, e) {
		next.names, next.was = &nameList{}, &named{t.Model.Estate, t.names}
	}
	return next
}

// Cause is the key of a break on the path: two breaks with one cause are one mistake.
func (p *Path) Cause(b *flow.Break) string { return flow.Cause(b, p.Steps, p.Transport) }

// Mark is how an end is shown: it arrives, it is stopped, it just ends, or nobody knows.
type Mark string

const (
	Arriving Mark = "arrives"
	Stopping Mark = "stops"
	Ending   Mark = "ends" // nobody meant it to go on, or it leaves what is recorded without a fault
	Unknown  Mark = "unknown"
)

// Marks are all of them.
var Marks = []Mark{Arriving, Stopping, Ending, Unknown}

// MarkOf is the mark of an outcome. asMeant says that the name is not for this vantage; broken, that something on the way is to be mended.
func MarkOf(o flow.Outcome, asMeant, broken bool) Mark {
	switch {
	case o.Good():
		return Arriving
	case o == flow.Undecided:
		return Unknown
	case asMeant || o == flow.Outside && !broken:
		return Ending
	}
	return Stopping
}
