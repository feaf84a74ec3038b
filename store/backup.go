package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"steady-compass/core/estate"
)

// Backup writes a sound copy of the whole database to a file that is not there yet, and notes that it did. Where it fails, it leaves nothing.
func (s *Store) Backup(ctx context.Context, path string) error {
	if err := s.copyTo(ctx, path); err != nil {
		return fmt.Errorf("backup to %s: %w", path, err)
	}
	if s.readOnly != nil {
		return nil
	}
	whole, err := filepath.Abs(path)
	if err != nil {
		whole = path
	}
	_, err = s.db.ExecContext(ctx, "INSERT INTO backup (at, file, revision) SELECT ?, ?, coalesce(max(revision), 0) FROM change", stamp(time.Now()), whole)
	return explained(s.file.name(), err)
}

// copyTo writes a copy, whole before it has its name.
func (s *Store) copyTo(ctx context.Context, path string) error {
	taken := errors.New("it is there already; expected a name that is free")
	if _, err := os.Lstat(path); err == nil {
		return taken
	}
	dir, err := os.MkdirTemp(filepath.Dir(path), ".backup-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	whole := filepath.Join(dir, "whole")
	if _, err := s.db.ExecContext(ctx, "VACUUM INTO ?", whole); err != nil {
		return err
	}
	if err := os.Chmod(whole, 0o600); err != nil {
		return err
	}
	if err := os.Link(whole, path); err == nil || errors.Is(err, fs.ErrExist) {
		if err != nil {
			return taken
		}
		return nil
	}
	return os.Rename(whole, path) // not every file system has links
}

// LastBackup is when a copy was last made, and how many changes there are since; zero where none was ever made.
func (s *Store) LastBackup(ctx context.Context) (at time.Time, since int64, err error) {
	var last struct {
		At    sql.NullString
		Since int64
	}
	err = s.db.GetContext(ctx, &last, "SELECT max(at) AS at, (SELECT count(*) FROM change WHERE revision > coalesce((SELECT max(revision) FROM backup), 0)) AS since FROM backup")
	if err != nil || !last.At.Valid {
		return time.Time{}, last.Since, explained(s.file.name(), err)
	}
	at, err = time.Parse(time.RFC3339Nano, last.At.String)
	return at, last.Since, err
}

// Begun is when the first change was made; now where there is none.
func (s *Store) Begun(ctx context.Context) (time.Time, error) {
	var at sql.NullString
	if err := s.db.GetContext(ctx, &at, "SELECT min(at) FROM change"); err != nil || !at.Valid {
		return time.Now(), explained(s.file.name(), err)
	}
	return time.Parse(time.RFC3339Nano, at.String)
}

// Contents are what a database holds.
type Contents struct {
	Revision int64     `json:"revision"`
	Records  int       `json:"records"`
	Changes  int       `json:"changes"`
	Last     time.Time `json:"last,omitzero" doc:"When the last change was made"`
	Drafts   int       `json:"drafts"`
	Accounts int       `json:"accounts"`
	Looks    int       `json:"looks"`
}

// Sound looks a database through: the file's own structure, what refers to what, every record, and the log, which leads back to the empty
// estate. It says what it holds.
func (s *Store) Sound(ctx context.Context) (Contents, error) {
	var c Contents
	if err := intact(ctx, s.db, "integrity_check"); err != nil {
		return c, fmt.Errorf("%s: %w", s.file.name(), err)
	}
	now := s.Current()
	c.Revision, c.Records = now.Revision, now.Estate.Count()
	first, err := s.At(ctx, 0)
	if err != nil {
		return c, fmt.Errorf("%s: %w", s.file.name(), err)
	}
	if n := first.Count(); n > 0 {
		return c, fmt.Errorf("%s: its log does not lead back to the empty estate: %d records are in no change", s.file.name(), n)
	}
	var last sql.NullString
	for query, to := range map[string]any{
		"SELECT count(*) FROM change": &c.Changes, "SELECT count(*) FROM draft": &c.Drafts, "SELECT count(*) FROM account": &c.Accounts,
		"SELECT count(*) FROM look": &c.Looks, "SELECT max(at) FROM change": &last,
	} {
		if err := s.db.GetContext(ctx, to, query); err != nil {
			return c, explained(s.file.name(), err)
		}
	}
	if last.Valid {
		c.Last, err = time.Parse(time.RFC3339Nano, last.String)
	}
	return c, err
}

// Intact looks the file's structure through, as far as that is quickly done.
func (s *Store) Intact(ctx context.Context) error {
	if err := intact(ctx, s.db, "quick_check"); err != nil {
		return fmt.Errorf("%s: %w", s.file.name(), err)
	}
	return nil
}

// errDamaged is wrapped by what is wrong with a file.
var errDamaged = errors.New("is damaged; expected a sound database, as backup writes")

func intact(ctx context.Context, db *sqlx.DB, how string) error {
	var said []string
	if err := db.SelectContext(ctx, &said, "PRAGMA "+how+"(3)"); err != nil {
		return fmt.Errorf("it %w: %w", errDamaged, err)
	}
	if len(said) != 1 || said[0] != "ok" {
		return fmt.Errorf("it %w: %v", errDamaged, said)
	}
	rows, err := db.QueryxContext(ctx, "PRAGMA foreign_key_check")
	if err != nil {
		return fmt.Errorf("it %w: %w", errDamaged, err)
	}
	defer func() { _ = rows.Close() }()
	if rows.Next() {
		return fmt.Errorf("it %w: a row of a list belongs to no record", errDamaged)
	}
	return rows.Err()
}

const (
	restored = "restored"
	// isRestored says of a change that it is no edit: the database was replaced by a copy.
	isRestored = "key LIKE '" + restored + ":%'"
)

// CheckCopy looks a copy through as it is restored, and says what it holds.
func CheckCopy(ctx context.Context, path string) (Contents, error) {
	var c Contents
	err := unpacked(ctx, path, func(_ string, s *Store) (err error) {
		c, err = s.Sound(ctx)
		return err
	})
	return c, err
}

// unpacked opens a copy of a copy, brought up to date: the file itself is not touched.
func unpacked(ctx context.Context, path string, do func(path string, s *Store) error) error {
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("%s: no such file", path)
	}
	if _, err := examine(ctx, path); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "steady-compass-restore-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	db, err := connect(readOnlySource(path))
	if err != nil {
		return explained(path, err)
	}
	whole := filepath.Join(dir, "whole.db")
	if err := intact(ctx, db, "integrity_check"); err != nil {
		return errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", whole); err != nil {
		return errors.Join(explained(path, err), db.Close())
	}
	if err := db.Close(); err != nil {
		return explained(path, err)
	}
	s, err := Open(ctx, whole)
	if err != nil {
		return err
	}
	return errors.Join(do(whole, s), s.Close())
}

// Restore puts a copy in the place of all that a database holds, once it is looked through. What was there is copied beside it first; the
// name of that is given, empty where there was no database. Programs that have the database open go on with what is restored, since the
// revision goes up: those that edit on an earlier one are told.
func Restore(ctx context.Context, from, to, who string) (c Contents, before string, err error) {
	err = unpacked(ctx, from, func(path string, s *Store) (err error) {
		if c, err = s.Sound(ctx); err != nil {
			return err
		}
		if _, err := os.Stat(to); errors.Is(err, fs.ErrNotExist) {
			return s.copyTo(ctx, to)
		}
		old, err := openFile(ctx, to)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, old.Close()) }()
		if old.readOnly != nil {
			return old.readOnly
		}
		before = to + ".before-" + time.Now().UTC().Format("20060102T150405.000000")
		if err := old.copyTo(ctx, before); err != nil {
			return fmt.Errorf("copy what there is to %s: %w", before, err)
		}
		c.Revision, err = old.replacedBy(ctx, path, c.Revision, who, filepath.Base(from))
		return explained(to, err)
	})
	return c, before, err
}

// replacedBy puts the rows of another database in the place of all that there are, in one transaction, and notes it in the log.
func (s *Store) replacedBy(ctx context.Context, path string, revision int64, who, called string) (int64, error) {
	db := s.file.keep // one connection, to which the other is attached
	if _, err := db.ExecContext(ctx, "ATTACH ? AS copy", path); err != nil {
		return 0, err
	}
	defer func() { _, _ = db.ExecContext(context.WithoutCancel(ctx), "DETACH copy") }()
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	last, err := lastRevision(ctx, tx)
	if err != nil {
		return 0, err
	}
	var tables, triggers []string
	if err := tx.SelectContext(ctx, &tables, "SELECT name FROM main.sqlite_schema WHERE type = 'table' AND (name NOT LIKE 'sqlite_%' OR name = 'sqlite_sequence') AND name <> 'goose_db_version'"); err != nil {
		return 0, err
	}
	if err := tx.SelectContext(ctx, &triggers, "SELECT sql FROM main.sqlite_schema WHERE type = 'trigger'"); err != nil {
		return 0, err
	}
	statements := []string{"PRAGMA defer_foreign_keys = ON"}
	for _, sql := range triggers { // which keep what is kept from edits, not from this
		statements = append(statements, "DROP TRIGGER main."+strings.Fields(sql)[2])
	}
	for _, name := range tables {
		statements = append(statements, "DELETE FROM main."+name, "INSERT INTO main."+name+" SELECT * FROM copy."+name)
	}
	for _, statement := range append(statements, triggers...) {
		if _, err := tx.ExecContext(ctx, statement); err != nil {
			return 0, fmt.Errorf("%s: %w", statement, err)
		}
	}
	revision = max(last, revision) + 1
	_, err = tx.ExecContext(ctx, "INSERT INTO change (revision, at, who, why, act, key, forward, backward, summary) VALUES (?, ?, ?, ?, 'edit', ?, ?, ?, ?)",
		revision, stamp(time.Now()), who, "restored from "+called, restored+":"+rand.Text(), encode(estate.Change{}), encode(estate.Change{}), summaryOf(estate.Change{}))
	if err != nil {
		return 0, err
	}
	return revision, tx.Commit()
}
