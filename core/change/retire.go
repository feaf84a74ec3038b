package change

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/core/uses"
)

// Proposal is a change that does what was asked.
type Proposal struct {
	Lines
	Derived []string       `json:"derived" nullable:"false" doc:"Words of its lines that nobody said"`
	Effect  *effect.Effect `json:"effect,omitempty"`
}

// Stay is a line that stays, or a part of it, though what is retired goes by it, and who needs it.
type Stay struct {
	Record string   `json:"record"`
	For    []string `json:"for" nullable:"false"`
}

// Proposals are the answer to what would publish or retire something, the best first.
type Proposals struct {
	Plans []Proposal `json:"plans" nullable:"false"`
	Stays []Stay     `json:"stays" nullable:"false"`
	None  *string    `json:"none" nullable:"true" doc:"Why there is no plan"`
}

func none(form string, words ...any) Proposals {
	text := fmt.Sprintf(form, words...)
	return Proposals{Plans: []Proposal{}, Stays: []Stay{}, None: &text}
}

// own is what goes with what is retired.
type own struct {
	words    []string // what was said, and the places and services that go with it
	names    []string
	services []string
	places   []string
	all      bool // a machine with all that it has
}

// piece is a line that may go, or only some words of one of its lists.
type piece struct {
	record estate.Record
	token  int      // the list, by its place among the words of the line; 0 for none
	words  []string // of the list that may go; all that it has where the line may go whole
	whole  bool     // the line goes with the last of them
}

// Retire works out what goes with a name, a service or a place, and what stays since somebody else needs it.
func Retire(ctx context.Context, s mend.State, word string) (Proposals, error) {
	before := s.Tracer.Model.Estate
	first := &point{before, before, s}
	r := &retiring{first: first, stays: map[string][]string{}}
	if why := r.of(word); why != "" {
		return none("%s", why), nil
	}
	r.candidates()
	if len(r.pieces) == 0 {
		return none("Nothing that is recorded goes with %s.", word), nil
	}
	if err := r.settle(ctx); err != nil {
		return Proposals{}, err
	}
	out := Proposals{Plans: []Proposal{}, Stays: []Stay{}}
	c, err := r.change()
	if err != nil {
		return Proposals{}, err
	}
	if c.IsEmpty() {
		out = none("All that %s goes by is needed by others.", word)
	} else {
		out.Plans = append(out.Plans, Proposal{Lines: linesOf(c), Derived: []string{}})
	}
	for _, p := range r.pieces {
		line := estate.Line(p.record)
		if who := r.stays[line]; who != nil {
			out.Stays = append(out.Stays, Stay{line, who})
			delete(r.stays, line)
		}
	}
	return out, nil
}

func linesOf(c estate.Change) Lines {
	l := Lines{Remove: append([]string{}, c.Remove...), Add: []string{}}
	for _, p := range c.Add {
		l.Add = append(l.Add, p.Line())
	}
	return l
}

type retiring struct {
	first  *point
	own    own
	pieces []piece
	kept   []map[string]bool // the words of each piece that stay; the line itself by ""
	stays  map[string][]string
}

// of finds what a word is; why it is nothing else.
func (r *retiring) of(word string) string {
	t := r.first.Tracer
	e := t.Model.Estate
	name, _ := estate.CleanHostname(word)
	place := t.Model.PlaceNamed(word)
	service := t.Model.Service(word)
	known := slices.IndexFunc(t.Names(), func(n *trace.Name) bool { return n.Name == name }) >= 0
	switch {
	case strings.Contains(word, ".") && known:
		r.own.words, r.own.names = []string{name}, []string{name}
	case service != nil && listens(e, word):
		r.own.words, r.own.services = []string{word}, []string{word}
		r.ofServices()
	case place != nil:
		r.own.words, r.own.places, r.own.all = []string{word}, []string{word}, true
		for _, k := range of[*estate.Container](e) {
			if strings.HasPrefix(k.Name, word+"/") {
				r.own.places = append(r.own.places, k.Name)
			}
		}
		for _, l := range of[*estate.Listen](e) {
			if slices.Contains(r.own.places, l.Place) && !slices.Contains(r.own.services, l.Service) && !slices.ContainsFunc(of[*estate.Listen](e), func(o *estate.Listen) bool {
				return o.Service == l.Service && !slices.Contains(r.own.places, o.Place)
			}) {
				r.own.services = append(r.own.services, l.Service)
			}
		}
		r.ofServices()
	default:
		var all []string
		for _, n := range t.Names() {
			all = append(all, n.Name)
		}
		for _, l := range of[*estate.Listen](e) {
			all = append(all, l.Service, l.Place)
		}
		near := estate.Nearest(word, all)
		if near != "" {
			near = " (nearest: " + near + ")"
		}
		return fmt.Sprintf("Nothing that is recorded is called %s; expected a name, a service or a place%s.", word, near)
	}
	return ""
}

func listens(e *estate.Estate, service string) bool {
	return slices.ContainsFunc(of[*estate.Listen](e), func(l *estate.Listen) bool { return l.Service == service })
}

// of are the records of a kind.
func of[T estate.Record](e *estate.Estate) []T {
	var out []T
	for _, r := range e.Of(estate.KindOf(*new(T))) {
		out = append(out, r.(T))
	}
	return out
}

// ofServices adds the names that end only at what is retired, and the containers in which nothing else listens.
func (r *retiring) ofServices() {
	t := r.first.Tracer
	e := t.Model.Estate
	for _, k := range of[*estate.Container](e) {
		own, others := false, false
		for _, l := range of[*estate.Listen](e) {
			if l.Place == k.Name {
				own = own || slices.Contains(r.own.services, l.Service)
				others = others || !slices.Contains(r.own.services, l.Service)
			}
		}
		if own && !others && !slices.Contains(r.own.places, k.Name) {
			r.own.places = append(r.own.places, k.Name)
		}
	}
	for _, n := range t.Names() {
		there, elsewhere := false, false
		r.paths(n, func(_ string, p *trace.Path) {
			switch {
			case !p.Outcome.Good():
				own, known := r.leads(p)
				there, elsewhere = there || own, elsewhere || known && !own
			case p.Service != nil && slices.Contains(r.own.services, *p.Service) || p.End != nil && r.ownPlace(*p.End):
				there = true
			default:
				elsewhere = true
			}
		})
		if there && !elsewhere {
			r.own.names = append(r.own.names, n.Name)
		}
	}
}

// leads says whether a path that breaks leads to what is retired: where it is meant to, or past its breaks.
func (r *retiring) leads(p *trace.Path) (own, known bool) {
	if p.Intended != nil {
		return r.ownPlace(*p.Intended), true
	}
	for _, s := range slices.Backward(p.Steps) {
		if s.Stage == flow.StageSocket || s.Stage == flow.StageEnd {
			return r.ownPlace(s.At), true
		}
	}
	return false, false
}

func (r *retiring) ownPlace(end string) bool {
	place, _, _ := strings.Cut(end, ":")
	return slices.Contains(r.own.places, place)
}

// paths are all of a name's, from every vantage that it is for.
func (r *retiring) paths(n *trace.Name, each func(from string, p *trace.Path)) {
	t := r.first.Tracer
	for _, word := range t.VantagesOf(n.Name) {
		v, err := t.VantageNamed(word)
		if err != nil {
			continue
		}
		keys, _ := t.PortsOf(n.Name, &v)
		for _, key := range keys {
			for _, p := range t.TracePort(trace.Target{Text: n.Name, Name: n.Name}, key, v) {
				each(word, &p)
			}
		}
	}
}

// candidates are the lines, and the words of lists, that its own paths and doors read or that name it.
func (r *retiring) candidates() {
	t := r.first.Tracer
	read := map[string][]uint16{} // the lines, with the ports of the flows that read them
	note := func(lines []string, port uint16) {
		for _, line := range lines {
			read[line] = append(read[line], port)
		}
	}
	for _, n := range t.Names() {
		if !slices.Contains(r.own.names, n.Name) {
			continue
		}
		note(n.Records, 0)
		r.paths(n, func(_ string, p *trace.Path) {
			for _, s := range p.Steps {
				note(s.Records, portOf(s.Flow))
				note(s.Records, p.Port)
			}
		})
	}
	for _, net := range t.Model.Networks {
		for _, o := range exposure.OpenOf(r.first.doors(net.Name)) {
			if slices.Contains(r.own.services, o.Service) || slices.Contains(r.own.places, o.Place) {
				for _, port := range []uint16{o.Range.Lo, o.Range.Hi, o.Port} {
					note(o.Records, port)
				}
			}
		}
	}
	named := map[string]bool{}
	index := uses.New(t)
	for _, word := range slices.Concat(r.own.words, r.own.names, r.own.places) {
		for _, u := range index.Find(word) {
			if u.How == uses.Direct {
				named[estate.Line(u.Record)] = true
			}
		}
	}
	for _, rec := range t.Model.Estate.All() {
		line := estate.Line(rec)
		p, may := r.piece(rec, read[line])
		if !may && named[line] {
			p, may = r.named(rec)
		}
		if may {
			r.pieces = append(r.pieces, p)
			r.kept = append(r.kept, map[string]bool{})
		}
	}
}

// piece is what of a line may go: of what is of it, the words that are; of what its own flows read, whatever others do not need.
func (r *retiring) piece(rec estate.Record, ports []uint16) (piece, bool) {
	read := len(ports) > 0
	ownName := func(list []string) (words []string, all bool) {
		for _, w := range list {
			if slices.Contains(r.own.names, w) {
				words = append(words, w)
			}
		}
		return words, len(words) == len(list)
	}
	whole := func(is bool) (piece, bool) { return piece{record: rec, whole: true}, is }
	service := func(s string) bool { return slices.Contains(r.own.services, s) }
	place := func(s string) bool { return slices.Contains(r.own.places, s) }
	switch x := rec.(type) {
	case *estate.DNS:
		return whole(slices.Contains(r.own.names, x.Owner) && (read || !r.apex(x.Owner)) || r.own.all && place(x.Dynamic) || r.sends(x))
	case *estate.HostsEntry:
		return whole(slices.Contains(r.own.names, x.Hostname) || place(x.Place) || r.holds(x.Addr.String()))
	case *estate.Site:
		words, all := ownName(x.Names)
		switch {
		case service(x.Service):
			return whole(true)
		case len(words) > 0:
			return piece{rec, 2, words, all}, true
		}
		return piece{}, false
	case *estate.Cert:
		words, all := ownName(x.For)
		switch {
		case len(x.On) > 0 && !slices.ContainsFunc(x.On, func(on string) bool { return !place(on) }):
			return whole(true)
		case len(words) > 0:
			return piece{rec, 3, words, all}, true
		}
		return piece{}, false
	case *estate.Intent:
		return whole(slices.Contains(r.own.names, x.Target) || place(x.Target) || place(x.Reaching.Host) || read && r.lands(x))
	case *estate.Acceptance:
		target, _, _ := strings.Cut(x.Subject, ":")
		return whole(slices.Contains(r.own.names, target) || place(target) || service(target))
	case *estate.Listen:
		return whole(service(x.Service) || place(x.Place))
	case *estate.Container:
		return whole(place(x.Name))
	case *estate.Map:
		return whole(place(x.Container) || read && len(r.own.services) > 0)
	case *estate.Tunnel:
		return whole(place(x.From) || place(x.To.Host))
	case *estate.Member:
		return whole(place(x.At.Host) || read && len(r.own.services) > 0)
	case *estate.Pool:
		return whole(read && len(r.own.services) > 0)
	case *estate.Forward:
		ports = append(ports, r.entered(x)...)
		switch {
		case len(ports) == 0:
			return whole(r.own.all && r.holds(x.To.Addr.String()))
		case x.Pool == "" && x.To.Kept() && len(x.Bind.Ranges) > 1:
			return ofPorts(rec, 2, x.Bind.Ports, ports)
		}
		return whole(true)
	case *estate.Rule:
		if r.ownFilter(x.Filter) {
			return whole(true)
		}
		if len(x.Ports.Ranges) > 1 && read {
			return ofPorts(rec, 3, x.Ports, ports)
		}
		return whole(read)
	case *estate.Outbound:
		return whole(read && r.own.all)
	case *estate.Filter:
		return whole(r.ownFilter(x.Name))
	case *estate.Group:
		var words []string
		for _, m := range x.Members {
			if place(m.Name) {
				words = append(words, m.Name)
			}
		}
		return piece{rec, 2, words, len(words) == len(x.Members)}, len(words) > 0
	case *estate.Host:
		return whole(r.own.all && place(x.Name))
	case *estate.Address:
		return whole(r.own.all && place(x.Hosts[0]))
	case *estate.Route:
		return whole(r.own.all && place(x.Host))
	case *estate.Network:
		return whole(r.own.all && place(x.On))
	}
	return piece{}, false
}

// named is what of a line may go that has a place among others: for whom it is, from where, to where. Where no other is left, the line goes.
func (r *retiring) named(rec estate.Record) (piece, bool) {
	switch rec.(type) {
	case *estate.Rule, *estate.Intent, *estate.Site, *estate.Forward, *estate.Outbound, *estate.Cert, *estate.Filter:
	default:
		return piece{}, false
	}
	words := strings.Fields(estate.Line(rec))
	for i := range len(words) - 1 {
		if !slices.Contains([]string{"from", "to", "for", "sources", "on"}, words[i]) {
			continue
		}
		list := strings.Split(words[i+1], ",")
		var gone []string
		for _, w := range list {
			if slices.Contains(r.own.places, w) {
				gone = append(gone, w)
			}
		}
		if len(gone) > 0 {
			return piece{rec, i + 1, gone, len(gone) == len(list)}, true
		}
	}
	return piece{}, false
}

// ownFilter says whether a filter stands on what is retired alone.
func (r *retiring) ownFilter(name string) bool {
	return r.own.all && slices.ContainsFunc(of[*estate.Filter](r.first.Tracer.Model.Estate), func(f *estate.Filter) bool {
		return f.Name == name && !slices.ContainsFunc(f.On, func(on string) bool { return !slices.Contains(r.own.places, on) })
	})
}

// entered are the outer ports of a forward that lead to a listener that is retired, whether or not anybody gets there.
func (r *retiring) entered(f *estate.Forward) []uint16 {
	e := r.first.Tracer.Model.Estate
	var out []uint16
	for _, l := range of[*estate.Listen](e) {
		if !slices.Contains(r.own.services, l.Service) || !slices.ContainsFunc(of[*estate.Address](e), func(a *estate.Address) bool {
			return a.Hosts[0] == l.Place && a.Held.Addr == f.To.Addr
		}) {
			continue
		}
		inner := f.To.Ports
		if f.To.Kept() {
			inner = f.Bind.Ports
		}
		for _, pair := range estate.Translate(f.Bind.Ports, inner) {
			for _, port := range l.Bind.Ranges {
				if outer, leads := outerOf(pair, port.Lo); leads {
					out = append(out, outer)
				}
			}
		}
	}
	return out
}

// filterStays says whether a filter that would go is kept.
func (r *retiring) filterStays(name string) bool {
	for i, p := range r.pieces {
		if f, is := p.record.(*estate.Filter); is && f.Name == name {
			return r.line(i) != ""
		}
	}
	return false
}

// apex says whether a name is a zone's own: most that stands there is not the name's.
func (r *retiring) apex(name string) bool {
	return slices.ContainsFunc(of[*estate.Zone](r.first.Tracer.Model.Estate), func(z *estate.Zone) bool { return z.Name == name })
}

// sends says whether a record sends to a name that is retired, by its last word: where mail goes, where a service is.
func (r *retiring) sends(d *estate.DNS) bool {
	words := strings.Fields(d.Value)
	return (d.Type == "MX" || d.Type == "SRV") && slices.Contains(r.own.names, strings.TrimSuffix(words[len(words)-1], "."))
}

// lands says whether an intent is for a port of what is retired.
func (r *retiring) lands(x *estate.Intent) bool {
	p := r.first.Tracer.Model.PlaceNamed(x.Target)
	if p == nil {
		return false
	}
	own, others := false, false
	for _, l := range of[*estate.Listen](r.first.Tracer.Model.Estate) {
		if l.Place != x.Target || !l.Bind.Set().Overlaps(x.Ports.Set()) {
			continue
		}
		own = own || slices.Contains(r.own.services, l.Service)
		others = others || !slices.Contains(r.own.services, l.Service)
	}
	return own && !others
}

// ofPorts is a piece of the ports of a list that its own flows come by.
func ofPorts(rec estate.Record, token int, p estate.Ports, read []uint16) (piece, bool) {
	var words []string
	for _, r := range p.Ranges {
		if slices.ContainsFunc(read, r.Contains) {
			words = append(words, r.String())
		}
	}
	return piece{rec, token, words, len(words) == len(p.Ranges)}, len(words) > 0
}

// line is what is left of a piece's line; "" where it goes.
func (r *retiring) line(i int) string {
	p, kept := r.pieces[i], r.kept[i]
	text := estate.Line(p.record)
	switch {
	case kept[""] || p.token == 0 && len(kept) > 0:
		return text
	case p.token == 0:
		return ""
	}
	words := strings.Fields(text)
	list := words[p.token]
	head := ""
	if at := strings.LastIndex(list, ":"); at >= 0 && estate.KindOf(p.record).Word == "forward" { // [IP:]PORTS
		head, list = list[:at+1], list[at+1:]
	}
	list, transport, is := strings.Cut(list, "/")
	var left []string
	for w := range strings.SplitSeq(list, ",") {
		if !slices.Contains(p.words, w) || kept[w] {
			left = append(left, w)
		}
	}
	if len(left) == 0 {
		return ""
	}
	words[p.token] = head + strings.Join(left, ",")
	if is {
		words[p.token] += "/" + transport
	}
	return strings.Join(words, " ")
}

// without is the estate without what is not kept.
func (r *retiring) without() (*estate.Estate, error) {
	c, err := r.change()
	if err != nil {
		return nil, err
	}
	return r.first.estate.Apply(c)
}

// change takes out what is not kept.
func (r *retiring) change() (c estate.Change, err error) {
	for i, p := range r.pieces {
		was := estate.Line(p.record)
		is := r.line(i)
		if is == was {
			continue
		}
		c.Remove = append(c.Remove, was)
		if is == "" {
			continue
		}
		placed, _, err := notation.ParseLine(is)
		if err != nil {
			return c, fmt.Errorf("%s: %w", is, err)
		}
		c.Add = append(c.Add, placed)
	}
	return c, nil
}

// settle puts back what others need, round by round, all of a round at once, so that it comes to one set whatever the order.
func (r *retiring) settle(ctx context.Context) error {
	for {
		e, err := r.without()
		if err != nil {
			return err
		}
		p, err := r.first.after(ctx, e)
		if err != nil {
			return err
		}
		back := r.needed(p)
		if len(back) == 0 {
			if back, err = r.holdsBack(ctx, p); err != nil {
				return err
			}
		}
		if len(back) == 0 {
			return nil
		}
		for _, b := range back {
			r.keep(b)
		}
	}
}

// need is a word of a piece that somebody needs.
type need struct {
	piece int
	word  string // "" for the line
	who   string
}

func (r *retiring) keep(n need) {
	r.kept[n.piece][n.word] = true
	line := estate.Line(r.pieces[n.piece].record)
	if !slices.Contains(r.stays[line], n.who) {
		r.stays[line] = append(r.stays[line], n.who)
	}
}

// gone says whether a word of a piece is out.
func (r *retiring) gone(i int, word string) bool {
	return !r.kept[i][""] && !r.kept[i][word]
}

// needed are the lines that the flows of others read, which end otherwise without them.
func (r *retiring) needed(p *point) []need {
	var out []need
	note := func(lines []string, port uint16, who string) {
		for i := range r.pieces {
			if !slices.Contains(lines, estate.Line(r.pieces[i].record)) {
				continue
			}
			word := r.wordFor(i, port)
			if word == "" && r.pieces[i].token > 0 && !r.pieces[i].whole {
				continue // what is left of its list is there for them
			}
			if r.gone(i, word) {
				out = append(out, need{i, word, who})
			}
		}
	}
	t := r.first.Tracer
	for _, l := range findings.Lost(r.first.Checked.Walked(), p.Checked.Walked()) {
		if r.isOwn(l.Target) {
			continue
		}
		tg, err := t.ParseTarget(l.Target)
		v, err2 := t.VantageNamed(l.From)
		if err != nil || err2 != nil {
			continue
		}
		for _, path := range t.Trace(tg, v).Paths {
			if path.Outcome.Good() && !r.endsHere(&path) {
				for _, s := range path.Steps {
					note(s.Records, portOf(s.Flow), l.Target+" from "+l.From)
				}
			}
		}
	}
	for i, p := range r.pieces { // a filter is one list: where it stays, so do the lines that it decides by
		rule, is := p.record.(*estate.Rule)
		if is && p.whole && r.gone(i, "") && r.ownFilter(rule.Filter) && r.filterStays(rule.Filter) {
			out = append(out, need{i, "", "filter " + rule.Filter + " stays"})
		}
	}
	for _, net := range t.Model.Networks {
		was, _ := exposure.Unlike(r.first.doors(net.Name), p.doors(net.Name))
		if len(was) == 0 {
			continue
		}
		now := exposure.DoorsOf(p.doors(net.Name))
		for _, o := range exposure.OpenOf(was) {
			if !r.ownDoor(o) && !now.Cover(o, netset.Addrs{}) {
				note(o.Records, o.Range.Lo, fmt.Sprintf("%s on %s from %s", o.Service, o.Place, net.Name))
			}
		}
	}
	return out
}

// wordFor is the word of a piece's list that a flow to a port read; "" for the line.
func (r *retiring) wordFor(i int, port uint16) string {
	p := r.pieces[i]
	switch estate.KindOf(p.record).Word {
	case "forward", "rule":
	default:
		return ""
	}
	for _, w := range p.words {
		lo, hi, is := strings.Cut(w, "-")
		if !is {
			hi = lo
		}
		var a, b uint16
		if _, err := fmt.Sscan(lo, &a); err != nil {
			continue
		}
		if _, err := fmt.Sscan(hi, &b); err != nil {
			continue
		}
		if a <= port && port <= b {
			return w
		}
	}
	return ""
}

func portOf(f flow.Flow) uint16 {
	at := strings.LastIndex(f.To, ":")
	var port uint16
	if _, err := fmt.Sscan(strings.TrimSuffix(f.To[at+1:], "/udp"), &port); err != nil {
		return 0
	}
	return port
}

// isOwn says whether a target is of what is retired.
func (r *retiring) isOwn(target string) bool {
	name, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(target, "https://"), "http://"), ":")
	name, _, _ = strings.Cut(name, "/")
	whole, _, _ := strings.Cut(target, ":")
	return slices.Contains(r.own.names, name) || slices.Contains(r.own.places, whole)
}

// endsHere says whether a path ends at a service or place that is retired, so that it goes with it.
func (r *retiring) endsHere(p *trace.Path) bool {
	return p.Service != nil && slices.Contains(r.own.services, *p.Service) || p.End != nil && r.ownPlace(*p.End)
}

// ownDoor says whether a door is of what is retired.
func (r *retiring) ownDoor(o *exposure.Open) bool {
	return slices.Contains(r.own.services, o.Service) || slices.Contains(r.own.places, o.Place) || o.Site != nil && slices.Contains(r.own.names, *o.Site)
}

// holdsBack are the lines without which something opens, or comes to be wrong with something of others: each is put back by itself, to see whether
// that ends it.
func (r *retiring) holdsBack(ctx context.Context, p *point) ([]need, error) {
	troubles := r.troubles(p)
	if len(troubles) == 0 {
		return nil, nil
	}
	var out []need
	for i := range r.pieces {
		switch r.pieces[i].record.(type) {
		case *estate.Intent, *estate.Acceptance: // what is meant goes with what it is meant of
			continue
		}
		if r.line(i) == estate.Line(r.pieces[i].record) {
			continue
		}
		words := r.pieces[i].words
		if len(words) == 0 {
			words = []string{""}
		}
		for _, w := range words {
			if !r.gone(i, w) {
				continue
			}
			r.kept[i][w] = true
			e, err := r.without()
			delete(r.kept[i], w)
			if err != nil {
				return nil, err
			}
			q, err := p.after(ctx, e)
			if err != nil {
				return nil, err
			}
			left := r.troubles(q)
			for k, says := range troubles {
				if _, still := left[k]; !still && len(left) < len(troubles) {
					out = append(out, need{i, w, says})
				}
			}
		}
	}
	return out, nil
}

// troubles are what a state has that the first has not: doors that open, names that somebody else answers to, and errors and warnings of what is
// not retired.
func (r *retiring) troubles(p *point) map[string]string {
	out := map[string]string{}
	for _, net := range p.Tracer.Model.Networks {
		if net.Container() {
			continue
		}
		_, is := exposure.Unlike(r.first.doors(net.Name), p.doors(net.Name))
		if len(is) == 0 {
			continue
		}
		there := exposure.DoorsOf(r.first.doors(net.Name))
		for _, o := range exposure.OpenOf(is) {
			if !there.Cover(o, r.addresses()) {
				key := fmt.Sprintf("%s:%s on %s", exposure.Bracketed(o.Address), o.Ports, o.Place)
				out["opens "+key+net.Name] = fmt.Sprintf("without it %s would stand open to %s", key, net.Name)
			}
		}
	}
	internet, err := p.Tracer.VantageNamed("internet")
	for _, name := range r.own.names {
		for _, typ := range []string{"A", "AAAA"} {
			if err != nil {
				break
			}
			if a := p.Tracer.Answer(name, typ, internet); len(a.Addresses) > 0 && a.Wildcard {
				out["answers "+name] = fmt.Sprintf("without it a wildcard would answer to %s", name)
			}
		}
	}
	for _, f := range findings.Ended(p.Checked.Report, r.first.Checked.Report) {
		if f.Level == findings.Note || r.isOwn(f.Subject) || slices.Contains(r.own.services, f.Subject) || slices.Contains(r.own.words, f.Subject) {
			continue
		}
		out[f.Code+" "+f.Subject] = "without it: " + f.Why
	}
	return out
}

// addresses are those of what is retired: nobody is there any more.
func (r *retiring) addresses() netset.Addrs {
	var out []netip.Addr
	for _, a := range of[*estate.Address](r.first.Tracer.Model.Estate) {
		if slices.Contains(r.own.places, a.Hosts[0]) && a.Held.Addr.IsValid() {
			out = append(out, a.Held.Addr)
		}
	}
	return netset.AddrsOf(out...)
}

// holds says whether an address is of what is retired.
func (r *retiring) holds(addr string) bool {
	return slices.ContainsFunc(of[*estate.Address](r.first.Tracer.Model.Estate), func(a *estate.Address) bool {
		return a.Held.String() == addr && slices.Contains(r.own.places, a.Hosts[0])
	})
}
