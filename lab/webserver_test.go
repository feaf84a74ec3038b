package lab

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	crand "crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"flag"
	"fmt"
	"math/big"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/intake"
	"steady-compass/intake/webserver"
)

var (
	judgedConfigs = flag.Int("judge.configurations", 60, "how many random configurations of each web server are held against it")
	configsFrom   = flag.Uint64("judge.configurations.from", 1, "the first of their seeds")
)

// perServer is how many configurations one run of a server serves, each at ports of its own.
const perServer = 40

// vocabulary are the names that sites have and are asked by: near one another, so that exact names, wildcards and defaults meet.
var (
	siteNames  = []string{"a.example", "b.example", "www.a.example", "x.a.example", "y.x.a.example", "*.a.example", "*.x.a.example", "*.example", "c.test"}
	askedNames = []string{"a.example", "b.example", "www.a.example", "x.a.example", "y.x.a.example", "z.y.x.a.example", "q.a.example", "q.example", "c.test", "nobody.test"}
	sitePaths  = []string{"/api", "/api/", "/api/v1", "/apiary", "/static/"}
	askedPaths = []string{"/", "/api", "/api/", "/api/v1", "/api/v1/x", "/apiary", "/apix", "/static", "/static/a.txt", "/other"}
)

// What the reader follows in part: it says of a request what the server does, or that it is not known.
var (
	pathPatterns = []string{"^/api", "^/api/v", "^/api/v1/.*$", "^/(api|other)", "^/static/[a-z]", "^/"}
	sectionTests = []string{"{ src 127.0.0.9 }", "!{ path_beg /api }", "{ method POST }", "{ path_reg ^/api/ }", "{ path_reg ^/(api|other) }", "{ hdr(user-agent) -m sub bot }", "{ hdr(host) -m found }"}
	rewritings   = []string{
		"RewriteCond %%{REMOTE_ADDR} ^10\\.\n  RewriteRule ^ http://s%dr.test/ [R,L]", "RewriteRule ^/api/ http://s%dr.test/ [R,L]", "RewriteRule ^/(api|other)$ http://s%dr.test/ [R=302,L]",
		"RewriteCond %%{HTTP_HOST} ^a\n  RewriteRule ^/ http://s%dr.test/ [R,L]", "RewriteCond %%{HTTP_USER_AGENT} bot\n  RewriteRule ^ http://s%dr.test/ [R,L]", "RedirectMatch ^/api/v1 http://s%dr.test/", "RedirectMatch 302 ^/(api|static)/ http://s%dr.test/",
	}
	conditions = []string{"$host = a.example", "$host ~ ^x", "$host != c.test", "$scheme = http", "$https = on", "$request_method = POST", "$remote_addr = 127.0.0.9", "$uri ~ ^/api/", "$http_user_agent ~ bot"}
)

// webServer is a real one: how a random configuration is written for it, and how it is run.
type webServer struct {
	name   string
	syntax webserver.Syntax
	write  func(r *rand.Rand, c *siting)
	run    func(t *testing.T, dir string, all []*siting) (stop func())
}

var webServers = []webServer{
	{"nginx", webserver.Braces, writeBraces, runBraces},
	{"apache2", webserver.Tags, writeTags, runTags},
	{"haproxy", webserver.Sections, writeSections, runSections},
}

// siting is one configuration under judgement.
type siting struct {
	ports    [2]int // in the clear and with TLS
	text     string
	requests []siteRequest
	notKnown int // of these, how many nobody can tell from what was read
}

// siteRequest is what is asked, and the site that answered: the word that its root has in its name.
type siteRequest struct {
	addr       string
	port       int
	name, path string
	tls        bool
	site       string
}

func (q siteRequest) String() string {
	scheme := "http"
	if q.tls {
		scheme = "https"
	}
	return fmt.Sprintf("%s://%s:%d%s at %s", scheme, q.name, q.port, q.path, q.addr)
}

// siteBindings are the addresses that sites are at, as a configuration writes them; "" is every IPv4 one.
var siteBindings = []string{"", "", "", "127.0.0.2", "127.0.0.3"}

// askedAt are the addresses that are asked.
var askedAt = []string{"127.0.0.1", "127.0.0.2", "127.0.0.3"}

// TestWebServers holds what the reader makes of random configurations against the servers themselves: for each request the site that answers
// is the one that the model says.
func TestWebServers(t *testing.T) {
	for _, s := range webServers {
		t.Run(s.name, func(t *testing.T) {
			if _, err := exec.LookPath(s.name); err != nil {
				t.Skipf("%s is not installed: the reader of its configuration is not held against it", s.name)
			}
			asked, open := 0, 0
			for from := 0; from < *judgedConfigs; from += perServer {
				var all []*siting
				used := map[int]bool{}
				for i := from; i < min(from+perServer, *judgedConfigs); i++ {
					r := rand.New(rand.NewPCG(*configsFrom+uint64(i), 15))
					c := &siting{}
					for n := range c.ports {
						for c.ports[n] == 0 || used[c.ports[n]] { // those of another configuration are free until it is served
							c.ports[n] = freePort(t)
						}
						used[c.ports[n]] = true
					}
					s.write(r, c)
					c.ask(r)
					all = append(all, c)
				}
				judgeSites(t, s, all)
				for _, c := range all {
					asked += len(c.requests)
					open += c.notKnown
				}
				if t.Failed() {
					return
				}
			}
			if open*4 > asked {
				t.Errorf("of %d requests %d are not known", asked, open)
			}
			t.Logf("%d configurations, %d requests, of which %d are not known", *judgedConfigs, asked, open)
		})
	}
}

// ask draws the requests for a configuration.
func (c *siting) ask(r *rand.Rand) {
	for range 12 {
		q := siteRequest{addr: askedAt[r.IntN(len(askedAt))], name: askedNames[r.IntN(len(askedNames))], path: askedPaths[r.IntN(len(askedPaths))], tls: r.IntN(3) == 0}
		q.port = c.ports[0]
		if q.tls {
			q.port = c.ports[1]
		}
		c.requests = append(c.requests, q)
	}
}

func judgeSites(t *testing.T, s webServer, all []*siting) {
	t.Helper()
	dir := t.TempDir()
	writeCertificate(t, dir, siteNames)
	stop := s.run(t, dir, all)
	for _, c := range all {
		for i := range c.requests {
			c.requests[i].site = answeringSite(t, &c.requests[i])
		}
	}
	stop()
	for _, c := range all {
		c.judge(t, s)
	}
}

// judge holds what the server answered against the model of what was read.
func (c *siting) judge(t *testing.T, s webServer) {
	t.Helper()
	for i, got := range c.modelled(t, s) {
		if q := &c.requests[i]; got == notKnown {
			c.notKnown++
		} else if got != q.site {
			t.Errorf("%v: the server answers with %q, the model says %q\n%s", q, q.site, got, c.text)
		}
	}
}

// modelled is the site that takes each of the requests, by the model of what was read.
func (c *siting) modelled(t *testing.T, s webServer) []string {
	t.Helper()
	const base = "host box\ncert all for a.example,*.a.example,*.x.a.example,*.y.x.a.example,*.example,c.test,nobody.test expires 2040-01-01 on box\n"
	e, faults := notation.Parse(base)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	reading := webserver.Read(s.syntax, []intake.File{{Name: "sites-enabled/judged", Text: c.text}}, "box", e)
	if len(reading.Faults) > 0 {
		t.Fatalf("%v in\n%s", reading.Faults, c.text)
	}
	plan := intake.Compare(e, reading)
	out := make([]string, len(c.requests))
	for _, addr := range askedAt {
		text := base
		for _, name := range askedNames {
			text += fmt.Sprintf("name %s %s on box\n", name, addr)
		}
		e, _ := notation.Parse(text)
		e, err := e.Apply(plan.Edit(false))
		if err != nil {
			t.Fatal(err)
		}
		tr := trace.New(model.Compile(e), "2026-12-01")
		for i, q := range c.requests {
			if q.addr == addr {
				out[i] = modelledSite(t, tr, e, q)
			}
		}
	}
	return out
}

// notKnown is what the model says where a configuration is not followed.
const notKnown = "not known"

// modelledSite is the root of the site that the model says takes a request; "refused" where nothing listens.
func modelledSite(t *testing.T, tr *trace.Tracer, e *estate.Estate, q siteRequest) string {
	t.Helper()
	v, err := tr.VantageNamed("box")
	if err != nil {
		t.Fatal(err)
	}
	scheme := "http"
	if q.tls {
		scheme = "https"
	}
	tg, err := tr.ParseTarget(fmt.Sprintf("%s://%s:%d%s", scheme, q.name, q.port, q.path))
	if err != nil {
		t.Fatal(err)
	}
	r := tr.Trace(tg, v)
	for i := range r.Paths {
		p := &r.Paths[i]
		if a, err := netip.ParseAddr(p.Address); err != nil || a.String() != q.addr {
			continue
		}
		switch site := siteOf(p); {
		case p.Outcome == flow.Undecided:
			return notKnown
		case p.Outcome == flow.Refused || p.Outcome == flow.Mismatched:
			return string(p.Outcome)
		case site != nil && site.Pool != "":
			return site.Pool
		case site != nil && !site.Redirect.IsZero():
			return strings.TrimSuffix(site.Redirect.URL.Host, ".test")
		case site != nil:
			return filepath.Base(site.Files.Root)
		default:
			return string(p.Outcome)
		}
	}
	return fmt.Sprintf("no way to %s: %s", q.addr, r.Verdict)
}

// siteOf is the first site that takes a request; nil where none does.
func siteOf(p *trace.Path) *estate.Site {
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Stage == flow.StageSite && s.Verdict == flow.Pass && len(s.Records) > 0 {
			if r, _, err := notation.ParseLine(s.Records[0]); err == nil {
				if site, ok := r.Record.(*estate.Site); ok {
					return site
				}
			}
		}
	}
	return nil
}

// answeringSite asks the server, and says which site answered; "refused" where nothing listens.
func answeringSite(t *testing.T, q *siteRequest) string {
	t.Helper()
	conn, err := net.DialTimeout("tcp", fmt.Sprintf("%s:%d", q.addr, q.port), time.Minute)
	if err != nil {
		if strings.Contains(err.Error(), "refused") {
			return "refused"
		}
		t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	if q.tls {
		conn = tls.Client(conn, &tls.Config{ServerName: q.name, InsecureSkipVerify: true}) // which site answers is asked, not whether to trust it
	}
	request, err := http.NewRequest("GET", "http://"+fmt.Sprintf("%s:%d", q.name, q.port)+q.path, nil)
	if err != nil {
		t.Fatal(err)
	}
	request.Close, request.Host = true, q.name // as at the ports that browsers leave out
	if err := request.Write(conn); err != nil {
		return "mismatched"
	}
	response, err := http.ReadResponse(bufio.NewReader(conn), request)
	if err != nil {
		return "mismatched"
	}
	_ = response.Body.Close()
	if to, err := response.Location(); err == nil {
		return strings.TrimSuffix(to.Hostname(), ".test")
	}
	return response.Header.Get("X-Site")
}

// draw gives some of a list, each once.
func draw(r *rand.Rand, list []string, most int) []string {
	var out []string
	for _, i := range r.Perm(len(list))[:1+r.IntN(most)] {
		out = append(out, list[i])
	}
	return out
}

// writeBraces writes servers in braces.
func writeBraces(r *rand.Rand, c *siting) {
	var out strings.Builder
	taken := map[string]bool{}
	firsts := map[string]bool{}
	for n := range 1 + r.IntN(6) {
		fmt.Fprintf(&out, "server {\n")
		for _, b := range slices.Compact(draw(r, siteBindings, 2)) {
			for i, port := range c.ports {
				if r.IntN(3) == 0 && i > 0 {
					continue
				}
				at := fmt.Sprint(port)
				if b != "" {
					at = b + ":" + at
				}
				if firsts["listen "+fmt.Sprint(n, at)] {
					continue
				}
				firsts["listen "+fmt.Sprint(n, at)] = true
				fmt.Fprintf(&out, "  listen %s", at)
				if i == 1 {
					out.WriteString(" ssl")
				}
				if r.IntN(5) == 0 && !firsts[at] {
					firsts[at] = true
					out.WriteString(" default_server")
				}
				out.WriteString(";\n")
			}
		}
		var names []string
		for _, name := range draw(r, siteNames, 3) {
			if !taken[name] {
				taken[name] = r.IntN(2) == 0 // a name twice is the first one's
				names = append(names, name)
			}
		}
		if r.IntN(8) == 0 {
			names = append(names, `~^[a-z]+\.x\.a\.example$`)
		}
		switch {
		case len(names) == 0:
			out.WriteString("  server_name _;\n")
		case r.IntN(6) > 0:
			fmt.Fprintf(&out, "  server_name %s;\n", strings.Join(names, " "))
		}
		fmt.Fprintf(&out, "  ssl_certificate cert.pem;\n  ssl_certificate_key key.pem;\n  root /srv/s%d;\n  add_header X-Site s%d always;\n", n, n)
		for i, p := range draw(r, sitePaths, 3) {
			mark := []string{"", "", "= ", "^~ "}[r.IntN(4)]
			fmt.Fprintf(&out, "  location %s%s { root /srv/s%dl%d; add_header X-Site s%dl%d always; }\n", mark, p, n, i, n, i)
		}
		if r.IntN(3) == 0 {
			for i, p := range draw(r, pathPatterns, 2) {
				fmt.Fprintf(&out, "  location ~ %s { root /srv/s%dp%d; add_header X-Site s%dp%d always; }\n", p, n, i, n, i)
			}
		}
		if r.IntN(4) == 0 {
			fmt.Fprintf(&out, "  if (%s) { return 302 http://s%dif.test/; }\n", conditions[r.IntN(len(conditions))], n)
		}
		out.WriteString("}\n")
	}
	c.text = out.String()
}

func runBraces(t *testing.T, dir string, all []*siting) (stop func()) {
	t.Helper()
	var text strings.Builder
	fmt.Fprintf(&text, "daemon off;\npid %s/pid;\nerror_log %s/error.log;\nevents { worker_connections 512; }\nhttp {\n  access_log off;\n", dir, dir)
	for _, kind := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
		fmt.Fprintf(&text, "  %s_temp_path %s/%s;\n", kind, dir, kind)
	}
	for _, c := range all {
		text.WriteString(c.text)
	}
	text.WriteString("}\n")
	file := filepath.Join(dir, "main.conf")
	if err := os.WriteFile(file, []byte(text.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	return started(t, all, filepath.Join(dir, "error.log"), "nginx", "-p", dir, "-c", file)
}

// writeTags writes servers in tags. Those with TLS are at every address, since it is turned on server by server and not by address.
func writeTags(r *rand.Rand, c *siting) {
	var out strings.Builder
	taken := map[string]bool{}
	fmt.Fprintf(&out, "Listen %d\nListen %d\nDocumentRoot main\n", c.ports[0], c.ports[1])
	for n := range 1 + r.IntN(6) {
		tls := r.IntN(3) == 0
		var at []string
		for _, b := range draw(r, siteBindings, 2) {
			if b == "" || tls {
				b = "*"
			}
			if word := fmt.Sprintf("%s:%d", b, c.ports[map[bool]int{true: 1}[tls]]); !slices.Contains(at, word) {
				at = append(at, word)
			}
		}
		fmt.Fprintf(&out, "<VirtualHost %s>\n", strings.Join(at, " "))
		for i, name := range draw(r, siteNames, 3) {
			switch {
			case taken[name]:
			case i == 0 && !strings.HasPrefix(name, "*"):
				fmt.Fprintf(&out, "  ServerName %s\n", name)
			default:
				fmt.Fprintf(&out, "  ServerAlias %s\n", name)
			}
			taken[name] = r.IntN(2) == 0 // a name twice is the first one's
		}
		fmt.Fprintf(&out, "  DocumentRoot s%d\n  Header always set X-Site s%d\n", n, n)
		if tls {
			out.WriteString("  SSLEngine on\n  SSLCertificateFile cert.pem\n  SSLCertificateKeyFile key.pem\n")
		}
		for i, p := range draw(r, sitePaths, 3) {
			fmt.Fprintf(&out, "  Redirect 302 %s http://s%dl%d.test/\n", p, n, i)
		}
		if r.IntN(4) == 0 {
			fmt.Fprintf(&out, "  RewriteEngine on\n  "+rewritings[r.IntN(len(rewritings))]+"\n", n)
		}
		out.WriteString("</VirtualHost>\n")
	}
	c.text = out.String()
}

// tagModules are what the servers in tags need, besides what is built in.
var tagModules = []string{"mpm_event", "authz_core", "alias", "headers", "rewrite", "socache_shmcb", "ssl"}

func runTags(t *testing.T, dir string, all []*siting) (stop func()) {
	t.Helper()
	var text strings.Builder
	for _, m := range tagModules {
		fmt.Fprintf(&text, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	fmt.Fprintf(&text, "ServerRoot %s\nDefaultRuntimeDir %s\nPidFile %s/pid\nMutex file:%s default\nErrorLog %s/error.log\nServerName main.invalid\nUser www-data\nGroup www-data\nHeader always setifempty X-Site main\n", dir, dir, dir, dir, dir)
	for _, c := range all {
		text.WriteString(c.text)
	}
	for _, root := range []string{"main", "s0", "s1", "s2", "s3", "s4", "s5"} {
		if err := os.Mkdir(filepath.Join(dir, root), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "main.conf")
	if err := os.WriteFile(file, []byte(text.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	return started(t, all, filepath.Join(dir, "error.log"), "apache2", "-d", dir, "-f", file, "-DFOREGROUND")
}

// writeSections writes fronts, and the backends that their rules choose among.
func writeSections(r *rand.Rand, c *siting) {
	var out strings.Builder
	n := 0
	backend := func() string { n++; return fmt.Sprintf("p%ds%d", c.ports[0], n) }
	for i, port := range c.ports {
		binds := draw(r, siteBindings, 2)
		if slices.Contains(binds, "") {
			binds = []string{""}
		}
		for k, b := range binds {
			fmt.Fprintf(&out, "frontend f%d_%d\n  bind %s:%d", port, k, b, port)
			if i == 1 {
				out.WriteString(" ssl crt both.pem")
			}
			out.WriteString("\n")
			for x := range 1 + r.IntN(5) {
				var tests []string
				if r.IntN(4) > 0 {
					var exact, ends []string
					for _, name := range draw(r, siteNames, 2) {
						if rest, ok := strings.CutPrefix(name, "*"); ok {
							ends = append(ends, rest)
						} else {
							exact = append(exact, name)
						}
					}
					for _, t := range []string{strings.Join(append([]string{"hdr(host) -i"}, exact...), " "), strings.Join(append([]string{"hdr_end(host) -i"}, ends...), " ")} {
						if !strings.HasSuffix(t, "-i") {
							fmt.Fprintf(&out, "  acl h%d_%d %s\n", k, x, t)
						}
					}
					tests = append(tests, fmt.Sprintf("h%d_%d", k, x))
				}
				if r.IntN(2) == 0 || len(tests) == 0 {
					tests = append(tests, fmt.Sprintf("{ %s %s }", []string{"path_beg", "path"}[r.IntN(2)], sitePaths[r.IntN(len(sitePaths))]))
				}
				if r.IntN(6) == 0 {
					tests = append(tests, sectionTests[r.IntN(len(sectionTests))])
				}
				if r.IntN(12) == 0 {
					fmt.Fprintf(&out, "  http-request deny if %s\n", strings.Join(tests, " "))
				}
				fmt.Fprintf(&out, "  use_backend %s if %s\n", backend(), strings.Join(tests, []string{" ", " ", " or "}[r.IntN(3)]))
			}
			fmt.Fprintf(&out, "  default_backend %s\n", backend())
		}
	}
	for x := range n {
		fmt.Fprintf(&out, "backend p%ds%d\n  http-request return status 200 hdr X-Site p%ds%d\n", c.ports[0], x+1, c.ports[0], x+1)
	}
	c.text = out.String()
}

func runSections(t *testing.T, dir string, all []*siting) (stop func()) {
	t.Helper()
	var both []byte
	for _, file := range []string{"cert.pem", "key.pem"} {
		text, err := os.ReadFile(filepath.Join(dir, file))
		if err != nil {
			t.Fatal(err)
		}
		both = append(both, text...)
	}
	text := "global\n  maxconn 400\ndefaults\n  mode http\n  timeout client 60s\n  timeout server 60s\n  timeout connect 60s\n"
	for _, c := range all {
		text += strings.ReplaceAll(c.text, "both.pem", filepath.Join(dir, "both.pem"))
	}
	file := filepath.Join(dir, "main.cfg")
	for name, content := range map[string][]byte{file: []byte(text), filepath.Join(dir, "both.pem"): both} {
		if err := os.WriteFile(name, content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return started(t, all, file, "haproxy", "-db", "-f", file)
}

// started runs a server until it answers at the first port of each configuration that has anything there.
func started(t *testing.T, all []*siting, log string, command ...string) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	deadline := time.Now().Add(2 * time.Minute)
	last := all[len(all)-1]
	for answered := false; !answered; {
		for _, addr := range askedAt {
			if conn, err := net.Dial("tcp", net.JoinHostPort(addr, fmt.Sprint(last.ports[0]))); err == nil {
				_ = conn.Close()
				answered = true
			}
		}
		select {
		case err := <-ended:
			text, _ := os.ReadFile(log)
			t.Fatalf("it ended: %v\n%s\n%s", err, said.String(), text)
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			t.Fatalf("it never answers\n%s", said.String())
		}
	}
	return func() {
		cancel()
		<-ended
	}
}

// writeCertificate writes a certificate for some names, and its key.
func writeCertificate(t *testing.T, dir string, names []string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), crand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), DNSNames: names}
	der, err := x509.CreateCertificate(crand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: der}, "key.pem": {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}
