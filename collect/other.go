//go:build !linux

package collect

import (
	"errors"

	"steady-compass/intake/engine"
	"steady-compass/intake/machine"
)

var errLinux = errors.New("a machine can be read on Linux only; from others, send the listings: socket listing, ip -json, hosts file")

func network(*machine.Account) error { return errLinux }

func sockets(*machine.Account, engine.State, map[string]string) error { return errLinux }
