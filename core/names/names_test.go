package names

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"steady-compass/core/notation"
)

func compile(t *testing.T, text string) *Names {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return Compile(e, func(host string, v6 bool) ([]netip.Addr, bool) {
		if host == "gate" && !v6 {
			return []netip.Addr{netip.MustParseAddr("192.0.2.61")}, false
		}
		return nil, true
	})
}

const zones = `
zone a.example ttl 1h
zone sub.a.example
zone a.example for yard,box
dns a.example A 192.0.2.1
dns www.a.example CNAME a.example
dns deep.er.a.example A 192.0.2.2
dns *.a.example A 192.0.2.3
dns *.a.example MX 10 mail.a.example
dns *.er.a.example CNAME www.a.example
dns out.a.example CNAME elsewhere.test
dns gone.a.example CNAME none.sub.a.example
dns l1.a.example CNAME l2.a.example
dns l2.a.example CNAME l1.a.example
dns al.a.example ALIAS www.a.example
dns dn.a.example DNAME er.a.example
dns cut.a.example NS ns.elsewhere.test
dns dyn.a.example A dynamic gate
dns dyn.a.example AAAA dynamic gate
dns a.example A 10.0.0.1 for yard
dns in.a.example A 10.0.0.2 for box
dns sub.a.example A 192.0.2.9
dns x.sub.a.example A 192.0.2.10
dns x.sub.a.example A 10.0.0.10 for yard
dns alone.b.test A 192.0.2.11
name www.a.example 10.9.9.9 on box
`

func TestAsk(t *testing.T) {
	n := compile(t, zones)
	internet := Asker{Levels: [][]string{{"internet"}}}
	yard := Asker{Levels: [][]string{{"yard"}}}
	box := Asker{Levels: [][]string{{"box"}, {"shed"}}, Place: "box"}
	for _, c := range []struct {
		name, qtype string
		asker       Asker
		want        string
	}{
		{"a.example", "A", internet, "NOERROR a.example: 192.0.2.1"},
		{"a.example", "AAAA", internet, "NOERROR a.example:"},
		{"www.a.example", "A", internet, "NOERROR www.a.example a.example: 192.0.2.1"},
		{"other.a.example", "A", internet, "NOERROR other.a.example: 192.0.2.3"},
		{"two.labels.a.example", "A", internet, "NOERROR two.labels.a.example: 192.0.2.3"},
		{"er.a.example", "A", internet, "NOERROR er.a.example:"},
		{"x.er.a.example", "A", internet, "NOERROR x.er.a.example www.a.example a.example: 192.0.2.1"},
		{"x.deep.er.a.example", "A", internet, "NXDOMAIN x.deep.er.a.example:"},
		{"x.www.a.example", "A", internet, "NXDOMAIN x.www.a.example:"},
		{"other.a.example", "MX", internet, "NOERROR other.a.example: 10 mail.a.example"},
		{"out.a.example", "A", internet, "outside out.a.example elsewhere.test:"},
		{"gone.a.example", "A", internet, "NXDOMAIN gone.a.example none.sub.a.example:"},
		{"l1.a.example", "A", internet, "SERVFAIL l1.a.example l2.a.example l1.a.example:"},
		{"al.a.example", "A", internet, "NOERROR al.a.example www.a.example a.example: 192.0.2.1"},
		{"q.dn.a.example", "A", internet, "NOERROR q.dn.a.example q.er.a.example www.a.example a.example: 192.0.2.1"},
		{"dn.a.example", "A", internet, "NOERROR dn.a.example:"},
		{"x.cut.a.example", "A", internet, "outside x.cut.a.example:"},
		{"dyn.a.example", "A", internet, "NOERROR dyn.a.example: 192.0.2.61"},
		{"dyn.a.example", "AAAA", internet, "NOERROR dyn.a.example: ?"},
		{"a.example", "A", yard, "NOERROR a.example: 10.0.0.1"},
		{"in.a.example", "A", yard, "NOERROR in.a.example: 10.0.0.2"},
		{"www.a.example", "A", yard, "NXDOMAIN www.a.example:"},
		{"www.a.example", "A", box, "NOERROR www.a.example: 10.9.9.9"},
		{"www.a.example", "AAAA", box, "NOERROR www.a.example:"},
		{"x.sub.a.example", "A", internet, "NOERROR x.sub.a.example: 192.0.2.10"},
		{"x.sub.a.example", "A", yard, "NOERROR x.sub.a.example: 10.0.0.10"},
		{"alone.b.test", "A", internet, "NOERROR alone.b.test: 192.0.2.11"},
		{"none.b.test", "A", internet, "outside none.b.test:"},
	} {
		a := n.Ask(c.name, c.qtype, c.asker)
		got := strings.TrimSpace(a.Code.String() + " " + strings.Join(a.Chain, " ") + ": " + strings.Join(a.Values, " "))
		if got != c.want {
			t.Errorf("%s %s\ngot  %s\nwant %s", c.name, c.qtype, got, c.want)
		}
	}
}

func TestOverrideOfOneName(t *testing.T) {
	n := compile(t, `
zone a.example
dns w.a.example A 192.0.2.1
dns w.a.example AAAA 2001:db8::1
dns w.a.example TXT "t"
dns w.a.example A 10.0.0.1 for yard
`)
	yard := Asker{Levels: [][]string{{"yard"}}}
	for qtype, want := range map[string]string{"A": "10.0.0.1", "AAAA": "", "TXT": `"t"`} {
		if got := strings.Join(n.Ask("w.a.example", qtype, yard).Values, " "); got != want {
			t.Errorf("%s: %q, want %q", qtype, got, want)
		}
	}
}

// BenchmarkAsk answers out of 100,000 records: a name, an alias's target, a wildcard's name and one that is not there.
func BenchmarkAsk(b *testing.B) {
	var text strings.Builder
	text.WriteString("zone a.example ttl 1h\n")
	for i := range 50_000 {
		fmt.Fprintf(&text, "dns h%d.d%d.a.example A 10.0.%d.%d\ndns w%d.d%d.a.example CNAME h%d.d%d.a.example\n", i, i%100, i>>8&255, i&255, i, i%100, i, i%100)
	}
	text.WriteString("dns *.lab.a.example A 10.0.0.1\n")
	e, faults := notation.Parse(text.String())
	if len(faults) > 0 {
		b.Fatal(faults)
	}
	n := Compile(e, nil)
	internet := Asker{Levels: [][]string{{"internet"}}}
	for _, name := range []string{"h77.d77.a.example", "w77.d77.a.example", "x.y.lab.a.example", "none.d77.a.example"} {
		b.Run(strings.SplitN(name, ".", 2)[0], func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				n.Ask(name, "A", internet)
			}
		})
	}
}
