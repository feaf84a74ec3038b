package lab

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/intake"
	"steady-compass/intake/packetfilter"
)

// TestRulesetsInTheKernel writes the rulesets of machines of random estates, loads them into the kernel's packet filter,
// lists what it has then, and reads that: nothing has changed. In the kernel's JSON, and in the older save format.
func TestRulesetsInTheKernel(t *testing.T) {
	needNamespaces(t, "nft", "iptables-restore", "iptables-save", "ip6tables-restore", "ip6tables-save")
	demoText, err := os.ReadFile("../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	type question struct{ name, text, host string }
	var all []question
	for _, host := range []string{"meridian", "azimuth", "zenith", "dome", "ridge-gate"} {
		all = append(all, question{"the demo", string(demoText), host})
	}
	for seed := uint64(1); seed <= 12; seed++ {
		text := departingDrops(synth.Crossing(rand.New(rand.NewPCG(seed, 5))))
		for _, host := range []string{"edge", "inner", "box"} {
			all = append(all, question{fmt.Sprintf("seed %d", seed), text, host})
		}
	}
	loaded, lines := 0, 0
	for _, q := range all {
		e, faults := notation.Parse(q.text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		rs, left, err := packetfilter.FromRecords(e, q.host, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, form := range []struct {
			write      func() (string, []string)
			load, list []string
			read       func(file, text string) (*packetfilter.Ruleset, []intake.FileFault)
		}{
			{func() (string, []string) { return packetfilter.WriteJSON(rs), nil }, []string{"nft", "-j", "-f", "-"}, []string{"nft", "-j", "list", "ruleset"}, packetfilter.ReadJSON},
			{func() (string, []string) { return packetfilter.WriteSave(rs, false) }, []string{"iptables-restore"}, []string{"iptables-save"}, packetfilter.ReadSave},
			{func() (string, []string) { return packetfilter.WriteSave(rs, true) }, []string{"ip6tables-restore"}, []string{"ip6tables-save"}, packetfilter.ReadSave},
		} {
			text, unsaid := form.write()
			s, err := newSpace("ruleset")
			if err != nil {
				t.Fatal(err)
			}
			listed, err := runIn(s, text, form.load, form.list)
			s.close()
			if err != nil {
				t.Fatalf("%s, %s: %v\n%s", q.name, q.host, err, text)
			}
			loaded++
			back, faults := form.read("listed", listed)
			if len(faults) > 0 {
				t.Fatalf("%s, %s: what the kernel lists is not read: %v\n%s", q.name, q.host, faults, listed)
			}
			if len(unsaid)+len(left) > 0 && !strings.HasPrefix(q.name, "the demo") || reordered(e, q.host, form.load[0] != "nft") {
				continue
			}
			plan := intake.Compare(e, packetfilter.Source{Host: q.host}.Reading(back, e))
			lines += plan.Leave
			if changed := plan.Lines(); len(changed) > 0 {
				t.Errorf("%s, %s by %s: came back otherwise\n%s", q.name, q.host, form.load[0], strings.Join(changed, "\n"))
			}
		}
	}
	if lines < 60 {
		t.Errorf("only %d lines came back the same", lines)
	}
	t.Logf("%d rulesets loaded, %d lines came back the same", loaded, lines)
}

// reordered says whether a ruleset says a machine's lines in another way than they are written: where drops win they come
// first, what is on several machines stays as it is, and in the save format several filters on a hook are one.
func reordered(e *estate.Estate, host string, saved bool) bool {
	hooks := map[string]int{}
	for _, f := range of[*estate.Filter](e) {
		if !slices.Contains(f.On, host) {
			continue
		}
		hooks[f.Hook]++
		if f.DropWins || len(f.On) > 1 || saved && hooks[f.Hook] > 1 {
			return true
		}
	}
	return false
}

// runIn gives a program a text in a namespace, and says what another prints there then.
func runIn(s *space, text string, load, list []string) (string, error) {
	var out bytes.Buffer
	err := s.do(func() error {
		in := exec.Command(load[0], load[1:]...)
		in.Stdin = strings.NewReader(text)
		if said, err := in.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", load[0], err, said)
		}
		show := exec.Command(list[0], list[1:]...)
		show.Stdout = &out
		return show.Run()
	})
	return out.String(), err
}
