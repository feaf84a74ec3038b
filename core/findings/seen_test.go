package findings

import (
	"context"
	"slices"
	"testing"
	"time"

	"steady-compass/core/look"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
)

const watched = `
network lan 10.40.0.0/24
host gate router
host box
host desk
address gate 9.9.9.1 internet
address gate 10.40.0.1 lan
address box 10.40.0.5 lan
address desk 10.40.0.9 lan
zone a.example
dns a.example A 9.9.9.1
dns b.example CNAME a.example
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to box
forward gate 80,443,25 to 10.40.0.5
listen box 80 as web
listen box 443 as web tls cert site
listen box 25 as mail
cert site for a.example,b.example expires 2027-03-01 on box by dns-01
site web a.example,b.example at 443 files
site web a.example at 80 redirect https://a.example/
site web b.example at 80 redirect https
intend a.example 80,443 for internet,lan
intend 9.9.9.1 25 for nobody
`

// TestSeen holds looks against an estate and says what is found by them: code, level, subject, and the lines that bring the records to what was seen.
func TestSeen(t *testing.T) {
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	yes, no := true, false
	type found struct {
		code    string
		level   Level
		subject string
		add     []string
	}
	of := func(did look.Did, target string, came look.Came) look.Look {
		return look.Look{At: at, From: "internet", Target: target, Did: did, Came: came, Address: "9.9.9.1", Seconds: 0.02}
	}
	page := func(target string, status int, location string) look.Look {
		l := of(look.HTTP, target, look.Arrived)
		l.Status, l.Location = status, location
		return l
	}
	shown := func(until string, covers *bool) look.Look {
		l := of(look.TLS, "a.example:443", look.Arrived)
		l.Names, l.Expires, l.Covers, l.Trusted = []string{"a.example"}, until, covers, &yes
		return l
	}
	answered := func(target string, answers ...string) look.Look {
		l := of(look.Resolve, target, look.Answered)
		l.Address, l.Answers, l.Code = "", answers, "NOERROR"
		return l
	}
	unmarked := page("https://a.example/", 200, "")
	unmarked.Marked = &no
	for _, c := range []struct {
		name string
		look look.Look
		want []found
	}{
		{"as recorded", of(look.Connect, "a.example:443", look.Arrived), nil},
		{"a program that does not run", of(look.Connect, "a.example:443", look.Refused), []found{{"seen.shut", Error, "a.example:443", nil}}},
		{"refused in place of dropped", of(look.Connect, "9.9.9.1:25", look.Refused), []found{{"seen.shut", Note, "9.9.9.1:25", nil}}},
		{"open", of(look.Connect, "9.9.9.1:25", look.Arrived), []found{{"seen.open", Error, "9.9.9.1:25", nil}}},
		{"another address", answered("a.example A", "9.9.9.7"), []found{{"seen.answer", Error, "a.example", []string{"dns a.example A 9.9.9.7"}}}},
		{"one more address", answered("a.example A", "9.9.9.1", "9.9.9.7"), []found{{"seen.answer", Error, "a.example", nil}}},
		{"another address of an alias", answered("b.example A", "9.9.9.7"), []found{{"seen.answer", Error, "b.example", nil}}},
		{"for another name", shown("2027-03-01", &no), []found{{"seen.certificate", Error, "a.example:443", nil}}},
		{"the one before the renewal", shown("2026-12-20", &yes), []found{{"seen.certificate", Warning, "a.example:443", []string{"cert site for a.example,b.example expires 2026-12-20 on box by dns-01"}}}},
		{"renewed", shown("2027-05-30", &yes), []found{{"seen.certificate", Note, "a.example:443", []string{"cert site for a.example,b.example expires 2027-05-30 on box by dns-01"}}}},
		{"run out", shown("2026-11-20", &yes), []found{{"seen.certificate", Error, "a.example:443", nil}}},
		{"sent elsewhere", page("http://a.example/", 301, "https://c.example/"), []found{{"seen.redirect", Warning, "a.example:80", []string{"site web a.example at 80 redirect https://c.example/"}}}},
		{"a gateway error", page("https://a.example/", 502, ""), []found{{"seen.status", Error, "a.example:443", nil}}},
		{"somebody else", unmarked, []found{{"seen.site", Error, "a.example:443", nil}}},
		{"nothing said", of(look.Connect, "a.example:443", look.NotLooked), nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			tr := trace.New(model.Compile(notationtest.Parse(t, watched)), "2026-12-01")
			checked, err := Check(context.Background(), tr, "2026-12-01")
			if err != nil {
				t.Fatal(err)
			}
			look.Judge(tr, &c.look)
			report := checked.With([]look.Kept{{Look: c.look}})
			var got []found
			for _, f := range report.Findings {
				if OfLook(f.Code) && f.Code != look.SeenNever {
					x := found{f.Code, f.Level, f.Subject, nil}
					if f.Mend != nil {
						x.add = f.Mend.Add
					}
					got = append(got, x)
				}
			}
			if !slices.EqualFunc(got, c.want, func(a, b found) bool {
				return a.code == b.code && a.level == b.level && a.subject == b.subject && slices.Equal(a.add, b.add)
			}) {
				t.Errorf("got %v, want %v", got, c.want)
			}
		})
	}
}

// TestSeenFromWhereItCounts: an intent is looked at by whoever it is for, or somebody among these; what is older than a change proves nothing.
func TestSeenFromWhereItCounts(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, watched)), "2026-12-01")
	checked, err := Check(context.Background(), tr, "2026-12-01")
	if err != nil {
		t.Fatal(err)
	}
	of := func(from, target string, old bool) look.Kept {
		return look.Kept{Look: look.Look{At: time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC), From: from, Target: target, Did: look.Connect, Came: look.Arrived, Address: "9.9.9.1", Agrees: look.Agrees}, Old: old}
	}
	why := func(code, subject string, kept ...look.Kept) string {
		r := checked.With(kept)
		for _, f := range r.Findings {
			if f.Code == code && f.Subject == subject {
				return f.Why
			}
		}
		return ""
	}
	if got := why("seen.never", "a.example"); got != "" {
		t.Errorf("nobody looks at all, and it says %q", got)
	}
	if got := why("seen.never", "a.example", of("internet", "a.example:443", false)); got != "Nobody has looked at port 80,443 of it from lan." {
		t.Errorf("got %q", got)
	}
	if got := why("seen.never", "9.9.9.1", of("internet", "a.example:443", false)); got != "Nobody has looked at port 25 of it from internet." {
		t.Errorf("what is for nobody: got %q", got)
	}
	if got := why("seen.never", "a.example", of("internet", "a.example:443", false), of("desk", "a.example:80", false)); got != "" {
		t.Errorf("a machine of the network looked, and it says %q", got)
	}
	if got := why("seen.old", "a.example:443", of("internet", "a.example:443", true)); got != "It was looked at from internet on 2026-12-01, and what it hangs on has changed since." {
		t.Errorf("got %q", got)
	}
	if got := why("seen.old", "a.example:443", of("internet", "a.example:443", true), of("internet", "https://a.example/", false)); got != "" {
		t.Errorf("it was looked at since, and it says %q", got)
	}
}

// TestSeenIsOneMistake: what is shut at one address and port is one cause, however many names lead there; a finding of a look may be taken on.
func TestSeenIsOneMistake(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, watched+"accept seen.shut b.example:443 until 2027-01-01 note \"we know\"\n")), "2026-12-01")
	checked, err := Check(context.Background(), tr, "2026-12-01")
	if err != nil {
		t.Fatal(err)
	}
	var kept []look.Kept
	for _, name := range []string{"a.example:443", "b.example:443", "a.example:80"} {
		l := look.Look{At: time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC), From: "internet", Target: name, Did: look.Connect, Came: look.Silent, Address: "9.9.9.1"}
		look.Judge(tr, &l)
		kept = append(kept, look.Kept{Look: l})
	}
	again := kept[0]
	again.From = "8.8.8.8"
	look.Judge(tr, &again.Look)
	later := again
	later.At = later.At.Add(-time.Hour)
	report := checked.With(append(kept, again, later))
	for _, f := range report.Findings {
		if f.Code == "seen.shut" && f.Subject == "a.example:443" && f.Why != "Recorded: arrives; seen: nothing came back. Looked at from internet on 2026-12-01 10:00, and from 8.8.8.8 on 2026-12-01 10:00 UTC." {
			t.Errorf("it says %q", f.Why)
		}
	}
	if len(report.Accepted) != 1 || report.Accepted[0].Subject != "b.example:443" {
		t.Errorf("taken on: %v", report.Accepted)
	}
	causes, _ := report.Causes()
	n := 0
	for _, c := range causes {
		if report.Findings[c.Head].Code == "seen.shut" {
			n++
		}
	}
	if n != 2 {
		t.Errorf("%d causes of two ports that are shut", n)
	}
	if last := report.Findings[causes[len(causes)-1].Head]; last.Code != "seen.never" {
		t.Errorf("the last cause is %s, and not what only wants to be looked at", last.Code)
	}
}
