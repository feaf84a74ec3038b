package lab

import (
	"context"
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
