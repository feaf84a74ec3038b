package webserver

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/intake"
)

// readSections reads a balancer's configuration: sections, each a line that names it and the lines up to the next.
func (c *config) readSections() {
	b := &balancing{config: c, backends: map[string]*backendSection{}}
	for _, f := range c.files {
		if !c.take(f) {
			c.fault(position{f.Name, 1}, "what is given is more than is read", fmt.Sprintf("at most %d bytes in all", mostBytes))
			break
		}
		b.sections(f)
	}
	b.settle()
}

// balancing is a balancer's configuration as far as it is read.
type balancing struct {
	*config
	fronts   []*frontSection
	backends map[string]*backendSection
	order    []string // of the backends
	defaults section
}

// section is what defaults, fronts and backends have in common.
type section struct {
	position
	stream bool
	every  string // of checks
	rise   string
	fall   string
}

// frontSection takes requests and says which backend each goes to.
type frontSection struct {
	section
	name  string
	binds []bind
	certs []string
	tests map[string][]test // by name; each of several may hold
	rules []rule
	bySNI bool // it reads the name in the handshake, and hands the stream on
}

// backendSection is servers that requests are spread over.
type backendSection struct {
	section
	name    string
	turn    string
	sticky  bool
	path    string // that a check asks for
	servers []backendServer
}

type backendServer struct {
	position
	address string
	options []string
}

// test is a condition on the name or the path asked.
type test struct {
	names []string // exact, or *.x for what ends so
	paths []string // as notation writes them
	may   bool     // beside these it asks what is not understood: it may hold, and may not
	never bool     // it asks what a plain GET does not have
}

// not is the test that holds where this one does not.
func (t test) not() test {
	if t.never {
		return test{}
	}
	return test{may: true}
}

// ofPlainSections says whether what a test looks at is there in a plain GET: not its method, its fields, its query or the end of its path.
func ofPlainSections(what string) bool {
	for _, other := range []string{"method", "hdr", "req.hdr", "req.fhdr", "req.cook", "cook", "urlp", "url_param", "query", "path_end", "path_sub", "path_dir", "req.body", "http_auth", "req.ver"} {
		if strings.HasPrefix(what, other) && !strings.Contains(what, "(host)") {
			return false
		}
	}
	return true
}

// rule sends what fits to a backend, or elsewhere; the first that fits decides.
type rule struct {
	position
	tests   []test // all must hold
	backend string // "" where it is sent elsewhere
	action  string // what notation writes for that
}

func (b *balancing) sections(f intake.File) {
	var front *frontSection
	var back *backendSection
	inDefaults := false
	for i, line := range strings.Split(f.Text, "\n") {
		at := position{f.Name, i + 1}
		words := sectionWords(line)
		if len(words) == 0 {
			continue
		}
		name := ""
		if len(words) > 1 {
			name = words[1]
		}
		switch words[0] {
		case "global", "peers", "resolvers", "userlist", "mailers", "program", "cache", "ring", "http-errors", "crt-store", "fcgi-app":
			front, back, inDefaults = nil, nil, false
			continue
		case "defaults":
			front, back, inDefaults = nil, nil, true
			b.defaults = section{position: at}
			continue
		case "frontend", "backend", "listen":
			front, back, inDefaults = nil, nil, false
			if words[0] != "backend" {
				front = &frontSection{section: b.defaults, name: name, tests: map[string][]test{}}
				front.position = at
				b.fronts = append(b.fronts, front)
			}
			if words[0] != "frontend" {
				key := strings.ToLower(name)
				back = &backendSection{section: b.defaults, name: estate.CleanName(key)}
				back.position = at
				if b.backends[key] == nil {
					b.order = append(b.order, key)
				}
				b.backends[key] = back
				if front != nil { // it hands on to its own servers
					front.rules = append(front.rules, rule{position: at, backend: key})
				}
			}
			continue
		}
		switch {
		case inDefaults:
			b.defaults.set(words)
		case front == nil && back == nil:
		default:
			b.statement(at, words, front, back)
		}
	}
}

// sectionWords are the words of a line, quotes and escapes taken off, without the comment behind it.
func sectionWords(line string) []string {
	var out []string
	var word strings.Builder
	in, quote := false, byte(0)
	end := func() {
		if in {
			out = append(out, word.String())
			word.Reset()
			in = false
		}
	}
	for i := 0; i < len(line); i++ {
		switch ch := line[i]; {
		case quote != 0 && ch == quote:
			quote = 0
		case quote == 0 && (ch == '"' || ch == '\''):
			quote, in = ch, true
		case ch == '\\' && quote != '\'' && i+1 < len(line):
			i++
			in = true
			word.WriteByte(line[i])
		case quote == 0 && (ch == ' ' || ch == '\t' || ch == '\r'):
			end()
		case quote == 0 && ch == '#':
			end()
			return out
		default:
			in = true
			word.WriteByte(ch)
		}
	}
	end()
	return out
}

// set takes in what a section says of itself.
func (s *section) set(words []string) {
	switch words[0] {
	case "mode":
		s.stream = len(words) > 1 && words[1] == "tcp"
	case "default-server":
		s.checks(words[1:])
	}
}

func (s *section) checks(options []string) {
	for i := 0; i+1 < len(options); i++ {
		switch options[i] {
		case "inter":
			s.every = options[i+1]
		case "rise":
			s.rise = options[i+1]
		case "fall":
			s.fall = options[i+1]
		}
	}
}

// knownInSections are the statements that change nothing of where a request goes.
var knownInSections = strings.Fields(`option log maxconn timeout errorfile errorfiles compression stats capture description retries retry-on cookie
	hash-type http-reuse http-response tcp-response rate-limit monitor-uri monitor-net unique-id-format unique-id-header log-format log-tag backlog
	fullconn grace id filter declare email-alert external-check http-check max-keep-alive-queue load-server-state-from-file bind-process
	tcp-check stick-table stick disabled enabled http-after-response persist default-server mode server-template`)

func (b *balancing) statement(at position, words []string, front *frontSection, back *backendSection) {
	args := words[1:]
	switch word := words[0]; {
	case word == "mode" || word == "default-server":
		if front != nil {
			front.set(words)
		}
		if back != nil {
			back.set(words)
		}
	case word == "bind" && front != nil:
		b.bind(at, args, front)
	case word == "acl" && front != nil && len(args) > 1:
		front.tests[args[0]] = append(front.tests[args[0]], b.test(at, args[1:], front))
	case word == "use_backend" && front != nil && len(args) > 0:
		if strings.Contains(args[0], "%[") {
			b.leave(at, "the backend is worked out from the request (%s): which it is is undecided.", args[0])
			b.rule(front, args[1:], rule{position: at, action: unknown})
			return
		}
		b.rule(front, args[1:], rule{position: at, backend: strings.ToLower(args[0])})
	case word == "default_backend" && front != nil && len(args) > 0:
		front.rules = append(front.rules, rule{position: at, backend: strings.ToLower(args[0])})
	case word == "redirect" && front != nil:
		b.redirect(at, front, args)
	case word == "http-request" && front != nil && len(args) > 0 && args[0] == "redirect":
		b.redirect(at, front, args[1:])
	case (word == "http-request" || word == "tcp-request") && len(args) > 0:
		if slices.Contains([]string{"deny", "reject", "return", "tarpit", "set-path", "replace-path", "set-uri", "use-service", "auth"}, args[0]) {
			b.leave(at, "%s %s is not understood: what it changes is undecided.", word, args[0])
			if answers := !strings.Contains(args[0], "-path") && args[0] != "set-uri"; answers && front != nil && !front.stream {
				b.ahead(at, front, conditionIn(args), unknown)
			}
		}
	case word == "balance" && back != nil && len(args) > 0:
		switch args[0] {
		case "leastconn":
			back.turn = "least-busy"
		case "random":
			back.turn = "random"
		case "source", "uri", "hdr":
			back.sticky = true
		}
	case word == "server" && back != nil && len(args) > 1:
		back.servers = append(back.servers, backendServer{at, strings.ToLower(args[1]), args[2:]})
	case word == "option" && back != nil && len(args) > 0 && args[0] == "httpchk":
		back.path = "/"
		for _, a := range args[1:] {
			if strings.HasPrefix(a, "/") {
				back.path = a
			}
		}
	case !slices.Contains(knownInSections, word):
		b.leave(at, "%s is not understood.", word)
	}
}

// bind reads the addresses and ports that a front takes requests at.
func (b *balancing) bind(at position, args []string, front *frontSection) {
	if len(args) == 0 {
		return
	}
	tls := slices.Contains(args, "ssl")
	for i := 0; i+1 < len(args); i++ {
		if args[i] == "crt" {
			front.certs = append(front.certs, args[i+1])
		}
	}
	for _, word := range strings.Split(args[0], ",") {
		if strings.HasPrefix(word, "unix@") || strings.HasPrefix(word, "/") || strings.HasPrefix(word, "abns@") || strings.HasPrefix(word, "fd@") {
			b.leave(at, "%s is a socket in the machine's files, and left out.", word)
			continue
		}
		udp := strings.HasPrefix(word, "quic")
		word = strings.TrimPrefix(word[strings.IndexByte(word, '@')+1:], "*")
		host, port, ok := hostAndPort(word)
		if !ok {
			b.leave(at, "%s has no one port, and is left out.", word)
			continue
		}
		x := bind{addr: "0.0.0.0", port: port, tls: tls, udp: udp}
		switch strings.Trim(host, "[]") {
		case "", "0.0.0.0":
		case "::":
			x.addr = "[::]"
			if slices.Contains(args, "v4v6") {
				x.addr = ""
			}
		default:
			if x.addr, ok = b.addressOf(at, host); !ok {
				continue
			}
		}
		front.binds = append(front.binds, x)
	}
}

// test reads a condition: what is looked at, and the values of which one must fit.
func (b *balancing) test(at position, words []string, front *frontSection) test {
	what := strings.ToLower(words[0])
	method := ""
	var values []string
	for i := 1; i < len(words); i++ {
		switch words[i] {
		case "-i", "--":
		case "-m":
			if i++; i < len(words) {
				method = words[i]
			}
		default:
			values = append(values, words[i])
		}
	}
	base, converters, _ := strings.Cut(what, ",")
	wrong := func() test {
		b.leave(at, "the condition %s is not understood: what hangs on it is undecided.", strings.Join(words, " "))
		return test{may: ofPlainSections(base), never: !ofPlainSections(base)}
	}
	if converters != "" && converters != "host_only" && converters != "field(1,:)" && converters != "lower" {
		return wrong()
	}
	t := test{}
	for _, v := range values {
		lower := strings.ToLower(v)
		switch base {
		case "hdr(host)", "req.hdr(host)", "req.fhdr(host)", "ssl_fc_sni", "req_ssl_sni", "req.ssl_sni":
			front.bySNI = front.bySNI || strings.HasPrefix(base, "req_ssl") || strings.HasPrefix(base, "req.ssl")
			switch {
			case method == "end" && strings.HasPrefix(lower, "."):
				lower = "*" + lower
			case method != "" && method != "str":
				return wrong()
			}
		case "hdr_end(host)", "req.hdr_end(host)", "ssl_fc_sni_end":
			if !strings.HasPrefix(lower, ".") {
				return wrong()
			}
			lower = "*" + lower
		case "path_beg":
			t.paths = append(t.paths, v+"*")
			continue
		case "path":
			switch method {
			case "beg":
				t.paths = append(t.paths, v+"*")
			case "", "str":
				t.paths = append(t.paths, "="+v)
			default:
				return wrong()
			}
			continue
		case "path_reg":
			begins := beginnings(v)
			for _, x := range begins {
				t.paths = append(t.paths, x.text+"*")
				t.may = t.may || !x.whole
			}
			if len(begins) == 0 {
				return wrong()
			}
			continue
		default:
			return wrong()
		}
		stem, wild := strings.CutPrefix(lower, "*.")
		clean, ok := estate.CleanHostname(stem)
		if !ok {
			return wrong()
		}
		if wild {
			clean = "*." + clean
		}
		t.names = append(t.names, clean)
	}
	if len(values) == 0 {
		return wrong()
	}
	return t
}

// rule takes in what becomes of requests on a condition: alternatives of tests that must all hold. Where one of them is not understood, what
// becomes of those that the others hold of is not known.
func (b *balancing) rule(front *frontSection, condition []string, of rule) {
	at := of.position
	if len(condition) == 0 {
		front.rules = append(front.rules, of)
		return
	}
	alternatives := [][]test{nil} // of several tests of one name either may hold
	var out []rule
	flush := func() {
		for _, tests := range alternatives {
			one := of
			one.tests = tests
			if slices.ContainsFunc(tests, func(t test) bool { return t.never }) {
				continue
			}
			if slices.ContainsFunc(tests, func(t test) bool { return t.may }) {
				one.backend, one.action = "", unknown
			}
			out = append(out, one)
		}
		alternatives = [][]test{nil}
	}
	for i := 1; i < len(condition); i++ {
		word, negated := strings.CutPrefix(condition[i], "!")
		var either []test
		switch {
		case word == "or" || word == "||":
			flush()
			continue
		case word == "" && negated: // `! name`
			if i+1 < len(condition) {
				condition[i+1] = "!" + condition[i+1]
			}
			continue
		case word == "{":
			end := slices.Index(condition[i:], "}")
			if end < 2 {
				b.leave(at, "a brace of the condition is not closed: what hangs on it is undecided.")
				either, end = []test{{may: true}}, len(condition)-i
			} else {
				either = []test{b.test(at, condition[i+1:i+end], front)}
			}
			i += end
		case front.tests[word] != nil:
			either = front.tests[word]
		default:
			b.leave(at, "the condition %s is not understood: what hangs on it is undecided.", word)
			either = []test{{may: true}}
		}
		if negated != (condition[0] == "unless") {
			b.leave(at, "what the condition %s does not hold of is not followed: what hangs on it is undecided.", word)
			either = []test{either[0].not()}
		}
		var next [][]test
		for _, tests := range alternatives {
			for _, t := range either {
				next = append(next, append(slices.Clip(tests), t))
			}
		}
		if alternatives = next; len(alternatives) > 64 {
			b.leave(at, "the condition has too many alternatives to be followed: what hangs on it is undecided.")
			alternatives = [][]test{{{may: true}}}
		}
	}
	flush()
	front.rules = append(front.rules, out...)
}

// conditionIn is the condition that stands behind a statement; empty where there is none.
func conditionIn(args []string) []string {
	if i := slices.IndexFunc(args, func(w string) bool { return w == "if" || w == "unless" }); i >= 0 {
		return args[i:]
	}
	return nil
}

// redirect reads where requests are sent.
func (b *balancing) redirect(at position, front *frontSection, args []string) {
	rest := conditionIn(args)
	text := strings.Join(rest, " ")
	if text == "if !{ ssl_fc }" || text == "unless { ssl_fc }" { // of what comes in the clear
		if slices.ContainsFunc(front.binds, func(x bind) bool { return x.tls }) {
			if slices.ContainsFunc(front.binds, func(x bind) bool { return !x.tls }) {
				b.plain(front, at)
			}
			return
		}
		rest = nil
	}
	if len(args) < 2 {
		return
	}
	switch kind, to := args[0], args[1]; {
	case kind == "scheme" && to == "https":
		b.ahead(at, front, rest, "redirect https")
	case (kind == "location" || kind == "prefix") && strings.Contains(to, "://") && !strings.Contains(to, "%["):
		scheme, tail, _ := strings.Cut(to, "://")
		host, tail, _ := strings.Cut(tail, "/")
		b.ahead(at, front, rest, "redirect "+scheme+"://"+strings.ToLower(host)+"/"+tail)
	default:
		b.leave(at, "sent to %s, which is not understood: where that leads is undecided.", to)
		b.ahead(at, front, rest, unknown)
	}
}

// ahead puts a redirect before what hands on: it is asked first, wherever it is written.
func (b *balancing) ahead(at position, front *frontSection, condition []string, action string) {
	before := len(front.rules)
	b.rule(front, condition, rule{position: at, action: action})
	come := slices.Clone(front.rules[before:])
	n := slices.IndexFunc(front.rules[:before], func(r rule) bool { return r.backend != "" })
	if n >= 0 {
		front.rules = slices.Insert(front.rules[:before:before], n, come...)
	}
}

// plain parts a front that takes both: what comes in the clear is sent to TLS.
func (b *balancing) plain(front *frontSection, at position) {
	other := &frontSection{section: front.section, name: front.name, tests: map[string][]test{}, rules: []rule{{position: at, action: "redirect https"}}}
	var tls []bind
	for _, x := range front.binds {
		if x.tls {
			tls = append(tls, x)
		} else {
			other.binds = append(other.binds, x)
		}
	}
	front.binds = tls
	b.fronts = append(b.fronts, other)
}

// settle brings the fronts into servers, and the backends that they name into pools.
func (b *balancing) settle() {
	used := map[string]bool{}
	for _, f := range b.fronts {
		b.front(f, used)
	}
	for _, key := range b.order {
		if used[key] {
			b.pool(b.backends[key])
		}
	}
}

// front brings a front: for each name that a rule has, and for every other, the rules that may hold of it in their order.
func (b *balancing) front(f *frontSection, used map[string]bool) {
	if f.stream && !f.bySNI {
		for _, r := range f.rules {
			if r.backend != "" && len(r.tests) == 0 {
				if action := b.to(r.backend, "tcp", r.position, used); action != "" {
					b.servers = append(b.servers, &server{position: f.position, stream: true, binds: f.binds, locations: []location{{position: r.position, action: action}}})
				}
				return
			}
		}
		return
	}
	var names []string
	for _, r := range f.rules {
		if b.backends[r.backend] != nil { // though another rule may come before it
			used[r.backend] = true
		}
		for _, t := range r.tests {
			for _, name := range t.names {
				if !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
	}
	for _, name := range append(names, "*") {
		v := &server{position: f.position, binds: slices.Clone(f.binds), names: []string{name}, certs: f.certs, locations: b.of(f, name, used)}
		if len(v.locations) > 0 {
			b.servers = append(b.servers, v)
		}
	}
	if len(names) == 0 && len(f.rules) == 0 {
		b.binds = append(b.binds, f.binds...)
	}
	b.passthrough = b.passthrough || f.bySNI
}

// of are the paths of a name: of the rules that may hold of it, the first that fits decides.
func (b *balancing) of(f *frontSection, name string, used map[string]bool) []location {
	var out []location
	for _, r := range f.rules {
		paths, holds := pathsOf(r, name)
		if !holds {
			continue
		}
		for _, p := range paths {
			if slices.ContainsFunc(out, func(o location) bool { return within(p, o.path) }) {
				continue
			}
			l := location{position: r.position, path: p, action: r.action}
			if r.backend != "" {
				if l.action = b.to(r.backend, map[bool]string{true: "tcp", false: "http"}[f.stream], r.position, used); l.action == "" {
					continue
				}
			}
			out = append(out, l)
		}
	}
	return out
}

// pathsOf are the paths for which a rule holds of a name; "" for all.
func pathsOf(r rule, name string) (paths []string, holds bool) {
	paths = []string{""}
	for _, t := range r.tests {
		if len(t.names) > 0 && !slices.ContainsFunc(t.names, func(n string) bool { return n == name || covers(n, name) }) {
			return nil, false
		}
		if len(t.paths) == 0 {
			continue
		}
		var both []string
		for _, p := range paths {
			for _, q := range t.paths {
				switch {
				case within(q, p):
					both = append(both, q)
				case within(p, q):
					both = append(both, p)
				}
			}
		}
		if paths = both; len(paths) == 0 {
			return nil, false
		}
	}
	return paths, true
}

// within says whether all that a path takes is taken by another: one alone, all that begin so, or "" for all.
func within(path, other string) bool {
	return path == other || !strings.HasPrefix(other, "=") && takesAll(other, strings.TrimPrefix(path, "="))
}

// covers says whether a wildcard has a name or a narrower wildcard under it.
func covers(wildcard, name string) bool {
	base, ok := strings.CutPrefix(wildcard, "*")
	return ok && wildcard != "*" && strings.HasSuffix(name, base) && name != wildcard
}

// to is a hand-on to a backend; "" where there is none of that name.
func (b *balancing) to(key, speaking string, at position, used map[string]bool) string {
	back := b.backends[key]
	if back == nil || back.name == "" {
		b.leave(at, "there is no backend %s.", key)
		return ""
	}
	used[key] = true
	if speaking == "http" && slices.ContainsFunc(back.servers, func(s backendServer) bool { return slices.Contains(s.options, "ssl") }) {
		speaking = "https"
	}
	action := "to pool " + back.name
	if speaking != "http" {
		action += " speaking " + speaking
	}
	if speaking == "https" && slices.ContainsFunc(back.servers, func(s backendServer) bool {
		i := slices.Index(s.options, "verify")
		return i >= 0 && i+1 < len(s.options) && s.options[i+1] == "required"
	}) {
		action += " verified"
	}
	return action
}

// pool brings a backend. A check is one of the port that all its servers have.
func (b *balancing) pool(back *backendSection) {
	p := pool{position: back.position, name: back.name}
	options := []string{back.turn}
	if back.sticky {
		options = append(options, "sticky")
	}
	checked, ports := false, map[int]bool{}
	for _, s := range back.servers {
		host, port, ok := hostAndPort(s.address)
		if !ok || strings.HasPrefix(s.address, "/") || strings.Contains(s.address, "@") {
			b.leave(s.position, "the server %s has no address and port of its own, and is left out.", s.address)
			continue
		}
		ports[port] = true
		back.checks(s.options)
		member := host + ":" + strconv.Itoa(port)
		for i, o := range s.options {
			switch {
			case o == "weight" && i+1 < len(s.options) && s.options[i+1] != "0":
				member += " share " + s.options[i+1]
			case o == "weight" || o == "disabled":
				member += " out"
			case o == "backup":
				member += " spare"
			case o == "check":
				checked = true
			}
		}
		p.members = append(p.members, member)
	}
	switch {
	case checked && len(ports) == 1:
		for port := range ports {
			options = append(options, fmt.Sprintf("check %d", port))
		}
		if back.path != "" {
			options = append(options, "path "+path.Clean(back.path))
		}
		options = append(options, "every "+checkEvery(back.every), "up-after "+orWord(back.rise, "2"), "down-after "+orWord(back.fall, "3"))
	case checked:
		b.leave(back.position, "its servers are checked at different ports, which one pool cannot say: left out.")
	}
	p.options = strings.Join(slices.DeleteFunc(options, func(o string) bool { return o == "" }), " ")
	b.pools = append(b.pools, p)
}

func orWord(word, otherwise string) string {
	if word == "" {
		return otherwise
	}
	return word
}

// checkEvery is how long lies between checks, in seconds at least: a number alone is of milliseconds.
func checkEvery(word string) string {
	word = orWord(word, "2s")
	text, unit := strings.TrimRight(word, "smhdu"), strings.TrimLeft(word, "0123456789")
	n, err := strconv.Atoi(text)
	switch {
	case err != nil:
		return "2s"
	case unit == "" || unit == "ms":
		return fmt.Sprintf("%ds", max(1, n/1000))
	case unit == "us":
		return "1s"
	}
	return word
}
