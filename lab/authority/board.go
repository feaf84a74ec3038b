package authority

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/say"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// board stands in for the addresses of the estate, each by one of loopback: it takes connections to the two ports of a challenge, and does with
// them what the records say becomes of them.
type board struct {
	Options
	model    *model.Model
	tracer   *trace.Tracer
	internet flow.Vantage

	httpPort, tlsPort uint16
	redirects         map[string]*estate.Site // by their lines

	mu     sync.Mutex
	stands map[netip.Addr]netip.Addr // by the address stood in for
	open   []net.Listener
	held   []net.Conn
	closed bool
}

// first is the first address that stands in; the next ones follow it.
var first = netip.MustParseAddr("127.77.0.1")

// ports finds two that are free.
func (b *board) ports(ctx context.Context) error {
	for _, port := range []*uint16{&b.httpPort, &b.tlsPort} {
		var lc net.ListenConfig
		l, err := lc.Listen(ctx, "tcp", netip.AddrPortFrom(first, 0).String())
		if err != nil {
			return err
		}
		*port = l.Addr().(*net.TCPAddr).AddrPort().Port()
		defer func() { _ = l.Close() }()
	}
	return nil
}

func (b *board) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.closed = true
	for _, l := range b.open {
		_ = l.Close()
	}
	for _, c := range b.held {
		_ = c.Close()
	}
}

// standIn is the address of loopback that stands in for one of the estate.
func (b *board) standIn(addr netip.Addr) (netip.Addr, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if at, ok := b.stands[addr]; ok {
		return at, nil
	}
	at := first
	for range b.stands {
		at = at.Next()
	}
	b.stands[addr] = at
	for _, port := range []uint16{80, 443} {
		if err := b.take(addr, at, port); err != nil {
			return at, err
		}
	}
	return at, nil
}

// take takes the connections to a port of an address; where the records refuse them nobody listens.
func (b *board) take(addr, at netip.Addr, port uint16) error {
	came, solved := b.connects(addr, port)
	if came == flow.Refused && !solved {
		return nil
	}
	own := b.httpPort
	if port == 443 {
		own = b.tlsPort
	}
	l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(netip.AddrPortFrom(at, own)))
	if err != nil {
		return err
	}
	b.open = append(b.open, l)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if !b.hold(c) {
				return
			}
			switch {
			case solved && port == 80:
				go b.carry(c, b.HTTP, nil)
			case solved:
				go b.carry(c, b.TLS, nil)
			case came != "": // silent: it is never answered
			case port == 80:
				go b.page(c, addr, "http")
			default:
				go b.handshake(c, addr)
			}
		}
	}()
	return nil
}

func (b *board) hold(c net.Conn) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		_ = c.Close()
		return false
	}
	b.held = append(b.held, c)
	return true
}

// connects says how a connection to an address comes to nobody; "" where somebody takes it. It is solved where nobody is there but whoever asks
// for the certificate, for as long as it asks.
func (b *board) connects(addr netip.Addr, port uint16) (came flow.Outcome, solved bool) {
	for _, p := range b.ways(trace.Target{Text: addr.String(), Addr: addr, Port: port, Proto: netset.TCP}, addr) {
		if !slices.Contains(stops, p.Outcome) || tookIt(&p) {
			continue
		}
		alone := b.Cert.Alone && p.Outcome == flow.Refused && len(p.Breaks) > 0 && p.Breaks[0].Code == "path.no-listener" && slices.Contains(b.Cert.On, p.Breaks[0].At)
		if alone {
			solved = true
			continue
		}
		return p.Outcome, false
	}
	return "", solved
}

// tookIt says whether a listener took the connection, whatever came after.
func tookIt(p *trace.Path) bool {
	return slices.ContainsFunc(p.Steps, func(s flow.Step) bool { return s.Stage == flow.StageSocket && s.Verdict == flow.Pass && !s.Ghost })
}

// ways are those of a target by an address: an authority asks from anywhere, so all of them have to do.
func (b *board) ways(tg trace.Target, addr netip.Addr) []trace.Path {
	ways := b.tracer.TracePort(tg, flow.PortKey{Port: tg.Port, Transport: netset.TCP}, b.internet)
	return slices.DeleteFunc(ways, func(p trace.Path) bool { return p.Addr() != addr })
}

// met is what a request meets, up to where its client would have to ask anew.
type met struct {
	services []string
	place    string       // of the listener that took it
	tls      string       // where its TLS ended
	redirect *estate.Site // that sent the client elsewhere
}

func (b *board) meets(p *trace.Path) met {
	var m met
	for i, s := range p.Steps {
		if s.Ghost || i > 0 && s.Stage == flow.StageResolve && m.redirect != nil {
			break
		}
		switch s.Stage {
		case flow.StageSocket:
			for _, text := range s.Records {
				r, _, err := notation.ParseLine(text)
				if l, is := r.Record.(*estate.Listen); err == nil && is && s.Verdict == flow.Pass {
					m.services = append(m.services, l.Service)
					if m.place == "" {
						m.place = s.At
					}
					if m.tls == "" && l.TLS {
						m.tls = s.At
					}
				}
			}
		case flow.StageSite:
			for _, text := range s.Records {
				if site := b.redirects[text]; site != nil {
					m.redirect = site
				}
			}
		}
	}
	return m
}

// redirectsOf are the sites that send a client elsewhere.
func redirectsOf(e *estate.Estate) map[string]*estate.Site {
	out := map[string]*estate.Site{}
	for _, r := range e.All() {
		if s, is := r.(*estate.Site); is && !s.Redirect.IsZero() {
			out[say.Lines(s)[0]] = s
		}
	}
	return out
}

// page answers one request: by whoever keeps the certificate where it comes to that, by a redirect, or with nothing.
func (b *board) page(c net.Conn, addr netip.Addr, scheme string) {
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(time.Minute))
	r, err := http.ReadRequest(bufio.NewReader(c))
	if err != nil {
		return
	}
	host := r.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	tg := trace.Target{Text: host, Name: host, Port: 80, Proto: netset.TCP, Path: r.URL.Path, Says: serve.SpeaksPlain}
	if scheme == "https" {
		tg.Port, tg.Says = 443, serve.SpeaksTLS
	}
	answer := &http.Response{StatusCode: http.StatusNotFound, ProtoMajor: 1, ProtoMinor: 1, Header: http.Header{}, Request: r, Close: true}
	ways := b.ways(tg, addr)
	solved := len(ways) > 0
	for _, p := range ways {
		m := b.meets(&p)
		switch {
		case b.Cert.Through != "" && slices.Contains(m.services, b.Cert.Through), b.Cert.Alone && slices.Contains(b.Cert.On, m.place), m.redirect == nil && b.Cert.Through == "" && m.place != "":
			continue
		case m.redirect != nil:
			if to := b.location(m.redirect, host, r.URL.Path); to != "" {
				answer.StatusCode = http.StatusMovedPermanently
				answer.Header.Set("Location", to)
			}
		}
		solved = false
	}
	if solved {
		b.relay(c, r)
		return
	}
	_ = answer.Write(c)
}

// location is where a redirect leads, with the ports of the stand-in; "" where an authority does not follow it: to another port than the two, or
// to an address.
func (b *board) location(site *estate.Site, host, path string) string {
	if site.Redirect.HTTPS {
		return fmt.Sprintf("https://%s:%d%s", host, b.tlsPort, path)
	}
	u := site.Redirect.URL
	own, known := map[uint16]uint16{80: b.httpPort, 443: b.tlsPort}[u.EffectivePort()]
	if !known || u.Addr.IsValid() {
		return ""
	}
	to := url.URL{Scheme: "http", Host: fmt.Sprintf("%s:%d", u.Host, own), Path: u.Path}
	if u.Encrypted() {
		to.Scheme = "https"
	}
	if to.Path == "" { // a redirect that names a host alone keeps the path
		to.Path = path
	}
	return to.String()
}

// relay asks whoever keeps the certificate.
func (b *board) relay(c net.Conn, r *http.Request) {
	out, err := net.DialTimeout("tcp", b.HTTP.String(), 10*time.Second)
	if err != nil {
		return
	}
	if !b.hold(out) {
		return
	}
	r.Close = true
	text, err := httputil.DumpRequest(r, true)
	if err == nil {
		b.carryOn(c, out, text)
	}
}

// errElsewhere ends a handshake that was only listened to.
var errElsewhere = errors.New("the handshake is another's")

// handshake reads how a client greets. A challenge goes on to whoever keeps the certificate, where that is where the TLS ends; else a page is
// asked for.
func (b *board) handshake(c net.Conn, addr netip.Addr) {
	_ = c.SetDeadline(time.Now().Add(time.Minute))
	heard := &listening{Conn: c}
	challenge := false
	own, err := ownCertificate()
	if err != nil {
		_ = c.Close()
		return
	}
	server := tls.Server(heard, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{own}, GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		if challenge = slices.Contains(hello.SupportedProtos, "acme-tls/1") && b.endsAt(hello.ServerName, addr); challenge {
			heard.mute = true
			return nil, errElsewhere
		}
		return nil, nil
	}})
	err = server.Handshake()
	switch {
	case challenge:
		b.carry(c, b.TLS, heard.bytes.Bytes())
	case err != nil:
		_ = c.Close()
	default:
		b.page(server, addr, "https")
	}
}

// endsAt says whether the TLS of a name ends where the certificate is kept, or at whoever answers for it.
func (b *board) endsAt(name string, addr netip.Addr) bool {
	ways := b.ways(trace.Target{Text: name, Name: name, Port: 443, Proto: netset.TCP, Says: serve.SpeaksTLS}, addr)
	for _, p := range ways {
		m := b.meets(&p)
		if b.Cert.Through != "" && !slices.Contains(m.services, b.Cert.Through) || b.Cert.Through == "" && !slices.Contains(b.Cert.On, m.tls) {
			return false
		}
	}
	return len(ways) > 0
}

// listening keeps what is read, to give it to another, and can say nothing.
type listening struct {
	net.Conn
	bytes bytes.Buffer
	mute  bool
}

func (l *listening) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	l.bytes.Write(p[:n])
	return n, err
}

func (l *listening) Write(p []byte) (int, error) {
	if l.mute {
		return len(p), nil
	}
	return l.Conn.Write(p)
}

// carry joins a connection to one of loopback, which is told first what was read already.
func (b *board) carry(c net.Conn, to netip.AddrPort, read []byte) {
	out, err := net.DialTimeout("tcp", to.String(), 10*time.Second)
	if err != nil {
		_ = c.Close()
		return
	}
	if b.hold(out) {
		b.carryOn(c, out, read)
	}
}

func (b *board) carryOn(c, out net.Conn, read []byte) {
	defer func() { _ = c.Close() }()
	if _, err := out.Write(read); err != nil {
		return
	}
	go func() { _, _ = io.Copy(out, c); _ = out.Close() }()
	_, _ = io.Copy(c, out)
}
