package look

import (
	"cmp"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"steady-compass/core/codes"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// Codes of what is seen otherwise than recorded.
const (
	SeenAnswer      = "seen.answer"
	SeenShut        = "seen.shut"
	SeenOpen        = "seen.open"
	SeenCertificate = "seen.certificate"
	SeenRedirect    = "seen.redirect"
	SeenStatus      = "seen.status"
	SeenSite        = "seen.site"
	SeenNever       = "seen.never"
	SeenOld         = "seen.old"
)

// verdict is how a look stands to one way that the records know.
type verdict struct {
	agrees Agreement
	code   string // of the finding, where they differ
	says   string // both values
	level  codes.Level
}

var agreed = verdict{agrees: Agrees}

func differs(code, format string, args ...any) verdict {
	c, _ := codes.Of(code)
	return verdict{Differs, code, fmt.Sprintf(format, args...), c.Level}
}

// but is a verdict that matters otherwise than its code does as a rule.
func (v verdict) but(level codes.Level) verdict {
	v.level = level
	return v
}

// Judge holds a look against what the records say is seen from its vantage, and notes in it what was predicted and whether that is so. Of
// several branches it agrees with the records where one has what was seen. It says nothing of what was not looked at, or is not recorded.
func Judge(t *trace.Tracer, l *Look) { (&bench{t: t}).judge(l) }

// JudgeReading is Judge, and adds to reads what that came by.
func JudgeReading(t *trace.Tracer, l *Look, reads *memo.Reads) { (&bench{t: t, reads: reads}).judge(l) }

// bench is where looks are judged by one estate; what was followed for one look is there for the next at the same target.
type bench struct {
	t     *trace.Tracer
	reads *memo.Reads
	ways  map[choice][]trace.Path
	hangs string // the line of a listener that takes connections and never answers; "" for none
}

func (b *bench) judge(l *Look) {
	*l = l.Unjudged()
	l.Agrees = CannotTell
	v, err := b.t.VantageNamed(l.From)
	if err != nil || l.Came == NotLooked {
		return
	}
	if l.Did == Resolve {
		judgeAnswer(b.t, v, l, b.reads)
		return
	}
	var best *verdict
	for _, p := range b.follow(l.Target, v) {
		if a, err := netip.ParseAddr(l.Address); err != nil || p.Addr() != a && (l.Follows == "" || !b.changes(p.Addr())) {
			continue
		}
		said := judgeWay(b.t, l, &p)
		if at := b.hangsAt(&p); at >= 0 && slices.Contains(taken, p.Outcome) {
			said = judgeHanging(l, &p, at, said)
		}
		if best == nil || rank(said.agrees) < rank(best.agrees) {
			best = &said
			l.Predicted = p.Outcome
		}
	}
	if best != nil {
		l.Agrees, l.Says, l.Finding, l.Level = best.agrees, best.says, best.code, best.level
	}
}

// hangsAt is the step of a way at which a program takes it that hangs; -1 for none.
func (b *bench) hangsAt(p *trace.Path) int {
	if b.hangs == "" {
		return -1
	}
	return slices.IndexFunc(p.Steps, func(s flow.Step) bool { return slices.Contains(s.Records, b.hangs) })
}

// judgeHanging holds a look against a way on which a program hangs, where said is how it stands if none does: whoever speaks with that program
// connects, and hears nothing; who asks a front before it is told that it waited in vain.
func judgeHanging(l *Look, p *trace.Path, at int, said verdict) verdict {
	behind := slices.ContainsFunc(p.Steps[:at], func(s flow.Step) bool { return s.Stage == flow.StageUpstream })
	switch {
	case l.Did == Connect, behind && l.Did == TLS:
		return said
	case !behind && l.Came == Failed, behind && l.Status == http.StatusGatewayTimeout:
		return agreed
	case behind && (l.Status == http.StatusBadGateway || l.Status == http.StatusServiceUnavailable):
		return verdict{agrees: CannotTell} // not every front says which it was
	}
	return differs(SeenStatus, "a program hangs, and it was answered")
}

// changes says whether an address is recorded as one that changes by itself: what is looked at is the one that its name gave then.
func (b *bench) changes(a netip.Addr) bool {
	return slices.ContainsFunc(b.t.Model.Owners(a), func(h model.Holding) bool {
		line, ok := h.Record.(*estate.Address)
		return ok && line.Dynamic
	})
}

// follow are the ways of a target from a vantage; none where it cannot be read.
func (b *bench) follow(target string, v flow.Vantage) []trace.Path {
	key := choice{target, v.Word}
	if ways, known := b.ways[key]; known {
		return ways
	}
	tg, err := b.t.ParseTarget(target)
	if err != nil {
		return nil
	}
	if tg.Addr.IsValid() { // whoever looks at a bare address does not ask it for a certificate of that address
		tg.Says = serve.SpeaksByPort
	}
	ports := []flow.PortKey{{Port: tg.Port, Transport: tg.Proto}}
	if tg.Port == 0 {
		ports, _ = b.t.PortsReading(cmp.Or(tg.Name, tg.Text), &v, b.reads)
	}
	var out []trace.Path
	for _, port := range ports {
		out = append(out, b.t.TraceReading(tg, port, v, b.reads)...)
	}
	if b.ways == nil {
		b.ways = map[choice][]trace.Path{}
	}
	b.ways[key] = out
	return out
}

// rank orders agreements, the one that counts first: what one branch has is as recorded, and what one leaves open is not otherwise.
func rank(a Agreement) int { return slices.Index([]Agreement{Agrees, CannotTell, Differs}, a) }

// taken are the outcomes of a flow that a listener takes.
var taken = []flow.Outcome{flow.Arrives, flow.Redirects, flow.Denied, flow.Unanswered, flow.Mismatched, flow.Untrusted, flow.GatewayError, flow.Loop}

// judgeWay holds a look against one way.
func judgeWay(t *trace.Tracer, l *Look, p *trace.Path) verdict {
	if p.Outcome == flow.Outside || p.Outcome == flow.Undecided || p.Outcome == flow.Unresolved {
		return verdict{agrees: CannotTell}
	}
	switch l.Did {
	case Connect:
		return judgeConnection(l, p)
	case TLS:
		return judgeHandshake(t, l, p)
	case HTTP:
		return judgePage(l, p)
	}
	return verdict{agrees: CannotTell}
}

var cameWords = map[Came]string{
	Arrived: "it connected", Cut: "it connected and was cut off", Refused: "it was refused", NoRoute: "there was no route", Silent: "nothing came back",
}

func judgeConnection(l *Look, p *trace.Path) verdict {
	came := l.Came
	said := fmt.Sprintf("recorded: %s; seen: %s", outcomeWords(p.Outcome), cameWords[came])
	if l.Detail != "" {
		said += " (" + l.Detail + ")"
	}
	switch {
	case p.Transport == "udp" && came == Silent:
		return verdict{agrees: CannotTell} // over udp silence says nothing
	case slices.Contains(taken, p.Outcome):
		if came == Arrived || came == Cut && p.Site() == nil {
			return agreed
		}
		return differs(SeenShut, "%s", said)
	case came == Arrived:
		return differs(SeenOpen, "%s", said)
	case p.Outcome == flow.Refused:
		if came == Refused || came == Cut || came == NoRoute && l.Seconds < 1 {
			return agreed
		}
		return differs(SeenShut, "%s", said).but(codes.Note) // nobody was to get in, and nobody did
	case p.Outcome == flow.Silent || p.Outcome == flow.LostReply || p.Outcome == flow.Unroutable:
		if came == Silent || came == NoRoute {
			return agreed
		}
		return differs(SeenShut, "%s: it got as far as a machine", said).but(codes.Note)
	}
	return verdict{agrees: CannotTell}
}

func judgeHandshake(t *trace.Tracer, l *Look, p *trace.Path) verdict {
	if !slices.Contains(taken, p.Outcome) {
		return verdict{agrees: CannotTell} // that it connected at all is said of the connection
	}
	wrong := certificateFault(l)
	switch {
	case l.Came != Arrived:
		if p.Outcome == flow.Mismatched || p.Outcome == flow.Unanswered {
			return agreed
		}
		return differs(SeenCertificate, "recorded: a certificate is shown; seen: the handshake failed (%s)", cmp.Or(l.Detail, string(l.Came)))
	case p.Outcome == flow.Mismatched:
		return differs(SeenOpen, "recorded: it speaks in the clear; seen: it speaks TLS")
	case p.Outcome == flow.Untrusted:
		if wrong != "" {
			return agreed
		}
		return differs(SeenCertificate, "recorded: no certificate that is good for it; seen: one for %s, good until %s", strings.Join(l.Names, ", "), l.Expires)
	case wrong != "":
		return differs(SeenCertificate, "recorded: a certificate that is good for it; seen: %s", wrong)
	}
	c := certificateOf(t, p)
	switch {
	case c == nil || l.Expires == "" || c.Expires == "":
		return agreed
	case l.Expires < string(c.Expires):
		return differs(SeenCertificate, "recorded: %s, good until %s; seen: one until %s, as before its renewal", c.Name, c.Expires, l.Expires).but(codes.Warning)
	case l.Expires > string(c.Expires):
		return differs(SeenCertificate, "recorded: %s, good until %s; seen: one until %s, so it was renewed", c.Name, c.Expires, l.Expires).but(codes.Note)
	}
	return agreed
}

// certificateFault is why a certificate that was seen is not good for what was asked; "" where it is, or where that was not judged.
func certificateFault(l *Look) string {
	day := l.At.UTC().Format("2006-01-02")
	switch {
	case l.Covers != nil && !*l.Covers:
		return fmt.Sprintf("it is for %s", cmp.Or(strings.Join(l.Names, ", "), "nobody"))
	case l.Expires != "" && l.Expires < day:
		return "it has run out on " + l.Expires
	case l.Begins != "" && l.Begins > day:
		return "it is not valid before " + l.Begins
	case l.Trusted != nil && !*l.Trusted:
		return fmt.Sprintf("its issuer, %s, is not trusted there", cmp.Or(l.Issuer, "nobody"))
	}
	return ""
}

// certificateOf is the recorded certificate that a way is shown; nil where none is.
func certificateOf(t *trace.Tracer, p *trace.Path) *estate.Cert {
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Stage != flow.StageTLS {
			continue
		}
		for _, c := range t.Model.CertList {
			if slices.Contains(s.Records, estate.Line(c)) {
				return c
			}
		}
	}
	return nil
}

func judgePage(l *Look, p *trace.Path) verdict {
	gateway := l.Status == 502 || l.Status == 503 || l.Status == 504
	redirected := slices.Contains([]int{301, 302, 303, 307, 308}, l.Status)
	answered := l.Came == Arrived
	seen := fmt.Sprintf("seen: %d", l.Status)
	switch {
	case !answered:
		seen = "seen: no answer to the request"
		if l.Detail != "" {
			seen += " (" + l.Detail + ")"
		}
	case redirected:
		seen += ", to " + cmp.Or(l.Location, "nowhere")
	}
	switch p.Outcome {
	case flow.Arrives, flow.Redirects:
		site := p.Site()
		switch {
		case !answered || gateway || l.Status == 421:
			return differs(SeenStatus, "recorded: it is answered; %s", seen)
		case l.Marked != nil && !*l.Marked:
			return differs(SeenSite, "recorded: the page with its mark; seen: %d, without it", l.Status)
		case site != nil && !site.Redirect.IsZero():
			want := placeOf(p, site, l)
			switch {
			case !redirected:
				return differs(SeenStatus, "recorded: sent to %s; %s", want, seen)
			case !samePlace(want, l.Location, l.Target):
				return differs(SeenRedirect, "recorded: sent to %s; %s", want, seen)
			}
			return agreed
		case p.Guarded():
			if l.Status == 401 || l.Status == 403 || redirected {
				return agreed
			}
			return differs(SeenSite, "recorded: visitors sign in first; %s", seen)
		case l.Marked == nil && (l.Status == 400 || l.Status == 404):
			return verdict{agrees: CannotTell} // of the application, or since there is no such site
		}
		return agreed
	case flow.GatewayError:
		if gateway {
			return agreed
		}
		return differs(SeenStatus, "recorded: a gateway error; %s", seen)
	case flow.Unanswered:
		if !answered || slices.Contains([]int{400, 404, 421}, l.Status) {
			return agreed
		}
		return differs(SeenSite, "recorded: no site answers to it; %s", seen)
	case flow.Denied:
		if !answered || slices.Contains([]int{401, 403, 404}, l.Status) {
			return agreed
		}
		return differs(SeenOpen, "recorded: whoever asks from here is denied; %s", seen)
	case flow.Mismatched:
		if !answered || l.Status == 400 {
			return agreed
		}
		return differs(SeenOpen, "recorded: it is spoken to in another way than it speaks; %s", seen)
	}
	return verdict{agrees: CannotTell}
}

// placeOf is where a site sends who asks.
func placeOf(p *trace.Path, site *estate.Site, l *Look) string {
	if !site.Redirect.HTTPS {
		return site.Redirect.URL.String()
	}
	u, err := url.Parse(l.Target)
	if err != nil {
		return "https://" + p.Address + p.URLPath
	}
	return "https://" + u.Hostname() + cmp.Or(u.Path, "/")
}

// samePlace says whether two URLs are one place: scheme, host, port and path (RFC 3986 §6.2.2, §6.2.3). One that is relative is so to what was
// asked for.
func samePlace(want, got, asked string) bool {
	base, err := url.Parse(asked)
	if err != nil {
		return false
	}
	a, err := base.Parse(want)
	if err != nil {
		return false
	}
	b, err := base.Parse(got)
	return err == nil && a.Scheme == b.Scheme && strings.EqualFold(a.Hostname(), b.Hostname()) && portOf(a) == portOf(b) && cmp.Or(a.Path, "/") == cmp.Or(b.Path, "/")
}

func portOf(u *url.URL) string {
	return cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
}

// nat64 is the network's own way to give an IPv4 address to whoever has IPv6 alone (RFC 6052 §2.1).
var nat64 = netip.MustParsePrefix("64:ff9b::/96")

// judgeAnswer holds what a name answered against its records.
func judgeAnswer(t *trace.Tracer, v flow.Vantage, l *Look, reads *memo.Reads) {
	name, typ, ok := strings.Cut(l.Target, " ")
	if !ok {
		return
	}
	a := t.Answer(name, typ, v)
	reads.Asked(name)
	reads.Asked(a.Chain...)
	for _, o := range v.Origins {
		if o.Place != model.Nowhere {
			reads.Place(o.Place)
		}
	}
	switch {
	case a.Code == names.Outside || l.Came != Answered || l.Code != "NOERROR" && l.Code != "NXDOMAIN":
		return // a resolver's failure or silence says nothing of the name
	case slices.ContainsFunc(a.Addresses, func(x names.Address) bool { return x.Unknown }):
		return
	}
	changes := slices.ContainsFunc(a.Links, func(x names.Link) bool {
		d, ok := x.Record.(*estate.DNS)
		return ok && d.Dynamic != ""
	})
	want := slices.Sorted(slices.Values(a.Values))
	got := slices.DeleteFunc(slices.Sorted(slices.Values(l.Answers)), func(text string) bool {
		made, err := netip.ParseAddr(text)
		return err == nil && nat64.Contains(made) && len(want) == 0
	})
	if slices.Equal(slices.Compact(want), slices.Compact(got)) && (len(got) > 0 || a.Code.String() == l.Code) {
		l.Agrees = Agrees
		return
	}
	if changes && len(got) > 0 {
		return // it follows an address that changes by itself
	}
	l.Agrees, l.Finding, l.Level = Differs, SeenAnswer, codes.Error
	l.Says = fmt.Sprintf("recorded: %s; seen: %s", answerWords(a.Code.String(), typ, want), answerWords(l.Code, typ, got))
}

func answerWords(code, typ string, values []string) string {
	switch {
	case len(values) > 0:
		return strings.Join(values, ", ")
	case code == "NXDOMAIN":
		return "no such name"
	case code == names.Outside.String():
		return "not recorded here"
	}
	return "no " + typ
}

func outcomeWords(o flow.Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }
