// Package trace follows flows through a compiled estate: from a vantage to the listener that
// takes them and on to what answers, with every step, every break on the way past the
// first, and the lines that would mend each. Exposure is the same walk over sets of ports, without
// mending.
package trace

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/model"
)

// Outcome is how a path ends, by its first break.
type Outcome string

const (
	Arrives      Outcome = "arrives"
	Redirects    Outcome = "redirect"
	Unresolved   Outcome = "unresolved"
	Outside      Outcome = "outside"
	Unroutable   Outcome = "unroutable"
	Silent       Outcome = "silent"
	Refused      Outcome = "refused"
	Mismatched   Outcome = "mismatched"
	Untrusted    Outcome = "untrusted"
	Unanswered   Outcome = "unanswered"
	Denied       Outcome = "denied"
	GatewayError Outcome = "gateway-error"
	LostReply    Outcome = "lost-reply"
	Loop         Outcome = "loop"
	Undecided    Outcome = "undecided"
	Partly       Outcome = "partly" // a verdict over several paths only
)

// Good says whether a visitor gets where the outcome says.
func (o Outcome) Good() bool { return o == Arrives || o == Redirects }

// Stage is what a step does.
type Stage string

const (
	StageResolve   Stage = "resolve"
	StageRoute     Stage = "route"
	StageTranslate Stage = "translate"
	StageFilter    Stage = "filter"
	StageRewrite   Stage = "rewrite"
	StageSocket    Stage = "socket"
	StageTLS       Stage = "tls"
	StageSite      Stage = "site"
	StageUpstream  Stage = "upstream"
	StageEnd       Stage = "end"
)

// Verdict is what a step decides.
type Verdict string

const (
	Pass      Verdict = "pass"
	Broken    Verdict = "break"
	Assumed   Verdict = "assumed"
	Unsettled Verdict = "undecided"
)

// Flow is the flow as it is after a step.
type Flow struct {
	To        string `json:"to"`             // address and port
	From      string `json:"from,omitempty"` // the source as the next machine sees it
	Name      string `json:"name,omitempty"` // the name asked
	Encrypted bool   `json:"encrypted"`
}

// Step is one thing done to a flow, where, and by which records.
type Step struct {
	Stage   Stage    `json:"stage"`
	At      string   `json:"at"`
	Verdict Verdict  `json:"verdict"`
	Why     string   `json:"why"`
	Records []string `json:"records" nullable:"false"`
	Flow    Flow     `json:"flow"`
	Ground  Ground   `json:"ground"`          // how far in the step stands
	Ghost   bool     `json:"ghost,omitempty"` // past the first break: what would happen
	Chain   []Link   `json:"chain,omitempty"` // of a name that is resolved: from what was asked to the address
}

// Link is one record of a chain of answers.
type Link struct {
	Name   string          `json:"name"`
	Type   string          `json:"type"` // the record's, or "hosts"
	Value  string          `json:"value"`
	TTL    *estate.Seconds `json:"ttl,omitempty"` // how long it may be kept; nothing where no ttl is recorded
	Age    *estate.Seconds `json:"age,omitempty"` // how long it may still be seen after a change; more than ttl where a name follows a machine
	Record string          `json:"record"`
}

// Ground is how far in a step stands: what the world sees, the edge, our own machines.
type Ground string

const (
	Water    Ground = "water"
	Shallows Ground = "shallows"
	Land     Ground = "land"
)

// Mend is lines out and lines in; a line of an ordered kind carries its place.
type Mend struct {
	Remove []string `json:"remove" nullable:"false"`
	Add    []string `json:"add" nullable:"false"`
}

// IsEmpty says whether the mend has no line.
func (m *Mend) IsEmpty() bool { return m == nil || len(m.Remove) == 0 && len(m.Add) == 0 }

// same says whether two mends have the same lines, and some.
func (m *Mend) same(n *Mend) bool {
	return !m.IsEmpty() && n != nil && slices.Equal(m.Remove, n.Remove) && slices.Equal(m.Add, n.Add)
}

// Break is one thing that stops a flow or sends it elsewhere than meant.
type Break struct {
	Code    string   `json:"code"`
	At      string   `json:"at"`
	Why     string   `json:"why"`
	Short   string   `json:"short"` // the reason in three words
	Records []string `json:"records" nullable:"false"`
	Mend    *Mend    `json:"mend,omitempty"`
	Step    int      `json:"step"` // the index of the step it stands at

	Subject string `json:"subject"` // what the finding for it is about

	to string // the machine that a flow was for where a filter stopped it
}

// Sources is a set of sources in terms of the vantage: all of it, only some, or all but some.
type Sources struct {
	Of     string   `json:"of"`
	Only   []string `json:"only" nullable:"false"`
	Except []string `json:"except" nullable:"false"`
}

// String says them in words, of a long list the first: "the internet", "the internet but 192.0.2.1", "198.51.100.64/26".
func (s Sources) String() string {
	all := s.Of
	if all == "internet" {
		all = "the internet"
	}
	switch {
	case len(s.Only) > 0:
		return fewOf(s.Only)
	case len(s.Except) > 0:
		return all + " but " + fewOf(s.Except)
	}
	return all
}

func fewOf(blocks []string) string {
	const most = 3
	var out []string
	for _, b := range blocks[:min(len(blocks), most)] {
		out = append(out, strings.TrimSuffix(strings.TrimSuffix(b, "/32"), "/128")) // a single address is written so
	}
	if more := len(blocks) - most; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(out, ", "), more)
	}
	return strings.Join(out, ", ")
}

// Path is one way that a flow takes, to its end.
type Path struct {
	Port      uint16  `json:"port"`
	Transport string  `json:"transport"`
	Family    string  `json:"family"`
	Address   string  `json:"address"`
	URLPath   string  `json:"urlpath"`
	Member    string  `json:"member,omitempty"`
	Via       string  `json:"via,omitempty"` // which of several routers it goes by, where no route says
	Sources   Sources `json:"sources"`
	Outcome   Outcome `json:"outcome"`
	Inner     Outcome `json:"inner,omitempty"`
	End       *string `json:"end"`
	Service   *string `json:"service"`
	Intended  *string `json:"intended"`
	Steps     []Step  `json:"steps" nullable:"false"`
	Breaks    []Break `json:"breaks" nullable:"false"`
	Cells     Cells   `json:"cells"`

	fronts    []Front
	site      *estate.Site // that took it first
	oneSided  *model.Filter
	guarded   bool
	spokeTLS  bool   // to whatever took the flow first
	defaulted string // the site that took it only since none has its name
	caughtBy  estate.Record
	addr      netip.Addr
	lowest    netip.Addr
}

// Front is a place that handed a request on, by a site, and where it came to from there.
type Front struct {
	Place  string
	Port   uint16 // where it took the request
	TLS    bool   // encrypted up to there
	Site   *estate.Site
	To     string // where it came to; "" where it got nowhere
	ToPort uint16
}

// Fronts are the places that handed the request on, in turn, past breaks too.
func (p *Path) Fronts() []Front { return p.fronts }

// Site is the site that took the request first; nil where none did.
func (p *Path) Site() *estate.Site { return p.site }

// OneSided is a filter that keeps the state of the flow and does not see its replies; nil where each sees both.
func (p *Path) OneSided() *estate.Filter {
	if p.oneSided == nil {
		return nil
	}
	return p.oneSided.Record
}

// Guarded says whether visitors sign in on the way.
func (p *Path) Guarded() bool { return p.guarded }

// Cells is a path as a row: what a stranger meets in turn. Ghost names those past the first break.
type Cells struct {
	Answers string `json:"answers"`
	Edge    string `json:"edge"`
	LetsIn  string `json:"letsIn"`
	Machine string `json:"machine"`
	Service string `json:"service"`
	Site    string `json:"site"`
	Backend string `json:"backend"`
	Broken  string `json:"broken"` // the cell in which the path first breaks; "" where it does not
	Reason  string `json:"reason"` // that break in three words
}

// Result is the answer to a trace.
type Result struct {
	Target  string  `json:"target"`
	Unicode string  `json:"unicode,omitempty"` // the name as people write it (RFC 5890), where that is not the same
	From    string  `json:"from"`
	Verdict Outcome `json:"verdict"`
	Paths   []Path  `json:"paths" nullable:"false"`
}

// Holds says whether every path arrives or redirects to something that does, or leads outside,
// without a break.
func (r *Result) Holds() bool {
	for i := range r.Paths {
		p := &r.Paths[i]
		if !p.Outcome.Good() && p.Outcome != Outside || len(p.Breaks) > 0 {
			return false
		}
	}
	return true
}

// VerdictOf is the verdict of a name over its paths, the first being what a client tries first.
func VerdictOf(paths []Path) Outcome {
	if len(paths) == 0 {
		return Undecided
	}
	good, redirects := 0, 0
	for i := range paths {
		if paths[i].Outcome.Good() {
			good++
		}
		if paths[i].Outcome == Redirects {
			redirects++
		}
	}
	switch {
	case redirects == len(paths):
		return Redirects
	case good == len(paths):
		return Arrives
	case good > 0:
		return Partly
	}
	return paths[0].Outcome
}

// Tracer asks questions of a model. It is immutable, and many may ask at once.
type Tracer struct {
	m     *model.Model
	day   estate.Date
	index *index
	names *nameList
	doors *doorList

	*learned
	taking    known[takingKey, *taking]
	shores    known[takingKey, *shore]
	crossings known[crossingKey, *crossing]
	narrow    known[sitesKey, *narrowSites]
	openOnce  sync.Once
	openTouch *Touch // of what is open

	deliveries sync.Map // of deliveryKey: *delivery
	delivered  atomic.Int64

	was was
}

// was is what a tracer that went on from another takes over from that, as far as the edit between does not touch it.
type was struct {
	model   *model.Model
	touch   *Touch
	names   *named
	learned *learned
}

// learned is what is asked for by exposure only, each once, and perhaps after others went on from here.
type learned struct {
	landOnce   sync.Once
	landings   atomic.Pointer[landings]
	abroadOnce sync.Once
	abroad     atomic.Pointer[[]int]
	views      sync.Map // of viewKey: *view
}

// named are the names of an estate.
type named struct {
	estate *estate.Estate
	*nameList
}

func newTracer(m *model.Model, day estate.Date) *Tracer {
	t := &Tracer{m: m, day: day, names: &nameList{}, doors: &doorList{}, learned: &learned{}}
	t.taking.now, t.shores.now, t.crossings.now, t.narrow.now = &sync.Map{}, &sync.Map{}, &sync.Map{}, &sync.Map{}
	return t
}

// New is a tracer over a model, on a day.
func New(m *model.Model, day estate.Date) *Tracer {
	t := newTracer(m, day)
	t.index, t.was.touch = buildIndex(m, nil), Anything()
	return t
}

// After is a tracer over an estate that came of the tracer's own by an edit, on the same day. It answers as a new one does,
// and shares with this one what no changed line speaks of.
func (t *Tracer) After(e *estate.Estate) *Tracer {
	m := t.m.Recompile(e)
	next := newTracer(m, t.day)
	next.index = buildIndex(m, t)
	if sameNames(t.m.Estate, e) {
		next.names = t.names
	} else {
		next.was.names = &named{t.m.Estate, t.names}
	}
	next.was.model, next.was.touch = t.m, t.touching(next)
	if next.was.touch.all {
		return next
	}
	if sameDoors(t.m, m) {
		next.doors = t.doors
		next.was.learned = t.learned
		next.taking.was, next.shores.was, next.crossings.was, next.narrow.was = t.taking.now, t.shores.now, t.crossings.now, t.narrow.now
	}
	return next
}

// Touch is what the edit that the tracer came of may have changed; anything, where it came of none.
func (t *Tracer) Touch() *Touch { return t.was.touch }

// Touched is what an edit may have changed that made of the tracer's estate the other's.
func (t *Tracer) Touched(after *Tracer) *Touch {
	if after.was.model == t.m {
		return after.was.touch
	}
	return t.touching(after)
}

// Model is what the tracer asks.
func (t *Tracer) Model() *model.Model { return t.m }
