package main

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/oauth2-proxy/mockoidc"
)

// TestAccessFlags: an address that others reach is served only with accounts, over TLS, under a name; and what does not go together is said.
func TestAccessFlags(t *testing.T) {
	dir := t.TempDir()
	cert, key := selfSigned(t, dir, "a", "compass.example.net")
	empty := filepath.Join(dir, "empty")
	if err := os.WriteFile(empty, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for args, fault := range map[string]string{
		"--listen 0.0.0.0:0":                       "or TLS (--cert and --key)",
		"--listen :0":                              "or TLS (--cert and --key)",
		"--listen [::]:0":                          "or TLS (--cert and --key)",
		"--listen 192.0.2.7:0 --alone":             "with --alone nobody signs in",
		"--listen 0.0.0.0:0 --cert CERT --key KEY": "expected --origin",
		"--cert CERT":                              "go together",
		"--key KEY":                                "go together",
		"--cert CERT --key CERT --origin https://c.example.net": "--cert",
		"--cert EMPTY --key KEY --origin https://c.example.net": "--cert",
		"--cert CERT --key KEY --front 192.0.2.1/32":            "expected one of them",
		"--front 192.0.2.1/32":                                  "expected --origin with it",
		"--front nonsense":                                      "front",
		"--alone --front 192.0.2.1/32":                          "nobody signs in",
		"--alone --origin http://127.0.0.1:7373":                "nobody signs in",
		"--origin http://compass.example.net":                   "is no origin",
		"--origin https://compass.example.net/path":             "is no origin",
		"--origin https://anna@compass.example.net":             "is no origin",
		"--origin https://compass.example.net":                  "expected https with --cert or --front",
		"--cert CERT --key KEY --origin http://127.0.0.1:7373":  "expected https with --cert or --front",
		"--sign-in-at https://people.example.net":               "expected --client and --secret-file",
		"--client us": "expected --sign-in-at with them",
		"--sign-in-at http://people.example.net --client us --secret-file EMPTY --origin http://127.0.0.1:7373": "http only on loopback",
		"--sign-in-at https://people.example.net --client us --secret-file EMPTY":                               "expected --origin with it",
		"--new-role keeper": "new-role",
	} {
		words := strings.Fields(strings.NewReplacer("CERT", cert, "KEY", key, "EMPTY", empty).Replace(args))
		code, out, errs := call(t, "", append([]string{"serve", "--db", filepath.Join(dir, "never.db")}, words...)...)
		if code != 2 || !strings.Contains(errs, fault) || out != "" {
			t.Errorf("%s: exit %d %s%s; want %q", args, code, out, errs, fault)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "never.db")); err == nil {
		t.Error("a database was made for nothing")
	}
}

// selfSigned makes a certificate with its key.
func selfSigned(t *testing.T, dir, name, host string) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		DNSNames: []string{host, "localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for path, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: raw}, key: {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key
}

// TestOverTLS: it is served over TLS, HTTP/2 too, and a renewed certificate is taken without a start; one that cannot be read leaves the one
// before in place.
func TestOverTLS(t *testing.T) {
	dir := t.TempDir()
	cert, key := selfSigned(t, dir, "before", "compass.example.net")
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var log said
	pair, err := newKeyPair(cert, key, slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err)
	}
	h := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, r.Proto) })}
	go func() { _ = h.Serve(pair.secured(listener)) }()
	defer func() { _ = h.Close() }()
	subject := func() (name, proto string) {
		c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true}}
		defer c.CloseIdleConnections()
		r, err := c.Get("https://" + listener.Addr().String() + "/")
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = r.Body.Close() }()
		text, _ := io.ReadAll(r.Body)
		return r.TLS.PeerCertificates[0].Subject.CommonName, string(text)
	}
	if name, proto := subject(); name != "before" || proto != "HTTP/2.0" {
		t.Errorf("%s by %s", name, proto)
	}
	again := func() { // as if a while had gone by
		pair.mu.Lock()
		pair.looked = time.Time{}
		pair.mu.Unlock()
	}
	if err := os.WriteFile(cert, []byte("half a file"), 0o600); err != nil {
		t.Fatal(err)
	}
	again()
	if name, _ := subject(); name != "before" || !strings.Contains(log.String(), "the one before goes on") {
		t.Errorf("with half a file: %s; %s", name, log.String())
	}
	selfSigned(t, dir, "after", "compass.example.net")
	again()
	if name, _ := subject(); name != "after" {
		t.Errorf("renewed: %s", name)
	}
	if _, err := tls.Dial("tcp", listener.Addr().String(), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		t.Error("TLS 1.1 is spoken")
	}
}

// TestPeopleCommands: who has the file sees to accounts, and whoever was given a code gets in with it.
func TestPeopleCommands(t *testing.T) {
	db := filepath.Join(t.TempDir(), "a.db")
	address, end := serving(t, "serve", "--db", db, "--listen", "127.0.0.1:0")
	defer end()
	for _, c := range []struct {
		args, out, errs string
		code            int
	}{
		{"people list", "Nobody has an account yet", "", 0},
		{"people add anna --role keeper", "-", "", 0},
		{"people add Anna", "", "another account has it", 2},
		{"people add a/b", "", "not a name for an account", 2},
		{"people add bert", "-", "", 0},
		{"people role anna reader", "", "the last keeper", 2},
		{"people role bert keeper", "", "", 0},
		{"people off anna", "", "", 0},
		{"people on anna", "", "", 0},
		{"people off cora", "", "no such account", 2},
		{"people role bert captain", "", "captain", 2},
		{"people list", "not signed in yet", "", 0},
		{"people list --json", `"role": "keeper"`, "", 0},
	} {
		code, out, errs := call(t, "", append(strings.Fields(c.args), "--db", db)...)
		if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) {
			t.Errorf("%s: exit %d\n%s%s", c.args, code, out, errs)
		}
	}
	_, code, _ := call(t, "", "people", "code", "anna", "--db", db)
	body, _ := json.Marshal(map[string]string{"name": "anna", "code": code, "password": "seven slow herons"})
	req, _ := http.NewRequest("POST", address+"api/sign-in/code", bytes.NewReader(body))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Origin", strings.TrimSuffix(address, "/"))
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
	if c := resp.Header.Get("Set-Cookie"); resp.StatusCode != 200 || !strings.Contains(c, "HttpOnly") {
		t.Errorf("%d, cookie %q", resp.StatusCode, c)
	}
}

// TestSignInElsewhere signs people in at a provider of OpenID Connect: the one for whom an account waits, the one for whom none does, and with
// what nobody sent.
func TestSignInElsewhere(t *testing.T) {
	provider, err := mockoidc.Run()
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = provider.Shutdown() }()
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	if err := os.WriteFile(secret, []byte(provider.ClientSecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listen := free.Addr().String()
	_ = free.Close()
	serve := func(more ...string) (address string, end func() int) {
		return serving(t, append([]string{
			"serve", "--db", filepath.Join(dir, "a.db"), "--listen", listen, "--origin", "http://" + listen,
			"--sign-in-at", provider.Issuer(), "--client=" + provider.ClientID, "--secret-file", secret, // an id may begin with a dash
		}, more...)...)
	}
	address, end := serve()
	for _, name := range []string{"anna --role keeper", "bert --email bert@example.net"} {
		if code, _, errs := call(t, "", append(strings.Fields("people add "+name), "--db", filepath.Join(dir, "a.db"))...); code != 0 {
			t.Fatal(errs)
		}
	}
	type me struct {
		Who       *struct{ Name, Role string }
		Elsewhere string
		Said      string
	}
	browser := func() *http.Client {
		jar, _ := cookiejar.New(nil)
		return &http.Client{Jar: jar}
	}
	ask := func(c *http.Client, path string) (out me) {
		t.Helper()
		resp, err := c.Get(address + path)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		resp, err = c.Get(address + "api/me")
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = resp.Body.Close() }()
		if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	user := func(subject, email string, verified bool) *mockoidc.MockUser {
		return &mockoidc.MockUser{Subject: subject, Email: email, EmailVerified: verified, PreferredUsername: subject}
	}
	for _, c := range []struct {
		what string
		user *mockoidc.MockUser
		who  string
		said string
	}{
		{"an address that is not verified", user("s1", "bert@example.net", false), "", "has no account here"},
		{"somebody else", user("s2", "dora@example.net", true), "", "dora@example.net is known at"},
		{"bert", user("s3", "Bert@example.net", true), "bert", ""},
		{"bert with another address", user("s3", "robert@example.net", true), "bert", ""},
		{"another who has his address now", user("s4", "bert@example.net", true), "", "has no account here"},
	} {
		provider.QueueUser(c.user)
		got := ask(browser(), "sign-in/elsewhere")
		if who := got.Who; (who == nil) != (c.who == "") || who != nil && who.Name != c.who || !strings.Contains(got.Said, c.said) || got.Elsewhere == "" {
			t.Errorf("%s: %+v", c.what, got)
		}
	}
	for path, said := range map[string]string{
		"sign-in/back":                   "was not begun here",
		"sign-in/back?state=x&code=y":    "was not begun here",
		"sign-in/back?error=denied":      "was not begun here",
		"sign-in/back?state=&code=other": "was not begun here",
	} {
		if got := ask(browser(), path); got.Who != nil || !strings.Contains(got.Said, said) {
			t.Errorf("%s: %+v", path, got)
		}
	}
	provider.QueueError(&mockoidc.ServerError{Code: 400, Error: "no", Description: "not today"})
	if got := ask(browser(), "sign-in/elsewhere"); got.Who != nil {
		t.Errorf("where the provider fails: %+v", got)
	}
	end()
	address, end = serve("--new-role", "reader")
	provider.QueueUser(user("s5", "dora@example.net", true))
	if got := ask(browser(), "sign-in/elsewhere"); got.Who == nil || got.Who.Name != "dora@example.net" || got.Who.Role != "reader" {
		t.Errorf("whoever comes: %+v", got)
	}
	if code, _, errs := call(t, "", "people", "off", "dora@example.net", "--db", filepath.Join(dir, "a.db")); code != 0 {
		t.Fatal(errs)
	}
	provider.QueueUser(user("s5", "dora@example.net", true))
	if got := ask(browser(), "sign-in/elsewhere"); got.Who != nil || !strings.Contains(got.Said, "is switched off") {
		t.Errorf("who is off: %+v", got)
	}
	end()
}
