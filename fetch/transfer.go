// Package fetch reads from running systems what intake turns into records: so far a zone from its name server.
package fetch

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Key signs what is sent to a name server and checks what comes back (TSIG, RFC 8945).
type Key struct {
	Name      string
	Algorithm string // as hmac-sha256
	Secret    string // base64
}

// ParseKey reads a key as name:algorithm:secret; the algorithm may be left out and is hmac-sha256 then.
func ParseKey(text string) (Key, error) {
	parts := strings.Split(text, ":")
	k := Key{Name: parts[0], Algorithm: "hmac-sha256"}
	switch len(parts) {
	case 2:
		k.Secret = parts[1]
	case 3:
		k.Algorithm, k.Secret = strings.ToLower(parts[1]), parts[2]
	}
	algorithms := []string{"hmac-sha1", "hmac-sha224", "hmac-sha256", "hmac-sha384", "hmac-sha512"}
	known := false
	for _, a := range algorithms {
		known = known || a == k.Algorithm
	}
	_, badSecret := base64.StdEncoding.DecodeString(k.Secret)
	_, validName := dns.IsDomainName(k.Name)
	switch {
	case k.Name == "" || !validName || k.Secret == "":
		return k, errors.New("a key is its name, its algorithm and its secret: expected NAME:ALGORITHM:SECRET")
	case !known:
		return k, fmt.Errorf("%q is no algorithm of a key: expected one of %s", k.Algorithm, strings.Join(algorithms, ", "))
	case badSecret != nil:
		return k, errors.New("the key's secret is not base64 (RFC 4648 §4)")
	}
	return k, nil
}

// bounds are what a transfer may bring, and how long it may take in all.
type bounds struct {
	records int
	bytes   int64
	time    time.Duration
}

var usual = bounds{200_000, 64 << 20, 5 * time.Minute}

// Transfer asks a server for a whole zone (AXFR, RFC 5936). server is an address with a port or without; key may be
// nil. The SOA that closes a transfer is not given twice.
func Transfer(ctx context.Context, zone, server string, key *Key) ([]dns.RR, error) {
	return usual.transfer(ctx, zone, server, key)
}

func (most bounds) transfer(ctx context.Context, zone, server string, key *Key) ([]dns.RR, error) {
	if _, _, err := net.SplitHostPort(server); err != nil {
		server = net.JoinHostPort(strings.Trim(server, "[]"), "53")
	}
	m := new(dns.Msg).SetAxfr(dns.Fqdn(zone))
	t := &dns.Transfer{DialTimeout: 5 * time.Second, ReadTimeout: 20 * time.Second, WriteTimeout: 5 * time.Second}
	if key != nil {
		name := dns.CanonicalName(key.Name)
		t.TsigSecret = map[string]string{name: key.Secret}
		m.SetTsig(name, dns.Fqdn(key.Algorithm), 300, time.Now().Unix())
	}
	conn, err := (&net.Dialer{Timeout: t.DialTimeout}).DialContext(ctx, "tcp", server)
	if err != nil {
		return nil, fmt.Errorf("%s does not answer: %w", server, err)
	}
	defer func() { _ = conn.Close() }()
	ctx, cancel := context.WithTimeoutCause(ctx, most.time, fmt.Errorf("%s: the transfer takes longer than %s", server, most.time))
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	counted := &counted{Conn: conn, left: most.bytes}
	t.Conn = &dns.Conn{Conn: counted, TsigSecret: t.TsigSecret}
	parts, err := t.In(m, server)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", server, err)
	}
	var out []dns.RR
	var failed error
	for part := range parts { // to its end, so that the transfer's own routine ends too
		switch {
		case failed != nil:
		case part.Error != nil:
			failed = explain(part.Error, zone, server)
		case len(out)+len(part.RR) > most.records:
			failed = fmt.Errorf("%s: the zone has more than %d records", server, most.records)
			_ = conn.Close()
		default:
			out = append(out, part.RR...)
		}
	}
	switch {
	case failed != nil && ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case failed != nil && counted.left < 0:
		return nil, fmt.Errorf("%s: the zone is larger than %d MB", server, most.bytes>>20)
	case failed != nil:
		return nil, failed
	case len(out) < 2:
		return nil, fmt.Errorf("%s sent no zone %s", server, zone)
	}
	return out[:len(out)-1], nil
}

func explain(err error, zone, server string) error {
	switch {
	case errors.Is(err, dns.ErrAuth), errors.Is(err, dns.ErrSig), errors.Is(err, dns.ErrSecret), errors.Is(err, dns.ErrKeyAlg), errors.Is(err, dns.ErrTime):
		return fmt.Errorf("%s: what it sent is not signed with this key: %w", server, err)
	case strings.Contains(err.Error(), "bad xfr rcode"):
		return fmt.Errorf("%s gives no transfer of %s (%w): expected a server of that zone that allows it from here, or with another key", server, zone, err)
	}
	return fmt.Errorf("%s: %w", server, err)
}

// counted is a connection that ends after a number of bytes.
type counted struct {
	net.Conn
	left int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if c.left -= int64(n); c.left < 0 {
		return n, errors.New("more than expected")
	}
	return n, err
}
