package findings

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

const workshop = `
network lan 10.0.0.0/24
network dock 172.20.0.0/24 on web
host gate router
host web
host db
host desk
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
address desk 10.0.0.7 lan
zone a.example ttl 1h
dns a.example A 203.0.113.1
dns www.a.example CNAME a.example
forward gate 80,443 to 10.0.0.5
outbound gate from lan as 203.0.113.1
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
rule edge pass any from lan
filter own on web input otherwise drop
rule own pass 80,443
rule own pass 22 from lan
filter store on db input otherwise drop
rule store pass 5432 from web
container web/app in dock
map web/app 127.0.0.1:3000 to 3000
listen web 80 as front
listen web 443 as front tls cert site
listen web 22 as ssh
listen web/app 3000 as app
listen db 5432 as store
cert site for a.example,www.a.example expires 2027-06-01 on web
site front a.example at 443 to http://127.0.0.1:3000
site front www.a.example at 443 files
site front * at 80 redirect https
intend a.example 443 for internet
intend www.a.example 443 for internet
intend db 5432 for web
intend web 22 for lan
`

// TestFindingsOfEdits says which findings come with an edit and which end, by a check that goes on; taken back, all is as before.
func TestFindingsOfEdits(t *testing.T) {
	base := looked(t, reread(t, workshop))
	for _, c := range []struct {
		edit string // "- line" goes, another comes; parted by |
		come string // codes that come, in order, each once
	}{
		{"dns a.example TXT \"hello\"", ""},
		{"dns b.a.example A 198.51.100.9", "name.dangling"},
		{"dns b.a.example A 10.0.0.5", "name.private path.no-public-address"},
		{"dns b.a.example CNAME none.a.example", "name.broken-alias"},
		{"dns b.a.example CNAME b.a.example", "name.alias-loop"},
		{"dns www.a.example A 203.0.113.1", "conflict.name"},
		{"- dns www.a.example CNAME a.example", "intent.unmet name.unresolved"},
		{"- dns a.example A 203.0.113.1", "intent.unmet name.broken-alias name.unresolved"},
		{"- forward gate 80,443 to 10.0.0.5", "intent.unmet path.no-forward"},
		{"- rule edge pass 80,443 from internet to web|rule edge pass 80 from internet to web", "intent.unmet path.blocked"},
		{"rule edge at 1 drop 443 from internet", "intent.unmet path.blocked"},
		{"rule edge pass 443 from internet to web", "order.shadowed"},
		{"rule edge pass 8443 from internet to web", "order.unused"},
		{"rule own pass 25", "order.unused"},
		{"rule own pass 80", "order.shadowed"},
		{"rule nowhere pass 80", "record.unknown-reference"},
		{"rule edge pass 80 from nowhere", "record.unknown-reference"},
		{"- rule store pass 5432 from web", "intent.unmet path.blocked"},
		{"- rule store pass 5432 from web|rule store pass 5432 from lan", "exposure.wider"},
		{"listen web 443 as other", "conflict.socket"},
		{"listen db 5432 as store", "conflict.record"},
		{"- listen web 443 as front tls cert site", "intent.unmet path.no-listener"},
		{"- listen web/app 3000 as app", "intent.unmet path.no-listener upstream.refused"},
		{"- listen web/app 3000 as app|listen web/app 3001 as app", "intent.unmet path.map-target"},
		{"- map web/app 127.0.0.1:3000 to 3000", "intent.unmet"},
		{"- map web/app 127.0.0.1:3000 to 3000|map web/app 3000 to 3000", "exposure.bypass exposure.past-input"},
		{"- site front www.a.example at 443 files", "intent.unmet site.none"},
		{"site front www.a.example at 443 to http://10.0.0.6:5432", "conflict.site"},
		{"site other c.example files", "site.unknown-service"},
		{"- cert site for a.example,www.a.example expires 2027-06-01 on web", "record.unknown-reference"},
		{"- cert site for a.example,www.a.example expires 2027-06-01 on web|cert site for a.example expires 2027-06-01 on web", "cert.names intent.unmet"},
		{"intend desk 22 for nobody", ""},
		{"intend desk 3389 for lan", "intent.unmet path.no-listener"},
		{"intend none.a.example 443 for internet", "intent.unmet name.unresolved"},
		{"forward gate 5432 to 10.0.0.6|rule edge pass 5432 from internet to db|rule store pass 5432 from internet", "exposure.wider"},
		{"forward gate 2222 to 10.0.0.5:22|rule edge pass 22 from internet to web|rule own pass 22 from internet", "exposure.wider"},
		{"forward gate 81 to 10.0.0.99", "path.forward-nowhere"},
		{"rule own pass 22 from internet until 2026-01-01", "temporary.expired"},
		{"accept conflict.record none until 2027-01-01 note \"never met\"", ""},
		{"host extra", ""},
		{"host web", "conflict.record"},
		{"address desk 10.0.0.6 lan", "conflict.address"},
	} {
		var change, back estate.Change
		for line := range strings.SplitSeq(c.edit, "|") {
			gone, out := strings.CutPrefix(line, "- ")
			p, _, err := notation.ParseLine(gone)
			if err != nil {
				t.Fatalf("%s: %v", line, err)
			}
			if out {
				change.Remove, back.Add = append(change.Remove, gone), append(back.Add, p)
			} else {
				change.Add, back.Remove = append(change.Add, p), append(back.Remove, estate.Line(p.Record))
			}
		}
		e, err := base.m.Estate.Apply(change)
		if err != nil {
			t.Fatalf("%s: %v", c.edit, err)
		}
		next := goneOn(t, base, e)
		sameAs(t, change, next, e)
		for _, code := range strings.Fields(c.come) {
			if !slices.Contains(codesOf(Ended(next.Report, base.Report)), code) {
				t.Errorf("%s\nbrings %q, want %s among them", c.edit, codesOf(Ended(next.Report, base.Report)), code)
			}
		}
		if come := codesOf(Ended(next.Report, base.Report)); c.come == "" && slices.ContainsFunc(come, func(code string) bool { return LevelOf(code) == Error }) {
			t.Errorf("%s\nbrings %q, and is no fault", c.edit, come)
		}
		undone, err := e.Apply(back)
		if err != nil {
			t.Fatalf("%s, taken back: %v", c.edit, err)
		}
		again := goneOn(t, next, undone)
		sameAs(t, back, again, undone)
		if left := append(Ended(again.Report, base.Report), Ended(base.Report, again.Report)...); len(left) > 0 && !strings.Contains(c.edit, "rule") {
			t.Errorf("%s, taken back, leaves %q", c.edit, codesOf(left))
		}
	}
}

// codesOf are the codes of findings, each once.
func codesOf(list []*Finding) []string {
	var out []string
	for _, f := range list {
		out = append(out, f.Code)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
