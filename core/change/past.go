package change

import (
	"context"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/mend"
)

// Past is what was changed before an order begins, and may still be kept as it was: the steps that are made already.
type Past struct {
	Begun  *estate.Estate            // the records before the first step was made; a certificate that is wanted since counts as issued
	Before *estate.Estate            // the records before the oldest answer was changed that is kept; nil where none is any more
	Left   map[string]estate.Seconds // for how long yet, by name
}

// past are old answers that somebody has since before the order began.
type past struct {
	owners map[string]bool // of the records that answered otherwise
	old    []*estate.DNS   // as they were
	left   map[string]estate.Seconds
	given  map[findings.Loss]bool // what does not work by them even where the order begins
}

// begin is where an order begins: at a state that is looked over.
func begin(ctx context.Context, s mend.State, past Past) (*point, error) {
	e := s.Tracer.Model.Estate
	first := &point{e, e, s}
	if past.Begun == nil {
		return first, nil
	}
	first.begun = past.Begun
	return first.after(ctx, e)
}

var dnsKind = estate.KindNamed("dns")

// pastOf is nil where no old answer is about.
func (x *ends) pastOf(ctx context.Context, p Past) (*past, error) {
	if p.Before == nil || len(p.Left) == 0 {
		return nil, nil
	}
	out := &past{owners: map[string]bool{}, left: p.Left, given: map[findings.Loss]bool{}}
	gone, come := estate.Changed(p.Before, x.before, dnsKind)
	for _, r := range slices.Concat(gone, come) {
		out.owners[r.(*estate.DNS).Owner] = true
	}
	followed := x.followed(p)
	for d := range followed {
		out.owners[d.Owner] = true
	}
	for _, r := range p.Before.Of(dnsKind) {
		switch d := r.(*estate.DNS); {
		case !out.owners[d.Owner]:
		case followed[d] != nil:
			out.old = append(out.old, followed[d]...)
		default:
			out.old = append(out.old, d)
		}
	}
	seen, err := x.seenBy(ctx, out, x.first, x.first.view())
	if err != nil {
		return nil, err
	}
	for _, l := range findings.Lost(x.began, seen.Walked) {
		out.given[known(l)] = true
	}
	return out, nil
}

// followed are the records that follow a machine which held other addresses, with what they answered: as records that follow nothing.
func (x *ends) followed(p Past) map[*estate.DNS][]*estate.DNS {
	now := x.first.Tracer
	internet, err := now.VantageNamed("internet")
	if err != nil || estate.Same(p.Before, x.before, "address") {
		return nil
	}
	out := map[*estate.DNS][]*estate.DNS{}
	before := now.After(p.Before)
	for _, r := range p.Before.Of(dnsKind) {
		d := r.(*estate.DNS)
		if _, kept := p.Left[d.Owner]; !kept || d.Dynamic == "" || d.Off {
			continue
		}
		was, is := before.Answer(d.Owner, d.Type, internet).Values, now.Answer(d.Owner, d.Type, internet).Values
		if slices.Equal(slices.Sorted(slices.Values(was)), slices.Sorted(slices.Values(is))) {
			continue
		}
		for _, v := range was {
			out[d] = append(out[d], estate.With(d, func(n *estate.DNS) { n.Dynamic, n.Every, n.Value = "", estate.NotGiven, v }))
		}
	}
	return out
}

// seenBy is a state as those meet it who have these old answers besides.
func (x *ends) seenBy(ctx context.Context, p *past, at *point, now view) (view, error) {
	var c estate.Change
	there := map[string]bool{}
	for _, r := range now.estate.Of(dnsKind) {
		if d := r.(*estate.DNS); p.owners[d.Owner] {
			there[estate.Line(d)] = true
			if !slices.ContainsFunc(p.old, func(o *estate.DNS) bool { return estate.Line(o) == estate.Line(d) }) {
				c.Remove = append(c.Remove, estate.Line(d))
			}
		}
	}
	for _, d := range p.old {
		if !there[estate.Line(d)] {
			c.Add = append(c.Add, estate.Placed{Record: d})
		}
	}
	if c.IsEmpty() {
		return now, nil
	}
	e, err := now.estate.Apply(c)
	if err != nil {
		return now, err
	}
	return at.seen(ctx, e)
}
