// Package authority is a stand-in for a certificate authority (RFC 8555): a ready test authority on loopback, whose names are answered by the
// records as the internet sees them, and whose challenges meet what the records say becomes of them. Whoever asks it for a certificate stands
// where one certificate of the estate is kept. It looks at nothing outside loopback.
package authority

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"time"

	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/trace"
)

// Options say for whom the authority stands in.
type Options struct {
	Cert *estate.Cert   // that whoever asks keeps: where it stands and how it answers
	HTTP netip.AddrPort // where it answers challenges over http (RFC 8555 §8.3)
	TLS  netip.AddrPort // and in a TLS handshake (RFC 8737)
	Turn int            // which of several addresses of a name is given, of those of the family that is tried
	IPv4 bool           // no IPv6 address is given: what is tried where IPv6 connects to nobody
	Log  io.Writer      // what the authority says of itself; nil for nothing
}

// Authority is the stand-in, answering.
type Authority struct {
	Directory string         // the URL of its directory (RFC 8555 §7.1.1)
	Names     netip.AddrPort // its name server, over TCP, which takes updates of TXT records (RFC 2136) for challenges by dns-01
	Root      *x509.Certificate

	board  *board
	closed []io.Closer
}

// Close ends it.
func (a *Authority) Close() error {
	var all []error
	for _, c := range a.closed {
		if err := c.Close(); !errors.Is(err, net.ErrClosed) && !errors.Is(err, http.ErrServerClosed) {
			all = append(all, err)
		}
	}
	a.board.close()
	return errors.Join(all...)
}

// hurry has the authority look at once, and take every nonce: it reads both from its environment when it is made.
func hurry() error {
	return errors.Join(os.Setenv("PEBBLE_VA_NOSLEEP", "1"), os.Setenv("PEBBLE_WFE_NONCEREJECT", "0"), os.Setenv("PEBBLE_AUTHZREUSE", "0"))
}

// Start starts a stand-in on an address of loopback. It judges nothing itself: what becomes of a connection or a request is told by its trace.
func Start(ctx context.Context, t *trace.Tracer, listen string, o Options) (*Authority, error) {
	if at, err := netip.ParseAddrPort(listen); err != nil || !at.Addr().IsLoopback() {
		return nil, fmt.Errorf("%q; expected an address of loopback with a port, as 127.0.0.1:7375", listen)
	}
	internet, err := t.VantageNamed("internet")
	if err != nil {
		return nil, err
	}
	if err := hurry(); err != nil {
		return nil, err
	}
	out := o.Log
	if out == nil {
		out = io.Discard
	}
	a := &Authority{board: &board{Options: o, model: t.Model, tracer: t, internet: internet, stands: map[netip.Addr]netip.Addr{}, redirects: redirectsOf(t.Model.Estate)}}
	if err := a.board.ports(ctx); err != nil {
		return nil, err
	}
	resolver, err := a.resolve(ctx)
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	logger := log.New(out, "", log.LstdFlags)
	store := db.NewMemoryStore()
	issuer := ca.New(logger, store, "", "ecdsa", 0, 1, map[string]ca.Profile{"default": {ValidityPeriod: 7776000}})
	looker := va.New(logger, int(a.board.httpPort), int(a.board.tlsPort), false, resolver.String(), store)
	front := wfe.New(logger, store, looker, issuer, nil, false, false, 1, 1)
	a.Root = issuer.GetRootCert(0).Cert

	own, err := ownCertificate()
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	var lc net.ListenConfig
	listener, err := lc.Listen(ctx, "tcp", listen)
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	srv := &http.Server{Handler: front.Handler(), ReadHeaderTimeout: 10 * time.Second, TLSConfig: &tls.Config{Certificates: []tls.Certificate{own}, MinVersion: tls.VersionTLS12}, ErrorLog: log.New(io.Discard, "", 0)}
	go func() { _ = srv.ServeTLS(listener, "", "") }()
	a.closed = append(a.closed, srv)
	a.Directory = "https://" + listener.Addr().String() + wfe.DirectoryPath
	a.Names = resolver
	return a, nil
}

// ownCertificate is one for loopback, made anew each time.
func ownCertificate() (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	c := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "stand-in authority"}, DNSNames: []string{"localhost"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

// stops are the outcomes by which a flow connects to nobody.
var stops = []flow.Outcome{flow.Refused, flow.Silent, flow.LostReply, flow.Unroutable}
