package server

import (
	"context"
	"crypto/subtle"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"steady-compass/people"
	"steady-compass/store"
)

// Me is who asks, and how one gets in.
type Me struct {
	Who       *Who   `json:"who,omitempty" doc:"Not there where nobody has signed in"`
	Alone     bool   `json:"alone" doc:"Nobody signs in here"`
	First     bool   `json:"first" doc:"Nobody has an account yet: the first is made by the one-time code that the program printed"`
	Elsewhere string `json:"elsewhere,omitempty" doc:"Where else one may sign in"`
	Said      string `json:"said,omitempty" doc:"What came of a sign-in elsewhere; said once"`
}

// Who is somebody who may ask.
type Who struct {
	Name  string      `json:"name"`
	Role  people.Role `json:"role"`
	Token string      `json:"token,omitempty" doc:"What it is for, where a script asks with one"`
}

func (s *Server) getMe(ctx context.Context, _ *none) (*body[Me], error) {
	me := Me{Alone: s.access.Alone}
	if p := asks(ctx); p != nil {
		me.Who = &Who{p.name, p.role, p.token}
	}
	if s.access.Elsewhere != nil {
		me.Elsewhere = s.access.Elsewhere.Name
	}
	if !s.access.Alone {
		if me.Who == nil {
			n, err := s.db.AccountCount(ctx)
			if err != nil {
				return nil, problem(err)
			}
			me.First = n == 0
		}
		if s.sessions.Exists(ctx, sessionSaid) {
			me.Said = s.sessions.PopString(ctx, sessionSaid)
		}
	}
	return &body[Me]{me}, nil
}

type signIn struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
	}
}

// addressKey is where the context has the address that somebody asks from.
type addressKey struct{}

func addressOf(ctx context.Context) string {
	a, _ := ctx.Value(addressKey{}).(string)
	return a
}

// errIn is what is said to whoever does not get in, whatever is wrong: nobody learns from it which names there are.
var errIn = &Problem{Title: "Not signed in", Status: http.StatusUnauthorized, Detail: "the name and the password do not go together"}

var errCode = &Problem{Title: "Not signed in", Status: http.StatusUnauthorized, Detail: "the name and the one-time code do not go together, or the code was used or is over; a keeper can give another"}

func tooOften(wait time.Duration) error {
	seconds := int((wait + time.Second - 1) / time.Second)
	return huma.ErrorWithHeaders(
		&Problem{Title: "Too many tries", Status: http.StatusTooManyRequests, Detail: "try again in " + (time.Duration(seconds) * time.Second).String()},
		http.Header{"Retry-After": {strconv.Itoa(seconds)}},
	)
}

func (s *Server) postSignIn(ctx context.Context, in *signIn) (*body[Me], error) {
	if s.access.Alone {
		return nil, errAlone
	}
	name, address, now := in.Body.Name, addressOf(ctx), time.Now()
	if wait := s.tries.take(name, address, now); wait > 0 {
		return nil, tooOften(wait)
	}
	a, err := s.db.Account(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNoAccount) {
		return nil, problem(err)
	}
	matches, err := s.hasher.Matches(ctx, in.Body.Password, a.Hash) // of nobody's it takes as long
	if err != nil {
		return nil, problem(err)
	}
	if !matches || a.Off {
		s.log.Warn("a sign-in was refused", "name", clip(name), "from", address)
		if a.ID != 0 {
			s.note(ctx, a.Name, "was refused at the sign-in")
		}
		return nil, errIn
	}
	s.tries.done(name, address, now)
	return s.signedIn(ctx, a, "signed in")
}

// errAlone is what is said to who wants to sign in where nobody does.
var errAlone = &Problem{Title: "Nobody signs in here", Status: http.StatusConflict, Detail: "the program was started with --alone"}

// signedIn begins a session of an account.
func (s *Server) signedIn(ctx context.Context, a people.Account, how string) (*body[Me], error) {
	if err := s.sessions.RenewToken(ctx); err != nil { // a cookie from before is not taken over
		return nil, problem(err)
	}
	s.sessions.Put(ctx, sessionAccount, a.ID)
	s.sessions.Put(ctx, sessionEpoch, a.Epoch)
	if s.db.ReadOnly() == nil {
		if err := s.db.SawAccount(ctx, a.ID, time.Now()); err != nil {
			return nil, problem(err)
		}
	}
	s.note(ctx, a.Name, how)
	return &body[Me]{Me{Who: &Who{Name: a.Name, Role: a.Role}}}, nil
}

// note keeps what happened to accounts. That it cannot be kept is no reason to refuse what happened.
func (s *Server) note(ctx context.Context, who, what string) {
	if err := s.db.Note(ctx, people.Event{At: time.Now(), Who: who, What: what, From: addressOf(ctx)}); err != nil {
		s.log.Error("note what happened to accounts", "error", err)
	}
}

func (s *Server) postSignOut(ctx context.Context, _ *none) (*none, error) {
	if err := s.sessions.Destroy(ctx); err != nil {
		return nil, problem(err)
	}
	return nil, nil
}

type firstSignIn struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"200"`
		Code     string `json:"code" minLength:"1" maxLength:"100" doc:"The one-time code"`
		Password string `json:"password" minLength:"1" maxLength:"1000" doc:"That is to be taken from now on"`
	}
}

// postFirst takes a one-time code: the one that the program printed makes the first account, one that a keeper gave is for the account that
// it was given for.
func (s *Server) postFirst(ctx context.Context, in *firstSignIn) (*body[Me], error) {
	if s.access.Alone {
		return nil, errAlone
	}
	name, address, now := in.Body.Name, addressOf(ctx), time.Now()
	if err := errors.Join(people.CheckName(name), people.CheckPassword(name, in.Body.Password)); err != nil {
		return nil, unfit(err)
	}
	if wait := s.tries.take(name, address, now); wait > 0 {
		return nil, tooOften(wait)
	}
	a, err := s.db.Account(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNoAccount) {
		return nil, problem(err)
	}
	digest := people.Digest(in.Body.Code)
	if a.ID == 0 {
		return s.firstAccount(ctx, name, in.Body.Password, digest)
	}
	if subtle.ConstantTimeCompare([]byte(digest), []byte(a.Code)) != 1 { // before anything takes time that nobody's does not
		return nil, errCode
	}
	hash, err := s.hasher.Hash(ctx, in.Body.Password)
	if err != nil {
		return nil, problem(err)
	}
	spent, err := s.db.SpendCode(ctx, a.ID, digest, now)
	if err != nil {
		return nil, problem(err)
	}
	if !spent {
		return nil, errCode
	}
	if err := s.db.SetPassword(ctx, a.ID, hash); err != nil {
		return nil, problem(err)
	}
	if a, err = s.db.AccountOf(ctx, a.ID); err != nil {
		return nil, problem(err)
	}
	s.tries.done(name, address, now)
	return s.signedIn(ctx, a, "set a password with a one-time code")
}

func (s *Server) firstAccount(ctx context.Context, name, password, digest string) (*body[Me], error) {
	n, err := s.db.AccountCount(ctx)
	if err != nil {
		return nil, problem(err)
	}
	if s.access.FirstCode == "" || n > 0 || subtle.ConstantTimeCompare([]byte(digest), []byte(people.Digest(s.access.FirstCode))) != 1 {
		return nil, errCode
	}
	hash, err := s.hasher.Hash(ctx, password)
	if err != nil {
		return nil, problem(err)
	}
	a, err := s.db.AddAccount(ctx, people.Account{Name: name, Role: people.Keeper, Hash: hash}, "", true)
	if errors.Is(err, store.ErrTakenName) {
		return nil, errCode
	}
	if err != nil {
		return nil, problem(err)
	}
	s.tries.done(name, addressOf(ctx), time.Now())
	return s.signedIn(ctx, a, "made the first account")
}

// unfit is a problem with what somebody chose.
func unfit(err error) error {
	return &Problem{Title: "This cannot be taken", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
}

type newPassword struct {
	Body struct {
		Old      string `json:"old" maxLength:"1000" doc:"The one that holds now"`
		Password string `json:"password" minLength:"1" maxLength:"1000"`
	}
}

func (s *Server) postPassword(ctx context.Context, in *newPassword) (*body[Me], error) {
	a, err := s.account(ctx)
	if err != nil {
		return nil, err
	}
	if err := people.CheckPassword(a.Name, in.Body.Password); err != nil {
		return nil, unfit(err)
	}
	address := addressOf(ctx)
	if wait := s.tries.take(a.Name, address, time.Now()); wait > 0 {
		return nil, tooOften(wait)
	}
	if a.Hash != "" {
		matches, err := s.hasher.Matches(ctx, in.Body.Old, a.Hash)
		if err != nil {
			return nil, problem(err)
		}
		if !matches {
			return nil, &Problem{Title: "The password is as it was", Status: http.StatusForbidden, Detail: "the old one is another"}
		}
	}
	hash, err := s.hasher.Hash(ctx, in.Body.Password)
	if err != nil {
		return nil, problem(err)
	}
	if err := s.db.SetPassword(ctx, a.ID, hash); err != nil {
		return nil, problem(err)
	}
	if a, err = s.db.AccountOf(ctx, a.ID); err != nil {
		return nil, problem(err)
	}
	s.tries.done(a.Name, address, time.Now())
	s.watch.tell(s.db.Current().Revision) // streams of the other sessions end
	return s.signedIn(ctx, a, "changed the password; all other sessions ended")
}

func (s *Server) postOutEverywhere(ctx context.Context, _ *none) (*none, error) {
	a, err := s.account(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.db.EndSessions(ctx, a.ID); err != nil {
		return nil, problem(err)
	}
	s.watch.tell(s.db.Current().Revision)
	s.note(ctx, a.Name, "signed out everywhere")
	return s.postSignOut(ctx, nil)
}

// account is that of who asks.
func (s *Server) account(ctx context.Context) (people.Account, error) {
	p := asks(ctx)
	if p == nil || p.account == 0 {
		return people.Account{}, errAlone
	}
	a, err := s.db.AccountOf(ctx, p.account)
	return a, problem(err)
}
