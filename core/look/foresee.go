package look

import (
	"cmp"
	"slices"

	"steady-compass/core/flow"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// Foresee is what looks at a target see if all is as recorded: one for each layer of each way, as Looks would give them. What nobody can
// foresee, since it is not recorded, is not among them.
func Foresee(t *trace.Tracer, tg trace.Target, v flow.Vantage) []Look {
	var out []Look
	if tg.Name != "" {
		for _, typ := range []string{"A", "AAAA"} {
			a := t.Answer(tg.Name, typ, v)
			if a.Code == names.Outside || slices.ContainsFunc(a.Addresses, func(x names.Address) bool { return x.Unknown }) {
				continue
			}
			out = append(out, Look{From: v.Word, Target: tg.Name + " " + typ, Did: Resolve, Came: Answered, Code: a.Code.String(), Answers: a.Values})
		}
	}
	ports := []flow.PortKey{{Port: tg.Port, Transport: tg.Proto}}
	if tg.Port == 0 {
		ports, _ = t.PortsOf(cmp.Or(tg.Name, tg.Text), &v)
	}
	for _, key := range ports {
		if key.Transport == netset.UDP {
			continue
		}
		for _, p := range t.TracePort(tg, key, v) {
			out = append(out, foreseen(t, tg, key, &p, v)...)
		}
	}
	return out
}

var foreseenCame = map[flow.Outcome]Came{flow.Refused: Refused, flow.Silent: Silent, flow.LostReply: Silent, flow.Unroutable: NoRoute}

// foreseen are the looks of one way.
func foreseen(t *trace.Tracer, tg trace.Target, key flow.PortKey, p *trace.Path, v flow.Vantage) []Look {
	if !p.Addr().IsValid() {
		return nil
	}
	c := Contact{Target: HostPort(cmp.Or(tg.Name, p.Address), key), Did: Connect, Name: tg.Name, Address: p.Addr().String(), Port: key.Port, Transport: "tcp"}
	c.deepen(p)
	l := Look{From: v.Word, Target: HostPort(cmp.Or(tg.Name, p.Address), key), Did: Connect, Address: c.Address}
	if came, stops := foreseenCame[p.Outcome]; stops {
		l.Came = came
		return []Look{l}
	}
	if !slices.Contains(taken, p.Outcome) {
		return nil
	}
	l.Came = Arrived
	out := []Look{l}
	if c.TLS {
		out = append(out, foreseenHandshake(t, l, p))
	}
	page := l
	page.Did, page.Target = HTTP, c.Target
	if c.Did == HTTP && foreseenPage(&page, p) {
		out = append(out, page)
	}
	return out
}

func foreseenHandshake(t *trace.Tracer, l Look, p *trace.Path) Look {
	l.Did = TLS
	good := p.Outcome != flow.Untrusted
	switch c := certificateOf(t, p); {
	case p.Outcome == flow.Mismatched:
		l.Came = Failed
		return l
	case c != nil:
		l.Names, l.Expires = c.For, string(c.Expires)
	}
	l.Covers, l.Trusted = &good, &good
	return l
}

// foreseenPage fills in what a request is answered with; false where that cannot be told.
func foreseenPage(l *Look, p *trace.Path) bool {
	switch p.Outcome {
	case flow.Arrives, flow.Redirects:
		site := p.Site()
		switch {
		case site != nil && !site.Redirect.IsZero():
			l.Status, l.Location = 301, placeOf(p, site, l)
		case p.Guarded():
			l.Status = 401
		case p.Outcome == flow.Redirects:
			l.Status = 302
		default:
			l.Status = 200
		}
	case flow.GatewayError:
		l.Status = 502
	case flow.Unanswered:
		l.Status = 404
	case flow.Denied:
		l.Status = 403
	case flow.Mismatched:
		l.Status = 400
	default:
		return false
	}
	return true
}
