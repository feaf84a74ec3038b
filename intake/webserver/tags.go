package webserver

import (
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/intake"
)

// readTags reads a configuration in tags: main file, included ones, and what lies there without being in force.
func (c *config) readTags() {
	c.inOrder = true
	var top []statement
	if main, ok := c.main("apache2.conf", "httpd.conf"); ok {
		c.root = path.Dir(path.Clean(main.Name))
		top = c.include(position{main.Name, 1}, main, c.inTags)
	} else {
		for _, f := range c.files {
			if dir := path.Base(path.Dir(path.Clean(f.Name))); !strings.HasSuffix(dir, "-available") {
				top = append(top, c.include(position{f.Name, 1}, f, c.inTags)...)
			}
		}
	}
	whole := &tagged{config: c, variables: map[string]string{}}
	whole.top(top, false)
	for _, f := range c.available() {
		whole.top(c.include(position{f.Name, 1}, f, c.inTags), true)
	}
	whole.settle()
}

// inTags are the statements of a file: one a line, or a block between tags.
func (c *config) inTags(f intake.File) []statement {
	lines := strings.Split(f.Text, "\n")
	type open struct {
		statement
		list []statement
	}
	stack := []open{{}}
	for i := 0; i < len(lines); i++ {
		at := position{f.Name, i + 1}
		line := strings.TrimSpace(lines[i])
		for strings.HasSuffix(line, `\`) && i+1 < len(lines) { // goes on on the next line
			i++
			line = strings.TrimSuffix(line, `\`) + " " + strings.TrimSpace(lines[i])
		}
		inner := &stack[len(stack)-1]
		switch {
		case line == "" || strings.HasPrefix(line, "#"):
		case strings.HasPrefix(line, "</"):
			name := strings.ToLower(strings.Trim(line, "</> \t"))
			if len(stack) == 1 || inner.name() != name {
				c.fault(at, fmt.Sprintf("</%s> closes what was not opened", name), "the end of the block that was opened last")
				continue
			}
			inner.block, inner.has = inner.list, true
			stack = stack[:len(stack)-1]
			stack[len(stack)-1].list = append(stack[len(stack)-1].list, inner.statement)
		case strings.HasPrefix(line, "<"):
			if len(stack) >= mostDepth {
				c.fault(at, "the blocks stand deeper in one another than any configuration needs", fmt.Sprintf("at most %d", mostDepth))
				return stack[0].list
			}
			if words := tagWords(strings.TrimSuffix(strings.TrimPrefix(line, "<"), ">")); len(words) > 0 {
				stack = append(stack, open{statement: statement{position: at, words: words}})
			}
		default:
			if words := tagWords(line); len(words) > 0 {
				inner.list = append(inner.list, c.includedInTags(statement{position: at, words: words})...)
			}
		}
	}
	for len(stack) > 1 {
		last := stack[len(stack)-1]
		c.fault(last.position, fmt.Sprintf("<%s> is not closed", last.name()), fmt.Sprintf("</%s>", last.name()))
		stack = stack[:len(stack)-1]
	}
	return stack[0].list
}

// tagWords are the words of a line; the first, which is a statement's name, in lower case.
func tagWords(line string) []string {
	var out []string
	for rest := strings.TrimSpace(line); rest != ""; rest = strings.TrimSpace(rest) {
		if q := rest[0]; q == '"' || q == '\'' {
			word, after, _ := strings.Cut(rest[1:], string(q))
			out, rest = append(out, word), after
			continue
		}
		end := strings.IndexAny(rest, " \t")
		if end < 0 {
			end = len(rest)
		}
		out, rest = append(out, rest[:end]), rest[end:]
	}
	if len(out) > 0 {
		out[0] = strings.ToLower(out[0])
	}
	return out
}

// includedInTags is a statement, or what stands in the files that it includes.
func (c *config) includedInTags(s statement) []statement {
	if s.name() != "include" && s.name() != "includeoptional" {
		return []statement{s}
	}
	pattern := s.arg(0)
	files := c.find(pattern)
	if len(files) == 0 {
		files = c.find(path.Join(pattern, "*.conf")) // a folder
	}
	if len(files) == 0 && s.name() == "include" && !strings.ContainsAny(pattern, "*?[") {
		c.missing = true
		c.leave(s.position, "%s is included, and was not given.", pattern)
	}
	var out []statement
	for _, f := range files {
		out = append(out, c.include(s.position, f, c.inTags)...)
	}
	return out
}

// tagged is a configuration in tags as far as it is read.
type tagged struct {
	*config
	variables map[string]string
	root      string // that of the main server, which answers where no other is
	listens   []bind
	pools     map[string]bool
	loaded    map[string]bool // modules; nil where the files do not say
}

// builtIn are modules that need not be loaded.
var builtIn = strings.Fields("core_module so_module http_module unixd_module log_config_module logio_module version_module watchdog_module")

// holds says whether what is written for a module is in force: where the files do not say what is loaded, it is taken as meant.
func (t *tagged) holds(s *statement) bool {
	name, not := strings.CutPrefix(strings.ToLower(s.arg(0)), "!")
	if s.name() != "ifmodule" || t.loaded == nil {
		return !not
	}
	if file, ok := strings.CutPrefix(name, "mod_"); ok {
		name = strings.TrimSuffix(file, ".c") + "_module"
	}
	return (t.loaded[name] || slices.Contains(builtIn, name)) != not
}

// top reads what stands in no server's block.
func (t *tagged) top(list []statement, off bool) {
	for i := range list {
		s := &list[i]
		switch s.name() {
		case "loadmodule":
			if t.loaded == nil {
				t.loaded = map[string]bool{}
			}
			t.loaded[strings.ToLower(s.arg(0))] = true
		case "ifmodule", "ifversion":
			if t.holds(s) {
				t.top(s.block, off)
			}
		case "ifdefine":
			t.leave(s.position, "what is in force only where %s is defined is left out.", s.arg(0))
		case "define":
			t.variables[s.arg(0)] = s.arg(1)
		case "listen":
			if b, ok := t.listen(s); ok && !off {
				t.listens = append(t.listens, b)
			}
		case "documentroot":
			t.root = t.value(s.arg(0))
		case "proxy":
			t.balancer(s)
		case "virtualhost":
			t.host(s, off)
		case "macro", "use":
			t.leave(s.position, "%s is not understood: what it makes is left out.", s.name())
		}
	}
}

// value is a word with its variables.
func (t *tagged) value(word string) string {
	for name, v := range t.variables {
		word = strings.ReplaceAll(word, "${"+name+"}", v)
	}
	return word
}

func (t *tagged) listen(s *statement) (bind, bool) {
	b, ok := t.addressed(s, t.value(s.arg(0)))
	b.tls = strings.EqualFold(s.arg(1), "https")
	return b, ok
}

// addressed is an address and port; without an address it is both families.
func (t *tagged) addressed(s *statement, word string) (bind, bool) {
	host, port, ok := hostAndPort(word)
	if n, err := strconv.Atoi(word); err == nil {
		host, port, ok = "*", n, true
	}
	if !ok {
		t.leave(s.position, "%s has no port of its own, and is left out.", word)
		return bind{}, false
	}
	b := bind{port: port}
	switch strings.ToLower(host) {
	case "", "*", "_default_":
	case "0.0.0.0", "[::]":
		b.addr = host
	default:
		b.addr, ok = t.addressOf(s.position, host)
		return b, ok
	}
	return b, true
}

// host reads one of the servers that are told apart by address and name.
func (t *tagged) host(s *statement, off bool) {
	v := &server{position: s.position, off: off}
	for _, word := range s.words[1:] {
		if b, ok := t.addressed(s, t.value(word)); ok {
			v.binds = append(v.binds, b)
		}
	}
	if len(v.binds) == 0 {
		return
	}
	x := &hostReading{tagged: t, server: v}
	x.read(s.block)
	x.end()
	for i := range v.binds {
		v.binds[i].tls = x.tls
	}
	t.servers = append(t.servers, v)
}

// hostReading is a server's block as far as it is read.
type hostReading struct {
	*tagged
	*server
	tls        bool
	keeps      bool // the name asked is kept when handing on
	root       string
	handed     []location // what hands on and redirects, in order: the first that fits decides
	sent       []location
	conditions []*statement // that the next rewriting hangs on
	rewrites   bool         // all that is asked here is sent to TLS
	kept       []location   // but for these
}

func (x *hostReading) read(list []statement) {
	for i := range list {
		s := &list[i]
		switch s.name() {
		case "ifmodule", "ifversion":
			if x.holds(s) {
				x.read(s.block)
			}
		case "servername":
			x.name(s, s.arg(0))
		case "serveralias":
			for _, word := range s.words[1:] {
				x.name(s, word)
			}
		case "documentroot":
			x.root = x.value(s.arg(0))
		case "sslengine":
			x.tls = strings.EqualFold(s.arg(0), "on")
		case "sslcertificatefile":
			x.certs = append(x.certs, x.value(s.arg(0)))
		case "proxypreservehost":
			x.keeps = strings.EqualFold(s.arg(0), "on")
		case "proxypass":
			x.pass(s, s.arg(0), s.arg(1))
		case "redirect", "redirectpermanent", "redirecttemp":
			x.redirect(s)
		case "rewriterule":
			x.rewrite(s)
		case "location":
			x.location(s)
		case "proxy":
			x.balancer(s)
		case "rewritecond":
			x.conditions = append(x.conditions, s)
		case "redirectmatch":
			pattern := s.arg(0)
			if pattern == "permanent" || pattern == "temp" || pattern == "seeother" || isNumber(pattern) {
				pattern = s.arg(1)
			}
			x.sent = append(x.sent, x.pattern(s, pattern)...)
		case "proxypassmatch":
			x.handed = append(x.handed, x.pattern(s, s.arg(0))...)
		case "locationmatch":
			x.matched(s, s.arg(0))
		case "aliasmatch", "scriptaliasmatch":
			x.leave(s.position, "%s %s is a pattern: which files it gives is not followed.", s.words[0], s.arg(0))
		default:
			if !slices.Contains(knownInTags, s.name()) {
				x.leave(s.position, "%s is not understood.", s.words[0])
			}
		}
	}
}

// knownInTags are the statements that change nothing of where a request goes.
var knownInTags = strings.Fields(`serveradmin errorlog customlog transferlog loglevel logformat errordocument directoryindex options allowoverride directory
	directorymatch files filesmatch header requestheader sslcertificatekeyfile sslcertificatechainfile sslprotocol sslciphersuite sslhonorcipherorder
	sslsessiontickets sslusestapling ssloptions sslopensslconfcmd sslcacertificatefile sslcacertificatepath sslproxyengine sslproxyverify
	sslproxycheckpeercn sslproxycheckpeername sslproxycheckpeerexpire sslcompression protocols rewriteengine rewritebase rewriteoptions
	proxypassreverse proxypassreversecookiedomain proxypassreversecookiepath proxyrequests proxytimeout proxyvia proxyaddheaders proxyerroroverride
	usecanonicalname usecanonicalphysicalport hostnamelookups serversignature servertokens timeout keepalive keepalivetimeout maxkeepaliverequests
	limitrequestbody limitrequestfields limitrequestline addtype adddefaultcharset addoutputfilterbytype setoutputfilter deflatecompressionlevel
	expiresactive expiresbytype expiresdefault setenv setenvif setenvifnocase browsermatch passenv unsetenv php_admin_value php_admin_flag php_value
	php_flag alias scriptalias addhandler sethandler suexecusergroup documentroot fileetag etag sendbuffersize enablesendfile enablemmap
	substitute mdcertificateagreement logio remoteipheader remoteiptrustedproxy remoteipinternalproxy http2push h2push contentdigest`)

// name takes a name of the server; one with a port behind it is the name alone.
func (x *hostReading) name(s *statement, word string) {
	word = strings.ToLower(x.value(word))
	if _, rest, ok := strings.Cut(word, "://"); ok {
		word = rest
	}
	if host, _, ok := hostAndPort(word); ok {
		word = host
	}
	base, wild := strings.CutPrefix(word, "*.")
	a, err := netip.ParseAddr(strings.Trim(word, "[]"))
	clean, ok := estate.CleanHostname(base)
	switch {
	case word == "*":
		x.leave(s.position, "the name * takes every request that comes so far: what is written behind it is undecided.")
		clean = "*"
	case err == nil:
		clean = a.String()
	case strings.ContainsAny(base, "*?"):
		x.leave(s.position, "the name %s is a pattern: which requests it takes is undecided.", word)
		return
	case !ok:
		x.leave(s.position, "%q is no host name, and takes no request; left out.", word)
		return
	case wild:
		clean = "*." + clean
	}
	if !slices.Contains(x.names, clean) {
		x.names = append(x.names, clean)
	}
}

// pathOf is a path as it is held against the one asked: by whole segments, or from its last slash on by letters.
func pathOf(word string) string {
	switch {
	case word == "/":
		return ""
	case strings.HasSuffix(word, "/"):
		return word + "*"
	}
	return word
}

// pass reads what is handed on.
func (x *hostReading) pass(s *statement, at, to string) {
	l := location{position: s.position, path: pathOf(at)}
	if to == "" {
		x.leave(s.position, "%s says not where to.", s.words[0])
		return
	}
	to = x.value(to)
	switch scheme, rest, ok := strings.Cut(to, "://"); {
	case to == "!":
		l.action = "files"
	case !ok || strings.HasPrefix(to, "unix:") || strings.Contains(to, "|"):
		x.leave(s.position, "%s is no hand-on that is understood: taken as served here.", to)
		return
	case strings.ContainsAny(rest, "$%"):
		x.leave(s.position, "handed on to %s, which is not known before it is asked: undecided.", to)
		l.action = unknown
	case scheme == "balancer":
		name, _, _ := strings.Cut(strings.ToLower(rest), "/")
		l.action = "to pool " + estate.CleanName(name)
	case scheme == "http" || scheme == "https":
		host, tail, has := strings.Cut(rest, "/")
		l.action = "to " + scheme + "://" + strings.ToLower(host)
		if has {
			l.action += "/" + tail
		}
		if scheme == "https" && !x.keeps {
			l.action += " asking upstream"
		}
	default:
		x.leave(s.position, "%s:// is no hand-on that is understood: taken as served here.", scheme)
		return
	}
	x.handed = append(x.handed, l)
}

// redirect reads where requests are sent.
func (x *hostReading) redirect(s *statement) {
	words := s.words[1:]
	if len(words) > 0 && (words[0] == "permanent" || words[0] == "temp" || words[0] == "seeother" || isNumber(words[0])) {
		words = words[1:]
	}
	if len(words) < 2 {
		if len(words) == 1 { // with a code that sends nowhere
			x.sent = append(x.sent, location{position: s.position, path: pathOf(words[0]), action: "files", note: "answers " + s.arg(0)})
		}
		return
	}
	l := location{position: s.position, path: pathOf(words[0])}
	to := x.value(words[1])
	scheme, rest, ok := strings.Cut(to, "://")
	host, tail, _ := strings.Cut(rest, "/")
	switch {
	case !ok || scheme != "http" && scheme != "https":
		x.leave(s.position, "sent to %s, which is not understood: where that leads is undecided.", to)
		l.action = unknown
	case scheme == "https" && words[0] == "/" && tail == "" && len(x.names) == 1 && x.names[0] == strings.ToLower(host):
		l.action = "redirect https"
	default:
		l.action = "redirect " + scheme + "://" + strings.ToLower(host) + "/" + tail
	}
	x.sent = append(x.sent, l)
}

func isNumber(word string) bool {
	_, err := strconv.Atoi(word)
	return err == nil
}

// pattern is what becomes of the requests that a pattern may take, told by how their paths begin.
func (x *hostReading) pattern(s *statement, pattern string) []location {
	x.leave(s.position, "%s %s is a pattern: which requests it takes is undecided.", s.words[0], pattern)
	var out []location
	for _, b := range beginnings(pattern) {
		out = append(out, location{position: s.position, path: b.text + "*", action: unknown})
	}
	if len(out) > 0 {
		return out
	}
	if mayFit(pattern, "/") {
		return []location{{position: s.position, action: unknown}}
	}
	return nil
}

// matched reads what is particular to the paths that a pattern takes.
func (x *hostReading) matched(s *statement, pattern string) {
	found := x.pattern(s, pattern)
	if slices.ContainsFunc(s.block, func(d statement) bool {
		return slices.Contains([]string{"proxypass", "rewriterule", "redirect"}, d.name())
	}) {
		x.handed = append(x.handed, found...)
	}
}

// rewrite reads the one that sends everything to TLS, as programs that keep certificates write it. What else is rewritten is not followed:
// where a plain GET of a path may meet it, what becomes of that is not known.
func (x *hostReading) rewrite(s *statement) {
	conditions := x.conditions
	x.conditions = nil
	pattern, to, flags := s.arg(0), s.arg(1), ","+strings.ToUpper(strings.Trim(s.arg(2), "[]"))+","
	host, tail, ok := strings.Cut(strings.TrimPrefix(to, "https://"), "}")
	sends := strings.Contains(flags, ",R=") || strings.Contains(flags, ",R,")
	all := mayFit(pattern, "/") && mayFit(pattern, "/any/path")
	host = strings.TrimPrefix(host, "%{")
	if strings.HasPrefix(to, "https://") && ok && sends && all && (host == "SERVER_NAME" || host == "HTTP_HOST") && (tail == "%{REQUEST_URI}" || tail == "/$1" || tail == "$1") {
		if kept, never, ok := x.sentToTLS(conditions); ok {
			x.rewrites, x.kept = x.rewrites || !never, kept
			return
		}
	}
	inside := (strings.HasPrefix(to, "/") || to == "-") && !sends && !strings.Contains(flags, ",P,") && !strings.Contains(flags, ",F,") && !strings.Contains(flags, ",G,")
	if inside || len(conditions) > 0 && slices.ContainsFunc(conditions, func(c *statement) bool { return !ofPlainTags(c.arg(0)) }) {
		x.leave(s.position, "the rewriting of %s to %s is not followed: what it changes of a request that meets it is undecided.", pattern, to)
		return
	}
	x.leave(s.position, "the rewriting of %s to %s is not understood: what it changes is undecided.", pattern, to)
	var out []location
	for _, b := range beginnings(pattern) {
		out = append(out, location{position: s.position, path: b.text + "*", action: unknown})
	}
	if len(out) == 0 && mayFit(pattern, "/") {
		out = append(out, location{position: s.position, action: unknown})
	}
	x.handed = slices.Insert(x.handed, 0, out...) // ahead of what hands on
}

// sentToTLS reads the conditions under which all is sent to TLS: by the names of this server, in the clear, but for paths that begin in one
// way. Never, that it does not come to that here; not ok, that something else decides.
func (x *hostReading) sentToTLS(conditions []*statement) (kept []location, never, ok bool) {
	for _, c := range conditions {
		what, pattern := strings.ToUpper(c.arg(0)), strings.Trim(c.arg(1), `"`)
		switch {
		case what == "%{SERVER_NAME}" && strings.HasPrefix(pattern, "="):
		case what == "%{HTTPS}" && (strings.EqualFold(pattern, "off") || pattern == "!=on" || pattern == "!on"):
			never = never || x.tls
		case what == "%{SERVER_PORT}" && (pattern == "80" || pattern == "^80$" || pattern == "!443" || pattern == "!^443$"):
			never = never || x.tls
		case what == "%{REQUEST_URI}" && strings.HasPrefix(pattern, "!"):
			begins := beginnings(meantDots.ReplaceAllString(pattern[1:], `$1\.`))
			if len(begins) == 0 {
				return nil, false, false
			}
			for _, b := range begins {
				kept = append(kept, location{position: c.position, path: b.text + "*", action: "files"})
			}
		default:
			return nil, false, false
		}
	}
	return kept, never, true
}

// meantDots are the dots of a pattern that are meant as such, and written as any letter: as before a word.
var meantDots = regexp.MustCompile(`(^|/)\.\b`)

// ofPlainTags says whether what a condition looks at is there in a plain GET: not its method, its fields, its query or a file.
func ofPlainTags(what string) bool {
	for _, other := range []string{"REQUEST_METHOD", "HTTP_USER_AGENT", "HTTP_REFERER", "HTTP_COOKIE", "HTTP:", "HTTP_ACCEPT", "QUERY_STRING", "REQUEST_FILENAME", "THE_REQUEST", "DOCUMENT_ROOT", "TIME"} {
		if strings.HasPrefix(strings.TrimPrefix(strings.ToUpper(what), "%{"), other) {
			return false
		}
	}
	return true
}

// location reads a path with what is particular to it.
func (x *hostReading) location(s *statement) {
	if s.arg(0) == "~" {
		x.matched(s, s.arg(1))
		return
	}
	for i := range s.block {
		d := &s.block[i]
		switch d.name() {
		case "proxypass":
			x.pass(d, s.arg(0), d.arg(0))
		case "require", "authtype", "authname", "authuserfile", "authbasicprovider", "requireall", "requireany", "order", "allow", "deny", "satisfy":
			x.leave(d.position, "who may ask for %s is not understood: taken as everybody.", s.arg(0))
		default:
			if !slices.Contains(knownInTags, d.name()) {
				x.leave(d.position, "%s is not understood.", d.words[0])
			}
		}
	}
}

// end brings what was read in order into paths: of those that fit, the first written decides, and hand-ons come ahead of redirects.
func (x *hostReading) end() {
	if x.rewrites {
		x.locations = append(x.kept, location{position: x.position, action: "redirect https"})
		return
	}
	for _, l := range slices.Concat(x.handed, x.sent) {
		if before := slices.IndexFunc(x.locations, func(o location) bool { return takesAll(o.path, l.path) }); before >= 0 {
			x.leave(l.position, "%s gets nothing: what is written before it takes all of it.", orAll(l.path))
			continue
		}
		x.locations = append(x.locations, l)
	}
	if !slices.ContainsFunc(x.locations, func(l location) bool { return l.path == "" }) {
		l := location{position: x.position, action: "files"}
		if x.root != "" {
			l.action += " " + estate.Quote(x.root)
		}
		x.locations = append(x.locations, l)
	}
}

func orAll(path string) string {
	if path == "" {
		return "/"
	}
	return path
}

// takesAll says whether a path takes all that another would.
func takesAll(path, other string) bool {
	if path == "" || path == other {
		return true
	}
	base, letters := strings.CutSuffix(path, "*")
	if letters {
		return strings.HasPrefix(other, base)
	}
	return strings.HasPrefix(other, base+"/")
}

// balancer reads upstreams that requests are spread over.
func (t *tagged) balancer(s *statement) {
	rest, ok := strings.CutPrefix(strings.ToLower(s.arg(0)), "balancer://")
	if !ok {
		return
	}
	name, _, _ := strings.Cut(rest, "/")
	p := pool{position: s.position, name: estate.CleanName(name)}
	if t.pools == nil {
		t.pools = map[string]bool{}
	}
	if p.name == "" || t.pools[p.name] {
		return
	}
	t.pools[p.name] = true
	for i := range s.block {
		d := &s.block[i]
		switch d.name() {
		case "balancermember":
			scheme, rest, ok := strings.Cut(t.value(d.arg(0)), "://")
			host, _, _ := strings.Cut(strings.ToLower(rest), "/")
			if !ok || scheme != "http" && scheme != "https" {
				t.leave(d.position, "the member %s is not understood, and left out.", d.arg(0))
				continue
			}
			if _, _, has := hostAndPort(host); !has {
				host += map[string]string{"http": ":80", "https": ":443"}[scheme]
			}
			for _, option := range d.words[2:] {
				switch key, value, _ := strings.Cut(option, "="); {
				case key == "loadfactor" && isNumber(value):
					host += " share " + value
				case key == "status" && strings.Contains(value, "H"):
					host += " spare"
				case key == "status" && strings.Contains(value, "D"):
					host += " out"
				}
			}
			p.members = append(p.members, host)
		case "proxyset":
			if strings.Contains(strings.Join(d.words, " "), "lbmethod=bybusyness") {
				p.options = "least-busy"
			}
			if strings.Contains(strings.Join(d.words, " "), "stickysession=") {
				p.options = strings.TrimSpace(p.options + " sticky")
			}
		}
	}
	t.config.pools = append(t.config.pools, p)
}

// settle says where it listens, and what the main server answers: whatever comes where no other server is.
func (t *tagged) settle() {
	if len(t.listens) == 0 { // only the files of sites were given: they are at the ports that they name
		for _, s := range t.servers {
			for _, b := range s.binds {
				if b.addr = ""; !s.off && !slices.ContainsFunc(t.listens, func(o bind) bool { return o.port == b.port }) {
					t.listens = append(t.listens, bind{port: b.port})
				}
			}
		}
	}
	for i := range t.listens {
		l := &t.listens[i]
		plain, tls := false, false
		for _, s := range t.servers {
			for _, b := range s.binds {
				if !s.off && b.port == l.port && (b.addr == "" || l.addr == "" || b.addr == l.addr) {
					plain, tls = plain || !b.tls, tls || b.tls
				}
			}
		}
		if plain && tls {
			t.leave(position{t.files[0].Name, 1}, "at port %d some servers speak TLS and others do not: it is taken as TLS.", l.port)
		}
		l.tls = l.tls || tls
		covered := slices.ContainsFunc(t.servers, func(s *server) bool {
			return !s.off && slices.ContainsFunc(s.binds, func(b bind) bool { return b.port == l.port && (b.addr == "" || b.addr == l.addr) })
		})
		if !covered {
			root := location{action: "files"}
			if t.root != "" {
				root.action += " " + estate.Quote(t.root)
			}
			t.servers = append(t.servers, &server{binds: []bind{*l}, names: []string{"*"}, locations: []location{root}})
		}
	}
	t.binds = t.listens
	t.firsts()
}
