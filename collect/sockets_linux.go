package collect

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/prometheus/procfs"
	"github.com/vishvananda/netlink/nl"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"steady-compass/core/netset"
	"steady-compass/intake/engine"
	"steady-compass/intake/machine"
)

// sockets reads the listening sockets of the machine and, where it may, of its containers.
func sockets(a *machine.Account, state engine.State, names map[string]string) error {
	here, err := listening()
	if err != nil {
		return fmt.Errorf("the sockets cannot be read: %w", err)
	}
	owners, hidden := programs()
	stacks := []stack{{a.Host, here}}
	var unseen []string
	for _, c := range state.Containers {
		name := names[c.ID]
		if name == "" || c.State.Pid == 0 || c.HostConfig.NetworkMode == "host" {
			continue
		}
		var inside []socket
		err := in(c.State.Pid, func() (err error) { inside, err = listening(); return err })
		if err != nil {
			unseen = append(unseen, name)
			continue
		}
		stacks = append(stacks, stack{name, inside})
	}
	slices.SortFunc(stacks[1:], func(a, b stack) int { return strings.Compare(a.place, b.place) })

	var found []machine.Observed
	for _, st := range stacks {
		for _, s := range st.sockets {
			owner := owners[s.inode]
			place := st.place
			if id := owner.container; place == a.Host && names[id] != "" {
				place = names[id] // it shares the machine's addresses
			}
			found = append(found, machine.Observed{Addr: s.addr, Port: s.port, Transport: s.proto, Program: owner.program, Hidden: hidden && owner.program == "", Place: place, Stack: st.place})
		}
		a.Whole = append(a.Whole, machine.Whole{Aspect: machine.TCP, Place: st.place}, machine.Whole{Aspect: machine.UDP, Place: st.place})
	}
	a.Hold(found)
	if len(unseen) > 0 {
		a.Left = append(a.Left, "What listens in these containers is seen by root only: "+strings.Join(unseen, ", ")+".")
	}
	return nil
}

// stack is a place with the sockets on its addresses.
type stack struct {
	place   string
	sockets []socket
}

// socket is a socket that waits for others.
type socket struct {
	addr  netip.Addr // not valid: every address of both families
	port  uint16
	proto netset.Transport
	inode uint32
}

// The layout of linux/inet_diag.h.
const (
	requestSize   = 56
	messageSize   = 72
	skV6Only      = 11 // INET_DIAG_SKV6ONLY
	stateListen   = 10 // TCP_LISTEN
	stateUnjoined = 7  // TCP_CLOSE: a UDP socket that is not connected
)

// question asks for the sockets of a family and a transport in one state (struct inet_diag_req_v2).
type question struct{ family, protocol, state uint8 }

func (q question) Len() int { return requestSize }

func (q question) Serialize() []byte {
	b := make([]byte, requestSize)
	b[0], b[1] = q.family, q.protocol
	binary.NativeEndian.PutUint32(b[4:], 1<<q.state)
	return b
}

// listening are the sockets of the thread's network namespace that wait for others (sock_diag).
func listening() ([]socket, error) {
	var out []socket
	for _, q := range []question{
		{unix.AF_INET, unix.IPPROTO_TCP, stateListen},
		{unix.AF_INET6, unix.IPPROTO_TCP, stateListen},
		{unix.AF_INET, unix.IPPROTO_UDP, stateUnjoined},
		{unix.AF_INET6, unix.IPPROTO_UDP, stateUnjoined},
	} {
		req := nl.NewNetlinkRequest(nl.SOCK_DIAG_BY_FAMILY, unix.NLM_F_DUMP)
		req.AddData(q)
		var broken error
		err := req.ExecuteIter(unix.NETLINK_INET_DIAG, nl.SOCK_DIAG_BY_FAMILY, func(msg []byte) bool {
			s, ok, err := parseSocket(msg, q)
			if err != nil {
				broken = err
			} else if ok {
				out = append(out, s)
			}
			return err == nil
		})
		if err == nil {
			err = broken
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// parseSocket reads a struct inet_diag_msg and the attributes behind it.
func parseSocket(msg []byte, q question) (socket, bool, error) {
	if len(msg) < messageSize {
		return socket{}, false, fmt.Errorf("the kernel's answer is cut: %d bytes", len(msg))
	}
	s := socket{port: binary.BigEndian.Uint16(msg[4:]), proto: netset.TCP, inode: binary.NativeEndian.Uint32(msg[68:])}
	if q.protocol == unix.IPPROTO_UDP {
		s.proto = netset.UDP
	}
	if msg[1] != q.state || s.port == 0 {
		return s, false, nil
	}
	if q.family == unix.AF_INET {
		s.addr = netip.AddrFrom4([4]byte(msg[8:12]))
		return s, true, nil
	}
	s.addr = netip.AddrFrom16([16]byte(msg[8:24])).Unmap()
	if s.addr == netip.IPv6Unspecified() {
		attrs, err := nl.ParseRouteAttr(msg[messageSize:])
		if err != nil {
			return s, false, err
		}
		alone := slices.ContainsFunc(attrs, func(a syscall.NetlinkRouteAttr) bool {
			return a.Attr.Type == skV6Only && len(a.Value) > 0 && a.Value[0] == 1
		})
		if !alone {
			s.addr = netip.Addr{}
		}
	}
	return s, true, nil
}

// owner is who holds a socket.
type owner struct {
	program   string
	container string // the id of the container that it runs in
	pid       int
}

var (
	socketLink  = regexp.MustCompile(`^socket:\[(\d+)\]$`)
	containerID = regexp.MustCompile(`[0-9a-f]{64}`)
)

// programs are the holders of all sockets, by inode; hidden says that some processes would not show theirs. Of several
// that share a socket it is the eldest, but for the one that only opens sockets for others.
func programs() (found map[uint32]owner, hidden bool) {
	found = map[uint32]owner{}
	system, err := procfs.NewDefaultFS()
	if err != nil {
		return found, true
	}
	procs, err := system.AllProcs()
	if err != nil {
		return found, true
	}
	slices.SortFunc(procs, func(a, b procfs.Proc) int { return a.PID - b.PID })
	for _, p := range procs {
		targets, err := p.FileDescriptorTargets()
		if err != nil {
			hidden = hidden || os.Geteuid() != 0
			continue
		}
		var of *owner
		for _, t := range targets {
			m := socketLink.FindStringSubmatch(t)
			if m == nil {
				continue
			}
			inode, err := strconv.ParseUint(m[1], 10, 32)
			if err != nil {
				continue
			}
			if old, ok := found[uint32(inode)]; ok && old.pid != 1 {
				continue
			}
			if of == nil {
				of = &owner{pid: p.PID, container: containerOf(p)}
				of.program, _ = p.Comm()
			}
			found[uint32(inode)] = *of
		}
	}
	return found, hidden
}

// containerOf is the id of the container that a process runs in, by its control group; "" where in none.
func containerOf(p procfs.Proc) string {
	groups, err := p.Cgroups()
	if err != nil {
		return ""
	}
	for _, g := range groups {
		if id := containerID.FindString(g.Path); id != "" {
			return id
		}
	}
	return ""
}

// in runs f in the network namespace of a process.
func in(pid int, f func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		ns, err := netns.GetFromPid(pid)
		if err != nil {
			done <- err
			return
		}
		defer func() { _ = ns.Close() }()
		if err := netns.Set(ns); err != nil {
			done <- err
			return
		}
		done <- f()
	}()
	return <-done
}
