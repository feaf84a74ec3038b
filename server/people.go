package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"steady-compass/people"
	"steady-compass/store"
)

// registerPeople declares what is asked of accounts, and to get in. No token may: else whoever finds one makes others.
func (s *Server) registerPeople(api huma.API) {
	anybody, own, keeper := door{API: api}, door{api, people.Reader, true}, door{api, people.Keeper, true}
	get(anybody, "me", "/api/me", "Who asks, and how one gets in", s.getMe)
	post(anybody, "sign-in", "/api/sign-in", "Sign in with a password", s.postSignIn)
	post(anybody, "first", "/api/sign-in/code", "Sign in with a one-time code, and set a password", s.postFirst)
	post(anybody, "sign-out", "/api/sign-out", "End this session", s.postSignOut)
	post(own, "password", "/api/me/password", "Change one's own password", s.postPassword)
	post(own, "out-everywhere", "/api/me/out", "End all of one's own sessions", s.postOutEverywhere)
	get(own, "tokens", "/api/tokens", "One's own tokens for scripts; a keeper sees all", s.getTokens)
	post(own, "new-token", "/api/tokens", "Make a token for a script; its secret is said once", s.postToken)
	post(own, "drop-token", "/api/tokens/{id}/drop", "Take a token away: one's own, or as a keeper anybody's", s.postDropToken)
	get(keeper, "people", "/api/people", "The accounts, and what happened to them", s.getPeople)
	post(keeper, "new-account", "/api/people", "Make an account; the one-time code that comes with it is said once", s.postAccount)
	post(keeper, "set-account", "/api/people/{id}", "Give an account a role, switch it off or on", s.postSetAccount)
	post(keeper, "new-code", "/api/people/{id}/code", "Give an account another one-time code, by which its person sets a password", s.postCode)
}

// PeopleAnswer is who may do what, and what happened to accounts.
type PeopleAnswer struct {
	People []people.Account `json:"people" nullable:"false"`
	Events []people.Event   `json:"events" nullable:"false" doc:"The newest first"`
}

const eventsShown = 200

func (s *Server) getPeople(ctx context.Context, _ *none) (*body[PeopleAnswer], error) {
	list, err := s.db.Accounts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	events, err := s.db.Events(ctx, eventsShown)
	if err != nil {
		return nil, problem(err)
	}
	return &body[PeopleAnswer]{PeopleAnswer{list, events}}, nil
}

// Invited is an account with the code by which its person gets in.
type Invited struct {
	Account people.Account `json:"account"`
	Code    string         `json:"code" doc:"To be handed to the person; it is not kept"`
}

type newAccount struct {
	Body struct {
		Name  string      `json:"name" minLength:"1" maxLength:"200"`
		Role  people.Role `json:"role"`
		Email string      `json:"email,omitempty" maxLength:"200" doc:"By which a sign-in elsewhere is known"`
	}
}

func (s *Server) postAccount(ctx context.Context, in *newAccount) (*body[Invited], error) {
	if err := people.CheckName(in.Body.Name); err != nil {
		return nil, unfit(err)
	}
	if in.Body.Email != "" && strings.Count(in.Body.Email, "@") != 1 {
		return nil, unfit(fmt.Errorf("%q is no e-mail address; expected one, as anna@example.com", clip(in.Body.Email)))
	}
	code := people.NewCode()
	a, err := s.db.AddAccount(ctx, people.Account{Name: in.Body.Name, Role: in.Body.Role, Email: in.Body.Email, Code: people.Digest(code), Invited: time.Now().Add(people.CodeLife)}, "", false)
	if err != nil {
		return nil, accountProblem(err)
	}
	s.note(ctx, whoOf(ctx), "made the account "+a.Name+", "+string(a.Role))
	return &body[Invited]{Invited{a, code}}, nil
}

func accountProblem(err error) error {
	switch {
	case errors.Is(err, store.ErrTakenName), errors.Is(err, store.ErrLastKeeper):
		return &Problem{Title: "This cannot be", Status: http.StatusConflict, Detail: err.Error()}
	case errors.Is(err, store.ErrNoAccount):
		return &Problem{Title: "It is not there", Status: http.StatusNotFound, Detail: err.Error()}
	}
	return problem(err)
}

type setAccount struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		Role people.Role `json:"role"`
		Off  bool        `json:"off"`
	}
}

func (s *Server) postSetAccount(ctx context.Context, in *setAccount) (*body[people.Account], error) {
	a, err := s.db.AccountOf(ctx, in.ID)
	if err != nil {
		return nil, accountProblem(err)
	}
	was := a
	a.Role, a.Off = in.Body.Role, in.Body.Off
	if err := s.db.SetAccount(ctx, a); err != nil {
		return nil, accountProblem(err)
	}
	if was.Role != a.Role {
		s.note(ctx, whoOf(ctx), fmt.Sprintf("made %s %s, who was %s", a.Name, a.Role, was.Role))
	}
	if was.Off != a.Off {
		s.note(ctx, whoOf(ctx), "switched the account "+a.Name+map[bool]string{true: " off", false: " on"}[a.Off])
	}
	s.watch.tell(s.db.Current().Revision) // streams of those who may no more end
	return &body[people.Account]{a}, nil
}

type accountQuery struct {
	ID int64 `path:"id" minimum:"1"`
}

func (s *Server) postCode(ctx context.Context, in *accountQuery) (*body[Invited], error) {
	a, err := s.db.AccountOf(ctx, in.ID)
	if err != nil {
		return nil, accountProblem(err)
	}
	code := people.NewCode()
	a.Invited = time.Now().Add(people.CodeLife)
	if err := s.db.Invite(ctx, a.ID, people.Digest(code), a.Invited); err != nil {
		return nil, accountProblem(err)
	}
	s.note(ctx, whoOf(ctx), "gave "+a.Name+" a one-time code")
	return &body[Invited]{Invited{a, code}}, nil
}

func (s *Server) getTokens(ctx context.Context, _ *none) (*body[[]people.Token], error) {
	p := asks(ctx)
	account := p.account
	if p.role == people.Keeper {
		account = 0
	}
	list, err := s.db.Tokens(ctx, account)
	if err != nil {
		return nil, problem(err)
	}
	return &body[[]people.Token]{list}, nil
}

// Minted is a token with its secret.
type Minted struct {
	Token  people.Token `json:"token"`
	Secret string       `json:"secret" doc:"To be given to the script; it is not kept"`
}

type newToken struct {
	Body struct {
		Name string      `json:"name" minLength:"1" maxLength:"200" doc:"What it is for"`
		Role people.Role `json:"role" doc:"reader or editor"`
		Days int         `json:"days" minimum:"1" maximum:"366" doc:"For how long it is good"`
	}
}

func (s *Server) postToken(ctx context.Context, in *newToken) (*body[Minted], error) {
	a, err := s.account(ctx)
	if err != nil {
		return nil, err
	}
	if err := people.CheckTokenName(in.Body.Name); err != nil {
		return nil, unfit(err)
	}
	if in.Body.Role == people.Keeper || !a.Role.May(in.Body.Role) {
		return nil, unfit(fmt.Errorf("no token of %s, who is %s, may be %s; expected %s", a.Name, a.Role, in.Body.Role, people.Least(a.Role, people.Editor)))
	}
	secret := people.NewToken()
	t, err := s.db.AddToken(ctx, a.ID, people.Token{Account: a.Name, Name: in.Body.Name, Role: in.Body.Role, Until: time.Now().Add(time.Duration(in.Body.Days) * 24 * time.Hour)}, people.Digest(secret))
	if err != nil {
		return nil, problem(err)
	}
	s.note(ctx, a.Name, fmt.Sprintf("made the token %q, %s", t.Name, t.Role))
	return &body[Minted]{Minted{t, secret}}, nil
}

func (s *Server) postDropToken(ctx context.Context, in *accountQuery) (*none, error) {
	p := asks(ctx)
	account := p.account
	if p.role == people.Keeper {
		account = 0
	}
	if err := s.db.DropToken(ctx, in.ID, account); err != nil {
		return nil, accountProblem(err)
	}
	s.note(ctx, whoOf(ctx), fmt.Sprintf("took token %d away", in.ID))
	return nil, nil
}
