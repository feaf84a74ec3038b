package trace

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
)

const resolving = `
network lan 10.0.0.0/24
network dock 172.20.0.0/24 on web
host gate router
host web
host db
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
address db 203.0.113.50 internet off
container web/app in dock
zone a.example ttl 1h
dns a.example A 203.0.113.1
forward gate 80,443 to 10.0.0.5
outbound gate from lan as 203.0.113.1
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
rule edge pass any from lan
listen web 80 as front
site front a.example at 80 files
site front www.a.example at 80 files
site front shop.a.example at 80 files
`

// TestResolving: a name that leads nowhere, or to what is not ours, what is said of it, and the lines that mend it.
func TestResolving(t *testing.T) {
	for _, c := range []struct {
		name   string
		lines  string // besides, one a line
		target string
		from   string
		want   flow.Outcome
		code   string // of the first break
		why    string
		remove string
		add    string
	}{
		{"no record", "", "www.a.example:80", "internet", flow.Unresolved, "name.unresolved", "has no record, and no wildcard covers it", "", "dns www.a.example A 203.0.113.1"},
		{"no record, seen from inside", "", "www.a.example:80", "lan", flow.Unresolved, "name.unresolved", "has no record", "", "dns www.a.example A 10.0.0.5 for lan"},
		{"no record, and nothing meant", "", "nobody.a.example:80", "internet", flow.Unresolved, "name.unresolved", "has no record", "", ""},
		{"a record that is off", "dns www.a.example A 203.0.113.1 off", "www.a.example:80", "internet", flow.Unresolved, "name.unresolved", "has no record", "dns www.a.example A 203.0.113.1 off", "dns www.a.example A 203.0.113.1"},
		{"only another type", "dns www.a.example TXT \"here\"", "www.a.example:80", "internet", flow.Unresolved, "name.unresolved", "exists, and has no address", "", "dns www.a.example A 203.0.113.1"},
		{"an alias of nothing", "dns www.a.example CNAME gone.a.example", "www.a.example:80", "internet", flow.Unresolved, "name.broken-alias", "is an alias of gone.a.example, which has no address", "dns www.a.example CNAME gone.a.example", "dns www.a.example A 203.0.113.1"},
		{"an alias of nothing, and nothing meant", "dns x.a.example CNAME gone.a.example", "x.a.example:80", "internet", flow.Unresolved, "name.broken-alias", "which has no address", "dns x.a.example CNAME gone.a.example", ""},
		{"aliases in a ring", "dns www.a.example CNAME shop.a.example\ndns shop.a.example CNAME www.a.example", "www.a.example:80", "internet", flow.Unresolved, "name.alias-loop", "is an alias that leads back to itself", "dns shop.a.example CNAME www.a.example", "dns shop.a.example A 203.0.113.1"},
		{"an alias that leads outside", "dns www.a.example CNAME elsewhere.test", "www.a.example:80", "internet", flow.Outside, "", "", "", ""},
		{"another's name", "", "elsewhere.test:80", "internet", flow.Outside, "", "", "", ""},
		{"an address that nobody holds", "dns www.a.example A 198.51.100.9", "www.a.example:80", "internet", flow.Outside, "name.dangling", "is held by nobody recorded: whoever has it now answers for www.a.example", "dns www.a.example A 198.51.100.9", "dns www.a.example A 203.0.113.1"},
		{"an address that was held once", "dns www.a.example A 203.0.113.50", "www.a.example:80", "internet", flow.Outside, "name.stale", "was held by db once, and no longer", "dns www.a.example A 203.0.113.50", "dns www.a.example A 203.0.113.1"},
		{"an address that nobody holds, and nothing meant", "dns x.a.example A 198.51.100.9", "x.a.example:80", "internet", flow.Outside, "name.dangling", "is held by nobody", "dns x.a.example A 198.51.100.9", ""},
		{"a private address", "dns www.a.example A 10.0.0.5", "www.a.example:80", "internet", flow.Unroutable, "path.no-public-address", "10.0.0.5 is a private address, which the internet carries nothing to", "dns www.a.example A 10.0.0.5", "dns www.a.example A 203.0.113.1"},
		{"a private address, seen from inside", "dns www.a.example A 10.0.0.5", "www.a.example:80", "lan", flow.Arrives, "", "", "", ""},
		{"a private address itself", "", "10.0.0.5:80", "internet", flow.Unroutable, "path.no-public-address", "is a private address", "", ""},
		{"a machine without an address", "host bare\nlisten bare 80 as bare", "bare:80", "lan", flow.Unroutable, "path.no-route", "No address of bare is written down.", "", ""},
		{"a route that leads nowhere", "network deep 10.66.0.0/16\nhost pit\naddress pit 10.66.0.2 deep\nhost rim router\naddress rim 10.66.0.1 deep\naddress rim 10.0.0.250 lan\nlisten pit 80 as pit\nroute web 10.66.0.0/24 via nowhere", "10.66.0.2:80", "web", flow.Unroutable, "path.no-route", "web sends what is for 10.66.0.0/24 nowhere.", "", ""},
		{"a container without an address of its own", "listen web/app 3000 as app", "web/app:3000", "lan", flow.Unroutable, "path.no-route", "has no address that is reached from outside dock", "", ""},
		{"a container from its own network", "listen web/app 3000 as app", "web/app:3000", "dock", flow.Arrives, "", "", "", ""},
		{"a wildcard", "dns *.a.example A 203.0.113.1", "shop.a.example:80", "internet", flow.Arrives, "", "", "", ""},
		{"an address that nobody knows", "host far router\naddress far ? internet dynamic\ndns www.a.example A dynamic far", "www.a.example:80", "internet", flow.Undecided, "", "", "", ""},
	} {
		tr := compiled(t, notationtest.Parse(t, resolving+c.lines+"\n"))
		r := ask(t, tr, c.target, c.from)
		if r.Verdict != c.want || len(r.Paths) == 0 {
			t.Errorf("%s: %s ends %s, want %s", c.name, c.target, r.Verdict, c.want)
			continue
		}
		breaks := r.Paths[0].Breaks
		if c.code == "" {
			if len(breaks) > 0 {
				t.Errorf("%s: %+v", c.name, breaks)
			}
			continue
		}
		if len(breaks) == 0 || breaks[0].Code != c.code || !strings.Contains(breaks[0].Why, c.why) {
			t.Errorf("%s: %+v, want %s: %s", c.name, breaks, c.code, c.why)
			continue
		}
		mend := breaks[0].Mend
		if mend == nil {
			mend = &flow.Mend{}
		}
		if strings.Join(mend.Remove, "\n") != c.remove || strings.Join(mend.Add, "\n") != c.add {
			t.Errorf("%s is mended by - %q + %q, want - %q + %q", c.name, mend.Remove, mend.Add, c.remove, c.add)
		}
	}
}

// TestAnsweredSteps: the first step says what answered, by way of what, and for how long an old answer may be seen.
func TestAnsweredSteps(t *testing.T) {
	for _, c := range []struct{ lines, why, chain string }{
		{"dns www.a.example A 203.0.113.1", "Answers 203.0.113.1; after a change the old answer may be seen for 1h.", "A"},
		{"dns www.a.example A 203.0.113.1 ttl 5m", "Answers 203.0.113.1; after a change the old answer may be seen for 5m.", "A"},
		{"dns www.a.example CNAME a.example", "Answers 203.0.113.1, by way of a.example; after a change the old answer may be seen for 1h.", "CNAME A"},
		{"dns *.a.example A 203.0.113.1", "Answers 203.0.113.1, by the wildcard; after a change the old answer may be seen for 1h.", "A"},
	} {
		r := ask(t, compiled(t, notationtest.Parse(t, resolving+c.lines+"\n")), "www.a.example:80", "internet")
		step := r.Paths[0].Steps[0]
		var types []string
		for _, l := range step.Chain {
			types = append(types, l.Type)
		}
		if step.Stage != flow.StageResolve || step.Why != c.why || strings.Join(types, " ") != c.chain {
			t.Errorf("%s\nsays %q by %q, want %q by %s", c.lines, step.Why, types, c.why, c.chain)
		}
	}
	r := ask(t, compiled(t, notationtest.Parse(t, resolving+"name www.a.example 10.0.0.5 on db\n")), "www.a.example:80", "db")
	if step := r.Paths[0].Steps[0]; r.Verdict != flow.Arrives || !strings.Contains(step.Why, "in its own hosts file") || !slices.ContainsFunc(step.Records, func(l string) bool { return strings.HasPrefix(l, "name ") }) {
		t.Errorf("the hosts file of db: %s %+v", r.Verdict, step)
	}
}

// TestAnswersForAGroup: what is for a group is for whoever asks from a range that is a member of it, recorded or not.
func TestAnswersForAGroup(t *testing.T) {
	tracer := New(model.Compile(notationtest.Parse(t, resolving+`
group desks 10.0.0.64/26,gate
host clerk
address clerk 10.0.0.70 lan
dns files.a.example A 10.0.0.6 for desks
`)), day)
	for from, want := range map[string]string{"desks": "10.0.0.6", "10.0.0.99": "10.0.0.6", "clerk": "10.0.0.6", "gate": "10.0.0.6", "10.0.0.9": "", "db": "", "internet": ""} {
		v, err := tracer.VantageNamed(from)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(tracer.Answer("files.a.example", "A", v).Values, " "); got != want {
			t.Errorf("from %s: %q, want %q", from, got, want)
		}
	}
}
