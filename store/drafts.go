package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"steady-compass/core/estate"
)

// ErrNoDraft is wrapped by the error for a draft that is not there.
var ErrNoDraft = errors.New("no such draft")

// ErrDraftMoved is wrapped by the error for a draft that is not as it was read any more.
var ErrDraftMoved = errors.New("somebody has changed the draft meanwhile")

// Draft is a titled change that is not in force. Its lines are in notation; those that come may say their place.
type Draft struct {
	ID       int64     `json:"id"`
	Title    string    `json:"title"`
	Author   string    `json:"author"`
	Why      string    `json:"why"`
	At       time.Time `json:"at"`
	Revision int64     `json:"revision" doc:"Of the records, when it was begun"`
	Edition  int64     `json:"edition" doc:"Goes up with every change of its lines"`
	Remove   []string  `json:"remove" nullable:"false"`
	Add      []string  `json:"add" nullable:"false"`
	Done     []Done    `json:"done" nullable:"false" doc:"The steps of it that are in force already"`
}

// Done is a step of a draft that is made.
type Done struct {
	Place    string    `json:"place"`
	Who      string    `json:"who"`
	At       time.Time `json:"at"`
	Revision int64     `json:"revision" doc:"With which it came into force"`
}

type draftRow struct {
	ID       int64
	Title    string
	Author   string
	Why      string
	At       string
	Revision int64
	Gone     string
	Come     string
	Edition  int64
}

func (r *draftRow) draft() (Draft, error) {
	d := Draft{ID: r.ID, Title: r.Title, Author: r.Author, Why: r.Why, Revision: r.Revision, Edition: r.Edition, Done: []Done{}}
	at, err := time.Parse(time.RFC3339Nano, r.At)
	d.At = at
	return d, errors.Join(err, json.Unmarshal([]byte(r.Gone), &d.Remove), json.Unmarshal([]byte(r.Come), &d.Add))
}

// AddDraft keeps a draft, begun at the revision as it is now, and gives it its number.
func (s *Store) AddDraft(ctx context.Context, d Draft) (Draft, error) {
	if why := s.ReadOnly(); why != nil {
		return d, why
	}
	d.At, d.Revision, d.Edition, d.Done = time.Now().UTC(), s.Current().Revision, 1, []Done{}
	result, err := s.db.ExecContext(ctx, "INSERT INTO draft (title, author, why, at, revision, gone, come) VALUES (?, ?, ?, ?, ?, ?, ?)",
		d.Title, d.Author, d.Why, d.At.Format(time.RFC3339Nano), d.Revision, marshal(d.Remove), marshal(d.Add))
	if err != nil {
		return d, fmt.Errorf("keep draft %q: %w", d.Title, err)
	}
	d.ID, err = result.LastInsertId()
	return d, err
}

// Drafts are all that there are, the newest first.
func (s *Store) Drafts(ctx context.Context) ([]Draft, error) {
	var rows []draftRow
	if err := s.db.SelectContext(ctx, &rows, "SELECT * FROM draft ORDER BY id DESC"); err != nil {
		return nil, fmt.Errorf("read drafts: %w", err)
	}
	out := []Draft{}
	for i := range rows {
		d, err := rows[i].draft()
		if err != nil {
			return nil, fmt.Errorf("read draft %d: %w", rows[i].ID, err)
		}
		if err := s.doneOf(ctx, &d); err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// Draft is one of them; its error wraps ErrNoDraft where there is none of that number.
func (s *Store) Draft(ctx context.Context, id int64) (Draft, error) {
	var rows []draftRow
	if err := s.db.SelectContext(ctx, &rows, "SELECT * FROM draft WHERE id = ?", id); err != nil {
		return Draft{}, fmt.Errorf("read draft %d: %w", id, err)
	}
	if len(rows) == 0 {
		return Draft{}, fmt.Errorf("%w: %d", ErrNoDraft, id)
	}
	d, err := rows[0].draft()
	if err != nil {
		return d, fmt.Errorf("read draft %d: %w", id, err)
	}
	return d, s.doneOf(ctx, &d)
}

func (s *Store) doneOf(ctx context.Context, d *Draft) error {
	rows, err := s.db.QueryxContext(ctx, "SELECT place, who, at, revision FROM draft_done WHERE draft = ? ORDER BY rowid", d.ID)
	if err != nil {
		return fmt.Errorf("read draft %d: %w", d.ID, err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var one Done
		var at string
		if err := rows.Scan(&one.Place, &one.Who, &at, &one.Revision); err != nil {
			return fmt.Errorf("read draft %d: %w", d.ID, err)
		}
		if one.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return fmt.Errorf("read draft %d: %w", d.ID, err)
		}
		d.Done = append(d.Done, one)
	}
	return rows.Err()
}

// Amend keeps a draft as it is given: its title, its reason, its lines. It is the next edition of the one that was read; where another
// has changed the draft since, the error wraps ErrDraftMoved. The lines that it had are kept, for Unamend.
func (s *Store) Amend(ctx context.Context, d Draft, key string) (Draft, error) {
	err := s.onDraft(ctx, d.ID, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO draft_past (draft, edition, key, gone, come) SELECT id, edition, ?, gone, come FROM draft WHERE id = ? AND edition = ?", key, d.ID, d.Edition); err != nil {
			return err
		}
		return rewrite(ctx, tx, &d)
	})
	return d, err
}

// Unamend takes back what Amend did last; where it did nothing yet, the error wraps ErrNothing.
func (s *Store) Unamend(ctx context.Context, id int64) error {
	return s.onDraft(ctx, id, func(tx *sqlx.Tx) error {
		var past []int64
		if err := tx.SelectContext(ctx, &past, "SELECT edition FROM draft_past WHERE draft = ? ORDER BY edition DESC LIMIT 1", id); err != nil {
			return err
		}
		if len(past) == 0 {
			return fmt.Errorf("%w: nothing was written into this draft that could be taken back", ErrNothing)
		}
		for _, statement := range []string{
			"UPDATE draft SET edition = draft.edition + 1, gone = p.gone, come = p.come FROM draft_past p WHERE p.draft = draft.id AND draft.id = ? AND p.edition = ?",
			"DELETE FROM draft_past WHERE draft = ? AND edition = ?",
		} {
			if _, err := tx.ExecContext(ctx, statement, id, past[0]); err != nil {
				return err
			}
		}
		return nil
	})
}

// Amended says whether an amendment of that key is kept already, and how many there are to take back.
func (s *Store) Amended(ctx context.Context, id int64, key string) (known bool, n int, err error) {
	var counts struct{ All, Same int }
	err = s.db.GetContext(ctx, &counts, `SELECT count(*) AS "all", coalesce(sum(key <> '' AND key = ?), 0) AS same FROM draft_past WHERE draft = ?`, key, id)
	if err != nil {
		return false, 0, fmt.Errorf("read draft %d: %w", id, err)
	}
	return counts.Same > 0, counts.All, nil
}

// Advance keeps what is left of a draft's lines when a step of it is made. What was written into it before is no longer to be taken back.
func (s *Store) Advance(ctx context.Context, d Draft, done Done) error {
	return s.onDraft(ctx, d.ID, func(tx *sqlx.Tx) error {
		if err := rewrite(ctx, tx, &d); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM draft_past WHERE draft = ?", d.ID); err != nil {
			return err
		}
		return putDone(ctx, tx, d.ID, done)
	})
}

func putDone(ctx context.Context, tx *sqlx.Tx, draft int64, done Done) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO draft_done (draft, place, who, at, revision) VALUES (?, ?, ?, ?, ?)", draft, done.Place, done.Who, done.At.UTC().Format(time.RFC3339Nano), done.Revision)
	return err
}

// rewrite keeps a draft as the next edition of itself.
func rewrite(ctx context.Context, tx *sqlx.Tx, d *Draft) error {
	result, err := tx.ExecContext(ctx, "UPDATE draft SET title = ?, why = ?, gone = ?, come = ?, edition = edition + 1 WHERE id = ? AND edition = ?", d.Title, d.Why, marshal(d.Remove), marshal(d.Add), d.ID, d.Edition)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrDraftMoved)
	}
	d.Edition++
	return nil
}

// DraftCount is how many drafts there are.
func (s *Store) DraftCount(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, "SELECT count(*) FROM draft")
	return n, err
}

// DraftsMark is a text that is another whenever a draft is.
func (s *Store) DraftsMark(ctx context.Context) (string, error) {
	var mark string
	err := s.db.GetContext(ctx, &mark, "SELECT coalesce(group_concat(id || '.' || edition, ' '), '') FROM (SELECT id, edition FROM draft ORDER BY id)")
	return mark, err
}

// Meanwhile is what became of the lines of a draft that are not as it was written for: those that it takes out and that are not there
// any more, and those that it puts in and that are there already.
func (s *Store) Meanwhile(ctx context.Context, d Draft, c estate.Change) ([]Clash, error) {
	now := s.Current()
	clashes := []Clash{}
	for _, line := range c.Remove {
		if now.Estate.Has(line) {
			continue
		}
		var conflict *Conflict
		err := s.conflict(ctx, Edit{Base: d.Revision, Change: c}, now, []string{line}, nil)
		switch {
		case errors.As(err, &conflict):
			clashes = append(clashes, conflict.Clashes...)
		case errors.Is(err, estate.ErrNotThere): // nobody's change tells of it
			clashes = append(clashes, Clash{Line: line, Mine: instead(line, c.Remove, added(c))})
		default:
			return nil, err
		}
	}
	for _, p := range c.Add {
		line := estate.Line(p.Record)
		known := slices.Contains(c.Remove, line) || slices.ContainsFunc(clashes, func(k Clash) bool { return k.Mine == line })
		if now.Estate.Has(line) && !known {
			clashes = append(clashes, Clash{Mine: line, Theirs: line})
		}
	}
	return clashes, nil
}

// DropDraft takes a draft away.
func (s *Store) DropDraft(ctx context.Context, id int64) error {
	return s.onDraft(ctx, id, func(tx *sqlx.Tx) error {
		for _, statement := range []string{"DELETE FROM draft_done WHERE draft = ?", "DELETE FROM draft_past WHERE draft = ?", "DELETE FROM draft WHERE id = ?"} {
			if _, err := tx.ExecContext(ctx, statement, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// onDraft does something to a draft that is there.
func (s *Store) onDraft(ctx context.Context, id int64, do func(*sqlx.Tx) error) (err error) {
	if why := s.ReadOnly(); why != nil {
		return why
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("draft %d: %w", id, err)
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("draft %d: %w", id, errors.Join(err, tx.Rollback()))
		}
	}()
	var n int
	if err := tx.GetContext(ctx, &n, "SELECT count(*) FROM draft WHERE id = ?", id); err != nil {
		return err
	}
	if n == 0 {
		return ErrNoDraft
	}
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}
