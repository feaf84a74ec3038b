package flow

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
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

// Outcomes are all of them.
var Outcomes = []Outcome{
	Arrives, Redirects, Unresolved, Outside, Unroutable, Silent, Refused, Mismatched, Untrusted, Unanswered, Denied, GatewayError, LostReply,
	Loop, Undecided, Partly,
}

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

// Stages are all of them, in the order in which a flow meets them.
var Stages = []Stage{
	StageResolve, StageRoute, StageTranslate, StageFilter, StageRewrite, StageSocket, StageTLS, StageSite, StageUpstream, StageEnd,
}

// Verdict is what a step decides.
type Verdict string

const (
	Pass      Verdict = "pass"
	Broken    Verdict = "break"
	Assumed   Verdict = "assumed"
	Unsettled Verdict = "undecided"
)

// Verdicts are all of them.
var Verdicts = []Verdict{Pass, Broken, Assumed, Unsettled}

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
	Ground  Ground   `json:"ground"`           // how far in the step stands
	Filter  string   `json:"filter,omitempty"` // the filter that is met
	Ghost   bool     `json:"ghost,omitempty"`  // past the first break: what would happen
	Chain   []Link   `json:"chain,omitempty"`  // of a name that is resolved: from what was asked to the address
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
	External Ground = "water"
	Edge     Ground = "shallows"
	Internal Ground = "land"
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
	Key     string `json:"-"`       // the cause, where it is that of a break that this one follows from

	To string // the machine that a flow was for where a filter stopped it
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

// Cells is a path as a row: what a stranger meets in turn. Ghost names those past the first break.
type Cells struct {
	Answers string `json:"answers"`
	Edge    string `json:"edge"`
	Router  string `json:"router,omitempty"` // the machine that does what Edge says
	LetsIn  string `json:"letsIn"`
	Machine string `json:"machine"`
	Service string `json:"service"`
	Site    string `json:"site"`
	Backend string `json:"backend"`
	Broken  string `json:"broken"` // the cell in which the path first breaks; "" where it does not
	Reason  string `json:"reason"` // that break in three words
}

func ProtoOf(word string) netset.Transport {
	if word == "udp" {
		return netset.UDP
	}
	return netset.TCP
}

// Equal says whether others are the same.
func (s Sources) Equal(o Sources) bool {
	return s.Of == o.Of && slices.Equal(s.Only, o.Only) && slices.Equal(s.Except, o.Except)
}
