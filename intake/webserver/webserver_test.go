package webserver

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/intake"
)

// files are some files from one text: each begins with a line `== NAME`.
func files(text string) []intake.File {
	var out []intake.File
	for _, part := range strings.Split(text, "== ")[1:] {
		name, rest, _ := strings.Cut(part, "\n")
		out = append(out, intake.File{Name: name, Text: rest})
	}
	return out
}

// said is what a reading would bring, its faults and what it leaves out.
func said(r intake.Reading) (lines, left []string) {
	for _, rec := range r.Records {
		lines = append(lines, estate.Line(rec))
	}
	for _, f := range r.Faults {
		left = append(left, f.String())
	}
	return lines, append(left, r.Left...)
}

func read(t *testing.T, syntax Syntax, text, base string) (lines, left []string) {
	t.Helper()
	return said(Read(syntax, files(text), "box", notationtest.Parse(t, base)))
}

func same(t *testing.T, got []string, want string) {
	t.Helper()
	if text := strings.Join(got, "\n"); text != strings.TrimSpace(want) {
		t.Errorf("got\n%s\nwant\n%s", text, strings.TrimSpace(want))
	}
}

// told says whether each of some words stands in what is left out.
func told(t *testing.T, left []string, words ...string) {
	t.Helper()
	for _, w := range words {
		if !slices.ContainsFunc(left, func(l string) bool { return strings.Contains(l, w) }) {
			t.Errorf("nothing says %q in\n%s", w, strings.Join(left, "\n"))
		}
	}
}

// TestBraces reads a folder as it lies on a machine: a main file, what it includes, and what lies there without being in force.
func TestBraces(t *testing.T) {
	lines, left := read(t, Braces, `== etc/nginx/nginx.conf
user www-data;
include /etc/nginx/modules-enabled/*.conf;
http {
  include /etc/nginx/mime.types;
  upstream App { least_conn; server 10.0.0.5:8000 weight=2; server app.internal backup; server unix:/run/app.sock; }
  log_format odd '$remote_addr; {not a block}';
  include /etc/nginx/sites-enabled/*;
}
stream { server { listen 5432; proxy_pass db.internal:5432; } }
== etc/nginx/sites-enabled/a
server {
    listen 80; listen [::]:80;
    server_name a.example www.a.example;
    if ($host = www.a.example) { return 301 https://$host$request_uri; } # managed
    if ($host = a.example) { return 301 https://$host$request_uri; }
    return 404;
}
server {
    listen 443 ssl http2; listen [::]:443 ssl;
    server_name a.example www.a.example;
    ssl_certificate /etc/letsencrypt/live/a.example/fullchain.pem;
    root "/var/www/a site";
    location /api/ { proxy_pass http://app/; proxy_set_header Host $host; }
    location = /health { return 200 "ok"; }
    location ~ \.php$ { fastcgi_pass unix:/run/php.sock; }
    location /admin { allow 10.0.0.0/8; deny all; auth_basic "staff"; proxy_pass http://127.0.0.1:9000/panel; }
    location /away { return 302 https://b.example/there; }
    frobnicate on;
}
== etc/nginx/sites-available/a
server { listen 99; server_name old.example; }
== etc/nginx/sites-available/spare
server { listen 80; server_name spare.example ~^x; location / { proxy_pass https://spare.internal; } }
`, "host box\ncert a.example for a.example,www.a.example expires 2027-01-01 on box\n")
	same(t, lines, `
listen box 80 as web
listen box 443 as web tls cert a.example
listen box 0.0.0.0:5432 as web
listen box 0.0.0.0:99 as web off
pool app least-busy
member app 10.0.0.5:8000 share 2
member app app.internal:80 spare
site web www.a.example at 80 redirect https
site web a.example at 80 redirect https
site web * at 80 files note "answers 404"
site web a.example,www.a.example at 443 path /api/* to pool app cert a.example
site web a.example,www.a.example at 443 path =/health files "/var/www/a site" cert a.example note "answers 200"
site web a.example,www.a.example at 443 path /admin* to http://127.0.0.1:9000/panel asking upstream guard "staff" sources 10.0.0.0/8 cert a.example
site web a.example,www.a.example at 443 path /away* redirect https://b.example/there cert a.example
site web a.example,www.a.example at 443 files "/var/www/a site" default cert a.example
site web * at 0.0.0.0:5432 to tcp://db.internal:5432
site web old.example at 0.0.0.0:99 files off
site web spare.example at 80 to https://spare.internal asking upstream off
`)
	told(t, left, "sites-enabled/a:15: the path \\.php$ is a pattern", "sites-enabled/a:18: frobnicate is not understood", "unix:/run/app.sock", "spare:1: the name ~^x is a pattern", "no name is sent in the handshake with https://spare.internal")
}

// TestTags reads servers in tags, as they lie on a machine.
func TestTags(t *testing.T) {
	lines, left := read(t, Tags, `== apache2/apache2.conf
ServerName main.invalid
IncludeOptional mods-enabled/*.load
Include ports.conf
IncludeOptional sites-enabled/*.conf
== apache2/ports.conf
Listen 80
<IfModule ssl_module>
	Listen 443
</IfModule>
<IfModule mod_gnutls.c>
	Listen 444
</IfModule>
== apache2/mods-enabled/ssl.load
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
== apache2/sites-enabled/a.conf
<VirtualHost *:80>
  ServerName a.example
  ServerAlias www.a.example *.img.a.example
  RewriteEngine on
  RewriteCond %{HTTPS} off
  RewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI} [END,NE,R=permanent]
</VirtualHost>
<VirtualHost *:443>
  ServerName a.example:443
  DocumentRoot /var/www/a
  SSLEngine on
  SSLCertificateFile \
    /etc/ssl/a.pem
  ProxyPreserveHost On
  ProxyPass /static !
  ProxyPass /api/ http://10.0.0.5:8000/
  ProxyPass /pool balancer://workers/
  ProxyPass /api/v1 http://10.0.0.9/
  Redirect permanent /old https://b.example/new
  <Proxy balancer://workers>
    BalancerMember http://10.0.0.6:8000 loadfactor=3
    BalancerMember http://10.0.0.7 status=+H
  </Proxy>
  RedirectMatch ^/x /y
</VirtualHost>
== apache2/sites-available/b.conf
<VirtualHost 10.0.0.1:80>
  ServerName b.example
</VirtualHost>
`, "host box\ncert a for a.example expires 2027-01-01 on box\nlisten box 80,443 as apache2\n")
	same(t, lines, `
listen box 80 as apache2 first-answers in-order
listen box 443 as apache2 tls cert a first-answers in-order
pool workers
member workers 10.0.0.6:8000 share 3
member workers 10.0.0.7:80 spare
site apache2 a.example,www.a.example,*.img.a.example at 80 redirect https
site apache2 a.example at 443 path /static files cert a
site apache2 a.example at 443 path /api/* to http://10.0.0.5:8000/ cert a
site apache2 a.example at 443 path /pool to pool workers cert a
site apache2 a.example at 443 path /old redirect https://b.example/new cert a
site apache2 a.example at 443 path /x* unknown cert a
site apache2 a.example at 443 files "/var/www/a" cert a
site apache2 b.example at 10.0.0.1:80 files off
`)
	told(t, left, "a.conf:18: /api/v1 gets nothing", "a.conf:24: redirectmatch ^/x is a pattern")
}

// TestSections reads a balancer's fronts and backends: of its rules the first that fits decides, for each name in turn.
func TestSections(t *testing.T) {
	lines, left := read(t, Sections, `== haproxy.cfg
global
  log /dev/log local0
defaults
  mode http
  default-server inter 3s rise 2 fall 4
frontend web
  bind *:80
  bind :443 ssl crt /etc/ssl/a.pem
  http-request redirect scheme https unless { ssl_fc }
  acl is_a hdr(host) -i a.example www.a.example
  acl is_img hdr_end(host) -i .img.example
  acl api path_beg /api
  use_backend api if is_a api
  use_backend static if { path_beg /static/ } or is_img
  use_backend %[req.hdr(host),lower] if { hdr(host) -m found }
  use_backend odd if { src 10.0.0.0/8 }
  default_backend pages
backend api
  balance leastconn
  option httpchk GET /ready
  server one 10.0.0.5:8000 check weight 3
  server two 10.0.0.6:8000 check backup
backend static
  server s 10.0.0.7:80
backend pages
  server p pages.internal:8443 ssl verify required
backend unused
  server u 10.0.0.8:1
listen mail
  mode tcp
  bind 10.0.0.1:25
  server m 10.0.0.9:25
`, "host box\ncert a for a.example,www.a.example expires 2027-01-01 on box\n")
	same(t, lines, `
listen box 0.0.0.0:443 as web tls cert a
listen box 0.0.0.0:80 as web
listen box 10.0.0.1:25 as web
pool api least-busy check 8000 path /ready every 3s up-after 2 down-after 4
member api 10.0.0.5:8000 share 3
member api 10.0.0.6:8000 spare
pool static
member static 10.0.0.7:80
pool pages
member pages pages.internal:8443
pool mail
member mail 10.0.0.9:25
site web a.example at 0.0.0.0:443 path /api* to pool api cert a
site web a.example at 0.0.0.0:443 path /static/* to pool static cert a
site web a.example at 0.0.0.0:443 unknown cert a
site web www.a.example at 0.0.0.0:443 path /api* to pool api cert a
site web www.a.example at 0.0.0.0:443 path /static/* to pool static cert a
site web www.a.example at 0.0.0.0:443 unknown cert a
site web *.img.example at 0.0.0.0:443 path /static/* to pool static cert a
site web *.img.example at 0.0.0.0:443 to pool static cert a
site web * at 0.0.0.0:443 path /static/* to pool static cert a
site web * at 0.0.0.0:443 unknown cert a
site web * at 0.0.0.0:80 redirect https
site web * at 10.0.0.1:25 to pool mail speaking tcp
`)
	told(t, left, "haproxy.cfg:15: the backend is worked out", "haproxy.cfg:16: the condition src")
}

// TestAgain reads the same once more: nothing is to change, and what the configuration has no more would go.
func TestAgain(t *testing.T) {
	const text = "== sites-enabled/x\nserver { listen 80; server_name a.example; root /srv; }\n"
	e := notationtest.Parse(t, "host box\n")
	e, err := e.Apply(intake.Compare(e, Read(Braces, files(text), "box", e)).Edit(true))
	if err != nil {
		t.Fatal(err)
	}
	plan := intake.Compare(e, Read(Braces, files(text), "box", e))
	if len(plan.Add)+len(plan.Change)+len(plan.Gone) > 0 || plan.Leave == 0 {
		t.Errorf("read again: %v", plan.Lines())
	}
	other := strings.ReplaceAll(text, "a.example", "b.example")
	plan = intake.Compare(e, Read(Braces, files(other), "box", e))
	if len(plan.Gone) != 1 || !strings.Contains(estate.Line(plan.Gone[0]), "a.example") {
		t.Errorf("gone: %v", plan.Gone)
	}
}

// TestDamaged says what is wrong and where, and ends, whatever includes what.
func TestDamaged(t *testing.T) {
	for _, c := range []struct {
		syntax Syntax
		text   string
		want   string
	}{
		{Braces, "== nginx.conf\nhttp {\n server { listen 80 }\n", `nginx.conf:2:1: "listen" has no end`},
		{Braces, "== nginx.conf\nhttp {\n server {\n", "nginx.conf:3:1: a block is not closed"},
		{Braces, "== nginx.conf\n}\n", "nginx.conf:1:1: a brace is closed that was not opened"},
		{Braces, "== nginx.conf\nuser \"x;\n", "a quote is not closed"},
		{Braces, "== nginx.conf\ninclude nginx.conf;\n", "nginx.conf:1:1: nginx.conf includes itself"},
		{Braces, "== nginx.conf\ninclude other.conf;\n", "other.conf is included, and was not given"},
		{Braces, "== a\n" + strings.Repeat("x { ", 40), "deeper in one another"},
		{Tags, "== a.conf\n<VirtualHost *:80>\n", "a.conf:1:1: <virtualhost> is not closed"},
		{Tags, "== a.conf\n</VirtualHost>\n", "a.conf:1:1: </virtualhost> closes what was not opened"},
		{Tags, "== apache2.conf\nInclude apache2.conf\n", "apache2.conf includes itself"},
		{Sections, "== haproxy.cfg\nglobal\n", "Nothing of a site"},
	} {
		_, left := read(t, c.syntax, c.text, "host box\n")
		if !slices.ContainsFunc(left, func(l string) bool { return strings.Contains(l, c.want) }) {
			t.Errorf("%q: nothing says %q in %q", c.text, c.want, left)
		}
	}
}

// TestManyIncludes ends soon where each of many files includes all the others.
func TestManyIncludes(t *testing.T) {
	var text strings.Builder
	for i := range 30 {
		fmt.Fprintf(&text, "== %d.conf\ninclude *.conf;\n", i)
	}
	if _, left := read(t, Braces, "== nginx.conf\ninclude *.conf;\n"+text.String(), "host box\n"); len(left) == 0 {
		t.Error("nothing is said of files that include one another")
	}
}

// FuzzRead reads whatever there is, by each syntax: what it brings can be recorded, and comes back the same.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{
		"server { listen 80 default_server; server_name .a.example _ ~x; location = /a { return 301 https://$host$request_uri; } }",
		"http { upstream p { server a:1 weight=2 down; } server { listen [::1]:8443 ssl; location ^~ /x { proxy_pass https://p; } } }",
		"<VirtualHost *:80 [::1]:81>\nServerName a.example\nServerAlias *.b.example\nProxyPass /x balancer://p/\n</VirtualHost>",
		"frontend f\n bind :80,:::81 v4v6\n acl a hdr(host),field(1,:) -i x.example\n use_backend b if a { path /x } or !a\nbackend b\n server s 10.0.0.1:80 check inter 100\n",
		"server { listen 1.2.3.4:99999; server_name \"\\\"\"; return 302 http://x/$uri; allow all; deny 1.2.3.4; }",
	} {
		f.Add(seed)
	}
	e, _ := notation.Parse("host box\ncert c for a.example expires 2027-01-01 on box\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, syntax := range []Syntax{Braces, Tags, Sections} {
			r := Read(syntax, []intake.File{{Name: "sites-enabled/x", Text: text}, {Name: "sites-available/y", Text: text}}, "box", e)
			for _, rec := range r.Records {
				line := estate.Line(rec)
				p, _, err := notation.ParseLine(line)
				if err != nil || estate.Line(p.Record) != line {
					t.Fatalf("%q brings %q, which is read back as %v, %v", text, line, p.Record, err)
				}
			}
		}
	})
}

// TestUnknown holds that what a plain GET may meet and what is not followed is recorded as unknown, there alone; and that what it cannot meet
// changes nothing.
func TestUnknown(t *testing.T) {
	braces := func(body string) string {
		return "== nginx.conf\nhttp { server { listen 80; server_name a.example www.a.example; " + body + " } }\n"
	}
	tags := func(body string) string {
		return "== apache2.conf\nListen 80\n<VirtualHost *:80>\nServerName a.example\n" + body + "\n</VirtualHost>\n"
	}
	sections := func(body string) string {
		return "== haproxy.cfg\nfrontend f\n  bind :80\n" + body + "\n  default_backend b\nbackend b\n  server s 10.0.0.5:80\n"
	}
	const both = "site web a.example,www.a.example at 0.0.0.0:80 "
	for _, c := range []struct {
		name   string
		syntax Syntax
		text   string
		want   string // the sites
	}{
		{"a hand-on by a variable", Braces, braces("location / { proxy_pass http://$up; }"), both + "unknown default"},
		{"a pattern that is a beginning", Braces, braces("location ~ ^/api/ { proxy_pass http://10.0.0.5:80; proxy_set_header Host $host; }"), both + "path /api/* to http://10.0.0.5:80\n" + both + "files default"},
		{"a pattern that begins so", Braces, braces(`location ~ ^/api/v(1|2)\.php$ { return 404; }`), both + "path /api/v1.php* unknown\n" + both + "path /api/v2.php* unknown\n" + both + "files default"},
		{"a pattern that the front page does not fit", Braces, braces(`location ~ \.php$ { proxy_pass http://10.0.0.5; }`), both + "files default"},
		{"a pattern that it fits", Braces, braces("location ~ .* { proxy_pass http://10.0.0.5; }"), both + "unknown default"},
		{"a pattern is ahead of a longer path", Braces, braces("location /api/v1 { root /v; } location ~ ^/api/ { root /p; }"), both + "path /api/v1* files \"/p\"\n" + both + "path /api/* files \"/p\"\n" + both + "files default"},
		{"and behind what is ahead of all", Braces, braces("location ^~ /api { root /v; } location ~ ^/api/v1 { root /p; }"), both + "path /api* files \"/v\"\n" + both + "files default"},
		{"the first of two patterns", Braces, braces("location ~ ^/api { root /v; } location ~ ^/api/v1 { root /p; }"), both + "path /api* files \"/v\"\n" + both + "files default"},
		{"a condition on the method", Braces, braces("if ($request_method = POST) { return 405; }"), both + "files default"},
		{"a condition on the asker", Braces, braces("if ($remote_addr = 10.0.0.1) { return 403; }"), both + "unknown default"},
		{"a condition that sets a field", Braces, braces("if ($remote_addr = 10.0.0.1) { set $x 1; }"), both + "files default"},
		{
			"a condition on the name", Braces, braces("if ($host ~ ^www\\.) { return 301 https://a.example$request_uri; }"),
			"site web * at 0.0.0.0:80 unknown\nsite web www.a.example at 0.0.0.0:80 redirect https://a.example/\nsite web a.example at 0.0.0.0:80 files",
		},
		{
			"a condition on the name that does more", Braces, braces("if ($host = www.a.example) { set $x 1; rewrite ^ /y last; }"),
			"site web www.a.example at 0.0.0.0:80 unknown\nsite web a.example at 0.0.0.0:80 files default",
		},
		{
			"what comes in the clear", Braces, braces("listen 443 ssl; if ($scheme = http) { return 301 https://$host$request_uri; }"),
			both + "redirect https default\nsite web a.example,www.a.example at 0.0.0.0:443 files default",
		},
		{"a rewriting of all", Braces, braces("rewrite ^ /index.php last;"), both + "unknown default"},
		{"a rewriting elsewhere", Braces, braces("rewrite ^/old /new last;"), both + "files default"},
		{"a rewriting within its path", Braces, braces("location /api/ { rewrite ^/api/(.*)$ /$1 break; proxy_pass http://10.0.0.5; proxy_set_header Host $host; }"), both + "path /api/* to http://10.0.0.5\n" + both + "files default"},
		{"a name by a pattern", Braces, braces(`server_name "~^(?<who>[a-z]+)\.users\.example$";`), both + "files default\nsite web *.users.example at 0.0.0.0:80 unknown"},
		{"checked without a name in the handshake", Braces, braces("location / { proxy_pass https://10.0.0.5; proxy_ssl_verify on; }"), both + "unknown default"},
		{"a hand-on by a variable", Tags, tags("ProxyPass /x http://%{HTTP_HOST}/"), "site web a.example at 80 path /x unknown\nsite web a.example at 80 files"},
		{"a hand-on by a pattern", Tags, tags("ProxyPassMatch ^/api/(.*)$ http://10.0.0.5/$1"), "site web a.example at 80 path /api/* unknown\nsite web a.example at 80 files"},
		{
			"sent to TLS but for one path", Tags, tags("RewriteEngine on\nRewriteCond %{REQUEST_URI} !^/.well-known/\nRewriteCond %{HTTPS} off\nRewriteRule ^(.*)$ https://%{HTTP_HOST}%{REQUEST_URI} [L,R=301]"),
			"site web a.example at 80 path /.well-known/* files\nsite web a.example at 80 redirect https",
		},
		{"a rewriting by who asks", Tags, tags("RewriteEngine on\nRewriteCond %{REMOTE_ADDR} ^10\\.\nRewriteRule ^ http://10.0.0.5/ [P]"), "site web a.example at 80 unknown"},
		{"a rewriting by the browser", Tags, tags("RewriteEngine on\nRewriteCond %{HTTP_USER_AGENT} bot\nRewriteRule ^ - [F]"), "site web a.example at 80 files"},
		{"a rewriting within", Tags, tags("RewriteEngine on\nRewriteRule . /index.php [L]"), "site web a.example at 80 files"},
		{"by who asks", Sections, sections("  http-request deny if !{ src 10.0.0.0/8 }"), "site web * at 0.0.0.0:80 unknown"},
		{"by the method", Sections, sections("  http-request deny if { method TRACE }"), "site web * at 0.0.0.0:80 to pool b"},
		{"by name and who asks", Sections, sections("  acl near src 10.0.0.0/8\n  use_backend b if { hdr(host) a.example } near"), "site web a.example at 0.0.0.0:80 unknown\nsite web * at 0.0.0.0:80 to pool b"},
		{"answered at a path", Sections, sections("  http-request return status 200 if { path /ok }"), "site web * at 0.0.0.0:80 path =/ok unknown\nsite web * at 0.0.0.0:80 to pool b"},
		{"but for a name", Sections, sections("  acl a hdr(host) a.example\n  use_backend b unless a"), "site web * at 0.0.0.0:80 unknown"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var sites []string
			lines, _ := read(t, c.syntax, c.text, "host box\n")
			for _, l := range lines {
				if strings.HasPrefix(l, "site ") {
					sites = append(sites, l)
				}
			}
			same(t, sites, c.want)
		})
	}
}
