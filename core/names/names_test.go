package names

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
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

// TestAge says how long an old answer may be seen: the most of the chain's TTLs, with the interval of a name that
// follows a machine; for what is not there the zone's negative TTL.
func TestAge(t *testing.T) {
	n := compile(t, `
zone a.example ttl 1h
zone b.example
dns a.example SOA ns.a.example. root.a.example. 1 7200 3600 1209600 300 ttl 10m
dns a.example A 192.0.2.1 ttl 5m
dns www.a.example CNAME a.example
dns dyn.a.example A dynamic gate every 10m ttl 1m
dns slow.a.example A dynamic gate ttl 1m
dns al.a.example ALIAS dyn.a.example ttl 2m
dns x.b.example A 192.0.2.2
dns out.a.example CNAME elsewhere.test ttl 3m
dns broken.a.example CNAME none.a.example ttl 20m
name h.a.example 10.0.0.1 on box
`)
	box := Asker{Levels: [][]string{{"box"}}, Place: "box"}
	for name, want := range map[string]string{
		"a.example": "5m", "www.a.example": "1h", "dyn.a.example": "11m", "slow.a.example": "not known", "al.a.example": "11m",
		"x.b.example": "not known", "none.a.example": "5m", "none.b.example": "not known", "out.a.example": "3m", "broken.a.example": "20m", "h.a.example": "0s",
	} {
		a := n.Ask(name, "A", box)
		got := "not known"
		if age, known := a.Age(); known {
			got = age.String()
		}
		if got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}

// TestStanding says by what a name that is not there would be answered.
func TestStanding(t *testing.T) {
	n := compile(t, `
zone a.example
dns a.example A 192.0.2.1
dns deep.er.a.example A 192.0.2.2
dns *.w.a.example A 192.0.2.3
dns w.a.example A 192.0.2.4
dns *.o.a.example A 10.0.0.1 for yard
dns o.a.example A 192.0.2.5
dns alone.test A 192.0.2.6
`)
	everybody, yard := Asker{Levels: [][]string{{"internet"}}}, Asker{Levels: [][]string{{"yard"}}}
	for _, c := range []struct {
		name  string
		asker Asker
		want  Standing
	}{
		{"a.example", everybody, Standing{Zone: "a.example", Exists: true}},
		{"er.a.example", everybody, Standing{Zone: "a.example", Exists: true}},
		{"x.a.example", everybody, Standing{Zone: "a.example", Encloser: "a.example"}},
		{"x.er.a.example", everybody, Standing{Zone: "a.example", Encloser: "er.a.example"}},
		{"y.x.w.a.example", everybody, Standing{Zone: "a.example", Encloser: "w.a.example", Wildcard: "*.w.a.example"}},
		{"x.o.a.example", everybody, Standing{Zone: "a.example", Encloser: "o.a.example"}},
		{"x.o.a.example", yard, Standing{Zone: "a.example", Encloser: "o.a.example", Wildcard: "*.o.a.example"}},
		{"alone.test", everybody, Standing{Exists: true}},
		{"x.alone.test", everybody, Standing{}},
	} {
		if got := n.Standing(c.name, c.asker); got != c.want {
			t.Errorf("%s: %+v, want %+v", c.name, got, c.want)
		}
	}
	if a := n.Ask("x.o.a.example", "A", yard); len(a.Values) != 1 || a.Values[0] != "10.0.0.1" || !a.Wildcard {
		t.Errorf("a wildcard of the yard's own: %+v", a)
	}
	for name, want := range map[string]string{"xn--bcher-kva.example": "bücher.example", "*.xn--bcher-kva.example": "*.bücher.example", "a.example": "", "xn--.example": ""} {
		if got := Unicode(name); got != want {
			t.Errorf("%s is written %q, want %q", name, got, want)
		}
	}
}

// TestTooLong is a DNAME that makes a name of more than 253 characters (RFC 6672 §2.2).
func TestTooLong(t *testing.T) {
	long := strings.Repeat("a23456789012345678901234567890.", 7) + "b.example"
	n := compile(t, "zone a.example\nzone b.example\ndns d.a.example DNAME "+long+"\n")
	everybody := Asker{Levels: [][]string{{"internet"}}}
	if a := n.Ask("x.d.a.example", "A", everybody); a.Code != NXDomain || len(a.Chain) != 2 {
		t.Errorf("a name that fits: %v %v", a.Code, a.Chain)
	}
	if a := n.Ask(strings.Repeat("x23456789.", 4)+"d.a.example", "A", everybody); a.Code != YXDomain {
		t.Errorf("one that does not: %v", a.Code)
	}
	if a := n.Ask("x.d.a.example", "CNAME", everybody); a.Code != NoError || len(a.Values) != 1 {
		t.Errorf("the alias that it makes: %v %v", a.Code, a.Values)
	}
}

// TestAfterEdits holds what names answer after edits, one on the other, against what they answer when all is compiled anew.
func TestAfterEdits(t *testing.T) {
	holds := func(host string, v6 bool) ([]netip.Addr, bool) {
		return []netip.Addr{netip.MustParseAddr("192.0.2.61")}, v6
	}
	askers := []Asker{{Levels: [][]string{{"internet"}}}, {Levels: [][]string{{"yard"}}}, {Levels: [][]string{{"box"}, {"shed"}}, Place: "box"}}
	shared, done := 0, 0
	for seed := uint64(1); seed <= 25; seed++ {
		r := rand.New(rand.NewPCG(seed, 14))
		e, faults := notation.Parse(zones)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		n := Compile(e, holds)
		var gone []estate.Record
		asked := map[string]bool{"none.a.example": true, "x.er.a.example": true, "y.dn.a.example": true, "sub.a.example": true}
		for range 40 {
			c, kept := synth.Edit(r, n.estate, gone)
			next, err := n.estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			after, anew := n.After(next, holds), Compile(next, holds)
			for _, r := range next.Of(estate.KindNamed("dns")) {
				asked[r.(*estate.DNS).Owner] = true
			}
			for name := range asked {
				for _, qtype := range []string{"A", "MX", "NS", "CNAME", "TXT"} {
					for _, asker := range askers {
						got, want := fmt.Sprintf("%+v", after.Ask(name, qtype, asker)), fmt.Sprintf("%+v", anew.Ask(name, qtype, asker))
						if got != want {
							t.Fatalf("seed %d, after %v, %s %s\nanswers %s\nwant    %s", seed, c, name, qtype, got, want)
						}
					}
				}
				for _, asker := range askers {
					if got, want := after.Standing(name, asker), anew.Standing(name, asker); got != want {
						t.Fatalf("seed %d, after %v, %s stands %+v, want %+v", seed, c, name, got, want)
					}
				}
			}
			for _, zone := range []string{"a.example", "sub.a.example"} {
				for _, asker := range askers {
					z, list := after.Zone(zone, asker)
					w, want := anew.Zone(zone, asker)
					if z != w || !slices.Equal(list, want) {
						t.Fatalf("seed %d, after %v, zone %s has %d records, want %d", seed, c, zone, len(list), len(want))
					}
				}
			}
			if done++; len(after.views) > 0 && len(n.views) > 0 && after.views[0] == n.views[0] {
				shared++
			}
			n = after
		}
	}
	if done < 400 || shared < 100 {
		t.Errorf("%d edits, of which %d share what they leave alone", done, shared)
	}
}
