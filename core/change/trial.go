package change

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/mend"
	"steady-compass/core/netset"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// point is an estate on the way from one to another, looked over.
type point struct {
	estate *estate.Estate
	begun  *estate.Estate // where the way began
	mend.State
}

// after looks over an estate that came of a point's by some edits. Certificates that these want count as issued.
func (p *point) after(ctx context.Context, e *estate.Estate) (*point, error) {
	issued := mend.IssuedWhere(e, p.begun, func(*estate.Cert) bool { return true })
	next := &point{estate: e, begun: p.begun, State: mend.State{Tracer: p.Tracer.After(issued)}}
	var err error
	next.Checked, err = p.Checked.After(ctx, next.Tracer)
	return next, err
}

// view is an estate on the way as somebody sees it, walked and not looked over: what those meet who have old answers, or by what is meant.
type view struct {
	estate *estate.Estate
	*findings.Walked
}

func (p *point) view() view { return view{p.estate, p.Checked.Walked()} }

// seen walks an estate that differs from a point's in what somebody sees.
func (p *point) seen(ctx context.Context, e *estate.Estate) (view, error) {
	issued := mend.IssuedWhere(e, p.begun, func(*estate.Cert) bool { return true })
	walked, err := p.Checked.Walked().After(ctx, p.Tracer.After(issued))
	return view{e, walked}, err
}

// doors are what stands open from a network, by address; nil where the estate has none of that name.
func (p *point) doors(network string) []*exposure.OpenAt {
	v, err := p.Tracer.VantageNamed(network)
	if err != nil || p.Tracer.Model.NetNamed(network) == nil {
		return nil
	}
	return p.Tracer.ByAddress(v)
}

// trouble is how something is wrong with a state in between.
type trouble string

const (
	stops      trouble = "stops"       // what worked before and works after does not
	astray     trouble = "astray"      // it comes to a service to which it comes neither before nor after
	opens      trouble = "opens"       // something can be reached that can be reached neither before nor after
	lost       trouble = "lost"        // a port for administration cannot be reached by those who keep it
	taken      trouble = "taken"       // a socket or an address is another's
	unproven   trouble = "unproven"    // a challenge does not get in
	stillAsked trouble = "still-asked" // an address is given up that an old answer may still lead to
)

// wrong is one thing that is wrong with a state in between.
type wrong struct {
	trouble    trouble
	what, from string
	branch     string
	now        flow.Outcome
	loss       findings.Loss // of one that stops
}

// ends are the two estates that a change lies between, and what is let be wrong in between since the change itself brings it about.
type ends struct {
	*draft
	first, last *point
	given       map[findings.Loss]bool // what works before, and not after
	began       *findings.Walked       // the first, walked
	begin, end  findings.Ends          // the services at which all ends before, and after
	asked       map[string][]string    // the owners of dns records for which something of ours asks, with who does
	reaching    bool                   // it says of something that it is meant to get elsewhere
	meant       []bool                 // the edits on paper
}

func newEnds(ctx context.Context, d *draft, first *point) (*ends, error) {
	x := &ends{draft: d, first: first, given: map[findings.Loss]bool{}}
	x.meant = make([]bool, len(d.edits))
	for i, e := range d.edits {
		x.meant[i] = e.phase == onPaper
		if r, is := e.record().(*estate.Intent); is && r.Reaching.Host != "" {
			x.reaching = true
		}
	}
	var err error
	if x.last, err = first.after(ctx, d.after); err != nil {
		return nil, err
	}
	x.began = first.Checked.Walked()
	last := x.last.Checked.Walked()
	x.begin, x.end = x.began.Ends(), last.Ends()
	if slices.ContainsFunc(d.edits, func(e edit) bool { return e.phase == naming }) {
		x.asked = x.askedBy()
	}
	for _, l := range findings.Lost(x.began, last) {
		x.given[known(l)] = true
	}
	return x, nil
}

// known is a loss whatever it ends as.
func known(l findings.Loss) findings.Loss {
	l.Now = ""
	return l
}

// stopped are the branches that worked before and work after, and do not as somebody sees a point. An intent of before or after counts as
// meant.
func (x *ends) stopped(ctx context.Context, p *point, v view, done []bool) ([]wrong, error) {
	list := findings.Lost(x.began, v.Walked)
	var also map[findings.Loss]bool
	if x.reaching && slices.ContainsFunc(list, func(l findings.Loss) bool { return !x.given[known(l)] }) {
		both := slices.Clone(done)
		for i, m := range x.meant {
			both[i] = both[i] || m
		}
		e, err := x.made(v.estate, done, both)
		if err != nil {
			return nil, err
		}
		q, err := p.seen(ctx, e)
		if err != nil {
			return nil, err
		}
		also = map[findings.Loss]bool{}
		for _, l := range findings.Lost(x.began, q.Walked) {
			also[known(l)] = true
		}
	}
	var out []wrong
	for _, l := range list {
		if k := known(l); !x.given[k] && (also == nil || also[k]) {
			out = append(out, wrong{stops, l.Target, l.From, l.Family + " " + l.URLPath, l.Now, k})
		}
	}
	for _, l := range findings.Astray(x.began, v.Walked, x.begin, x.end) {
		out = append(out, wrong{astray, l.Target, l.From, l.Family + " " + l.URLPath, l.Now, l})
	}
	return out, nil
}

// between says what is wrong with a state in which some edits are made, the last of them just now.
func (x *ends) between(ctx context.Context, p *point, done []bool, last []int) ([]wrong, error) {
	out, err := x.stopped(ctx, p, p.view(), done)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(last, func(i int) bool { return opensDoors(x.edits[i].record()) }) {
		out = append(out, x.doors(ctx, p)...)
	}
	out = append(out, x.taken(p)...)
	for _, i := range last {
		if c, is := x.edits[i].in.(*estate.Cert); is && challenged(c) {
			out = append(out, x.unproven(p, c)...)
		}
	}
	slices.SortStableFunc(out, func(a, b wrong) int {
		return cmp.Or(cmp.Compare(a.trouble, b.trouble), cmp.Compare(a.what, b.what), cmp.Compare(a.from, b.from), cmp.Compare(a.branch, b.branch))
	})
	return out, ctx.Err()
}

// opensDoors says whether a record has a say in what stands open: what names answer, what is meant and certificates have none.
func opensDoors(r estate.Record) bool {
	switch r.(type) {
	case *estate.DNS, *estate.Zone, *estate.Cert, *estate.Intent, *estate.Acceptance, *estate.HostsEntry, *estate.Pool, *estate.Member:
		return false
	}
	return true
}

// doors are what is open at a state and at neither end, and the ports for administration that those lose who have them at both.
func (x *ends) doors(ctx context.Context, p *point) []wrong {
	networks := p.Tracer.Model.Networks
	return slices.Concat(parallel.Map(ctx, len(networks), func(i int) (out []wrong) {
		net := networks[i]
		if net.Container() {
			return nil // who is on one of those is recorded
		}
		all, now := x.first.doors(net.Name), p.doors(net.Name)
		was, is := exposure.Unlike(all, now)
		if len(was)+len(is) == 0 {
			return nil
		}
		will := x.last.doors(net.Name)
		either := exposure.DoorsOf(all, will)
		for _, o := range exposure.OpenOf(is) {
			if !either.Cover(o, netset.Addrs{}) {
				out = append(out, wrong{trouble: opens, what: fmt.Sprintf("%s:%s on %s", exposure.Bracketed(o.Address), o.Ports, o.Place), from: net.Name, now: flow.Arrives})
			}
		}
		for _, o := range exposure.OpenOf(was) {
			if findings.Administration(o) != "" && served(o, exposure.OpenOf(will)) && !served(o, exposure.OpenOf(now)) {
				out = append(out, wrong{trouble: lost, what: fmt.Sprintf("%s:%d", o.Place, o.Port), from: net.Name, now: flow.Silent})
			}
		}
		return out
	})...)
}

// taken are the clashes that neither end has.
func (x *ends) taken(p *point) []wrong {
	var out []wrong
	for _, f := range findings.Ended(p.Checked.Report, x.first.Checked.Report) {
		family, _, _ := strings.Cut(f.Code, ".")
		if family == "conflict" && f.Level == findings.Error && !x.last.Checked.Has(f.Code, f.Subject) {
			out = append(out, wrong{trouble: taken, what: f.Subject, branch: f.Code})
		}
	}
	return out
}

// unproven are the names of a certificate whose challenge gets in at the end, and not here. Who proves a name asks the name servers themselves:
// only the new answer counts.
func (x *ends) unproven(p *point, c *estate.Cert) []wrong {
	var out []wrong
	for _, name := range c.For {
		var reads memo.Reads
		if x.last.Tracer.Challenge(c, name, &reads).Works && !p.Tracer.Challenge(c, name, &reads).Works {
			out = append(out, wrong{trouble: unproven, what: name, from: "internet", branch: c.Name})
		}
	}
	return out
}

// served says whether a door is among others, by whatever address.
func served(o *exposure.Open, others []*exposure.Open) bool {
	return slices.ContainsFunc(others, func(n *exposure.Open) bool { return n.Place == o.Place && n.Service == o.Service })
}

// oldAnswers are those that changed on the way from one estate to another and worked for somebody.
func oldAnswers(from, to *trace.Tracer) []effect.OldAnswer {
	return slices.DeleteFunc(effect.OldAnswers(from, to), func(o effect.OldAnswer) bool { return o.Missing })
}
