// Package sockets reads the socket listings that administrators send: what `ss` and `netstat` of a Linux machine print,
// with or without their headings and the programs' names, `netstat -an` and `-ano` of other systems, and `sockstat`.
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
	bound       []string // sockets that are bound to a device: where they can be reached is not known
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
		if len(l.account.Faults) == 0 && len(l.bound) == 0 {
			l.account.Whole = append(l.account.Whole, machine.Whole{Aspect: aspect, Place: place})
		}
	}
	if len(l.bound) > 0 {
		l.account.Left = append(l.account.Left, fmt.Sprintf("Bound to a device, so that only what comes by it reaches them, and not recorded: %s.", strings.Join(l.bound, "; ")))
	}
	if !strings.Contains(place, "/") {
		machine.Add(&l.account, &estate.Host{Name: place})
	}
	return l.account
}

func (l *listing) fault(line, column int, what, expected string) {
	l.account.Faults = intake.AddFault(l.account.Faults, intake.FileFault{File: l.file, Line: line, Column: column, What: what, Expected: expected})
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
	case first == "state" || first == "proto" || first == "active" || first == "user" && strings.Contains(strings.ToLower(line), "local address") || first == "recv-q" || strings.HasPrefix(line, "(") || strings.HasPrefix(line, "#") || first == "unix" || strings.HasPrefix(first, "u_") || first == "nl" || first == "p_raw" || first == "p_dgr" || first == "raw" || first == "raw6" || first == "v_str" || first == "icmp6" || first == "???":
		return
	}
	proto := netset.TCP
	switch first {
	case "tcp", "udp", "tcp6", "udp6", "udplite", "udplite6", "tcp4", "udp4", "tcp46", "udp46":
		if strings.HasPrefix(first, "udp") {
			proto = netset.UDP
		}
		if len(words) > 1 && states[strings.ToUpper(words[1])] {
			l.ss(n, line, words[1:], proto)
			return
		}
		if len(words) > 2 && strings.Contains(words[1], ":") {
			l.windows(n, line, words, proto)
			return
		}
		if strings.HasSuffix(first, "4") || strings.HasSuffix(first, "46") || len(words) > 4 && !strings.Contains(words[3], ":") && dotted.MatchString(words[3]) {
			l.bsd(n, line, words, proto)
			return
		}
		l.netstat(n, line, words, proto)
	default:
		if len(words) >= 7 && sockstat.MatchString(words[4]) {
			l.sockstat(n, line, words)
			return
		}
		if program.MatchString(line) || first == "can" { // the program of the line before, or that it is not known
			return
		}
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

var (
	dotted   = regexp.MustCompile(`\.(\d+|\*)$`)
	sockstat = regexp.MustCompile(`^(tcp|udp)(4|6|46)?$`)
	program  = regexp.MustCompile(`^\s*\[[^\]]+\]\s*$`)
)

// windows reads Proto Local Foreign [State] [PID], as netstat -an and -ano print them there.
func (l *listing) windows(n int, line string, words []string, proto netset.Transport) {
	l.protos |= proto
	if proto == netset.TCP && (len(words) < 4 || !strings.HasPrefix(strings.ToUpper(words[3]), "LISTEN") && words[2] != "0.0.0.0:0" && words[2] != "[::]:0") {
		return
	}
	if addr, port, ok := l.endpoint(n, line, words[1]); ok {
		l.add(addr, port, proto, "")
	}
}

// bsd reads Proto Recv-Q Send-Q Local Foreign [State], where a dot stands before the port; tcp46 takes both families.
func (l *listing) bsd(n int, line string, words []string, proto netset.Transport) {
	l.protos |= proto
	if len(words) < 5 || proto == netset.TCP && (len(words) < 6 || words[5] != "LISTEN") || proto == netset.UDP && words[4] != "*.*" {
		return
	}
	l.ofFamily(n, line, words[3], ".", words[0], proto, "")
}

// sockstat reads USER COMMAND PID FD PROTO LOCAL FOREIGN.
func (l *listing) sockstat(n int, line string, words []string) {
	proto := netset.TCP
	if strings.HasPrefix(words[4], "udp") {
		proto = netset.UDP
	}
	l.protos |= proto
	if words[6] == "*:*" {
		l.ofFamily(n, line, words[5], ":", words[4], proto, words[1])
	}
}

// ofFamily adds a socket whose sort says of which family it is: a star is every address of that.
func (l *listing) ofFamily(n int, line, local, before, sort string, proto netset.Transport, program string) {
	i := strings.LastIndex(local, before)
	if i <= 0 {
		l.fault(n, strings.Index(line, local)+1, fmt.Sprintf("%q is no address and port", local), "an address and a port")
		return
	}
	addr, port, ok := l.endpoint(n, line, local[:i]+":"+local[i+1:])
	if !ok {
		return
	}
	if !addr.IsValid() {
		switch {
		case strings.HasSuffix(sort, "46"):
		case strings.HasSuffix(sort, "4"):
			addr = netip.IPv4Unspecified()
		case strings.HasSuffix(sort, "6"):
			addr = netip.IPv6Unspecified()
		}
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
	host = strings.TrimSuffix(strings.TrimPrefix(host, "["), "]")
	host, device, _ := strings.Cut(host, "%")
	host = strings.TrimSuffix(host, "]")
	if device = strings.TrimSuffix(device, "]"); device == "lo" && (host == "*" || host == "0.0.0.0") {
		host, device = "127.0.0.1", ""
	} else if device == "lo" && host == "::" {
		host, device = "::1", ""
	}
	if everywhere := host == "*" || host == "0.0.0.0" || host == "::"; everywhere && device != "" {
		l.bound = append(l.bound, fmt.Sprintf("line %d, port %d by %s", n, port, device))
		return netip.Addr{}, 0, false
	}
	if host == "*" {
		return netip.Addr{}, uint16(port), true
	}
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return wrong(fmt.Sprintf("%q is no address", host))
	}
	return addr.Unmap(), uint16(port), true
}
