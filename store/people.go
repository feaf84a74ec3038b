package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"steady-compass/people"
)

// ErrNoAccount is wrapped by the error for an account that is not there.
var ErrNoAccount = errors.New("no such account")

// ErrTakenName is wrapped by the error for an account whose name, or e-mail address, another has.
var ErrTakenName = errors.New("another account has it")

// ErrLastKeeper is wrapped by the error for what would leave nobody who says who may do what.
var ErrLastKeeper = errors.New("it is the last keeper: somebody else is to be one first")

type accountRow struct {
	ID                                      int64
	Name, Role, Email, Hash, Code, At, Seen string
	Subject                                 sql.NullString
	CodeUntil                               string `db:"code_until"`
	Epoch                                   int64
	Off                                     bool
}

func (r *accountRow) account() (a people.Account, err error) {
	a = people.Account{
		ID: r.ID, Name: r.Name, Role: people.Role(r.Role), Email: r.Email, Linked: r.Subject.Valid, Off: r.Off,
		Secured: r.Hash != "", Epoch: r.Epoch, Hash: r.Hash, Code: r.Code,
	}
	for _, t := range []struct {
		text string
		to   *time.Time
	}{{r.At, &a.At}, {r.Seen, &a.Seen}, {r.CodeUntil, &a.Invited}} {
		if t.text == "" {
			continue
		}
		if *t.to, err = time.Parse(time.RFC3339Nano, t.text); err != nil {
			return a, err
		}
	}
	return a, nil
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

func (s *Store) accountsWhere(ctx context.Context, from sqlx.QueryerContext, where string, args ...any) ([]people.Account, error) {
	var rows []accountRow
	if err := sqlx.SelectContext(ctx, from, &rows, "SELECT * FROM account WHERE "+where+" ORDER BY name", args...); err != nil {
		return nil, explained(s.file.name(), fmt.Errorf("read accounts: %w", err))
	}
	out := make([]people.Account, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].account(); err != nil {
			return nil, fmt.Errorf("read account %q: %w", rows[i].Name, err)
		}
	}
	return out, nil
}

func (s *Store) oneAccount(ctx context.Context, what any, where string, args ...any) (people.Account, error) {
	list, err := s.accountsWhere(ctx, s.db, where, args...)
	if err != nil {
		return people.Account{}, err
	}
	if len(list) == 0 {
		return people.Account{}, fmt.Errorf("%w: %v", ErrNoAccount, what)
	}
	return list[0], nil
}

// Accounts are all that there are, by name.
func (s *Store) Accounts(ctx context.Context) ([]people.Account, error) {
	return s.accountsWhere(ctx, s.db, "true")
}

// AccountCount is how many accounts there are.
func (s *Store) AccountCount(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM account")
	return n, explained(s.file.name(), err)
}

// Account is the one of a name, in whichever case; its error wraps ErrNoAccount where there is none.
func (s *Store) Account(ctx context.Context, name string) (people.Account, error) {
	return s.oneAccount(ctx, name, "name = ?", name)
}

// AccountOf is the one of a number.
func (s *Store) AccountOf(ctx context.Context, id int64) (people.Account, error) {
	return s.oneAccount(ctx, id, "id = ?", id)
}

// AccountElsewhere is the one that a sign-in elsewhere belongs to: the one that is linked to it, else the one that waits for its e-mail
// address and is then linked. An empty address is nobody's.
func (s *Store) AccountElsewhere(ctx context.Context, subject, email string) (people.Account, error) {
	a, err := s.oneAccount(ctx, subject, "subject = ?", subject)
	if !errors.Is(err, ErrNoAccount) || email == "" {
		return a, err
	}
	result, err := s.db.ExecContext(ctx, "UPDATE account SET subject = ? WHERE email = ? AND subject IS NULL", subject, email)
	if err != nil {
		return a, fmt.Errorf("link an account: %w", err)
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return a, errors.Join(err, fmt.Errorf("%w: %s", ErrNoAccount, email))
	}
	return s.oneAccount(ctx, subject, "subject = ?", subject)
}

// AddAccount keeps an account, and gives it its number. Where first is said it is refused if there is one already.
func (s *Store) AddAccount(ctx context.Context, a people.Account, subject string, first bool) (people.Account, error) {
	if why := s.ReadOnly(); why != nil {
		return a, why
	}
	a.At = time.Now().UTC()
	err := s.onPeople(ctx, func(tx *sqlx.Tx) error {
		if first {
			var n int
			if err := tx.GetContext(ctx, &n, "SELECT count(*) FROM account"); err != nil {
				return err
			}
			if n > 0 {
				return fmt.Errorf("%w: there are accounts already", ErrTakenName)
			}
		}
		var same []string
		if err := tx.SelectContext(ctx, &same, "SELECT name FROM account WHERE name = ? OR (email <> '' AND email = ?)", a.Name, a.Email); err != nil {
			return err
		}
		if len(same) > 0 {
			return fmt.Errorf("%w: %s", ErrTakenName, same[0])
		}
		result, err := tx.ExecContext(ctx, "INSERT INTO account (name, role, email, subject, hash, code, code_until, at) VALUES (?, ?, ?, nullif(?, ''), ?, ?, ?, ?)",
			a.Name, string(a.Role), a.Email, subject, a.Hash, a.Code, stamp(a.Invited), stamp(a.At))
		if err != nil {
			return err
		}
		a.ID, err = result.LastInsertId()
		return err
	})
	a.Epoch, a.Secured, a.Linked = 1, a.Hash != "", subject != ""
	return a, err
}

// SetAccount keeps the role and the state of an account. Its sessions end where it may do less from now on.
func (s *Store) SetAccount(ctx context.Context, a people.Account) error {
	return s.onPeople(ctx, func(tx *sqlx.Tx) error {
		was, err := s.accountsWhere(ctx, tx, "id = ?", a.ID)
		if err != nil || len(was) == 0 {
			return errors.Join(err, fmt.Errorf("%w: %d", ErrNoAccount, a.ID))
		}
		ends := a.Off || !a.Role.May(was[0].Role)
		if _, err := tx.ExecContext(ctx, "UPDATE account SET role = ?, off = ?, epoch = epoch + ? WHERE id = ?", string(a.Role), a.Off, ends, a.ID); err != nil {
			return err
		}
		if was[0].Off || was[0].Role != people.Keeper {
			return nil
		}
		var keepers int
		if err := tx.GetContext(ctx, &keepers, "SELECT count(*) FROM account WHERE role = 'keeper' AND off = 0"); err != nil {
			return err
		}
		if keepers == 0 {
			return fmt.Errorf("%s: %w", was[0].Name, ErrLastKeeper)
		}
		return nil
	})
}

// Invite gives an account a one-time code, of which the digest is kept. Where it had one, that is no longer taken.
func (s *Store) Invite(ctx context.Context, id int64, digest string, until time.Time) error {
	return s.setAccount(ctx, id, "code = ?, code_until = ?", digest, stamp(until))
}

// SetPassword keeps the hash of an account's new password. Its code is spent, and all its sessions end.
func (s *Store) SetPassword(ctx context.Context, id int64, hash string) error {
	return s.setAccount(ctx, id, "hash = ?, code = '', code_until = '', epoch = epoch + 1", hash)
}

// SpendCode takes an account's code away if it is this one, and says whether it was: two who use it at once are told apart.
func (s *Store) SpendCode(ctx context.Context, id int64, digest string, now time.Time) (spent bool, err error) {
	if why := s.ReadOnly(); why != nil {
		return false, why
	}
	result, err := s.db.ExecContext(ctx, "UPDATE account SET code = '', code_until = '' WHERE id = ? AND code <> '' AND code = ? AND code_until > ? AND off = 0", id, digest, stamp(now))
	if err != nil {
		return false, fmt.Errorf("spend a code: %w", err)
	}
	n, err := result.RowsAffected()
	return n > 0, err
}

// EndSessions ends all sessions of an account.
func (s *Store) EndSessions(ctx context.Context, id int64) error {
	return s.setAccount(ctx, id, "epoch = epoch + 1")
}

// SawAccount notes that an account's person was here.
func (s *Store) SawAccount(ctx context.Context, id int64, at time.Time) error {
	return s.setAccount(ctx, id, "seen = ?", stamp(at))
}

func (s *Store) setAccount(ctx context.Context, id int64, set string, args ...any) error {
	if why := s.ReadOnly(); why != nil {
		return why
	}
	result, err := s.db.ExecContext(ctx, "UPDATE account SET "+set+" WHERE id = ?", append(args, id)...)
	if err != nil {
		return explained(s.file.name(), fmt.Errorf("keep an account: %w", err))
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("%w: %d", ErrNoAccount, id))
	}
	return nil
}

// onPeople does something to accounts in one transaction.
func (s *Store) onPeople(ctx context.Context, do func(*sqlx.Tx) error) error {
	if why := s.ReadOnly(); why != nil {
		return why
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return explained(s.file.name(), fmt.Errorf("keep accounts: %w", err))
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return explained(s.file.name(), tx.Commit())
}

type tokenRow struct {
	ID                            int64
	Account                       int64
	Owner                         string
	Name, Digest, Role, At, Until string
	Seen                          string
}

func (r *tokenRow) token() (t people.Token, err error) {
	t = people.Token{ID: r.ID, Account: r.Owner, Name: r.Name, Role: people.Role(r.Role)}
	if t.At, err = time.Parse(time.RFC3339Nano, r.At); err != nil {
		return t, err
	}
	if t.Until, err = time.Parse(time.RFC3339Nano, r.Until); err != nil || r.Seen == "" {
		return t, err
	}
	t.Seen, err = time.Parse(time.RFC3339Nano, r.Seen)
	return t, err
}

const tokensWithOwner = "SELECT token.*, account.name AS owner FROM token JOIN account ON account.id = token.account "

// Tokens are those of an account, or all where it is 0, the newest first.
func (s *Store) Tokens(ctx context.Context, account int64) ([]people.Token, error) {
	var rows []tokenRow
	if err := s.db.SelectContext(ctx, &rows, tokensWithOwner+"WHERE ? IN (0, account.id) ORDER BY token.id DESC", account); err != nil {
		return nil, explained(s.file.name(), fmt.Errorf("read tokens: %w", err))
	}
	out := make([]people.Token, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].token(); err != nil {
			return nil, fmt.Errorf("read token %d: %w", rows[i].ID, err)
		}
	}
	return out, nil
}

// AddToken keeps a token of an account, of which the secret's digest is kept.
func (s *Store) AddToken(ctx context.Context, account int64, t people.Token, digest string) (people.Token, error) {
	if why := s.ReadOnly(); why != nil {
		return t, why
	}
	t.At = time.Now().UTC()
	result, err := s.db.ExecContext(ctx, "INSERT INTO token (account, name, digest, role, at, until) VALUES (?, ?, ?, ?, ?, ?)", account, t.Name, digest, string(t.Role), stamp(t.At), stamp(t.Until))
	if err != nil {
		return t, explained(s.file.name(), fmt.Errorf("keep a token: %w", err))
	}
	t.ID, err = result.LastInsertId()
	return t, err
}

// TokenOf is the token of a secret's digest, with its account. Its error wraps ErrNoAccount where there is none, or it is over.
func (s *Store) TokenOf(ctx context.Context, digest string, now time.Time) (people.Token, people.Account, error) {
	var rows []tokenRow
	if err := s.db.SelectContext(ctx, &rows, tokensWithOwner+"WHERE token.digest = ?", digest); err != nil {
		return people.Token{}, people.Account{}, explained(s.file.name(), fmt.Errorf("read tokens: %w", err))
	}
	if len(rows) == 0 {
		return people.Token{}, people.Account{}, fmt.Errorf("%w for this token", ErrNoAccount)
	}
	t, err := rows[0].token()
	if err != nil {
		return t, people.Account{}, fmt.Errorf("read token %d: %w", t.ID, err)
	}
	if !now.Before(t.Until) {
		return t, people.Account{}, fmt.Errorf("%w: the token was good until %s", ErrNoAccount, t.Until.Format(time.DateOnly))
	}
	a, err := s.AccountOf(ctx, rows[0].Account)
	return t, a, err
}

// SawToken notes that a token was used.
func (s *Store) SawToken(ctx context.Context, id int64, at time.Time) error {
	if s.readOnly != nil {
		return nil
	}
	_, err := s.db.ExecContext(ctx, "UPDATE token SET seen = ? WHERE id = ?", stamp(at), id)
	return explained(s.file.name(), err)
}

// DropToken takes a token away: one of an account, or anybody's where that is 0.
func (s *Store) DropToken(ctx context.Context, id, account int64) error {
	if why := s.ReadOnly(); why != nil {
		return why
	}
	result, err := s.db.ExecContext(ctx, "DELETE FROM token WHERE id = ? AND ? IN (0, account)", id, account)
	if err != nil {
		return explained(s.file.name(), fmt.Errorf("drop token %d: %w", id, err))
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("%w has a token %d", ErrNoAccount, id))
	}
	return nil
}

// eventsKept is how many events of accounts are kept, the newest.
const eventsKept = 10_000

// Note keeps what happened to accounts.
func (s *Store) Note(ctx context.Context, e people.Event) error {
	if s.readOnly != nil {
		return nil
	}
	return s.onPeople(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO people_event (at, who, what, source) VALUES (?, ?, ?, ?)", stamp(e.At), e.Who, e.What, e.From); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM people_event WHERE rowid <= (SELECT max(rowid) FROM people_event) - ?", eventsKept)
		return err
	})
}

// Events are what happened to accounts, the newest first.
func (s *Store) Events(ctx context.Context, limit int) ([]people.Event, error) {
	var rows []struct{ At, Who, What, Source string }
	if err := s.db.SelectContext(ctx, &rows, "SELECT at, who, what, source FROM people_event ORDER BY rowid DESC LIMIT ?", limit); err != nil {
		return nil, explained(s.file.name(), fmt.Errorf("read what happened to accounts: %w", err))
	}
	out := make([]people.Event, len(rows))
	for i, r := range rows {
		at, err := time.Parse(time.RFC3339Nano, r.At)
		if err != nil {
			return nil, fmt.Errorf("read what happened to accounts: %w", err)
		}
		out[i] = people.Event{At: at, Who: r.Who, What: r.What, From: r.Source}
	}
	return out, nil
}
