package zonefile

import (
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"steady-compass/core/estate"
	"steady-compass/core/names"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

func parsed(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

func said(r intake.Reading) string {
	var out []string
	for _, rec := range r.Records {
		out = append(out, estate.Line(rec))
	}
	return strings.Join(out, "\n")
}

func read(t testing.TB, zone, text string, e *estate.Estate) intake.Reading {
	t.Helper()
	files, main := Memory("zone", text)
	r, err := Read(Source{Zone: zone, Files: files, Main: main}, e)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func compiled(e *estate.Estate) *names.Names {
	return names.Compile(e, func(host string, v6 bool) ([]netip.Addr, bool) {
		if host == "gate" && !v6 {
			return []netip.Addr{netip.MustParseAddr("192.0.2.61")}, false
		}
		return nil, true
	})
}

var everybody = names.Asker{Levels: [][]string{{"internet"}}}

func TestRead(t *testing.T) {
	for _, c := range []struct{ name, zone, in, want string }{
		{"owners, ttl, names", "", `$ORIGIN a.example.
$TTL 1h
@ IN SOA ns hostmaster 1 2h 1h 2w 5m
  NS ns
  NS ns.elsewhere.test.
ns A 192.0.2.1
   300 AAAA 2001:DB8::1
www CNAME @
*.lab MX 10 mail ; to the mail
mail 3600 IN A 192.0.2.2`, `zone a.example ttl 1h
dns a.example SOA ns.a.example. hostmaster.a.example. 1 7200 3600 1209600 300
dns a.example NS ns.a.example
dns a.example NS ns.elsewhere.test
dns ns.a.example A 192.0.2.1
dns ns.a.example AAAA 2001:db8::1 ttl 5m
dns www.a.example CNAME a.example
dns *.lab.a.example MX 10 mail.a.example.
dns mail.a.example A 192.0.2.2`},
		{"no ttl anywhere", "a.example", "@ A 192.0.2.1\nb A 192.0.2.2", "zone a.example\ndns a.example A 192.0.2.1\ndns b.a.example A 192.0.2.2"},
		{"unknown types, texts", "a.example", "$TTL 60\nx TYPE65534 \\# 2 0A0b\ny TXT ( \"v=spf1 ip4:192.0.2.1\"\n \"a \\\"b\\\"; c\" )\nz CAA 0 issue \"ca.example\"", `zone a.example ttl 1m
dns x.a.example TYPE65534 \# 2 0A0b
dns y.a.example TXT "v=spf1 ip4:192.0.2.1" "a \"b\"; c"
dns z.a.example CAA 0 issue "ca.example"`},
		{"generated", "a.example", "$TTL 60\n$GENERATE 1-3 n$ A 192.0.2.$", "zone a.example ttl 1m\ndns n1.a.example A 192.0.2.1\ndns n2.a.example A 192.0.2.2\ndns n3.a.example A 192.0.2.3"},
		{"the same line twice", "a.example", "$TTL 60\nx A 192.0.2.1\nx A 192.0.2.1", "zone a.example ttl 1m\ndns x.a.example A 192.0.2.1"},
		{"signed", "a.example", "$TTL 60\nx A 192.0.2.1\nx NSEC y.a.example. A", "zone a.example ttl 1m\ndns x.a.example A 192.0.2.1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := read(t, c.zone, c.in, parsed(t, ""))
			if len(r.Faults) > 0 {
				t.Errorf("faults: %v", r.Faults)
			}
			if got := said(r); got != c.want {
				t.Errorf("got\n%s\nwant\n%s", got, c.want)
			}
		})
	}
}

func TestInclude(t *testing.T) {
	files := fstest.MapFS{
		"main":     {Data: []byte("$ORIGIN a.example.\n$TTL 60\n@ A 192.0.2.1\n$INCLUDE sub/more b.a.example.\nlast A 192.0.2.9\n")},
		"sub/more": {Data: []byte("@ A 192.0.2.2\nx A 192.0.2.300\ny A 192.0.2.3\n")},
	}
	r, err := Read(Source{Zone: "a.example", Files: files, Main: "main"}, parsed(t, ""))
	if err != nil {
		t.Fatal(err)
	}
	if want := "zone a.example ttl 1m\ndns a.example A 192.0.2.1\ndns b.a.example A 192.0.2.2\ndns y.b.a.example A 192.0.2.3\ndns last.a.example A 192.0.2.9"; said(r) != want {
		t.Errorf("got\n%s\nwant\n%s", said(r), want)
	}
	if len(r.Faults) != 1 || r.Faults[0].File != "sub/more" || r.Faults[0].Line != 2 {
		t.Errorf("faults: %v", r.Faults)
	}
}

// TestIncludeFromElsewhere reads a zone that names a file by where it is on another machine; what is wrong in that has its line there.
func TestIncludeFromElsewhere(t *testing.T) {
	files := fstest.MapFS{
		"main": {Data: []byte("$ORIGIN a.example.\n$TTL 60\n@ A 192.0.2.1\n$INCLUDE /etc/zones/more\nlast A 192.0.2.9\n")},
		"more": {Data: []byte("x A 192.0.2.2\n\nother.test. A 192.0.2.3\n")},
	}
	r, err := Read(Source{Zone: "a.example", Files: files, Main: "main"}, parsed(t, ""))
	if err != nil {
		t.Fatal(err)
	}
	if want := "zone a.example ttl 1m\ndns a.example A 192.0.2.1\ndns x.a.example A 192.0.2.2\ndns last.a.example A 192.0.2.9"; said(r) != want {
		t.Errorf("got\n%s\nwant\n%s", said(r), want)
	}
	if len(r.Faults) != 1 || r.Faults[0].File != "more" || r.Faults[0].Line != 3 {
		t.Errorf("faults: %v", r.Faults)
	}
}

// TestFaults finds each fault of a damaged file by its line, and keeps what does not hang on it.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ name, in, faults, want string }{
		{"two bad lines", "$TTL 60\na A 1.2.3\nb A 192.0.2.2\nc MX mail\nd A 192.0.2.4", "2 4", "b d"},
		{"a bad owner takes its lines along", "$TTL 60\na A 192.0.2.1\n..b A 192.0.2.2\n  AAAA 2001:db8::1\n\n  TXT x\nc A 192.0.2.3", "3 4 6", "a c"},
		{"a bad line under an owner", "$TTL 60\na A 192.0.2.1\n  AAAA nonsense\n  AAAA 2001:db8::1", "3", "a a"},
		{"a bad origin takes what follows along", "$TTL 60\na A 192.0.2.1\n$ORIGIN ..\nb A 192.0.2.2\n$ORIGIN c.a.example.\nc A 192.0.2.3", "3 4", "a c.c"},
		{"a parenthesis left open", "$TTL 60\na A 192.0.2.1\nb SOA ns root ( 1 2 3\nc A 192.0.2.3\nd A 192.0.2.4", "3", "a c d"},
		{"several lines in parentheses", "$TTL 60\na SOA ns root (\n 1 2 3\n 4 x )\nb A 192.0.2.2", "4", "b"},
		{"outside the zone", "$TTL 60\nb.test. A 192.0.2.1\na A 192.0.2.2", "2", "a"},
		{"outside the zone, over several lines", "$TTL 60\n\na ( A\n 192.0.2.2 )\nb.test. (\n A 192.0.2.1 ; )\n)\nc A 192.0.2.3", "5", "a c"},
		{"what is generated", "$TTL 60\na A 192.0.2.2\n$GENERATE 1-3 h$ A 192.0.2.300\nb A 192.0.2.3", "3", "a b"},
		{"records that end too soon", "$TTL 60\nw CAA 0 issue\na A 192.0.2.2\nx SOA ns root 1 2 3 4\nb A 192.0.2.3\ny RRSIG A\nc A 192.0.2.4", "2 4 6", "a b c"},
		{"a file that was not given", "$TTL 60\na A 192.0.2.2\n$INCLUDE /etc/zones/none\nb A 192.0.2.3", "3", "a b"},
		{"no such type", "$TTL 60\na FOO 192.0.2.1\nb A 192.0.2.2", "2", "b"},
		{"quote left open", "$TTL 60\na TXT \"x\nb A 192.0.2.2\nc A 192.0.2.3", "2", "b c"},
		{"a ttl that none can be", "$TTL 60\na 2687731204 A 192.0.2.1\nb 2147483647 A 192.0.2.2", "2", "b"},
		{"a default that no ttl can be", "$TTL 2687731204\na A 192.0.2.1\nb 60 A 192.0.2.2", "2", "b"},
		{"nothing but noise", "\x00\xff\xfe<html>", "1", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := read(t, "a.example", c.in, parsed(t, ""))
			var lines, owners []string
			for _, f := range r.Faults {
				lines = append(lines, strings.TrimSpace(strings.Split(f.String(), ":")[1]))
			}
			for _, rec := range r.Records[1:] {
				owners = append(owners, strings.TrimSuffix(rec.(*estate.DNS).Owner, ".a.example"))
			}
			if got := strings.Join(lines, " "); got != c.faults {
				t.Errorf("faults in lines %s, want %s: %v", got, c.faults, r.Faults)
			}
			if got := strings.Join(owners, " "); got != c.want {
				t.Errorf("kept %s, want %s", got, c.want)
			}
		})
	}
}

const recorded = `
host gate router
zone a.example ttl 1h
zone sub.a.example
zone a.example for yard
dns a.example SOA ns.a.example. root.a.example. 7 7200 3600 1209600 300
dns a.example NS ns.a.example
dns ns.a.example A 192.0.2.1 note "the old one; still"
dns www.a.example CNAME a.example ttl 5m
dns a.example A 192.0.2.1
dns a.example MX 10 mail.a.example.
dns a.example TXT "v=spf1 ip4:192.0.2.1 -all"
dns *.lab.a.example A 192.0.2.3
dns dyn.a.example A dynamic gate every 5m ttl 1m
dns al.a.example ALIAS www.a.example
dns gone.a.example A 192.0.2.9 off
dns x.sub.a.example A 192.0.2.4
dns a.example A 10.0.0.1 for yard
`

// TestThereAndBack writes zones and reads them again: nothing is to be changed, and an empty estate gets the same.
func TestThereAndBack(t *testing.T) {
	e := parsed(t, recorded)
	n := compiled(e)
	yard := []estate.Selector{{Name: "yard"}}
	for _, c := range []struct {
		zone  string
		asker names.Asker
		for_  []estate.Selector
		lines int
	}{
		{"a.example", everybody, nil, 10},
		{"sub.a.example", everybody, nil, 1},
		{"a.example", names.Asker{Levels: [][]string{{"yard"}}}, yard, 1},
	} {
		text, left, err := Write(n, c.zone, c.asker)
		if err != nil || len(left) > 0 {
			t.Fatal(err, left)
		}
		files, main := Memory("zone", text)
		src := Source{Zone: c.zone, Files: files, Main: main, For: c.for_}
		again, err := Read(src, e)
		if err != nil || len(again.Faults) > 0 {
			t.Fatalf("%v %v\n%s", err, again.Faults, text)
		}
		if p := intake.Compare(e, again); len(p.Add)+len(p.Change)+len(p.Gone) > 0 || p.Leave == 0 {
			t.Errorf("%s comes back otherwise: %d to add, %d to change, %d gone\n%s\n%s", c.zone, len(p.Add), len(p.Change), len(p.Gone), text, said(again))
		}
		fresh, err := Read(src, parsed(t, ""))
		if err != nil {
			t.Fatal(err)
		}
		want := 0
		for _, r := range fresh.Records[1:] {
			want++
			if !strings.Contains(notation.Print(e), estate.Line(r)) && !strings.Contains(recorded, estate.Line(r)) {
				t.Errorf("%s is not what was recorded", estate.Line(r))
			}
		}
		if want != c.lines {
			t.Errorf("%s: %d lines came back, want %d\n%s", c.zone, want, c.lines, text)
		}
	}
}

// TestCompare shows what an import would do to what is recorded.
func TestCompare(t *testing.T) {
	e := parsed(t, recorded)
	r := read(t, "a.example", `$TTL 1h
@ SOA ns root 8 7200 3600 1209600 300
@ NS NS.A.example.
ns 60 A 192.0.2.1
www 300 CNAME @
@ A 192.0.2.77
@ MX 10 mail
dyn 60 A 192.0.2.200
al 5 A 192.0.2.1
`, e)
	p := intake.Compare(e, r)
	var got []string
	for _, a := range p.Add {
		got = append(got, "+ "+estate.Line(a))
	}
	for _, s := range p.Change {
		got = append(got, "- "+estate.Line(s.Old), "+ "+estate.Line(s.New))
	}
	for _, g := range p.Gone {
		got = append(got, "gone "+estate.Line(g))
	}
	want := `- dns a.example SOA ns.a.example. root.a.example. 7 7200 3600 1209600 300
+ dns a.example SOA ns.a.example. root.a.example. 8 7200 3600 1209600 300
- dns ns.a.example A 192.0.2.1 note "the old one; still"
+ dns ns.a.example A 192.0.2.1 ttl 1m note "the old one; still"
- dns a.example A 192.0.2.1
+ dns a.example A 192.0.2.77
gone dns a.example TXT "v=spf1 ip4:192.0.2.1 -all"
gone dns *.lab.a.example A 192.0.2.3`
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
	next, err := e.Apply(p.Edit(true))
	if err != nil {
		t.Fatal(err)
	}
	if p := intake.Compare(next, r); len(p.Add)+len(p.Change)+len(p.Gone) > 0 {
		t.Errorf("the same file a second time changes something: %v", p)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("$TTL 60\n@ A 192.0.2.1\n  MX 10 (\n mail )\n$GENERATE 1-2 x$ A 192.0.2.$\n")
	f.Add("$ORIGIN ..\n\"\n(;)\n\\")
	f.Fuzz(func(t *testing.T, text string) {
		files, main := Memory("zone", text)
		r, err := Read(Source{Zone: "a.example", Files: files, Main: main, Most: 500}, parsed(t, ""))
		if err != nil {
			return
		}
		for _, rec := range r.Records {
			if _, _, err := notation.ParseLine(estate.Line(rec)); err != nil {
				t.Errorf("%s: %v", estate.Line(rec), err)
			}
		}
	})
}

// BenchmarkRead reads a zone file of 100,000 records and compares it with the same, recorded.
func BenchmarkRead(b *testing.B) {
	var lines strings.Builder
	lines.WriteString("$ORIGIN a.example.\n$TTL 3600\n")
	for i := range 100_000 {
		lines.WriteString("h")
		lines.WriteString(strings.Repeat("x", i%7))
		lines.WriteString(string(rune('a' + i%26)))
		lines.WriteString(strings.ReplaceAll(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}).String(), ".", "-"))
		lines.WriteString(" A ")
		lines.WriteString(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}).String())
		lines.WriteString("\n")
	}
	text := lines.String()
	r := read(b, "a.example", text, parsed(b, ""))
	e, err := parsed(b, "").Apply(intake.Compare(parsed(b, ""), r).Edit(false))
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if p := intake.Compare(e, read(b, "a.example", text, e)); p.Leave != 100_001 {
			b.Fatalf("%d left", p.Leave)
		}
	}
}

// TestInPlace pairs what goes with what comes for one name, and clears the place of an alias.
func TestInPlace(t *testing.T) {
	e := parsed(t, `zone a.example ttl 1m
dns a.example A 192.0.2.1 note "the first"
dns a.example A 192.0.2.2
dns www.a.example CNAME a.example
dns x.a.example A 192.0.2.3
dns x.a.example TXT "t"
dns x.a.example AAAA 2001:db8::1
`)
	p := intake.Compare(e, read(t, "a.example", "$TTL 60\n@ A 192.0.2.9\n@ A 192.0.2.2\n@ A 192.0.2.8\nwww A 192.0.2.9\nx CNAME a.example.\n", e))
	next, err := e.Apply(p.Edit(false))
	if err != nil {
		t.Fatal(err)
	}
	want := `zone      a.example ttl 1m
dns       a.example A 192.0.2.9 note "the first"
dns       a.example A 192.0.2.2
dns       www.a.example A 192.0.2.9
dns       x.a.example CNAME a.example
dns       a.example A 192.0.2.8
`
	if got := notation.Print(next); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if len(p.Change) != 3 || len(p.Add) != 1 || len(p.Gone) != 0 || len(p.Displaced) != 2 {
		t.Errorf("%d change, %d come, %d gone, %d displaced", len(p.Change), len(p.Add), len(p.Gone), len(p.Displaced))
	}
}

// TestManyFaults reads a zone in which every record is at fault: each is told by its line, and no more than anybody reads.
func TestManyFaults(t *testing.T) {
	r := read(t, "a.example", "$TTL 60\n"+strings.Repeat("x.other.test. A 192.0.2.1\n", 60_000), parsed(t, ""))
	if n := len(r.Faults); n != intake.MostFaults+1 || r.Faults[999].Line != 1001 {
		t.Errorf("%d faults, the thousandth %v", n, r.Faults[min(n, 1000)-1])
	}
}
