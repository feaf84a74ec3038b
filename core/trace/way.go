package trace

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strconv"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// way is a branch of a flow as far as it has come. It is a value: a split copies it.
type way struct {
	origins   netset.Addrs // which of the vantage's sources this branch carries
	src       source       // the source as the next machine sees it
	dst       dest
	proto     netset.Transport
	ports     netset.Ports // where it goes now
	outer     netset.Ports // where it was made for
	shift     int          // ports = outer + shift, unless many
	many      bool         // several outer ports have become one
	six       bool         // IPv6
	via       string       // which of several routers it goes by, where no route says
	name      string       // the name asked
	tls       bool
	guarded   bool // visitors have signed in
	hops      int
	leg       int           // how often a front has handed it on
	cells     *Cells        // shared by branches: cell() gives one to write to
	took      *model.Socket // the last listener that really took it, before any break
	tookPort  uint16
	outside   string // host:port of a machine that is not ours, where it ended
	asked     string // the address that the client tries
	askedAddr netip.Addr
	sixAsked  bool
	trail     *trail
	reads     *Reads       // what is noted of it; nil where nobody asks
	mute      bool         // only what is open is asked for: its steps are no more than their records, and what fails is left out
	crossed   netset.Addrs // the sources as the internet carried them, where head is set
	head      *trail       // of what came before, where the rest of the way was worked out for all
	held      *held
	stopped   Outcome
	ghost     bool // past a break of the request that redirected here
	inner     Outcome
	mapped    *model.Map     // the map that led into a container
	forward   *model.Forward // the forward that led here
	// What the flow's ports were before its last translation.
	before      netset.Ports
	beforeShift int
	beforeMany  bool
	relayed     bool  // a port relay made it anew
	door        *door // where it came to the machine that took it; noted for exposure alone
	// stoppedAtInput are the sources that the input filters of a machine would have stopped, ahead of which it was mapped.
	stoppedAtInput netset.Addrs
	// imagined: the flow goes on by a way that is not there, so nothing can be said of its reply.
	imagined bool
	// oneSided is a filter that keeps state and does not see the replies.
	oneSided *model.Filter
	spokeTLS bool // the asker spoke TLS to whatever took the flow first
	// moved: past a break it was led to a listener to which nothing that is recorded leads.
	moved bool
	// standIn: that listener stands in for one that is not there, which would speak as it is spoken to.
	standIn bool
	// wouldForward: a router is to forward this and does not yet; its own filters are no break.
	wouldForward bool
}

// door is how a flow looks as it comes to the machine that takes it, before any map there.
type door struct {
	host model.PlaceID
	dst  netip.Addr
	src  netset.Addrs
	own  bool // the source is the one that it was made with
}

// noCells are those of a flow that has not met anything yet.
var noCells Cells

// cell is the branch's own row, to write to.
func (w *way) cell() *Cells {
	own := *w.cells
	w.cells = &own
	return w.cells
}

// source is a set of addresses, or one container without a written address.
type source struct {
	set   netset.Addrs
	float model.PlaceID // Nowhere for a set
	net   model.NetID   // where the container stands, for a float
	word  string        // how a record would name the source, while nothing has rewritten it
}

// dest is an address, or one container without a written address.
type dest struct {
	addr  netip.Addr
	float model.PlaceID
	net   model.NetID
	name  string // the container's, for a float
}

func toAddr(a netip.Addr) dest { return dest{addr: a, float: model.Nowhere, net: model.NoNet} }

// held lists the machines that a flow met. The reply must pass those that translated it and, over TCP, those whose filter tracks
// it strictly.
type held struct {
	prev  *held
	place model.PlaceID
	by    *model.Filter // of a machine that filtered it
	was   source        // of a machine that rewrote the source: the one before
	gave  netip.Addr    // and the one that it gave
	as    estate.Record // by which line; nil where none says so
	asked *dest         // of a machine that translated the destination: the one before
}

// needs says whether the reply must pass the machine.
func (h *held) needs(proto netset.Transport) bool {
	return h.asked != nil || h.gave.IsValid() || h.by != nil && h.by.Record.Strict && proto == netset.TCP
}

// tracks says whether the machine keeps the state of the flow, over TCP, and lets its later packets by its lines where it does not see
// the reply.
func (h *held) tracks(proto netset.Transport) bool {
	return h.by != nil && !h.by.Record.Stateless && !h.by.Record.Strict && proto == netset.TCP
}

// has says whether a machine is among them.
func (h *held) has(p model.PlaceID) bool {
	for ; h != nil; h = h.prev {
		if h.place == p {
			return true
		}
	}
	return false
}

// trail is the steps and breaks so far, shared between branches.
type trail struct {
	prev *trail
	n    int
	step *Step
	brk  *Break
	leg  *delivered // all that a flow met that many requests make

	// Of a step of a mute way that lets it on:
	records []string
	taken   []netset.Addrs // what each of a filter's records takes of the sources
	own     bool           // those are the sources that the flow was made with
}

func (w *way) walk(s Step) {
	if w.mute && s.Verdict != Unsettled {
		if len(s.Records) > 0 {
			w.trail = &trail{prev: w.trail, records: s.Records}
		}
		return
	}
	n := 0
	if w.trail != nil {
		n = w.trail.n
	}
	s.Ghost = w.ghost || w.stopped != ""
	s.Flow = w.flow()
	w.trail = &trail{prev: w.trail, n: n + 1, step: &s}
}

// met are the records of a step.
func (t *trail) met() []string {
	if t.step != nil {
		return t.step.Records
	}
	return t.records
}

// stop notes a break: the first decides the outcome.
func (w *way) stop(outcome Outcome, b Break) {
	n := 0
	if w.trail != nil {
		n = w.trail.n
	}
	if w.stopped == "" {
		w.stopped = outcome
	}
	if w.cells.Broken == "" {
		c := w.cell()
		c.Broken, c.Reason = w.cellOf(b.Code), b.Short
	}
	for t := range w.trail.back() { // each once: what one mend ends is one break
		if t.brk != nil && t.brk.Code == b.Code && t.brk.At == b.At && (t.brk.Mend.same(b.Mend) || slices.Equal(t.brk.Records, b.Records) && t.brk.Why == b.Why) {
			return
		}
	}
	w.trail = &trail{prev: w.trail, n: n, brk: &b}
}

// cellOf is the column in which a break shows.
func (w *way) cellOf(code string) string {
	if code == "path.wrong-place" || code == "redirect.dead" || code == "redirect.loop" {
		return "backend"
	}
	stage := StageResolve
	if s := w.lastStep(); s != nil {
		stage = s.Stage
	}
	if w.leg > 0 {
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
			if t.leg == nil {
				if !yield(t) {
					return
				}
				continue
			}
			for x := t.leg.trail; x != nil; x = x.prev {
				if !yield(x) {
					return
				}
			}
		}
	}
}

func (w *way) collect() (steps []Step, breaks []Break) {
	if w.trail != nil {
		steps = make([]Step, 0, w.trail.n)
	}
	add := func(t *trail, leg *delivered) {
		switch {
		case t.step != nil:
			steps = append(steps, *t.step)
			if leg != nil {
				steps[len(steps)-1].Flow.Name = leg.name
			}
		case t.brk != nil:
			breaks = append(breaks, *t.brk)
			b := &breaks[len(breaks)-1]
			b.Step = len(steps) // so far from the end
			if leg != nil && b.Subject == askedFor {
				b.Subject = leg.subject
			}
		}
	}
	for _, part := range []*trail{w.trail, w.head} {
		for t := part; t != nil; t = t.prev {
			if t.leg == nil {
				add(t, nil)
				continue
			}
			for x := t.leg.trail; x != nil; x = x.prev {
				add(x, t.leg)
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

func (w *way) lastStep() *Step {
	for t := range w.trail.back() {
		if t.step != nil {
			return t.step
		}
	}
	return nil
}

func (w *way) flow() Flow {
	f := Flow{Name: w.name, Encrypted: w.tls}
	port := w.ports.String()
	if w.dst.addr.IsValid() {
		f.To = netip.AddrPortFrom(w.dst.addr, 0).Addr().String()
		if w.dst.addr.Is6() {
			f.To = "[" + f.To + "]"
		}
		f.To += ":" + port
	} else {
		f.To = w.dst.name + ":" + port
	}
	switch {
	case w.src.word != "":
		f.From = w.src.word
	case w.src.float == model.Nowhere:
		if a, ok := w.src.set.Single(); ok {
			f.From = a.String()
		}
	}
	return f
}

func (w *way) port() uint16 {
	if r := w.ports.Ranges(); len(r) > 0 {
		return r[0].Lo
	}
	return 0
}

func (w *way) outerPort() uint16 {
	if r := w.outer.Ranges(); len(r) > 0 {
		return r[0].Lo
	}
	return 0
}

// onPorts narrows the branch to some of its present ports.
func (w way) onPorts(p netset.Ports) way {
	w.outer, w.ports = w.outerOf(p), p
	return w
}

func (w *way) outerOf(p netset.Ports) netset.Ports {
	if w.many {
		return w.outer // several outer ports, all of which meet the one inner port
	}
	return shiftPorts(p, -w.shift)
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
func (w way) from(set netset.Addrs) way {
	if w.src.set.Same(set) {
		return w
	}
	if w.leg == 0 && w.origins.Equal(w.src.set) {
		w.origins = set
	}
	w.src.set = set
	return w
}

// rewriteSource gives the branch one source address.
func (w *way) rewriteSource(a netip.Addr) {
	w.src = source{set: netset.AddrsOf(a), float: model.Nowhere, net: model.NoNet}
}

// translated are the parts of the branch that a port translation takes, each with its new ports.
func (w way) translated(pairs []estate.Pair) []way {
	var out []way
	for _, p := range pairs {
		part := w.ports.Intersect(netset.PortsOf(p.From))
		if part.IsEmpty() {
			continue
		}
		v := w.onPorts(part)
		switch {
		case v.many:
			v.ports = netset.PortsOf(netset.OnePort(p.Inner(part.Ranges()[0].Lo)))
		case p.Many:
			v.ports, v.many = netset.PortsOf(netset.OnePort(p.To)), true
		default:
			by := int(p.To) - int(p.From.Lo)
			v.ports, v.shift = shiftPorts(part, by), v.shift+by
		}
		out = append(out, v)
	}
	return out
}

// heldBy notes a filter that the flow meets.
func (w *way) heldBy(p model.PlaceID, by *model.Filter) {
	w.held = &held{prev: w.held, place: p, by: by}
}

// translatedBy notes a machine that led the flow elsewhere than where it was for.
func (w *way) translatedBy(p model.PlaceID, asked dest) {
	w.held = &held{prev: w.held, place: p, asked: &asked}
}

// rewrittenBy gives the branch one source address, by a machine that gives its replies the old one.
func (w *way) rewrittenBy(p model.PlaceID, a netip.Addr, by estate.Record) {
	was := w.src
	w.rewriteSource(a)
	w.held = &held{prev: w.held, place: p, was: was, gave: a, as: by}
}

// hiddenBy is the machine that gave a flow the source that it has now; nil where it still has its own.
func (w *way) hiddenBy() *held {
	s, one := w.src.set.Single()
	for h := w.held; h != nil; h = h.prev {
		if h.gave.IsValid() && one && h.gave == s {
			return h
		}
	}
	return nil
}

// lines are records as canonical lines, each once.
func lines(records ...estate.Record) []string {
	out := make([]string, 0, len(records))
	for _, r := range records {
		if r == nil {
			continue
		}
		if line := estate.Line(r); !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

func portWord(p uint16, t netset.Transport) string {
	if t == netset.UDP {
		return strconv.Itoa(int(p)) + "/udp"
	}
	return strconv.Itoa(int(p))
}

func (w *way) portWord() string {
	text := w.ports.String()
	if w.ports.Count() == netset.MaxPort {
		text = "any"
	}
	if w.proto == netset.UDP {
		text += "/udp"
	}
	return text
}

func sentence(format string, args ...any) string { return fmt.Sprintf(format, args...) }
