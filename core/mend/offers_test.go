package mend

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/findings"
	"steady-compass/core/flow"
)

// TestOffers are mistakes of one word: among what is offered is the line as it was.
func TestOffers(t *testing.T) {
	for _, c := range []struct {
		name, from, to string // a line of the sound estate, and as it was miswritten
		code, subject  string
	}{
		{"an address of another machine", "forward gate 443 to 10.0.0.20", "forward gate 443 to 10.0.0.21", "intent.unmet", "www.harbour.example:443"},
		{"the other transport", "rule edge pass 443 from internet to quay", "rule edge pass 443/udp from internet to quay", "intent.unmet", "www.harbour.example:443"},
		{"a port", "rule edge pass 443 from internet to quay", "rule edge pass 4443 from internet to quay", "intent.unmet", "www.harbour.example:443"},
		{"a machine", "site front www.harbour.example to http://shed:8080", "site front www.harbour.example to http://sheds:8080", "intent.unmet", "www.harbour.example:443"},
		{"a name", "site front www.harbour.example to http://shed:8080", "site front wwv.harbour.example to http://shed:8080", "intent.unmet", "www.harbour.example:443"},
		{"a line that is off", "rule edge pass 443 from internet to quay", "rule edge pass 443 from internet to quay off", "intent.unmet", "www.harbour.example:443"},
		{"the port of a forward", "forward gate 443 to 10.0.0.20", "forward gate 4443 to 10.0.0.20", "intent.unmet", "www.harbour.example:443"},
		{"the port of a listener", "listen shed 8080 as store", "listen shed 808 as store", "intent.unmet", "www.harbour.example:443"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if !strings.Contains(harbour, c.from+"\n") {
				t.Fatalf("no line %s", c.from)
			}
			s := looked(t, strings.Replace(harbour, c.from+"\n", c.to+"\n", 1))
			i := slices.IndexFunc(s.Checked.Findings, func(f *findings.Finding) bool {
				return f.Code == c.code && (c.subject == "" || f.Subject == c.subject)
			})
			if i < 0 {
				t.Fatalf("no %s of %s", c.code, c.subject)
			}
			f := s.Checked.Findings[i]
			offers, _, err := s.Offers(t.Context(), For(f), s.Deciding(f))
			if err != nil {
				t.Fatal(err)
			}
			undoes := func(m *flow.Mend) bool { return slices.Contains(m.Remove, c.to) && slices.Contains(m.Add, c.from) }
			if !slices.ContainsFunc(offers, func(o Trial) bool { return undoes(o.Mend) || slices.ContainsFunc(o.With, undoes) }) {
				for _, o := range offers {
					t.Log(o.Mend.Remove, o.Mend.Add, len(o.Ends))
				}
				t.Errorf("%s is not among them; the finding: %s %v", c.from, f.Why, f.Records)
			}
			for _, o := range offers {
				if !o.Holds() {
					t.Errorf("%v is offered, and does not hold: %v", o.Mend, o.Against)
				}
			}
		})
	}
}

const harbour = `network lan 10.0.0.0/24
host gate router
host quay
host shed
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address quay 10.0.0.20 lan
address shed 10.0.0.30 lan
zone harbour.example
dns www.harbour.example A 203.0.113.1
forward gate 443 to 10.0.0.20
filter edge on gate through otherwise drop
rule edge pass 443 from internet to quay
filter inner on shed input otherwise drop
rule inner pass 8080 from quay
listen quay 443 as front tls cert c
listen shed 8080 as store
cert c for www.harbour.example expires 2027-06-01 on quay
site front www.harbour.example to http://shed:8080
intend www.harbour.example 443 for internet reaching shed
`
