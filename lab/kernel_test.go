package lab

import (
	"flag"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var (
	judgedEstates     = flag.Int("judge.estates", 4, "how many random estates are laid out in the kernel")
	judgeFrom         = flag.Uint64("judge.from", 1, "the first of their seeds")
	judgedConnections = flag.Int("judge.connections", 150, "how many connections are tried in each")
)

// departingDrops has filters on departing flows drop where they refuse: the kernel cannot refuse there.
func departingDrops(text string) string {
	lines := strings.Split(text, "\n")
	departing := map[string]bool{}
	for i, line := range lines {
		words := strings.Fields(line)
		switch {
		case len(words) > 1 && words[0] == "filter" && strings.Contains(line, " departing "):
			departing[words[1]] = true
			lines[i] = strings.Replace(line, "otherwise refuse", "otherwise drop", 1)
		case len(words) > 2 && words[0] == "rule" && departing[words[1]] && words[2] == "refuse":
			lines[i] = strings.Replace(line, " refuse ", " drop ", 1)
		}
	}
	return strings.Join(lines, "\n")
}

// verdictOn is the records' word on a connection, in the probe's words, name saying who answers; "" where it cannot be
// told.
func verdictOn(t *testing.T, tr *trace.Tracer, from string, p *probe, name func(*trace.Path) string) string {
	t.Helper()
	v, err := tr.VantageNamed(from)
	if err != nil {
		t.Fatal(err)
	}
	key := flow.PortKey{Port: p.to.Port(), Transport: p.proto}
	tg := trace.Target{Text: p.to.String(), Addr: p.to.Addr(), Port: p.to.Port(), Proto: p.proto}
	for _, path := range tr.TracePort(tg, key, v) {
		if p.source.IsValid() && !amongSources(path.Sources, p.source) {
			continue
		}
		switch path.Outcome {
		case flow.Arrives:
			return "arrived " + name(&path)
		case flow.Outside:
			return "arrived outside"
		case flow.LostReply:
			return "silent"
		case flow.Undecided:
			return ""
		}
		return string(path.Outcome)
	}
	return "no path"
}

// TestEstatesAgainstTheKernel lays random estates out in network namespaces, and holds what real connections meet
// against what the records say.
func TestEstatesAgainstTheKernel(t *testing.T) {
	needNamespaces(t, "nft", "ip")
	tried, unheard, told, differ := 0, 0, map[string]int{}, 0
	for seed := *judgeFrom; seed < *judgeFrom+uint64(*judgedEstates) && differ < 5; seed++ {
		r := rand.New(rand.NewPCG(seed, 21))
		text := departingDrops(synth.Crossing(r))
		e := parsedEstate(t, text)
		tr := trace.New(model.Compile(e), "2026-11-25")
		l := layOut(t, e)
		by := map[string][]*probe{}
		var from []string
		for range *judgedConnections {
			q := synth.Ask(r)
			proto := netset.TCP
			if q.UDP {
				proto = netset.UDP
			}
			if by[q.From] == nil {
				from = append(from, q.From)
			}
			by[q.From] = append(by[q.From], &probe{source: q.Source, to: netip.AddrPortFrom(q.To, q.Port), proto: proto})
		}
		var g errgroup.Group
		for _, vantage := range from {
			g.Go(func() error { return l.at(vantage).tryAll(by[vantage]) })
		}
		if err := g.Wait(); err != nil {
			t.Fatal(err)
		}
		for vantage, list := range by { // on a busy machine an answer may come too late: what should not be silent is tried again
			var again []*probe
			for _, p := range list {
				if p.got == "silent" && verdictOn(t, tr, vantage, p, endOf) != "silent" {
					p.got, p.name = "", ""
					again = append(again, p)
				}
			}
			if err := l.at(vantage).tryAll(again); err != nil {
				t.Fatal(err)
			}
		}
		for _, vantage := range from {
			for _, p := range by[vantage] {
				want := verdictOn(t, tr, vantage, p, endOf)
				if want == "" {
					continue
				}
				if p.got == "silent" && answered[want] && unheardOf(e) {
					unheard++
					continue
				}
				tried++
				told[strings.Fields(want)[0]]++
				if got := strings.TrimSpace(p.got + " " + p.name); got != want {
					if differ++; differ <= 5 {
						t.Errorf("seed %d: from %s %s to %s/%s the kernel: %s (seen as %s); the records: %s\n%s", seed, vantage, p.source, p.to, p.proto, got, p.seen, want, relevant(e))
					}
				}
			}
		}
		l.close()
	}
	t.Logf("%d estates, %d connections: %v; %d refusals not followed back", *judgedEstates, tried, told, unheard)
}

func endOf(p *trace.Path) string { return *p.End }

// answered are outcomes that are told by an answer, which may be lost on its way.
var answered = map[string]bool{"refused": true, "unroutable": true, "arrived outside": true}

// unheardOf says whether an estate has lines by which an answer may be lost: a source that is another's, a translation back
// into the client's own network with the source kept, or to a machine on two networks, which may be the client itself, a filter
// without state, a private source that nothing rewrites on its way out. The records call what refuses a refusal, heard or not.
func unheardOf(e *estate.Estate) bool {
	kept := func(n *estate.Network) bool {
		return n.Routed && slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Addr().Is6() && p.Addr().IsPrivate() })
	}
	nets := map[string]map[string]bool{} // that the holders of addresses are on
	holder := map[netip.Addr]string{}
	for _, a := range of[*estate.Address](e) {
		if nets[a.Hosts[0]] == nil {
			nets[a.Hosts[0]] = map[string]bool{}
		}
		nets[a.Hosts[0]][a.Network], holder[a.Held.Addr] = true, a.Hosts[0]
	}
	astride := func(f *estate.Forward) bool { return len(nets[holder[f.To.Addr]]) > 1 }
	if slices.ContainsFunc(of[*estate.Forward](e), astride) {
		return true
	}
	return slices.ContainsFunc(of[*estate.Network](e), kept) || len(of[*estate.Outbound](e)) > 0 || slices.ContainsFunc(of[*estate.Filter](e), func(f *estate.Filter) bool { return f.Stateless }) || slices.ContainsFunc(of[*estate.Forward](e), func(f *estate.Forward) bool { return f.Inside })
}

// relevant are the lines that differ from one random estate to the next.
func relevant(e *estate.Estate) string {
	var out []string
	for _, r := range e.All() {
		switch r.(type) {
		case *estate.Host, *estate.Address, *estate.Route:
		default:
			out = append(out, estate.Line(r))
		}
	}
	return strings.Join(out, "\n")
}
