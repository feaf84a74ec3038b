package lab

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"steady-compass/collect"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/demo"
	"steady-compass/intake"
	"steady-compass/intake/format"
	"steady-compass/intake/zonefile"
	"steady-compass/lab/engine"
)

// serveEngine plays a container engine until the test ends, and gives its socket.
func serveEngine(t *testing.T, fixture []byte) string {
	t.Helper()
	handler, err := engine.New(fixture)
	if err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(t.TempDir(), "engine.sock")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	srv := &http.Server{Handler: handler}
	go func() { _ = srv.Serve(l) }()
	t.Cleanup(func() { _ = srv.Close() })
	return socket
}

// told says whether listings of machines and zones tell a record, and not only people.
func told(r estate.Record) bool {
	switch r := r.(type) {
	case *estate.Network:
		return r.On != ""
	case *estate.Address:
		return r.Held.Addr.IsValid() && !r.Off
	case *estate.Container, *estate.Map, *estate.Listen, *estate.HostsEntry, *estate.DNS:
		return true
	}
	return false
}

// The whole demo is written again from what its machines, its container engine and its name servers would say, and from
// what only people know. It says the same then.
func TestRebuildTheDemo(t *testing.T) {
	e, faults := notation.Parse(demo.Estate)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	var people []estate.Record
	for _, r := range e.All() {
		if !told(r) {
			people = append(people, r)
		}
	}
	next := estate.New(people, nil)
	take := func(src format.Source) {
		t.Helper()
		reading, err := format.Read(src, next)
		if err != nil || len(reading.Faults) > 0 {
			t.Fatalf("%s: %v %v", src.Format, err, reading.Faults)
		}
		if next, err = next.Apply(intake.Compare(next, reading).Edit(true)); err != nil {
			t.Fatal(err)
		}
		again, err := format.Read(src, e)
		if err != nil {
			t.Fatal(err)
		}
		if p := intake.Compare(e, again); len(p.Add)+len(p.Change)+len(p.Gone) > 0 {
			t.Errorf("to the demo as it is, %s of %s brings %v", src.Format, src.Place, planned(p))
		}
	}
	state, err := collect.Engine(context.Background(), serveEngine(t, engine.Demo))
	if err != nil {
		t.Fatal(err)
	}
	documents, err := json.Marshal(map[string]any{"c": state.Containers, "n": state.Networks})
	if err != nil {
		t.Fatal(err)
	}
	var lists map[string]json.RawMessage
	if err := json.Unmarshal(documents, &lists); err != nil {
		t.Fatal(err)
	}
	take(format.Source{Format: "inspect", Place: "azimuth", Texts: []intake.File{{Name: "networks", Text: string(lists["n"])}, {Name: "containers", Text: string(lists["c"])}}})

	m := model.Compile(e)
	for _, p := range m.Places {
		if !p.IsContainer() {
			take(format.Source{Format: "ip", Place: p.Name, Texts: []intake.File{{Name: "addr", Text: ipListing(p, m)}}})
		}
		if text := socketListing(e, p.Name, m); text != "" {
			take(format.Source{Format: "sockets", Place: p.Name, Texts: []intake.File{{Name: "ss", Text: text}}})
		}
		if text, _, err := format.Write("hosts", p.Name, "", nil, e); err == nil && text != "" {
			take(format.Source{Format: "hosts", Place: p.Name, Texts: []intake.File{{Name: "hosts", Text: text}}})
		}
	}
	for _, rec := range e.Of(estate.KindNamed("dns")) { // split views and dynamic values are a person's words
		if d := rec.(*estate.DNS); len(d.For) > 0 || d.Dynamic != "" {
			next, _ = next.Apply(estate.Change{Add: []estate.Placed{{Record: d}}})
		}
	}
	for _, rec := range e.Of(estate.KindNamed("listen")) { // and so is what does not run
		if rec.Meta().Off {
			next, _ = next.Apply(estate.Change{Add: []estate.Placed{{Record: rec}}})
		}
	}
	zone, left, err := format.Write("zone", "fernmoor.example", "internet", nil, e)
	if err != nil || len(left) > 0 {
		t.Fatal(err, left)
	}
	reading, err := format.Read(zoneSource(zone), next)
	if err != nil || len(reading.Faults) > 0 {
		t.Fatal(err, reading.Faults)
	}
	if next, err = next.Apply(intake.Compare(next, reading).Edit(true)); err != nil {
		t.Fatal(err)
	}

	// A socket listing does not say which listeners speak TLS: a person marks them, as in the demo.
	for _, r := range e.Of(estate.KindNamed("listen")) {
		want := r.(*estate.Listen)
		if !want.TLS && !want.Passthrough {
			continue
		}
		plain := estate.With(want, func(l *estate.Listen) { l.TLS, l.Certs = false, nil })
		var was *estate.Listen
		for _, x := range next.Of(estate.KindNamed("listen")) {
			l := x.(*estate.Listen)
			if l.Place == want.Place && l.Service == want.Service && l.Bind.Addr == want.Bind.Addr && l.Bind.Set().Intersect(want.Bind.Set()).Equal(want.Bind.Set()) {
				was = l
			}
		}
		if was == nil {
			t.Fatalf("nothing rebuilt has %s in\n%s", estate.Line(plain), notation.Print(next))
		}
		c := estate.Change{Remove: []string{estate.Line(was)}, Add: []estate.Placed{{Record: want}}}
		if rest := was.Bind.Set().Subtract(want.Bind.Set()); !rest.IsEmpty() {
			c.Add = append(c.Add, estate.Placed{Record: estate.With(was, func(l *estate.Listen) { l.Bind.Ranges = rest.Ranges() })})
		}
		if next, err = next.Apply(c); err != nil {
			t.Fatal(err)
		}
	}
	if got, want := verdicts(t, next), verdicts(t, e); !slices.Equal(got, want) {
		t.Errorf("rebuilt, it says\n%s\nand not\n%s", strings.Join(without(got, want), "\n"), strings.Join(without(want, got), "\n"))
	}
}

func without(a, b []string) []string {
	return slices.DeleteFunc(slices.Clone(a), func(s string) bool { return slices.Contains(b, s) })
}

// verdicts are what is found in an estate, by code, subject and sentence.
func verdicts(t *testing.T, e *estate.Estate) []string {
	t.Helper()
	report, err := findings.Check(context.Background(), trace.New(model.Compile(e), "2026-11-25"), "2026-11-25")
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range report.Findings {
		if strings.HasPrefix(f.Code, "order.") || strings.HasPrefix(f.Code, "record.") {
			continue
		}
		// A machine's listing does not say in which container that shares its addresses a program runs.
		out = append(out, f.Code+" "+f.Subject+": "+strings.ReplaceAll(f.Why, "azimuth/gauge", "azimuth"))
	}
	slices.Sort(out)
	return out
}

func zoneSource(text string) format.Source {
	files, name := zonefile.Memory("fernmoor.example.zone", text)
	return format.Source{Format: "zone", Files: files, Texts: []intake.File{{Name: name, Text: text}}}
}

// ipListing is what `ip -json addr` of a machine would print.
func ipListing(p *model.Place, m *model.Model) string {
	type address struct {
		Local   string `json:"local"`
		Length  int    `json:"prefixlen"`
		Dynamic bool   `json:"dynamic,omitempty"`
	}
	type link struct {
		Name      string    `json:"ifname"`
		Addresses []address `json:"addr_info"`
	}
	links := []link{{"lo", []address{{"127.0.0.1", 8, false}}}}
	for i, leg := range p.Attachments {
		l := link{Name: fmt.Sprintf("eth%d", i)}
		n := m.Networks[leg.Net]
		for _, a := range leg.Addrs {
			length := 29 // of a provider's network
			if n.Record != nil {
				for _, c := range n.Record.Prefixes {
					if c.Contains(a) {
						length = c.Bits()
					}
				}
			}
			l.Addresses = append(l.Addresses, address{a.String(), length, n.Record == nil && p.Name == "ridge-gate"})
		}
		links = append(links, l)
	}
	text, err := json.Marshal(links)
	if err != nil {
		panic(err)
	}
	return string(text)
}

// socketListing is what `ss -tulpn` would print in a place.
func socketListing(e *estate.Estate, place string, m *model.Model) string {
	var b strings.Builder
	b.WriteString("Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\n")
	n := 0
	for _, r := range e.Of(estate.KindNamed("listen")) {
		l := r.(*estate.Listen)
		at := m.PlaceNamed(l.Place)
		if l.Off || at == nil || m.Places[at.Namespace].Name != place {
			continue
		}
		n++
		for _, proto := range l.Bind.Transport.Each() {
			for _, ports := range l.Bind.Ranges {
				for port := int(ports.Lo); port <= int(ports.Hi); port++ {
					state := map[netset.Transport]string{netset.TCP: "LISTEN", netset.UDP: "UNCONN"}[proto]
					host := "*"
					if l.Bind.Addr.IsValid() {
						host = netip.AddrPortFrom(l.Bind.Addr, 0).String()
						host = strings.TrimSuffix(host, ":0")
					}
					fmt.Fprintf(&b, "%s %s 0 128 %s:%d *:* users:((%q,pid=%d,fd=3))\n", proto, state, host, port, l.Service, 100+n)
				}
			}
		}
	}
	if n == 0 {
		return ""
	}
	return b.String()
}

func planned(p intake.Plan) []string {
	out := p.Lines()
	for _, r := range p.Gone {
		out = append(out, "gone "+estate.Line(r))
	}
	return out
}
