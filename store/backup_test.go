package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"steady-compass/core/notation"
)

// TestRestore puts a copy in the place of a database that another program has open: that one goes on with what is restored, an edit on what was
// there before is told, nothing is lost, and what was there can be had again in the same way.
func TestRestore(t *testing.T) {
	dir := t.TempDir()
	path, copied := filepath.Join(dir, "a.db"), filepath.Join(dir, "copy.db")
	s := open(t, path)
	commit(t, s, "", "host a\nhost b")
	commit(t, s, "host b", "")
	if err := s.Backup(t.Context(), copied); err != nil {
		t.Fatal(err)
	}
	commit(t, s, "host a", "host c\nhost d")
	was := notation.Print(s.Current().Estate)
	if at, since, err := s.LastBackup(t.Context()); err != nil || at.IsZero() || since != 1 {
		t.Errorf("the last backup: %s, %d changes since, %v", at, since, err)
	}
	if begun, err := s.Begun(t.Context()); err != nil || time.Since(begun) > time.Hour {
		t.Errorf("begun %s, %v", begun, err)
	}
	holds, before, err := Restore(t.Context(), copied, path, "anna")
	if err != nil {
		t.Fatal(err)
	}
	if holds.Records != 1 || holds.Revision != 4 || before == "" {
		t.Errorf("%+v, before in %q", holds, before)
	}
	if _, err := s.Commit(t.Context(), Edit{Base: 3, Who: "bert", Change: change(t, "host c", "host e")}); err == nil {
		t.Error("an edit of a line that is not there any more is kept")
	}
	if err := s.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := notation.Print(s.Current().Estate); got != "host      a\n" || s.Current().Revision != 4 {
		t.Errorf("revision %d:\n%s", s.Current().Revision, got)
	}
	log, err := s.Log(t.Context(), 0, 10)
	if err != nil || log[0].Act != "restored" || log[0].Who != "anna" || !strings.Contains(log[0].Why, "copy.db") || log[0].Undone || len(log) != 3 {
		t.Errorf("%+v %v", log, err)
	}
	if done, err := s.Undo(t.Context(), "bert"); err != nil || notation.Print(done.After.Estate) != "host      a\nhost      b\n" {
		t.Errorf("the last edit before it is what is undone: %v", err)
	}
	if _, err := s.Sound(t.Context()); err != nil {
		t.Error(err)
	}
	if _, _, err := Restore(t.Context(), before, path, "anna"); err != nil {
		t.Fatal(err)
	}
	if err := s.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := notation.Print(s.Current().Estate); got != was {
		t.Errorf("back again:\n%s\nwas\n%s", got, was)
	}
	fresh := filepath.Join(dir, "fresh.db")
	if _, before, err := Restore(t.Context(), copied, fresh, "anna"); err != nil || before != "" {
		t.Fatal(err, before)
	}
	if got := notation.Print(open(t, fresh).Current().Estate); got != "host      a\n" {
		t.Errorf("in a new file:\n%s", got)
	}
}

// TestRestoreUnderHands restores again and again while two programs edit: each edit is kept on what it was made on, or refused, and the
// database is sound.
func TestRestoreUnderHands(t *testing.T) {
	dir := t.TempDir()
	path, copied := filepath.Join(dir, "a.db"), filepath.Join(dir, "copy.db")
	hands := []*Store{open(t, path), open(t, path)}
	commit(t, hands[0], "", "host a")
	if err := hands[0].Backup(t.Context(), copied); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	stop := make(chan struct{})
	kept := make([]int, 2)
	for i, s := range hands {
		all.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				_, err := s.Commit(t.Context(), Edit{Base: s.Current().Revision, Who: "a hand", Change: change(t, "", fmt.Sprintf("host h%d-%d", i, n))})
				switch {
				case err == nil:
					kept[i]++
				case !errors.Is(err, ErrBusy):
					t.Errorf("hand %d: %v", i, err)
					return
				}
			}
		})
	}
	for range 8 {
		if _, _, err := Restore(t.Context(), copied, filepath.Join(dir, "a.db"), "anna"); err != nil && !strings.Contains(err.Error(), "it is there already") && !errors.Is(err, ErrBusy) {
			t.Error(err)
		}
	}
	close(stop)
	all.Wait()
	last := open(t, path)
	holds, err := last.Sound(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if kept[0] == 0 || kept[1] == 0 {
		t.Errorf("%v edits were kept", kept)
	}
	for i, s := range hands {
		if err := s.Refresh(t.Context()); err != nil {
			t.Fatal(err)
		}
		if a, b := notation.Print(s.Current().Estate), notation.Print(last.Current().Estate); a != b {
			t.Errorf("hand %d has another estate", i)
		}
	}
	t.Logf("%v edits, %+v", kept, holds)
}

// TestDamaged: what is no sound copy is put nowhere, and what is there stays as it is.
func TestDamaged(t *testing.T) {
	dir := t.TempDir()
	path, copied := filepath.Join(dir, "a.db"), filepath.Join(dir, "copy.db")
	s := open(t, path)
	commit(t, s, "", "host a")
	for i := range 200 {
		commit(t, s, "", fmt.Sprintf("host h%d note %q", i, strings.Repeat("x", 300)))
	}
	if err := s.Backup(t.Context(), copied); err != nil {
		t.Fatal(err)
	}
	sound, err := os.ReadFile(copied)
	if err != nil {
		t.Fatal(err)
	}
	write := func(name string, text []byte) string {
		name = filepath.Join(dir, name)
		if err := os.WriteFile(name, text, 0o600); err != nil {
			t.Fatal(err)
		}
		return name
	}
	holed := append([]byte{}, sound...)
	for i := len(holed) / 2; i < len(holed)/2+20_000; i++ {
		holed[i] = 0xA5
	}
	lost := open(t, filepath.Join(dir, "lost.db"))
	commit(t, lost, "", "host a\nhost b")
	if _, err := lost.db.Exec("DELETE FROM kind_host"); err != nil {
		t.Fatal(err)
	}
	extra := open(t, filepath.Join(dir, "extra.db"))
	commit(t, extra, "", "host a\nhost b")
	if _, err := extra.db.Exec("UPDATE kind_host SET name = 'z' WHERE name = 'a'"); err != nil {
		t.Fatal(err)
	}
	for name, from := range map[string]string{
		"not there":               filepath.Join(dir, "none.db"),
		"empty":                   write("empty.db", nil),
		"a text":                  write("text.db", []byte(strings.Repeat("host a\n", 2000))),
		"a hole":                  write("holed.db", holed),
		"cut off":                 write("cut.db", sound[:len(sound)/2]),
		"records that are gone":   filepath.Join(dir, "lost.db"),
		"records of no change":    filepath.Join(dir, "extra.db"),
		"another program's":       write("other.db", append([]byte{}, sound[:68]...)),
		"the folder that it's in": dir,
	} {
		if _, err := CheckCopy(t.Context(), from); err == nil {
			t.Errorf("%s: sound", name)
		}
		if _, _, err := Restore(t.Context(), from, path, "anna"); err == nil {
			t.Errorf("%s: restored", name)
		} else if strings.Contains(err.Error(), "panic") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := s.Refresh(t.Context()); err != nil || s.Current().Revision != 201 {
		t.Errorf("%v; revision %d", err, s.Current().Revision)
	}
	if left, _ := filepath.Glob(path + ".before-*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if holds, err := CheckCopy(t.Context(), copied); err != nil || holds.Records != 201 || holds.Changes != 201 {
		t.Errorf("the sound one: %+v %v", holds, err)
	}
}
