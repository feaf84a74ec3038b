package findings

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// RenewBefore is how long before its end a certificate is renewed where nothing is written.
const RenewBefore = 30 * 24 * time.Hour

// certificates looks at the certificates by themselves: how long each is good for, and whether its method can be.
func (c *check) certificates() {
	for _, cert := range c.m.CertList {
		c.lasting(cert, true)
		c.method(cert)
		c.standingAlone(cert)
	}
}

// lasting says what has ended, and what will within the time in which it is renewed: a note, while more than half of that is left and
// something renews it. works is false where it is known that its renewal does not.
func (c *check) lasting(cert *estate.Cert, works bool) {
	if cert.Expires == "" || c.day == "" {
		return
	}
	f := Finding{Code: "cert.expired", Subject: cert.Name, Records: lines(cert)}
	if cert.Expires < c.day { // it is valid through the day named
		f.Why = fmt.Sprintf("Certificate %s, for %s, expired on %s.", cert.Name, joined(cert.For), cert.Expires)
		if works { // once is enough
			c.add(f)
		}
		return
	}
	before := RenewBefore
	if cert.Renew != estate.NotGiven {
		before = time.Duration(cert.Renew) * time.Second
	}
	left := cert.Expires.Time().Sub(c.day.Time())
	if left > before {
		return
	}
	days := int(left / (24 * time.Hour))
	f.Code, f.Level = "cert.expiring", Warning
	f.Why = fmt.Sprintf("Certificate %s, for %s, ends on %s, in %s", cert.Name, joined(cert.For), cert.Expires, daysWord(days))
	switch {
	case cert.By == "hand":
		f.Why += "; it is renewed by hand."
	case cert.By == "":
		f.Why += "; nothing recorded renews it."
	case !works:
		f.Why += fmt.Sprintf("; it is due to be renewed by %s, and that does not work.", cert.By)
	case left < before/2:
		f.Why += fmt.Sprintf("; it should have been renewed by %s by now.", cert.By)
	default:
		f.Why += fmt.Sprintf("; it is due to be renewed, by %s.", cert.By)
		f.Level = Note
	}
	c.add(f)
}

func daysWord(n int) string {
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}

// method is what a certificate's method cannot do (RFC 8555 §8.3, §8.4; RFC 8738 §7).
func (c *check) method(cert *estate.Cert) {
	for _, name := range cert.For {
		_, err := netip.ParseAddr(name)
		why := ""
		switch {
		case strings.HasPrefix(name, "*.") && (cert.By == "http-01" || cert.By == "tls-alpn-01"):
			why = fmt.Sprintf("%s is a wildcard, which %s cannot prove; dns-01 can.", name, cert.By)
		case err == nil && cert.By == "dns-01":
			why = fmt.Sprintf("%s is an address, which dns-01 cannot prove; http-01 and tls-alpn-01 can.", name)
		}
		if why != "" {
			c.add(Finding{Code: "cert.method", Subject: cert.Name, Records: lines(cert), Why: why})
			return
		}
	}
}

// standingAlone is a program that wants a port for itself, to prove a name, while a listener holds it.
func (c *check) standingAlone(cert *estate.Cert) {
	port, needs := model.ChallengePort(cert.By)
	if !cert.Alone || !needs {
		return
	}
	for _, on := range cert.On {
		p := c.m.PlaceNamed(on)
		if p == nil {
			continue
		}
		if s := holding(c.m.Places[p.Namespace], port); s != nil {
			c.add(Finding{
				Code: "cert.clash", Subject: cert.Name, Records: lines(cert, s.Record),
				Why: fmt.Sprintf("To prove %s by %s a program of its own wants port %d of %s, which %s holds.", joined(cert.For), cert.By, port, on, s.Record.Service),
			})
			return
		}
	}
}

// holding is the listener that holds a port of a namespace for others than itself; nil where none does.
func holding(namespace *model.Place, port uint16) *model.Socket {
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
		if s.Record.Bind.Transport&netset.TCP != 0 && s.Ports.Contains(port) && !s.Record.Bind.Addr.IsLoopback() {
			return s
		}
	}
	return nil
}
