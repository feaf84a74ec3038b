package fetch

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/miekg/dns"

	"steady-compass/core/look"
	"steady-compass/intake"
)

// LookOptions say how looks are made.
type LookOptions struct {
	Rate     int            // new contacts a second; 0: look.Rate
	Within   time.Duration  // how long each is waited for; 0: look.Within
	Resolver netip.Addr     // whom names are asked of; not valid: the system's first
	Roots    *x509.CertPool // what is trusted; nil: the system's
	From     string         // the vantage that is noted
	Self     look.Self
	Certain  bool     // private addresses mean here what the records say
	Revision int64    // of the records, that is noted
	Recorded []string // ranges and addresses that are recorded: no address that changes by itself is one of them
	// Dial connects; nil: the system's. Nothing is sent but by it.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// How much is read of what comes.
const (
	mostHeader   = 64 << 10
	mostBody     = 64 << 10
	cutWithin    = 500 * time.Millisecond
	silentsInRow = 3
)

// Looks makes contacts and gives what was seen, as it comes: at most so many new ones a second, few at one address, none that is not allowed
// whatever the contact says. It sends what each contact says and nothing else: it resolves no second time, uses no proxy, follows no redirect,
// and sends no cookie and no credential. It ends with the context; what was not looked at by then is not given.
func Looks(ctx context.Context, contacts []look.Contact, o LookOptions, found func(look.Look)) error {
	if o.Dial == nil {
		o.Dial = (&net.Dialer{}).DialContext
	}
	o.Rate = cmp.Or(o.Rate, look.Rate)
	o.Within = cmp.Or(o.Within, time.Duration(look.Within*float64(time.Second)))
	if !o.Resolver.IsValid() {
		o.Resolver = systemResolver()
	}
	if o.Roots == nil {
		o.Roots, _ = x509.SystemCertPool()
	}
	x := &looking{LookOptions: o, found: found, queues: map[string][]look.Contact{}, open: map[string]int{}, answered: map[string]bool{}, silent: map[string]int{}}
	for _, c := range contacts {
		if c.Follows != "" {
			if !x.placed(ctx, &c) {
				continue
			}
		}
		if _, known := x.queues[c.Address]; !known {
			x.order = append(x.order, c.Address)
		}
		x.queues[c.Address] = append(x.queues[c.Address], c)
	}
	return x.run(ctx)
}

type looking struct {
	LookOptions
	found func(look.Look)

	now map[string]whereabouts // the addresses that names follow, once asked

	mu       sync.Mutex
	queues   map[string][]look.Contact // by address, "" for names
	order    []string
	open     map[string]int
	all      int
	answered map[string]bool
	silent   map[string]int // how often in a row
}

func (x *looking) run(ctx context.Context) error {
	ticks := time.NewTicker(time.Second / time.Duration(x.Rate))
	defer ticks.Stop()
	var running sync.WaitGroup
	defer running.Wait()
	for {
		c, left := x.next()
		if !left {
			return nil
		}
		if c != nil {
			running.Go(func() { x.contact(ctx, *c) })
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-ticks.C:
		}
	}
}

// next is the next contact that may be opened now; nil where each address has as many open as it may, and left false where none is left.
func (x *looking) next() (c *look.Contact, left bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for i, address := range x.order {
		queue := x.queues[address]
		if len(queue) == 0 {
			continue
		}
		left = true
		if x.open[address] >= look.OpenAtOne && address != "" || x.all >= look.OpenInAll {
			continue
		}
		c = &queue[0]
		x.queues[address] = queue[1:]
		x.open[address]++
		x.all++
		x.order = append(slices.Delete(x.order, i, i+1), address) // the others first
		return c, true
	}
	return nil, left
}

// contact makes one contact, and gives what was seen of each of its layers.
func (x *looking) contact(ctx context.Context, c look.Contact) {
	defer func() {
		x.mu.Lock()
		x.open[c.Address]--
		x.all--
		x.mu.Unlock()
	}()
	l := look.Look{At: time.Now().UTC(), From: x.From, Target: c.Target, Did: c.Did, Address: c.Address, Follows: c.Follows, Revision: x.Revision}
	if c.Did == look.Resolve {
		x.resolve(ctx, c, &l)
		x.give(ctx, l)
		return
	}
	l.Did, l.Target = look.Connect, endpoint(c)
	a, err := netip.ParseAddr(c.Address)
	if err != nil {
		l.Came, l.Why = look.NotLooked, "it is no address"
		x.give(ctx, l)
		return
	}
	if why := look.Bounded(a, x.Self, x.Certain); why != "" {
		l.Came, l.Why = look.NotLooked, why
		x.give(ctx, l)
		return
	}
	if x.isLeftAlone(c.Address) {
		l.Came, l.Why = look.NotLooked, "it answered, and then fell silent three times running: it is left alone"
		x.give(ctx, l)
		return
	}
	ctx, stop := context.WithTimeout(ctx, x.Within)
	defer stop()
	begun := time.Now()
	conn, err := x.Dial(ctx, c.Transport, netip.AddrPortFrom(a, c.Port).String())
	l.Seconds = time.Since(begun).Seconds()
	if err != nil {
		l.Came, l.Detail = cameOf(err), detailOf(err)
		x.note(c.Address, l.Came)
		x.give(ctx, l)
		return
	}
	defer func() { _ = conn.Close() }()
	deadline, _ := ctx.Deadline()
	_ = conn.SetDeadline(deadline)
	if local, ok := conn.LocalAddr().(interface{ AddrPort() netip.AddrPort }); ok {
		l.Source = local.AddrPort().Addr().Unmap().String()
	}
	if c.Transport == "udp" {
		x.question(c, conn, &l, begun)
		x.note(c.Address, l.Came)
		x.give(ctx, l)
		return
	}
	l.Came = look.Arrived
	if c.Did == look.Connect {
		l.Came = stays(conn)
	}
	x.note(c.Address, l.Came)
	x.give(ctx, l)
	if c.Did == look.Connect {
		return
	}
	next := l
	next.At, next.Detail = time.Now().UTC(), ""
	if c.TLS {
		next.Did = look.TLS
		secure, ok := x.greet(ctx, conn, c, &next)
		x.give(ctx, next)
		if !ok || c.Did == look.TLS {
			return
		}
		conn = secure
	}
	page := l
	page.At, page.Did, page.Target, page.Detail = time.Now().UTC(), look.HTTP, c.Target, ""
	method := http.MethodHead
	if c.Mark != "" {
		method = http.MethodGet
	}
	x.ask(conn, c, method, &page)
	if method == http.MethodHead && (page.Status == http.StatusMethodNotAllowed || page.Status == http.StatusNotImplemented) {
		_ = conn.Close() // at one address few are open at once
		x.askWhole(ctx, netip.AddrPortFrom(a, c.Port), c, &page)
	}
	x.give(ctx, page)
}

// askWhole asks once more, for the page itself, where its head is not to be had alone; what comes of that takes the place of the answer before.
func (x *looking) askWhole(ctx context.Context, to netip.AddrPort, c look.Contact, page *look.Look) {
	conn, err := x.Dial(ctx, c.Transport, to.String())
	if err != nil {
		return
	}
	defer func() { _ = conn.Close() }()
	deadline, _ := ctx.Deadline()
	_ = conn.SetDeadline(deadline)
	if c.TLS {
		handshake := *page
		secure, ok := x.greet(ctx, conn, c, &handshake)
		if !ok {
			return
		}
		conn = secure
	}
	x.ask(conn, c, http.MethodGet, page)
}

// give gives a look on, if it was made before all was stopped.
func (x *looking) give(ctx context.Context, l look.Look) {
	if errors.Is(ctx.Err(), context.Canceled) {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.found(l)
}

func endpoint(c look.Contact) string {
	host := cmp.Or(c.Name, c.Address)
	text := net.JoinHostPort(host, fmt.Sprint(c.Port))
	if c.Transport == "udp" {
		text += "/udp"
	}
	return text
}

func (x *looking) isLeftAlone(address string) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.answered[address] && x.silent[address] >= silentsInRow
}

func (x *looking) note(address string, came look.Came) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if came == look.Silent {
		x.silent[address]++
		return
	}
	x.silent[address], x.answered[address] = 0, true
}

// cameOf is what an error of connecting says.
func cameOf(err error) look.Came {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET):
		return look.Refused
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM), errors.Is(err, syscall.EADDRNOTAVAIL):
		return look.NoRoute
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		return look.Silent
	}
	return look.NoRoute
}

// detailOf is the system's own error, without the addresses before it.
func detailOf(err error) string {
	var number syscall.Errno
	if errors.As(err, &number) {
		return number.Error()
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		return "nothing came in time"
	}
	return intake.Shown(err.Error())
}

// stays says whether a connection stands: one that is closed at once, without a byte, is cut.
func stays(conn net.Conn) look.Came {
	_ = conn.SetReadDeadline(time.Now().Add(cutWithin))
	var one [1]byte
	n, err := conn.Read(one[:])
	if n == 0 && err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		return look.Cut
	}
	return look.Arrived
}

// question asks what is harmless over udp: the root's name servers of a name server, the time of a clock (RFC 5905 §7.3).
func (x *looking) question(c look.Contact, conn net.Conn, l *look.Look, begun time.Time) {
	var ask []byte
	switch c.Port {
	case 53:
		m := new(dns.Msg)
		m.SetQuestion(".", dns.TypeNS)
		m.RecursionDesired = false
		ask, _ = m.Pack()
	case 123:
		ask = make([]byte, 48)
		ask[0] = 4<<3 | 3 // version 4, a client
	default:
		l.Came, l.Why = look.NotLooked, "over udp only name servers and clocks have a harmless question to answer"
		return
	}
	_, err := conn.Write(ask)
	if err == nil {
		var reply [4096]byte
		_, err = conn.Read(reply[:])
	}
	l.Seconds = time.Since(begun).Seconds()
	l.Came = look.Arrived
	if err != nil {
		l.Came, l.Detail = cameOf(err), detailOf(err)
	}
}

// greet goes through a TLS handshake, and notes the certificate that is shown. It is taken whatever it is: whether it is good is said, not acted on.
func (x *looking) greet(ctx context.Context, conn net.Conn, c look.Contact, l *look.Look) (net.Conn, bool) {
	begun := time.Now()
	secure := tls.Client(conn, &tls.Config{ServerName: c.Name, InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}, MinVersion: tls.VersionTLS10})
	err := secure.HandshakeContext(ctx)
	l.Seconds = time.Since(begun).Seconds()
	if err != nil {
		l.Came, l.Detail = look.Failed, detailOf(err)
		return nil, false
	}
	s := secure.ConnectionState()
	l.Came, l.Protocol, l.Cipher = look.Arrived, tls.VersionName(s.Version), tls.CipherSuiteName(s.CipherSuite)
	if len(s.PeerCertificates) == 0 {
		return secure, true
	}
	x.certificate(s.PeerCertificates, c, l)
	return secure, true
}

func (x *looking) certificate(chain []*x509.Certificate, c look.Contact, l *look.Look) {
	leaf := chain[0]
	for _, name := range leaf.DNSNames {
		l.Names = append(l.Names, intake.Shown(name))
	}
	for _, a := range leaf.IPAddresses {
		l.Names = append(l.Names, a.String())
	}
	l.Names = l.Names[:min(len(l.Names), 100)]
	l.Issuer = intake.Shown(cmp.Or(leaf.Issuer.CommonName, strings.Join(leaf.Issuer.Organization, ", ")))
	l.Begins, l.Expires = leaf.NotBefore.UTC().Format(time.DateOnly), leaf.NotAfter.UTC().Format(time.DateOnly)
	if c.Name != "" {
		covers := leaf.VerifyHostname(c.Name) == nil
		l.Covers = &covers
	}
	if x.Roots == nil || x.Roots.Equal(x509.NewCertPool()) {
		return // nothing to judge it by
	}
	between := x509.NewCertPool()
	for _, other := range chain[1:] {
		between.AddCert(other)
	}
	// Its dates are judged apart.
	_, err := leaf.Verify(x509.VerifyOptions{Roots: x.Roots, Intermediates: between, CurrentTime: leaf.NotBefore.Add(leaf.NotAfter.Sub(leaf.NotBefore) / 2), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	trusted := err == nil
	l.Trusted = &trusted
}

// ask sends one request, and reads what stands at the head of its answer; of the body only where a mark is looked for in it.
func (x *looking) ask(conn net.Conn, c look.Contact, method string, l *look.Look) {
	begun := time.Now()
	u, err := url.Parse(c.Target)
	if err != nil {
		l.Came, l.Detail = look.NotLooked, "it is no URL"
		return
	}
	request := &http.Request{
		Method: method, URL: &url.URL{Path: u.Path}, Host: u.Host, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: http.Header{"User-Agent": {"steady-compass look"}, "Connection": {"close"}},
	}
	if err := request.Write(conn); err != nil {
		l.Came, l.Detail = look.Failed, detailOf(err)
		return
	}
	response, err := http.ReadResponse(bufio.NewReader(io.LimitReader(conn, mostHeader+mostBody)), request)
	l.Seconds = time.Since(begun).Seconds()
	if err != nil {
		l.Came, l.Detail = look.Failed, detailOf(err)
		return
	}
	defer func() { _ = response.Body.Close() }()
	l.Came, l.Status, l.Location = look.Arrived, response.StatusCode, intake.Shown(response.Header.Get("Location"))
	if c.Mark != "" {
		body, _ := io.ReadAll(io.LimitReader(response.Body, mostBody))
		marked := strings.Contains(string(body), c.Mark)
		l.Marked = &marked
	}
}

// systemResolver is the first name server that the system asks.
func systemResolver() netip.Addr {
	config, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil || len(config.Servers) == 0 {
		return netip.Addr{}
	}
	a, _ := netip.ParseAddr(config.Servers[0])
	return a
}

// resolve asks for a name.
func (x *looking) resolve(ctx context.Context, c look.Contact, l *look.Look) {
	if !x.Resolver.IsValid() {
		l.Came, l.Why = look.NotLooked, "the system has no resolver; say one with --resolver"
		return
	}
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(c.Name), dns.StringToType[c.Type])
	ctx, stop := context.WithTimeout(ctx, x.Within)
	defer stop()
	begun := time.Now()
	r, err := x.exchange(ctx, "udp", m)
	if err == nil && r.Truncated {
		r, err = x.exchange(ctx, "tcp", m)
	}
	l.Seconds, l.Address = time.Since(begun).Seconds(), x.Resolver.String()
	if err != nil {
		l.Came, l.Detail = cameOf(err), detailOf(err)
		return
	}
	l.Came, l.Code = look.Answered, dns.RcodeToString[r.Rcode]
	for _, rr := range r.Answer {
		value := ""
		switch rr := rr.(type) {
		case *dns.A:
			value = rr.A.String()
		case *dns.AAAA:
			value = rr.AAAA.String()
		}
		ttl := rr.Header().Ttl
		if l.TTL == nil || ttl < *l.TTL {
			l.TTL = &ttl
		}
		if value != "" && rr.Header().Rrtype == dns.StringToType[c.Type] {
			l.Answers = append(l.Answers, value)
		}
	}
}

func (x *looking) exchange(ctx context.Context, network string, m *dns.Msg) (*dns.Msg, error) {
	return x.exchangeWith(ctx, x.Resolver, network, m)
}

func (x *looking) exchangeWith(ctx context.Context, server netip.Addr, network string, m *dns.Msg) (*dns.Msg, error) {
	conn, err := x.Dial(ctx, network, netip.AddrPortFrom(server, 53).String())
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	deadline, _ := ctx.Deadline()
	_ = conn.SetDeadline(deadline)
	wire := &dns.Conn{Conn: conn, UDPSize: 1232}
	if err := wire.WriteMsg(m); err != nil {
		return nil, err
	}
	for {
		r, err := wire.ReadMsg()
		if err != nil {
			return nil, err
		}
		if r.Id == m.Id {
			return r, nil
		}
	}
}

// Myself is this machine as it knows itself.
func Myself() (look.Self, error) {
	name, err := os.Hostname()
	if err != nil {
		return look.Self{}, fmt.Errorf("the machine's name cannot be read: %w", err)
	}
	all, err := net.InterfaceAddrs()
	if err != nil {
		return look.Self{}, fmt.Errorf("the machine's addresses cannot be read: %w", err)
	}
	s := look.Self{Hostname: name}
	for _, a := range all {
		n, ok := a.(*net.IPNet)
		if !ok {
			continue
		}
		addr, ok := netip.AddrFromSlice(n.IP)
		if ones, _ := n.Mask.Size(); ok && !addr.IsLoopback() && !addr.Unmap().IsLinkLocalUnicast() {
			s.Prefixes = append(s.Prefixes, netip.PrefixFrom(addr.Unmap(), ones))
		}
	}
	return s, nil
}
