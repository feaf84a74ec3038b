package lab

import (
	"context"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"steady-compass/collect"
	"steady-compass/core/estate"
	"steady-compass/intake/account"
	"steady-compass/intake/machine"
)

// TestScriptSeesWhatCollectSees runs the script in a namespace, with the system's tools and with none but a small shell's own, and holds its account
// against what the program reads itself there: addresses, routes and sockets are the same, but for what the kernel shows to nobody without a tool.
func TestScriptSeesWhatCollectSees(t *testing.T) {
	needNamespaces(t, "ip", "busybox")
	wire, err := newSpace("script-wire")
	if err != nil {
		t.Fatal(err)
	}
	defer wire.close()
	box, err := newSpace("script-box")
	if err != nil {
		t.Fatal(err)
	}
	defer box.close()
	for _, n := range []struct{ network, address, six string }{{"near", "10.41.0.5/24", "fd00:41::5/64"}, {"far", "10.42.0.5/20", ""}} {
		if err := wire.bridge(n.network); err != nil {
			t.Fatal(err)
		}
		end := "p-" + n.network
		if err := join(box, n.network, wire, end); err != nil {
			t.Fatal(err)
		}
		if err := wire.plug(end, n.network); err != nil {
			t.Fatal(err)
		}
		for _, a := range []string{n.address, n.six} {
			if a == "" {
				continue
			}
			if err := box.hold(n.network, a); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, way := range [][]string{{"default", "via", "10.41.0.1"}, {"10.99.0.0/16", "via", "10.42.0.1"}, {"default", "via", "fd00:41::1"}} {
		if err := box.route(way...); err != nil {
			t.Fatal(err)
		}
	}
	err = box.do(func() error {
		for _, at := range []string{"10.41.0.5:8080", "[fd00:41::5]:8443", ":9000"} {
			l, err := net.Listen("tcp", at)
			if err != nil {
				return err
			}
			t.Cleanup(func() { _ = l.Close() })
		}
		u, err := net.ListenPacket("udp", "127.0.0.1:5353")
		if err == nil {
			t.Cleanup(func() { _ = u.Close() })
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	var own machine.Account
	if err := box.do(func() (err error) {
		own, err = collect.Machine(context.Background(), collect.Options{Host: "box", Engine: "none"})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	busybox, err := exec.LookPath("busybox")
	if err != nil {
		t.Fatal(err)
	}
	small := t.TempDir()
	for _, tool := range []string{"awk", "sed", "id", "uname", "hostname", "cat", "sort", "ls", "printf"} {
		if err := os.Symlink(busybox, filepath.Join(small, tool)); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		name    string
		command []string
		path    string
		kernel  bool // by what the kernel shows to everybody
	}{
		{"dash and the system's tools", []string{"dash", "-s"}, os.Getenv("PATH"), false},
		{"busybox alone", []string{busybox, "sh", "-s"}, small, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			var text []byte
			err := box.do(func() error {
				shell, err := exec.LookPath(c.command[0])
				if err != nil {
					return err
				}
				cmd := exec.Command(shell, c.command[1:]...)
				script := collect.Script
				if c.kernel { // its PATH is widened by the script itself
					script = strings.ReplaceAll(script, `PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"`, "")
				}
				cmd.Stdin, cmd.Env = strings.NewReader(script), []string{"PATH=" + c.path}
				text, err = cmd.Output()
				return err
			})
			if err != nil {
				t.Fatal(err)
			}
			a := account.Read("box", string(text), "box")
			if len(a.Faults) > 0 || !a.Machine.IsWhole(machine.Addresses, "box") {
				t.Fatalf("%v %v\n%s", a.Faults, a.Machine.Whole, text)
			}
			got, want := about(a.Machine), about(own)
			if !slices.Equal(got, want) {
				t.Errorf("the script's account:\n%s\nthe program's own:\n%s\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"), text)
			}
		})
	}
}

// about are the lines of an account that are of addresses, routes and sockets, in order.
func about(a machine.Account) []string {
	var out []string
	for _, r := range a.Records {
		switch r.(type) {
		case *estate.Network, *estate.Address, *estate.Route, *estate.Listen:
			out = append(out, estate.Line(r))
		}
	}
	slices.Sort(out)
	return out
}

// TestListedConfigurations reads random configurations of web servers as the script prints them, by its list of statements: of each request they say
// what they say when read whole, or, where a condition is withheld, that it is not known.
func TestListedConfigurations(t *testing.T) {
	for _, s := range webServers {
		t.Run(s.name, func(t *testing.T) {
			same, open := 0, 0
			for seed := range uint64(40) {
				r := rand.New(rand.NewPCG(seed, 18))
				c := &siting{ports: [2]int{8080, 8443}}
				s.write(r, c)
				c.ask(r)
				whole := c.modelled(t, s)
				text := c.text
				c.text = listed(t, map[string]string{"nginx": "listed_nginx", "apache2": "listed_apache", "haproxy": "listed_haproxy"}[s.name], c.text)
				for i, got := range c.modelled(t, s) {
					switch got {
					case whole[i]:
						same++
					case notKnown:
						open++
					default:
						t.Errorf("%v: whole it is %s, as listed %s\n%s\nlisted\n%s", c.requests[i], whole[i], got, text, c.text)
					}
				}
				if t.Failed() {
					return
				}
			}
			if open*3 > same {
				t.Errorf("%d requests as when read whole, %d not known", same, open)
			}
			t.Logf("%d requests as when read whole, %d not known", same, open)
		})
	}
}

// listed is a text as a function of the script prints it.
func listed(t *testing.T, function, text string) string {
	t.Helper()
	body := collect.Script[:strings.LastIndex(strings.TrimSpace(collect.Script), "\n")]
	cmd := exec.Command("sh", "-c", body+"\nLC_ALL=C; "+function)
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v", function, err)
	}
	return string(out)
}
