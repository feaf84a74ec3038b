package findings

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
)

// TestCausesOfTheDemo lists the demo's causes by what is nearest to each, with how many findings end with it: the faults that
// were planted in it.
func TestCausesOfTheDemo(t *testing.T) {
	text, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	report := check1(edited(t, string(text), ""))
	causes, of := report.Causes()
	var got []string
	for _, c := range causes {
		f := report.Findings[c.Head]
		got = append(got, fmt.Sprint(c.Ends, " ", f.Code, " ", f.Subject))
	}
	want := []string{
		`6 exposure.bypass azimuth:9000/tcp`,
		`6 site.none visit.fernmoor.example:443`,
		`4 exposure.admin azimuth:5432/tcp`,
		`4 exposure.bypass azimuth:7001/tcp`,
		`4 exposure.bypass azimuth:8080/tcp`,
		`4 exposure.bypass azimuth:8086/tcp`,
		`4 path.loopback notes.fernmoor.example:443`,
		`4 path.no-listener orrery-b:8080`,
		`3 path.blocked 203.0.113.20:2222`,
		`3 exposure.admin azimuth:22/tcp`,
		`3 path.forward-transport feed.fernmoor.example:8883`,
		`3 path.no-forward ridge.fernmoor.example:80`,
		`3 cert.names www.fernmoor.example:443`,
		`2 upstream.mapped-port api.fernmoor.example:443`,
		`2 path.no-hairpin archive.fernmoor.example:443`,
		`2 exposure.wider azimuth:9100/tcp`,
		`2 name.stale mail.fernmoor.example`,
		`2 upstream.localhost sky.fernmoor.example:443`,
		`2 path.no-listener weather.fernmoor.example:1883`,
		`1 conflict.map azimuth:8080/tcp`,
		`1 name.broken-alias charts.fernmoor.example`,
		`1 name.dangling old.fernmoor.example`,
		`1 exposure.source-lost azimuth:443/tcp`,
		`1 cert.expiring ridge`,
		`1 temporary.expired rule edge pass 9000 from internet to azimuth until 2026-11-01 note "open for testing"`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for i, list := range of {
		if len(list) == 0 {
			t.Errorf("%s %s has no cause", report.Findings[i].Code, report.Findings[i].Subject)
		}
	}
}

// TestOneMistakeOneCause makes one mistake in an estate that is sound: what comes of it has one cause, whose head is the break.
func TestOneMistakeOneCause(t *testing.T) {
	for _, c := range []struct{ edit, head string }{
		{"- listen box/app 3000 as app\nlisten box/app 127.0.0.1:3000 as app", "path.loopback a.example:443"},
		{"- listen box/app 3000 as app\nlisten box/app 3001 as app", "upstream.refused a.example:443"},
		{"- listen box/app 3000 as app\nlisten box/app 3000 as app off", "upstream.refused a.example:443"},
		{"- listen store 9000 as files", "path.no-listener store:9000"},
		{"- forward gate 80,443 to 10.0.8.10\nforward gate 80,443 to 10.0.8.11", "path.forward-nowhere a.example:443"},
		{"- forward gate 80,443 to 10.0.8.10\nforward gate 80,443 to 10.0.8.10 off", "path.no-forward a.example:443"},
		{"- dns a.example A 203.0.113.1\ndns a.example A 203.0.113.9", "name.dangling a.example"},
		{"- dns www.a.example CNAME a.example\ndns www.a.example CNAME b.a.example", "name.broken-alias www.a.example"},
		{"- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01\ncert star for a.example,*.a.example expires 2026-11-24 on box/front by dns-01", "cert.expired star"},
		{"- site front a.example at 443 to http://app:3000\nsite front a.example at 443 to http://localhost:3000", "upstream.localhost a.example:443"},
		{"- site front www.a.example at 443 to http://store:9000\nsite front ww.a.example at 443 to http://store:9000", "site.none www.a.example:443"},
		{"- rule edge pass 80,443 from internet to box\nrule edge pass 80 from internet to box", "path.blocked a.example:443"},
		{"- rule local pass 9000 from box", "path.blocked store:9000"},
		{"- map box/front 80,443 to 80,443\nmap box/front 80 to 80", "path.no-listener a.example:443"},
	} {
		report := check1(edited(t, sound, c.edit))
		causes, _ := report.Causes()
		var heads []string
		for _, cause := range causes {
			if f := report.Findings[cause.Head]; f.Level == Error {
				heads = append(heads, f.Code+" "+f.Subject)
			}
		}
		if len(heads) != 1 || heads[0] != c.head {
			t.Errorf("%s\nhas the causes %q, want %q", c.edit, heads, c.head)
		}
	}
}

// TestUnknownNameIsOneCause: however many lines refer to a name that nothing has, it is one mistake.
func TestUnknownNameIsOneCause(t *testing.T) {
	report := check1(edited(t, sound, "- host store\nhost stork\n- intend store 9000 for dock"))
	causes, _ := report.Causes()
	n := 0
	for _, c := range causes {
		if f := report.Findings[c.Head]; f.Code == "record.unknown-reference" {
			if n++; len(c.Findings) < 3 {
				t.Errorf("%s: %d findings of it", c.Key, len(c.Findings))
			}
		}
	}
	if n != 1 {
		t.Errorf("%d causes", n)
	}
}

// TestOpenSinceUnmet: what is open and seems undeclared, only since a mistake keeps the intent from getting there, is of that mistake.
func TestOpenSinceUnmet(t *testing.T) {
	report := check1(edited(t, sound, "- forward gate 80,443 to 10.0.8.10\nforward gate 80,443 to 10.0.8.20"))
	causes, of := report.Causes()
	seen := false
	for i, f := range report.Findings {
		if f.Code != "exposure.undeclared" || f.Subject != "box:443/tcp" {
			continue
		}
		seen = true
		for _, n := range of[i] {
			if head := report.Findings[causes[n].Head]; !strings.HasPrefix(head.Code, "path.") {
				t.Errorf("%s is said to come of %s %s", f.Subject, head.Code, head.Subject)
			}
		}
	}
	if !seen {
		t.Error("nothing is undeclared: the case shows nothing")
	}
}
