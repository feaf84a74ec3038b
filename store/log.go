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

// Entry is a change as the log shows it. Of a long one it has the first lines, and how many there are.
type Entry struct {
	Revision     int64     `json:"revision"`
	At           time.Time `json:"at"`
	Who          string    `json:"who"`
	Why          string    `json:"why,omitempty"`
	Act          string    `json:"act" doc:"edit, undo or redo; restored where the database was replaced by a copy"`
	Of           int64     `json:"of,omitempty"`
	Removed      []string  `json:"removed" nullable:"false"`
	Added        []string  `json:"added" nullable:"false" doc:"With their places, where they are ordered"`
	RemovedCount int       `json:"removedCount"`
	AddedCount   int       `json:"addedCount"`
	Effect       string    `json:"effect,omitempty"` // what it did to findings, as the server noted it
	Undone       bool      `json:"undone"`
}

// shownLines is how many of the lines that a change took, and of those that it brought, an Entry has.
const shownLines = 60

// entry is a change as it is written.
type entry struct {
	at                         time.Time
	who, why                   string
	act                        act
	of                         sql.NullInt64
	key                        sql.NullString
	forward, backward, summary string
}

// summary is what the log shows of a change, kept with it.
type summary struct {
	Removed      []string `json:"removed"`
	Added        []string `json:"added"`
	RemovedCount int      `json:"removedCount"`
	AddedCount   int      `json:"addedCount"`
}

func summaryOf(c estate.Change) string {
	x := summary{Removed: c.Remove[:min(len(c.Remove), shownLines)], Added: []string{}, RemovedCount: len(c.Remove), AddedCount: len(c.Add)}
	if x.Removed == nil {
		x.Removed = []string{}
	}
	for _, p := range c.Add[:min(len(c.Add), shownLines)] {
		x.Added = append(x.Added, p.Line())
	}
	return marshal(x)
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

func (w *wireChange) added() []string {
	out := make([]string, len(w.Add))
	for i, a := range w.Add {
		out[i] = a.Line
	}
	return out
}

// lines are those that went and those that came.
func (w *wireChange) lines() []string { return append(w.added(), w.Remove...) }

func encode(c estate.Change) string {
	w := wireChange{Remove: c.Remove, Add: []wireAdded{}}
	if w.Remove == nil {
		w.Remove = []string{}
	}
	for _, p := range c.Add {
		w.Add = append(w.Add, wireAdded{estate.Line(p.Record), p.At, p.Index, p.Record.Meta().Comments})
	}
	return marshal(w)
}

// marshal is JSON of strings and numbers, which cannot fail.
func marshal(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
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
	result, err := tx.ExecContext(ctx, "INSERT INTO change (at, who, why, act, of, key, forward, backward, summary) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		c.at.Format(time.RFC3339Nano), c.who, c.why, string(c.act), c.of, c.key, c.forward, c.backward, c.summary)
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
	Summary  string
	Effect   string
}

func (r entryRow) entry() (Entry, error) {
	at, err := time.Parse(time.RFC3339Nano, r.At)
	if err != nil {
		return Entry{}, fmt.Errorf("change %d: %w", r.Revision, err)
	}
	var x summary
	if err := json.Unmarshal([]byte(r.Summary), &x); err != nil {
		return Entry{}, fmt.Errorf("change %d: %w", r.Revision, err)
	}
	return Entry{
		Revision: r.Revision, At: at, Who: r.Who, Why: r.Why, Act: r.Act, Of: r.Of.Int64, Effect: r.Effect,
		Removed: x.Removed, Added: x.Added, RemovedCount: x.RemovedCount, AddedCount: x.AddedCount,
	}, nil
}

// Log gives changes, the newest first: at most limit of those before a revision (0: from the newest).
func (s *Store) Log(ctx context.Context, before int64, limit int) ([]Entry, error) {
	return s.LogOf(ctx, LogQuestion{Before: before, Limit: limit})
}

// LogQuestion says which changes are asked for.
type LogQuestion struct {
	Before int64  // only those before this revision; 0 for all
	Limit  int    // how many at most
	Who    string // only those of whom this is part of the name
	Kind   string // only those with a line of this kind
	Word   string // only those with a line, or a reason, that this is part of
}

// LogOf is the changes that a question asks for, the newest first.
func (s *Store) LogOf(ctx context.Context, q LogQuestion) ([]Entry, error) {
	if q.Before <= 0 {
		q.Before = 1 << 62
	}
	like := func(word string) string {
		return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(word) + "%"
	}
	kind := ""
	if q.Kind != "" {
		kind = like(`"` + q.Kind + " ") // a line as JSON
	}
	word := ""
	if q.Word != "" {
		word = marshal(strings.ToLower(q.Word))
		word = like(word[1 : len(word)-1])
	}
	var rows []entryRow
	if err := s.db.SelectContext(ctx, &rows, "SELECT revision, at, who, why, CASE WHEN "+isRestored+" THEN '"+restored+"' ELSE act END AS act, of, summary, effect FROM change"+
		` WHERE revision < ? AND (? = '' OR who LIKE ? ESCAPE '\') AND (? = '' OR forward LIKE ? ESCAPE '\') AND (? = '' OR lower(forward) LIKE ? ESCAPE '\' OR lower(why) LIKE ? ESCAPE '\')`+
		" ORDER BY revision DESC LIMIT ?", q.Before, q.Who, like(q.Who), kind, kind, word, word, like(strings.ToLower(q.Word)), q.Limit); err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	undoable, _ := s.undoable()
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

// summarise gives the changes of an earlier version of this program what the log shows of them.
func summarise(ctx context.Context, db *sqlx.DB) error {
	var rows []struct {
		Revision int64
		Forward  string
	}
	if err := db.SelectContext(ctx, &rows, "SELECT revision, forward FROM change WHERE summary = ''"); err != nil {
		return err
	}
	for _, r := range rows {
		c, err := decode(r.Forward)
		if err != nil {
			return fmt.Errorf("change %d: %w", r.Revision, err)
		}
		if _, err := db.ExecContext(ctx, "UPDATE change SET summary = ? WHERE revision = ?", summaryOf(c), r.Revision); err != nil {
			return err
		}
	}
	return nil
}

// since gives the changes after a revision, the oldest first.
func (s *Store) since(ctx context.Context, revision int64) ([]wireChange, error) {
	var texts []string
	if err := s.db.SelectContext(ctx, &texts, "SELECT forward FROM change WHERE revision > ? ORDER BY revision", revision); err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	out := make([]wireChange, len(texts))
	for i, text := range texts {
		if err := json.Unmarshal([]byte(text), &out[i]); err != nil {
			return nil, fmt.Errorf("read the log: %w", err)
		}
	}
	return out, nil
}

// stacks are the revisions that can be undone and redone, the next one last.
type stacks struct{ undoable, redoable []int64 }

// after is what can be undone and redone once a change is made.
func (s stacks) after(revision int64, how act, of int64) stacks {
	drop := func(list []int64, v int64) []int64 {
		return slices.DeleteFunc(list, func(x int64) bool { return x == v })
	}
	switch how {
	case edit:
		return stacks{append(s.undoable, revision), nil}
	case undo:
		return stacks{drop(s.undoable, of), append(s.redoable, of)}
	case redo:
		return stacks{append(s.undoable, of), drop(s.redoable, of)}
	}
	return s
}

// note adds a change to the stacks.
func (s *Store) note(revision int64, c entry) {
	s.past.Lock()
	defer s.past.Unlock()
	s.stacks = s.stacks.after(revision, c.act, c.of.Int64)
}

// undoable gives copies of the stacks.
func (s *Store) undoable() (undoable, redoable []int64) {
	s.past.Lock()
	defer s.past.Unlock()
	return slices.Clone(s.stacks.undoable), slices.Clone(s.stacks.redoable)
}

// loadStacks reads the stacks from the log.
func (s *Store) loadStacks(ctx context.Context, from sqlx.QueryerContext) error {
	var rows []struct {
		Revision int64
		Act      string
		Of       sql.NullInt64
	}
	if err := sqlx.SelectContext(ctx, from, &rows, "SELECT revision, act, of FROM change WHERE NOT coalesce("+isRestored+", false) ORDER BY revision"); err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	var all stacks
	for _, r := range rows {
		all = all.after(r.Revision, act(r.Act), r.Of.Int64)
	}
	s.past.Lock()
	defer s.past.Unlock()
	s.stacks = all
	return nil
}

// SetEffect notes what a change did to findings.
func (s *Store) SetEffect(ctx context.Context, revision int64, effect string) error {
	if _, err := s.db.ExecContext(ctx, "UPDATE change SET effect = ? WHERE revision = ?", strings.TrimSpace(effect), revision); err != nil {
		return fmt.Errorf("note the effect of change %d: %w", revision, err)
	}
	return nil
}

// RevisionAt is the last revision of a moment; 0 before the first.
func (s *Store) RevisionAt(ctx context.Context, at time.Time) (revision int64, err error) {
	err = s.db.GetContext(ctx, &revision, "SELECT coalesce(max(revision), 0) FROM change WHERE julianday(at) <= julianday(?)", stamp(at))
	return revision, explained(s.file.name(), err)
}
