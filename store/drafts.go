package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// ErrNoDraft is wrapped by the error for a draft that is not there.
var ErrNoDraft = errors.New("no such draft")

// Draft is a titled change that is not in force. Its lines are in notation; those that come may say their place.
type Draft struct {
	ID       int64     `json:"id"`
	Title    string    `json:"title"`
	Author   string    `json:"author"`
	Why      string    `json:"why"`
	At       time.Time `json:"at"`
	Revision int64     `json:"revision" doc:"Of the records, when it was begun"`
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
}

func (r *draftRow) draft() (Draft, error) {
	d := Draft{ID: r.ID, Title: r.Title, Author: r.Author, Why: r.Why, Revision: r.Revision, Done: []Done{}}
	at, err := time.Parse(time.RFC3339Nano, r.At)
	d.At = at
	return d, errors.Join(err, json.Unmarshal([]byte(r.Gone), &d.Remove), json.Unmarshal([]byte(r.Come), &d.Add))
}

// AddDraft keeps a draft, begun at the revision as it is now, and gives it its number.
func (s *Store) AddDraft(ctx context.Context, d Draft) (Draft, error) {
	if why := s.ReadOnly(); why != nil {
		return d, why
	}
	d.At, d.Revision, d.Done = time.Now().UTC(), s.Current().Revision, []Done{}
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

// SetDraft keeps what is left of a draft's lines, and what was done of it besides.
func (s *Store) SetDraft(ctx context.Context, d Draft, done ...Done) error {
	return s.onDraft(ctx, d.ID, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE draft SET title = ?, why = ?, gone = ?, come = ? WHERE id = ?", d.Title, d.Why, marshal(d.Remove), marshal(d.Add), d.ID); err != nil {
			return err
		}
		for _, one := range done {
			if _, err := tx.ExecContext(ctx, "INSERT INTO draft_done (draft, place, who, at, revision) VALUES (?, ?, ?, ?, ?)", d.ID, one.Place, one.Who, one.At.UTC().Format(time.RFC3339Nano), one.Revision); err != nil {
				return err
			}
		}
		return nil
	})
}

// DropDraft takes a draft away.
func (s *Store) DropDraft(ctx context.Context, id int64) error {
	return s.onDraft(ctx, id, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM draft_done WHERE draft = ?", id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM draft WHERE id = ?", id)
		return err
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
