// Package sockets reads the socket listings that administrators send: what `ss` and `netstat` of a Linux machine print,
// with or without their headings and the programs' names.
package sockets

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/intake"
	"steady-compass/intake/machine"
)

// listing is one listing as it is read.
type listing struct {
	file, place string
	account     machine.Account
	found       []machine.Observed
	protos      netset.Transport // of which it has, or would have, sockets
	v4          map[string]bool
}

// Read reads a listing of the sockets in a place. What listens comes as listen lines; connections are passed over.
func Read(file, text, place string) machine.Account {
	l := &listing{file: file, place: place, v4: map[string]bool{}}
	l.account.Host, _, _ = strings.Cut(place, "/")
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		l.line(i+1, strings.TrimSuffix(line, "\r"))
	}
	l.netstatFamilies()
	l.account.Hold(l.found)
	if l.protos == 0 && len(l.account.Faults) == 0 {
		l.fault(1, 1, "no socket is listed", "the output of ss -tulpn or netstat -tulpn")
	}
	for _, proto := range l.protos.Each() {
		aspect := map[netset.Transport]machine.Aspect{netset.TCP: machine.TCP, netset.UDP: machine.UDP}[proto]
		if len(l.account.Faults) == 0 {
			l.account.Whole = append(l.account.Whole, machine.Whole{Aspect: aspect, Place: place})
		}
	}
	if !strings.Contains(place, "/") {
		machine.Add(&l.account, &estate.Host{Name: place})
	}
	return l.account
}

func (l *listing) fault(line, column int, what, expected string) {
	l.account.Faults = append(l.account.Faults, intake.FileFault{File: l.file, Line: line, Column: column, What: what, Expected: expected})
}

var (
	ssPrograms     = regexp.MustCompile(`\("((?:[^"\\]|\\.)*)",pid=`)
	netstatProgram = regexp.MustCompile(`^\d+/(.*)$`)
	states         = map[string]bool{"LISTEN": true, "UNCONN": true, "ESTAB": true, "ESTABLISHED": true, "TIME-WAIT": true, "TIME_WAIT": true, "CLOSE-WAIT": true, "CLOSE_WAIT": true, "SYN-SENT": true, "SYN_SENT": true, "SYN-RECV": true, "SYN_RECV": true, "FIN-WAIT-1": true, "FIN_WAIT1": true, "FIN-WAIT-2": true, "FIN_WAIT2": true, "LAST-ACK": true, "LAST_ACK": true, "CLOSING": true, "CLOSE": true, "CLOSED": true}
)

// line reads one line of either listing.
func (l *listing) line(n int, line string) {
	words := strings.Fields(line)
	if len(words) == 0 {
		return
	}
	first := strings.ToLower(words[0])
	switch {
	case first == "netid": // the heading of several sorts
		l.protos = netset.Both
		return
	case first == "state" || first == "proto" || first == "active" || first == "recv-q" || strings.HasPrefix(line, "(") || strings.HasPrefix(line, "#") || first == "unix" || strings.HasPrefix(first, "u_") || first == "nl" || first == "p_raw" || first == "p_dgr" || first == "raw" || first == "raw6" || first == "v_str" || first == "icmp6" || first == "???":
		return
	}
	proto := netset.TCP
	switch first {
	case "tcp", "udp", "tcp6", "udp6", "udplite", "udplite6":
		if strings.HasPrefix(first, "udp") {
			proto = netset.UDP
		}
		if len(words) > 1 && states[strings.ToUpper(words[1])] {
			l.ss(n, line, words[1:], proto)
			return
		}
		l.netstat(n, line, words, proto)
	default:
		if !states[strings.ToUpper(words[0])] {
			l.fault(n, strings.Index(line, words[0])+1, fmt.Sprintf("%q is no line of a socket listing", line), "a line that ss -tulpn or netstat -tulpn prints")
			return
		}
		if strings.EqualFold(words[0], "UNCONN") { // a listing of UDP alone has no sort in front
			proto = netset.UDP
		}
		l.ss(n, line, words, proto)
	}
}

// ss reads State Recv-Q Send-Q Local Peer Process.
func (l *listing) ss(n int, line string, words []string, proto netset.Transport) {
	l.protos |= proto
	state := strings.ToUpper(words[0])
	if state != "LISTEN" && state != "UNCONN" {
		return
	}
	if len(words) < 4 {
		l.fault(n, len(line)+1, "the line ends before the local address", "State Recv-Q Send-Q Local-Address:Port")
		return
	}
	program := ""
	for _, m := range ssPrograms.FindAllStringSubmatch(line, -1) {
		program = m[1]
		if program != "systemd" { // which opens sockets for others
			break
		}
	}
	addr, port, ok := l.endpoint(n, line, words[3])
	if !ok {
		return
	}
	l.add(addr, port, proto, program)
}

// netstat reads Proto Recv-Q Send-Q Local Foreign [State] PID/Program.
func (l *listing) netstat(n int, line string, words []string, proto netset.Transport) {
	l.protos |= proto
	if len(words) < 5 {
		l.fault(n, len(line)+1, "the line ends before the foreign address", "Proto Recv-Q Send-Q Local-Address Foreign-Address")
		return
	}
	rest := words[5:]
	if len(rest) > 0 && states[strings.ToUpper(rest[0])] {
		if !strings.EqualFold(rest[0], "LISTEN") {
			return
		}
		rest = rest[1:]
	}
	if proto == netset.UDP && !strings.HasSuffix(words[4], ":*") {
		return // connected
	}
	program := ""
	for i, w := range rest { // with -e, the user and the socket's number stand before it
		if m := netstatProgram.FindStringSubmatch(w); m != nil {
			program, _, _ = strings.Cut(strings.Join(append([]string{m[1]}, rest[i+1:]...), " "), ":")
			break
		}
	}
	addr, port, ok := l.endpoint(n, line, words[3])
	if !ok {
		return
	}
	if !addr.IsValid() { // ":::80" does not say whether it takes IPv4 too; netstatFamilies does
		addr = netip.IPv6Unspecified()
	}
	v6 := strings.HasSuffix(strings.ToLower(words[0]), "6")
	if v6 && addr == netip.IPv6Unspecified() {
		addr = netip.Addr{}
	}
	if !v6 && addr == netip.IPv4Unspecified() {
		l.v4[fmt.Sprintf("%s %d", proto, port)] = true
	}
	l.add(addr, port, proto, program)
}

// netstatFamilies takes IPv4 from a socket on every address where another has it: both are there, so the first is of
// IPv6 alone.
func (l *listing) netstatFamilies() {
	for i, s := range l.found {
		if !s.Addr.IsValid() && l.v4[fmt.Sprintf("%s %d", s.Transport, s.Port)] {
			l.found[i].Addr = netip.IPv6Unspecified()
		}
	}
}

func (l *listing) add(addr netip.Addr, port uint16, proto netset.Transport, program string) {
	l.found = append(l.found, machine.Observed{Addr: addr, Port: port, Transport: proto, Program: program, Place: l.place, Stack: l.place})
}

// endpoint reads a local address: `*:80` is both families, `[::]:80` IPv6 alone, `0.0.0.0:80` IPv4, `127.0.0.53%lo:53`
// one address, `:::80` whatever netstat means by it. Sockets without a port are passed over.
func (l *listing) endpoint(n int, line, word string) (netip.Addr, uint16, bool) {
	wrong := func(what string) (netip.Addr, uint16, bool) {
		l.fault(n, strings.Index(line, word)+1, what, "an address and a port, as 0.0.0.0:443, [::]:443 or *:443")
		return netip.Addr{}, 0, false
	}
	i := strings.LastIndexByte(word, ':')
	if i < 0 {
		return wrong(fmt.Sprintf("%q is no address and port", word))
	}
	host, number := word[:i], word[i+1:]
	port, err := strconv.ParseUint(number, 10, 16)
	switch {
	case number == "*" || err == nil && port == 0:
		return netip.Addr{}, 0, false
	case err != nil:
		return wrong(fmt.Sprintf("%q is no port number; the listing is wanted with -n", number))
	}
	if host == "*" {
		return netip.Addr{}, uint16(port), true
	}
	host = strings.TrimSuffix(strings.TrimPrefix(host, "["), "]")
	host, _, _ = strings.Cut(host, "%")
	host = strings.TrimSuffix(host, "]")
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return wrong(fmt.Sprintf("%q is no address", host))
	}
	return addr.Unmap(), uint16(port), true
}
