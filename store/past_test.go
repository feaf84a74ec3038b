package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

func commit(t *testing.T, s *Store, remove, add string) int64 {
	t.Helper()
	got, err := s.Commit(t.Context(), Edit{Base: s.Current().Revision, Who: "me", Change: change(t, remove, add)})
	if err != nil {
		t.Fatal(err)
	}
	return got.After.Revision
}

// TestAt goes back to every revision that there was, from any later one.
func TestAt(t *testing.T) {
	s := open(t, "")
	r := rand.New(rand.NewPCG(2, 7))
	texts := map[int64]string{s.Current().Revision: notation.Print(s.Current().Estate)}
	for i := range 40 {
		switch r.IntN(4) {
		case 0:
			if _, err := s.Undo(t.Context(), "me"); err != nil && err != ErrNothing {
				t.Fatal(err)
			}
		case 1:
			list := s.Current().Estate.Of(estate.KindNamed("rule"))
			if len(list) > 0 {
				line := estate.Line(list[r.IntN(len(list))])
				moved := change(t, line, strings.Replace(line, "rule f ", fmt.Sprintf("rule f at %d ", 1+r.IntN(len(list))), 1))
				if _, err := s.Commit(t.Context(), Edit{Base: s.Current().Revision, Who: "me", Change: moved}); err != nil && err != ErrNothing { // to where it stands
					t.Fatal(err)
				}
			}
		default:
			commit(t, s, "", fmt.Sprintf("rule f at %d pass %d", 1+r.IntN(5), 1000+i))
		}
		texts[s.Current().Revision] = notation.Print(s.Current().Estate)
		for revision, want := range texts {
			e, err := s.At(t.Context(), revision)
			if err != nil {
				t.Fatal(err)
			}
			if got := notation.Print(e); got != want {
				t.Fatalf("revision %d, seen from %d:\n%s\nwant\n%s", revision, s.Current().Revision, got, want)
			}
		}
	}
	if _, err := s.At(t.Context(), s.Current().Revision+1); err == nil || !strings.Contains(err.Error(), "is not there yet; the estate is at") {
		t.Errorf("a revision to come: %v", err)
	}
}

// TestNext says what would be taken back, and how much that is.
func TestNext(t *testing.T) {
	s := open(t, "")
	next := func(revision int64, lines int) {
		t.Helper()
		if r, n, err := s.Next(t.Context()); err != nil || r != revision || n != lines {
			t.Errorf("revision %d with %d lines, %v; want %d with %d", r, n, err, revision, lines)
		}
	}
	next(0, 0)
	first := commit(t, s, "", "host a\nhost b\nhost c")
	next(first, 3)
	second := commit(t, s, "host b", "host b router")
	next(second, 2)
	if _, err := s.Undo(t.Context(), "me"); err != nil {
		t.Fatal(err)
	}
	next(first, 3)
	if _, err := s.Redo(t.Context(), "me"); err != nil {
		t.Fatal(err)
	}
	next(second, 2)
	for range 2 {
		if _, err := s.Undo(t.Context(), "me"); err != nil {
			t.Fatal(err)
		}
	}
	next(0, 0)
	if _, err := s.Undo(t.Context(), "me"); err != ErrNothing {
		t.Errorf("nothing is taken back: %v", err)
	}
}

// TestEffectNoted is kept with the change that had it.
func TestEffectNoted(t *testing.T) {
	s := open(t, "")
	first, second := commit(t, s, "", "host a"), commit(t, s, "", "host b")
	if err := s.SetEffect(t.Context(), first, " 2 names stop arriving \n"); err != nil {
		t.Fatal(err)
	}
	entries, err := s.Log(t.Context(), 0, 10)
	if err != nil || len(entries) != 2 {
		t.Fatalf("%+v, %v", entries, err)
	}
	for _, e := range entries {
		if want := map[int64]string{first: "2 names stop arriving", second: ""}[e.Revision]; e.Effect != want {
			t.Errorf("revision %d did %q, want %q", e.Revision, e.Effect, want)
		}
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if err := s.SetEffect(ended, first, "nothing"); err == nil || !strings.Contains(err.Error(), fmt.Sprintf("note the effect of change %d", first)) {
		t.Errorf("where the request has ended: %v", err)
	}
}

// TestManyBetween puts so many records between two that there is no room left between their ranks: all are ranked anew, and
// their order stays.
func TestManyBetween(t *testing.T) {
	path := filepath.Join(t.TempDir(), "between.db")
	s := open(t, path)
	commit(t, s, "", "filter f on a input otherwise drop\nrule f pass 1\nrule f pass 2")
	want := []string{"rule f pass 1", "rule f pass 2"}
	for i := range 40 { // always at the second place
		line := fmt.Sprintf("rule f pass %d", 1000+i)
		commit(t, s, "", strings.Replace(line, "rule f ", "rule f at 2 ", 1))
		want = append(want[:1], append([]string{line}, want[1:]...)...)
	}
	stands := func(s *Store) string {
		var lines []string
		for _, r := range s.Current().Estate.Of(estate.KindNamed("rule")) {
			lines = append(lines, estate.Line(r))
		}
		return strings.Join(lines, "\n")
	}
	if got := stands(s); got != strings.Join(want, "\n") {
		t.Fatalf("in order\n%s", got)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if got := stands(open(t, path)); got != strings.Join(want, "\n") {
		t.Errorf("read back\n%s", got)
	}
}

// TestBackup is a copy that opens by itself, and no file is written over.
func TestBackup(t *testing.T) {
	s := open(t, "")
	commit(t, s, "", "host a\nhost b # behind it is a word\n")
	path := filepath.Join(t.TempDir(), "copy.db")
	if err := s.Backup(t.Context(), path); err != nil {
		t.Fatal(err)
	}
	commit(t, s, "host a", "")
	copied := open(t, path)
	if got := notation.Print(copied.Current().Estate); !strings.Contains(got, "host      a\n") || copied.Current().Revision != s.Current().Revision-1 {
		t.Errorf("the copy has\n%s", got)
	}
	if entries, err := copied.Log(t.Context(), 0, 10); err != nil || len(entries) != 1 {
		t.Errorf("its log has %d entries, %v", len(entries), err)
	}
	if err := s.Backup(t.Context(), path); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("over a file: %v", err)
	}
	if err := s.Backup(t.Context(), filepath.Join(t.TempDir(), "none", "copy.db")); err == nil || !strings.Contains(err.Error(), "backup to") {
		t.Errorf("where there is no folder: %v", err)
	}
}
