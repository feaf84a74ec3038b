package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// Entry is a change as the log shows it.
type Entry struct {
	Revision int64     `json:"revision"`
	At       time.Time `json:"at"`
	Who      string    `json:"who"`
	Why      string    `json:"why,omitempty"`
	Act      string    `json:"act"` // edit, undo or redo
	Of       int64     `json:"of,omitempty"`
	Removed  []string  `json:"removed" nullable:"false"`
	Added    []Added   `json:"-" nullable:"false"`
	Lines    []string  `json:"added" nullable:"false"`
	Effect   string    `json:"effect,omitempty"` // what it did to findings, as the server noted it
	Undone   bool      `json:"undone"`

	removedGroups []string
}

// Added is a line that a change brought.
type Added struct {
	Line  string // with its place, where it is ordered
	plain string
	group string
}

// entry is a change as it is written.
type entry struct {
	at                time.Time
	who, why          string
	act               act
	of                sql.NullInt64
	forward, backward string
}

// wireChange is a change as JSON.
type wireChange struct {
	Remove []string    `json:"remove" nullable:"false"`
	Add    []wireAdded `json:"add" nullable:"false"`
}

type wireAdded struct {
	Line     string   `json:"line"`
	At       int      `json:"at,omitempty"`
	Index    int      `json:"index,omitempty"`
	Comments []string `json:"comments,omitempty" nullable:"false"`
}

func encode(c estate.Change) string {
	w := wireChange{Remove: c.Remove, Add: []wireAdded{}}
	if w.Remove == nil {
		w.Remove = []string{}
	}
	for _, p := range c.Add {
		w.Add = append(w.Add, wireAdded{estate.Line(p.Record), p.At, p.Index, p.Record.Meta().Comments})
	}
	text, err := json.Marshal(w)
	if err != nil { // strings and numbers only
		panic("store: " + err.Error())
	}
	return string(text)
}

func decode(text string) (estate.Change, error) {
	var w wireChange
	if err := json.Unmarshal([]byte(text), &w); err != nil {
		return estate.Change{}, err
	}
	c := estate.Change{Remove: w.Remove}
	for _, a := range w.Add {
		p, _, err := notation.ParseLine(a.Line)
		if err != nil {
			return estate.Change{}, fmt.Errorf("%s: %w", a.Line, err)
		}
		p.Record.Meta().Comments = a.Comments
		c.Add = append(c.Add, estate.Placed{Record: p.Record, At: a.At, Index: a.Index})
	}
	return c, nil
}

func insertEntry(ctx context.Context, tx *sqlx.Tx, c entry) (int64, error) {
	result, err := tx.ExecContext(ctx, "INSERT INTO change (at, who, why, act, of, forward, backward) VALUES (?, ?, ?, ?, ?, ?, ?)",
		c.at.Format(time.RFC3339Nano), c.who, c.why, string(c.act), c.of, c.forward, c.backward)
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

type entryRow struct {
	Revision int64
	At       string
	Who, Why string
	Act      string
	Of       sql.NullInt64
	Forward  string
	Backward string
	Effect   string
}

func (r entryRow) entry() (Entry, error) {
	at, err := time.Parse(time.RFC3339Nano, r.At)
	if err != nil {
		return Entry{}, fmt.Errorf("change %d: %w", r.Revision, err)
	}
	c, err := decode(r.Forward)
	if err != nil {
		return Entry{}, fmt.Errorf("change %d: %w", r.Revision, err)
	}
	e := Entry{Revision: r.Revision, At: at, Who: r.Who, Why: r.Why, Act: r.Act, Of: r.Of.Int64, Removed: c.Remove, Lines: []string{}, Effect: r.Effect}
	for _, p := range c.Add {
		e.Added = append(e.Added, Added{p.Line(), estate.Line(p.Record), groupKey(p.Record)})
		e.Lines = append(e.Lines, p.Line())
	}
	for _, line := range c.Remove {
		if p, _, err := notation.ParseLine(line); err == nil && p.Record != nil {
			e.removedGroups = append(e.removedGroups, groupKey(p.Record))
		}
	}
	return e, nil
}

// Log gives changes, the newest first: at most limit of those before a revision (0: from the newest).
func (s *Store) Log(ctx context.Context, before int64, limit int) ([]Entry, error) {
	if before <= 0 {
		before = 1 << 62
	}
	var rows []entryRow
	if err := s.db.SelectContext(ctx, &rows, "SELECT revision, at, who, why, act, of, forward, backward, effect FROM change WHERE revision < ? ORDER BY revision DESC LIMIT ?", before, limit); err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	undoable, _, err := s.stacks(ctx)
	if err != nil {
		return nil, err
	}
	out := []Entry{}
	for _, r := range rows {
		e, err := r.entry()
		if err != nil {
			return nil, err
		}
		e.Undone = e.Act == string(edit) && !slices.Contains(undoable, e.Revision)
		out = append(out, e)
	}
	return out, nil
}

// since gives the changes after a revision, the oldest first.
func (s *Store) since(ctx context.Context, revision int64) ([]Entry, error) {
	var rows []entryRow
	if err := s.db.SelectContext(ctx, &rows, "SELECT revision, at, who, why, act, of, forward, backward, effect FROM change WHERE revision > ? ORDER BY revision", revision); err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	var out []Entry
	for _, r := range rows {
		e, err := r.entry()
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// stacks gives the revisions that can be undone and redone, the next one last.
func (s *Store) stacks(ctx context.Context) (undoable, redoable []int64, err error) {
	var rows []struct {
		Revision int64
		Act      string
		Of       sql.NullInt64
	}
	if err := s.db.SelectContext(ctx, &rows, "SELECT revision, act, of FROM change ORDER BY revision"); err != nil {
		return nil, nil, fmt.Errorf("read the log: %w", err)
	}
	drop := func(list []int64, v int64) []int64 {
		return slices.DeleteFunc(list, func(x int64) bool { return x == v })
	}
	for _, r := range rows {
		switch act(r.Act) {
		case edit:
			undoable, redoable = append(undoable, r.Revision), nil
		case undo:
			undoable, redoable = drop(undoable, r.Of.Int64), append(redoable, r.Of.Int64)
		case redo:
			undoable, redoable = append(undoable, r.Of.Int64), drop(redoable, r.Of.Int64)
		}
	}
	return undoable, redoable, nil
}

// SetEffect notes what a change did to findings.
func (s *Store) SetEffect(ctx context.Context, revision int64, effect string) error {
	if _, err := s.db.ExecContext(ctx, "UPDATE change SET effect = ? WHERE revision = ?", strings.TrimSpace(effect), revision); err != nil {
		return fmt.Errorf("note the effect of change %d: %w", revision, err)
	}
	return nil
}
