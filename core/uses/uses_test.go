package uses

import (
	"fmt"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

const records = `
network yard 10.0.0.0/24
network dock 172.20.0.0/24 on box
host gate router
host box note "was 203.0.113.20 before"
address gate 203.0.113.20 internet
address gate 203.0.113.9 internet off
address box 10.0.0.5 yard
zone a.example
dns a.example A 203.0.113.20
dns a.example MX 10 mail.a.example.
dns a.example TXT "v=spf1 ip4:203.0.113.20 ip4:203.0.113.200 ip4:203.0.113.0/28 ip6:2001:DB8:0::20 -all"
dns six.a.example AAAA 2001:db8::20
dns www.a.example CNAME a.example
dns mail.a.example A 203.0.113.20
dns dyn.a.example A dynamic gate
name store.a.example 203.0.113.20 on box
forward gate 203.0.113.20:80,443 to 10.0.0.5:8080,8443
forward gate [2001:db8::20]:443 to [2001:db8::5]:8443
outbound gate from yard as 203.0.113.20
filter box on box input otherwise drop
rule box pass 22 from 203.0.113.20,203.0.113.16/28,gate
container box/front in dock=172.20.0.5
map box/front 80 to 80
listen box/front 80 as front
site front a.example,203.0.113.20 to http://203.0.113.20:8080/x
site front www.a.example redirect https://a.example/
cert c for a.example,*.a.example expires 2027-01-01 on box/front
intend 203.0.113.20 80 for 203.0.113.20 reaching box
accept path.blocked a.example:80 until 2027-01-01 note "n"
`

func parsed(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

func TestFind(t *testing.T) {
	e := parsed(t, records)
	for _, c := range []struct{ word, want string }{
		{"203.0.113.20", `direct address gate 203.0.113.20 internet
direct dns a.example A 203.0.113.20
direct dns a.example TXT "v=spf1 ip4:203.0.113.20 ip4:203.0.113.200 ip4:203.0.113.0/28 ip6:2001:DB8:0::20 -all"
direct dns mail.a.example A 203.0.113.20
direct name store.a.example 203.0.113.20 on box
direct forward gate 203.0.113.20:80,443 to 10.0.0.5:8080,8443
direct outbound gate from yard as 203.0.113.20
direct rule box pass 22 from 203.0.113.20,203.0.113.16/28,gate
direct site front a.example,203.0.113.20 to http://203.0.113.20:8080/x
direct intend 203.0.113.20 80 for 203.0.113.20 reaching box
told host box note "was 203.0.113.20 before"
led dns www.a.example CNAME a.example
led site front www.a.example redirect https://a.example/
led cert c for a.example,*.a.example expires 2027-01-01 on box/front
led accept path.blocked a.example:80 until 2027-01-01 note "n"
led dns a.example MX 10 mail.a.example.`},
		{"2001:db8::20", `direct dns a.example TXT "v=spf1 ip4:203.0.113.20 ip4:203.0.113.200 ip4:203.0.113.0/28 ip6:2001:DB8:0::20 -all"
direct dns six.a.example AAAA 2001:db8::20
direct forward gate [2001:db8::20]:443 to [2001:db8::5]:8443`},
		{"203.0.113.2", `inside dns a.example TXT "v=spf1 ip4:203.0.113.20 ip4:203.0.113.200 ip4:203.0.113.0/28 ip6:2001:DB8:0::20 -all"`},
		{"203.0.113.25", `inside rule box pass 22 from 203.0.113.20,203.0.113.16/28,gate`},
		{"Mail.A.example", `direct dns a.example MX 10 mail.a.example.
direct dns mail.a.example A 203.0.113.20
inside cert c for a.example,*.a.example expires 2027-01-01 on box/front`},
		{"box/front", `direct container box/front in dock=172.20.0.5
direct map box/front 80 to 80
direct listen box/front 80 as front
direct cert c for a.example,*.a.example expires 2027-01-01 on box/front`},
		{"10.0.0.99", ``},
		{"db8", ``}, // a group of an address is no name
		{"not a word", ``},
	} {
		var got []string
		uses := New(trace.New(model.Compile(e), "2026-11-25")).Find(c.word)
		for _, how := range []How{Direct, Inside, Told, Led} { // a record's place among its kind's is not what is looked at
			for _, u := range uses {
				if u.How == how {
					got = append(got, string(u.How)+" "+estate.Line(u.Record))
				}
			}
		}
		if strings.Join(got, "\n") != c.want {
			t.Errorf("%s\ngot\n%s\nwant\n%s", c.word, strings.Join(got, "\n"), c.want)
		}
	}
}

// TestMove writes another in a word's place, and nowhere else.
func TestMove(t *testing.T) {
	e := parsed(t, records)
	for _, c := range []struct{ from, to, want string }{
		{"203.0.113.20", "198.51.100.1", `host box note "was 198.51.100.1 before" (stays)
address gate 198.51.100.1 internet
dns a.example A 198.51.100.1
dns a.example TXT "v=spf1 ip4:198.51.100.1 ip4:203.0.113.200 ip4:203.0.113.0/28 ip6:2001:DB8:0::20 -all"
dns mail.a.example A 198.51.100.1
name store.a.example 198.51.100.1 on box
forward gate 198.51.100.1:80,443 to 10.0.0.5:8080,8443
outbound gate from yard as 198.51.100.1
rule box pass 22 from 198.51.100.1,203.0.113.16/28,gate
site front a.example,198.51.100.1 to http://198.51.100.1:8080/x
intend 198.51.100.1 80 for 198.51.100.1 reaching box`},
		{"203.0.113.9", "198.51.100.1", `address gate 198.51.100.1 internet off (stays)`},
		{"mail.a.example", "post.a.example", `dns a.example MX 10 post.a.example.
dns post.a.example A 203.0.113.20`},
		{"a.example", "b.example", `zone b.example
dns b.example A 203.0.113.20
dns b.example MX 10 mail.a.example.
dns b.example TXT "v=spf1 ip4:203.0.113.20 ip4:203.0.113.200 ip4:203.0.113.0/28 ip6:2001:DB8:0::20 -all"
dns www.a.example CNAME b.example
site front b.example,203.0.113.20 to http://203.0.113.20:8080/x
site front www.a.example redirect https://b.example/
cert c for b.example,*.a.example expires 2027-01-01 on box/front
accept path.blocked b.example:80 until 2027-01-01 note "n"`},
		{"box", "crate", `network dock 172.20.0.0/24 on crate
host crate note "was 203.0.113.20 before"
address crate 10.0.0.5 yard
name store.a.example 203.0.113.20 on crate
filter box on crate input otherwise drop
container crate/front in dock=172.20.0.5
map crate/front 80 to 80
listen crate/front 80 as front
cert c for a.example,*.a.example expires 2027-01-01 on crate/front
intend 203.0.113.20 80 for 203.0.113.20 reaching crate`},
		{"203.0.113.20", "2001:db8::1", `dns a.example A 2001:db8::1 (stays: `},
		{"2001:db8::20", "198.51.100.1", `ip4:203.0.113.0/28 ip4:198.51.100.1 -all"
dns six.a.example AAAA 198.51.100.1 (stays: `},
	} {
		var got []string
		for _, s := range New(trace.New(model.Compile(e), "2026-11-25")).Move(c.from, c.to) {
			text := s.New
			switch {
			case s.Wrong != "":
				text += " (stays: " + s.Wrong + ")"
			case s.Keep:
				text += " (stays)"
			}
			got = append(got, text)
		}
		if all := strings.Join(got, "\n"); all != c.want && !(strings.HasSuffix(c.want, ": ") && strings.Contains(all, c.want)) {
			t.Errorf("%s to %s\ngot\n%s\nwant\n%s", c.from, c.to, all, c.want)
		}
	}
}

// BenchmarkFind looks for an address in 100,000 records.
func BenchmarkFind(b *testing.B) {
	var text strings.Builder
	text.WriteString("zone a.example\n")
	for i := range 100_000 {
		fmt.Fprintf(&text, "dns h%d.a.example A 10.%d.%d.%d\n", i, i>>16, i>>8&255, i&255)
	}
	text.WriteString("dns x.a.example A 192.0.2.1\ndns y.a.example CNAME x.a.example\n")
	e := parsed(b, text.String())
	b.Run("index", func(b *testing.B) {
		for b.Loop() {
			New(trace.New(model.Compile(e), "2026-11-25"))
		}
	})
	x := New(trace.New(model.Compile(e), "2026-11-25"))
	b.Run("find", func(b *testing.B) {
		for b.Loop() {
			if found := x.Find("192.0.2.1"); len(found) != 2 {
				b.Fatal(len(found))
			}
		}
	})
}
