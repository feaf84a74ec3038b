package webserver

import (
	"cmp"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
)

// readBraces reads a configuration in braces: main file, included ones, and what lies there without being in force.
func (c *config) readBraces() {
	var top []statement
	if main, ok := c.main("nginx.conf"); ok {
		c.root = path.Dir(path.Clean(main.Name))
		top = c.include(position{main.Name, 1}, main, c.inBraces)
	} else {
		for _, f := range c.files {
			if dir := path.Base(path.Dir(path.Clean(f.Name))); !strings.HasSuffix(dir, "-available") {
				top = append(top, c.include(position{f.Name, 1}, f, c.inBraces)...)
			}
		}
	}
	c.web(top, false)
	for _, f := range c.available() {
		c.web(c.include(position{f.Name, 1}, f, c.inBraces), true)
	}
	c.servers = append(c.servers, c.wide...)
	c.firsts()
}

// web reads what stands at the top, or in http or stream.
func (c *config) web(list []statement, off bool) {
	upstreams := map[string]bool{}
	collectUpstreams(list, upstreams)
	for i := range list {
		s := &list[i]
		switch s.name() {
		case "http", "stream":
			c.context(s.block, s.name() == "stream", off, upstreams)
		case "server", "upstream":
			c.context(list[i:i+1], false, off, upstreams)
		}
	}
}

func collectUpstreams(list []statement, into map[string]bool) {
	for _, s := range list {
		switch s.name() {
		case "http", "stream":
			collectUpstreams(s.block, into)
		case "upstream":
			into[strings.ToLower(s.arg(0))] = true
		}
	}
}

func (c *config) context(list []statement, stream, off bool, upstreams map[string]bool) {
	inherited := handing{upstreams: upstreams}
	for _, s := range list {
		inherited.set(&s)
	}
	for _, s := range list {
		switch {
		case s.name() == "upstream" && !off:
			c.upstream(&s)
		case s.name() == "server" && s.has:
			c.server(&s, stream, off, inherited)
		}
	}
}

// upstream reads servers that requests are spread over.
func (c *config) upstream(s *statement) {
	name := estate.CleanName(strings.ToLower(s.arg(0)))
	if name == "" {
		c.leave(s.position, "the upstream %q is left out: expected a name of letters, digits and dashes.", s.arg(0))
		return
	}
	p := pool{position: s.position, name: name}
	for _, d := range s.block {
		switch d.name() {
		case "least_conn", "least_time":
			p.options += " least-busy"
		case "random":
			p.options += " random"
		case "ip_hash", "hash", "sticky":
			p.options += " sticky"
		case "keepalive", "keepalive_timeout", "keepalive_requests", "keepalive_time", "zone", "resolver":
		case "server":
			if m, ok := c.upstreamMember(&d); ok {
				p.members = append(p.members, m)
			}
		default:
			c.leave(d.position, "%s is not understood in an upstream.", d.name())
		}
	}
	c.pools = append(c.pools, p)
}

func (c *config) upstreamMember(d *statement) (string, bool) {
	address := d.arg(0)
	if strings.HasPrefix(address, "unix:") || address == "" {
		c.leave(d.position, "%s is a socket in the machine's files, and left out.", address)
		return "", false
	}
	out := strings.ToLower(address)
	if _, _, ok := hostAndPort(out); !ok {
		out += ":80"
	}
	for _, option := range d.words[2:] {
		key, value, _ := strings.Cut(option, "=")
		switch key {
		case "weight":
			out += " share " + value
		case "backup":
			out += " spare"
		case "down":
			out += " out"
		case "max_fails", "fail_timeout", "max_conns", "slow_start", "resolve":
		default:
			c.leave(d.position, "%s of an upstream's server is not understood.", option)
		}
	}
	return out, true
}

// hostAndPort parts a host from the port behind it; false where there is none.
func hostAndPort(text string) (host string, port int, ok bool) {
	i := strings.LastIndexByte(text, ':')
	if i < 0 || strings.HasSuffix(text, "]") {
		return text, 0, false
	}
	n, err := strconv.Atoi(text[i+1:])
	return text[:i], n, err == nil && n > 0 && n < 65536
}

// handing is what requests are handed on with, as it is inherited inwards.
type handing struct {
	upstreams map[string]bool
	asking    string // what the Host field is set to; "": the upstream's own name
	serverTLS bool   // the name is sent in the handshake
	verified  bool
	files     string
	sources   []access
	guard     string
	own       bool // the list of sources is of this level
	fields    bool // the fields that are set are of this level
}

// access is who may and who may not, in order.
type access struct {
	allow bool
	who   string
}

// set takes in a statement that what stands below it inherits.
func (h *handing) set(s *statement) {
	switch s.name() {
	case "proxy_set_header":
		if !h.fields { // setting one takes all of the level above away
			h.asking, h.fields = "", true
		}
		if strings.EqualFold(s.arg(0), "host") {
			h.asking = s.arg(1)
		}
	case "proxy_ssl_server_name":
		h.serverTLS = s.arg(0) == "on"
	case "proxy_ssl_verify":
		h.verified = s.arg(0) == "on"
	case "root", "alias":
		h.files = s.arg(0)
	case "allow", "deny":
		if !h.own {
			h.sources, h.own = nil, true
		}
		h.sources = append(slices.Clip(h.sources), access{s.name() == "allow", s.arg(0)})
	case "auth_basic":
		h.guard = s.arg(0)
		if h.guard == "off" {
			h.guard = ""
		}
	case "auth_request":
		h.guard = "asks " + s.arg(0)
		if s.arg(0) == "off" {
			h.guard = ""
		}
	}
}

func (h handing) below() handing {
	h.own, h.fields = false, false
	return h
}

// listIn gives the sources that a list lets in: those allowed ahead of a `deny all`. What a list of sources cannot say is said.
func (c *config) listIn(h *handing, at position) []string {
	var out []string
	for i, a := range h.sources {
		switch {
		case a.allow && a.who == "all":
			if i > 0 && len(out) == 0 {
				c.leave(at, "only some are denied, which a list of sources cannot say.")
			}
			return nil
		case a.allow:
			out = append(out, a.who)
		case a.who == "all":
			if len(out) == 0 {
				c.leave(at, "everybody is denied, which a list of sources cannot say.")
			}
			return out
		default:
			c.leave(at, "only some are denied, which a list of sources cannot say: %s.", a.who)
			return nil
		}
	}
	return nil // who is not denied, is let in
}

// server reads one of those that are told apart by name.
func (c *config) server(s *statement, stream, off bool, above handing) {
	v := &server{position: s.position, off: off, stream: stream}
	h := above.below()
	for i := range s.block {
		h.set(&s.block[i])
	}
	tls := false
	var rest []*statement
	for i := range s.block {
		d := &s.block[i]
		switch d.name() {
		case "listen":
			if b, ok := c.listen(d, stream); ok {
				v.binds = append(v.binds, b)
			}
		case "server_name":
			for _, name := range d.words[1:] {
				v.names = append(v.names, c.serverName(v, d, name)...)
			}
		case "ssl":
			tls = d.arg(0) == "on"
		case "ssl_certificate":
			v.certs = append(v.certs, d.arg(0))
		default:
			rest = append(rest, d)
		}
	}
	if len(v.binds) == 0 {
		v.binds = []bind{{addr: "0.0.0.0", port: 80}}
	}
	for i := range v.binds {
		v.binds[i].tls = v.binds[i].tls || tls
	}
	slices.Sort(v.names)
	v.names = slices.Compact(v.names)
	c.locations(v, rest, h)
	if len(v.patterns) > 0 {
		other := *v
		other.names, other.binds, other.locations = v.patterns, slices.Clone(v.binds), []location{{position: v.position, action: unknown}}
		c.wide = append(c.wide, &other)
	}
	if v.plain != nil {
		v = c.parted(v)
	}
	c.servers = append(c.servers, v)
}

// listen reads an address and port. Without an address it is every IPv4 one; [::] is IPv6 alone unless it says otherwise.
func (c *config) listen(d *statement, stream bool) (bind, bool) {
	word := d.arg(0)
	b := bind{addr: "0.0.0.0", port: 80, tls: slices.Contains(d.words, "ssl"), udp: stream && slices.Contains(d.words, "udp")}
	if strings.HasPrefix(word, "unix:") {
		c.leave(d.position, "%s is a socket in the machine's files, and left out.", word)
		return b, false
	}
	for _, option := range d.words[1:] {
		switch option {
		case "default_server", "default":
			b.first = true
		case "quic":
			b.udp, b.tls = true, true
		}
	}
	host, port, ok := hostAndPort(word)
	if n, err := strconv.Atoi(word); err == nil {
		host, port, ok = "", n, true
	}
	if ok {
		b.port = port
	}
	switch host {
	case "", "*", "0.0.0.0":
	case "[::]":
		b.addr = "[::]"
		if slices.Contains(d.words, "ipv6only=off") {
			b.addr = ""
		}
	case "localhost":
		b.addr = "127.0.0.1"
	default:
		b.addr, ok = c.addressOf(d.position, host)
		return b, ok
	}
	return b, true
}

// serverName is a name as notation has it, or several; what it cannot say is said.
func (c *config) serverName(v *server, d *statement, name string) []string {
	name = strings.ToLower(name)
	switch {
	case name == "" || name == "_":
		return nil
	case strings.HasPrefix(name, "~"):
		c.leave(d.position, "the name %s is a pattern: which requests it takes is undecided.", name)
		if domain, ok := ending(name[1:]); ok {
			v.patterns = append(v.patterns, "*."+domain)
		}
		return nil
	case strings.HasSuffix(name, ".*") || strings.HasPrefix(name, "$"):
		c.leave(d.position, "the name %s is a pattern: which requests it takes is undecided.", name)
		return nil
	case strings.HasPrefix(name, "."):
		base, ok := estate.CleanHostname(name[1:])
		if !ok {
			break
		}
		return []string{base, "*." + base}
	}
	base, wild := strings.CutPrefix(name, "*.")
	if a, err := netip.ParseAddr(strings.Trim(name, "[]")); err == nil {
		return []string{a.String()}
	}
	clean, ok := estate.CleanHostname(base)
	if !ok {
		c.leave(d.position, "%q is no host name, and takes no request; left out.", name)
		return nil
	}
	if wild {
		clean = "*." + clean
	}
	return []string{clean}
}

// parted takes from a server what comes in the clear, which is answered in one way, and gives the rest.
func (c *config) parted(v *server) *server {
	clear, rest := *v, *v
	clear.binds, rest.binds, clear.locations = nil, nil, []location{*v.plain}
	for _, b := range v.binds {
		if b.tls {
			rest.binds = append(rest.binds, b)
		} else {
			clear.binds = append(clear.binds, b)
		}
	}
	if len(clear.binds) == 0 || len(rest.binds) == 0 {
		if len(rest.binds) == 0 {
			return &clear
		}
		return &rest
	}
	c.servers = append(c.servers, &clear)
	return &rest
}

// locations reads what becomes of the requests for each path.
func (c *config) locations(v *server, list []*statement, h handing) {
	whole := location{position: v.position}
	var inner []location
	for _, d := range list {
		switch d.name() {
		case "location":
			inner = append(inner, c.location(v, d, h)...)
		case "if":
			if l, ok := c.condition(v, d); ok && l.path == "" && len(l.only) == 0 {
				whole.action, whole.answers = l.action, l.answers
			} else if ok {
				inner = append(inner, l)
			}
		default:
			c.action(&whole, d, &h)
		}
	}
	inner = c.byPatterns(inner)
	named := func(l location) bool { return l.path == "" && len(l.only) == 0 }
	if whole.answers { // ahead of every location
		inner = slices.DeleteFunc(inner, func(l location) bool { return len(l.only) == 0 })
	}
	if !slices.ContainsFunc(inner, named) {
		c.finish(&whole, &h)
		inner = append(inner, whole)
	}
	v.locations = inner
}

// byPatterns brings paths that are patterns among the others, so that the longest takes a request as it does of those that are none: what
// begins as a pattern says is the pattern's, whatever longer path is written for it, but where one is ahead of all.
func (c *config) byPatterns(all []location) []location {
	var out []location
	var patterns []location
	takes := func(p, l location) bool { // as far as the front page of the other goes
		if p.how == byUnknown {
			return mayFit(p.pattern, strings.TrimPrefix(baseOf(l), "="))
		}
		return strings.HasPrefix(baseOf(l), baseOf(p))
	}
	for _, l := range all {
		if !l.how.pattern() {
			continue
		}
		before := slices.IndexFunc(patterns, func(p location) bool { return takes(p, l) })
		if before >= 0 && patterns[before].how == byPattern {
			c.leave(l.position, "%s gets nothing: the pattern before it takes all of it.", orAll(baseOf(l)))
			continue
		}
		if before >= 0 && l.how == byPattern {
			l.action, l.how = unknown, byPartOf
		}
		patterns = append(patterns, l)
	}
	for _, l := range all {
		if l.how.pattern() || l.how == byCondition || len(l.only) > 0 {
			continue
		}
		first := slices.IndexFunc(patterns, func(p location) bool { return takes(p, l) })
		if l.how == byBeginning && !strings.HasPrefix(l.path, "=") && first >= 0 {
			path := l.path
			l = patterns[first]
			l.path = path
		}
		out = append(out, l)
	}
	for _, p := range patterns {
		if p.how == byUnknown && !mayFit(p.pattern, "/") {
			continue
		}
		longest := location{how: byBeginning}
		for _, l := range all {
			if !l.how.pattern() && l.how != byCondition && len(l.only) == 0 && !strings.HasPrefix(l.path, "=") && strings.HasPrefix(baseOf(p), baseOf(l)) && len(l.path) >= len(longest.path) {
				longest = l
			}
		}
		if longest.how != aheadOfAll && !slices.ContainsFunc(out, func(l location) bool { return l.path == p.path && len(l.only) == 0 }) {
			out = append(out, p)
		}
	}
	for _, c := range all {
		switch {
		case len(c.only) > 0:
			out = append(out, c)
		case c.how == byCondition:
			for i := range out {
				if l := &out[i]; len(l.only) == 0 && strings.HasPrefix(strings.TrimPrefix(baseOf(*l), "="), baseOf(c)) {
					l.action = unknown
				}
			}
			if !slices.ContainsFunc(out, func(l location) bool { return l.path == c.path && len(l.only) == 0 }) {
				out = append(out, c)
			}
		}
	}
	return out
}

// baseOf is what every path begins with that a location takes.
func baseOf(l location) string { return cmp.Or(strings.TrimSuffix(l.path, "*"), "/") }

// finish gives what hands nothing on its files, and who may ask.
func (c *config) finish(l *location, h *handing) {
	if l.action == "" {
		l.action = "files"
		if h.files != "" {
			l.action += " " + estate.Quote(h.files)
		}
	}
	l.guard = h.guard
	l.sources = c.listIn(h, l.position)
}

// location reads one path.
func (c *config) location(v *server, d *statement, above handing) []location {
	l := location{position: d.position}
	first, second := d.arg(0), d.arg(1)
	switch {
	case first == "=":
		l.path = "=" + second
	case first == "~" || first == "~*":
		return c.patterned(v, d, second, above)
	case first == "^~":
		l.path, l.how = second+"*", aheadOfAll
	case strings.HasPrefix(first, "@"):
		return nil // only asked from within
	default:
		l.path = first + "*"
	}
	if l.path == "/*" {
		l.path = ""
	}
	return c.inLocation(v, d, l, above)
}

// inLocation reads what stands in the block of a path.
func (c *config) inLocation(v *server, d *statement, l location, above handing) []location {
	h := above.below()
	for i := range d.block {
		h.set(&d.block[i])
	}
	var inner []location
	for i := range d.block {
		switch s := &d.block[i]; s.name() {
		case "location":
			inner = append(inner, c.location(v, s, h)...)
		case "if":
			if o, ok := c.condition(v, s); ok {
				l.action, l.answers = o.action, o.answers
				if len(o.only) > 0 || o.path != "" {
					l.action = unknown
				}
			}
		case "limit_except":
			c.leave(s.position, "%s in a path is not followed: what is asked in another way than by a plain GET may end elsewhere.", s.name())
		default:
			c.action(&l, s, &h)
		}
	}
	c.finish(&l, &h)
	return append(inner, l)
}

// patterned reads a path that is a pattern: as the ways in which what it fits begins. Where it fits only some of what begins so, what becomes
// of that is not known.
func (c *config) patterned(v *server, d *statement, pattern string, above handing) []location {
	begins := beginnings(pattern)
	var out []location
	partly := len(begins) == 0
	for _, b := range begins {
		l := location{position: d.position, path: b.text + "*", how: byPattern, pattern: pattern}
		if l.path == "/*" {
			l.path = ""
		}
		if b.whole {
			out = append(out, c.inLocation(v, d, l, above)...)
			continue
		}
		l.how, l.action, partly = byPartOf, unknown, true
		out = append(out, l)
	}
	if partly {
		c.leave(d.position, "the path %s is a pattern: which requests it takes is undecided.", pattern)
	}
	if len(begins) == 0 {
		l := location{position: d.position, how: byUnknown, pattern: pattern, action: unknown}
		if !changes(d.block) && len(v.names) > 0 && !mayFit(pattern, "/") {
			return nil
		}
		return []location{l}
	}
	return out
}

// condition reads what becomes of the requests that a condition holds of, as far as it may hold of a plain one: a GET of a path. Which it
// holds of is told by the name asked or by the beginning of the path; where neither tells, it may be any.
func (c *config) condition(v *server, d *statement) (l location, ok bool) {
	l = location{position: d.position, action: unknown, answers: true}
	left, how, right := conditionOf(d)
	switch {
	case !changes(d.block):
		return l, false
	case left == "$host" || left == "$http_host" || left == "$server_name" && len(v.names) == 1:
		l.only = named(v, how, right)
		v.others = v.others || how != "=" || len(l.only) == 0
	case left == "$scheme" || left == "$https" || left == "$server_port":
		if inClear(left, how, right) && c.answered(&l, d.block) {
			v.plain = &l
			return l, false
		}
	case how == "~" && (left == "$uri" || left == "$request_uri" || left == "$document_uri"):
		if begins := beginnings(right); len(begins) == 1 {
			l.path, l.how = begins[0].text+"*", byCondition
		} else if !mayFit(right, "/") {
			c.leave(d.position, "the condition (%s) is a pattern: which requests it holds of is undecided.", strings.Join(d.words[1:], " "))
			return l, false
		}
	case !ofPlain(left):
		c.leave(d.position, "the condition (%s) is not followed: what is asked in another way than by a plain GET may end elsewhere.", strings.Trim(strings.Join(d.words[1:], " "), "()"))
		return l, false
	}
	if len(l.only) > 0 && c.answered(&l, d.block) {
		return l, true
	}
	l.action, l.answers = unknown, true
	c.leave(d.position, "the condition (%s) is not understood: what it changes is undecided.", strings.Trim(strings.Join(d.words[1:], " "), "()"))
	return l, true
}

// answered says whether a block is one answer that the server gives, or a redirect, and notes it.
func (c *config) answered(l *location, block []statement) bool {
	if len(block) != 1 {
		return false
	}
	one := location{position: l.position, path: l.path, only: l.only}
	c.action(&one, &block[0], &handing{})
	if one.action == "" || one.action == unknown || !one.answers {
		return false
	}
	*l = one
	return true
}

// conditionOf parts a condition into what is looked at, how, and for what; how is "" where it is one variable, or a test of files.
func conditionOf(d *statement) (left, how, right string) {
	words := strings.Fields(strings.TrimSuffix(strings.TrimPrefix(strings.Join(d.words[1:], " "), "("), ")"))
	if len(words) > 0 {
		left = words[0]
	}
	if len(words) > 2 {
		how, right = words[1], strings.Trim(strings.Join(words[2:], " "), `"'`)
	}
	return left, how, right
}

// changes says whether a block does something with where a request goes.
func changes(block []statement) bool {
	return slices.ContainsFunc(block, func(s statement) bool { return s.name() != "set" && !slices.Contains(known, s.name()) })
}

// named are the names of a server, all of them written out, that a condition on the name asked holds of.
func named(v *server, how, right string) []string {
	if len(v.patterns) > 0 || slices.ContainsFunc(v.names, func(n string) bool { return strings.HasPrefix(n, "*") }) {
		return nil
	}
	right = strings.ToLower(right)
	var out []string
	for _, name := range v.names {
		switch how {
		case "=":
			if name == right {
				out = append(out, name)
			}
		case "!=":
			if name != right {
				out = append(out, name)
			}
		case "~", "~*":
			if mayFit(right, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// inClear says whether a condition holds of what comes in the clear and of nothing else.
func inClear(left, how, right string) bool {
	switch left {
	case "$scheme":
		return how == "=" && right == "http" || how == "!=" && right == "https"
	case "$https":
		return how == "=" && right == "" || how == "!=" && right == "on"
	}
	return how == "=" && right == "80" || how == "!=" && right == "443"
}

// ofPlain says whether what is looked at is there in a plain GET: not its method, its fields, its query or a file.
func ofPlain(left string) bool {
	for _, other := range []string{"$request_method", "$http_", "$cookie_", "$arg_", "$args", "$is_args", "$query_string", "$content_", "$request_body", "$sent_http_", "-", "!-"} {
		if strings.HasPrefix(left, other) {
			return false
		}
	}
	return true
}

// known are the statements that change nothing of where a request goes.
var known = strings.Fields(`access_log error_log log_not_found log_subrequest index autoindex charset types default_type etag expires add_header add_trailer
	gzip gzip_types gzip_vary gzip_proxied gzip_comp_level gzip_min_length gzip_static gzip_disable gzip_buffers gzip_http_version brotli sendfile
	tcp_nopush tcp_nodelay keepalive_timeout keepalive_requests client_max_body_size client_body_timeout client_header_timeout client_body_buffer_size
	large_client_header_buffers server_tokens http2 http3 ssl_certificate_key ssl_protocols ssl_ciphers ssl_prefer_server_ciphers ssl_session_cache
	ssl_session_timeout ssl_session_tickets ssl_dhparam ssl_ecdh_curve ssl_stapling ssl_stapling_verify ssl_trusted_certificate ssl_early_data
	ssl_buffer_size ssl_conf_command resolver resolver_timeout proxy_set_header proxy_http_version proxy_buffering proxy_buffers proxy_buffer_size
	proxy_busy_buffers_size proxy_connect_timeout proxy_read_timeout proxy_send_timeout proxy_redirect proxy_cookie_path proxy_cookie_domain
	proxy_cookie_flags proxy_hide_header proxy_pass_header proxy_pass_request_headers proxy_pass_request_body proxy_request_buffering
	proxy_max_temp_file_size proxy_temp_file_write_size proxy_cache proxy_cache_path proxy_cache_valid proxy_cache_bypass proxy_no_cache
	proxy_cache_key proxy_cache_use_stale proxy_ssl_server_name proxy_ssl_verify proxy_ssl_trusted_certificate proxy_ssl_verify_depth proxy_ssl_protocols
	proxy_timeout proxy_protocol_timeout proxy_next_upstream proxy_intercept_errors root alias allow deny auth_basic auth_basic_user_file auth_request
	auth_request_set satisfy limit_req limit_conn limit_rate open_file_cache real_ip_header set_real_ip_from real_ip_recursive internal mirror
	port_in_redirect server_name_in_redirect absolute_redirect merge_slashes underscores_in_headers reset_timedout_connection send_timeout
	fastcgi_param fastcgi_index fastcgi_split_path_info fastcgi_buffers fastcgi_buffer_size fastcgi_read_timeout uwsgi_param error_page stub_status
	disable_symlinks output_buffers aio directio postpone_output chunked_transfer_encoding variables_hash_max_size preread_timeout ssl_preread`)

// action takes in a statement that says what becomes of a request.
func (c *config) action(l *location, d *statement, h *handing) {
	switch d.name() {
	case "return":
		c.returned(l, d)
	case "proxy_pass":
		c.proxied(l, d, h)
	case "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass":
		c.leave(d.position, "%s %s is no hand-on that is understood: taken as served here.", d.name(), d.arg(0))
	case "rewrite":
		fits := mayFit(d.arg(0), cmp.Or(strings.Trim(l.path, "=*"), "/"))
		if fits && (d.arg(2) == "permanent" || d.arg(2) == "redirect") {
			c.redirected(l, d, d.arg(1), strings.Contains(d.arg(1), "$request_uri") || strings.Contains(d.arg(1), "$1"))
			return
		}
		c.leave(d.position, "rewrite %s is not understood: what it changes is undecided.", d.arg(0))
		if fits && d.arg(2) != "break" {
			l.undecided()
		}
	case "try_files":
		if last := d.words[len(d.words)-1]; strings.HasPrefix(last, "@") {
			c.leave(d.position, "what is no file goes to %s, which is not understood.", last)
		}
	default:
		if !slices.Contains(known, d.name()) {
			c.leave(d.position, "%s is not understood.", d.name())
		}
	}
}

// returned reads an answer that the server gives by itself.
func (c *config) returned(l *location, d *statement) {
	if l.action != "" || l.note != "" { // the first decides
		return
	}
	code, text := d.arg(0), d.arg(1)
	if strings.HasPrefix(code, "http") { // a URL alone is sent with 302
		code, text = "302", code
	}
	switch code {
	case "301", "302", "303", "307", "308":
		c.redirected(l, d, text, strings.Contains(text, "$request_uri"))
	default:
		l.note, l.answers = "answers "+code, true
	}
}

// redirected reads where a request is sent; keeping, that the path asked goes along.
func (c *config) redirected(l *location, d *statement, to string, keeping bool) {
	scheme, rest, ok := strings.Cut(to, "://")
	host, tail, _ := strings.Cut(rest, "/")
	host = strings.ToLower(host)
	switch {
	case !ok || scheme != "http" && scheme != "https" && scheme != "$scheme":
		l.undecided()
		c.leave(d.position, "sent to %s, which is not understood: where that leads is undecided.", to)
	case scheme == "https" && keeping && (host == "$host" || host == "$server_name" || host == "$http_host" || strings.HasPrefix(host, "$host$request_uri") || host == "$server_name$request_uri" || host == "$http_host$request_uri"):
		l.action, l.answers = "redirect https", true
	default:
		host = strings.TrimSuffix(strings.TrimSuffix(host, "$request_uri"), "$uri")
		if strings.Contains(host, "$") || scheme == "$scheme" {
			if scheme == "$scheme" && !strings.Contains(host, "$") {
				c.leave(d.position, "sent to %s by the scheme that was asked, which is read as https.", host)
				scheme = "https"
			} else {
				l.undecided()
				c.leave(d.position, "sent to %s, which is not understood: where that leads is undecided.", to)
				return
			}
		}
		tail, _, _ = strings.Cut(tail, "$")
		l.action, l.answers = "redirect "+scheme+"://"+host+"/"+tail, true
	}
}

// proxied reads a hand-on.
func (c *config) proxied(l *location, d *statement, h *handing) {
	if l.action != "" || l.note != "" {
		return
	}
	to := d.arg(0)
	scheme, rest, ok := strings.Cut(to, "://")
	if !ok { // a stream
		scheme, rest = "tcp", to
	}
	host, tail, hasPath := strings.Cut(rest, "/")
	host = strings.ToLower(host)
	switch {
	case strings.HasPrefix(rest, "unix:"):
		c.leave(d.position, "%s is a socket in the machine's files: taken as served here.", to)
		return
	case strings.Contains(host, "$"):
		l.undecided()
		c.leave(d.position, "handed on to %s, which is not known before it is asked: undecided.", to)
		return
	case h.upstreams[host]:
		l.action = "to pool " + estate.CleanName(host)
		if scheme != "http" {
			l.action += " speaking " + scheme
		}
		if hasPath && tail != "" {
			c.leave(d.position, "the path /%s that it is handed on with is left out: a pool has none.", tail)
		}
	default:
		l.action = "to " + scheme + "://" + host
		if _, _, ok := hostAndPort(host); !ok && scheme == "tcp" {
			c.leave(d.position, "%s has no port.", to)
			l.action = ""
			return
		}
		if hasPath {
			tail, _, _ = strings.Cut(tail, "$")
			l.action += "/" + tail
		}
	}
	if scheme == "tcp" {
		return
	}
	switch asking := strings.ToLower(h.asking); {
	case asking == "" || asking == "$proxy_host":
		l.action += " asking upstream"
	case asking == "$host" || asking == "$http_host" || asking == "$server_name" || asking == "$host:$server_port":
	default:
		if clean, ok := estate.CleanHostname(asking); ok {
			l.action += " asking " + clean
		} else {
			c.leave(d.position, "the name asked is %s, which is not understood: taken as the one that was asked.", h.asking)
		}
	}
	if scheme == "https" {
		if h.verified {
			l.action += " verified"
		}
		if !h.serverTLS {
			c.leave(d.position, "no name is sent in the handshake with %s: which certificate and site it picks there is undecided.", fmt.Sprintf("%s://%s", scheme, host))
			if h.verified {
				l.undecided()
			}
		}
	}
}

// firsts finds at each address and port the server that answers where no name fits: the one that says so, else the first.
func (c *config) firsts() {
	first := map[string]*bind{}
	said := map[string]bool{}
	for _, s := range c.servers {
		if s.off {
			continue
		}
		for i := range s.binds {
			b := &s.binds[i]
			if key := fmt.Sprintf("%s/%v", b.at(), b.udp); b.first {
				said[key] = true
			} else if first[key] == nil {
				first[key] = b
			}
		}
	}
	for key, b := range first {
		if !said[key] {
			b.first = true
		}
	}
}
