package lab

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"steady-compass/core/netset"
)

// bound is a socket that a test holds: what it takes, it answers with its name and whom it sees.
type bound struct {
	tcp net.Listener
	udp net.PacketConn
}

func (b *bound) close() {
	if b.tcp != nil {
		_ = b.tcp.Close()
	}
	if b.udp != nil {
		_ = b.udp.Close()
	}
}

// socketFor makes and binds a socket without address or port reuse, in the thread's namespace. An address that is not
// valid is both families, an unspecified one its own family alone.
func socketFor(addr netip.Addr, port uint16, proto netset.Transport) (int, error) {
	family, kind := unix.AF_INET6, unix.SOCK_STREAM
	if addr.Is4() {
		family = unix.AF_INET
	}
	if proto == netset.UDP {
		kind = unix.SOCK_DGRAM
	}
	fd, err := unix.Socket(family, kind|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return -1, err
	}
	var at unix.Sockaddr
	if family == unix.AF_INET {
		at = &unix.SockaddrInet4{Port: int(port), Addr: addr.As4()}
	} else {
		alone := 0
		if addr.IsValid() {
			alone = 1
		}
		if err = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_V6ONLY, alone); err == nil {
			err = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_RECVPKTINFO, 1)
		}
		six := &unix.SockaddrInet6{Port: int(port)}
		if addr.IsValid() {
			six.Addr = addr.As16()
		}
		at = six
	}
	if family == unix.AF_INET && err == nil {
		err = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_PKTINFO, 1)
	}
	if err == nil {
		err = unix.Bind(fd, at)
	}
	if err == nil && proto == netset.TCP {
		err = unix.Listen(fd, 512)
	}
	if err != nil {
		_ = unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

// answer binds a socket in a namespace and answers from then on.
func (s *space) answer(addr netip.Addr, port uint16, proto netset.Transport, name string) (*bound, error) {
	return s.bindAnd(addr, port, proto, func(c net.Conn) {
		_, _ = fmt.Fprintf(c, "%s %s\n", name, c.RemoteAddr())
	}, func(from netip.AddrPort, _ []byte, reply func([]byte)) {
		reply(fmt.Appendf(nil, "%s %s\n", name, from))
	})
}

// bindAnd binds a socket, and has connections and datagrams taken until it is closed.
func (s *space) bindAnd(addr netip.Addr, port uint16, proto netset.Transport, tcp func(net.Conn), udp func(from netip.AddrPort, text []byte, reply func([]byte))) (*bound, error) {
	fd := -1
	if err := s.do(func() (err error) { fd, err = socketFor(addr, port, proto); return err }); err != nil {
		return nil, err
	}
	file := os.NewFile(uintptr(fd), "socket")
	defer func() { _ = file.Close() }()
	b := &bound{}
	var err error
	if proto == netset.TCP {
		if b.tcp, err = net.FileListener(file); err != nil {
			return nil, err
		}
		go func() {
			for {
				c, err := b.tcp.Accept()
				if err != nil {
					return
				}
				go func() { defer func() { _ = c.Close() }(); tcp(c) }()
			}
		}()
		return b, nil
	}
	if b.udp, err = net.FilePacketConn(file); err != nil {
		return nil, err
	}
	conn := b.udp.(*net.UDPConn)
	go func() {
		text, oob := make([]byte, 2048), make([]byte, 512)
		for {
			n, o, _, from, err := conn.ReadMsgUDPAddrPort(text, oob)
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				continue // what an earlier answer met
			}
			info := replyFrom(oob[:o])
			udp(from, append([]byte(nil), text[:n]...), func(out []byte) { _, _, _ = conn.WriteMsgUDPAddrPort(out, info, from) })
		}
	}()
	return b, nil
}

// replyFrom turns what the kernel says of a datagram's destination into what it is told of the answer's source.
func replyFrom(oob []byte) []byte {
	messages, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return nil
	}
	for _, m := range messages {
		switch {
		case m.Header.Level == unix.IPPROTO_IP && m.Header.Type == unix.IP_PKTINFO && len(m.Data) >= 12:
			var to unix.Inet4Pktinfo
			copy(to.Spec_dst[:], m.Data[8:12])
			return unix.PktInfo4(&to)
		case m.Header.Level == unix.IPPROTO_IPV6 && m.Header.Type == unix.IPV6_PKTINFO && len(m.Data) >= 16:
			var to unix.Inet6Pktinfo
			copy(to.Addr[:], m.Data[:16])
			return unix.PktInfo6(&to)
		}
	}
	return nil
}

// probe is one connection that is tried, and what became of it.
type probe struct {
	source netip.Addr // not valid: whichever the system takes
	to     netip.AddrPort
	proto  netset.Transport

	got  string // arrived, refused, silent, unroutable
	name string // who answered
	seen netip.Addr
}

// patience is how long a connection may take that gets anywhere at all. The benches' networks answer within milliseconds
// and give neighbours up after 150, but a refusal of the system to its own programs is heard at their second try only,
// after a second.
const patience = 1300 * time.Millisecond

// tryAll tries connections at the same time, from a namespace.
func (s *space) tryAll(list []*probe) error {
	fds := make([]int, len(list))
	err := s.do(func() error {
		for i, p := range list {
			fd, err := p.begin()
			if fds[i] = fd; err != nil {
				return fmt.Errorf("from %s to %s: %w", p.source, p.to, err)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	conns := make([]net.Conn, len(list))
	for i, p := range list {
		if fds[i] < 0 {
			continue
		}
		file := os.NewFile(uintptr(fds[i]), "probe")
		c, err := net.FileConn(file)
		_ = file.Close()
		if err != nil {
			p.failed(errors.Unwrap(err))
			continue
		}
		conns[i] = c
	}
	deadline := time.Now().Add(patience)
	done := make(chan struct{})
	for i, p := range list {
		go func() {
			if conns[i] != nil {
				p.finish(conns[i], deadline)
				_ = conns[i].Close()
			}
			done <- struct{}{}
		}()
	}
	for range list {
		<-done
	}
	return nil
}

// begin makes the socket and sends what comes first, without waiting.
func (p *probe) begin() (int, error) {
	family, kind := unix.AF_INET6, unix.SOCK_STREAM
	if p.to.Addr().Is4() {
		family = unix.AF_INET
	}
	if p.proto == netset.UDP {
		kind = unix.SOCK_DGRAM
	}
	fd, err := unix.Socket(family, kind|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return -1, err
	}
	if p.proto == netset.UDP { // to be told of everything that comes back
		if family == unix.AF_INET {
			_ = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_RECVERR, 1)
		} else {
			_ = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_RECVERR, 1)
		}
	}
	if p.source.IsValid() {
		if err := unix.Bind(fd, sockaddr(netip.AddrPortFrom(p.source, 0))); err != nil {
			_ = unix.Close(fd)
			return -1, err
		}
	}
	if err := unix.Connect(fd, sockaddr(p.to)); err != nil && err != unix.EINPROGRESS {
		_ = unix.Close(fd)
		p.failed(err)
		return -1, nil
	}
	if p.proto == netset.UDP {
		_ = unix.Send(fd, []byte("?\n"), 0)
	}
	return fd, nil
}

func sockaddr(a netip.AddrPort) unix.Sockaddr {
	if a.Addr().Is4() {
		return &unix.SockaddrInet4{Port: int(a.Port()), Addr: a.Addr().As4()}
	}
	return &unix.SockaddrInet6{Port: int(a.Port()), Addr: a.Addr().As16()}
}

// finish waits for what comes back.
func (p *probe) finish(c net.Conn, deadline time.Time) {
	_ = c.SetDeadline(deadline)
	text := make([]byte, 512)
	n, err := c.Read(text)
	switch {
	case n > 0:
		p.got = "arrived"
		name, seen, _ := strings.Cut(strings.TrimSpace(string(text[:n])), " ")
		p.name = name
		if from, err := netip.ParseAddrPort(seen); err == nil {
			p.seen = from.Addr().Unmap()
		}
	case errors.Is(err, io.EOF):
		p.got = "refused" // behind a relay: connected, and cut off
	case strings.Contains(err.Error(), "not pollable"): // an error came before the wait for it began
		p.failed(pending(c))
	default:
		p.failed(err)
	}
}

// pending is the error that a socket holds.
func pending(c net.Conn) error {
	raw, err := c.(syscall.Conn).SyscallConn()
	if err != nil {
		return err
	}
	var held error
	if err := raw.Control(func(fd uintptr) {
		n, err := unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_ERROR)
		if held = err; err == nil {
			held = syscall.Errno(n)
		}
	}); err != nil {
		return err
	}
	return held
}

func (p *probe) failed(err error) {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET):
		p.got = "refused"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EADDRNOTAVAIL):
		p.got = "unroutable"
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, syscall.EPERM): // EPERM: the sender's own filter dropped it
		p.got = "silent"
	default:
		p.got = fmt.Sprint(err)
	}
}
