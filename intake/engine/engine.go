// Package engine reads what container engines say of their containers and networks: the documents that the `inspect`
// calls of their common HTTP API give, and the commands of the same name print.
package engine

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/intake"
	"steady-compass/intake/machine"
)

// Container is what an engine says of a container, as far as it matters here.
type Container struct {
	ID    string `json:"Id"`
	Name  string `json:"Name"`
	State struct {
		Status string `json:"Status"`
		Pid    int    `json:"Pid"`
	} `json:"State"`
	Config struct {
		Labels map[string]string `json:"Labels"`
	} `json:"Config"`
	HostConfig struct {
		NetworkMode  string               `json:"NetworkMode"`
		PortBindings map[string][]Binding `json:"PortBindings"`
	} `json:"HostConfig"`
	NetworkSettings struct {
		Ports    map[string][]Binding `json:"Ports"`
		Networks map[string]*Endpoint `json:"Networks"`
	} `json:"NetworkSettings"`
}

// Binding is where a port of a container is mapped.
type Binding struct {
	HostIP   string `json:"HostIp"`
	HostPort string `json:"HostPort"`
}

// Endpoint is a container's leg in a network.
type Endpoint struct {
	IPAMConfig *struct {
		IPv4Address string `json:"IPv4Address"`
		IPv6Address string `json:"IPv6Address"`
	} `json:"IPAMConfig"`
	Aliases    []string `json:"Aliases"`
	NetworkID  string   `json:"NetworkID"`
	GwPriority int      `json:"GwPriority"`
}

// Network is what an engine says of a network, in the form of its API; Subnets is in that of one engine's own command.
type Network struct {
	ID       string `json:"Id"`
	Name     string `json:"Name"`
	Driver   string `json:"Driver"`
	Internal bool   `json:"Internal"`
	IPAM     struct {
		Config []Subnet `json:"Config"`
	} `json:"IPAM"`
	Subnets []Subnet          `json:"subnets"`
	Options map[string]string `json:"Options"`
}

// Subnet is a range of a network.
type Subnet struct {
	Subnet  string `json:"Subnet"`
	Gateway string `json:"Gateway"`
}

// State is what an engine has.
type State struct {
	Containers []Container
	Networks   []Network
}

// Parse reads inspection documents: of containers, of networks, or of both, in one list or several after another.
func Parse(file, text string) (State, []intake.FileFault) {
	var s State
	const expected = "the JSON that inspect prints for containers or networks"
	in := json.NewDecoder(strings.NewReader(text))
	for in.More() {
		var any json.RawMessage
		if err := in.Decode(&any); err != nil {
			return s, []intake.FileFault{intake.JSONFault(file, text, in, err, expected)}
		}
		var list []json.RawMessage
		if json.Unmarshal(any, &list) != nil {
			list = []json.RawMessage{any}
		}
		for i, doc := range list {
			if err := s.take(doc); err != nil {
				return s, []intake.FileFault{{File: file, Line: 1, What: fmt.Sprintf("document %d: %v", i+1, err), Expected: expected}}
			}
		}
	}
	if len(s.Containers)+len(s.Networks) == 0 {
		return s, []intake.FileFault{{File: file, Line: 1, What: "it has no container and no network", Expected: expected}}
	}
	return s, nil
}

func (s *State) take(doc json.RawMessage) error {
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(doc, &keys); err != nil {
		return fmt.Errorf("it is no object")
	}
	switch {
	case keys["HostConfig"] != nil || keys["NetworkSettings"] != nil:
		var c Container
		if err := json.Unmarshal(doc, &c); err != nil {
			return err
		}
		s.Containers = append(s.Containers, c)
	case keys["IPAM"] != nil || keys["subnets"] != nil || keys["Driver"] != nil || keys["driver"] != nil:
		var n Network
		if err := json.Unmarshal(doc, &n); err != nil {
			return err
		}
		s.Networks = append(s.Networks, n)
	default:
		return fmt.Errorf("it is neither a container nor a network")
	}
	return nil
}

// reader makes an account of a state.
type reader struct {
	host     string
	account  machine.Account
	networks map[string]string // by the engine's name and id: the recorded name; "" for one that is none here
}

// Account is what an engine on a machine has, as containers, networks and maps. whole says that these are all of the
// machine's. It also gives the names under which the containers come, by their ids.
func (s State) Account(host string, whole bool) (machine.Account, map[string]string) {
	r := &reader{host: host, account: machine.Account{Host: host}, networks: map[string]string{}}
	machine.Add(&r.account, &estate.Host{Name: host})
	for _, n := range s.Networks {
		r.network(n)
	}
	names := r.names(s.Containers)
	order := slices.SortedStableFunc(slices.Values(s.Containers), func(a, b Container) int { return cmp.Compare(names[a.ID], names[b.ID]) })
	var idle []string
	for _, c := range order {
		if names[c.ID] == "" {
			continue
		}
		r.container(c, names[c.ID])
		if c.State.Status != "" && c.State.Status != "running" {
			idle = append(idle, fmt.Sprintf("%s (%s)", names[c.ID], c.State.Status))
		}
	}
	if len(idle) > 0 {
		r.say("Not running, and written as they are set up: %s.", strings.Join(idle, ", "))
	}
	if whole {
		r.account.Whole = append(r.account.Whole, machine.Whole{Aspect: machine.Containers, Place: host})
	} else {
		r.account.WholeMaps()
	}
	return r.account, names
}

func (r *reader) say(format string, args ...any) {
	r.account.Left = append(r.account.Left, fmt.Sprintf(format, args...))
}

func (r *reader) network(n Network) {
	name := estate.CleanName(n.Name)
	set := func(to string) { r.networks[n.Name], r.networks[n.ID] = to, to }
	set("")
	var ranges []netip.Prefix
	for _, sub := range append(n.IPAM.Config, n.Subnets...) {
		p, err := netip.ParsePrefix(sub.Subnet)
		if err != nil {
			continue
		}
		p = p.Masked()
		ranges = append(ranges, p)
		if gw, err := netip.ParseAddr(sub.Gateway); err == nil && gw != p.Addr().Next() {
			r.say("The gateway of %s is %s; here a container network's first address, %s, is taken to be it.", n.Name, gw, p.Addr().Next())
		}
	}
	switch {
	case n.Driver == "host" || n.Driver == "null" || n.Name == "none":
		return
	case n.Driver != "bridge" && n.Driver != "":
		r.say("The network %s is left out: its driver, %s, is no network inside the machine.", n.Name, n.Driver)
		return
	case name == "":
		r.say("The network %q is left out: no name can be made of it.", n.Name)
		return
	case len(ranges) == 0:
		r.say("The network %s is left out: it has no range.", n.Name)
		return
	}
	if n.Internal {
		r.say("The network %s leads nowhere outside (internal), which is not recorded.", n.Name)
	}
	set(name)
	routed := n.Options["com.docker.network.bridge.gateway_mode_ipv4"] == "routed" || n.Options["com.docker.network.bridge.gateway_mode_ipv6"] == "routed"
	machine.Add(&r.account, &estate.Network{Name: name, Prefixes: ranges, On: r.host, Routed: routed})
}

// serviceLabels tell of which service of a Compose file a container is.
var serviceLabels = []string{"com.docker.compose.service", "io.podman.compose.service"}

func serviceOf(c Container) string {
	for _, l := range serviceLabels {
		if s := c.Config.Labels[l]; s != "" {
			return s
		}
	}
	return ""
}

// names are what the containers are called: by the service of their Compose file where no other container is of one that
// is called so, else by their own name.
func (r *reader) names(list []Container) map[string]string {
	count := map[string]int{}
	for _, c := range list {
		count[estate.CleanName(serviceOf(c))]++
		if serviceOf(c) == "" {
			count[estate.CleanName(strings.TrimPrefix(c.Name, "/"))]++
		}
	}
	out := map[string]string{}
	for _, c := range list {
		name := estate.CleanName(serviceOf(c))
		if name == "" || count[name] > 1 {
			name = estate.CleanName(strings.TrimPrefix(c.Name, "/"))
		}
		mode := c.HostConfig.NetworkMode
		switch {
		case name == "":
			r.say("The container %q is left out: no name can be made of it.", c.Name)
		case strings.HasPrefix(mode, "container:"):
			r.say("The container %s is left out: it shares the addresses of another container; write its listeners there.", name)
		default:
			out[c.ID] = r.host + "/" + name
		}
	}
	return out
}

func (r *reader) container(c Container, name string) {
	line := &estate.Container{Name: name, SharesHost: c.HostConfig.NetworkMode == "host"}
	own := strings.TrimPrefix(c.Name, "/")
	short := name[len(r.host)+1:]
	aliases := map[string]bool{}
	if !line.SharesHost {
		for _, at := range r.legs(c) {
			e := c.NetworkSettings.Networks[at]
			network := r.networkNamed(at, e)
			if network == "" {
				continue
			}
			leg := estate.Attachment{Network: network}
			if e != nil && e.IPAMConfig != nil {
				for _, text := range []string{e.IPAMConfig.IPv4Address, e.IPAMConfig.IPv6Address} {
					if a, err := netip.ParseAddr(text); err == nil {
						leg.Addrs = append(leg.Addrs, a)
					}
				}
			}
			line.In = append(line.In, leg)
			if e == nil {
				continue
			}
			for _, alias := range e.Aliases {
				if a := estate.CleanName(alias); a != "" && !strings.HasPrefix(c.ID, alias) {
					aliases[a] = true
				}
			}
		}
		if clean := estate.CleanName(own); clean != short && clean != "" && len(line.In) > 0 {
			aliases[clean] = true // its own name leads to it too
		}
		delete(aliases, short)
		line.Aliases = slices.Sorted(maps.Keys(aliases))
	}
	machine.Add(&r.account, line)
	if len(line.In) > 0 {
		r.ports(c, name)
	}
}

// legs are a container's networks, the one by which its maps lead in first: of the highest priority, else by name.
func (r *reader) legs(c Container) []string {
	return slices.SortedFunc(maps.Keys(c.NetworkSettings.Networks), func(a, b string) int {
		pa, pb := 0, 0
		if e := c.NetworkSettings.Networks[a]; e != nil {
			pa = e.GwPriority
		}
		if e := c.NetworkSettings.Networks[b]; e != nil {
			pb = e.GwPriority
		}
		return cmp.Or(cmp.Compare(pb, pa), cmp.Compare(a, b))
	})
}

// networkNamed is the network of a leg. An engine may call its first network by one name in its list and by another at
// its containers.
func (r *reader) networkNamed(name string, e *Endpoint) string {
	if to, ok := r.networks[name]; ok {
		return to
	}
	if e != nil && e.NetworkID != "" {
		if to, ok := r.networks[e.NetworkID]; ok {
			return to
		}
	}
	if name == "podman" && r.networks["bridge"] != "" {
		return r.networks["bridge"]
	}
	if len(r.networks) == 0 { // containers alone were sent: the network is theirs to name
		return estate.CleanName(name)
	}
	r.say("The network %s of a container is left out: nothing is said of it.", name)
	return ""
}

// ports are the container's maps: those set up, and where the engine chose the port, the one it chose.
func (r *reader) ports(c Container, name string) {
	set := c.HostConfig.PortBindings
	if len(set) == 0 {
		set = c.NetworkSettings.Ports
	}
	keys := slices.SortedFunc(maps.Keys(set), func(a, b string) int {
		pa, _ := strconv.Atoi(strings.SplitN(a, "/", 2)[0])
		pb, _ := strconv.Atoi(strings.SplitN(b, "/", 2)[0])
		return cmp.Or(cmp.Compare(pa, pb), cmp.Compare(a, b))
	})
	var mappings []machine.Mapping
	for _, key := range keys {
		number, word, _ := strings.Cut(key, "/")
		inner, err := strconv.ParseUint(number, 10, 16)
		proto := map[string]netset.Transport{"": netset.TCP, "tcp": netset.TCP, "udp": netset.UDP}[word]
		if err != nil || inner == 0 || proto == 0 {
			r.say("The map to %s of %s is left out: only tcp and udp ports are recorded.", key, name)
			continue
		}
		for _, b := range set[key] {
			for _, outer := range r.outer(c, key, name, b) {
				var addr netip.Addr
				if b.HostIP != "" {
					if addr, err = netip.ParseAddr(b.HostIP); err != nil {
						r.say("The map to %s of %s is left out: %q is no address.", key, name, b.HostIP)
						continue
					}
				}
				mappings = append(mappings, machine.Mapping{Addr: addr.Unmap(), Transport: proto, Outer: outer, Inner: uint16(inner)})
			}
		}
	}
	r.account.Records = append(r.account.Records, machine.Maps(name, mappings)...)
}

// outer are the ports on which a binding stands.
func (r *reader) outer(c Container, key, name string, b Binding) []uint16 {
	if p, err := strconv.ParseUint(b.HostPort, 10, 16); err == nil && p > 0 {
		return []uint16{uint16(p)}
	}
	var out []uint16
	for _, now := range c.NetworkSettings.Ports[key] {
		if p, err := strconv.ParseUint(now.HostPort, 10, 16); err == nil && p > 0 && !slices.Contains(out, uint16(p)) {
			out = append(out, uint16(p))
		}
	}
	if len(out) == 0 {
		r.say("The map to %s of %s is left out: the engine chooses its port when the container starts.", key, name)
	}
	return out
}
