package findings

import (
	"fmt"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// cleartext finds what comes encrypted to a front and leaves its machine in the clear. What goes through a tunnel is the tunnel's to keep.
func (c *visiting) cleartext(target, from string, p *trace.Path) {
	for _, f := range p.Fronts() {
		scheme := f.Site.To.Scheme
		if f.Site.Pool != "" {
			scheme = f.Site.Speaking
		}
		if !f.TLS || scheme == "https" || scheme == "tls" || f.Site.Through != "" || f.To == "" || hostOf(f.Place) == hostOf(f.To) {
			continue
		}
		c.add(Finding{
			Code: "upstream.cleartext", Subject: target, Records: lines(f.Site), Trace: &Where{target, from}, keys: []string{flow.RecordCause(estate.Line(f.Site))},
			Why: fmt.Sprintf("It comes encrypted to %s, which hands it on in the clear to %s: whoever is on the way there can read it.", f.Place, f.To),
		})
	}
}

func hostOf(place string) string {
	host, _, _ := strings.Cut(place, "/")
	return host
}

// redirectMissing finds a name that port 80 serves in the clear as 443 does under TLS, in place of sending there.
func (c *visiting) redirectMissing(target trace.Target, key flow.PortKey, v flow.Vantage, plain []trace.Path) {
	if key != (flow.PortKey{Port: 80, Transport: netset.TCP}) || !hasRoot(plain) {
		return
	}
	secure := c.t.TraceReading(target, flow.PortKey{Port: 443, Transport: netset.TCP}, v, &c.reads)
	for i := range plain {
		for j := range secure {
			if a, b := &plain[i], &secure[j]; serves(a) && serves(b) && *a.Service == *b.Service && sameAnswer(a.Site(), b.Site()) {
				c.add(Finding{
					Code: "redirect.missing", Subject: target.Name + ":80", Records: taken(a), Trace: &Where{target.Name + ":80", v.Word}, Mend: redirecting(a.Site()),
					Why: fmt.Sprintf("Port 80 serves %s in the clear, as 443 does under TLS: who comes by http stays there.", target.Name),
				})
				return
			}
		}
	}
}

// taken are the records of the site that took a path first, or of its listener, where that has none.
func taken(p *trace.Path) []string {
	if site := p.Site(); site != nil {
		return lines(site)
	}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Stage == flow.StageSocket {
			return s.Records
		}
	}
	return nil
}

// redirecting sends the visitors of a site to 443; nil where the site is not for port 80 alone.
func redirecting(site *estate.Site) *flow.Mend {
	if site == nil || site.At.Count() != 1 || !site.At.Set().Contains(80) {
		return nil
	}
	return flow.Replace(site, func(s *estate.Site) {
		s.To, s.Pool, s.Files, s.Redirect = estate.URL{}, "", estate.Files{}, estate.Redirect{HTTPS: true}
		s.Speaking, s.Asking, s.Verified, s.Through, s.Guard = "", "", false, "", estate.Guard{}
	})
}

// hasRoot says whether what is asked for without a path arrives by some way.
func hasRoot(paths []trace.Path) bool {
	for i := range paths {
		if serves(&paths[i]) {
			return true
		}
	}
	return false
}

// serves says whether a path is of what a browser asks for first, and gets it.
func serves(p *trace.Path) bool {
	return p.Outcome == flow.Arrives && p.URLPath == "/" && p.Service != nil
}

// sameAnswer says whether two sites answer the same; so do listeners of one service that has none.
func sameAnswer(a, b *estate.Site) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Files == b.Files && a.Pool == b.Pool && a.To == b.To
}
