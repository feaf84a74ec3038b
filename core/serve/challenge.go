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
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Challenged is what came of a challenge that is to prove a name (RFC 8555 §8).
type Challenged struct {
	Works bool
	Only4 bool         // by IPv4 alone, after IPv6 connected to nobody
	Came  flow.Outcome // what came of it where it does not work, or of IPv6
	Break *flow.Break  // the first break of that, where there is one
	Cause string       // and the key of that
	Why   string       // a sentence, where it does not work
}

// WellKnown is where a challenge over http is asked for (RFC 8555 §8.3).
const WellKnown = "/.well-known/acme-challenge/token"

// challenge is what a request of an authority asks, to see a name proven.
type challenge struct {
	through string   // the service that answers it, wherever on the way it is met
	alone   []string // the places where a program of its own answers it while it asks
	tls     bool     // whoever ends the TLS has to be the one
}

// answeredBy says whether a service at a place answers it, ahead of its sites.
func (c *challenge) answeredBy(service, place string) bool {
	return service == c.through || slices.Contains(c.alone, place)
}

// strays says why a redirect keeps it from its answer; "" where it does not. It is followed to the ports 80 and 443 of names alone, and there
// is no answer at another path; a redirect that names a host alone is taken to keep the path.
func (c *challenge) strays(site *estate.Site, target, path string, port uint16) string {
	switch u := site.Redirect.URL; {
	case c.tls:
		return fmt.Sprintf("it is sent on to %s, and a handshake is not.", target)
	case site.Redirect.HTTPS:
		return ""
	case u.Addr.IsValid():
		return fmt.Sprintf("it is sent on to %s, and an authority follows to names alone.", target)
	case port != 80 && port != 443:
		return fmt.Sprintf("it is sent on to %s, and an authority follows to ports 80 and 443 alone.", target)
	case path != "/" && !strings.HasPrefix(path, "/.well-known/acme-challenge/"):
		return fmt.Sprintf("it is sent on to %s, and there is no answer at that path.", target)
	}
	return ""
}

// Challenge says whether a name of a certificate can be proven: whether anybody may issue for it at all (RFC 8659), and whether the challenge
// gets in from the internet, by the certificate's method: http-01 to
// port 80, redirects followed; tls-alpn-01 to port 443; dns-01 by the zone that the internet sees.
func (t *Engine) Challenge(cert *estate.Cert, name string, reads *memo.Reads) Challenged {
	if a := t.AuthorizedFor(name, reads); a.Nobody {
		b := flow.Break{Code: "cert.renewal", At: a.At, Records: say.Lines(a.Records...)}
		return Challenged{Came: flow.Denied, Break: &b, Cause: flow.RecordCause(b.Records[0]), Why: fmt.Sprintf("the CAA records of %s let nobody issue for it.", a.At)}
	}
	if cert.By == "dns-01" {
		return t.dnsChallenge(name, reads)
	}
	internet, err := t.VantageNamed("internet")
	if err != nil {
		return Challenged{Why: "nobody is on the internet."}
	}
	q := Request{Name: name, Handshake: name, Port: 80, Speech: SpeaksPlain, Path: WellKnown, PathGiven: true, Client: true, challenge: &challenge{through: cert.Through}}
	if cert.Alone {
		q.challenge.alone = cert.On
	}
	if cert.By == "tls-alpn-01" {
		q.Port, q.Speech, q.challenge.tls = 443, SpeaksTLS, true
	}
	var addr netip.Addr
	if a, err := netip.ParseAddr(name); err == nil {
		addr, q.Name, q.Handshake = a, "", ""
	}
	reads.Asked(name)
	if cert.Through != "" {
		reads.Service(cert.Through)
	}
	var meant *model.Place
	for _, on := range cert.On {
		if p := t.Model.PlaceNamed(on); p != nil {
			reads.Place(p.ID)
			meant = cmp.Or(meant, p)
		}
	}
	if cert.Through != "" {
		meant = cmp.Or(t.serviceAt(cert.Through, q.Port), meant)
	}
	var ends []Served
	for _, o := range internet.Origins {
		ends = append(ends, t.Ask(Question{Origin: o, Vantage: &internet, Request: q, Addr: addr, Meant: meant, Transport: netset.TCP, Base: flow.Part{Reads: reads}})...)
	}
	six, four := byFamily(ends)
	if len(six) == 0 {
		return t.judged(four, cert)
	}
	first := t.judged(six, cert)
	if first.Works || len(four) == 0 || !nobodyThere(first.Came) {
		return first
	}
	if again := t.judged(four, cert); again.Works {
		first.Works, first.Only4 = true, true
	}
	return first
}

// byFamily parts what was asked of IPv6 addresses from the rest.
func byFamily(ends []Served) (six, four []Served) {
	for _, f := range ends {
		if f.AskedIPv6 {
			six = append(six, f)
		} else {
			four = append(four, f)
		}
	}
	return six, four
}

// nobodyThere says whether a connection that came to this is made once more by IPv4, where it was made by IPv6.
func nobodyThere(o flow.Outcome) bool {
	return o == flow.Silent || o == flow.Refused || o == flow.Unroutable
}

// tried are the branches of a challenge that count: of IPv6, or of IPv4 where IPv6 connects to nobody.
func tried(ends []Served) []Served {
	six, four := byFamily(ends)
	if len(six) == 0 || len(four) > 0 && slices.ContainsFunc(six, func(f Served) bool { return nobodyThere(f.Stopped) }) {
		return four
	}
	return six
}

// judged is what came of a challenge at all addresses of a family: each of them must do.
func (t *Engine) judged(ends []Served, cert *estate.Cert) Challenged {
	if len(ends) == 0 {
		return Challenged{Came: flow.Unresolved, Why: "the name has no address."}
	}
	for i := range ends {
		f := &ends[i]
		if t.answers(f, cert) {
			continue
		}
		out := Challenged{Came: cmp.Or(f.Stopped, flow.Unanswered)}
		steps, breaks := f.Collect()
		for n := range breaks {
			if !strings.HasPrefix(breaks[n].Code, "cert.") {
				out.Break, out.Cause = &breaks[n], flow.Cause(&breaks[n], steps, f.Transport.String())
				break
			}
		}
		switch {
		case f.strayed != "":
			out.Why = f.strayed
		case out.Break != nil && f.Stopped != "":
			out.Why = fmt.Sprintf("it ends %s. %s", outcomeWords(out.Came), out.Break.Why)
		case cert.Through != "":
			out.Why = fmt.Sprintf("it does not come to %s, which is to answer it.", cert.Through)
		default:
			out.Why = fmt.Sprintf("it ends at %s, which is not where the certificate lies.", cmp.Or(f.end, "nobody"))
		}
		return out
	}
	return Challenged{Works: true}
}

// answers says whether a challenge that ended so is answered.
func (t *Engine) answers(f *Served, cert *estate.Cert) bool {
	switch {
	case f.answered:
		return f.Stopped == ""
	case f.strayed != "":
		return false
	case cert.Through != "":
		return false
	case cert.Alone && f.Stopped == flow.Refused: // its program is not there but while it asks
		_, breaks := f.Collect()
		return len(breaks) > 0 && breaks[0].Code == "path.no-listener" && slices.Contains(cert.On, breaks[0].At)
	case cert.By == "tls-alpn-01":
		return f.Took != nil && slices.Contains(cert.On, t.Model.Places[f.Took.Place].Name)
	}
	return f.Stopped == "" || f.Took != nil
}

// dnsChallenge is a challenge by a record below the name: the zone that has it is to be there and public, aliases followed (RFC 8555 §8.4).
func (t *Engine) dnsChallenge(name string, reads *memo.Reads) Challenged {
	owner := "_acme-challenge." + strings.TrimPrefix(name, "*.")
	asker := t.Model.AskerAt(model.Nowhere, model.Internet)
	reads.Asked(owner)
	a := t.Model.Names.Ask(owner, "TXT", asker)
	last := owner
	if len(a.Chain) > 0 {
		last = a.Chain[len(a.Chain)-1]
		reads.Asked(a.Chain...)
	}
	if a.Code == names.Outside && last != owner && !t.Model.Names.Recorded(last) { // an alias leads to where somebody else proves it
		return Challenged{Works: true}
	}
	if t.Model.Names.ZoneOf(last, asker) == nil {
		return Challenged{Came: flow.Unresolved, Why: fmt.Sprintf("no zone that the internet sees has %s.", last)}
	}
	return Challenged{Works: true}
}

// Provable says whether a method can prove a name at all (RFC 8555 §8.3, RFC 8738 §7): a wildcard by dns-01 alone, an address never by it.
func Provable(method, name string) bool {
	_, err := netip.ParseAddr(name)
	switch {
	case strings.HasPrefix(name, "*."):
		return method == "dns-01"
	case err == nil:
		return method != "dns-01"
	}
	return true
}
