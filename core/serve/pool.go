package serve

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Standing is how a member of a pool stands, as a place sees it that hands to the pool.
type Standing struct {
	Member *estate.Member
	Serves bool         // it is in service
	Out    bool         // it is taken out of service by its line
	Came   flow.Outcome // what came of its check, where that does not succeed
	Break  *flow.Break  // and of that the first break, where there is one
	Cause  string       // and the key of that
	Why    string       // why it is not in service: a sentence
}

// standings are those of all members of a pool.
type standings struct {
	list  []Standing
	reads memo.Reads
}

// mostHandedOn is how many times pools hand on, in all the branches of one request, until the others are not followed.
const mostHandedOn = 512

// standingKey is a pool, and a place that hands to it.
type standingKey struct {
	pool string
	from model.PlaceID
}

// Standings says how the members of a pool stand, as a place sees them; what that comes by is added to reads.
func (t *Engine) Standings(pool string, from *model.Place, reads *memo.Reads) []Standing {
	s := t.standingsOf(pool, from, nil)
	reads.And(&s.reads)
	return s.list
}

// checking is what the checks that a flow is a part of have come by: none is made twice under one, and one that leads back to its own
// pool ends.
type checking struct {
	pools []string // the pools whose checks led here
	known map[standingKey]*standings
}

// checkingOf is that of a flow; nil where it is a part of none.
func checkingOf(w *flow.Part) *checking {
	c, _ := w.Checking.(*checking)
	return c
}

// standingsOf are those of a pool, worked out once. A pool that checks itself by a ring is never in service.
func (t *Engine) standingsOf(name string, from *model.Place, within *checking) *standings {
	key := standingKey{name, from.ID}
	if within == nil {
		if known, ok := t.standings.Load(key); ok {
			return known.(*standings)
		}
		out := t.workOut(key, from, &checking{known: map[standingKey]*standings{}})
		t.standings.Store(key, out)
		return out
	}
	if known := within.known[key]; known != nil {
		return known
	}
	out := t.workOut(key, from, within)
	within.known[key] = out
	return out
}

func (t *Engine) workOut(key standingKey, from *model.Place, within *checking) *standings {
	name := key.pool
	out := &standings{}
	pool := t.Model.Pools[name]
	out.reads.Place(from.ID)
	out.reads.Place(from.Host)
	for _, m := range t.Model.Members[name] {
		x := Standing{Member: m, Serves: true}
		out.reads.Asked(m.At.Host)
		switch {
		case m.Out:
			x.Serves, x.Out, x.Why = false, true, fmt.Sprintf("%s is taken out of service.", m.At)
		case pool == nil:
		case slices.Contains(within.pools, name):
			x.Serves, x.Came, x.Why = false, flow.Loop, fmt.Sprintf("The check of %s comes back to its own pool.", m.At)
		case t.isNothing(from, m.At):
			x.Serves, x.Came, x.Why = false, flow.Unresolved, fmt.Sprintf("%s is nothing that is recorded.", m.At.Host)
			x.Cause = flow.RecordCause(estate.Line(m))
		case pool.Check > 0:
			t.check(&x, pool, from, &out.reads, &checking{append(slices.Clip(within.pools), name), within.known})
		}
		out.list = append(out.list, x)
	}
	if slices.ContainsFunc(out.list, func(x Standing) bool { return x.Serves && !x.Member.Spare }) {
		for i := range out.list {
			if x := &out.list[i]; x.Serves && x.Member.Spare {
				x.Serves, x.Why = false, fmt.Sprintf("%s is a spare, and serves where no other is left.", x.Member.At)
			}
		}
	}
	return out
}

// isNothing says whether an endpoint is a single word that nothing recorded goes by.
func (t *Engine) isNothing(from *model.Place, e estate.Endpoint) bool {
	if e.Host == "" || e.Host == "localhost" || strings.Contains(e.Host, ".") || t.Model.PlaceNamed(e.Host) != nil {
		return false
	}
	if c, _ := t.beside(from, e.Host); c != nil {
		return false
	}
	v6, v4 := t.Model.Names.Addresses(e.Host, t.Model.AskerAt(from.ID, model.NoNet))
	return len(v6.Addresses)+len(v4.Addresses) == 0
}

// check makes the check of a member: a connection to the pool's check port; with a path, a request that has to succeed.
func (t *Engine) check(x *Standing, pool *estate.Pool, from *model.Place, reads *memo.Reads, within *checking) {
	to := estate.URL{Scheme: "http", Endpoint: x.Member.At, Path: pool.Path}
	if pool.TLS {
		to.Scheme = "https"
	}
	to.Port = uint16(pool.Check)
	came := t.probe(from, to, pool.Path != "", pool.Name, reads, within)
	if came.ok {
		return
	}
	x.Serves, x.Came, x.Break, x.Cause = false, came.outcome, came.brk, came.cause
	if came.outcome == flow.Mismatched && came.brk != nil {
		came.brk.Mend = flow.Replace(pool, func(n *estate.Pool) { n.TLS = !n.TLS })
		x.Cause = flow.RecordCause(estate.Line(pool))
	}
	x.Why = fmt.Sprintf("%s is not in service: its check, %s, ends %s.", x.Member.At, checkWords(pool, x.Member), outcomeWords(came.outcome))
}

// checkWords say where a member is checked.
func checkWords(pool *estate.Pool, m *estate.Member) string {
	at := m.At
	at.Port = uint16(pool.Check)
	if pool.Path == "" {
		return at.String()
	}
	return at.String() + pool.Path
}

// came is what came of a flow of our own.
type came struct {
	ok      bool
	outcome flow.Outcome
	brk     *flow.Break
	cause   string        // the key of the break
	took    *model.Socket // the listener that took it
}

// probe follows a flow that a program at a place makes to see whether something is there: a connection; or a request that has to be
// answered, and is where it is redirected.
func (t *Engine) probe(from *model.Place, to estate.URL, asks bool, subject string, reads *memo.Reads, within *checking) came {
	up := &upstream{site: &estate.Site{To: to}, to: to}
	s := &serving{t: t, goal: flow.Goal{Diagnose: true, Upstream: true, Subject: subject, Place: model.Nowhere}, probing: true, connecting: !asks, left: new(mostHandedOn)}
	next := Request{Name: to.Host, Handshake: to.Host, Port: to.EffectivePort(), Path: cmp.Or(to.Path, "/"), PathGiven: true, Speech: SpeaksPlain}
	if to.Encrypted() {
		next.Speech = SpeaksTLS
	} else if to.Scheme == "tcp" || to.Scheme == "udp" {
		next.Speech = speaksStream
	}
	if next.Name == "" {
		next.Name = to.Addr.String()
	}
	o := flow.Origin{Place: from.ID, Net: model.NoNet}
	w := o.Start(to.Transport(), netset.PortsOf(netset.OnePort(next.Port)))
	w.Reads, w.Checking = reads, within
	s.made(w, from, up, next, s.goal)
	out := came{outcome: flow.Unroutable}
	for i := range s.out {
		r := &s.out[i]
		steps, breaks := r.Collect()
		// What is outside is taken to answer; of what cannot be told its own branch says so.
		now := came{ok: r.Stopped == "" || r.Stopped == flow.Outside || r.Stopped == flow.Undecided, outcome: r.Stopped, took: r.Part.Took}
		if len(breaks) > 0 {
			first := breaks[0]
			first.Mend = JoinMends(breaks) // what follows on the way has to go as well
			now.brk, now.cause = &first, flow.Cause(&breaks[0], steps, r.Transport.String())
		}
		if now.ok {
			return now
		}
		if i == 0 {
			out = now
		}
	}
	return out
}

// handToPool is a front that hands a request to a pool: a branch for each member in service.
func (s *serving) handToPool(f Served, l flow.Landing, from *model.Place, rec *estate.Site, q Request) {
	t := s.t
	pool := t.Model.Pools[rec.Pool]
	all := t.standingsOf(rec.Pool, from, checkingOf(&f.Part))
	f.Reads.And(&all.reads)
	serving := slices.DeleteFunc(slices.Clone(all.list), func(x Standing) bool { return !x.Serves })
	shown := []estate.Record{rec}
	if pool != nil {
		shown = append(shown, pool)
	}
	if len(serving) == 0 {
		serving = s.nobodyServes(&f, from, rec.Pool, shown, all.list)
	} else {
		f.Add(flow.Step{Stage: flow.StageUpstream, At: from.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(shown...), Why: poolWords(rec.Pool, pool, all.list)})
	}
	if len(serving) == 0 {
		f.Cell().Backend = "pool " + rec.Pool
		s.finish(f)
		return
	}
	for _, x := range serving {
		if *s.left--; *s.left < 0 {
			f.Add(flow.Step{
				Stage: flow.StageUpstream, At: from.Name, Verdict: flow.Unsettled, Ground: flow.Internal, Records: say.Lines(shown...),
				Why: "More ways lead on from pool to pool than are followed.",
			})
			if f.Stopped == "" {
				f.Stopped = flow.Undecided
			}
			s.finish(f)
			return
		}
		before := len(s.out)
		g := f
		g.Member = x.Member.At.String()
		s.handOn(g, l, from, upstream{site: rec, to: estate.URL{Scheme: cmp.Or(rec.Speaking, "http"), Endpoint: x.Member.At}, member: x.Member}, q)
		if s.probing && allGood(s.out[before:]) {
			return // one that answers is enough
		}
	}
}

// nobodyServes notes that no member of a pool is in service. Past that break it goes on to those that are not taken out.
func (s *serving) nobodyServes(f *Served, from *model.Place, name string, shown []estate.Record, all []Standing) []Standing {
	b := NobodyServes(name, all)
	b.At, b.Records = from.Name, say.Lines(shown...)
	if b.Code == "pool.empty" {
		b.Key = flow.RecordCause(b.Records[len(b.Records)-1])
	}
	for _, x := range all {
		b.Records = append(b.Records, estate.Line(x.Member))
		if f.Stopped == "" && f.Inner == "" {
			f.Inner = x.Came
		}
	}
	f.Add(flow.Step{Stage: flow.StageUpstream, At: from.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: b.Records, Why: b.Why})
	f.Stop(flow.GatewayError, b)
	return slices.DeleteFunc(slices.Clone(all), func(x Standing) bool { return x.Out || x.Came == flow.Unresolved || x.Came == flow.Loop })
}

// NobodyServes is the break of a pool none of whose members is in service.
func NobodyServes(name string, all []Standing) flow.Break {
	b := flow.Break{Code: "pool.down", Subject: name, Short: "no member left"}
	checked := slices.DeleteFunc(slices.Clone(all), func(x Standing) bool { return x.Out })
	switch {
	case len(all) == 0:
		b.Code, b.Why = "pool.empty", fmt.Sprintf("Pool %s has no member.", name)
	case len(checked) == 0:
		b.Code, b.Why = "pool.empty", fmt.Sprintf("All members of pool %s are taken out of service.", name)
	default:
		b.Why, b.Key = fmt.Sprintf("No member of pool %s is in service. %s", name, checked[0].Why), checked[0].Cause
		if checked[0].Break != nil {
			b.Mend = checked[0].Break.Mend
		}
	}
	return b
}

// poolWords say how a pool hands on, when its members come into service and go, and who is not.
func poolWords(name string, pool *estate.Pool, all []Standing) string {
	text := fmt.Sprintf("Pool %s", name)
	if pool != nil {
		switch pool.Turn {
		case "in-turn", "":
			text += ", to each in turn"
		case "least-busy":
			text += ", to the least busy"
		case "random":
			text += ", to any at random"
		}
		if pool.Sticky {
			text += ", a client always to the same"
		}
		if pool.Check > 0 {
			in, out, silent := turnover(pool)
			text += fmt.Sprintf("; a member is in service at the latest %s after it answers, out %s after it refuses, %s after it falls silent", in, out, silent)
		}
	}
	text += "."
	for _, x := range all {
		if !x.Serves {
			text += " " + x.Why
		}
	}
	return text
}

// turnover is how soon, at the latest, a member comes into service after it answers, and goes out of it after it refuses or falls silent.
func turnover(pool *estate.Pool) (in, refused, silent estate.Seconds) {
	or := func(n, other int) estate.Seconds {
		if n <= 0 {
			n = other
		}
		return estate.Seconds(n)
	}
	every, within := pool.Every, pool.Within
	if every == estate.NotGiven {
		every = 10
	}
	if within == estate.NotGiven {
		within = 2
	}
	in, refused = every*or(pool.UpAfter, 3), every*or(pool.DownAfter, 2)
	return in, refused, refused + within
}

// AddressesOfEndpoint are where a member's endpoint is, seen from a place.
func (t *Engine) AddressesOfEndpoint(from *model.Place, e estate.Endpoint) []netip.Addr {
	if e.Addr.IsValid() {
		return []netip.Addr{e.Addr}
	}
	var out []netip.Addr
	if p := t.Model.PlaceNamed(e.Host); p != nil {
		for _, d := range t.addressesFrom(from, p) {
			out = append(out, d.Addr)
		}
		return out
	}
	v6, v4 := t.Model.Names.Addresses(e.Host, t.Model.AskerAt(from.ID, model.NoNet))
	for _, a := range slices.Concat(v6.Addresses, v4.Addresses) {
		if a.Addr.IsValid() {
			out = append(out, a.Addr)
		}
	}
	return out
}

// membersFrom are the members of a pool that are in service, as a router that forwards to it finds them.
func (t *Engine) membersFrom(name string, router *model.Place, six bool, within any, reads *memo.Reads) (out []flow.PoolMember, none flow.Break) {
	under, _ := within.(*checking)
	all := t.standingsOf(name, router, under)
	reads.And(&all.reads)
	for _, x := range all.list {
		if !x.Serves {
			continue
		}
		for _, a := range t.AddressesOfEndpoint(router, x.Member.At) {
			if a.Is6() == six {
				out = append(out, flow.PoolMember{Record: x.Member, Addr: a, Port: x.Member.At.Port})
				break // the addresses of one member are tried in turn
			}
		}
	}
	if len(out) == 0 {
		none = NobodyServes(name, all.list)
	}
	return out, none
}
