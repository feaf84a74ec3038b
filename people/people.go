// Package people is who may do what: roles, accounts, passwords, one-time codes, tokens for scripts, and how often somebody may try.
// It keeps nothing and asks nobody; the store keeps, the server asks.
package people

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Role is what somebody may do.
type Role string

const (
	Reader Role = "reader" // asks everything, changes nothing
	Editor Role = "editor" // and changes the records, the drafts and what was seen
	Keeper Role = "keeper" // and says who may do what
)

// Roles are all of them, each of which may do what those before it may.
var Roles = []Role{Reader, Editor, Keeper}

// May says whether a role is enough where another is needed. What is no role may nothing, and nothing is enough where no role is needed.
func (r Role) May(needed Role) bool {
	return slices.Contains(Roles, r) && slices.Contains(Roles, needed) && slices.Index(Roles, r) >= slices.Index(Roles, needed)
}

// Least is the one of two roles that may less.
func Least(a, b Role) Role {
	if a.May(b) {
		return b
	}
	return a
}

// Account is a person's. It is never taken away, since the log names it; one that is off may nothing.
type Account struct {
	ID      int64     `json:"id"`
	Name    string    `json:"name"`
	Role    Role      `json:"role"`
	Email   string    `json:"email" doc:"By which a sign-in elsewhere is known; empty where there is none"`
	Linked  bool      `json:"linked" doc:"Has signed in elsewhere; from then on only that one there is this account"`
	Off     bool      `json:"off"`
	At      time.Time `json:"at" doc:"When it was made"`
	Seen    time.Time `json:"seen,omitzero" doc:"When its person was last here"`
	Secured bool      `json:"secured" doc:"Has a password"`
	Invited time.Time `json:"invited,omitzero" doc:"Until when a one-time code waits to be used"`

	Epoch int64  `json:"-"` // goes up when all its sessions are to end
	Hash  string `json:"-"` // of its password; empty where there is none
	Code  string `json:"-"` // the digest of its one-time code
}

// Token is what a script asks with, for an account.
type Token struct {
	ID      int64     `json:"id"`
	Account string    `json:"account"`
	Name    string    `json:"name" doc:"What it is for"`
	Role    Role      `json:"role" doc:"What it may do at most; never more than its account"`
	At      time.Time `json:"at"`
	Until   time.Time `json:"until" doc:"From when on it is not taken any more"`
	Seen    time.Time `json:"seen,omitzero" doc:"When it was last used"`
}

// Event is something that happened to accounts.
type Event struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	What string    `json:"what"`
	From string    `json:"from" doc:"The address that it was asked from; empty for a command"`
}

const (
	longestName = 40
	// LongestToken is how long a token may last at most.
	LongestToken = 366 * 24 * time.Hour
	// CodeLife is for how long a one-time code waits.
	CodeLife = 72 * time.Hour
)

// ErrName is wrapped by what is wrong with a name.
var ErrName = errors.New("not a name for an account")

// CheckName says what is wrong with a name for an account.
func CheckName(name string) error {
	if n := utf8.RuneCountInString(name); n == 0 || n > longestName {
		return fmt.Errorf("%w: it has %d characters; expected 1 to %d", ErrName, n, longestName)
	}
	for _, r := range name {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(".-_@", r) {
			return fmt.Errorf("%w: %q is in it; expected letters, digits, and . - _ @", ErrName, r)
		}
	}
	return nil
}

// CheckTokenName says what is wrong with what a token is to be called.
func CheckTokenName(name string) error {
	if n := utf8.RuneCountInString(strings.TrimSpace(name)); n == 0 || n > longestName {
		return fmt.Errorf("what the token is for has %d characters; expected 1 to %d", n, longestName)
	}
	if strings.ContainsFunc(name, unicode.IsControl) {
		return errors.New("what the token is for has a control character in it")
	}
	return nil
}
