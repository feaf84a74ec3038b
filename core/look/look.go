// Package look holds what was seen of an estate against what its records say. A look is one observation: a name resolved, a connection made,
// a certificate shown, a page asked for. What may be looked at at all, and from where, is worked out here, before anything is sent.
package look

import (
	"cmp"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"steady-compass/core/codes"
	"steady-compass/core/flow"
)

// Did is what was done.
type Did string

const (
	Resolve Did = "resolve"
	Connect Did = "connect"
	TLS     Did = "tls"
	HTTP    Did = "http"
)

// Dids are all of them, in the order in which one goes on after another.
var Dids = []Did{Resolve, Connect, TLS, HTTP}

// Came is what came of a connection.
type Came string

const (
	Arrived   Came = "arrived"
	Cut       Came = "cut"        // connected, and closed at once without a byte
	Refused   Came = "refused"    // reset, or a port unreachable
	NoRoute   Came = "no-route"   // host or network unreachable, prohibited
	Silent    Came = "silent"     // nothing within the time
	NotLooked Came = "not-looked" // and why
	Answered  Came = "answered"   // a name was
	Failed    Came = "failed"     // a handshake or a request, after it connected
)

// Cames are all of them.
var Cames = []Came{Arrived, Cut, Refused, NoRoute, Silent, NotLooked, Answered, Failed}

// Agreement is how what was seen stands to what was predicted.
type Agreement string

const (
	Agrees     Agreement = "yes"
	Differs    Agreement = "no"
	CannotTell Agreement = "cannot-tell"
)

// Agreements are all of them.
var Agreements = []Agreement{Agrees, Differs, CannotTell}

// Look is one observation. It is never changed afterwards.
type Look struct {
	At       time.Time `json:"at"`
	From     string    `json:"from" doc:"The vantage, by its recorded name"`
	Target   string    `json:"target" doc:"Of a name or an address, with port and transport; of a request, a URL; of a resolution, the name and the type"`
	Did      Did       `json:"did"`
	Came     Came      `json:"came"`
	Why      string    `json:"why,omitempty" doc:"Why nothing was looked at"`
	Seconds  float64   `json:"seconds"`
	Address  string    `json:"address,omitempty" doc:"The address that was contacted"`
	Follows  string    `json:"follows,omitempty" doc:"The own name that gave the address, which changes by itself"`
	Source   string    `json:"source,omitempty" doc:"The address that it was made from"`
	Detail   string    `json:"detail,omitempty" doc:"The system's own error"`
	Revision int64     `json:"revision,omitempty" doc:"Of the records, at that time"`

	Answers []string `json:"answers,omitempty" doc:"Of a resolution"`
	Code    string   `json:"code,omitempty" doc:"The DNS response code's mnemonic"`
	TTL     *uint32  `json:"ttl,omitempty" doc:"The least of the answers, in seconds"`

	Names    []string `json:"names,omitempty" doc:"That the certificate is for"`
	Issuer   string   `json:"issuer,omitempty"`
	Expires  string   `json:"expires,omitempty" doc:"The certificate's last day"`
	Begins   string   `json:"begins,omitempty" doc:"Its first"`
	Covers   *bool    `json:"covers,omitempty" doc:"It is for the name that was asked"`
	Trusted  *bool    `json:"trusted,omitempty" doc:"Its chain ends at a root that is trusted there"`
	Protocol string   `json:"protocol,omitempty"`
	Cipher   string   `json:"cipher,omitempty"`

	Status   int    `json:"status,omitempty"`
	Location string `json:"location,omitempty" doc:"Where a redirect leads"`
	Marked   *bool  `json:"marked,omitempty" doc:"Whether the mark asked for was in the body"`

	Predicted flow.Outcome `json:"predicted,omitempty"`
	Agrees    Agreement    `json:"agrees,omitempty"`
	Says      string       `json:"says,omitempty" doc:"Both values in a sentence, where they differ"`
	Finding   string       `json:"finding,omitempty" doc:"The code of the finding that it makes"`
	Level     codes.Level  `json:"level,omitempty" doc:"Of that finding"`
}

// Unjudged is the look without what it is held to be.
func (l Look) Unjudged() Look {
	l.Predicted, l.Agrees, l.Says, l.Finding, l.Level = "", "", "", "", ""
	return l
}

// Aim is the name or address that was looked at, and the port; 0 of a resolution.
func (l *Look) Aim() (name string, port uint16) {
	if l.Did == Resolve {
		name, _, _ = strings.Cut(l.Target, " ")
		return name, 0
	}
	target := strings.TrimSuffix(l.Target, "/udp")
	if u, err := url.Parse(target); err == nil && u.Host != "" {
		text := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
		_, _ = fmt.Sscan(text, &port)
		return u.Hostname(), port
	}
	host, text, err := net.SplitHostPort(target)
	if err != nil {
		return target, 0
	}
	_, _ = fmt.Sscan(text, &port)
	return host, port
}
