// Package account reads what the script of `collect` prints on machines where nothing may be installed: an account of the machine in sections,
// of which each says how it ended. What was cut off on the way is the whole of nothing.
package account

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/intake"
	"steady-compass/intake/engine"
	"steady-compass/intake/hostsfile"
	"steady-compass/intake/machine"
)

// header is the first line of an account.
const header = "steady-compass account 1"

// Is says whether a text is an account.
func Is(text string) bool {
	return strings.HasPrefix(text, header+"\n") || strings.HasPrefix(text, header+"\r\n")
}

// Beside puts the account that a program made of its machine in front of what the script says of it.
func Beside(own, more string) (string, error) {
	sections, ok := strings.CutPrefix(more, header+"\n")
	at := strings.LastIndex(sections, "@ done ")
	if !ok || at < 0 {
		return "", fmt.Errorf("it is no whole account: %q", clip(more))
	}
	n, err := strconv.Atoi(strings.TrimSpace(sections[at+len("@ done "):]))
	if err != nil {
		return "", fmt.Errorf("it is no whole account: %q", clip(sections[at:]))
	}
	var out strings.Builder
	fmt.Fprintf(&out, "%s\n@ own \n", header)
	for line := range strings.Lines(own) {
		out.WriteString("|" + line)
	}
	fmt.Fprintf(&out, "= ok\n%s@ done %d\n", sections[:at], n+1)
	return out.String(), nil
}

// Account is a machine's account of itself: what it says of its network and its containers, and the texts of other formats that it has with it.
type Account struct {
	Machine    machine.Account
	Rulesets   []Ruleset
	Certs      []intake.File
	Servers    map[string][]intake.File // the configuration of web servers and balancers, by the word of its format
	Interfaces map[string][]netip.Addr  // the addresses of each interface
	Faults     []intake.FileFault
}

// Ruleset is what the machine's packet filter has, in a format by its word.
type Ruleset struct {
	Format string
	intake.File
}

// section is a part of an account.
type section struct {
	name, what string
	line       int // of the file, from 1
	body       []string
	end        string // ok, or why it did not end well
}

func (s *section) ok() bool { return s.end == "ok" }

// Read reads an account. place is what the machine is called here; "": as it calls itself.
func Read(file, text, place string) Account {
	r := &reader{file: file, out: Account{Interfaces: map[string][]netip.Addr{}, Servers: map[string][]intake.File{}}}
	sections, whole := r.sections(text)
	r.whole = whole && len(r.out.Faults) == 0
	for i := range sections {
		if s := &sections[i]; s.name == "machine" {
			r.machine(s)
		}
	}
	a := &r.out.Machine
	for i := range sections {
		if s := &sections[i]; s.name == "own" && s.ok() {
			*a, r.own = machine.ReadText(file, strings.Join(s.body, "\n")+"\n"), true
			place = a.Host
		}
	}
	a.Host = estate.CleanName(cmp.Or(place, r.name))
	if a.Host == "" {
		r.fault(1, fmt.Sprintf("the machine's name, %q, cannot be one here", intake.Shown(r.name)), "the recorded name of the machine, said beside the file")
		return r.out
	}
	if !r.own {
		machine.Add(a, &estate.Host{Name: a.Host})
	}
	r.containers(sections)
	for i := range sections {
		r.section(&sections[i])
	}
	r.once()
	if r.forwards {
		a.Forwards()
	}
	if r.whole = r.whole && len(r.out.Faults) == 0; !r.whole {
		a.Whole = nil
		r.left("The account is cut off before its end: nothing is taken to be gone by it.")
	}
	return r.out
}

type reader struct {
	file     string
	whole    bool
	name     string
	forwards bool
	root     bool
	own      bool // the machine's own program made the account, and the rest is beside it
	out      Account
}

func (r *reader) fault(line int, what, expected string) {
	r.out.Faults = intake.AddFault(r.out.Faults, intake.FileFault{File: r.file, Line: line, Column: 1, What: what, Expected: expected})
}

func (r *reader) left(format string, args ...any) {
	r.out.Machine.Left = append(r.out.Machine.Left, fmt.Sprintf(format, args...))
}

// sections takes an account apart; false where it has no end, or not all that the end speaks of.
func (r *reader) sections(text string) (out []section, whole bool) {
	begun := false
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSuffix(line, "\r")
		switch {
		case !begun:
			if line == header {
				begun = true
			} else if line != "" && i > 50 || strings.HasPrefix(line, "steady-compass account") {
				r.fault(i+1, fmt.Sprintf("%q is no account that is known here", clip(line)), header)
				return nil, false
			}
		case whole && line != "":
			r.fault(i+1, "there is more behind its end", "nothing")
			return out, false
		case strings.HasPrefix(line, "@ done "):
			n, err := strconv.Atoi(strings.TrimPrefix(line, "@ done "))
			whole = err == nil && n == len(out) && !slices.ContainsFunc(out, func(s section) bool { return s.end == "" })
			if !whole {
				r.fault(i+1, fmt.Sprintf("it has %d sections, and its end speaks of %s", len(out), clip(line)), "each section whole")
				return out, false
			}
		case strings.HasPrefix(line, "@ "):
			name, what, _ := strings.Cut(strings.TrimPrefix(line, "@ "), " ")
			out = append(out, section{name: name, what: what, line: i + 1})
		case line == "" || len(out) == 0:
		case line[0] == '|':
			s := &out[len(out)-1]
			s.body = append(s.body, line[1:])
		case strings.HasPrefix(line, "= "):
			out[len(out)-1].end = strings.TrimPrefix(line, "= ")
		default:
			r.fault(i+1, fmt.Sprintf("%q is no line of an account", clip(line)), "a line that begins with @, | or =")
		}
	}
	if !begun {
		r.fault(1, "it is no account", header)
	}
	return out, whole
}

func clip(line string) string {
	const most = 60
	if len(line) > most {
		line = line[:most] + "…"
	}
	return intake.Shown(line)
}

func (r *reader) machine(s *section) {
	for _, line := range s.body {
		word, rest, _ := strings.Cut(line, " ")
		switch word {
		case "name":
			r.name, _, _ = strings.Cut(strings.TrimSpace(rest), ".")
		case "forwards":
			r.forwards = true
		case "paths":
			r.left("URL paths were left out: what sites do below / is not in it.")
		case "root":
			if r.root = rest == "yes"; !r.root {
				r.left("It was not run as root: which program holds a socket, the packet filter and the containers may be missing.")
			}
		}
	}
}

// section takes over what a section says.
func (r *reader) section(s *section) {
	if s.name == "inside" {
		return // containers said it
	}
	if !s.ok() {
		switch why := s.end; {
		case strings.HasPrefix(why, "no right"):
			r.left("Not readable without more rights: %s.", strings.TrimSpace(s.name+" "+s.what))
		case strings.HasPrefix(why, "no "):
			r.left("Not read: %s, since there is no %s.", strings.TrimSpace(s.name+" "+s.what), intake.Shown(strings.TrimPrefix(why, "no ")))
		case why == "cut" || why == "":
			r.left("Cut off: %s.", strings.TrimSpace(s.name+" "+s.what))
		default:
			r.left("Not read: %s (%s).", strings.TrimSpace(s.name+" "+s.what), intake.Shown(why))
		}
		if s.name == "nft" || s.name == "save" {
			return // half a ruleset is another ruleset
		}
	}
	whole := r.whole && s.ok()
	switch s.name {
	case "addresses":
		r.addresses(s, whole)
	case "routes":
		r.routes(s, whole)
	case "sockets":
		r.sockets(s, r.out.Machine.Host, whole)
	case "hosts":
		r.hosts(s, whole)
	case "nft", "save":
		text := strings.Join(s.body, "\n")
		if strings.TrimSpace(text) == "" || s.name == "nft" && !strings.Contains(text, `"chain"`) {
			return // there is none
		}
		r.out.Rulesets = append(r.out.Rulesets, Ruleset{s.name, intake.File{Name: cmp.Or(s.what, "nft"), Text: text}})
	case "nginx", "apache", "haproxy":
		if s.ok() {
			r.out.Servers[s.name] = append(r.out.Servers[s.name], intake.File{Name: s.what, Text: strings.Join(s.body, "\n") + "\n"})
		}
	case "certificate":
		if len(s.body) > 0 {
			r.out.Certs = append(r.out.Certs, intake.File{Name: s.what, Text: strings.Join(s.body, "\n") + "\n"})
		}
	case "machine", "containers", "networks", "own":
	default:
		r.left("A section is not known here: %s.", intake.Shown(s.name))
	}
}

// savedTables are the tables that the save format has.
var savedTables = []string{"raw", "mangle", "nat", "filter", "security"}

// once takes out of the ruleset in JSON the tables that the save format has as well: where the one tool keeps its rules by the other's ways, both
// list them, and they are one.
func (r *reader) once() {
	saved := map[string]bool{} // by family
	for _, rs := range r.out.Rulesets {
		if rs.Format == "save" {
			saved[map[string]string{"iptables-save": "ip", "ip6tables-save": "ip6"}[rs.Name]] = true
		}
	}
	for i := range r.out.Rulesets {
		rs := &r.out.Rulesets[i]
		var all struct {
			Objects []map[string]json.RawMessage `json:"nftables"`
		}
		if rs.Format != "nft" || len(saved) == 0 || json.Unmarshal([]byte(rs.Text), &all) != nil {
			continue
		}
		chains := false
		left := slices.DeleteFunc(all.Objects, func(o map[string]json.RawMessage) bool {
			for kind, text := range o {
				var of struct{ Family, Table, Name string }
				if json.Unmarshal(text, &of) != nil {
					continue
				}
				if kind == "table" {
					of.Table = of.Name
				}
				if saved[of.Family] && slices.Contains(savedTables, of.Table) {
					return true
				}
				chains = chains || kind == "chain"
			}
			return false
		})
		if !chains {
			r.out.Rulesets = slices.Delete(r.out.Rulesets, i, i+1)
			return
		}
		all.Objects = left
		if text, err := json.Marshal(all); err == nil {
			rs.Text = string(text)
		}
		return
	}
}

// garbled notes a line of a section that is none.
func (r *reader) garbled(s *section, i int, expected string) {
	r.fault(s.line+1+i, fmt.Sprintf("%q cannot be read", clip(s.body[i])), expected)
}

func (r *reader) addresses(s *section, whole bool) {
	var interfaces []machine.Interface
	at := map[string]int{}
	of := func(name string) *machine.Interface {
		i, known := at[name]
		if !known {
			i, at[name] = len(interfaces), len(interfaces)
			interfaces = append(interfaces, machine.Interface{Name: name})
		}
		return &interfaces[i]
	}
	for n, line := range s.body {
		words := strings.Fields(line)
		switch {
		case len(words) >= 4 && words[0] == "link":
			i := of(words[1])
			i.Down, i.Loopback = words[2] == "down", words[3] == "loopback"
		case len(words) >= 3 && words[0] == "addr":
			p, err := netip.ParsePrefix(words[2])
			if err != nil {
				r.garbled(s, n, "addr INTERFACE ADDRESS/LENGTH")
				continue
			}
			flags := ""
			if len(words) > 3 {
				flags = words[3]
			}
			i := of(words[1])
			i.Addresses = append(i.Addresses, machine.Leased{Prefix: p, Dynamic: strings.Contains(flags, "dynamic"), Temporary: strings.Contains(flags, "temporary")})
			r.out.Interfaces[words[1]] = append(r.out.Interfaces[words[1]], p.Addr())
		default:
			r.garbled(s, n, "link INTERFACE up or addr INTERFACE ADDRESS/LENGTH")
		}
	}
	if !r.own {
		r.out.Machine.Networks(interfaces, whole)
	}
}

func (r *reader) routes(s *section, whole bool) {
	var routes []machine.Route
	for n, line := range s.body {
		words := strings.Fields(line)
		if len(words) != 3 || words[0] != "route" {
			r.garbled(s, n, "route DESTINATION ROUTER")
			continue
		}
		route := machine.Route{To: words[1]}
		if words[2] != "-" {
			via, _, _ := strings.Cut(words[2], "%")
			a, err := netip.ParseAddr(via)
			if err != nil {
				r.garbled(s, n, "the address of a router")
				continue
			}
			route.Via = a
		}
		if route.To == "default6" {
			route.To = "::/0"
		}
		routes = append(routes, route)
	}
	r.out.Machine.Routes(routes, whole)
}

// sockets takes over what listens at a place: the machine, or a container, which has a list of its own.
func (r *reader) sockets(s *section, place string, whole bool) {
	var found []machine.Observed
	for n, line := range s.body {
		words := strings.Fields(line)
		if len(words) != 4 || words[0] != "sock" {
			r.garbled(s, n, "sock TRANSPORT ADDRESS:PORT PROGRAM")
			continue
		}
		o := machine.Observed{Transport: netset.TCP, Program: words[3], Place: place, Stack: place}
		if strings.HasPrefix(words[1], "udp") {
			o.Transport = netset.UDP
		}
		if o.Program == "-" {
			o.Program, o.Hidden = "", !r.root
		}
		six := strings.HasSuffix(words[1], "6")
		var ok bool
		if o.Addr, o.Port, ok = socketAt(words[2], six); !ok {
			r.garbled(s, n, "ADDRESS:PORT")
			continue
		}
		if o.Port == 0 {
			continue
		}
		found = append(found, o)
	}
	r.out.Machine.Hold(found)
	if whole {
		r.out.Machine.Whole = append(r.out.Machine.Whole, machine.Whole{Aspect: machine.TCP, Place: place}, machine.Whole{Aspect: machine.UDP, Place: place})
	}
}

// socketAt reads where a socket is bound, as systems write it: 0.0.0.0:22, [::]:22, *:22, *.22, 127.0.0.53%lo:53, 10.0.0.1.22.
func socketAt(text string, six bool) (a netip.Addr, port uint16, ok bool) {
	at := strings.LastIndexAny(text, ":")
	if strings.Count(text, ".") == 4 && !strings.Contains(text, ":") || strings.HasPrefix(text, "*.") {
		at = strings.LastIndexByte(text, '.')
	}
	if at < 0 {
		return a, 0, false
	}
	host, digits := strings.Trim(text[:at], "[]"), text[at+1:]
	if digits == "*" {
		return a, 0, true
	}
	n, err := strconv.ParseUint(digits, 10, 16)
	if err != nil {
		return a, 0, false
	}
	host, _, _ = strings.Cut(host, "%")
	if host == "*" {
		if six {
			return netip.IPv6Unspecified(), uint16(n), true
		}
		return netip.Addr{}, uint16(n), true
	}
	if a, err = netip.ParseAddr(host); err != nil {
		return a, 0, false
	}
	return a.Unmap(), uint16(n), true
}

func (r *reader) hosts(s *section, whole bool) {
	a := &r.out.Machine
	read := hostsfile.Read(s.what, strings.Join(s.body, "\n")+"\n", a.Host)
	a.Records, a.Left = append(a.Records, read.Records...), append(a.Left, read.Left...)
	for _, f := range read.Faults {
		a.Left = append(a.Left, "In the hosts file, "+f.String()+".")
	}
	if whole {
		a.Whole = append(a.Whole, machine.Whole{Aspect: machine.Names, Place: a.Host})
	}
}

// containers takes over what engines have; they are all there are where each that is there said so.
func (r *reader) containers(sections []section) {
	var state engine.State
	asked, whole := false, r.whole
	for i := range sections {
		switch s := &sections[i]; s.name {
		case "containers":
			asked, whole = true, whole && s.ok()
			r.containersOf(s, &state)
		case "networks":
			whole = whole && s.ok()
			r.networksOf(s, &state)
		}
	}
	if !asked || len(state.Containers)+len(state.Networks) == 0 && !whole {
		return
	}
	b, names := state.Account(r.out.Machine.Host, whole)
	r.out.Machine.Join(b)
	seen := map[string]bool{}
	for i := range sections {
		if s := &sections[i]; s.name == "inside" && names[s.what] != "" && (s.ok() || len(s.body) > 0) {
			seen[names[s.what]] = true
			r.sockets(s, names[s.what], s.ok())
		}
	}
	var unseen []string
	for _, c := range state.Containers {
		if name := names[c.ID]; name != "" && !seen[name] && c.State.Status == "running" && c.HostConfig.NetworkMode != "host" {
			unseen = append(unseen, name)
		}
	}
	if len(unseen) > 0 {
		r.left("What listens inside these containers is not in the account: %s. It comes with their images, or from collect on the machine.", strings.Join(unseen, ", "))
	}
}

func (r *reader) containersOf(s *section, state *engine.State) {
	var c *engine.Container
	for n, line := range s.body {
		words := strings.Fields(line)
		switch {
		case len(words) == 0:
		case words[0] == "container" && len(words) == 8:
			state.Containers = append(state.Containers, engine.Container{ID: words[1], Name: words[2]})
			c = &state.Containers[len(state.Containers)-1]
			c.State.Status, c.HostConfig.NetworkMode = words[3], words[5]
			c.Config.Labels = map[string]string{}
			for i, label := range []string{"com.docker.compose.project", "com.docker.compose.service"} {
				if text := words[6+i]; text != "-" && text != "<no value>" {
					c.Config.Labels[label] = text
				}
			}
			c.NetworkSettings.Networks = map[string]*engine.Endpoint{}
		case c == nil:
			r.garbled(s, n, "a container first")
		case words[0] == "bind" || words[0] == "port":
			into := &c.HostConfig.PortBindings
			if words[0] == "port" {
				into = &c.NetworkSettings.Ports
			}
			if err := json.Unmarshal([]byte(strings.TrimSpace(line)[len(words[0]):]), into); err != nil {
				r.garbled(s, n, "the ports of a container, as JSON")
			}
		case words[0] == "leg" && len(words) >= 5:
			leg := &engine.Endpoint{NetworkID: strings.TrimPrefix(words[2], "-"), Aliases: words[5:]}
			if words[3] != "-" || words[4] != "-" {
				leg.IPAMConfig = &struct {
					IPv4Address string `json:"IPv4Address"`
					IPv6Address string `json:"IPv6Address"`
				}{strings.TrimPrefix(words[3], "-"), strings.TrimPrefix(words[4], "-")}
			}
			c.NetworkSettings.Networks[words[1]] = leg
		default:
			r.garbled(s, n, "container, bind, port or leg")
		}
	}
}

func (r *reader) networksOf(s *section, state *engine.State) {
	for n, line := range s.body {
		words := strings.Fields(line)
		if len(words) < 6 || words[0] != "network" {
			r.garbled(s, n, "network ID NAME DRIVER INTERNAL MODE RANGE…")
			continue
		}
		one := engine.Network{ID: words[1], Name: words[2], Driver: words[3], Internal: words[4] == "true", Options: map[string]string{}}
		if words[5] != "-" {
			one.Options["com.docker.network.bridge.gateway_mode_ipv4"] = words[5]
		}
		for _, p := range words[6:] {
			one.IPAM.Config = append(one.IPAM.Config, engine.Subnet{Subnet: p})
		}
		state.Networks = append(state.Networks, one)
	}
}
