package server

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/store"
	"steady-compass/web"
)

const office = `
network lan 10.0.0.0/24
host gate router
host web
host db
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
zone a.example ttl 1h
dns a.example A 203.0.113.1 ttl 10m
dns www.a.example CNAME a.example
forward gate 80,443 to 10.0.0.5
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
rule edge pass any from lan
filter own on web input otherwise drop
rule own pass 80,443
rule own pass 22 from lan
listen web 80 as front
listen web 443 as front tls cert site
listen web 22 as ssh
listen db 5432 as store
cert site for a.example,www.a.example expires 2027-06-01 on web
site front a.example at 443 to http://10.0.0.6:5432
site front www.a.example at 443 files
site front * at 80 redirect https
intend a.example 443 for internet
intend www.a.example 443 for internet
intend web 22 for lan
`

// TestEffects says what edits of a small estate do: to names, doors and ports for administration, and which findings come and end.
func TestEffects(t *testing.T) {
	for _, c := range []struct {
		edit    string // "- line" goes, another comes
		names   string // name:port before>after
		doors   string // +/- address ports place, and whom to
		shut    string // place:port from whom, ! where nobody is left
		fixed   string
		brought string
		old     string
	}{
		{
			edit:  "- rule edge pass 80,443 from internet to web\nrule edge pass 80 from internet to web",
			names: "a.example:443 arrives>silent, www.a.example:443 arrives>silent", doors: "- 203.0.113.1 443 web to the internet", brought: "intent.unmet path.blocked",
		},
		{
			edit:  "rule edge at 1 drop any from internet",
			names: "a.example:443 arrives>silent, www.a.example:443 arrives>silent", doors: "- 203.0.113.1 443 web to the internet, - 203.0.113.1 80 web to the internet", fixed: "exposure.undeclared", brought: "intent.unmet path.blocked",
		},
		{edit: "forward gate 2223 to 10.0.0.5:22 from 198.51.100.7\nrule edge pass 22 from internet to web\nrule own pass 22 from internet", doors: "+ 203.0.113.1 2223 web to 198.51.100.7", brought: "exposure.wider"},
		{edit: "forward gate 2222 to 10.0.0.5:22\nrule edge pass 22 from internet to web\nrule own pass 22 from internet", doors: "+ 203.0.113.1 2222 web to the internet", brought: "exposure.wider"},
		{edit: "- rule own pass 22 from lan", shut: "web:22 lan!", brought: "intent.unmet path.blocked"},
		{edit: "- site front www.a.example at 443 files", names: "www.a.example:443 arrives>unanswered", brought: "site.none"},
		{edit: "- listen db 5432 as store", names: "a.example:443 arrives>gateway-error", fixed: "exposure.bypass", brought: "upstream.refused"},
		{edit: "- dns www.a.example CNAME a.example", names: "www.a.example:443 arrives>unresolved", brought: "name.unresolved", old: "www.a.example CNAME 3600"},
		{edit: "- dns a.example A 203.0.113.1 ttl 10m\ndns a.example A 203.0.113.1 ttl 1m", old: "a.example A 600"},
		{edit: "dns new.a.example A 203.0.113.1", names: "new.a.example:443 >"},
		{edit: "accept order.unused web until 2027-01-01 note \"for now\""},
	} {
		e, faults := notation.Parse(office)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		var change estate.Change
		for line := range strings.SplitSeq(c.edit, "\n") {
			if gone, ok := strings.CutPrefix(line, "- "); ok {
				change.Remove = append(change.Remove, gone)
				continue
			}
			p, _, err := notation.ParseLine(line)
			if err != nil {
				t.Fatal(err)
			}
			change.Add = append(change.Add, p)
		}
		next, err := e.Apply(change)
		if err != nil {
			t.Fatal(err)
		}
		a := analyse(store.Snapshot{Estate: e}, day)
		got, err := effectSoon(t.Context(), a, a.draft(next))
		if err != nil {
			t.Fatal(err)
		}
		var names, doors, shut, old []string
		for _, n := range got.Names {
			names = append(names, fmt.Sprintf("%s:%d %s>%s", n.Name, n.Port, n.Before, n.After))
		}
		for _, d := range got.Doors {
			doors = append(doors, fmt.Sprintf("%s %s %s %s to %s", map[bool]string{true: "+", false: "-"}[d.Opens], d.Address, d.Ports, d.Place, d.To))
		}
		for _, s := range got.Shut {
			shut = append(shut, fmt.Sprintf("%s:%d %s%s", s.Place, s.Port, strings.Join(s.From, "+"), map[bool]string{true: "!"}[s.Nobody]))
		}
		for _, o := range got.Old {
			old = append(old, fmt.Sprintf("%s %s %d%s", o.Name, o.Type, o.Seconds, map[bool]string{true: " missing"}[o.Missing]))
		}
		codes := func(list []Brief) string {
			var out []string
			for _, f := range list {
				out = append(out, f.Code)
			}
			slices.Sort(out)
			return strings.Join(slices.Compact(out), " ")
		}
		for _, part := range []struct {
			what, got, want string
			starts          bool
		}{
			{"names", sorted(names), c.names, true},
			{"doors", sorted(doors), c.doors, false},
			{"shut", sorted(shut), c.shut, false},
			{"fixed", codes(got.Fixed), c.fixed, false},
			{"old", sorted(old), c.old, false},
		} {
			if part.got != part.want && !(part.starts && part.want != "" && strings.HasPrefix(part.got, part.want)) {
				t.Errorf("%s\n%s: %s\nwant %s", c.edit, part.what, part.got, part.want)
			}
		}
		for _, code := range strings.Fields(c.brought) {
			if !slices.Contains(strings.Fields(codes(got.Brought)), code) {
				t.Errorf("%s\nbrings %s, want %s among them", c.edit, codes(got.Brought), code)
			}
		}
		if c.brought == "" && len(got.Brought) > 0 && !strings.Contains(c.edit, "dns new") {
			t.Errorf("%s\nbrings %s", c.edit, codes(got.Brought))
		}
	}
}

func sorted(words []string) string {
	slices.Sort(words)
	return strings.Join(words, ", ")
}

// TestPages: a view's path gets the page, a file of the interface itself, and what is not there is said to be not there.
func TestPages(t *testing.T) {
	if _, err := fs.Stat(web.Files(), "index.html"); err != nil {
		t.Skip("the interface is not built in")
	}
	h := served(t, office)
	page := call(t, h, "GET", "/", nil)
	if page.Code != 200 || !strings.Contains(page.Body.String(), "<html") || page.Header().Get("Cache-Control") != "no-cache" {
		t.Errorf("the page: %d %s", page.Code, page.Header().Get("Cache-Control"))
	}
	for _, path := range []string{"/names", "/trace/a.example:443", "/exposure?from=lan"} {
		if w := call(t, h, "GET", path, nil); w.Code != 200 || w.Body.String() != page.Body.String() {
			t.Errorf("%s: %d", path, w.Code)
		}
	}
	files, err := fs.Glob(web.Files(), "assets/*.js")
	if err != nil || len(files) == 0 {
		t.Fatalf("no script is built in: %v", err)
	}
	if w := call(t, h, "GET", "/"+files[0], nil); w.Code != 200 || !strings.Contains(w.Header().Get("Cache-Control"), "immutable") || w.Body.Len() == 0 {
		t.Errorf("%s: %d %s", files[0], w.Code, w.Header().Get("Cache-Control"))
	}
	for path, want := range map[string]string{
		"/assets/none.js": "There is no such file", "/api/none": "There is no such question", "/api": "There is no such question", "/assets/../../go.mod": "<html",
	} {
		w := call(t, h, "GET", path, nil)
		if !strings.Contains(w.Body.String(), want) || want != "<html" && w.Code != 404 {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
}
