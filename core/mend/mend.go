// Package mend holds proposals to the standard of verdicts: a mend is tried in the engine, on an estate that it is made on for
// the trial alone, and is offered only where it holds. What it holds by is said at Trial.
package mend

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

// State is an estate that is looked over: a trial begins at one and ends at another.
type State struct {
	Tracer  *trace.Tracer
	Checked *findings.Checked
}

// Proposal is a mend, and what it is for.
type Proposal struct {
	Mend          *flow.Mend
	Code, Subject string          // of a finding; "" where it is for none
	At            *findings.Where // the way that it is to clear; nil for none
}

// For is the proposal that a finding comes with.
func For(f *findings.Finding) Proposal {
	p := Proposal{Mend: f.Mend, Code: f.Code, Subject: f.Subject}
	if findings.OfPath(f.Code) {
		p.At = f.Trace
	}
	return p
}

// Trial is what making a mend comes to. It holds where nothing speaks against it:
//
//  1. its finding ends, and where that is of a path, the path gets to where it is meant, with the mends of the breaks that
//     follow on it made too;
//  2. whatever got where it is meant still does, branch by branch and in the speech that it had, and no machine loses its last
//     way to be administered;
//  3. nothing opens that no intent covers, but what is entailed: what stands open at the very listener that the mend writes
//     down, since nothing before it was ever recorded to stop anybody;
//  4. no error and no warning of another kind comes of it.
type Trial struct {
	Mend    *flow.Mend
	With    []*flow.Mend // the mends of what follows on the path that it was tried with
	Against []string     // sentences
	Opens   []string     // what is entailed, in sentences
	Ends    []*findings.Finding
	Brings  []*findings.Finding
}

// Holds says whether the mend may be offered.
func (t *Trial) Holds() bool { return len(t.Against) == 0 }

// mostFollowing is how many breaks are mended behind the one in question.
const mostFollowing = 8

// Try makes a mend, and sees what comes of it. Its error is the context's, or says why the mend cannot be made.
func (s State) Try(ctx context.Context, p Proposal) (Trial, error) {
	out := Trial{Mend: p.Mend}
	e, err := made(s.Tracer.Model.Estate, p.Mend)
	if err != nil {
		return out, err
	}
	if p.At != nil {
		if e, err = s.follow(e, p, &out); err != nil {
			return out, err
		}
	}
	after := State{Tracer: s.Tracer.After(Issued(e, s.Tracer.Model.Estate))}
	if after.Checked, err = s.Checked.After(ctx, after.Tracer); err != nil {
		return out, err
	}
	out.Ends, out.Brings = findings.Ended(s.Checked.Report, after.Checked.Report), findings.Ended(after.Checked.Report, s.Checked.Report)
	if findings.OfLook(p.Code) { // it records what is so already, whatever follows from that
		return out, nil
	}
	if after.Checked.Has(p.Code, p.Subject) {
		out.against("It does not end what it is for.")
	}
	for _, l := range findings.Lost(s.Checked.Walked(), after.Checked.Walked()) {
		if name, _, _ := strings.Cut(l.Target, ":"); slipped(s.Tracer.Model.Estate, after.Tracer.Model.Estate, name) {
			continue
		}
		out.against("%s works from %s, and would end %s.", l.Target, l.From, words(l.Now))
	}
	wider, err := s.doors(after, &out)
	if err != nil {
		return out, err
	}
	for _, b := range out.Brings {
		if !comes(b, p, wider) && !out.entails(b) {
			out.against("It would bring: %s", b.Why)
		}
	}
	return out, nil
}

// Declaring is a proposal together with the line that declares what it opens: that the way it clears is meant for whoever goes by
// it. false where the proposal is for no way.
func (s State) Declaring(p Proposal) (Proposal, bool) {
	if p.At == nil {
		return p, false
	}
	target, err := s.Tracer.ParseTarget(p.At.Target)
	if err != nil || target.Port == 0 {
		return p, false
	}
	word := target.Name
	switch {
	case target.Addr.IsValid():
		word = target.Addr.String()
	case target.Place != nil:
		word = target.Place.Name
	}
	ports := estate.Ports{Ranges: []netset.PortRange{netset.OnePort(target.Port)}, Transport: target.Proto}
	line, _, err := notation.ParseLine(fmt.Sprintf("intend %s %s for %s", word, ports, p.At.From))
	if err != nil || line.Record == nil {
		return p, false
	}
	p.Mend = &flow.Mend{Remove: p.Mend.Remove, Add: append(slices.Clone(p.Mend.Add), estate.Line(line.Record))}
	return p, true
}

func (t *Trial) against(form string, words ...any) {
	if text := fmt.Sprintf(form, words...); !slices.Contains(t.Against, text) {
		t.Against = append(t.Against, text)
	}
}

// follow makes the mends of the breaks that are left on a way, one after the other, until it gets through. What the proposal
// itself is for has to have ended by then, and what it writes down has to stand.
func (s State) follow(e *estate.Estate, p Proposal, out *Trial) (*estate.Estate, error) {
	now := s.Tracer.Model.Estate
	was, err := s.left(now, p.At)
	if err != nil {
		return e, err
	}
	written := slices.Clone(p.Mend.Add)
	for n := range mostFollowing + 1 {
		left, err := s.left(Issued(e, now), p.At)
		if err != nil || len(left.breaks) == 0 {
			return e, err
		}
		if n == 0 && left.of(p) > 0 && left.of(p) >= was.of(p) {
			out.against("It does not end what it is for.")
		}
		i := slices.IndexFunc(left.breaks, func(b flow.Break) bool { return !b.Mend.IsEmpty() })
		if i < 0 || n == mostFollowing {
			out.against("%s from %s would still end %s: %s", p.At.Target, p.At.From, words(left.verdict), left.breaks[0].Why)
			return e, nil
		}
		m := left.breaks[i].Mend
		if slices.ContainsFunc(m.Remove, func(line string) bool { return slices.Contains(written, line) }) {
			out.against("What it writes down has to be mended in its turn: %s", left.breaks[i].Why)
			return e, nil
		}
		if e, err = attempt(e, m); err != nil {
			return e, err
		}
		out.With, written = append(out.With, m), append(written, m.Add...)
	}
	return e, nil
}

// left is what stops a way in an estate.
type left struct {
	at      *findings.Where
	verdict flow.Outcome
	breaks  []flow.Break
}

func (s State) left(e *estate.Estate, at *findings.Where) (left, error) {
	t := s.Tracer
	if e != t.Model.Estate {
		t = t.After(e)
	}
	out := left{at: at}
	target, err := t.ParseTarget(at.Target)
	if err != nil {
		return out, nil // the name went with the mend
	}
	from, err := t.VantageNamed(at.From)
	if err != nil {
		return out, err
	}
	if slipped(s.Tracer.Model.Estate, e, target.Name) {
		return out, nil
	}
	r := t.Trace(target, from)
	out.verdict, out.breaks = r.Verdict, breaks(r.Paths)
	return out, nil
}

// slipped says whether a name went with a mend, as a slip that is put right does: it had records, and has none.
func slipped(before, after *estate.Estate, name string) bool {
	return strings.Contains(name, ".") && owns(before, name) && !owns(after, name)
}

// owns says whether a name has records.
func owns(e *estate.Estate, name string) bool {
	return slices.ContainsFunc(e.Of(estate.KindNamed("dns")), func(r estate.Record) bool { return !r.Meta().Off && r.(*estate.DNS).Owner == name })
}

// of is how many breaks are what a proposal is for.
func (l left) of(p Proposal) int {
	said := map[string]bool{}
	for _, b := range l.breaks {
		if b.Code == p.Code && (b.Subject == p.Subject || b.Subject == "" && l.at.Target == p.Subject) {
			said[b.At+b.Why] = true
		}
	}
	return len(said)
}

// breaks are those of the paths that do not get through.
func breaks(paths []trace.Path) []flow.Break {
	var out []flow.Break
	for i := range paths {
		if p := &paths[i]; !p.Outcome.Good() {
			out = append(out, p.Breaks...)
		}
	}
	return out
}

func words(o flow.Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }

// made is an estate with a mend made.
func made(e *estate.Estate, m *flow.Mend) (*estate.Estate, error) {
	if m.IsEmpty() {
		return nil, fmt.Errorf("no mend is known")
	}
	return attempt(e, m)
}

func attempt(e *estate.Estate, m *flow.Mend) (*estate.Estate, error) {
	located, _, faults := notation.ParseLines(strings.Join(m.Add, "\n"))
	if len(faults) > 0 {
		return nil, fmt.Errorf("%s", faults[0].Error())
	}
	change := estate.Change{Remove: m.Remove}
	for _, l := range located {
		change.Add = append(change.Add, l.Placed)
	}
	return e.Apply(change)
}

// far is a day that no trial gets to.
const far = estate.Date("9999-12-31")

// Issued is an estate in which the certificates that it wants, and another did not, are there: in a trial they count so. One that the other has
// by that name is not issued by being wanted.
func Issued(e, before *estate.Estate) *estate.Estate {
	gone, _ := estate.Changed(before, e, estate.KindNamed("cert"))
	old := map[string]bool{}
	for _, r := range gone {
		old[r.(*estate.Cert).Name] = true
	}
	return IssuedWhere(e, before, func(c *estate.Cert) bool { return !old[c.Name] })
}

// IssuedWhere is an estate in which those of the certificates that it wants, and another did not, are there that some ask for.
func IssuedWhere(e, before *estate.Estate, asked func(*estate.Cert) bool) *estate.Estate {
	gone, come := estate.Changed(before, e, estate.KindNamed("cert"))
	var c estate.Change
	for _, r := range come {
		cert := r.(*estate.Cert)
		stood := slices.ContainsFunc(gone, func(g estate.Record) bool { return estate.Line(g) == estate.Line(r) })
		if cert.Expires == "" && !cert.Off && !stood && asked(cert) {
			c.Remove = append(c.Remove, estate.Line(r))
			c.Add = append(c.Add, estate.Placed{Record: estate.With(cert, func(n *estate.Cert) { n.Expires = far })})
		}
	}
	if c.IsEmpty() {
		return e
	}
	if next, err := e.Apply(c); err == nil {
		return next
	}
	return e
}

// entails says whether a finding that a trial brings is of what it entails: of the very listener or site that it writes down.
func (t *Trial) entails(b *findings.Finding) bool {
	if family, _, _ := strings.Cut(b.Code, "."); family != "exposure" || len(t.Opens) == 0 {
		return false
	}
	return slices.ContainsFunc(append([]*flow.Mend{t.Mend}, t.With...), func(m *flow.Mend) bool {
		return slices.ContainsFunc(m.Add, func(line string) bool { return slices.Contains(b.Records, line) })
	})
}

// comes says whether a finding that a mend brings goes with it: a note; what is true of a pool or a hand-on as soon as somebody
// gets to it; what compares two things, where nothing got wider; and what is true of a backend as soon as its front works.
func comes(b *findings.Finding, of Proposal, wider bool) bool {
	family, _, _ := strings.Cut(b.Code, ".")
	switch {
	case b.Level == findings.Note, b.Code == "pool.one-network", b.Code == "upstream.cleartext":
		return true
	case b.Code == "exposure.family" || b.Code == "name.split" || family == "order":
		return !wider
	case b.Code == "exposure.bypass" || b.Code == "exposure.plaintext":
		return findings.OfPath(of.Code)
	}
	return false
}
