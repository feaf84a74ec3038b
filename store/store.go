// Package store keeps an estate in SQLite: a typed table a kind of record, and every change that
// made it what it is. One writer; each change is one transaction, on disk before it is
// acknowledged. The estate in force is held in memory as an immutable value.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver

	"steady-compass/core/carry"
	"steady-compass/core/estate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Snapshot is the estate at a revision. Revision 0 is the empty estate.
type Snapshot struct {
	Estate   *estate.Estate
	Revision int64
}

// Store is an open database. Other programs may have it open too: each commit is made only on the revision that is the last
// one in the file, and Refresh takes over what others made.
type Store struct {
	db       *sqlx.DB
	file     *file // nil for a database in memory
	readOnly error // why nothing can be kept; nil where it can
	current  atomic.Pointer[Snapshot]

	write sync.Mutex
	rows  carry.Map[estate.Record, row] // where each record of the current estate stands

	past   sync.Mutex
	stacks stacks // which changes can be undone and redone
}

// row is a record's row in its kind's table.
type row struct{ id, rank int64 }

// Open opens a database file, making it where there is none, and brings it up to date. One that may not be written is
// opened all the same, for questions: each edit then ends with ErrReadOnly. With an empty path the database is in memory
// and gone when closed.
func Open(ctx context.Context, path string) (*Store, error) {
	s, err := openFile(ctx, path)
	if err != nil {
		return nil, err
	}
	if err := s.load(ctx); err != nil {
		return nil, errors.Join(explained(path, err), s.Close())
	}
	return s, nil
}

func migrate(ctx context.Context, db *sqlx.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db.DB, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database; what it holds is all in its one file then.
func (s *Store) Close() error {
	return errors.Join(s.file.close(), s.db.Close())
}

// Current is the estate in force, as far as this program knows.
func (s *Store) Current() Snapshot { return *s.current.Load() }

// ReadOnly is why nothing can be kept; nil where it can.
func (s *Store) ReadOnly() error { return s.readOnly }

// Refresh takes over what other programs have kept since. Its error says what is wrong with the file, ErrLost where it is
// not there any more.
func (s *Store) Refresh(ctx context.Context) error {
	if err := s.file.there(); err != nil {
		return err
	}
	last, err := lastRevision(ctx, s.db)
	if err != nil || last == s.Current().Revision {
		return explained(s.file.name(), err)
	}
	s.write.Lock()
	defer s.write.Unlock()
	return s.load(ctx)
}

func lastRevision(ctx context.Context, from sqlx.QueryerContext) (revision int64, err error) {
	err = sqlx.GetContext(ctx, from, &revision, "SELECT coalesce(max(revision), 0) FROM change")
	return revision, err
}

// Edit is a change that somebody asks for.
type Edit struct {
	Base   int64  // the revision it was made on
	Key    string // what its maker calls it, so that the same edit sent again is kept once; "" where it is never sent again
	Who    string
	Why    string
	Change estate.Change
	// Tail is the comments behind the last record, where SetTail says that the edit brings them.
	Tail    []string
	SetTail bool
}

// act is how a change came about.
type act string

const (
	edit act = "edit"
	undo act = "undo"
	redo act = "redo"
)

// ErrNothing is returned where there is nothing to change, undo or redo.
var ErrNothing = errors.New("nothing to do")

// errMoved says that another program has kept a revision since the one that an edit was made on.
var errMoved = errors.New("another revision is the last one in the file")

// Committed is a change that is kept: the estate that it was made on, and what came of it.
type Committed struct{ Before, After Snapshot }

// Commit makes an edit: durable when it returns. Its error is a *Conflict where the estate
// moved under it in the same lines.
func (s *Store) Commit(ctx context.Context, e Edit) (Committed, error) {
	return s.keep(ctx, func(now Snapshot) (*estate.Estate, entry, error) {
		if kept, err := s.isKept(ctx, e.Key); kept || err != nil {
			return now.Estate, entry{}, err
		}
		if err := s.checkBase(ctx, e, now); err != nil {
			return nil, entry{}, err
		}
		next, err := now.Estate.Apply(e.Change)
		if errors.Is(err, estate.ErrNotThere) {
			return nil, entry{}, s.conflict(ctx, e, now, missingLines(now.Estate, e.Change), err)
		}
		if err != nil {
			return nil, entry{}, err
		}
		if e.SetTail {
			next = next.WithTail(e.Tail)
		}
		return next, entry{act: edit, who: e.Who, why: e.Why, key: sql.NullString{String: e.Key, Valid: e.Key != ""}}, nil
	})
}

// isKept says whether an edit has been kept already.
func (s *Store) isKept(ctx context.Context, key string) (bool, error) {
	if key == "" {
		return false, nil
	}
	var n int
	err := s.db.GetContext(ctx, &n, "SELECT count(*) FROM change WHERE key = ?", key)
	return n > 0, explained(s.file.name(), err)
}

// keep works out what the estate becomes, and keeps it. Where another program was quicker, it is taken over first and
// the next estate worked out anew.
func (s *Store) keep(ctx context.Context, next func(now Snapshot) (*estate.Estate, entry, error)) (Committed, error) {
	if s.readOnly != nil {
		return Committed{}, s.readOnly
	}
	s.write.Lock()
	defer s.write.Unlock()
	for {
		if err := s.file.there(); err != nil {
			return Committed{}, err
		}
		now := s.Current()
		e, c, err := next(now)
		if err != nil {
			return Committed{}, err
		}
		if c.act == "" { // it is kept already
			return Committed{now, now}, nil
		}
		after, err := s.save(ctx, now, e, c)
		if errors.Is(err, errMoved) {
			if err := s.load(ctx); err != nil {
				return Committed{}, explained(s.file.name(), err)
			}
			continue
		}
		if err != nil {
			return Committed{}, explained(s.file.name(), err)
		}
		// What was written to a file that is gone by now is not kept.
		if err := s.file.there(); err != nil {
			return Committed{}, err
		}
		s.file.settleSoon()
		return Committed{now, after}, nil
	}
}

// At is the estate as it was at a revision.
func (s *Store) At(ctx context.Context, revision int64) (*estate.Estate, error) {
	now := s.Current()
	if revision > now.Revision {
		return nil, fmt.Errorf("revision %d is not there yet; the estate is at %d", revision, now.Revision)
	}
	var texts []string
	if err := s.db.SelectContext(ctx, &texts, "SELECT backward FROM change WHERE revision > ? AND revision <= ? ORDER BY revision DESC", revision, now.Revision); err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	e := now.Estate
	for _, text := range texts {
		c, err := decode(text)
		if err != nil {
			return nil, fmt.Errorf("read the log: %w", err)
		}
		if e, err = e.Apply(c); err != nil {
			return nil, fmt.Errorf("go back to revision %d: %w", revision, err)
		}
	}
	return e, nil
}

// Next is the change that Undo would take back: its revision and how many lines it took and brought; zero where
// there is none.
func (s *Store) Next(ctx context.Context) (revision int64, lines int, err error) {
	undoable, _ := s.undoable()
	if len(undoable) == 0 {
		return 0, 0, nil
	}
	revision = undoable[len(undoable)-1]
	entries, err := s.Log(ctx, revision+1, 1)
	if err != nil {
		return 0, 0, err
	}
	return revision, entries[0].RemovedCount + entries[0].AddedCount, nil
}

func missingLines(e *estate.Estate, c estate.Change) []string {
	there := map[string]int{}
	for _, r := range e.All() {
		there[estate.Line(r)]++
	}
	var out []string
	for _, line := range c.Remove {
		if there[line]--; there[line] < 0 {
			out = append(out, line)
		}
	}
	return out
}

func groupKey(r estate.Record) string { return estate.KindOf(r).Word + " " + estate.GroupOf(r) }

// save writes what differs between two estates and the change itself, in one transaction; errMoved where the first is not
// the last in the file.
func (s *Store) save(ctx context.Context, now Snapshot, next *estate.Estate, c entry) (Snapshot, error) {
	forward, backward := estate.Difference(now.Estate, next), estate.Difference(next, now.Estate)
	if forward.IsEmpty() && slices.Equal(now.Estate.Tail, next.Tail) {
		return now, ErrNothing
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	switch last, err := lastRevision(ctx, tx); {
	case err != nil:
		return now, fmt.Errorf("save: %w", err)
	case last != now.Revision:
		return now, errMoved
	}
	rows, err := s.writeRows(ctx, tx, now.Estate, next)
	if err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	c.at = time.Now().UTC()
	c.forward, c.backward = encode(forward), encode(backward)
	c.summary = summaryOf(forward)
	revision, err := insertEntry(ctx, tx, c)
	if err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	s.rows = rows
	s.note(revision, c)
	snapshot := Snapshot{next, revision}
	s.current.Store(&snapshot)
	return snapshot, nil
}

// Undo takes back the last change that is not undone; Redo makes the last undone one again.
func (s *Store) Undo(ctx context.Context, who string) (Committed, error) {
	return s.turn(ctx, who, undo)
}

// Redo makes the change again that was undone last.
func (s *Store) Redo(ctx context.Context, who string) (Committed, error) {
	return s.turn(ctx, who, redo)
}

func (s *Store) turn(ctx context.Context, who string, how act) (Committed, error) {
	return s.keep(ctx, func(now Snapshot) (*estate.Estate, entry, error) {
		stack, redoable := s.undoable()
		if how == redo {
			stack = redoable
		}
		if len(stack) == 0 {
			return nil, entry{}, ErrNothing
		}
		return s.revert(ctx, now, stack[len(stack)-1], who, how)
	})
}

// UndoOf takes back one change, whenever it was made. Where later changes touched the same lines it gives a
// *Conflict, and nothing changes.
func (s *Store) UndoOf(ctx context.Context, revision int64, who string) (Committed, error) {
	return s.keep(ctx, func(now Snapshot) (*estate.Estate, entry, error) {
		if undoable, _ := s.undoable(); !slices.Contains(undoable, revision) {
			return nil, entry{}, fmt.Errorf("%w: change %d is undone already, or not there", ErrNothing, revision)
		}
		return s.revert(ctx, now, revision, who, undo)
	})
}

// RedoOf makes one change again that was undone, whenever that was. Where later changes touched the same lines it gives a *Conflict, and
// nothing changes.
func (s *Store) RedoOf(ctx context.Context, revision int64, who string) (Committed, error) {
	return s.keep(ctx, func(now Snapshot) (*estate.Estate, entry, error) {
		if err := s.isUndone(ctx, revision); err != nil {
			return nil, entry{}, err
		}
		return s.revert(ctx, now, revision, who, redo)
	})
}

func (s *Store) isUndone(ctx context.Context, revision int64) error {
	var how string
	err := s.db.GetContext(ctx, &how, "SELECT act FROM change WHERE revision = ?", revision)
	if undoable, _ := s.undoable(); errors.Is(err, sql.ErrNoRows) || err == nil && (act(how) != edit || slices.Contains(undoable, revision)) {
		return fmt.Errorf("%w: change %d is not undone, or not there", ErrNothing, revision)
	}
	return err
}

// way is what a change has to be made of the estate to take it back, or to make it again.
func (s *Store) way(ctx context.Context, revision int64, how act) (estate.Change, error) {
	column := "backward"
	if how == redo {
		column = "forward"
	}
	var text string
	err := s.db.GetContext(ctx, &text, "SELECT "+column+" FROM change WHERE revision = ?", revision)
	if errors.Is(err, sql.ErrNoRows) {
		return estate.Change{}, fmt.Errorf("%w: change %d is not there", ErrNothing, revision)
	}
	var c estate.Change
	if err == nil {
		c, err = decode(text)
	}
	if err != nil {
		return c, fmt.Errorf("read change %d: %w", revision, err)
	}
	return c, nil
}

func (s *Store) revert(ctx context.Context, now Snapshot, revision int64, who string, how act) (*estate.Estate, entry, error) {
	change, err := s.way(ctx, revision, how)
	if err != nil {
		return nil, entry{}, err
	}
	next, err := now.Estate.Apply(change)
	if errors.Is(err, estate.ErrNotThere) {
		return nil, entry{}, s.conflict(ctx, Edit{Base: revision, Change: change}, now, missingLines(now.Estate, change), err)
	}
	return next, entry{act: how, of: sql.NullInt64{Int64: revision, Valid: true}, who: who}, err
}

// Proposal is what takes a change back, or makes it again, though later changes touched its lines: all of it that can be made, and where a
// line has become another, that one goes in its place. It may be empty, where all is so already.
func (s *Store) Proposal(ctx context.Context, revision int64, again bool) (estate.Change, error) {
	how, now := undo, s.Current()
	if again {
		how = redo
	}
	change, err := s.way(ctx, revision, how)
	if err != nil {
		return change, err
	}
	out := estate.Change{}
	missing := missingLines(now.Estate, change)
	left := slices.Clone(missing)
	for _, line := range change.Remove {
		if i := slices.Index(left, line); i >= 0 {
			left = slices.Delete(left, i, i+1)
			continue
		}
		out.Remove = append(out.Remove, line)
	}
	var met *Conflict
	if err := s.conflict(ctx, Edit{Base: revision, Change: change}, now, missing, nil); len(missing) > 0 && !errors.As(err, &met) && !errors.Is(err, estate.ErrNotThere) {
		return out, err
	}
	if met != nil {
		for _, c := range met.Clashes {
			if c.Theirs != "" && now.Estate.Has(c.Theirs) && !slices.Contains(out.Remove, c.Theirs) {
				out.Remove = append(out.Remove, c.Theirs)
			}
		}
	}
	for _, p := range change.Add {
		line := estate.Line(p.Record)
		if i := slices.Index(out.Remove, line); i >= 0 {
			out.Remove = slices.Delete(out.Remove, i, i+1) // it is that already
			continue
		}
		if !now.Estate.Has(line) {
			p.Index = 0 // of a list that is another by now
			out.Add = append(out.Add, p)
		}
	}
	return out, nil
}

// Reset makes the estate the given one, as one change on a revision. Its error is ErrMoved where that is not the last.
func (s *Store) Reset(ctx context.Context, base int64, to *estate.Estate, who, why string) (Committed, error) {
	return s.keep(ctx, func(now Snapshot) (*estate.Estate, entry, error) {
		if base != now.Revision {
			return nil, entry{}, ErrMoved
		}
		return to, entry{act: edit, who: who, why: why}, nil
	})
}

// ErrMoved is returned where a whole estate was made on a revision that is not the last any more.
var ErrMoved = errors.New("the estate has been changed meanwhile; nothing was kept")
