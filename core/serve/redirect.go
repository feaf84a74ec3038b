package serve

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// redirect is a client sent elsewhere: its new request, from where it is.
func (s *serving) redirect(f Served, l flow.Landing, rec *estate.Site, q Request) {
	place := s.t.Model.Places[l.Socket.Place]
	host, port, path, tls := q.Name, uint16(443), q.Path, true
	addr := l.AskedAddr
	if !rec.Redirect.HTTPS {
		u := rec.Redirect.URL
		host, addr, port, tls = u.Host, u.Addr, u.EffectivePort(), u.Encrypted()
		if u.Addr.IsValid() {
			host = ""
		}
		if path = u.Path; path == "" {
			path = "/"
		}
		path, _, _ = strings.Cut(path, "#")
		path, _, _ = strings.Cut(path, "?")
		if path == "" {
			path = "/"
		}
	}
	where, again := host, (*model.Place)(nil)
	switch {
	case where != "":
	case addr.IsValid():
		where = addr.String()
	case s.place != nil:
		where, again = s.place.Name, s.place
	}
	target := rec.Redirect.URL.String()
	if rec.Redirect.HTTPS {
		target = "https://" + where + strings.TrimSuffix(path, "/")
	}
	f.Add(flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("Sends the client to %s.", target)})
	f.Cell().Backend = "→ " + strings.TrimPrefix(target, "https://"+q.Name)
	if rec.Redirect.HTTPS {
		f.Cell().Backend = "→ https"
	}
	if q.challenge != nil {
		f.strayed = q.challenge.strays(rec, target, path, port)
		f.Took = nil // who sends it on does not answer it
	}
	if s.probing || f.strayed != "" {
		f.Redirect = true
		s.finish(f)
		return
	}
	key := fmt.Sprintf("%s:%d%s %v", where, port, path, tls)
	if slices.Contains(s.visited, key) || key == fmt.Sprintf("%s:%d%s %v", q.Name, q.Port, q.Path, q.Speech == SpeaksTLS || q.Speech == SpeaksByPort && q.Port == 443) {
		f.Stop(flow.Loop, flow.Break{
			Code: "redirect.loop", At: place.Name, Subject: s.goal.Subject, Short: "redirects in a ring",
			Why: fmt.Sprintf("The client is sent to %s, where it has been already.", target), Records: say.Lines(rec),
		})
		s.finish(f)
		return
	}
	next := Request{Name: host, Handshake: host, Port: port, Path: path, PathGiven: true, Client: true, Speech: SpeaksPlain, challenge: q.challenge}
	if tls {
		next.Speech = SpeaksTLS
	}
	before := f.Stopped
	base := f.Part
	base.Ghost, base.Stopped = base.Ghost || before != "", ""
	if q.challenge != nil {
		base.AskedWord, base.AskedAddr = "", netip.Addr{} // it is asked anew, by which family is told apart again
	}
	results := s.t.Ask(Question{Origin: s.client, Vantage: s.v, Request: next, Addr: addr, Place: again, Transport: netset.TCP, Base: base, visited: append(slices.Clone(s.visited), key), left: s.left})
	if q.challenge != nil {
		results = tried(results)
	}
	for _, r := range results {
		g := r
		g.AskedWord, g.AskedAddr, g.AskedIPv6 = f.AskedWord, f.AskedAddr, f.AskedIPv6
		g.Redirect, g.Defaulted, g.Site = true, f.Defaulted, f.Site
		g.URLPath = f.URLPath
		g.Cells = f.Cells
		g.Origins = f.Origins
		g.Src = f.Src
		g.Ports, g.Outer, g.Handed, g.SpokeTLS = f.Ports, f.Outer, f.Handed, f.SpokeTLS
		if g.Stopped == flow.Outside && !s.t.newBreaks(f.Part, r.Part) {
			g.Stopped = "" // where it leads is not ours, and no fault
		}
		if before != "" {
			g.Stopped, g.Inner = before, f.Inner
		}
		if r.Stopped != "" && r.Stopped != flow.Undecided && s.t.newBreaks(f.Part, r.Part) {
			if before == "" {
				c := g.Cell()
				c.Broken, c.Reason = "", ""
			}
			b := flow.Break{
				Code: "redirect.dead", At: place.Name, Subject: s.goal.Subject, Short: "leads nowhere",
				Why: fmt.Sprintf("The client is sent to %s, which ends: %s.", target, outcomeWords(r.Stopped)), Records: say.Lines(rec), Mend: s.t.mendsSince(f.Part, r.Part),
			}
			g.stopKeeping(b)
		}
		s.finish(g)
	}
}

// newBreaks says whether b has breaks that a, from which it went on, has not.
func (t *Engine) newBreaks(a, b flow.Part) bool {
	_, before := a.Collect()
	_, after := b.Collect()
	return len(after) > len(before)
}

// mendsSince joins the mends of the breaks that b has and a has not.
func (t *Engine) mendsSince(a, b flow.Part) *flow.Mend {
	_, before := a.Collect()
	_, after := b.Collect()
	return JoinMends(after[len(before):])
}

// JoinMends is all the lines that a run of breaks asks for, each once; nil where one has no mend.
func JoinMends(breaks []flow.Break) *flow.Mend {
	out := &flow.Mend{Remove: []string{}, Add: []string{}}
	for _, b := range breaks {
		if b.Mend.IsEmpty() {
			return nil
		}
		for _, l := range b.Mend.Remove {
			if !slices.Contains(out.Remove, l) {
				out.Remove = append(out.Remove, l)
			}
		}
		for _, l := range b.Mend.Add {
			if !slices.Contains(out.Add, l) {
				out.Add = append(out.Add, l)
			}
		}
	}
	if out.IsEmpty() {
		return nil
	}
	return out
}

func outcomeWords(o flow.Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }
