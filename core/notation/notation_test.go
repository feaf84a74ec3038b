package notation

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
)

func parse(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v\nin\n%s", faults, text)
	}
	return e
}

func TestExampleIsCanonical(t *testing.T) {
	if got := Print(parse(t, example)); got != example {
		t.Errorf("printed otherwise:\n%s", got)
	}
}

// TestCanonical ties what a person may write to the one form in which it is printed.
func TestCanonical(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{`NETWORK Yard 10.40.0.0/24, 2001:db8::/64 ON azimuth`, `network yard 10.40.0.0/24,2001:db8::/64 on azimuth`},
		{`address  a,b  ::ffff:192.0.2.1   internet dynamic`, `address a,b 192.0.2.1 internet dynamic`},
		{`address a ? internet`, `address a ? internet`},
		{`address a 203.0.113.32/28 internet`, `address a 203.0.113.32/28 internet`},
		{`route a default via 10.0.0.1`, `route a default via 10.0.0.1`},
		{`dns Www.Fernmoor.Example. cname fernmoor.example. ttl 300 for yard`, `dns www.fernmoor.example CNAME fernmoor.example ttl 5m for yard`},
		{`dns x.example AAAA 2001:DB8:0::1`, `dns x.example AAAA 2001:db8::1`},
		{`dns x.example TXT "v=spf1 ip4:203.0.113.20 -all"   "more" ttl 90`, `dns x.example TXT "v=spf1 ip4:203.0.113.20 -all" "more" ttl 90s`},
		{`dns x.example TXT "note" note "n"`, `dns x.example TXT "note" note "n"`},
		{`dns x.example CNAME note.`, `dns x.example CNAME note.`},
		{`dns . NS a.example`, `dns . NS a.example`},
		{`dns ridge.example A every 10m dynamic ridge-gate`, ``},
		{`dns ridge.example A dynamic ridge-gate every 600`, `dns ridge.example A dynamic ridge-gate every 10m`},
		{`dns x.example TYPE65534 \# 4 0A000001`, `dns x.example TYPE65534 \# 4 0A000001`},
		{`forward r 80,443 to 10.0.0.1 from any until 2026-12-31`, `forward r 80,443 to 10.0.0.1 from any until 2026-12-31`},
		{`forward r at 2 203.0.113.9:8000-8002/udp to 10.0.0.1:9000-9002 hairpin`, `forward r 203.0.113.9:8000-8002/udp to 10.0.0.1:9000-9002 hairpin`},
		{`forward r 203.0.113.9:any to 10.0.0.1`, `forward r 203.0.113.9:any to 10.0.0.1`},
		{`forward r [2001:db8::9]:443 to [2001:db8::1]:8443`, `forward r [2001:db8::9]:443 to [2001:db8::1]:8443`},
		{`forward r 443 to 2001:db8::1`, `forward r 443 to 2001:db8::1`},
		{`outbound r as unchanged from 10.0.0.0/8`, `outbound r from 10.0.0.0/8 as unchanged`},
		{`filter f on a,b input otherwise refuse stateless ipv4 drop-wins`, `filter f on a,b input otherwise refuse ipv4 drop-wins stateless`},
		{`rule f pass any/tcp to a leaving internet from on-link`, `rule f pass any/tcp from on-link to a leaving internet`},
		{`rule f drop 53/udp+tcp`, `rule f drop 53/tcp+udp`},
		{`container h/c in dock=172.20.0.5+2001:db8::5, net2 alias web,www`, `container h/c in dock=172.20.0.5+2001:db8::5,net2 alias web,www`},
		{`container h/c shares-host`, `container h/c shares-host`},
		{`map h/c 127.0.0.1:5432 to 5432 no-relay`, `map h/c 127.0.0.1:5432 to 5432 no-relay`},
		{`listen h *:443 as web tls cert a,b first-answers`, `listen h 443 as web tls cert a,b first-answers`},
		{`listen h [::]:443 as web`, `listen h [::]:443 as web`},
		{`listen h 0.0.0.0:443/udp as web shared`, `listen h 0.0.0.0:443/udp as web shared`},
		{`map h/c any to any`, `map h/c any to any`},
		{`site s * files`, `site s * files`},
		{`site s b.example, *.a.example,10.0.0.1 files`, `site s b.example,*.a.example,10.0.0.1 files`},
		{`site s a.example files "/var/www" at 80 path /x default`, `site s a.example at 80 path /x files "/var/www" default`},
		{`site s at 1 a.example at 443 to pool desk speaking https verified guard sign`, `site s a.example at 443 to pool desk speaking https verified guard sign`},
		{`site s a.example to HTTP://App:3000/x?y=1 guard "a \"door\""`, `site s a.example to http://app:3000/x?y=1 guard "a \"door\""`},
		{`site s 203.0.113.20 redirect https://b.example/`, `site s 203.0.113.20 redirect https://b.example/`},
		{`site s a.example to http://[2001:db8::1]/`, `site s a.example to http://[2001:db8::1]/`},
		{`pool p sticky random check 8080 path /ok every 5 up-after 2`, `pool p random sticky check 8080 path /ok every 5s up-after 2`},
		{`member p orrery-a:8443 share 3`, `member p orrery-a:8443 share 3`},
		{`member p [2001:db8::1]:80 out`, `member p [2001:db8::1]:80 out`},
		{`cert c for a.example,*.a.example expires 2027-01-01 on h,h/c by hand renew 2w`, `cert c for a.example,*.a.example expires 2027-01-01 on h,h/c by hand renew 2w`},
		{`intend h/c 22 for nobody`, `intend h/c 22 for nobody`},
		{`accept exposure.undeclared "azimuth:22/tcp" until 2027-01-01 note "known"`, `accept exposure.undeclared azimuth:22/tcp until 2027-01-01 note "known"`},
		{`tunnel t from h/c to gate.example:7000`, `tunnel t from h/c to gate.example:7000`},
		{`host münchen`, ``},
		{`zone bücher.example ttl 1w without wildcard,apex-alias`, `zone xn--bcher-kva.example ttl 1w without wildcard,apex-alias`},
	} {
		p, _, err := ParseLine(c.in)
		if c.want == "" {
			if err == nil {
				t.Errorf("%s\nis taken as %s", c.in, estate.Line(p.Record))
			}
			continue
		}
		if err != nil {
			t.Errorf("%s\n%v", c.in, err)
			continue
		}
		got := estate.Line(p.Record)
		if got != c.want {
			t.Errorf("%s\nprinted %s\nwant    %s", c.in, got, c.want)
		}
		if strings.TrimSpace(estate.KindOf(p.Record).Says(p.Record)) == "" {
			t.Errorf("%s says nothing", c.in)
		}
	}
}

func TestFaults(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{`foward r 80 to 10.0.0.1`, `1:1: no kind of record is called "foward"; expected one of`},
		{`network yard 10.40.0.1/24`, `1:14: 10.40.0.1/24 has bits set behind its length; expected 10.40.0.0/24`},
		{`address m 10.40.0.1/24 yard`, `1:11: 10.40.0.1/24 has bits set behind its length; expected 10.40.0.1; the length belongs to the network`},
		{`forward r 80,4e3 to 10.0.0.1`, `1:14: "4e3" is no port`},
		{`forward r 80, 99999 to 10.0.0.1`, `1:15: "99999" is no port; expected a port from 1 to 65535`},
		{`forward r 80 too 10.0.0.1`, `1:14: "too" cannot stand here; expected 'to' (nearest: to)`},
		{`forward r 80,443,8080 to 10.0.0.1:1,2`, `1:1: 3 ports cannot be translated to 2; expected one port, or 3, after to`},
		{`map h/c 80 to any`, `1:1: 'any' stands after 'to' only where it stands before it`},
		{`forward r 80 to 10.0.0.1:any`, `1:26: 'any' cannot stand behind the address; expected the address alone`},
		{`forward r 80 to 10.0.0.1 inside hairpin`, `1:33: inside and hairpin cannot stand together`},
		{`forward r [2001:db8::1]:80 to 10.0.0.1`, `1:1: 2001:db8::1 and 10.0.0.1 are of different families`},
		{`rule edge pass 443 from yard,`, `1:29: the line ends in a comma`},
		{`rule edge pass 443 form yard`, `1:20: "form" cannot stand here; expected from, to, entering, leaving, off, until, note or the end of the line (nearest: from)`},
		{`rule edge pass 443 from yard from dock`, `1:30: from stands here a second time`},
		{`rule edge alow 443`, `1:11: "alow" cannot stand here; expected pass, drop, refuse or unknown`},
		{`host internet`, `1:6: "internet" is a reserved word`},
		{`host 10.0.0.1`, `1:6: "10.0.0.1" is an address`},
		{`listen azimuth 443`, `1:19: the line ends here; expected 'as'`},
		{`dns a.example A 300.1.1.1`, `1:17: "300.1.1.1" is none; expected an IPv4 address`},
		{`dns a.example MX mail.example`, `1:18: `},
		{`dns a.example XX 1`, `1:15: "XX" is no record type`},
		{`site s a.example`, `1:1: the site does nothing`},
		{`site s a.example files /srv/x`, `1:24: /srv/x stands without quotes; expected a text in double quotes, as "/srv/x"`},
		{`site s a.example to http://x redirect https`, `1:30: to and redirect cannot stand together`},
		{`site s a.example to pol`, `1:21: "pol" is no URL`},
		{`cert c for a.example expires 2027-02-30 on h`, `1:30: "2027-02-30" is no day of the calendar`},
		{`host a note "open`, `1:13: a quote that is not closed`},
		{`host a note open`, `1:13: "open" is not in quotes`},
		{`accept path.blocked x until 2027-01-01`, `1:1: a finding is accepted for a reason`},
		{"host a\x00", `1:7: a control character (U+0000)`},
		{"host a\xff", `1:7: the line is not UTF-8 here`},
	} {
		_, faults := Parse(c.in)
		if len(faults) == 0 {
			t.Errorf("%s\nis taken", c.in)
			continue
		}
		if got := faults[0].Error(); !strings.HasPrefix(got, c.want) {
			t.Errorf("%s\nsays %s\nwant %s", c.in, got, c.want)
		}
	}
}

func TestEveryFaultAtOnce(t *testing.T) {
	_, faults := Parse("host a\nhots b\n\nnetwork x\nestate \"A\"\nestate \"B\"\n")
	var lines []int
	for _, f := range faults {
		lines = append(lines, f.Line)
	}
	if len(lines) != 3 || lines[0] != 2 || lines[1] != 4 || lines[2] != 6 {
		t.Errorf("faults on lines %v: %v", lines, faults)
	}
}

func TestOrderCommentsAndPlaces(t *testing.T) {
	e := parse(t, `rule g pass 1
# about the first
rule edge pass 80   # and behind it
filter edge on a input otherwise drop
rule edge at 1 drop 22
filter g on a input otherwise drop
host a
# the end
`)
	want := `host      a
filter    edge on a input otherwise drop
rule      edge drop 22
# about the first
# and behind it
rule      edge pass 80
filter    g on a input otherwise drop
rule      g pass 1
# the end
`
	if got := Print(e); got != want {
		t.Errorf("printed\n%s\nwant\n%s", got, want)
	}
}

func TestEverythingIsStoredAsWritten(t *testing.T) {
	for _, k := range estate.Kinds {
		if k.Word == "" || len(k.Fields) < 4 {
			t.Errorf("kind %q has %d fields", k.Word, len(k.Fields))
		}
	}
	e := parse(t, example)
	for _, r := range e.All() {
		k := estate.KindOf(r)
		c := k.New()
		for i := range k.Fields {
			f := &k.Fields[i]
			if values := f.Values(r); len(values) > 0 {
				if err := f.Load(c, values); err != nil {
					t.Fatalf("%s, field %s: %v", estate.Line(r), f.Column, err)
				}
			}
		}
		if err := estate.Complete(c); err != nil || estate.Line(c) != estate.Line(r) {
			t.Errorf("%s\ncomes back as %s (%v)", estate.Line(r), estate.Line(c), err)
		}
	}
}

// TestNamesLikeWords: things may be called as a word of notation is; what is printed of them is read as the same again.
func TestNamesLikeWords(t *testing.T) {
	tried := 0
	for _, r := range parse(t, example).All() {
		k := estate.KindOf(r)
		for i := range k.Fields {
			for j := range k.Fields {
				word := k.Fields[j].Lead
				p, _, err := ParseLine(estate.Line(r))
				if err != nil || word == "" {
					continue
				}
				f := &k.Fields[i]
				if f.Column == "value" || f.Column == "files" || f.Column == "names" && word == "at" {
					continue // a value ends there; files excludes others; a place stands there
				}
				if f.Flag || f.Load(p.Record, []string{word}) != nil || estate.Complete(p.Record) != nil {
					continue // no such value may stand there
				}
				line := estate.Line(p.Record)
				again, _, err := ParseLine(line)
				if err != nil {
					t.Errorf("%s called %s: %q is not read: %v", f.Column, word, line, err)
				} else if got := estate.Line(again.Record); got != line {
					t.Errorf("%s called %s: %q is read as %q", f.Column, word, line, got)
				}
				tried++
			}
		}
	}
	p, _, err := ParseLine("dns a.example CNAME ttl. ttl 5m")
	if err != nil || estate.Line(p.Record) != "dns a.example CNAME ttl. ttl 5m" {
		t.Errorf("an alias of a name called ttl: %v %v", p.Record, err)
	}
	if tried < 200 {
		t.Errorf("only %d words tried", tried)
	}
}

func FuzzParsePrint(f *testing.F) {
	f.Add(example)
	f.Add("dns a.example TXT \"a b\" 'c ttl 5 # x\nsite s * to http://[::1]:80/ guard \"\\\"\"")
	f.Add("map h/c 1-3,7 to 4,5-7\nroute h 10.0.0.0/8 via 10.0.0.1 note \"x\\\\\"")
	f.Fuzz(func(t *testing.T, text string) {
		first, faults := Parse(text)
		if len(faults) > 0 {
			for _, fault := range faults {
				if fault.Line < 1 || fault.Column < 1 || fault.What == "" {
					t.Fatalf("a fault without a place: %+v", fault)
				}
			}
			return
		}
		printed := Print(first)
		second, faults := Parse(printed)
		if len(faults) > 0 {
			t.Fatalf("%v\nin what was printed:\n%s", faults, printed)
		}
		if again := Print(second); again != printed {
			t.Fatalf("printed\n%q\nthen\n%q", printed, again)
		}
		c := estate.Difference(estate.New(nil, nil), first)
		read, faults := ParseChange(PrintChange(c), estate.New(nil, nil))
		if len(faults) > 0 || PrintChange(read) != PrintChange(c) {
			t.Fatalf("%v: the change\n%s\nis read as\n%s", faults, PrintChange(c), PrintChange(read))
		}
	})
}
