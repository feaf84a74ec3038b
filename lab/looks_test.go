package lab

import (
	"context"
	"flag"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/model"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/fetch"
)

var judgedLooks = flag.Int("judge.looks", 3, "how many random estates are laid out and looked at from every machine in them")

// TestLooksSeeWhatIsRecorded lays random estates out in network namespaces, looks from every machine in them at what the others have, and
// finds nothing that is otherwise than recorded. Each look is planned, bounded and judged as the command does it.
func TestLooksSeeWhatIsRecorded(t *testing.T) {
	needNamespaces(t, "nft", "ip")
	told := map[look.Agreement]int{}
	refused, unheard := 0, 0
	for seed := uint64(1); seed <= uint64(*judgedLooks); seed++ {
		r := rand.New(rand.NewPCG(seed, 16))
		e := parsedEstate(t, departingDrops(synth.Crossing(r)))
		tr := trace.New(model.Compile(e), "2026-12-01")
		var targets []string
		for range 40 {
			q := synth.Ask(r)
			target := netip.AddrPortFrom(q.To, q.Port).String()
			if q.UDP {
				target += "/udp"
			}
			targets = append(targets, target)
		}
		l := layOut(t, e)
		for _, h := range of[*estate.Host](e) {
			if h.Outside {
				continue
			}
			s := l.at(h.Name)
			self := selfOf(e, h.Name)
			plan, err := look.PlanOf(context.Background(), tr, self, look.Question{Targets: targets})
			if err != nil {
				t.Fatal(err)
			}
			refused += len(plan.Refused)
			if plan.From != h.Name { // its one address is in a network that another's is in as well
				continue
			}
			o := fetch.LookOptions{From: plan.From, Self: self, Certain: plan.Certain, Rate: 400, Within: 2 * time.Second, Dial: func(ctx context.Context, network, address string) (conn net.Conn, err error) {
				err = s.do(func() error {
					conn, err = (&net.Dialer{}).DialContext(ctx, network, address)
					return err
				})
				return conn, err
			}}
			err = fetch.Looks(context.Background(), plan.Contacts, o, func(seen look.Look) {
				look.Judge(tr, &seen)
				switch {
				case seen.Agrees == look.Differs && seen.Came == look.Silent && unheardOf(e):
					unheard++
				case seen.Agrees == look.Differs:
					t.Errorf("seed %d: from %s %s at %s: %s\n%s", seed, h.Name, seen.Target, seen.Address, seen.Says, relevant(e))
				default:
					told[seen.Agrees]++
				}
			})
			if err != nil {
				t.Fatal(err)
			}
		}
		l.close()
		if t.Failed() {
			return
		}
	}
	if told[look.Agrees] < 20**judgedLooks {
		t.Errorf("only %d looks agreed", told[look.Agrees])
	}
	t.Logf("%d estates: %v looks, %d that are not allowed, %d answers that may be lost on their way", *judgedLooks, told, refused, unheard)
}

// selfOf is what a recorded machine knows of itself.
func selfOf(e *estate.Estate, host string) look.Self {
	s := look.Self{Hostname: host}
	for _, a := range of[*estate.Address](e) {
		if a.Off || !a.Held.Addr.IsValid() || !slices.Contains(a.Hosts, host) || a.Hosts[0] != host {
			continue
		}
		bits := a.Held.Addr.BitLen()
		for _, n := range of[*estate.Network](e) {
			for _, p := range n.Prefixes {
				if n.Name == a.Network && p.Contains(a.Held.Addr) {
					bits = p.Bits()
				}
			}
		}
		s.Prefixes = append(s.Prefixes, netip.PrefixFrom(a.Held.Addr, bits))
	}
	return s
}
