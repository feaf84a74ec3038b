package lab

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/crypto/acme"
	"golang.org/x/sync/errgroup"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
	"steady-compass/lab/authority"
)

var judgedChallenges = flag.Int("judge.challenges", 32, "for how many random certificates an authority is asked")

// TestRenewalsAgainstAnAuthority asks an authority for the certificates of random estates, as their machines would, and holds what it says
// against whether the engine says that the challenge gets in. Who may issue at all (CAA) is not asked: the authority does not look.
func TestRenewalsAgainstAnAuthority(t *testing.T) {
	if testing.Short() {
		t.Skip("waits for what is silent")
	}
	said := map[string]int{}
	results := make([]string, *judgedChallenges)
	var g errgroup.Group
	g.SetLimit(24)
	for seed := range *judgedChallenges {
		g.Go(func() error {
			e := parsedEstate(t, keeper(mathrand.New(mathrand.NewPCG(uint64(seed), 8555))))
			m := model.Compile(e)
			tr := trace.New(m, "2026-12-01")
			cert := of[*estate.Cert](e)[0]
			name := cert.For[0]
			got := serve.New(m, "2026-12-01").Challenge(cert, name, nil)
			here := map[bool]string{true: "works", false: "does not work"}[got.Works]
			if got.Only4 {
				here = "works by IPv4 only"
			}
			there, words, err := proven(t, tr, cert, name)
			if err != nil {
				return fmt.Errorf("seed %d: %w", seed, err)
			}
			if here != there {
				t.Errorf("seed %d: %s by %s: %s, and the authority: %s (%s)\n%s\n%s", seed, name, cert.By, here, there, words, got.Why, relevant(e))
			}
			results[seed] = cert.By + " " + there
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		t.Fatal(err)
	}
	for _, r := range results {
		said[r]++
	}
	t.Logf("%v", said)
	for _, by := range []string{"http-01", "tls-alpn-01", "dns-01"} {
		if *judgedChallenges >= 32 && (said[by+" works"] == 0 || said[by+" does not work"] == 0) {
			t.Errorf("%s is not tried both ways: %v", by, said)
		}
	}
}

// proven has an authority look at a name: by the addresses of the family that it tries first, each in its turn, and by the other where those
// connect to nobody.
func proven(t *testing.T, tr *trace.Tracer, cert *estate.Cert, name string) (verdict, words string, err error) {
	nobody, failed := false, false
	for turn := range 2 {
		problem, err := asked(t, tr, cert, name, authority.Options{Turn: turn})
		if err != nil {
			return "", "", err
		}
		if problem != nil {
			failed, words = true, problem.Detail
			nobody = nobody || !strings.Contains(problem.Detail, "could not resolve") &&
				(problem.ProblemType == "urn:ietf:params:acme:error:connection" || strings.HasPrefix(problem.Detail, "Failed to connect"))
		}
	}
	if !failed {
		return "works", "", nil
	}
	if cert.By == "dns-01" || !nobody || len(tr.Answer(name, "AAAA", vantage(t, tr, "internet")).Addresses) == 0 {
		return "does not work", words, nil
	}
	for turn := range 2 {
		problem, err := asked(t, tr, cert, name, authority.Options{Turn: turn, IPv4: true})
		if err != nil {
			return "", "", err
		}
		if problem != nil {
			return "does not work", words + "; " + problem.Detail, nil
		}
	}
	return "works by IPv4 only", words, nil
}

// asked orders a certificate for one name, and gives back what the authority has against it.
func asked(t *testing.T, tr *trace.Tracer, cert *estate.Cert, name string, o authority.Options) (*acme.Error, error) {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	client, err := acmeClient()
	if err != nil {
		return nil, err
	}
	proof := ""
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/.well-known/acme-challenge/") {
			_, _ = w.Write([]byte(proof))
			return
		}
		http.NotFound(w, r)
	}))
	defer page.Close()
	var shown *tls.Certificate
	greeting := httptest.NewUnstartedServer(http.NotFoundHandler())
	greeting.TLS = &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{acme.ALPNProto}, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return shown, nil }}
	greeting.StartTLS()
	defer greeting.Close()
	o.Cert, o.HTTP, o.TLS = cert, netip.MustParseAddrPort(page.Listener.Addr().String()), netip.MustParseAddrPort(greeting.Listener.Addr().String())
	a, err := authority.Start(ctx, tr, "127.0.0.1:0", o)
	if err != nil {
		return nil, err
	}
	defer func() { _ = a.Close() }()
	client.DirectoryURL = a.Directory
	if _, err := client.Register(ctx, &acme.Account{}, acme.AcceptTOS); err != nil {
		return nil, err
	}
	order, err := client.AuthorizeOrder(ctx, acme.DomainIDs(name))
	if err != nil {
		return nil, err
	}
	authz, err := client.GetAuthorization(ctx, order.AuthzURLs[0])
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(authz.Challenges, func(c *acme.Challenge) bool { return c.Type == cert.By })
	if i < 0 {
		return nil, fmt.Errorf("the authority has no challenge by %s for %s", cert.By, name)
	}
	c := authz.Challenges[i]
	switch cert.By {
	case "http-01":
		proof, err = client.HTTP01ChallengeResponse(c.Token)
	case "tls-alpn-01":
		var made tls.Certificate
		made, err = client.TLSALPN01ChallengeCert(c.Token, name)
		shown = &made
	default:
		owner := tr.Answer("_acme-challenge."+strings.TrimPrefix(name, "*."), "TXT", vantage(t, tr, "internet"))
		err = putText(client, a, owner.Last(), c.Token)
	}
	if err != nil {
		return nil, err
	}
	if _, err := client.Accept(ctx, c); err != nil {
		return nil, err
	}
	_, err = client.WaitAuthorization(ctx, authz.URI)
	var no *acme.AuthorizationError
	if !errors.As(err, &no) {
		return nil, err
	}
	var problem *acme.Error
	for _, e := range no.Errors {
		if errors.As(e, &problem) {
			return problem, nil
		}
	}
	return nil, err
}

func acmeClient() (*acme.Client, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	return &acme.Client{Key: key, HTTPClient: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}, err // a certificate of its own, on loopback
}

// putText puts the answer to a challenge into the zone where the name's aliases lead (RFC 2136).
func putText(client *acme.Client, a *authority.Authority, owner, token string) error {
	text, err := client.DNS01ChallengeRecord(token)
	if err != nil {
		return err
	}
	update := new(dns.Msg).SetUpdate(dns.Fqdn(owner))
	update.Insert([]dns.RR{&dns.TXT{Hdr: dns.RR_Header{Name: dns.Fqdn(owner), Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: 60}, Txt: []string{text}}})
	_, _, err = (&dns.Client{Net: "tcp"}).Exchange(update, a.Names.String())
	return err
}

func vantage(t *testing.T, tr *trace.Tracer, word string) flow.Vantage {
	v, err := tr.VantageNamed(word)
	if err != nil {
		t.Error(err)
	}
	return v
}

// keeper is a random estate around one certificate that renews itself: who answers to its name by which family, what is let in, and who
// redirects to where.
func keeper(r *mathrand.Rand) string {
	var b strings.Builder
	line := func(chance float64, format string, args ...any) bool {
		if r.Float64() >= chance {
			return false
		}
		fmt.Fprintf(&b, format+"\n", args...)
		return true
	}
	one := func(words ...string) string { return words[r.IntN(len(words))] }
	fmt.Fprint(&b, `network lan 10.0.0.0/24,2001:db8:7::/64
host gate router
host web
host store
address gate 203.0.113.1 internet
address gate 203.0.113.2 internet
address gate 2001:db8:ffff::1 internet
address gate 10.0.0.1 lan
address gate 2001:db8:7::1 lan
address gate 2001:db8:7::/64 internet
address web 10.0.0.5 lan
address web 2001:db8:7::5 lan
address store 10.0.0.6 lan
address store 2001:db8:7::6 lan
route web default via 10.0.0.1
route web default via 2001:db8:7::1
route store default via 10.0.0.1
route store default via 2001:db8:7::1
zone a.example
listen store 80 as shop
listen store 443 as shop tls cert kept
`)
	if !line(0.5, "zone b.example for lan") {
		line(0.8, "zone b.example")
	}
	for _, name := range []string{"a.example", "b.a.example"} {
		line(0.9, "dns %s A 203.0.113.1", name)
		line(0.15, "dns %s A 203.0.113.2", name)
		line(0.35, "dns %s AAAA 2001:db8:7::%s", name, one("5", "6", "9"))
	}
	line(0.5, "dns _acme-challenge.a.example CNAME proof.%s", one("b.example", "b.example", "a.example"))
	for _, port := range []string{"80", "443"} {
		line(0.85, "forward gate 203.0.113.1:%s to 10.0.0.%s", port, one("5", "5", "6"))
		line(0.5, "forward gate 203.0.113.2:%s to 10.0.0.%s", port, one("5", "6"))
	}
	line(0.8, "listen web 80 as front")
	line(0.8, "listen web 443 as front tls cert kept")
	if line(0.4, "filter edge on gate through otherwise drop%s", one("", " ipv6", " ipv4")) {
		line(0.8, "rule edge pass %s", one("80", "443", "80,443", "80 to web", "443 to web"))
		line(0.5, "rule edge pass %s", one("80", "443", "80-90"))
	}
	action := func() string {
		return one("redirect https", "redirect https", "redirect https://b.a.example", "redirect https://b.a.example/welcome", "redirect https://b.a.example:8443", "redirect http://203.0.113.2", "to http://store:80", "files", "redirect http://store.a.example")
	}
	line(0.6, "site front * at 80 %s", action())
	line(0.4, "site front a.example at 80 %s", action())
	line(0.4, "site front b.a.example at 443 %s", one("files", "to http://store:80", "redirect https://a.example"))
	line(0.4, "site front * at 443 %s", one("files", "to http://store:80"))
	line(0.3, "site shop a.example at 80 %s", action())
	by := one("http-01", "http-01", "tls-alpn-01", "dns-01")
	more := ""
	switch {
	case by == "http-01" && r.Float64() < 0.6:
		more = one(" alone", " through front", " through shop")
	case by == "tls-alpn-01" && r.Float64() < 0.4:
		more = one(" through front", " through shop")
	}
	fmt.Fprintf(&b, "cert kept for %sa.example expires 2027-01-01 on %s by %s%s\n", map[bool]string{true: "*."}[by == "dns-01" && r.IntN(2) == 0], one("web", "web", "store"), by, more)
	return b.String()
}

// TestAuthorityStaysOnLoopback: what stands in is at no other address.
func TestAuthorityStaysOnLoopback(t *testing.T) {
	e := parsedEstate(t, keeper(mathrand.New(mathrand.NewPCG(1, 1))))
	tr := trace.New(model.Compile(e), "2026-12-01")
	if _, err := authority.Start(t.Context(), tr, "0.0.0.0:0", authority.Options{Cert: of[*estate.Cert](e)[0]}); err == nil {
		t.Error("it answers at every address of the machine")
	}
	a, err := authority.Start(t.Context(), tr, "127.0.0.1:0", authority.Options{Cert: of[*estate.Cert](e)[0]})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = a.Close() }()
	for _, typ := range []uint16{dns.TypeA, dns.TypeAAAA} {
		for _, name := range []string{"a.example.", "b.a.example.", "elsewhere.example."} {
			in, _, err := (&dns.Client{Net: "tcp"}).Exchange(new(dns.Msg).SetQuestion(name, typ), a.Names.String())
			if err != nil {
				t.Fatal(err)
			}
			for _, rr := range in.Answer {
				var ip net.IP
				switch rr := rr.(type) {
				case *dns.A:
					ip = rr.A
				case *dns.AAAA:
					ip = rr.AAAA
				}
				if !ip.IsLoopback() {
					t.Errorf("%s is answered with %s", name, ip)
				}
			}
		}
	}
}
