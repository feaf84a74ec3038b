package certs

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/notation"
	"steady-compass/core/survey"
)

const today = "2026-12-01"

const estateText = `network lan 10.0.0.0/24
host gate router
host box
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.5 lan
zone a.example
dns a.example A 203.0.113.1
dns www.a.example A 203.0.113.1
dns new.a.example A 203.0.113.1
dns late.a.example A 203.0.113.1
dns a.example CAA 0 issue "ca.example"
forward gate 443 to 10.0.0.5
listen box 443 as front tls
listen box 8443 as admin tls cert own
site front a.example at 443 files
site front www.a.example at 443 files cert www
site front new.a.example at 443 files
site front late.a.example at 443 files
cert main for a.example,*.lab.a.example expires 2026-12-20 on box by dns-01 renew 30d every 12h
cert www for www.a.example expires 2027-03-01 on box by http-01
cert own for 10.0.0.5 expires 2026-12-01 on box by hand
cert new for new.a.example on box by dns-01
cert late for late.a.example expires 2026-11-30 on box
cert mistaken for *.b.example expires 2027-03-01 on box by http-01
intend 10.0.0.5 8443 for lan
`

func TestOf(t *testing.T) {
	e, faults := notation.Parse(estateText)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	sheet, err := Of(t.Context(), survey.New(e, today))
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"main":     "due 19 days, by dns-01 from 2026-11-20 each 12h, 40 tries true; box:443 front; a.example:443",
		"www":      "valid 90 days, by http-01 from 2027-01-30 each 1d, 91 tries false www.a.example; box:443 front; www.a.example:443",
		"own":      "due 0 days, by hand from 2026-11-01 each 1d, 1 tries false; box:443 front,box:8443 admin; 10.0.0.5:8443",
		"new":      "wanted 0 days, by dns-01 from  each 1d, 0 tries true; box:443 front; ",
		"late":     "expired -1 days, by  from 2026-10-31 each 1d, 0 tries false; box:443 front; ",
		"mistaken": "valid 90 days, by http-01 from 2027-01-30 each 1d, 91 tries false *.b.example; box:443 front; ",
	}
	for _, c := range sheet.Certificates {
		r := c.Renewal
		got := fmt.Sprintf("%s %d days, by %s from %s each %s, %d tries %v", c.State, c.Days, r.By, r.Due, r.Every, r.Tries, r.Works)
		for _, p := range r.Names {
			if inside := strings.HasSuffix(p.Name, "a.example"); inside != slices.Equal(p.CAA, []string{`dns a.example CAA 0 issue "ca.example"`}) {
				t.Errorf("%s: who may issue for it: %q", p.Name, p.CAA)
			}
			if !p.Works {
				if got += " " + p.Name; p.Why == "" {
					t.Errorf("%s: it is not said why %s cannot be proven", c.Name, p.Name)
				}
			}
		}
		var shown, serves []string
		for _, l := range c.Shown {
			shown = append(shown, l.Place+":"+l.Ports+" "+l.Service)
		}
		for _, w := range c.Serves {
			serves = append(serves, w.Target)
		}
		if got += "; " + strings.Join(shown, ",") + "; " + strings.Join(serves, ","); got != want[c.Name] {
			t.Errorf("%s\ngot  %s\nwant %s", c.Name, got, want[c.Name])
		}
	}
	var without []string
	for _, w := range sheet.Untrusted {
		without = append(without, w.Target)
	}
	slices.Sort(without)
	if got := strings.Join(without, " "); got != "late.a.example:443 new.a.example:443" {
		t.Errorf("untrusted: %s", got)
	}
	if len(sheet.Certificates) != len(want) {
		t.Errorf("%d certificates", len(sheet.Certificates))
	}
}
