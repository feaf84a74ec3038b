package look

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// SuspectKind is whether what may be otherwise is written down.
type SuspectKind string

const (
	Written   SuspectKind = "line"
	Unwritten SuspectKind = "unwritten"
)

// Suspect is what would explain what was seen, if it were so in reality.
type Suspect struct {
	Kind     SuspectKind `json:"kind"`
	Records  []string    `json:"records" nullable:"false" doc:"The lines that it is about"`
	Why      string      `json:"why" doc:"What would be otherwise"`
	Check    string      `json:"check" doc:"What one would do to find out"`
	Explains int         `json:"explains" doc:"How many looks are as they would be then"`
	Of       int         `json:"of" doc:"Of how many that tell"`
	For      []string    `json:"for" nullable:"false" doc:"Looks that the records do not explain, and it does"`
	Against  []string    `json:"against" nullable:"false" doc:"Looks that are as recorded, and would be otherwise then"`
	Same     []string    `json:"same" nullable:"false" doc:"Other suspects that no look at hand parts from it"`

	keys []string // of it, and of those that no look parts from it
}

// About are what the suspect, and those that no look at hand parts from it, are about: the line, or in words what nobody wrote down.
func (s *Suspect) About() []string { return s.keys }

// Next is the look that would part the suspects best.
type Next struct {
	Target string `json:"target"`
	From   string `json:"from"`
	Why    string `json:"why"`
}

// Inquiry is who may have brought about what was seen, the most likely first, and what to look at next; none where the rest cannot be parted.
type Inquiry struct {
	Suspects []Suspect `json:"suspects" nullable:"false"`
	Next     *Next     `json:"next"`

	Elsewhere *Next `json:"elsewhere,omitempty" doc:"A look from where nobody looks from yet, that would tell more"`

	None string `json:"none,omitempty" doc:"Why there is no suspect"`
}

// How likely it is that a look lies, and how much is weighed at a time.
const (
	lies       = 0.05
	mostRead   = 80  // looks that are weighed
	mostTried  = 400 // looks that are held against the lines of those to be explained
	mostShown  = 12
	mostChosen = 24  // looks among which the next is chosen
	tellsMore  = 0.2 // bits by which a look elsewhere is worth the way
)

// Suspects says what would explain the looks at a target that see otherwise than is recorded. Each hypothesis is an estate of its own, in which
// one thing is not as the records say; it is held against every look that shares a line with those. atHand are the vantages from which one can
// look next.
func Suspects(ctx context.Context, t *trace.Tracer, target string, looks []Look, atHand []string) (Inquiry, error) {
	out := Inquiry{Suspects: []Suspect{}}
	x := &inquiry{t: t, recorded: &bench{t: t}}
	if !x.gather(target, looks) {
		out.None = "nothing that was seen of it is otherwise than recorded"
		return out, nil
	}
	single := x.hypotheses()
	found := x.weigh(ctx, single)
	if len(found) == 0 {
		found = x.weigh(ctx, x.pairs(ctx, single))
	}
	if err := ctx.Err(); err != nil {
		return out, err
	}
	if len(found) == 0 {
		out.None = "nothing single explains it, and no two things do: " + strings.Join(x.said(), "; ")
		return out, nil
	}
	choices := x.choicesFrom(atHand)
	foreseen := x.foresee(ctx, found, choices)
	if err := ctx.Err(); err != nil {
		return out, err
	}
	for i, w := range likeliest(found) {
		w.foresees = foreseen[i]
	}
	var here, there float64
	out.Next, here = next(found, choices, foreseen)
	if len(found) > 1 {
		far := x.choicesFrom(x.elsewhere(atHand))
		foreseen := x.foresee(ctx, found, far)
		if err := ctx.Err(); err != nil {
			return out, err
		}
		if out.Elsewhere, there = next(found, far, foreseen); there < here+tellsMore {
			out.Elsewhere = nil
		}
	}
	out.Suspects = x.together(found)
	return out, ctx.Err()
}

// inquiry is looks being weighed.
type inquiry struct {
	t        *trace.Tracer
	recorded *bench // all as the records have it
	asked    []int  // of looks, those that are to be explained
	looks    []Look
	reads    []map[string]bool // the lines by which each is followed
	machines []map[string]bool // that each passes
	done     map[choice]bool
}

type choice struct{ target, from string }

// gather takes the looks that tell something of a target's ways: those at it that see otherwise, and all that share a line with them.
func (x *inquiry) gather(target string, looks []Look) bool {
	x.done = map[choice]bool{}
	at := x.at(target)
	shared, near := map[string]bool{}, map[string]bool{}
	var others []Look
	for _, l := range looks {
		if l.Came == NotLooked { // nor will it be next time
			x.done[choice{l.Target, l.From}] = true
			continue
		}
		if !at(&l) {
			others = append(others, l)
			continue
		}
		near[l.Address] = true
		x.recorded.judge(&l)
		if l.Agrees == Differs {
			read, machines := x.readBy(&l)
			maps.Copy(shared, read)
			x.asked = append(x.asked, len(x.looks))
			x.take(l, read, machines)
		} else {
			others = append(others, l)
		}
	}
	if len(x.asked) == 0 {
		return false
	}
	// Of a great many looks those at the same addresses say most.
	slices.SortStableFunc(others, func(a, b Look) int { return cmp.Compare(farther(near[a.Address]), farther(near[b.Address])) })
	for _, l := range others[:min(len(others), mostTried)] {
		if len(x.looks) >= mostRead {
			break
		}
		if x.recorded.judge(&l); l.Agrees == CannotTell {
			continue
		}
		if read, machines := x.readBy(&l); sharesLine(read, shared) {
			x.take(l, read, machines)
		}
	}
	return true
}

func farther(near bool) int { return map[bool]int{true: 0, false: 1}[near] }

func (x *inquiry) take(l Look, read, machines map[string]bool) {
	x.looks, x.reads, x.machines = append(x.looks, l), append(x.reads, read), append(x.machines, machines)
	x.done[choice{l.Target, l.From}] = true
}

// at says of looks whether they are at a target: the same one, or one at its name, its port or an address of the place.
func (x *inquiry) at(target string) func(*Look) bool {
	tg, err := x.t.ParseTarget(target)
	if err != nil {
		return func(l *Look) bool { return l.Target == target }
	}
	return func(l *Look) bool {
		name, port := l.Aim()
		if tg.Port != 0 && port != 0 && port != tg.Port {
			return false
		}
		switch {
		case tg.Name != "":
			return name == tg.Name
		case tg.Place != nil:
			a, err := netip.ParseAddr(l.Address)
			return err == nil && x.t.Model.Places[tg.Place.Namespace].Owns(a)
		}
		return l.Address == tg.Addr.String()
	}
}

func sharesLine(a, b map[string]bool) bool {
	for line := range a {
		if b[line] {
			return true
		}
	}
	return false
}

// ways are the ways of a look's target at the address that was looked at.
func (x *inquiry) ways(l *Look) []trace.Path {
	v, err := x.t.VantageNamed(l.From)
	if err != nil {
		return nil
	}
	target, _, _ := strings.Cut(l.Target, " ") // of a resolution, the name
	var out []trace.Path
	for _, p := range x.recorded.follow(target, v) {
		if l.Address == "" || l.Did == Resolve || p.Addr().String() == l.Address {
			out = append(out, p)
		}
	}
	return out
}

// passed are the steps of a way that a look goes: of a connection those to the listener that takes it and back. What a relay stands for decides
// too where it was cut off.
func passed(l *Look, p *trace.Path) []flow.Step {
	if l.Did != Connect || l.Came == Cut {
		return p.Steps
	}
	behind := slices.IndexFunc(p.Steps, func(s flow.Step) bool {
		return s.Stage == flow.StageTLS || s.Stage == flow.StageSite || s.Stage == flow.StageUpstream
	})
	if behind < 0 {
		return p.Steps
	}
	return p.Steps[:behind]
}

// readBy are the lines by which a look's target is followed, with those by which the machines on its way stand there, and these machines.
func (x *inquiry) readBy(l *Look) (lines, machines map[string]bool) {
	lines, machines = map[string]bool{}, map[string]bool{}
	if l.Did == Resolve {
		v, err := x.t.VantageNamed(l.From)
		name, typ, _ := strings.Cut(l.Target, " ")
		if err != nil {
			return lines, machines
		}
		for _, link := range x.t.Answer(name, typ, v).Links {
			if link.Record != nil {
				lines[estate.Line(link.Record)] = true
			}
		}
		return lines, machines
	}
	for _, p := range x.ways(l) {
		for _, s := range passed(l, &p) {
			for _, line := range s.Records {
				lines[line] = true
			}
			place := x.t.Model.PlaceNamed(s.At)
			if place == nil {
				continue
			}
			if host := x.t.Model.Places[place.Host]; !machines[host.Name] {
				machines[host.Name] = true
				for _, line := range standing(host) {
					lines[line] = true
				}
			}
		}
	}
	return lines, machines
}

// standing are the lines by which a machine has its addresses and its routes.
func standing(host *model.Place) []string {
	var out []string
	for i := range host.Attachments {
		for _, r := range host.Attachments[i].Records {
			if _, ok := r.(*estate.Address); ok {
				out = append(out, estate.Line(r))
			}
		}
	}
	for _, r := range host.Routes {
		if _, ok := r.Record.(*estate.Route); ok {
			out = append(out, estate.Line(r.Record))
		}
	}
	return out
}

// said are the looks to be explained, in words.
func (x *inquiry) said() []string {
	var out []string
	for _, i := range x.asked {
		out = append(out, lookWord(&x.looks[i])+": "+x.looks[i].Says)
	}
	return out
}

func lookWord(l *Look) string {
	return fmt.Sprintf("%s from %s (%s)", l.Target, l.From, l.Did)
}

// weighed is a hypothesis held against the looks.
type weighed struct {
	*hypothesis
	agrees []Agreement
	score  float64
}

// weigh holds each hypothesis against the looks, and keeps those that explain what is asked about; of several about one thing the likeliest.
func (x *inquiry) weigh(ctx context.Context, all []*hypothesis) []*weighed {
	groups := sameChange(all)
	results := parallel.Map(ctx, len(groups), func(i int) *weighed {
		h := groups[i][0]
		if !x.explains(h) {
			h.so = nil
			return nil
		}
		return x.hold(h)
	})
	best := map[string]*weighed{}
	var out []*weighed
	for i, first := range results {
		if first == nil {
			continue
		}
		for _, h := range groups[i] {
			h.so = first.so
			w := &weighed{hypothesis: h, agrees: first.agrees, score: first.score - math.Log(first.weight) + math.Log(h.weight)}
			if before := best[h.key]; before == nil {
				best[h.key] = w
				out = append(out, w)
			} else if w.score > before.score {
				*before = *w
			}
		}
	}
	slices.SortStableFunc(out, func(a, b *weighed) int { return cmp.Compare(b.score, a.score) })
	return out
}

// sameChange puts hypotheses together that are the same change of the records: a machine that is down, and one that does not hold its only address.
func sameChange(all []*hypothesis) [][]*hypothesis {
	var out [][]*hypothesis
	at := map[string]int{}
	for _, h := range all {
		key := fmt.Sprint(h.weak, h.hangs, h.change.Remove)
		for _, p := range h.change.Add {
			key += fmt.Sprint(p.At, " ", estate.Line(p.Record), "\n")
		}
		if h.weak {
			key += h.line
		}
		i, known := at[key]
		if !known {
			i, at[key] = len(out), len(out)
			out = append(out, nil)
		}
		out[i] = append(out[i], h)
	}
	return out
}

// mostPaired is how many hypotheses are held against the looks two at a time.
const mostPaired = 20

// pairs are two things at once, of the likeliest, where nothing single explains what was seen.
func (x *inquiry) pairs(ctx context.Context, single []*hypothesis) []*hypothesis {
	strong := slices.DeleteFunc(slices.Clone(single), func(h *hypothesis) bool { return h.weak })
	held := parallel.Map(ctx, len(strong), func(i int) *weighed { return x.hold(strong[i]) })
	held = slices.DeleteFunc(held, func(w *weighed) bool { return w == nil })
	slices.SortStableFunc(held, func(a, b *weighed) int { return cmp.Compare(b.score, a.score) })
	held = held[:min(len(held), mostPaired)]
	var out []*hypothesis
	for i, a := range held {
		for _, b := range held[i+1:] {
			if a.key != b.key {
				out = append(out, both(a.hypothesis, b.hypothesis))
			}
		}
	}
	return out
}

// both is two hypotheses at once.
func both(a, b *hypothesis) *hypothesis {
	h := &hypothesis{
		key: a.key + " and " + b.key, kind: a.kind, why: a.why + ", and " + b.why, check: a.check + " " + b.check, weight: a.weight * b.weight * lies,
		records: slices.Concat(a.records, b.records),
	}
	h.hangs = cmp.Or(a.hangs, b.hangs)
	h.change.Remove = slices.Concat(a.change.Remove, b.change.Remove)
	slices.Sort(h.change.Remove)
	h.change.Remove = slices.Compact(h.change.Remove)
	h.change.Add = slices.Concat(a.change.Add, b.change.Add)
	return h
}

// suppose traces a hypothesis as if it were so; false where its change cannot be made. Of a weak one nothing is otherwise.
func (x *inquiry) suppose(h *hypothesis) bool {
	switch {
	case h.so != nil:
	case h.weak:
		h.so = &bench{t: x.t}
	case len(h.change.Remove)+len(h.change.Add) == 0:
		h.so = &bench{t: x.t, hangs: h.hangs}
	default:
		e, err := x.t.Model.Estate.Apply(h.change)
		if err != nil {
			return false
		}
		h.so = &bench{t: x.t.After(e), hangs: h.hangs}
	}
	return true
}

// likelihood is how likely what a look stands to a hypothesis as is, if that is so: one in twenty lies.
var likelihood = map[Agreement]float64{Agrees: math.Log(1 - lies), Differs: math.Log(lies), CannotTell: math.Log(0.5)}

// under is how a look stands to a hypothesis; false where its change cannot be made.
func (x *inquiry) under(h *hypothesis, i int) (Agreement, bool) {
	reads := x.reads[i][h.line]
	switch {
	case h.weak && reads:
		return Agrees, true
	case h.weak || h.own && !reads || h.machine != "" && !x.machines[i][h.machine]:
		return x.looks[i].Agrees, true
	case !x.suppose(h):
		return "", false
	}
	l := x.looks[i]
	h.so.judge(&l)
	return l.Agrees, true
}

// explains says whether one of the looks that are to be explained would be as it is if a hypothesis were so.
func (x *inquiry) explains(h *hypothesis) bool {
	return slices.ContainsFunc(x.asked, func(i int) bool {
		a, ok := x.under(h, i)
		return ok && a == Agrees
	})
}

// hold says what each look would be if a hypothesis were so, and how likely the looks are then; nil where it cannot be so.
func (x *inquiry) hold(h *hypothesis) *weighed {
	w := &weighed{hypothesis: h, agrees: make([]Agreement, len(x.looks)), score: math.Log(h.weight)}
	for i := range x.looks {
		a, ok := x.under(h, i)
		if !ok {
			return nil
		}
		w.agrees[i] = a
		if h.weak && x.reads[i][h.line] {
			a = CannotTell // it may be so, and may not
		}
		w.score += likelihood[a]
	}
	return w
}

// foresee works out what each suspect foresees of looks that may be made, in the order of these.
func (x *inquiry) foresee(ctx context.Context, found []*weighed, choices []choice) [][]string {
	top := likeliest(found)
	return parallel.Map(ctx, len(top), func(i int) []string { return x.foreseenBy(top[i].hypothesis, choices) })
}

// likeliest are the suspects that looks are chosen to part.
func likeliest(found []*weighed) []*weighed { return found[:min(len(found), mostShown*2)] }

// choicesFrom are the looks that may be made next from some vantages: at what was looked at, and at what is beside it.
func (x *inquiry) choicesFrom(vantages []string) []choice {
	var asked, others []string
	for i := range x.looks {
		switch {
		case x.looks[i].Did != Connect:
		case slices.Contains(x.asked, i):
			asked = append(asked, x.looks[i].Target)
		default:
			others = append(others, x.looks[i].Target)
		}
	}
	var out []choice
	seen := map[choice]bool{}
	for _, target := range slices.Concat(asked, x.beside(), others) {
		for _, from := range vantages {
			if c := (choice{target, from}); !seen[c] && !x.done[c] && len(out) < mostChosen {
				seen[c] = true
				out = append(out, c)
			}
		}
	}
	return out
}

// elsewhere are vantages that are not at hand: the internet, and the networks on the ways of what is to be explained.
func (x *inquiry) elsewhere(atHand []string) []string {
	var out []string
	add := func(word string) {
		if !slices.Contains(atHand, word) && !slices.Contains(out, word) && len(out) < mostElsewhere {
			out = append(out, word)
		}
	}
	add("internet")
	for _, i := range x.asked {
		for _, name := range slices.Sorted(maps.Keys(x.machines[i])) {
			p := x.t.Model.PlaceNamed(name)
			for k := range p.Attachments {
				if n := x.t.Model.Networks[p.Attachments[k].Net]; n.Record != nil && !n.Container() {
					add(n.Name)
				}
			}
		}
	}
	return out
}

// mostElsewhere is from how many vantages that are not at hand looks are weighed.
const mostElsewhere = 4

// beside are targets that would tell a machine that is down from a port that is shut: other ports of the machines on the ways, at each of their
// addresses.
func (x *inquiry) beside() []string {
	var out []string
	for _, i := range x.asked {
		for _, p := range x.ways(&x.looks[i]) {
			for _, s := range passed(&x.looks[i], &p) {
				place := x.t.Model.PlaceNamed(s.At)
				if place == nil {
					continue
				}
				for _, target := range x.socketsOf(place) {
					if !slices.Contains(out, target) {
						out = append(out, target)
					}
				}
			}
		}
	}
	return out
}

// socketsOf are the listeners of a place over tcp, as targets at each of its addresses.
func (x *inquiry) socketsOf(place *model.Place) []string {
	var out []string
	for k := range place.Sockets {
		s := &place.Sockets[k]
		r := s.Ports.Ranges()
		if len(r) == 0 || s.Record.Bind.Transport&netset.TCP == 0 {
			continue
		}
		for i := range place.Attachments {
			for _, a := range place.Attachments[i].Addrs {
				if s.Takes(a, false) && !place.Attachments[i].Gateway {
					out = append(out, HostPort(a.String(), flow.PortKey{Port: r[0].Lo, Transport: netset.TCP}))
				}
			}
		}
	}
	return out
}

// foreseenBy is what each look that may be made would see if a hypothesis were so.
func (x *inquiry) foreseenBy(h *hypothesis, choices []choice) []string {
	if !x.suppose(h) {
		return nil
	}
	after := h.so.t
	out := make([]string, len(choices))
	for i, c := range choices {
		v, err := after.VantageNamed(c.from)
		if err != nil {
			continue
		}
		tg, err := after.ParseTarget(c.target)
		if err != nil {
			continue
		}
		var words []string
		for _, l := range Foresee(after, tg, v) {
			if l.Did == Connect {
				came := l.Came
				if came == NoRoute { // either agrees where nothing is to come back
					came = Silent
				}
				words = append(words, l.Address+" "+string(came))
			}
		}
		out[i] = strings.Join(words, ", ")
	}
	return out
}

// next is the look of which least can be foreseen over the suspects that are left, each as heavy as it is likely; nil where all foresee the same of
// each.
func next(found []*weighed, choices []choice, foreseen [][]string) (out *Next, entropy float64) {
	top := likeliest(found)
	best, most, parted := -1, 0.01, 0
	for i := range choices {
		share := map[string]float64{}
		sum := 0.0
		for k, w := range top {
			if i < len(foreseen[k]) {
				likely := math.Exp(w.score - top[0].score)
				share[foreseen[k][i]] += likely
				sum += likely
			}
		}
		entropy := 0.0
		for _, p := range share {
			entropy -= p / sum * math.Log2(p/sum)
		}
		if entropy > most {
			best, most, parted = i, entropy, len(share)
		}
	}
	if best < 0 {
		return nil, 0
	}
	c := choices[best]
	return &Next{Target: c.target, From: c.from, Why: fmt.Sprintf("The suspects foresee %d different things of it: it parts them best.", parted)}, most
}

// suspect is a hypothesis as it is shown.
func (x *inquiry) suspect(w *weighed) Suspect {
	s := Suspect{Kind: w.kind, Records: append([]string{}, w.records...), Why: w.why, Check: w.check, For: []string{}, Against: []string{}, Same: []string{}, keys: []string{w.key}}
	for i, a := range w.agrees {
		l := &x.looks[i]
		switch a {
		case Agrees:
			s.Of++
			s.Explains++
			if l.Agrees == Differs {
				s.For = append(s.For, lookWord(l))
			}
		case Differs:
			s.Of++
			if l.Agrees == Agrees { // else nothing is said of it by the records either
				s.Against = append(s.Against, lookWord(l))
			}
		}
	}
	return s
}

// together makes suspects of what was weighed; those that no look at hand parts are one, with the others named in it.
func (x *inquiry) together(found []*weighed) []Suspect {
	out := []Suspect{}
	at := map[string]int{}
	for _, w := range found[:min(len(found), mostShown*2)] {
		signature := fmt.Sprint(w.agrees, w.foresees)
		if i, known := at[signature]; known && !w.weak {
			out[i].Same, out[i].keys = append(out[i].Same, w.why), append(out[i].keys, w.key)
			continue
		}
		if len(out) == mostShown {
			break
		}
		at[signature] = len(out)
		out = append(out, x.suspect(w))
	}
	return out
}
