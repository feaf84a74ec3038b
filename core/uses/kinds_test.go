package uses

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
)

// ofEachKind has for every kind the lines in which a machine, here azimuth, may stand; "" for kinds where none may. A new kind fails
// the test until it is here.
var ofEachKind = map[string]string{
	"estate":    "",
	"network":   "network dock 172.20.0.0/24 on azimuth",
	"host":      "host azimuth",
	"address":   "address azimuth,spare 10.0.0.2 lan",
	"route":     "route azimuth default via 10.0.0.1",
	"group":     "group all azimuth,lan",
	"zone":      "zone inner.example for azimuth",
	"dns":       "dns box.inner.example A dynamic azimuth for azimuth",
	"name":      "name box.example 10.0.0.9 on azimuth",
	"forward":   "forward azimuth 80 to 10.0.0.9 from azimuth",
	"outbound":  "outbound azimuth from azimuth as unchanged",
	"filter":    "filter f on azimuth input otherwise drop",
	"rule":      "rule f pass 80 from azimuth to azimuth",
	"container": "container azimuth/web in dock",
	"map":       "map azimuth/web 80 to 80",
	"listen":    "listen azimuth 443 as front",
	"tunnel":    "tunnel t from azimuth to 203.0.113.9:7000",
	"site":      "site front a.example to http://azimuth:8080 sources azimuth",
	"pool":      "",
	"member":    "member p azimuth:80",
	"cert":      "cert c for a.example on azimuth",
	"intend":    "intend azimuth 22 for azimuth reaching azimuth:22",
	"accept":    `accept path.blocked azimuth:80/tcp until 2027-01-01 note "known"`,
}

// TestEveryKindMoves renames a machine: no kind of record leaves its old name behind.
func TestEveryKindMoves(t *testing.T) {
	var lines []string
	for _, k := range estate.Kinds {
		line, known := ofEachKind[k.Word]
		if !known {
			t.Errorf("the kind %s: whether a machine may stand in it is not said here", k.Word)
		}
		if line != "" {
			lines = append(lines, line)
		}
	}
	e, faults := notation.Parse(strings.Join(lines, "\n"))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	var c estate.Change
	for _, s := range New(trace.New(model.Compile(e), "")).Move("azimuth", "altair") {
		p, _, err := notation.ParseLine(s.New)
		if err != nil || s.Keep {
			t.Errorf("%s: %v, stays: %v", s.New, err, s.Keep)
			continue
		}
		c.Remove, c.Add = append(c.Remove, estate.Line(s.Record)), append(c.Add, p)
	}
	next, err := e.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.SplitSeq(notation.Print(next), "\n") {
		if strings.Contains(line, "azimuth") {
			t.Errorf("left behind: %s", line)
		}
	}
}

// TestSharedRule moves a port that another machine of the same filter needs: that one's stays, and the other comes beside it.
func TestSharedRule(t *testing.T) {
	const text = `network lan 10.0.0.0/24
host a
host b
address a 10.0.0.2 lan
address b 10.0.0.3 lan
listen a 80 as x
listen b 80 as y
filter both on a,b input otherwise drop
rule both pass 80
rule both pass 22,80 to a
`
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	var got []string
	for _, s := range New(trace.New(model.Compile(e), "")).Move("a:80", "8085") {
		got = append(got, s.New)
	}
	want := "rule both pass 80,8085\nrule both pass 22,8085 to a\nlisten a 8085 as x"
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
}

// TestPortTakenByAnother moves a port while another line takes it: what leads there from elsewhere stays, and leads to that one.
func TestPortTakenByAnother(t *testing.T) {
	e := notationtest.Parse(t, `network lan 10.0.0.0/24
host gate router
host a
address gate 203.0.113.7 internet
address gate 10.0.0.1 lan
address a 10.0.0.2 lan
forward gate 80 to 10.0.0.2
filter f on a input otherwise drop
rule f pass 80 to a
listen a 80 as x
intend a 80 for internet
`)
	index := New(trace.New(model.Compile(e), ""))
	for with, want := range map[string]string{
		"":                        "forward rule listen intend",
		"map a/new 80 to 3000":    "listen", // of a container that comes with it
		"listen a 79-81 as front": "listen",
		"listen a 80/udp as x":    "forward rule listen intend",
		"listen gate 80 as x":     "forward rule listen intend",
		"map a/new 8080 to 80":    "forward rule listen intend",
	} {
		var come []estate.Record
		if with != "" {
			p, _, err := notation.ParseLine(with)
			if err != nil {
				t.Fatal(err)
			}
			come = append(come, p.Record)
		}
		var moved []string
		for _, s := range index.Move("a:80", "8085", come...) {
			if !s.Keep {
				moved = append(moved, estate.KindOf(s.Record).Word)
			}
		}
		if got := strings.Join(moved, " "); got != want {
			t.Errorf("with %q: %s; want %s", with, got, want)
		}
	}
}
