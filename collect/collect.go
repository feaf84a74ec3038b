// Package collect reads the machine that it runs on: its interfaces, routes, listening sockets and hosts file from the
// kernel and the system's files, and its containers from a container engine's socket. It changes nothing, and needs no
// rights for what everybody may see; what could not be seen, it says.
package collect

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/intake/engine"
	"steady-compass/intake/hostsfile"
	"steady-compass/intake/machine"
)

// Options say what to read.
type Options struct {
	Host   string // what the machine is called; "": by its host name
	Engine string // the engine's Unix socket; "": the first of the usual ones that is there; "none": no engine
	Hosts  string // the hosts file; "": that of the system
}

// usualEngines are the sockets at which engines answer where nothing else is said.
func usualEngines() []string {
	out := []string{"/run/docker.sock", "/var/run/docker.sock", "/run/podman/podman.sock"}
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		out = append(out, dir+"/podman/podman.sock", dir+"/docker.sock")
	}
	return out
}

// Machine is the account of this machine.
func Machine(ctx context.Context, o Options) (machine.Account, error) {
	host := o.Host
	if host == "" {
		name, err := os.Hostname()
		if err != nil {
			return machine.Account{}, fmt.Errorf("the machine's name cannot be read: %w", err)
		}
		host, _, _ = strings.Cut(name, ".")
	}
	clean := estate.CleanName(host)
	if clean == "" {
		return machine.Account{}, fmt.Errorf("%q cannot be a machine's name here; expected letters, digits, '-', '_' or '.': say one with --host", host)
	}
	a := machine.Account{Host: clean}
	machine.Add(&a, &estate.Host{Name: clean})

	state, names, err := containers(ctx, &a, o.Engine)
	if err != nil {
		return a, err
	}
	if err := network(&a); err != nil {
		return a, err
	}
	hosts := cmp.Or(o.Hosts, "/etc/hosts")
	if text, err := os.ReadFile(hosts); err != nil {
		a.Left = append(a.Left, fmt.Sprintf("The hosts file could not be read: %v.", err))
	} else {
		r := hostsfile.Read(hosts, string(text), clean)
		a.Records, a.Left = append(a.Records, r.Records...), append(a.Left, r.Left...)
		for _, f := range r.Faults {
			a.Left = append(a.Left, "In the hosts file, "+f.String()+".")
		}
		a.Whole = append(a.Whole, machine.Whole{Aspect: machine.Names, Place: clean})
	}
	if err := sockets(&a, state, names); err != nil {
		return a, err
	}
	if forwarding() {
		a.Forwards()
	}
	return a, nil
}

// containers asks the engine.
func containers(ctx context.Context, a *machine.Account, socket string) (engine.State, map[string]string, error) {
	if socket == "none" {
		return engine.State{}, nil, nil
	}
	asked := socket
	if socket == "" {
		i := slices.IndexFunc(usualEngines(), func(path string) bool { _, err := os.Stat(path); return err == nil })
		if i < 0 {
			a.Left = append(a.Left, "No container engine's socket is in its usual place; --engine says another.")
			return engine.State{}, nil, nil
		}
		socket = usualEngines()[i]
	}
	state, err := Engine(ctx, socket)
	switch {
	case err != nil && asked != "":
		return state, nil, err
	case err != nil:
		a.Left = append(a.Left, fmt.Sprintf("The container engine could not be asked: %v.", err))
		return engine.State{}, nil, nil
	}
	b, names := state.Account(a.Host, true)
	a.Join(b)
	return state, names, nil
}

// forwarding says whether the machine passes packets on.
func forwarding() bool {
	for _, path := range []string{"/proc/sys/net/ipv4/ip_forward", "/proc/sys/net/ipv6/conf/all/forwarding"} {
		if text, err := os.ReadFile(path); err == nil && strings.TrimSpace(string(text)) == "1" {
			return true
		}
	}
	return false
}
