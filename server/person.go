package server

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"steady-compass/people"
	"steady-compass/store"
)

// person is who asks.
type person struct {
	name    string
	role    people.Role
	account int64  // 0 where nobody signs in
	token   string // what it is called, where a script asks with one
}

// alone is whoever reaches a program at which nobody signs in.
var alone = person{name: "this machine", role: people.Keeper}

type personKey struct{}

// asks is who asks; nil where it is not known.
func asks(ctx context.Context) *person {
	p, _ := ctx.Value(personKey{}).(*person)
	return p
}

// whoOf is how the log names who asks.
func whoOf(ctx context.Context) string {
	switch p := asks(ctx); {
	case p == nil:
		return "nobody"
	case p.token != "":
		return p.name + " (" + p.token + ")"
	default:
		return p.name
	}
}

const (
	neededRole  = "role"    // of an operation: the least role that may ask it
	onlySession = "session" // of an operation: no token is enough
)

// What a session holds.
const (
	sessionAccount = "account"
	sessionEpoch   = "epoch"
	sessionSaid    = "said" // what is to be said on the page that comes next
	sessionState   = "state"
	sessionNonce   = "nonce"
	sessionProof   = "proof"
)

// recognise says who asks: whoever a token or a session is of.
func (s *Server) recognise(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		p, err := s.personOf(c.Request())
		if err != nil {
			return failed(c, err)
		}
		if p != nil {
			c.SetRequest(c.Request().WithContext(context.WithValue(c.Request().Context(), personKey{}, p)))
		}
		return next(c)
	}
}

// seenEvery is how exactly it is kept when somebody was here last.
const seenEvery = 5 * time.Minute

func (s *Server) personOf(r *http.Request) (*person, error) {
	if s.access.Alone {
		return &alone, nil
	}
	ctx, now := r.Context(), time.Now()
	if secret, is := tokenOf(r); is {
		t, a, err := s.db.TokenOf(ctx, people.Digest(secret), now)
		if errors.Is(err, store.ErrNoAccount) || err == nil && a.Off {
			return nil, &Problem{Title: "This token is not taken", Status: http.StatusUnauthorized, Detail: "it is not known here, or it is over; expected one that its owner made under who you are"}
		}
		if err != nil {
			return nil, problem(err)
		}
		if now.Sub(t.Seen) > seenEvery {
			if err := s.db.SawToken(ctx, t.ID, now); err != nil {
				return nil, problem(err)
			}
		}
		return &person{a.Name, people.Least(a.Role, t.Role), a.ID, t.Name}, nil
	}
	id := s.sessions.GetInt64(ctx, sessionAccount)
	if id == 0 {
		return nil, nil
	}
	a, err := s.db.AccountOf(ctx, id)
	if errors.Is(err, store.ErrNoAccount) || err == nil && (a.Off || a.Epoch != s.sessions.GetInt64(ctx, sessionEpoch)) {
		return nil, nil
	}
	if err != nil {
		return nil, problem(err)
	}
	if now.Sub(a.Seen) > seenEvery && s.db.ReadOnly() == nil {
		if err := s.db.SawAccount(ctx, a.ID, now); err != nil {
			return nil, problem(err)
		}
	}
	return &person{a.Name, a.Role, a.ID, ""}, nil
}

// tokenOf is the token that a request has: as a bearer's (RFC 6750), or where it only reads in place of a password (RFC 7617), as calendars
// that subscribe to the dates can.
func tokenOf(r *http.Request) (secret string, is bool) {
	if _, password, basic := r.BasicAuth(); basic && r.Method == http.MethodGet {
		return password, true
	}
	return strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
}

// refused says why who asks may not ask this; nil where it is allowed.
func refused(ctx context.Context, needs people.Role, sessionOnly bool) error {
	p := asks(ctx)
	switch {
	case needs == "":
		return nil
	case p == nil:
		return &Problem{Title: "Sign in first", Status: http.StatusUnauthorized, Detail: "this is answered to people who have an account here"}
	case sessionOnly && p.token != "":
		return &Problem{Title: "No token may do this", Status: http.StatusForbidden, Detail: "accounts and tokens are seen to by people who have signed in"}
	case !p.role.May(needs):
		return &Problem{Title: "You may not do this", Status: http.StatusForbidden, Detail: "it needs the role " + string(needs) + "; " + p.name + " is " + string(p.role) + ". A keeper can change that."}
	}
	return nil
}

// refusedOperation says why who asks may not ask an operation; nil where it is allowed.
func refusedOperation(ctx context.Context, op *huma.Operation) error {
	needs, _ := op.Metadata[neededRole].(people.Role)
	return refused(ctx, needs, op.Metadata[onlySession] != nil)
}

// failed answers with what is wrong.
func failed(c *echo.Context, err error) error {
	var wrong *Problem
	if errors.As(err, &wrong) {
		return problemJSON(c, wrong.Status, wrong.Title, wrong.Detail)
	}
	return err
}

// nearby is the address that somebody asks from, as far as tries are told apart by it: one of IPv6 with its neighbours (RFC 6177 §2).
func nearby(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	a = a.Unmap().WithZone("")
	if a.Is4() {
		return a.String()
	}
	p, _ := a.Prefix(64)
	return p.String()
}
