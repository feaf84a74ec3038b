package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/labstack/echo/v5"
	"golang.org/x/oauth2"

	"steady-compass/people"
	"steady-compass/store"
)

// Elsewhere is a provider at which people may sign in (OpenID Connect Core 1.0 §3.1, with proof of possession of the code, RFC 7636).
type Elsewhere struct {
	Name   string      // as it is named on the page
	Issuer string      // a URL
	Client string      // what this program is called there
	Secret string      // by which it is known there
	Role   people.Role // of whoever comes from there and has no account here; empty where they are refused

	mu       sync.Mutex
	provider *oidc.Provider // nil until it was reached
}

const (
	signInPaths       = "/sign-in/"
	goElsewhere       = signInPaths + "elsewhere"
	backFromElsewhere = signInPaths + "back"
	elsewhereWait     = 10 * time.Second
)

// reached is the provider, of which is asked when somebody first goes there: this program starts whether or not it answers.
func (e *Elsewhere) reached(ctx context.Context) (*oidc.Provider, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.provider == nil {
		p, err := oidc.NewProvider(context.WithoutCancel(ctx), e.Issuer) // it goes on with this context when keys change
		if err != nil {
			return nil, err
		}
		e.provider = p
	}
	return e.provider, nil
}

func (s *Server) elsewhereConfig(p *oidc.Provider) oauth2.Config {
	e := s.access.Elsewhere
	return oauth2.Config{
		ClientID: e.Client, ClientSecret: e.Secret, Endpoint: p.Endpoint(), RedirectURL: s.access.Origin.JoinPath(backFromElsewhere).String(),
		Scopes: []string{oidc.ScopeOpenID, "email", "profile"},
	}
}

// elsewhereClient bounds how long the provider is waited for.
var elsewhereClient = &http.Client{Timeout: elsewhereWait}

// goElsewhere sends a browser to the provider.
func (s *Server) goElsewhere(c *echo.Context) error {
	ctx := oidc.ClientContext(c.Request().Context(), elsewhereClient)
	if wait := s.tries.address.Take(nearby(c.RealIP()), time.Now()); wait > 0 {
		return s.back(c, "Too many tries from here; try again in "+wait.Round(time.Second).String()+".")
	}
	p, err := s.access.Elsewhere.reached(ctx)
	if err != nil {
		s.log.Error("reach the provider of sign-ins", "error", err)
		return s.back(c, s.access.Elsewhere.Name+" does not answer. Who has a password can sign in with it.")
	}
	state, nonce, proof := people.NewToken(), people.NewToken(), oauth2.GenerateVerifier()
	s.sessions.Put(ctx, sessionState, state)
	s.sessions.Put(ctx, sessionNonce, nonce)
	s.sessions.Put(ctx, sessionProof, proof)
	config := s.elsewhereConfig(p)
	return c.Redirect(http.StatusSeeOther, config.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(proof)))
}

// back leads to the interface, which says what came of it.
func (s *Server) back(c *echo.Context, said string) error {
	if said != "" {
		s.sessions.Put(c.Request().Context(), sessionSaid, said)
	}
	return c.Redirect(http.StatusSeeOther, "/")
}

// backFromElsewhere takes a browser in that comes back from the provider.
func (s *Server) backFromElsewhere(c *echo.Context) error {
	ctx := oidc.ClientContext(context.WithValue(c.Request().Context(), addressKey{}, c.RealIP()), elsewhereClient)
	state, nonce, proof := s.sessions.PopString(ctx, sessionState), s.sessions.PopString(ctx, sessionNonce), s.sessions.PopString(ctx, sessionProof)
	query := c.Request().URL.Query()
	if state == "" || query.Get("state") != state {
		return s.back(c, "This sign-in was not begun here, or took too long. Begin again.")
	}
	if query.Get("code") == "" {
		return s.back(c, s.access.Elsewhere.Name+" did not sign anybody in: "+clip(query.Get("error")+" "+query.Get("error_description"))+".")
	}
	claims, err := s.claimed(ctx, query.Get("code"), nonce, proof)
	if err != nil {
		s.log.Warn("a sign-in elsewhere was refused", "error", err, "from", c.RealIP())
		return s.back(c, "What "+s.access.Elsewhere.Name+" answered does not hold; nobody is signed in.")
	}
	a, err := s.accountFor(ctx, claims)
	switch {
	case errors.Is(err, store.ErrNoAccount):
		return s.back(c, fmt.Sprintf("%s is known at %s, and has no account here. A keeper can make one with that e-mail address.", claims.called(), s.access.Elsewhere.Name))
	case err != nil:
		return failed(c, problem(err))
	case a.Off:
		return s.back(c, "The account "+a.Name+" is switched off.")
	}
	if _, err := s.signedIn(ctx, a, "signed in at "+s.access.Elsewhere.Name); err != nil {
		return failed(c, err)
	}
	return s.back(c, "")
}

// claims are what a provider says of somebody.
type claims struct {
	Subject  string `json:"sub"`
	Email    string `json:"email"`
	Verified bool   `json:"email_verified"`
	Name     string `json:"preferred_username"`
}

// called is a name for a person.
func (c *claims) called() string {
	for _, name := range []string{c.Email, c.Name} {
		if name != "" {
			return clip(name)
		}
	}
	return "Somebody"
}

// claimed gives what the provider says for a code, of which it is certain that the provider said it, to us, now.
func (s *Server) claimed(ctx context.Context, code, nonce, proof string) (*claims, error) {
	p, err := s.access.Elsewhere.reached(ctx)
	if err != nil {
		return nil, err
	}
	config := s.elsewhereConfig(p)
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(proof))
	if err != nil {
		return nil, err
	}
	raw, is := token.Extra("id_token").(string)
	if !is {
		return nil, errors.New("there is no ID token in the answer")
	}
	id, err := p.Verifier(&oidc.Config{ClientID: config.ClientID}).Verify(ctx, raw)
	if err != nil {
		return nil, err
	}
	if id.Nonce != nonce || nonce == "" {
		return nil, errors.New("the nonce is another")
	}
	var out claims
	if err := id.Claims(&out); err != nil {
		return nil, err
	}
	if out.Subject == "" {
		return nil, errors.New("it says of nobody")
	}
	return &out, nil
}

// accountFor is the account of somebody who signed in elsewhere: the linked one, the one that waits for a verified e-mail address, or a new one
// where those have a role.
func (s *Server) accountFor(ctx context.Context, c *claims) (people.Account, error) {
	subject := s.access.Elsewhere.Issuer + " " + c.Subject
	email := c.Email
	if !c.Verified {
		email = ""
	}
	a, err := s.db.AccountElsewhere(ctx, subject, email)
	if !errors.Is(err, store.ErrNoAccount) || s.access.Elsewhere.Role == "" {
		return a, err
	}
	n, err := s.db.AccountCount(ctx)
	if err != nil {
		return a, err
	}
	if n == 0 { // the first is made by who sees the console
		return a, fmt.Errorf("%w yet", store.ErrNoAccount)
	}
	base := strings.Map(func(r rune) rune {
		if people.CheckName(string(r)) != nil {
			return '-'
		}
		return r
	}, c.called())
	base = string([]rune(base)[:min(len([]rune(base)), 30)])
	for i := 1; i < 100; i++ {
		name := base
		if i > 1 {
			name = fmt.Sprintf("%s-%d", base, i)
		}
		a, err = s.db.AddAccount(ctx, people.Account{Name: name, Role: s.access.Elsewhere.Role, Email: email}, subject, false)
		if !errors.Is(err, store.ErrTakenName) {
			return a, err
		}
	}
	return a, fmt.Errorf("%w: another has the name, or the e-mail address", store.ErrNoAccount)
}

// CheckOrigin says what is wrong with a URL by which browsers are to reach the program.
func CheckOrigin(u *url.URL) error {
	if u.Scheme != "https" && (u.Scheme != "http" || !loopbackHost(u.Host)) || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "" || u.User != nil {
		return fmt.Errorf("%q is no origin; expected one, as https://compass.example.net (http only on loopback)", u)
	}
	return nil
}
