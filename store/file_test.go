package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// TestTwoHands has two programs write to one file in turns and at once: each takes over what the other kept, no edit is lost, and
// the log has every one.
func TestTwoHands(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	a, b := open(t, path), open(t, path)
	const each = 15
	var wg sync.WaitGroup
	for i, s := range []*Store{a, b} {
		wg.Go(func() {
			for n := range each {
				line := fmt.Sprintf("host h%d-%d", i, n)
				for {
					_, err := s.Commit(t.Context(), Edit{Base: s.Current().Revision, Who: "me", Change: change(t, "", line)})
					if errors.Is(err, ErrBusy) {
						continue
					}
					if err != nil {
						t.Error(err)
					}
					break
				}
				if n%5 == 4 { // and takes one of its own out again, by whatever row it is held now
					if _, err := s.Commit(t.Context(), Edit{Base: s.Current().Revision, Who: "me", Change: change(t, line, "")}); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	wg.Wait()
	if err := errors.Join(a.Refresh(t.Context()), b.Refresh(t.Context())); err != nil {
		t.Fatal(err)
	}
	text := notation.Print(a.Current().Estate)
	if got := notation.Print(b.Current().Estate); got != text {
		t.Errorf("one has\n%s\nthe other\n%s", text, got)
	}
	if n, want := a.Current().Estate.Count(), 2*each*4/5; n != want {
		t.Errorf("%d records, want %d", n, want)
	}
	entries, err := b.Log(t.Context(), 0, 500)
	if err != nil || len(entries) != 2*each*6/5 {
		t.Errorf("%d changes in the log, %v", len(entries), err)
	}
	if err := errors.Join(a.Close(), b.Close()); err != nil {
		t.Fatal(err)
	}
	if got := notation.Print(open(t, path).Current().Estate); got != text {
		t.Errorf("on disk\n%s\nwant\n%s", got, text)
	}
}

// TestTwoHandsOnOneLine: who comes second is told what became of the line, though it knew nothing of the other's change.
func TestTwoHandsOnOneLine(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	a, b := open(t, path), open(t, path)
	commit(t, a, "", "host x")
	if err := b.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	commit(t, a, "host x", "host x router")
	commit(t, a, "host x router", "host x outside")
	var conflict *Conflict
	_, err := b.Commit(t.Context(), Edit{Base: b.Current().Revision, Who: "you", Change: change(t, "host x", "host x unlisted")})
	if !errors.As(err, &conflict) || len(conflict.Clashes) != 1 {
		t.Fatalf("%v", err)
	}
	if c := conflict.Clashes[0]; c.Line != "host x" || c.Mine != "host x unlisted" || c.Theirs != "host x outside" || c.Who != "me" {
		t.Errorf("%+v", c)
	}
	if got := notation.Print(b.Current().Estate); got != "host      x outside\n" {
		t.Errorf("left\n%s", got)
	}
	// Made on the newest revision, with a text that is older.
	_, err = b.Commit(t.Context(), Edit{Base: b.Current().Revision, Who: "you", Change: change(t, "host x router", "host x")})
	if !errors.As(err, &conflict) || conflict.Clashes[0].Theirs != "host x outside" {
		t.Errorf("a stale line: %v", err)
	}
	if _, err := b.Commit(t.Context(), Edit{Base: b.Current().Revision, Change: change(t, "host never", "")}); !errors.Is(err, estate.ErrNotThere) || errors.As(err, new(*Conflict)) {
		t.Errorf("a line that never was: %v", err)
	}
}

// TestSentAgain: an edit whose answer was lost, and which is sent again, is kept once.
func TestSentAgain(t *testing.T) {
	s := open(t, "")
	e := Edit{Key: "a1", Who: "me", Change: change(t, "", "host a")}
	for range 3 {
		if done, err := s.Commit(t.Context(), e); err != nil || done.After.Revision != 1 {
			t.Fatalf("%+v, %v", done, err)
		}
	}
	if n := s.Current().Estate.Count(); n != 1 {
		t.Errorf("%d records", n)
	}
}

func copyFile(t *testing.T, from, to string) {
	t.Helper()
	text, err := os.ReadFile(from)
	if err == nil {
		err = os.WriteFile(to, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestTheFileAlone: the main file has all that was acknowledged soon after, so that a copy of it alone is whole.
func TestTheFileAlone(t *testing.T) {
	dir := t.TempDir()
	path, copied := filepath.Join(dir, "a.db"), filepath.Join(dir, "copy.db")
	s := open(t, path)
	copyFile(t, path, copied)
	if got := open(t, copied).Current(); got.Revision != 0 {
		t.Errorf("a new one's copy is at revision %d", got.Revision)
	}
	commit(t, s, "", "host a")
	commit(t, s, "", "host b")
	for limit := time.Now().Add(2 * time.Minute); ; time.Sleep(20 * time.Millisecond) {
		again := filepath.Join(dir, fmt.Sprintf("%d.db", time.Now().UnixNano()))
		copyFile(t, path, again)
		if c := open(t, again); c.Current().Revision == 2 {
			break
		}
		if time.Now().After(limit) {
			t.Fatal("the main file does not get what was committed")
		}
	}
}

// TestRefused: what is no database of this program, or not a whole one, is refused in a sentence and left as it is.
func TestRefused(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	made := func(name string, statements ...string) string {
		path := filepath.Join(dir, name)
		db, err := sql.Open("sqlite", path)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range statements {
			if _, err := db.Exec(text); err != nil {
				t.Fatal(err)
			}
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		return path
	}
	newer := filepath.Join(dir, "newer.db")
	if err := open(t, newer).Close(); err != nil {
		t.Fatal(err)
	}
	made("newer.db", fmt.Sprintf("PRAGMA user_version = %d", schemaVersion+1))
	alone := made("alone.db", "CREATE TABLE a (b)", "DROP TABLE a", "VACUUM")
	orphan := filepath.Join(dir, "orphan.db")
	write("orphan.db-wal", "something")
	for path, want := range map[string]string{
		write("empty.db", ""):                  "the file is empty",
		write("text.db", "host a\n"):           "is no database",
		made("other.db", "CREATE TABLE t (x)"): "another program's database",
		newer:                                  "a newer version of this program made it",
		alone:                                  "a copy of the database file alone",
		orphan:                                 "both belong together",
		dir:                                    "it is a folder",
		filepath.Join(dir, "nowhere", "a.db"):  "is not there",
		made("id.db", "CREATE TABLE t (x)", "PRAGMA application_id = 7"): "another program's database",
	} {
		before, _ := os.ReadFile(path)
		s, err := Open(t.Context(), path)
		if err == nil {
			_ = s.Close()
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", filepath.Base(path), err, want)
		}
		if after, _ := os.ReadFile(path); string(after) != string(before) {
			t.Errorf("%s was changed", filepath.Base(path))
		}
	}
	if _, err := os.Stat(orphan); err == nil {
		t.Error("a database was made beside the log of another")
	}
}

// TestSchemaVersion: a new file says what it is and of which version.
func TestSchemaVersion(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	var id, version, last int
	if err := errors.Join(s.db.Get(&id, "PRAGMA application_id"), s.db.Get(&version, "PRAGMA user_version"), s.db.Get(&last, "SELECT max(version_id) FROM goose_db_version")); err != nil {
		t.Fatal(err)
	}
	if id != applicationID || version != schemaVersion || last != schemaVersion {
		t.Errorf("id %x, version %d, migration %d", id, version, last)
	}
}

// TestLost: once its file is gone or another is in its place, nothing is acknowledged any more.
func TestLost(t *testing.T) {
	for name, lose := range map[string]func(path string) error{
		"removed":     func(path string) error { return os.Remove(path) },
		"moved":       func(path string) error { return os.Rename(path, path+".away") },
		"log removed": func(path string) error { return os.Remove(logOf(path)) },
		"another's": func(path string) error {
			return errors.Join(os.Rename(path, path+".away"), os.WriteFile(path, nil, 0o600))
		},
		"another log": func(path string) error {
			return errors.Join(os.Remove(logOf(path)), os.WriteFile(logOf(path), nil, 0o600))
		},
	} {
		path := filepath.Join(t.TempDir(), "a.db")
		s := open(t, path)
		commit(t, s, "", "host a")
		if err := lose(path); err != nil {
			t.Fatal(name, err)
		}
		if err := s.Refresh(t.Context()); !errors.Is(err, ErrLost) {
			t.Errorf("%s: refresh says %v", name, err)
		}
		if _, err := s.Commit(t.Context(), Edit{Base: 1, Change: change(t, "", "host b")}); !errors.Is(err, ErrLost) {
			t.Errorf("%s: a commit says %v", name, err)
		}
		if name == "moved" { // and put back
			if err := os.Rename(path+".away", path); err != nil {
				t.Fatal(err)
			}
			if s.Refresh(t.Context()) != nil || commit(t, s, "", "host b") != 2 {
				t.Error("put back, it does not go on")
			}
		}
	}
}

// TestBusy: a database that another program holds is said to be held, within a second or little more.
func TestBusy(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	other, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Close() }()
	other.SetMaxOpenConns(1)
	if _, err := other.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Commit(t.Context(), Edit{Change: change(t, "", "host a")}); !errors.Is(err, ErrBusy) {
		t.Errorf("a commit says %v", err)
	}
	if _, err := other.Exec("ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if commit(t, s, "", "host a") != 1 {
		t.Error("free again, it does not go on")
	}
}

// TestBackupLeavesNothing: a copy is whole, and a backup that fails leaves nothing.
func TestBackupLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	s := open(t, filepath.Join(dir, "a.db"))
	commit(t, s, "", "host a")
	to := filepath.Join(dir, "b.db")
	if err := s.Backup(t.Context(), to); err != nil {
		t.Fatal(err)
	}
	if got := open(t, to).Current(); got.Revision != 1 || got.Estate.Count() != 1 {
		t.Errorf("the copy is at %d with %d records", got.Revision, got.Estate.Count())
	}
	if err := s.Backup(t.Context(), to); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("over another: %v", err)
	}
	fresh := t.TempDir()
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if err := s.Backup(ended, filepath.Join(fresh, "c.db")); err == nil {
		t.Error("a backup that is stopped fails")
	}
	if left, err := os.ReadDir(fresh); err != nil || len(left) > 0 {
		t.Errorf("it left %v, %v", left, err)
	}
}
