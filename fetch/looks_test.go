package fetch

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/miekg/dns"

	"steady-compass/core/look"
)

// wire is a network in memory that counts what is sent into it: at each address and port something serves, refuses, or says nothing.
type wire struct {
	mu     sync.Mutex
	serve  map[string]func(net.Conn) // by address and port
	refuse map[string]error
	dialed []string
	open   map[string]int // by address
	all    int
	most   int // that were open at one address at once
	mostIn int // and in all
}

func (w *wire) dial(ctx context.Context, network, address string) (net.Conn, error) {
	at := netip.MustParseAddrPort(address).Addr().String()
	w.mu.Lock()
	w.dialed = append(w.dialed, network+" "+address)
	w.open[at]++
	w.all++
	w.most, w.mostIn = max(w.most, w.open[at]), max(w.mostIn, w.all)
	serve, refuse := w.serve[address], w.refuse[address]
	w.mu.Unlock()
	gone := func() {
		w.mu.Lock()
		w.open[at]--
		w.all--
		w.mu.Unlock()
	}
	switch {
	case refuse != nil:
		gone()
		return nil, &net.OpError{Op: "dial", Err: os.NewSyscallError("connect", refuse)}
	case serve == nil:
		<-ctx.Done()
		gone()
		return nil, ctx.Err()
	}
	here, there := net.Pipe()
	go serve(there)
	return &piped{here, gone, sync.Once{}}, nil
}

type piped struct {
	net.Conn
	gone func()
	once sync.Once
}

func (c *piped) Close() error {
	c.once.Do(c.gone)
	return c.Conn.Close()
}

func newWire() *wire {
	return &wire{serve: map[string]func(net.Conn){}, refuse: map[string]error{}, open: map[string]int{}}
}

// authority issues certificates to servers in tests.
type authority struct {
	cert  *x509.Certificate
	key   *ecdsa.PrivateKey
	roots *x509.CertPool
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Test authority"}, NotBefore: time.Now().AddDate(-1, 0, 0), NotAfter: time.Now().AddDate(5, 0, 0), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	a := &authority{cert, key, x509.NewCertPool()}
	a.roots.AddCert(cert)
	return a
}

func (a *authority) issue(t *testing.T, until time.Time, names ...string) tls.Certificate {
	t.Helper()
	template := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: names[0]}, DNSNames: names, NotBefore: until.AddDate(0, -3, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, template, a.cert, &a.key.PublicKey, a.key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: a.key}
}

// web serves pages on a connection, in TLS where it has a certificate, and notes what was asked.
func web(cert *tls.Certificate, asked *[]string, mu *sync.Mutex, answer string) func(net.Conn) {
	return func(conn net.Conn) {
		if cert != nil {
			conn = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{*cert}})
		}
		defer func() { _ = conn.Close() }()
		r, err := http.ReadRequest(bufio.NewReader(conn))
		if err != nil {
			return
		}
		var fields []string
		for name := range r.Header {
			fields = append(fields, name)
		}
		slices.Sort(fields)
		mu.Lock()
		*asked = append(*asked, fmt.Sprintf("%s %s%s %v", r.Method, r.Host, r.RequestURI, fields))
		mu.Unlock()
		_, _ = io.WriteString(conn, answer)
	}
}

func looked(t *testing.T, w *wire, o LookOptions, contacts ...look.Contact) []string {
	t.Helper()
	o.Dial = w.dial
	var out []string
	if err := Looks(context.Background(), contacts, o, func(l look.Look) {
		text := fmt.Sprintf("%s %s %s", l.Did, l.Target, l.Came)
		for _, more := range []string{l.Why, l.Detail, strings.Join(l.Names, ","), l.Expires, l.Location, l.Code, strings.Join(l.Answers, ",")} {
			if more != "" {
				text += " " + more
			}
		}
		if l.Covers != nil {
			text += fmt.Sprintf(" covers=%v", *l.Covers)
		}
		if l.Trusted != nil {
			text += fmt.Sprintf(" trusted=%v", *l.Trusted)
		}
		if l.Status != 0 {
			text += fmt.Sprintf(" %d", l.Status)
		}
		if l.Marked != nil {
			text += fmt.Sprintf(" marked=%v", *l.Marked)
		}
		out = append(out, text)
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

func contact(did look.Did, target, address string, port uint16) look.Contact {
	return look.Contact{Target: target, Did: did, Name: "a.example", Address: address, Port: port, Transport: "tcp", TLS: port == 443}
}

func sameLines(t *testing.T, got, want []string) {
	t.Helper()
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestLayers looks at each layer, and sends what it says: one request, nothing followed, no cookie and no credential.
func TestLayers(t *testing.T) {
	a := newAuthority(t)
	until := time.Now().AddDate(0, 1, 0)
	good, other := a.issue(t, until, "a.example"), a.issue(t, until, "b.example")
	var mu sync.Mutex
	var asked []string
	w := newWire()
	w.serve["9.9.9.9:443"] = web(&good, &asked, &mu, "HTTP/1.1 302 Found\r\nLocation: https://elsewhere.example/login\r\nSet-Cookie: s=1\r\nContent-Length: 0\r\n\r\n")
	w.serve["9.9.9.10:443"] = web(&other, &asked, &mu, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nhi")
	w.serve["9.9.9.9:80"] = web(nil, &asked, &mu, "HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nthe mark !")
	w.serve["9.9.9.9:22"] = func(c net.Conn) { _, _ = io.WriteString(c, "SSH-2.0\r\n") }
	w.serve["9.9.9.9:25"] = func(c net.Conn) { _ = c.Close() }
	w.serve["9.9.9.9:8080"] = func(c net.Conn) { // takes no HEAD
		defer func() { _ = c.Close() }()
		r, err := http.ReadRequest(bufio.NewReader(c))
		if err != nil {
			return
		}
		answer := "HTTP/1.1 405 Method Not Allowed\r\nContent-Length: 0\r\n\r\n"
		if r.Method == http.MethodGet {
			answer = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nhi"
		}
		_, _ = io.WriteString(c, answer)
	}
	w.refuse["9.9.9.9:81"], w.refuse["9.9.9.9:82"] = syscall.ECONNREFUSED, syscall.EHOSTUNREACH
	o := LookOptions{Roots: a.roots, Rate: 400, Within: 700 * time.Millisecond}
	day := until.UTC().Format(time.DateOnly)
	sameLines(t, looked(t, w, o, contact(look.HTTP, "https://a.example/x", "9.9.9.9", 443)), []string{
		"connect a.example:443 arrived", "tls a.example:443 arrived a.example " + day + " covers=true trusted=true", "http https://a.example/x arrived https://elsewhere.example/login 302",
	})
	sameLines(t, looked(t, w, o, contact(look.TLS, "a.example:443", "9.9.9.10", 443)), []string{
		"connect a.example:443 arrived", "tls a.example:443 arrived b.example " + day + " covers=false trusted=true",
	})
	o.Roots = newAuthority(t).roots
	sameLines(t, looked(t, w, o, contact(look.TLS, "a.example:443", "9.9.9.9", 443))[1:], []string{"tls a.example:443 arrived a.example " + day + " covers=true trusted=false"})
	marked := contact(look.HTTP, "http://a.example/", "9.9.9.9", 80)
	marked.Mark = "mark"
	sameLines(t, looked(t, w, o, marked), []string{"connect a.example:80 arrived", "http http://a.example/ arrived 200 marked=true"})
	sameLines(t, looked(t, w, o, contact(look.HTTP, "http://a.example:8080/", "9.9.9.9", 8080)), []string{"connect a.example:8080 arrived", "http http://a.example:8080/ arrived 200"})
	sameLines(t, looked(t, w, o, contact(look.Connect, "a.example:22", "9.9.9.9", 22)), []string{"connect a.example:22 arrived"})
	sameLines(t, looked(t, w, o, contact(look.Connect, "a.example:25", "9.9.9.9", 25)), []string{"connect a.example:25 cut"})
	sameLines(t, looked(t, w, o, contact(look.Connect, "a.example:81", "9.9.9.9", 81)), []string{"connect a.example:81 refused connection refused"})
	sameLines(t, looked(t, w, o, contact(look.Connect, "a.example:82", "9.9.9.9", 82)), []string{"connect a.example:82 no-route no route to host"})
	sameLines(t, looked(t, w, o, contact(look.Connect, "a.example:83", "9.9.9.9", 83)), []string{"connect a.example:83 silent nothing came in time"})
	mu.Lock()
	defer mu.Unlock()
	sameLines(t, asked, []string{"HEAD a.example/x [Connection User-Agent]", "GET a.example/ [Connection User-Agent]"})
	if slices.ContainsFunc(w.dialed, func(d string) bool { return !strings.HasPrefix(d, "tcp 9.9.9.") }) {
		t.Errorf("contacted %v", w.dialed)
	}
}

// TestNeverContacted holds that a list of contacts from elsewhere, whatever it says, contacts nothing that is not allowed to it.
func TestNeverContacted(t *testing.T) {
	w := newWire()
	var contacts []look.Contact
	for _, a := range []string{"127.0.0.1", "::1", "10.0.0.1", "192.168.1.1", "fd00::1", "169.254.169.254", "203.0.113.9", "224.0.0.1", "0.0.0.0", "100.64.0.1", "nowhere.example", "fe80::1%eth0"} {
		contacts = append(contacts, contact(look.Connect, "x:80", a, 80))
	}
	got := looked(t, w, LookOptions{Rate: 400}, contacts...)
	if len(w.dialed) > 0 || len(got) != len(contacts) {
		t.Errorf("contacted %v, and gave\n%s", w.dialed, strings.Join(got, "\n"))
	}
	for _, l := range got {
		if !strings.Contains(l, "not-looked it is") {
			t.Error(l)
		}
	}
}

// TestNames asks a resolver, and no other.
func TestNames(t *testing.T) {
	w := newWire()
	w.serve["9.9.9.53:53"] = func(c net.Conn) {
		wire := &dns.Conn{Conn: c}
		m, err := wire.ReadMsg()
		if err != nil {
			return
		}
		r := new(dns.Msg)
		r.SetReply(m)
		if m.Question[0].Name == "gone.example." {
			r.Rcode = dns.RcodeNameError
		} else {
			for _, text := range []string{"a.example. 300 IN CNAME b.example.", "b.example. 60 IN A 9.9.9.9"} {
				rr, _ := dns.NewRR(text)
				r.Answer = append(r.Answer, rr)
			}
		}
		_ = wire.WriteMsg(r)
	}
	o := LookOptions{Resolver: netip.MustParseAddr("9.9.9.53"), Rate: 400, Within: time.Second}
	sameLines(t, looked(t, w, o, look.Contact{Target: "a.example A", Did: look.Resolve, Name: "a.example", Type: "A"}), []string{"resolve a.example A answered NOERROR 9.9.9.9"})
	sameLines(t, looked(t, w, o, look.Contact{Target: "gone.example A", Did: look.Resolve, Name: "gone.example", Type: "A"}), []string{"resolve gone.example A answered NXDOMAIN"})
	sameLines(t, w.dialed, []string{"udp 9.9.9.53:53", "udp 9.9.9.53:53"})
}

// TestPace holds, on a clock of its own, that 1,000 targets of which half are silent take less than 30 s, with few open at one address and a
// bound on those in all; and that an address which answered and falls silent is left alone.
func TestPace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWire()
		var contacts []look.Contact
		for i := range 1000 {
			a := netip.AddrFrom4([4]byte{9, 9, byte(i / 250), byte(i%250 + 1)}).String()
			contacts = append(contacts, contact(look.Connect, "x:22", a, 22))
			if i%2 == 0 {
				w.serve[netip.AddrPortFrom(netip.MustParseAddr(a), 22).String()] = func(c net.Conn) { _, _ = c.Write([]byte("hello")) }
			}
		}
		begun := time.Now()
		got := looked(t, w, LookOptions{}, contacts...)
		if took := time.Since(begun); took > 30*time.Second || len(got) != 1000 {
			t.Errorf("%d looks in %v", len(got), took)
		}
		if w.mostIn > look.OpenInAll {
			t.Errorf("%d open at once", w.mostIn)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		w := newWire()
		w.serve["9.9.9.9:1"] = func(c net.Conn) { _, _ = c.Write([]byte("hello")) }
		var contacts []look.Contact
		for port := range uint16(60) {
			contacts = append(contacts, contact(look.Connect, "x", "9.9.9.9", port+1))
		}
		got := looked(t, w, LookOptions{}, contacts...)
		alone := slices.DeleteFunc(got, func(l string) bool { return !strings.Contains(l, "left alone") })
		if w.most > look.OpenAtOne {
			t.Errorf("%d open at one address at once", w.most)
		}
		if len(alone) < 50 || len(w.dialed) > 10 {
			t.Errorf("%d contacts were left, %d were made", len(alone), len(w.dialed))
		}
	})
}

// TestStopped holds that nothing more is sent once looks are stopped.
func TestStopped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWire()
		var contacts []look.Contact
		for i := range 200 {
			contacts = append(contacts, contact(look.Connect, "x", fmt.Sprintf("9.9.9.%d", i+1), 22))
		}
		ctx, stop := context.WithCancel(context.Background())
		time.AfterFunc(time.Second, stop)
		if err := Looks(ctx, contacts, LookOptions{Dial: w.dial}, func(look.Look) {}); err != context.Canceled {
			t.Errorf("ended with %v", err)
		}
		if n := len(w.dialed); n < 30 || n > 45 {
			t.Errorf("%d contacts in a second", n)
		}
	})
}
