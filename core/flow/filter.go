package flow

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Portion is what a filter does with part of a flow.
type Portion struct {
	Part
	action string // pass, drop, refuse, or "" where it cannot be told
	rules  []*model.Rule
	sets   []netset.Addrs // what each of the rules takes of the sources
}

// yes, no or maybe: whether a container that is some point of its network is meant.
type trilean uint8

const (
	no trilean = iota
	maybe
	yes
)

// floats says whether a set names a container without a written address: by its name, or by all of its
// network; a part of the network cannot be told.
func (t *Engine) floats(match model.Match, place model.PlaceID, net model.NetID, v6 bool) trilean {
	if match.Any || slices.Contains(match.Float, place) {
		return yes
	}
	n := t.Model.Networks[net]
	points := n.Free.Of(v6)
	if points.IsEmpty() {
		points = n.Free
	}
	switch {
	case !match.Set.Overlaps(points):
		return no
	case match.Set.Covers(points):
		return yes
	}
	return maybe
}

func (t *Engine) destMatches(match model.Match, d Dest, v6 bool) trilean {
	if match.Any {
		return yes
	}
	if d.Float != model.Nowhere {
		return t.floats(match, d.Float, d.Net, v6)
	}
	if match.Set.Contains(d.Addr) {
		return yes
	}
	return no
}

// SourceSplit parts a branch's sources into those that a set names and the rest.
func (t *Engine) SourceSplit(match model.Match, w Part, v6 bool) (in, out *Part, sure bool) {
	if match.Any {
		return &w, nil, true
	}
	if w.Src.Float != model.Nowhere {
		switch t.floats(match, w.Src.Float, w.Src.Net, v6) {
		case yes:
			return &w, nil, true
		case no:
			return nil, &w, true
		}
		return &w, nil, false
	}
	named := w.Src.Set.Intersect(match.Set)
	switch {
	case named.IsEmpty():
		return nil, &w, true
	case named.Same(w.Src.Set):
		return &w, nil, true
	}
	rest := w.Src.Set.Subtract(match.Set)
	a := w.from(named)
	if rest.IsEmpty() {
		return &a, nil, true
	}
	b := w.from(rest)
	return &a, &b, true
}

// share is a part of a flow, by its sources and ports; and what a filter does with it.
type share struct {
	set    netset.Addrs // not looked at where the source is a container without a written address
	ports  netset.Ports
	action string // pass, drop, refuse, or "" where it cannot be told
	rules  []*model.Rule
	sets   []netset.Addrs // what each of the rules takes of the sources
}

// judge parts a flow by what a filter does with it: exact in sources and ports. Parts with
// the same lot are joined again.
func (t *Engine) judge(f *model.Filter, w *Part, absent Absent, entering, leaving model.NetID) []share {
	float := w.Src.Float != model.Nowhere
	left := []share{{set: w.Src.Set, ports: w.Ports}}
	var shares []share
	for rule := range f.For(w.Dst.Addr) {
		if len(left) == 0 {
			break
		}
		if rule.Dead || rule.Record == absent.Rule || rule.Record.Ports.Transport&w.Transport == 0 ||
			rule.Entering != model.NoNet && rule.Entering != entering ||
			rule.Leaving != model.NoNet && rule.Leaving != leaving {
			continue
		}
		if !rule.Record.Ports.Any && !slices.ContainsFunc(left, func(l share) bool { return l.ports.Overlaps(rule.Ports) }) {
			continue
		}
		to := t.destMatches(rule.To, w.Dst, w.IPv6)
		if to == no {
			continue
		}
		from := yes
		if float && !rule.From.Any {
			if from = t.floats(rule.From, w.Src.Float, w.Src.Net, w.IPv6); from == no {
				continue
			}
		}
		action := rule.Record.Action
		if to == maybe || from == maybe || action == "unknown" {
			action = ""
		}
		var rest []share
		for _, l := range left {
			ports, set := l.ports, l.set
			if !rule.Record.Ports.Any {
				ports = l.ports.Intersect(rule.Ports)
			}
			if !float && !rule.From.Any {
				set = l.set.Intersect(rule.From.Set)
			}
			if ports.IsEmpty() || !float && set.IsEmpty() {
				rest = append(rest, l)
				continue
			}
			shares = append(shares, share{set, ports, action, []*model.Rule{rule}, []netset.Addrs{set}})
			if !float && !set.Same(l.set) {
				if others := l.set.Subtract(set); !others.IsEmpty() {
					rest = append(rest, share{set: others, ports: ports})
				}
			}
			if other := l.ports.Subtract(ports); !other.IsEmpty() {
				rest = append(rest, share{set: l.set, ports: other})
			}
		}
		left = rest
	}
	for _, l := range left {
		l.action = f.Record.Otherwise
		shares = append(shares, l)
	}
	return joinShares(shares)
}

// joinShares brings together what has the same lot where either the ports or the sources are the same.
func joinShares(shares []share) []share {
	if len(shares) == 1 {
		return shares
	}
	var out []share
next:
	for _, p := range shares {
		for i := range out {
			o := &out[i]
			if o.action != p.action {
				continue
			}
			switch {
			case o.set.Equal(p.set):
				o.ports = o.ports.Union(p.ports)
			case o.ports.Equal(p.ports):
				o.set = netset.Union(o.set, p.set)
			default:
				continue
			}
			o.rules, o.sets = append(slices.Clone(o.rules), p.rules...), append(slices.Clone(o.sets), p.sets...)
			continue next
		}
		out = append(out, p)
	}
	return out
}

// sharing narrows the branch to a share of it.
func (w Part) sharing(s share) Part {
	if !w.Ports.Equal(s.ports) {
		w = w.onPorts(s.ports)
	}
	if w.Src.Float == model.Nowhere {
		w = w.from(s.set)
	}
	return w
}

// filters puts a flow through a machine's filters at one hook and gives the parts that go on. Where
// breaks are mended, what is dropped goes on too, its break noted.
func (r *run) filters(h *model.Place, hook model.Hook, w Part, entering, leaving model.NetID, skip func(*model.Filter) bool) iter.Seq[Part] {
	return func(yield func(Part) bool) { r.filtersFrom(h, hook, 0, w, entering, leaving, skip, yield) }
}

func (r *run) filtersFrom(h *model.Place, hook model.Hook, first int, w Part, entering, leaving model.NetID, skip func(*model.Filter) bool, yield func(Part) bool) bool {
	list := h.Filters[hook]
	for i := first; i < len(list); i++ {
		f := list[i]
		if f.Record.Family == "ipv4" && w.IPv6 || f.Record.Family == "ipv6" && !w.IPv6 || f.Record == r.goal.Absent.Filter || skip != nil && skip(f) {
			continue
		}
		for _, s := range r.t.judge(f, &w, r.goal.Absent, entering, leaving) {
			if !r.goal.Diagnose && (s.action == "drop" || s.action == "refuse") {
				continue
			}
			p := Portion{w.sharing(s), s.action, s.rules, s.sets}
			p.filteredBy(h.ID, f)
			if got, ok := r.afterFilter(h, hook, f, p); ok && !r.filtersFrom(h, hook, i+1, got, entering, leaving, skip, yield) {
				return false
			}
		}
		return true
	}
	return yield(w)
}

// afterFilter notes what a filter did with a part, and says whether it goes on.
func (r *run) afterFilter(h *model.Place, hook model.Hook, f *model.Filter, p Portion) (Part, bool) {
	w := p.Part
	records := []estate.Record{f.Record}
	if len(p.rules) > 0 {
		records = records[:0]
		for _, rule := range p.rules {
			records = append(records, rule.Record)
		}
	}
	step := Step{Stage: StageFilter, At: h.Name, Filter: f.Record.Name, Records: say.Lines(records...), Ground: r.ground(h)}
	if w.Handed == 0 && r.goal.Diagnose {
		w.Cell().LetsIn = joinNames(w.Cells.LetsIn, f.Record.Name)
	}
	switch p.action {
	case "pass":
		step.Verdict = Pass
		step.Why = r.say("Filter %s passes %s to %s, %s.", f.Record.Name, w.portWord(), r.destWord(w), r.byLine(f, p.rules))
		w.Add(step)
		if w.Quiet && len(step.Records) == len(p.rules) && len(p.rules) > 0 {
			w.Trail.taken, w.Trail.own = p.sets, w.Src.Float == model.Nowhere && w.Origins.Equal(w.Src.Set)
		}
		return w, true
	case "":
		step.Verdict = Unsettled
		if len(p.rules) > 0 && p.rules[0].Record.Action == "unknown" {
			step.Why = fmt.Sprintf("What filter %s does with %s to %s is not recorded, %s.", f.Record.Name, w.portWord(), r.destWord(w), r.byLine(f, p.rules))
			w.Add(step)
			r.undecided(w)
			return w, false
		}
		step.Why = fmt.Sprintf("A line of filter %s names part of a network, and %s may be any point of it.", f.Record.Name, r.destWord(w))
		w.Add(step)
		r.undecided(w)
		return w, false
	}
	outcome, does := Silent, "drops"
	if p.action == "refuse" {
		outcome, does = Refused, "refuses"
	}
	step.Verdict = Broken
	step.Why = fmt.Sprintf("Filter %s %s %s to %s, %s.", f.Record.Name, does, w.portWord(), r.destWord(w), r.byLine(f, p.rules))
	w.Add(step)
	if hook == model.Input && w.WouldForward {
		// Silence here is still the outcome, but the mend is a forward ahead of this filter.
		if w.Stopped == "" {
			w.Stopped = outcome
		}
		return w, true
	}
	code := "path.blocked"
	if r.goal.Upstream {
		code = "upstream.blocked"
	}
	w.Stop(outcome, Break{
		Code: code, At: h.Name, Why: step.Why, Short: fmt.Sprintf("%s %s %s", f.Record.Name, does, w.portWord()),
		Records: say.Lines(append([]estate.Record{f.Record}, records...)...), Subject: r.goal.Subject, Mend: r.mendFilter(h, hook, f, p), To: r.destWord(w),
	})
	return w, true
}

func (r *run) byLine(f *model.Filter, rules []*model.Rule) string {
	if len(rules) == 0 {
		return "which no line of it names"
	}
	if len(rules) == 1 {
		return fmt.Sprintf("line %d of %d", rules[0].Place, f.Lines)
	}
	return fmt.Sprintf("by %d of its lines", len(rules))
}

// mendFilter is the line that lets the flow pass: an `off` line that would, one that stands too late, else a new one, ahead
// of what stops it.
func (r *run) mendFilter(h *model.Place, hook model.Hook, f *model.Filter, p Portion) *Mend {
	at := f.Lines + 1
	if len(p.rules) > 0 {
		first := slices.MinFunc(p.rules, func(a, b *model.Rule) int { return a.Place - b.Place })
		at = first.Place
	}
	rule := &estate.Rule{Filter: f.Record.Name, Action: "pass"}
	rule.Ports = estate.Ports{Ranges: p.Ports.Ranges(), Transport: p.Transport}
	if p.Ports.Count() == netset.MaxPort {
		rule.Ports = estate.Ports{Any: true, Transport: p.Transport}
	}
	rule.From = r.sourceSelectors(p.Part)
	if hook != model.Input && !(hook == model.Prerouting && h.Owns(p.Dst.Addr)) {
		if s, ok := r.destSelector(p.Part); ok {
			rule.To = []estate.Selector{s}
		}
	}
	if f.Record.DropWins && slices.ContainsFunc(p.rules, func(x *model.Rule) bool { return x.Record.Action == "drop" }) {
		return r.mendDrops(f, rule, p)
	}
	if off := r.offRule(f, rule); off != nil {
		return &Mend{Remove: []string{estate.Line(off)}, Add: []string{strings.TrimSuffix(estate.LineAt(estate.With(off, func(o *estate.Rule) { o.Off = false }), at), " off")}}
	}
	for _, late := range f.Rules {
		if late.Place > at && !late.Dead && (wouldPass(late.Record, rule) || r.isFor(late, p)) {
			return &Mend{Remove: say.Lines(late.Record), Add: []string{estate.LineAt(late.Record, at)}}
		}
	}
	if err := estate.Complete(rule); err != nil {
		return nil
	}
	return &Mend{Remove: []string{}, Add: []string{estate.LineAt(rule, at)}}
}

// mendDrops takes a part of a flow out of every line that drops it where drops win, and lets it pass, where what is left does not.
func (r *run) mendDrops(f *model.Filter, pass *estate.Rule, p Portion) *Mend {
	m := &Mend{Remove: []string{}, Add: []string{}}
	passes, told := false, false
	for _, rule := range f.Rules { // drops first
		rec := rule.Record
		met := slices.Contains(p.rules, rule) || rec.Entering == "" && rec.Leaving == "" && r.takes(rule, p)
		switch {
		case !met:
		case rec.Action == "drop":
			less := without(rec, p.Ports)
			m.Remove, m.Add = append(m.Remove, less.Remove...), append(m.Add, less.Add...)
		case !told:
			told, passes = true, wouldPass(rec, pass)
		}
	}
	if passes || !told && f.Record.Otherwise == "pass" {
		return m
	}
	if err := estate.Complete(pass); err != nil {
		return nil
	}
	m.Add = append(m.Add, estate.LineAt(pass, 1))
	return m
}

// takes says whether a line, were no other ahead of it, takes some of a part of a flow.
func (r *run) takes(rule *model.Rule, p Portion) bool {
	return !rule.Dead && rule.Record.Ports.Transport&p.Transport != 0 && rule.Ports.Overlaps(p.Ports) && r.t.destMatches(rule.To, p.Dst, p.IPv6) != no &&
		(rule.From.Any || p.Src.Float != model.Nowhere && r.t.floats(rule.From, p.Src.Float, p.Src.Net, p.IPv6) != no || p.Src.Set.Overlaps(rule.From.Set))
}

// isFor says whether a line passes just this part of a flow: these sources to this destination.
func (r *run) isFor(rule *model.Rule, p Portion) bool {
	rec := rule.Record
	to, one := rule.To.Set.Single()
	return rec.Action == "pass" && rec.Ports.Transport&p.Transport != 0 && p.Ports.Subtract(rule.Ports).IsEmpty() && rec.Entering == "" && rec.Leaving == "" &&
		p.Src.Float == model.Nowhere && rule.From.Set.Equal(p.Src.Set) && len(rule.From.Float) == 0 && one && to == p.Dst.Addr
}

// offRule is an `off` line of the filter that would pass just this.
func (r *run) offRule(f *model.Filter, want *estate.Rule) *estate.Rule {
	for _, rec := range r.t.Model.Off {
		if rule, ok := rec.(*estate.Rule); ok && rule.Filter == f.Record.Name && wouldPass(rule, want) {
			return rule
		}
	}
	return nil
}

// wouldPass says whether a line, were it met, passes all that is wanted.
func wouldPass(rule, want *estate.Rule) bool {
	return rule.Action == "pass" && rule.Ports.Transport&want.Ports.Transport != 0 &&
		want.Ports.Set().Subtract(rule.Ports.Set()).IsEmpty() && (len(rule.From) == 0 || sameSelectors(rule.From, want.From)) &&
		(len(rule.To) == 0 || sameSelectors(rule.To, want.To)) && rule.Entering == "" && rule.Leaving == ""
}

func sameSelectors(a, b []estate.Selector) bool {
	return slices.EqualFunc(a, b, func(x, y estate.Selector) bool { return x == y })
}

// without is a rule less some of its ports; gone where none are left.
func without(rule *estate.Rule, ports netset.Ports) *Mend {
	left := rule.Ports.Set().Subtract(ports)
	m := &Mend{Remove: []string{estate.Line(rule)}, Add: []string{}}
	if !left.IsEmpty() {
		m.Add = append(m.Add, estate.Line(estate.With(rule, func(n *estate.Rule) {
			n.Ports = estate.Ports{Ranges: left.Ranges(), Transport: rule.Ports.Transport}
		})))
	}
	return m
}

func joinNames(list, name string) string {
	switch {
	case list == "":
		return name
	case strings.HasSuffix(list, name):
		return list
	}
	return list + ", " + name
}
