package flow

import (
	"iter"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// Part is a branch of a flow as far as it has come. It is a value: a split copies it.
type Part struct {
	Origins   netset.Addrs // which of the vantage's sources this branch carries
	Src       Source       // the source as the next machine sees it
	Dst       Dest
	Transport netset.Transport
	Ports     netset.Ports // where it goes now
	Outer     netset.Ports // where it was made for
	Shift     int          // ports = outer + shift, unless many
	Many      bool         // several outer ports have become one
	IPv6      bool         // IPv6
	Member    string       // which member of a pool it goes to
	Checking  any          // what the checks that it is a part of have come by; of whoever makes them
	pools     int          // how many forwards to a pool it has taken
	Via       string       // which of several routers it goes by, where no route says
	Name      string       // the name asked
	Encrypted bool
	Guarded   bool // visitors have signed in
	Hops      int
	Handed    int           // how often a front has handed it on
	Cells     *Cells        // shared by branches: cell() gives one to write to
	Took      *model.Socket // the last listener that really took it, before any break
	TookPort  uint16
	Outside   string // host:port of a machine that is not ours, where it ended
	AskedWord string // the address that the client tries
	AskedAddr netip.Addr
	AskedIPv6 bool
	Trail     *trail
	Reads     *memo.Reads  // what is noted of it; nil where nobody asks
	Quiet     bool         // only what is open is asked for: its steps are no more than their records, and what fails is left out
	crossed   netset.Addrs // the sources as the internet carried them, where head is set
	head      *trail       // of what came before, where the rest of the way was worked out for all
	Met       *Met
	Stopped   Outcome
	Ghost     bool // past a break of the request that redirected here
	Inner     Outcome
	Mapped    *model.Map     // the map that led into a container
	Forward   *model.Forward // the forward that led here
	// What the flow's ports were before its last translation.
	Before      netset.Ports
	beforeShift int
	beforeMany  bool
	Relayed     bool     // a port relay made it anew
	Ingress     *Ingress // where it came to the machine that took it; noted for exposure alone
	// stoppedAtInput are the sources that the input filters of a machine would have stopped, ahead of which it was mapped.
	StoppedAtInput netset.Addrs
	// imagined: the flow goes on by a way that is not there, so nothing can be said of its reply.
	imagined bool
	// oneSided is a filter that keeps state and does not see the replies.
	OneSided *model.Filter
	SpokeTLS bool // the asker spoke TLS to whatever took the flow first
	// moved: past a break it was led to a listener to which nothing that is recorded leads.
	Moved bool
	// standIn: that listener stands in for one that is not there, which would speak as it is spoken to.
	StandIn bool
	// wouldForward: a router is to forward this and does not yet; its own filters are no break.
	WouldForward bool
}

// Ingress is how a flow looks as it comes to the machine that takes it, before any map there.
type Ingress struct {
	Host model.PlaceID
	Dst  netip.Addr
	Src  netset.Addrs
	Own  bool // the source is the one that it was made with
}

// noCells are those of a flow that has not met anything yet.
var noCells Cells

// Cell is the branch's own row, to write to.
func (w *Part) Cell() *Cells {
	own := *w.Cells
	w.Cells = &own
	return w.Cells
}

// Source is a set of addresses, or one container without a written address.
type Source struct {
	Set   netset.Addrs
	Float model.PlaceID // Nowhere for a set
	Net   model.NetID   // where the container stands, for a float
	word  string        // how a record would name the source, while nothing has rewritten it
}

// Dest is an address, or one container without a written address.
type Dest struct {
	Addr  netip.Addr
	Float model.PlaceID
	Net   model.NetID
	Name  string // the container's, for a float
}

func ToAddr(a netip.Addr) Dest { return Dest{Addr: a, Float: model.Nowhere, Net: model.NoNet} }

// Met lists the machines that a flow met. The reply must pass those that translated it and, over TCP, those whose filter tracks
// it strictly.
type Met struct {
	prev  *Met
	Place model.PlaceID
	by    *model.Filter // of a machine that filtered it
	was   Source        // of a machine that rewrote the source: the one before
	Gave  netip.Addr    // and the one that it gave
	As    estate.Record // by which line; nil where none says so
	asked *Dest         // of a machine that translated the destination: the one before
}

// needs says whether the reply must pass the machine.
func (h *Met) needs(proto netset.Transport) bool {
	return h.asked != nil || h.Gave.IsValid() || h.by != nil && h.by.Record.Strict && proto == netset.TCP
}

// tracks says whether the machine keeps the state of the flow, over TCP, and lets its later packets by its lines where it does not see
// the reply.
func (h *Met) tracks(proto netset.Transport) bool {
	return h.by != nil && !h.by.Record.Stateless && !h.by.Record.Strict && proto == netset.TCP
}

// Has says whether a machine is among them.
func (h *Met) Has(p model.PlaceID) bool {
	for ; h != nil; h = h.prev {
		if h.Place == p {
			return true
		}
	}
	return false
}

// trail is the steps and breaks so far, shared between branches.
type trail struct {
	prev   *trail
	n      int
	step   *Step
	Break  *Break
	Shared *delivered // all that a flow met that many requests make

	// Of a step of a mute way that lets it on:
	records []string
	taken   []netset.Addrs // what each of a filter's records takes of the sources
	own     bool           // those are the sources that the flow was made with
}

func (w *Part) Add(s Step) {
	if w.Quiet && s.Verdict != Unsettled {
		if len(s.Records) > 0 {
			w.Trail = &trail{prev: w.Trail, records: s.Records}
		}
		return
	}
	n := 0
	if w.Trail != nil {
		n = w.Trail.n
	}
	s.Ghost = w.Ghost || w.Stopped != ""
	s.Flow = w.flow()
	w.Trail = &trail{prev: w.Trail, n: n + 1, step: &s}
}

// met are the records of a step.
func (t *trail) met() []string {
	if t.step != nil {
		return t.step.Records
	}
	return t.records
}

// Stop notes a break: the first decides the outcome.
func (w *Part) Stop(outcome Outcome, b Break) {
	n := 0
	if w.Trail != nil {
		n = w.Trail.n
	}
	if w.Stopped == "" {
		w.Stopped = outcome
	}
	if w.Cells.Broken == "" {
		c := w.Cell()
		c.Broken, c.Reason = w.cellOf(b.Code), b.Short
	}
	for t := range w.Trail.back() { // each once: what one mend ends is one break
		if t.Break != nil && t.Break.Code == b.Code && t.Break.At == b.At && (t.Break.Mend.same(b.Mend) || slices.Equal(t.Break.Records, b.Records) && t.Break.Why == b.Why) {
			return
		}
	}
	w.Trail = &trail{prev: w.Trail, n: n, Break: &b}
}

// cellOf is the column in which a break shows.
func (w *Part) cellOf(code string) string {
	if code == "path.wrong-place" || code == "redirect.dead" || code == "redirect.loop" {
		return "backend"
	}
	stage := StageResolve
	if s := w.LastStep(); s != nil {
		stage = s.Stage
	}
	if w.Handed > 0 {
		return "backend"
	}
	switch stage {
	case StageResolve:
		return "answers"
	case StageRoute, StageTranslate, StageRewrite:
		return "edge"
	case StageFilter:
		return "letsIn"
	case StageTLS, StageSite:
		return "site"
	case StageUpstream, StageEnd:
		return "backend"
	}
	return "machine"
}

// back gives the steps and breaks from the last to the first.
func (t *trail) back() iter.Seq[*trail] {
	return func(yield func(*trail) bool) {
		for ; t != nil; t = t.prev {
			if t.Shared == nil {
				if !yield(t) {
					return
				}
				continue
			}
			for x := t.Shared.trail; x != nil; x = x.prev {
				if !yield(x) {
					return
				}
			}
		}
	}
}

func (w *Part) Collect() (steps []Step, breaks []Break) {
	if w.Trail != nil {
		steps = make([]Step, 0, w.Trail.n)
	}
	add := func(t *trail, attachment *delivered) {
		switch {
		case t.step != nil:
			steps = append(steps, *t.step)
			if attachment != nil {
				steps[len(steps)-1].Flow.Name = attachment.name
			}
		case t.Break != nil:
			breaks = append(breaks, *t.Break)
			b := &breaks[len(breaks)-1]
			b.Step = len(steps) // so far from the end
			if attachment != nil && b.Subject == askedFor {
				b.Subject = attachment.subject
			}
		}
	}
	for _, part := range []*trail{w.Trail, w.head} {
		for t := part; t != nil; t = t.prev {
			if t.Shared == nil {
				add(t, nil)
				continue
			}
			for x := t.Shared.trail; x != nil; x = x.prev {
				add(x, t.Shared)
			}
		}
	}
	for i := range breaks {
		breaks[i].Step = max(0, len(steps)-breaks[i].Step-1)
	}
	slices.Reverse(steps)
	slices.Reverse(breaks)
	return steps, breaks
}

func (w *Part) LastStep() *Step {
	for t := range w.Trail.back() {
		if t.step != nil {
			return t.step
		}
	}
	return nil
}

func (w *Part) flow() Flow {
	f := Flow{Name: w.Name, Encrypted: w.Encrypted}
	port := w.Ports.String()
	if w.Dst.Addr.IsValid() {
		f.To = netip.AddrPortFrom(w.Dst.Addr, 0).Addr().String()
		if w.Dst.Addr.Is6() {
			f.To = "[" + f.To + "]"
		}
		f.To += ":" + port
	} else {
		f.To = w.Dst.Name + ":" + port
	}
	switch {
	case w.Src.word != "":
		f.From = w.Src.word
	case w.Src.Float == model.Nowhere:
		if a, ok := w.Src.Set.Single(); ok {
			f.From = a.String()
		}
	}
	return f
}

func (w *Part) Port() uint16 {
	if r := w.Ports.Ranges(); len(r) > 0 {
		return r[0].Lo
	}
	return 0
}

func (w *Part) outerPort() uint16 {
	if r := w.Outer.Ranges(); len(r) > 0 {
		return r[0].Lo
	}
	return 0
}

// onPorts narrows the branch to some of its present ports.
func (w Part) onPorts(p netset.Ports) Part {
	w.Outer, w.Ports = w.outerOf(p), p
	return w
}

func (w *Part) outerOf(p netset.Ports) netset.Ports {
	if w.Many {
		return w.Outer // several outer ports, all of which meet the one inner port
	}
	return shiftPorts(p, -w.Shift)
}

func shiftPorts(p netset.Ports, by int) netset.Ports {
	if by == 0 {
		return p
	}
	var out []netset.PortRange
	for _, r := range p.Ranges() {
		out = append(out, netset.PortRange{Lo: uint16(int(r.Lo) + by), Hi: uint16(int(r.Hi) + by)})
	}
	return netset.PortsOf(out...)
}

// from narrows the branch to some of its present sources. Once a machine has rewritten them they
// are one address, and all of the vantage's share it.
func (w Part) from(set netset.Addrs) Part {
	if w.Src.Set.Same(set) {
		return w
	}
	if w.Handed == 0 && w.Origins.Equal(w.Src.Set) {
		w.Origins = set
	}
	w.Src.Set = set
	return w
}

// rewriteSource gives the branch one source address.
func (w *Part) rewriteSource(a netip.Addr) {
	w.Src = Source{Set: netset.AddrsOf(a), Float: model.Nowhere, Net: model.NoNet}
}

// translated are the parts of the branch that a port translation takes, each with its new ports.
func (w Part) translated(pairs []estate.Pair) []Part {
	var out []Part
	for _, p := range pairs {
		part := w.Ports.Intersect(netset.PortsOf(p.From))
		if part.IsEmpty() {
			continue
		}
		v := w.onPorts(part)
		switch {
		case v.Many:
			v.Ports = netset.PortsOf(netset.OnePort(p.Inner(part.Ranges()[0].Lo)))
		case p.Many:
			v.Ports, v.Many = netset.PortsOf(netset.OnePort(p.To)), true
		default:
			by := int(p.To) - int(p.From.Lo)
			v.Ports, v.Shift = shiftPorts(part, by), v.Shift+by
		}
		out = append(out, v)
	}
	return out
}

// filteredBy notes a filter that the flow meets.
func (w *Part) filteredBy(p model.PlaceID, by *model.Filter) {
	w.Met = &Met{prev: w.Met, Place: p, by: by}
}

// translatedBy notes a machine that led the flow elsewhere than where it was for.
func (w *Part) translatedBy(p model.PlaceID, asked Dest) {
	w.Met = &Met{prev: w.Met, Place: p, asked: &asked}
}

// rewrittenBy gives the branch one source address, by a machine that gives its replies the old one.
func (w *Part) rewrittenBy(p model.PlaceID, a netip.Addr, by estate.Record) {
	was := w.Src
	w.rewriteSource(a)
	w.Met = &Met{prev: w.Met, Place: p, was: was, Gave: a, As: by}
}

// HiddenBy is the machine that gave a flow the source that it has now; nil where it still has its own.
func (w *Part) HiddenBy() *Met {
	s, one := w.Src.Set.Single()
	for h := w.Met; h != nil; h = h.prev {
		if h.Gave.IsValid() && one && h.Gave == s {
			return h
		}
	}
	return nil
}

func (w *Part) portWord() string {
	text := w.Ports.String()
	if w.Ports.Count() == netset.MaxPort {
		text = "any"
	}
	if w.Transport == netset.UDP {
		text += "/udp"
	}
	return text
}

// SetAsked notes the address that the client tries: that of its first request.
func (w *Part) SetAsked() {
	if w.AskedWord != "" || w.AskedAddr.IsValid() {
		return
	}
	w.AskedWord, w.AskedAddr = w.Cells.Answers, w.Dst.Addr
	if a, err := netip.ParseAddr(w.Cells.Answers); err == nil {
		w.AskedAddr = a
	} else {
		w.AskedWord = ""
	}
	if w.Dst.Float != model.Nowhere {
		w.AskedWord = w.Cells.Answers
	}
	w.AskedIPv6 = w.AskedAddr.Is6()
}

// BrokenStep marks the last step as the one that broke.
func (w *Part) BrokenStep() {
	if last := w.LastStep(); last != nil {
		s := *last
		s.Verdict = Broken
		w.Trail = &trail{prev: w.Trail.prev, n: w.Trail.n, step: &s}
	}
}

// RecordsMet are those that a mute way met, each once; of a filter's lines those that take some of its own sources.
func (w *Part) RecordsMet() []string {
	var steps []*trail
	for _, part := range []*trail{w.Trail, w.head} {
		for t := part; t != nil; t = t.prev {
			if len(t.met()) > 0 {
				steps = append(steps, t)
			}
		}
	}
	behind := 0 // the steps that were worked out for all that the internet carries
	if w.head != nil || !w.crossed.IsEmpty() {
		for t := w.Trail; t != nil; t = t.prev {
			if len(t.met()) > 0 {
				behind++
			}
		}
	}
	var out []string
	for i, t := range slices.Backward(steps) {
		sources := w.Origins
		if i < behind {
			sources = w.crossed
		}
		for n, record := range t.met() {
			if t.own && len(t.taken) > n && !sources.IsEmpty() && !t.taken[n].Overlaps(sources) || slices.Contains(out, record) {
				continue
			}
			out = append(out, record)
		}
	}
	return out
}
