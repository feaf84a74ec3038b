// Package compose reads Compose files: the services that they set up on one machine, as containers, networks and maps.
// Several files are merged, variables put in and profiles chosen by the specification's own reference library; nothing
// but the given texts is read.
package compose

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/compose-spec/compose-go/v2/loader"
	"github.com/compose-spec/compose-go/v2/template"
	"github.com/compose-spec/compose-go/v2/types"
	"go.yaml.in/yaml/v4"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/intake"
	"steady-compass/intake/machine"
)

// Source is what makes up a project.
type Source struct {
	Files     []intake.File // merged in this order
	Host      string        // the machine that it runs on
	Project   string        // "": that of the files, else the name of the folder that the first is in, else the machine's
	Profiles  []string
	Variables map[string]string
}

// reader makes an account of a project.
type reader struct {
	host     string
	recorded *estate.Estate
	project  *types.Project
	account  machine.Account
	networks map[string]*estate.Network // by the file's key
}

// Read reads a project. A network whose range the files do not give has that of the recorded network that it is, else a
// range of its own that a note marks, since only the engine knows it.
func Read(src Source, recorded *estate.Estate) machine.Account {
	r := &reader{host: src.Host, recorded: recorded, account: machine.Account{Host: src.Host}, networks: map[string]*estate.Network{}}
	project, err := load(src)
	if err == nil && project == nil {
		err = errors.New("there is no project in it")
	}
	if err != nil {
		r.account.Faults = append(r.account.Faults, locate(src.Files, err))
		return r.account
	}
	r.project = project
	machine.Add(&r.account, &estate.Host{Name: src.Host})
	for _, name := range slices.Sorted(maps.Keys(project.Services)) {
		r.service(project.Services[name])
	}
	if off := slices.Sorted(maps.Keys(project.DisabledServices)); len(off) > 0 {
		var words []string
		for _, name := range off {
			words = append(words, fmt.Sprintf("%s (%s)", name, strings.Join(project.DisabledServices[name].Profiles, ", ")))
		}
		r.say("Left out, since no profile of theirs is chosen: %s.", strings.Join(words, "; "))
	}
	if names := missing(src); len(names) > 0 {
		r.say("Variables without a value stand for nothing: %s.", strings.Join(names, ", "))
	}
	r.account.WholeMaps()
	if r.assume() {
		r.say("A Compose file does not say what listens in its containers: what a map leads to is taken to be there, and marked so.")
	}
	return r.account
}

// assumed marks a listener that nothing but a map speaks for.
const assumed = "assumed: a map leads there"

// assume writes down what maps lead to in containers of which no listener is recorded: until somebody says otherwise it is there, so
// that no door is hidden. It says whether any was written.
func (r *reader) assume() bool {
	listens := map[string]bool{}
	for _, rec := range r.recorded.Of(estate.KindNamed("listen")) {
		if l := rec.(*estate.Listen); l.Note != assumed {
			listens[l.Place] = true
		}
	}
	any := false
	for _, rec := range r.account.Records {
		m, ok := rec.(*estate.Map)
		if !ok || listens[m.Container] {
			continue
		}
		_, short, _ := strings.Cut(m.Container, "/")
		ports := estate.Ports{Ranges: netset.PortsOf(m.To.Ranges...).Ranges(), Transport: m.Bind.Transport}
		l := &estate.Listen{Place: m.Container, Bind: estate.Bind{Ports: ports}, Service: short}
		l.Note = assumed
		machine.Add(&r.account, l)
		any = true
	}
	return any
}

// gateway is the address by which a service reaches its machine: the first of its first network.
func (r *reader) gateway(line *estate.Container) (netip.Addr, error) {
	for _, at := range line.In {
		for _, n := range r.networks {
			if n.Name == at.Network && len(n.Prefixes) > 0 {
				return n.Prefixes[0].Addr().Next(), nil
			}
		}
	}
	return netip.Addr{}, errors.New("it is in no network of the machine")
}

func (r *reader) say(format string, args ...any) {
	r.account.Left = append(r.account.Left, fmt.Sprintf(format, args...))
}

// given hands out the files that another of those given names, and no others: only what was given is read. The library reads
// files from a folder, so each is put into one that is gone afterwards.
type given struct {
	files []intake.File
	dir   string
}

func (g given) Accept(string) bool { return true }

func (g given) Load(_ context.Context, name string) (string, error) {
	i, ok := g.find(name)
	if !ok {
		return "", fmt.Errorf("%q is another file, which is not read: give it with this one", name)
	}
	at := filepath.Join(g.dir, strconv.Itoa(i), "compose.yaml")
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return "", err
	}
	return at, os.WriteFile(at, []byte(g.files[i].Text+"\n"), 0o600)
}

func (g given) Dir(string) string { return "." }

// find is the one of the files that a name in another leads to: that ends as the name does, whatever folders they are in here.
func (g given) find(name string) (int, bool) {
	tail := path.Clean("/" + strings.TrimLeft(filepath.ToSlash(name), "./"))
	found, n := 0, 0
	for i, f := range g.files {
		if strings.HasSuffix(path.Clean("/"+filepath.ToSlash(f.Name)), tail) {
			found, n = i, n+1
		}
	}
	return found, n == 1
}

// named are the files that those given name themselves, by include and extends. Where one cannot be looked through, its error is that
// of a file that is named and not read: what is not known to name given files only is not followed.
func (g given) named() (map[int]bool, error) {
	out := map[int]bool{}
	for _, f := range g.files {
		docs := yaml.NewDecoder(strings.NewReader(f.Text))
		for {
			var top map[string]any // aliases, merges and all
			if err := docs.Decode(&top); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				return nil, errUnread
			}
			if err := g.included(top["include"], out); err != nil {
				return nil, err
			}
			services, _ := top["services"].(map[string]any)
			for _, service := range services {
				body, _ := service.(map[string]any)
				base, _ := body["extends"].(map[string]any)
				if name, _ := base["file"].(string); name != "" {
					if i, ok := g.find(name); ok {
						out[i] = true
					}
				}
			}
		}
	}
	if len(out) == len(g.files) { // they name each other: the first is where it begins
		delete(out, 0)
	}
	return out, nil
}

// errUnread is of files that cannot be looked through for those that they name; what is wrong with them the library says.
var errUnread = errors.New("a file that names others cannot be read")

// included adds the files that an include names.
func (g given) included(include any, out map[int]bool) error {
	if include == nil {
		return nil
	}
	list, ok := include.([]any)
	if !ok {
		return errors.New("include: what it names is not read; expected a list of files that are given")
	}
	for _, one := range list {
		if entry, ok := one.(map[string]any); ok {
			for word := range entry {
				if word != "path" {
					return fmt.Errorf("include: %s names files that are not read; expected a path alone", word)
				}
			}
			one = entry["path"]
		}
		names, ok := one.([]any)
		if !ok {
			names = []any{one}
		}
		for _, name := range names {
			text, _ := name.(string)
			i, ok := g.find(text)
			if !ok {
				return fmt.Errorf("include: %q is another file, which is not read: give it with this one", text)
			}
			out[i] = true
		}
	}
	return nil
}

func load(src Source) (*types.Project, error) {
	details := types.ConfigDetails{WorkingDir: "/", Environment: types.Mapping(src.Variables)}
	if details.Environment == nil {
		details.Environment = types.Mapping{}
	}
	for _, f := range src.Files {
		if n := portsIn(f.Text); n > mostPorts {
			return nil, fmt.Errorf("ports: %s lists %d ports; expected at most %d", f.Name, n, mostPorts)
		}
	}
	files := given{files: src.Files}
	named, err := files.named()
	unread := errors.Is(err, errUnread)
	if err != nil && !unread {
		return nil, err
	}
	if len(named) > 0 {
		if files.dir, err = os.MkdirTemp("", "compose-"); err != nil {
			return nil, fmt.Errorf("make a folder for the files: %w", err)
		}
		defer func() { _ = os.RemoveAll(files.dir) }()
	}
	for i, f := range src.Files {
		if !named[i] {
			details.ConfigFiles = append(details.ConfigFiles, types.ConfigFile{Filename: f.Name, Content: []byte(f.Text + "\n")})
		}
	}
	return loader.LoadWithContext(context.Background(), details, func(o *loader.Options) {
		o.SetProjectName(cmp.Or(loader.NormalizeProjectName(cmp.Or(src.Project, folder(src.Files[0].Name))), "project"), src.Project != "")
		o.SkipResolveEnvironment, o.SkipResolveLabels, o.SkipInclude = true, true, unread
		o.Profiles = src.Profiles
		o.ResourceLoaders = []loader.ResourceLoader{files}
		o.Interpolate.Substitute = func(text string, values template.Mapping) (string, error) {
			return template.SubstituteWithOptions(text, values, template.WithoutLogging) // missing says it
		}
	})
}

// mostPorts is how many ports the services of a file may list.
const mostPorts = 20_000

var portRange = regexp.MustCompile(`(\d{1,5})-(\d{1,5})`)

// portsIn is how many ports the services of a file list, before any is written out: a range of them stands in few letters.
func portsIn(text string) int {
	var doc yaml.Node
	if yaml.Unmarshal([]byte(text), &doc) != nil {
		return 0 // what is wrong with it is said elsewhere
	}
	const mostNodes = 1_000_000 // an alias may stand for much
	total, nodes := 0, 0
	var count func(n *yaml.Node, listed bool)
	count = func(n *yaml.Node, listed bool) {
		if nodes++; nodes > mostNodes || total > mostPorts {
			total = max(total, mostPorts+1)
			return
		}
		switch n.Kind {
		case yaml.AliasNode:
			count(n.Alias, listed)
		case yaml.ScalarNode:
			if m := portRange.FindStringSubmatch(n.Value); listed && m != nil {
				low, _ := strconv.Atoi(m[1])
				high, _ := strconv.Atoi(m[2])
				total += max(1, high-low+1)
			}
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				count(n.Content[i+1], listed || n.Content[i].Value == "ports" || n.Content[i].Value == "expose")
			}
		default:
			for _, c := range n.Content {
				count(c, listed)
			}
		}
	}
	count(&doc, false)
	return total
}

var variable = regexp.MustCompile(`\$\$|\$\{([A-Za-z_][A-Za-z0-9_]*)\}|\$([A-Za-z_][A-Za-z0-9_]*)`)

// missing are the variables that the files name without saying what else stands for them, and that have no value.
func missing(src Source) []string {
	var out []string
	for _, f := range src.Files {
		for _, m := range variable.FindAllStringSubmatch(f.Text, -1) {
			name := cmp.Or(m[1], m[2])
			if _, given := src.Variables[name]; name != "" && !given && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

func folder(file string) string {
	parts := strings.Split(file, "/")
	if len(parts) < 2 {
		return ""
	}
	return parts[len(parts)-2]
}

func (r *reader) service(s types.ServiceConfig) {
	short := estate.CleanName(cmp.Or(s.ContainerName, s.Name))
	if short == "" {
		r.say("The service %q is left out: no name can be made of it.", s.Name)
		return
	}
	name := r.host + "/" + short
	if s.Deploy != nil && s.Deploy.Replicas != nil && *s.Deploy.Replicas == 0 || s.Scale != nil && *s.Scale == 0 {
		r.say("%s is to run nowhere (no replicas): it is left out.", s.Name)
		return
	}
	if s.Deploy != nil && s.Deploy.Replicas != nil && *s.Deploy.Replicas > 1 || s.Scale != nil && *s.Scale > 1 {
		r.say("%s is to run several times; it is written once.", s.Name)
	}
	line := &estate.Container{Name: name}
	switch mode := s.NetworkMode; {
	case mode == "host":
		line.SharesHost = true
	case mode == "none":
	case strings.HasPrefix(mode, "service:"), strings.HasPrefix(mode, "container:"):
		r.say("%s is left out: it shares the addresses of another container; write its listeners there.", s.Name)
		return
	case mode == "bridge":
		if n := r.network("bridge", types.NetworkConfig{Name: "bridge"}); n != "" {
			line.In = append(line.In, estate.Attachment{Network: n})
		}
	default:
		r.legs(&s, line)
	}
	if len(line.In) > 0 {
		aliases := map[string]bool{estate.CleanName(s.Name): true}
		for _, n := range s.Networks {
			if n != nil {
				for _, a := range n.Aliases {
					aliases[estate.CleanName(a)] = true
				}
			}
		}
		delete(aliases, short)
		delete(aliases, "")
		line.Aliases = slices.Sorted(maps.Keys(aliases))
	}
	machine.Add(&r.account, line)
	if !line.SharesHost && len(line.In) > 0 {
		r.ports(&s, name)
	}
	for _, host := range slices.Sorted(maps.Keys(s.ExtraHosts)) {
		for _, text := range s.ExtraHosts[host] {
			addr, err := netip.ParseAddr(text)
			if text == "host-gateway" {
				addr, err = r.gateway(line)
			}
			owner, ok := estate.CleanHostname(host)
			if err == nil && ok {
				machine.Add(&r.account, &estate.HostsEntry{Hostname: owner, Addr: addr.Unmap(), Place: name})
			}
		}
	}
}

// legs are a service's networks, the one by which its maps lead in first: of the highest priority, else by name.
func (r *reader) legs(s *types.ServiceConfig, line *estate.Container) {
	of := func(key string) (gateway, priority int) {
		if n := s.Networks[key]; n != nil {
			return n.GatewayPriority, n.Priority
		}
		return 0, 0
	}
	keys := slices.SortedFunc(maps.Keys(s.Networks), func(a, b string) int {
		ga, pa := of(a)
		gb, pb := of(b)
		return cmp.Or(cmp.Compare(gb, ga), cmp.Compare(pb, pa), cmp.Compare(a, b))
	})
	for _, key := range keys {
		n := r.network(key, r.project.Networks[key])
		if n == "" {
			continue
		}
		leg := estate.Attachment{Network: n}
		if c := s.Networks[key]; c != nil {
			for _, text := range []string{c.Ipv4Address, c.Ipv6Address} {
				if a, err := netip.ParseAddr(text); err == nil {
					leg.Addrs = append(leg.Addrs, a)
				}
			}
		}
		line.In = append(line.In, leg)
	}
}

// network is the name under which a network comes; "" for one that is none inside the machine.
func (r *reader) network(key string, c types.NetworkConfig) string {
	if n := r.networks[key]; n != nil {
		return n.Name
	}
	name := estate.CleanName(cmp.Or(c.Name, key))
	switch {
	case c.Driver != "" && c.Driver != "bridge":
		r.say("The network %s is left out: its driver, %s, is no network inside the machine.", key, c.Driver)
		return ""
	case name == "":
		r.say("The network %q is left out: no name can be made of it.", key)
		return ""
	}
	n := &estate.Network{Name: name, On: r.host}
	for _, pool := range c.Ipam.Config {
		if pool == nil {
			continue
		}
		p, err := netip.ParsePrefix(pool.Subnet)
		if err != nil {
			continue
		}
		n.Prefixes = append(n.Prefixes, p.Masked())
		if gw, err := netip.ParseAddr(pool.Gateway); err == nil && gw != p.Masked().Addr().Next() {
			r.say("The gateway of %s is %s; here a container network's first address, %s, is taken to be it.", key, gw, p.Masked().Addr().Next())
		}
	}
	if len(n.Prefixes) == 0 {
		if old := r.known(key, name); old != nil {
			n = old
		} else {
			n.Prefixes = []netip.Prefix{r.freeRange()}
			n.Note = "the files do not give its range; the engine chooses one"
			r.say("The files do not give the range of %s: it is written as %s, which is free on %s.", key, n.Prefixes[0], r.host)
		}
	}
	r.networks[key] = n
	machine.Add(&r.account, n)
	return n.Name
}

// known is the recorded network of the machine that a network without a range is: by its name, or by the containers
// that are in it already.
func (r *reader) known(key, name string) *estate.Network {
	on := map[string]*estate.Network{}
	for _, rec := range r.recorded.Of(estate.KindNamed("network")) {
		if n := rec.(*estate.Network); n.On == r.host && !n.Off {
			on[n.Name] = n
		}
	}
	for _, word := range []string{name, estate.CleanName(key), r.host + "-" + name} {
		if n := on[word]; n != nil {
			return n
		}
	}
	shared := map[string]int{} // how many of its services are in a recorded network
	services := 0
	for _, s := range r.project.Services {
		if _, in := s.Networks[key]; !in {
			continue
		}
		services++
		for _, rec := range r.recorded.Of(estate.KindNamed("container")) {
			if c := rec.(*estate.Container); c.Name == r.host+"/"+estate.CleanName(cmp.Or(s.ContainerName, s.Name)) {
				for _, at := range c.In {
					shared[at.Network]++
				}
			}
		}
	}
	for _, word := range slices.Sorted(maps.Keys(shared)) {
		if shared[word] == services && on[word] != nil && !slices.ContainsFunc(slices.Collect(maps.Values(r.networks)), func(n *estate.Network) bool { return n.Name == word }) {
			return on[word]
		}
	}
	return nil
}

// freeRange is the first of the ranges that engines choose from which nothing recorded, and nothing before, overlaps.
func (r *reader) freeRange() netip.Prefix {
	var taken []netip.Prefix
	for _, rec := range r.recorded.Of(estate.KindNamed("network")) {
		taken = append(taken, rec.(*estate.Network).Prefixes...)
	}
	for _, n := range r.networks {
		taken = append(taken, n.Prefixes...)
	}
	var p netip.Prefix
	for i := range 13 + 256 {
		p = netip.PrefixFrom(netip.AddrFrom4([4]byte{172, byte(18 + i), 0, 0}), 16)
		if i >= 13 {
			p = netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168, byte(i - 13), 0}), 24)
		}
		if !slices.ContainsFunc(taken, p.Overlaps) {
			break
		}
	}
	return p
}

func (r *reader) ports(s *types.ServiceConfig, name string) {
	var mappings []machine.Mapping
	for _, p := range s.Ports {
		outer, err := strconv.ParseUint(p.Published, 10, 16)
		proto := map[string]netset.Transport{"": netset.TCP, "tcp": netset.TCP, "udp": netset.UDP}[p.Protocol]
		var addr netip.Addr
		var bad error
		if p.HostIP != "" {
			addr, bad = netip.ParseAddr(p.HostIP)
		}
		switch {
		case proto == 0:
			r.say("The port %d/%s of %s is left out: only tcp and udp ports are recorded.", p.Target, p.Protocol, s.Name)
		case bad != nil:
			r.say("The port %d of %s is left out: %q is no address.", p.Target, s.Name, p.HostIP)
		case err != nil || outer == 0:
			r.say("The port %d of %s is left out: the engine chooses the one outside%s.", p.Target, s.Name, map[bool]string{true: " among " + p.Published, false: ""}[p.Published != ""])
		default:
			mappings = append(mappings, machine.Mapping{Addr: addr.Unmap(), Transport: proto, Outer: uint16(outer), Inner: uint16(p.Target)})
		}
	}
	r.account.Records = append(r.account.Records, machine.Maps(name, mappings)...)
}

var (
	atPosition = regexp.MustCompile(`line (\d+)(?:, column (\d+))?`)
	atPath     = regexp.MustCompile(`\b(?:services|networks|include|volumes|configs|secrets)(?:\.[\w./\[\]-]+)?`)
	atValue    = regexp.MustCompile(`(?:"([^"]+)"|: (\S+))$`)
)

// locate finds the place of a fault: the one that it names, else that of the element or of the value that it names.
func locate(files []intake.File, err error) intake.FileFault {
	what := strings.TrimSpace(err.Error())
	if path, ok := strings.CutSuffix(what, " false schema"); ok { // how the schema says that it has no such word
		i := strings.LastIndexByte(path, '.')
		what = fmt.Sprintf("%s: there is no such word as %q", path, path[i+1:])
	}
	f := intake.FileFault{File: files[0].Name, Line: 1, What: what, Expected: "a Compose file"}
	for _, file := range files {
		if strings.Contains(what, file.Name) {
			f.File = file.Name
		}
	}
	if all := atPosition.FindAllStringSubmatch(what, -1); len(all) > 0 {
		m := all[len(all)-1]
		f.Line, _ = strconv.Atoi(m[1])
		f.Column, _ = strconv.Atoi(m[2])
		for _, file := range files {
			if file.Name == f.File {
				f.Line = min(f.Line, strings.Count(strings.TrimRight(file.Text, "\n"), "\n")+1)
			}
		}
		return f
	}
	best := -1
	for _, file := range files {
		var doc yaml.Node
		if yaml.Unmarshal([]byte(file.Text), &doc) != nil || len(doc.Content) == 0 {
			continue
		}
		if path := atPath.FindString(what); path != "" {
			if n, deep := walk(doc.Content[0], strings.FieldsFunc(path, func(c rune) bool { return strings.ContainsRune(".[]", c) })); deep > best {
				best, f.File, f.Line, f.Column = deep, file.Name, n.Line, n.Column
			}
		} else if m := atValue.FindStringSubmatch(what); m != nil {
			if n := scalar(doc.Content[0], cmp.Or(m[1], m[2])); n != nil && best < 0 {
				best, f.File, f.Line, f.Column = 0, file.Name, n.Line, n.Column
			}
		}
	}
	return f
}

// walk follows a path as far as the document goes, and says how far that is.
func walk(n *yaml.Node, path []string) (*yaml.Node, int) {
	if len(path) == 0 {
		return n, 0
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			for words := len(path); words > 0; words-- { // a key may have dots
				if n.Content[i].Value == strings.Join(path[:words], ".") {
					found, deep := walk(n.Content[i+1], path[words:])
					if deep == 0 && len(path) == words || found == n.Content[i+1] && deep == 0 {
						return n.Content[i], words
					}
					return found, deep + words
				}
			}
		}
	case yaml.SequenceNode:
		if i, err := strconv.Atoi(path[0]); err == nil && i < len(n.Content) {
			found, deep := walk(n.Content[i], path[1:])
			return found, deep + 1
		}
	}
	return n, 0
}

// scalar is the first value in which a text stands.
func scalar(n *yaml.Node, text string) *yaml.Node {
	if n.Kind == yaml.ScalarNode && strings.Contains(n.Value, text) {
		return n
	}
	for _, c := range n.Content {
		if found := scalar(c, text); found != nil {
			return found
		}
	}
	return nil
}
