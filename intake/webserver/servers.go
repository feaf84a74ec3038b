package webserver

import (
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
				v.names = append(v.names, c.serverName(d, name)...)
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
func (c *config) serverName(d *statement, name string) []string {
	name = strings.ToLower(name)
	switch {
	case name == "" || name == "_":
		return nil
	case strings.HasPrefix(name, "~") || strings.HasSuffix(name, ".*") || strings.HasPrefix(name, "$"):
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

// locations reads what becomes of the requests for each path.
func (c *config) locations(v *server, list []*statement, h handing) {
	whole := location{position: v.position}
	var inner []location
	for _, d := range list {
		switch d.name() {
		case "location":
			inner = append(inner, c.location(v, d, h)...)
		case "if":
			if l, ok := c.certain(v, d); ok {
				inner = append(inner, l)
			}
		default:
			c.action(&whole, d, &h)
		}
	}
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
		c.leave(d.position, "the path %s is a pattern: which requests it takes is undecided.", second)
		return nil
	case first == "^~":
		l.path = second + "*"
	case strings.HasPrefix(first, "@"):
		return nil // only asked from within
	default:
		l.path = first + "*"
	}
	if l.path == "/*" {
		l.path = ""
	}
	h := above.below()
	for i := range d.block {
		h.set(&d.block[i])
	}
	var inner []location
	for i := range d.block {
		switch s := &d.block[i]; s.name() {
		case "location":
			inner = append(inner, c.location(v, s, h)...)
		case "if", "limit_except":
			c.leave(s.position, "%s in a path is not understood: what it changes is undecided.", s.name())
		default:
			c.action(&l, s, &h)
		}
	}
	c.finish(&l, &h)
	return append(inner, l)
}

// certain reads the condition by which names of one server are sent to TLS, as programs that keep certificates write it.
func (c *config) certain(v *server, d *statement) (location, bool) {
	l := location{position: d.position}
	condition := strings.Trim(strings.Join(d.words[1:], " "), "()")
	left, name, ok := strings.Cut(condition, " = ")
	name = strings.ToLower(strings.Trim(strings.TrimSpace(name), `"'`))
	if ok && strings.TrimSpace(left) == "$host" && slices.Contains(v.names, name) && len(d.block) == 1 {
		l.only = []string{name}
		if c.action(&l, &d.block[0], &handing{}); l.answers && l.action != "" {
			return l, true
		}
	}
	c.leave(d.position, "the condition (%s) is not understood: what it changes is undecided.", condition)
	return l, false
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
		if d.arg(2) == "permanent" || d.arg(2) == "redirect" {
			c.redirected(l, d, d.arg(1), strings.Contains(d.arg(1), "$request_uri") || strings.Contains(d.arg(1), "$1"))
			return
		}
		c.leave(d.position, "rewrite %s is not understood: what it changes is undecided.", d.arg(0))
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
