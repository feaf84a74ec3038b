package mend

import (
	"context"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

const day = "2026-11-25"

func looked(t *testing.T, text string) State {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	tracer := trace.New(model.Compile(e), day)
	checked, err := findings.Check(context.Background(), tracer, day)
	if err != nil {
		t.Fatal(err)
	}
	return State{tracer, checked}
}

// lines is a mend of lines that come, and of such that go, behind a minus.
func lines(text string) *flow.Mend {
	m := &flow.Mend{}
	for line := range strings.Lines(strings.TrimSpace(text)) {
		line = strings.TrimSpace(line)
		if gone, ok := strings.CutPrefix(line, "- "); ok {
			m.Remove = append(m.Remove, gone)
		} else {
			m.Add = append(m.Add, line)
		}
	}
	return m
}

// plain is a machine on the internet that serves a name in the clear, and is to serve it encrypted too.
const plain = `
host ferry
address ferry 198.51.100.24 internet
zone lantern.example
dns lantern.example A 198.51.100.24 ttl 1h
filter cloud on ferry arriving otherwise drop
rule cloud pass 80
rule cloud pass 22 from 203.0.113.77
listen ferry 22 as shell
listen ferry 80 as front
site front lantern.example files "/srv/lantern"
intend lantern.example 80,443 for internet reaching ferry
intend ferry 22 for 203.0.113.77
`

// office is a machine behind a router whose filter lets little in, and one that is administered.
const office = `
network lan 10.0.0.0/24
host gate router
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
host box
address box 10.0.0.5 lan
zone a.example ttl 1h
dns a.example A 203.0.113.1
dns tool.a.example A 203.0.113.1
forward gate 80,8080,9000 to 10.0.0.5
filter edge on gate through otherwise pass
rule edge drop 22,389
rule edge drop 9000
filter own on box input otherwise drop
rule own pass 80,8080,9000
rule own pass 22 from lan
listen box 80 as web
listen box 8080 as tool
listen box 9000 as store
listen box 22 as ssh
listen box 389 as directory
site web a.example files "/srv"
intend a.example 80 for internet reaching box
intend tool.a.example 8080 for internet reaching box
intend tool.a.example 9000 for internet reaching box
intend box 22 for lan
`

// TestTrial holds a right mend and the tempting wrong ones beside it against what is said of a trial.
func TestTrial(t *testing.T) {
	for _, c := range []struct {
		name, estate, code, subject, mend string
		against                           string // part of what speaks against it; "" where it holds
		opens                             string // part of what is entailed
	}{
		{"a second listener beside the first", plain, "path.no-listener", "lantern.example:443", `listen ferry 443 as front tls`, "", ""},
		{"a second listener that does not speak TLS", plain, "path.no-listener", "lantern.example:443", `listen ferry 443 as front`, "What it writes down has to be mended in its turn: front is spoken to in TLS on 443", ""},
		{"the first turned to TLS", plain, "path.no-listener", "lantern.example:443", `- listen ferry 80 as front
			listen ferry 80,443 as front tls`, "lantern.example:80 works from internet, and would end mismatched", ""},
		{"more let in than is meant", plain, "path.blocked", "lantern.example:443", `- rule cloud pass 22 from 203.0.113.77
			rule cloud pass any`, "would open 198.51.100.24:22 on ferry to", ""},
		{"what administers the machine shut out", plain, "path.blocked", "lantern.example:443", `- rule cloud pass 22 from 203.0.113.77
			rule cloud pass 443`, "shell on ferry would not be reached any more by anybody", ""},
		{"a port let in", office, "path.blocked", "tool.a.example:9000", `rule edge at 1 pass 9000 from internet to box`, "", ""},
		{"everything let in, ahead of what is dropped", office, "path.blocked", "tool.a.example:9000", `rule edge at 1 pass any`, "", ""},
		{"a machine let in whole", office, "path.blocked", "tool.a.example:9000", `rule edge at 1 pass any
			rule own at 1 pass any`, "389 on box to lan", ""},
		{"the forward of three ports taken out for one", office, "path.blocked", "tool.a.example:9000", `- forward gate 80,8080,9000 to 10.0.0.5`, "a.example:80 works from internet, and would end", ""},
		{"a listener in the clear turned to TLS", office, "path.blocked", "tool.a.example:9000", `- listen box 8080 as tool
			rule edge at 1 pass 9000 from internet to box
			listen box 8080 as tool tls`, "tool.a.example:8080 works from internet, and would end mismatched", ""},
		{"what does not end it", office, "path.blocked", "tool.a.example:9000", `rule own at 1 pass 9000`, "It does not end what it is for", ""},
		{"what stands open to others at the very end", `
			network lan 10.0.0.0/24
			host box
			address box 10.0.0.5 lan
			host desk
			address desk 10.0.0.7 lan
			name box.a.example 10.0.0.5 on desk
			intend box 9100 for desk`, "path.no-listener", "box:9100", `listen box 9100 as gauge`, "", "10.0.0.5:9100 on box to lan"},
		{"a certificate that is wanted", strings.Replace(plain, "listen ferry 80 as front", "listen ferry 80 as front\nlisten ferry 443 as front tls\nrule cloud pass 443", 1), "cert.missing", "lantern.example:443", `cert front for lantern.example on ferry`, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := looked(t, c.estate)
			i := slices.IndexFunc(s.Checked.Findings, func(f *findings.Finding) bool { return f.Code == c.code && f.Subject == c.subject })
			if i < 0 {
				var all []string
				for _, f := range s.Checked.Findings {
					all = append(all, f.Code+" "+f.Subject)
				}
				t.Fatalf("no %s of %s among %q", c.code, c.subject, all)
			}
			p := For(s.Checked.Findings[i])
			p.Mend = lines(c.mend)
			got, err := s.Try(t.Context(), p)
			if err != nil {
				t.Fatal(err)
			}
			against := strings.Join(got.Against, "\n")
			if c.against == "" && against != "" || !strings.Contains(against, c.against) {
				t.Errorf("against it speaks\n%s\nwant %q", against, c.against)
			}
			if opens := strings.Join(got.Opens, "\n"); !strings.Contains(opens, c.opens) || c.opens == "" && opens != "" {
				t.Errorf("it is said to open\n%s\nwant %q", opens, c.opens)
			}
		})
	}
}

// TestNearest is what findings come with: the nearest reading of the mistake.
func TestNearest(t *testing.T) {
	encrypted := strings.NewReplacer("listen ferry 80 as front", "listen ferry 80 as front\nlisten ferry 443 as front tls", "rule cloud pass 80", "rule cloud pass 80,443").Replace(plain)
	for _, c := range []struct{ name, estate, code, subject, want string }{
		{"a second listener, in the speech that is spoken there", plain, "path.no-listener", "lantern.example:443", `+ listen ferry 443 as front tls`},
		{"a certificate that is wanted", encrypted, "cert.missing", "lantern.example:443", `+ cert front for lantern.example on ferry`},
		{"a certificate that is issued gets no name", encrypted + "cert other for other.example expires 2027-02-01 on ferry\n", "cert.names", "lantern.example:443", `+ cert front for lantern.example on ferry`},
		{"a site that shows another than the one that lies there", strings.Replace(encrypted, `files "/srv/lantern"`, `files "/srv/lantern" cert other`, 1) + "cert other for other.example expires 2027-02-01 on ferry\ncert all for *.example,lantern.example expires 2027-02-01 on ferry\n", "cert.names", "lantern.example:443", `- site front lantern.example files "/srv/lantern" cert other
			+ site front lantern.example files "/srv/lantern" cert all`},
		{"an expiry that only the world knows", encrypted + "cert front for lantern.example expires 2026-11-01 on ferry\n", "cert.expired", "front", ``},
		{"a shorter list", office + "forward gate 81,82 to 10.0.0.5\nlisten box 82 as late", "path.no-listener", "gate:81", `- forward gate 81,82 to 10.0.0.5
			+ forward gate 82 to 10.0.0.5`},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := looked(t, c.estate)
			i := slices.IndexFunc(s.Checked.Findings, func(f *findings.Finding) bool { return f.Code == c.code && f.Subject == c.subject })
			if i < 0 {
				t.Fatalf("no %s of %s", c.code, c.subject)
			}
			var got, want []string
			if m := s.Checked.Findings[i].Mend; m != nil {
				for _, l := range m.Remove {
					got = append(got, "- "+l)
				}
				for _, l := range m.Add {
					got = append(got, "+ "+l)
				}
			}
			for line := range strings.Lines(c.want) {
				want = append(want, strings.TrimSpace(line))
			}
			if !slices.Equal(got, want) {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
		})
	}
}

// TestOwnMends tries what the findings of whole estates come with: an estate that a mend holds in is the better for it by that
// finding, and the demo's planted faults all have a mend that holds but where only the world knows.
func TestOwnMends(t *testing.T) {
	for _, path := range []string{"../findings/testdata/harbour.estate", "../trace/testdata/example.estate", "../../demo/fernmoor.estate"} {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		s := looked(t, string(text))
		holds := 0
		for _, f := range s.Checked.Findings {
			if f.Mend.IsEmpty() {
				continue
			}
			got, err := s.Try(t.Context(), For(f))
			if err != nil {
				t.Errorf("%s: %s %s: %v", path, f.Code, f.Subject, err)
				continue
			}
			if !got.Holds() {
				t.Logf("%s: %s %s: %q", path, f.Code, f.Subject, got.Against)
				continue
			}
			holds++
			if !slices.ContainsFunc(got.Ends, func(e *findings.Finding) bool { return e == f }) {
				t.Errorf("%s: %s %s holds and does not end", path, f.Code, f.Subject)
			}
		}
		if holds == 0 {
			t.Errorf("%s: only %d hold", path, holds)
		}
	}
}

// TestNothingIsKept tries a mend: the estate that it was tried on is as it was.
func TestNothingIsKept(t *testing.T) {
	s := looked(t, office)
	before := notation.Print(s.Tracer.Model.Estate)
	if _, err := s.Try(t.Context(), Proposal{Mend: lines("- listen box 22 as ssh")}); err != nil {
		t.Fatal(err)
	}
	if after := notation.Print(s.Tracer.Model.Estate); after != before {
		t.Errorf("it is now\n%s", after)
	}
	for _, wrong := range []string{"- listen box 23 as ssh", "listen box", ""} {
		if got, err := s.Try(t.Context(), Proposal{Mend: lines(wrong)}); err == nil {
			t.Errorf("%q can be made: %v", wrong, got)
		}
	}
}
