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
	"net/url"
	"os"
	"path/filepath"
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

// Store is an open database.
type Store struct {
	db      *sqlx.DB
	current atomic.Pointer[Snapshot]

	write sync.Mutex
	rows  carry.Map[estate.Record, row] // where each record of the current estate stands
}

// row is a record's row in its kind's table.
type row struct{ id, rank int64 }

// Open opens a database file, making it where there is none, and brings it up to date. With
// an empty path the database is in memory and gone when closed.
func Open(ctx context.Context, path string) (*Store, error) {
	dsn := "file::memory:?_pragma=foreign_keys(1)&_txlock=immediate"
	if path != "" {
		if dir := filepath.Dir(path); dir != "." {
			if info, err := os.Stat(dir); err != nil || !info.IsDir() {
				return nil, fmt.Errorf("open %s: the folder %s is not there", path, dir)
			}
		}
		dsn = "file:" + (&url.URL{Path: path}).EscapedPath() +
			"?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate"
	}
	db, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	if path == "" {
		db.SetMaxOpenConns(1) // each connection would be a database of its own
	}
	s := &Store{db: db}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", path, err), db.Close())
	}
	if err := s.load(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", path, err), db.Close())
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.db.DB, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// Current is the estate in force.
func (s *Store) Current() Snapshot { return *s.current.Load() }

// Edit is a change that somebody asks for.
type Edit struct {
	Base   int64 // the revision it was made on
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

// Conflict is an edit that meets lines which have changed since the revision it was made on.
// Nothing of it is kept.
type Conflict struct {
	Base, Current int64
	Lines         []string // the lines of the edit that are not as they were
	Since         []Entry  // the changes since
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("the estate has moved from revision %d to %d in the same lines", c.Base, c.Current)
}

// ErrNothing is returned where there is nothing to change, undo or redo.
var ErrNothing = errors.New("nothing to do")

// Commit makes an edit: durable when it returns. Its error is a *Conflict where the estate
// moved under it in the same lines.
func (s *Store) Commit(ctx context.Context, e Edit) (Snapshot, error) {
	s.write.Lock()
	defer s.write.Unlock()
	now := s.Current()
	if err := s.checkBase(ctx, e, now); err != nil {
		return now, err
	}
	next, err := now.Estate.Apply(e.Change)
	if errors.Is(err, estate.ErrNotThere) {
		since, logErr := s.Log(ctx, 0, 20)
		if logErr != nil {
			return now, logErr
		}
		return now, &Conflict{e.Base, now.Revision, missingLines(now.Estate, e.Change), since}
	}
	if err != nil {
		return now, err
	}
	if e.SetTail {
		next = next.WithTail(e.Tail)
	}
	return s.save(ctx, now, next, entry{act: edit, who: e.Who, why: e.Why})
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
	undoable, _, err := s.stacks(ctx)
	if err != nil || len(undoable) == 0 {
		return 0, 0, err
	}
	revision = undoable[len(undoable)-1]
	entries, err := s.Log(ctx, revision+1, 1)
	if err != nil {
		return 0, 0, err
	}
	return revision, len(entries[0].Removed) + len(entries[0].Added), nil
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

// checkBase refuses an edit made on an older revision where the changes since touched its lines, or the order
// among which it places one.
func (s *Store) checkBase(ctx context.Context, e Edit, now Snapshot) error {
	switch {
	case e.Base == now.Revision:
		return nil
	case e.Base > now.Revision:
		return fmt.Errorf("revision %d is not there yet; the estate is at %d", e.Base, now.Revision)
	}
	since, err := s.since(ctx, e.Base)
	if err != nil {
		return err
	}
	lines, groups := map[string]bool{}, map[string]bool{}
	for _, c := range since {
		for _, l := range c.Removed {
			lines[l] = true
		}
		for _, l := range c.Added {
			lines[l.plain] = true
			groups[l.group] = true
		}
		for _, g := range c.removedGroups {
			groups[g] = true
		}
	}
	var met []string
	for _, l := range e.Change.Remove {
		if lines[l] {
			met = append(met, l)
		}
	}
	for _, p := range e.Change.Add {
		if lines[estate.Line(p.Record)] || p.At > 0 && groups[groupKey(p.Record)] {
			met = append(met, p.Line())
		}
	}
	if len(met) > 0 {
		return &Conflict{e.Base, now.Revision, met, since}
	}
	return nil
}

func groupKey(r estate.Record) string { return estate.KindOf(r).Word + " " + estate.GroupOf(r) }

// save writes what differs between two estates and the change itself, in one transaction.
func (s *Store) save(ctx context.Context, now Snapshot, next *estate.Estate, c entry) (Snapshot, error) {
	forward, backward := estate.Difference(now.Estate, next), estate.Difference(next, now.Estate)
	if forward.IsEmpty() && sameStrings(now.Estate.Tail, next.Tail) {
		return now, ErrNothing
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	rows, err := s.writeRows(ctx, tx, now.Estate, next)
	if err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	c.at = time.Now().UTC()
	c.forward, c.backward = encode(forward), encode(backward)
	revision, err := insertEntry(ctx, tx, c)
	if err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return now, fmt.Errorf("save: %w", err)
	}
	s.rows = rows
	snapshot := Snapshot{next, revision}
	s.current.Store(&snapshot)
	return snapshot, nil
}

// Undo takes back the last change that is not undone; Redo makes the last undone one again.
func (s *Store) Undo(ctx context.Context, who string) (Snapshot, error) {
	return s.turn(ctx, who, undo)
}

// Redo makes the change again that was undone last.
func (s *Store) Redo(ctx context.Context, who string) (Snapshot, error) {
	return s.turn(ctx, who, redo)
}

func (s *Store) turn(ctx context.Context, who string, how act) (Snapshot, error) {
	s.write.Lock()
	defer s.write.Unlock()
	now := s.Current()
	undoable, redoable, err := s.stacks(ctx)
	if err != nil {
		return now, err
	}
	stack := undoable
	if how == redo {
		stack = redoable
	}
	if len(stack) == 0 {
		return now, ErrNothing
	}
	return s.revert(ctx, now, stack[len(stack)-1], who, how)
}

// UndoOf takes back one change, whenever it was made. Where later changes touched the same lines it gives a
// *Conflict, and nothing changes.
func (s *Store) UndoOf(ctx context.Context, revision int64, who string) (Snapshot, error) {
	s.write.Lock()
	defer s.write.Unlock()
	now := s.Current()
	undoable, _, err := s.stacks(ctx)
	if err != nil {
		return now, err
	}
	for _, r := range undoable {
		if r == revision {
			return s.revert(ctx, now, revision, who, undo)
		}
	}
	return now, fmt.Errorf("%w: change %d is undone already, or not there", ErrNothing, revision)
}

func (s *Store) revert(ctx context.Context, now Snapshot, revision int64, who string, how act) (Snapshot, error) {
	column := "backward"
	if how == redo {
		column = "forward"
	}
	var text string
	if err := s.db.GetContext(ctx, &text, "SELECT "+column+" FROM change WHERE revision = ?", revision); err != nil {
		return now, fmt.Errorf("read change %d: %w", revision, err)
	}
	change, err := decode(text)
	if err != nil {
		return now, fmt.Errorf("read change %d: %w", revision, err)
	}
	next, err := now.Estate.Apply(change)
	if errors.Is(err, estate.ErrNotThere) {
		since, sinceErr := s.since(ctx, revision)
		if sinceErr != nil {
			return now, sinceErr
		}
		return now, &Conflict{revision, now.Revision, missingLines(now.Estate, change), since}
	}
	if err != nil {
		return now, err
	}
	return s.save(ctx, now, next, entry{act: how, of: sql.NullInt64{Int64: revision, Valid: true}, who: who})
}

// Reset makes the estate the given one, as one change.
func (s *Store) Reset(ctx context.Context, to *estate.Estate, who, why string) (Snapshot, error) {
	s.write.Lock()
	defer s.write.Unlock()
	return s.save(ctx, s.Current(), to, entry{act: edit, who: who, why: why})
}

// Backup writes a sound copy of the whole database to a file that is not there yet.
func (s *Store) Backup(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("backup: %s is there already", path)
	}
	if _, err := s.db.ExecContext(ctx, "VACUUM INTO ?", path); err != nil {
		return fmt.Errorf("backup to %s: %w", path, err)
	}
	return nil
}

func sameStrings(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}
