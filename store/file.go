package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

const (
	// applicationID marks a file as a database of this program (SQLite's file format, §1.3.14).
	applicationID = 0x53434F4D
	// schemaVersion is the last migration, kept as the file's user version.
	schemaVersion = 9
	// lockWait is how long a database that another program is writing to is waited for.
	lockWait = 800 * time.Millisecond
	// settleAfter is how long after a commit the log file is written into the main one.
	settleAfter = 250 * time.Millisecond
)

var (
	// ErrReadOnly is wrapped where a database can be read and not written.
	ErrReadOnly = errors.New("nothing can be kept")
	// ErrBusy is wrapped where another program has the database for longer than anybody waits.
	ErrBusy = errors.New("another program is writing to it just now")
	// ErrLost is wrapped where the files of an open database are gone, or others are in their place.
	ErrLost = errors.New("nothing that comes now would be kept")
)

// file is an open database's file, and its log beside it.
type file struct {
	path  string
	main  os.FileInfo
	keep  *sqlx.Conn // open all the time, so that the log file stays
	fixed bool       // it cannot change, since nobody may write it

	mu      sync.Mutex
	log     os.FileInfo // nil until it is met
	settler *time.Timer
}

func logOf(path string) string { return path + "-wal" }

// source is how a file is named to the driver.
func source(path string, options ...string) string {
	options = append(options, fmt.Sprintf("_pragma=busy_timeout(%d)", lockWait.Milliseconds()), "_pragma=foreign_keys(1)")
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + strings.Join(options, "&")
}

func connect(name string) (*sqlx.DB, error) { return sqlx.Open("sqlite", name) }

// openFile opens a database without reading what is in it.
func openFile(ctx context.Context, path string) (*Store, error) {
	if path == "" {
		return inMemory(ctx)
	}
	if err := ensure(ctx, path); err != nil {
		return nil, err
	}
	version, err := examine(ctx, path)
	if err != nil {
		return nil, err
	}
	s := &Store{file: &file{path: path}}
	name := source(path, "_pragma=journal_mode(WAL)", "_pragma=synchronous(FULL)", "_txlock=immediate")
	if why := unwritable(path); why != "" {
		if version != schemaVersion {
			return nil, fmt.Errorf("open %s: an earlier version of this program made it, and %s, so that it cannot be brought up to date; expected a copy that may be written", path, why)
		}
		s.readOnly = fmt.Errorf("%s: %s; %w", path, why, ErrReadOnly)
		name = readOnlySource(path)
		s.file.fixed = strings.Contains(name, "immutable")
	}
	if s.db, err = connect(name); err != nil {
		return nil, explained(path, err)
	}
	if err := s.settleIn(ctx, version); err != nil {
		return nil, errors.Join(explained(path, err), s.db.Close())
	}
	return s, nil
}

// settleIn brings a file up to date, and takes note of which file it is.
func (s *Store) settleIn(ctx context.Context, version int) error {
	if s.readOnly == nil && version != schemaVersion {
		if err := upToDate(ctx, s.db); err != nil {
			return err
		}
	}
	var err error
	if s.file.keep, err = s.db.Connx(ctx); err != nil {
		return err
	}
	if _, err := lastRevision(ctx, s.file.keep); err != nil { // the log file is there from the first question on
		return err
	}
	if s.file.main, err = os.Stat(s.file.path); err != nil {
		return err
	}
	s.file.log, _ = os.Stat(logOf(s.file.path))
	return nil
}

func upToDate(ctx context.Context, db *sqlx.DB) error {
	if err := migrate(ctx, db); err != nil {
		return err
	}
	if err := summarise(ctx, db); err != nil {
		return err
	}
	_, err := db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

func inMemory(ctx context.Context) (*Store, error) {
	db, err := connect("file::memory:?_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // each connection would be a database of its own
	if err := migrate(ctx, db); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return &Store{db: db}, nil
}

// ensure makes a database file where there is none: whole, before it has its name, so that no moment has half of one.
func ensure(ctx context.Context, path string) error {
	dir := filepath.Dir(path)
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return fmt.Errorf("open %s: the folder %s is not there", path, dir)
	}
	if info, err := os.Stat(path); err == nil {
		if info.IsDir() {
			return fmt.Errorf("open %s: it is a folder; expected a database file", path)
		}
		return nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("open %s: %w", path, err)
	}
	if log, err := os.Stat(logOf(path)); err == nil && log.Size() > 0 {
		return fmt.Errorf("open %s: it is not there, and its log %s is: both belong together; expected the database file beside it", path, logOf(path))
	}
	temporary, err := os.CreateTemp(dir, "."+filepath.Base(path)+".new-*")
	if err != nil {
		return fmt.Errorf("open %s: it is not there, and cannot be made: %w", path, err)
	}
	name := temporary.Name()
	defer func() { _ = os.Remove(name) }()
	if err := temporary.Close(); err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	db, err := connect(source(name, "_pragma=synchronous(FULL)"))
	if err != nil {
		return explained(path, err)
	}
	if err := errors.Join(migrate(ctx, db), db.Close()); err != nil {
		return explained(path, err)
	}
	if err := os.Chmod(name, 0o600); err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	if err := os.Link(name, path); err != nil && !errors.Is(err, fs.ErrExist) { // another has made it meanwhile
		if err := os.Rename(name, path); err != nil { // not every file system has links
			return fmt.Errorf("make %s: %w", path, err)
		}
	}
	return nil
}

// examine says which version of this program a database is of, and refuses what is none, before anything in it is changed.
func examine(ctx context.Context, path string) (version int, err error) {
	if info, err := os.Stat(path); err == nil && info.Size() == 0 {
		return 0, fmt.Errorf("open %s: the file is empty: a backup that failed leaves such a file, and so does a copy without the log beside it; expected a database that serve made, or no file of that name", path)
	}
	name := source(path, "mode=rw")
	if unwritable(path) != "" {
		name = readOnlySource(path)
	}
	db, err := connect(name)
	if err != nil {
		return 0, explained(path, err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var id, tables, ours int
	if err := db.GetContext(ctx, &id, "PRAGMA application_id"); err != nil {
		return 0, explained(path, err)
	}
	if err := db.GetContext(ctx, &version, "PRAGMA user_version"); err != nil {
		return 0, explained(path, err)
	}
	if err := db.GetContext(ctx, &tables, "SELECT count(*) FROM sqlite_schema"); err != nil {
		return 0, explained(path, err)
	}
	if err := db.GetContext(ctx, &ours, "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name IN ('goose_db_version', 'kind_estate', 'change')"); err != nil {
		return 0, explained(path, err)
	}
	switch {
	case tables == 0:
		return 0, fmt.Errorf("open %s: it has no tables: a copy of the database file alone is so while its log (%s) is apart; expected both files, or what the command backup writes", path, logOf(path))
	case id == 0 && ours == 3: // of the first version, which wrote no application id
		return 1, nil
	case id != applicationID:
		return 0, fmt.Errorf("open %s: it is another program's database; expected one that serve made", path)
	case version > schemaVersion:
		return 0, fmt.Errorf("open %s: a newer version of this program made it (its tables are of version %d, known here are up to %d); expected that version, or a backup from before", path, version, schemaVersion)
	}
	return version, nil
}

// readOnlySource names a file that may not be written. Without a log to read it is taken as one that does not change, since
// the files that readers share cannot be made.
func readOnlySource(path string) string {
	if log, err := os.Stat(logOf(path)); err != nil || log.Size() == 0 {
		return source(path, "mode=ro", "immutable=1")
	}
	return source(path, "mode=ro")
}

// name is the file's path; "" of a database in memory.
func (f *file) name() string {
	if f == nil {
		return ""
	}
	return f.path
}

// there says whether the files are still those that were opened.
func (f *file) there() error {
	if f == nil || f.fixed {
		return nil
	}
	now, err := os.Stat(f.path)
	switch {
	case err != nil:
		return fmt.Errorf("%s is not there any more: it was moved or removed while it was open; %w", f.path, ErrLost)
	case !os.SameFile(now, f.main):
		return fmt.Errorf("another file was put in the place of %s while it was open; %w", f.path, ErrLost)
	}
	log, err := os.Stat(logOf(f.path))
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case f.log == nil && err == nil:
		f.log = log
	case f.log != nil && err != nil:
		return fmt.Errorf("%s, the log of %s, was removed while it was open; %w", logOf(f.path), f.path, ErrLost)
	case f.log != nil && !os.SameFile(log, f.log):
		return fmt.Errorf("another file was put in the place of %s, the log of %s, while it was open; %w", logOf(f.path), f.path, ErrLost)
	}
	return nil
}

// settleSoon has what is committed written from the log into the main file, a moment after the last commit.
func (f *file) settleSoon() {
	if f == nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.settler == nil {
		f.settler = time.AfterFunc(settleAfter, f.settle)
		return
	}
	f.settler.Reset(settleAfter)
}

// settle writes what readers leave free; the rest comes with the next time.
func (f *file) settle() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	_, _ = f.keep.ExecContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)") // the log has it all the same
}

func (f *file) close() error {
	if f == nil || f.keep == nil {
		return nil
	}
	f.mu.Lock()
	if f.settler != nil {
		f.settler.Stop()
	}
	f.mu.Unlock()
	return f.keep.Close()
}

// explained puts what the database engine says into words for a person.
func explained(path string, err error) error {
	var e *sqlite.Error
	if err == nil || !errors.As(err, &e) || path == "" {
		return err
	}
	switch e.Code() & 0xFF {
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return fmt.Errorf("%s: %w, and has been for %s; nothing was changed", path, ErrBusy, lockWait)
	case sqlite3.SQLITE_NOTADB:
		return fmt.Errorf("%s is no database; expected one that serve made", path)
	case sqlite3.SQLITE_CORRUPT:
		return fmt.Errorf("%s is damaged (%w); expected a sound database, as backup writes", path, err)
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN:
		return fmt.Errorf("%s: it cannot be written (%v); %w", path, e, ErrReadOnly)
	case sqlite3.SQLITE_FULL:
		return fmt.Errorf("%s: the disk is full; nothing was kept", path)
	}
	return fmt.Errorf("%s: %w", path, err)
}
