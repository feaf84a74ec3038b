package server

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/labstack/echo/v5"

	"steady-compass/people"
	"steady-compass/store"
)

// Access is how people get to the program, and in.
type Access struct {
	Alone     bool           // nobody signs in: whoever reaches it may do everything
	Origin    *url.URL       // what browsers ask for; nil where it is on loopback
	Fronts    []netip.Prefix // the only ones that may connect, where a front stands before it: they say who asks, and speak TLS
	Port      int            // where it listens: on loopback, cookies do not tell ports apart, so that their names do (RFC 6265 §8.5)
	Elsewhere *Elsewhere     // where else people may sign in; nil where they cannot
	FirstCode string         // the one-time code by which the first account is made; empty where there are accounts
}

// secure says whether browsers reach it over TLS alone.
func (a *Access) secure() bool { return a.Origin != nil && a.Origin.Scheme == "https" }

const (
	sessionLife = 7 * 24 * time.Hour
	// sessionCookie is a browser's; the prefix has it bound to one host over TLS (RFC 6265bis §4.1.3.2).
	sessionCookie = "__Host-steady-compass"
)

// newSessions keeps who signed in: by a cookie that scripts cannot read, of which the database has a digest.
func newSessions(db *store.Store, access *Access) *scs.SessionManager {
	m := scs.New()
	m.Lifetime = sessionLife
	m.HashTokenInStore = true
	m.Cookie.Name = "steady-compass-" + strconv.Itoa(access.Port)
	m.Cookie.Persist = true
	m.Cookie.SameSite = http.SameSiteLaxMode // whoever comes back from a sign-in elsewhere comes from another site
	if access.secure() {
		m.Cookie.Name, m.Cookie.Secure = sessionCookie, true
	}
	if db.ReadOnly() == nil { // else they are in memory, and end with the program
		m.Store = store.Sessions{Store: db}
	}
	m.ErrorFunc = func(w http.ResponseWriter, _ *http.Request, _ error) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = w.Write([]byte(`{"title":"Sessions cannot be read","status":503,"detail":"the database does not answer; nothing was changed"}`))
	}
	return m
}

// Who tries to get in is told apart by account and address, by address, and by account.
type tries struct{ both, address, account *people.Tries }

func newTries() tries {
	return tries{people.NewTries(5, time.Minute), people.NewTries(30, 10*time.Second), people.NewTries(60, time.Minute)}
}

// take takes a try of somebody, and says how long to wait where none is left.
func (t *tries) take(name, address string, now time.Time) time.Duration {
	name, address = strings.ToLower(name), nearby(address)
	return max(t.both.Take(name+"\x00"+address, now), t.address.Take(address, now), t.account.Take(name, now))
}

// done forgets the tries of who got in.
func (t *tries) done(name, address string, now time.Time) {
	name, address = strings.ToLower(name), nearby(address)
	t.both.Done(name + "\x00" + address)
	t.address.Back(address, now)
	t.account.Back(name, now)
}

// ownOriginOnly refuses requests that another site's page made the browser send, those for a host name that is not this program's
// (a rebound name), and those that come around the front that it stands behind.
func (s *Server) ownOriginOnly(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if p := s.aroundFront(r); p != nil {
			return problemJSON(c, p.Status, p.Title, p.Detail)
		}
		if !s.ownHost(r.Host) {
			return problemJSON(c, http.StatusMisdirectedRequest, "This host is not served here", "expected the address that the program printed, as "+s.addressLike()+"; got "+clip(r.Host))
		}
		if origin := r.Header.Get("Origin"); origin != "" {
			u, err := url.Parse(origin)
			if err != nil || u.Host != r.Host || s.access.secure() && u.Scheme != "https" {
				return problemJSON(c, http.StatusForbidden, "This origin is not served here", "expected a request from this interface itself; got one from "+clip(origin))
			}
		}
		site := r.Header.Get("Sec-Fetch-Site")
		if site != "" && site != "same-origin" && site != "none" && strings.HasPrefix(r.URL.Path, "/api/") {
			return problemJSON(c, http.StatusForbidden, "This origin is not served here", "expected a request from this interface itself")
		}
		if p := s.unsaid(r, site); p != nil {
			return problemJSON(c, p.Status, p.Title, p.Detail)
		}
		return next(c)
	}
}

// unsaid refuses what changes something with a cookie and does not say which page it comes from: a browser says it (Fetch Metadata §2.3),
// and what is none has a token.
func (s *Server) unsaid(r *http.Request, site string) *Problem {
	if s.access.Alone || slices.Contains([]string{http.MethodGet, http.MethodHead}, r.Method) || r.Header.Get("Origin") != "" || site != "" {
		return nil
	}
	if strings.HasPrefix(r.Header.Get("Authorization"), "Bearer ") {
		return nil
	}
	return &Problem{Title: "This request does not say where it comes from", Status: http.StatusForbidden, Detail: "expected an Origin, as browsers send it, or a token in place of a session"}
}

// aroundFront refuses what does not come by the front that is named, or not over TLS to it; and what comes by any where nobody signs in.
func (s *Server) aroundFront(r *http.Request) *Problem {
	if s.access.Alone && slices.ContainsFunc([]string{"X-Forwarded-For", "Forwarded", "X-Forwarded-Host", "Via"}, func(h string) bool { return r.Header.Get(h) != "" }) {
		return &Problem{Title: "Nobody signs in here", Status: http.StatusForbidden, Detail: "this came through a front, and whoever works alone is on this machine; expected a program started without --alone, and with --front"}
	}
	if len(s.access.Fronts) == 0 {
		return nil
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	from, err := netip.ParseAddr(host)
	if err != nil || !slices.ContainsFunc(s.access.Fronts, func(p netip.Prefix) bool { return p.Contains(from.Unmap()) }) {
		return &Problem{Title: "This is behind a front", Status: http.StatusForbidden, Detail: "expected a connection from the front; got one from " + host}
	}
	if proto := r.Header.Get("X-Forwarded-Proto"); proto != "https" {
		return &Problem{Title: "This is behind a front that speaks TLS", Status: http.StatusForbidden, Detail: "expected X-Forwarded-Proto: https from the front; got " + clip(proto)}
	}
	return nil
}

func (s *Server) ownHost(hostport string) bool {
	if s.access.Origin != nil {
		return strings.EqualFold(hostport, s.access.Origin.Host)
	}
	return loopbackHost(hostport)
}

func (s *Server) addressLike() string {
	if s.access.Origin != nil {
		return s.access.Origin.String()
	}
	return "127.0.0.1:7373"
}

// addressOf finds who asks: who connects, or whom the front says.
func (s *Server) addressOf() echo.IPExtractor {
	if len(s.access.Fronts) == 0 {
		return echo.ExtractIPDirect()
	}
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range s.access.Fronts {
		trust = append(trust, echo.TrustIPRange(&net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

func clip(text string) string {
	if len(text) > 100 {
		return text[:100] + "…"
	}
	return text
}

func loopbackHost(hostport string) bool {
	host, _, err := net.SplitHostPort(hostport)
	if err != nil {
		host = strings.Trim(hostport, "[]")
	}
	if host == "localhost" {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback()
}
