package store

import (
	"bytes"
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

// TestHistory writes an estate that was edited, undone and redone as a text and makes a database of it: the estate is the same at every moment, the
// log is, and what can be undone.
func TestHistory(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(2) {
		r := rand.New(rand.NewPCG(seed, 7))
		s := open(t, filepath.Join(t.TempDir(), "a.db"))
		e := notationtest.Parse(t, "# The first of all.\nhost first\n"+synth.Crossing(r)+"# At the end.\n# And of it all.\n")
		if _, err := s.Reset(ctx, 0, e, "ada", "begun"); err != nil {
			t.Fatal(err)
		}
		var gone []estate.Record
		for range 25 {
			var c estate.Change
			c, gone = synth.Edit(r, s.Current().Estate, gone)
			if _, err := s.Commit(ctx, Edit{Base: s.Current().Revision, Who: "bo", Why: "because \"it\" is so", Change: c}); err != nil && !errors.Is(err, ErrNothing) {
				continue // of random edits some cannot be made
			}
			if r.IntN(4) == 0 {
				_, _ = s.Undo(ctx, "cy")
			}
			if r.IntN(6) == 0 {
				_, _ = s.Redo(ctx, "cy")
			}
		}
		beside(t, s)
		var text bytes.Buffer
		if err := s.WriteHistory(ctx, &text); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "b.db")
		holds, err := RestoreHistory(ctx, bytes.NewReader(text.Bytes()), path)
		if err != nil {
			t.Fatal(err)
		}
		back := open(t, path)
		if last := s.Current().Revision; holds.Revision != last || back.Current().Revision != last {
			t.Errorf("revision %d came back as %d, and is said to be %d", last, back.Current().Revision, holds.Revision)
		}
		for revision := int64(1); revision <= s.Current().Revision; revision++ {
			was, err := s.At(ctx, revision)
			is, errBack := back.At(ctx, revision)
			if err := errors.Join(err, errBack); err != nil {
				t.Fatal(err)
			}
			if a, b := notation.Print(was), notation.Print(is); a != b {
				t.Fatalf("revision %d was\n%s\nand came back as\n%s", revision, a, b)
			}
		}
		log, err := s.Log(ctx, 0, 1000)
		logBack, errBack := back.Log(ctx, 0, 1000)
		if err := errors.Join(err, errBack); err != nil || !reflect.DeepEqual(log, logBack) {
			t.Errorf("the log came back as another: %v", err)
		}
		was, err := s.beside(ctx)
		is, errBack := back.beside(ctx)
		if err := errors.Join(err, errBack); err != nil || len(was) != 5 || !slices.Equal(was, is) {
			t.Errorf("beside it stood\n%s\nand came back\n%s (%v)", strings.Join(was, "\n"), strings.Join(is, "\n"), err)
		}
		if d, err := back.AddDraft(ctx, Draft{Title: "one more"}); err != nil || d.ID != 4 {
			t.Errorf("a draft has the number %d of one that is gone: %v", d.ID, err)
		}
		if _, err := back.Undo(ctx, "dee"); err != nil {
			t.Errorf("nothing can be undone: %v", err)
		}
		var again bytes.Buffer
		if err := open(t, path+"2").WriteHistory(ctx, &again); err != nil { // of nothing
			t.Fatal(err)
		}
		if _, err := CheckHistory(&again); !errors.Is(err, ErrHistory) {
			t.Errorf("of an estate without a change: %v", err)
		}
		if _, err := RestoreHistory(ctx, bytes.NewReader(text.Bytes()), path); err == nil || !strings.Contains(err.Error(), "is there already") {
			t.Errorf("into a database that is there: %v", err)
		}
		damagedHistories(t, text.String())
	}
}

// beside keeps two drafts, of which a step is made, a question and two looks, one of them old.
func beside(t *testing.T, s *Store) {
	t.Helper()
	ctx := context.Background()
	now := time.Now().UTC()
	var drafts []Draft
	for _, title := range []string{"a \"new\" one", "gone", "another"} {
		d, err := s.AddDraft(ctx, Draft{Title: title, Author: "ada", Why: "since", Remove: []string{"host first"}, Add: []string{"host second note \"two\""}})
		if err != nil {
			t.Fatal(err)
		}
		drafts = append(drafts, d)
	}
	errs := []error{
		s.Advance(ctx, drafts[2], Done{Place: "router r", Who: "bo", At: now, Revision: 1}),
		s.DropDraft(ctx, drafts[1].ID),
		s.KeepQuestion(ctx, Question{Name: "what stops", Address: "/?show=stops", Who: "cy", At: now.Truncate(time.Second)}),
	}
	_, err := s.AddLooks(ctx, []look.Look{
		{At: now, From: "internet", Target: "u.example", Did: look.Resolve, Came: look.Arrived, Revision: 1},
		{At: now.AddDate(-2, 0, 0), From: "internet", Target: "u.example:443/tcp", Did: look.Connect, Came: look.Silent, Address: "192.0.2.1", Revision: 1},
	}, math.MaxInt64)
	if err := errors.Join(append(errs, err)...); err != nil {
		t.Fatal(err)
	}
}

// TestHistoryOfTheFirstVersion: a text that was written before drafts, questions and looks were in it is read as ever.
func TestHistoryOfTheFirstVersion(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	if _, err := s.Reset(ctx, 0, notationtest.Parse(t, "host first\n"), "ada", "begun"); err != nil {
		t.Fatal(err)
	}
	beside(t, s)
	var text bytes.Buffer
	if err := s.WriteHistory(ctx, &text); err != nil {
		t.Fatal(err)
	}
	first, _, _ := strings.Cut(strings.Replace(text.String(), "version 2", "version 1", 1), "# ---- beside")
	holds, err := RestoreHistory(ctx, strings.NewReader(first), filepath.Join(t.TempDir(), "b.db"))
	if err != nil || holds.Records != 1 || holds.Changes != 1 {
		t.Errorf("%+v, %v", holds, err)
	}
	later := strings.Replace(text.String(), "version 2", "version 3", 1)
	if _, err := CheckHistory(strings.NewReader(later)); !errors.Is(err, ErrHistory) || !strings.Contains(err.Error(), "1 to 2") {
		t.Errorf("of a later version: %v", err)
	}
}

// damagedHistories takes a line out, puts one twice, cuts the text: what is not whole is refused, and no database is left of it; or it is the same
// but for what nobody can tell.
func damagedHistories(t *testing.T, text string) {
	t.Helper()
	ctx := context.Background()
	lines := strings.SplitAfter(text, "\n")
	begins := 0
	for i, line := range lines {
		if strings.TrimSpace(line) == historyBegins {
			begins = i
		}
	}
	refused := 0
	for i := begins; i < len(lines)-1; i += 1 + len(lines)/60 {
		for how, damaged := range map[string]string{
			"without": strings.Join(lines[:i], "") + strings.Join(lines[i+1:], ""),
			"twice":   strings.Join(lines[:i+1], "") + strings.Join(lines[i:], ""),
			"cut at":  strings.Join(lines[:i], "") + lines[i][:len(lines[i])/2],
			"garbled": strings.Join(lines[:i], "") + "?" + strings.Join(lines[i:], ""),
		} {
			path := filepath.Join(t.TempDir(), "c.db")
			_, err := RestoreHistory(ctx, strings.NewReader(damaged), path)
			if err == nil {
				if !strings.HasPrefix(lines[i], historyComment) && !strings.HasPrefix(lines[i], historyChange) && how != "cut at" {
					t.Errorf("%s line %d, %q, it is taken", how, i+1, lines[i])
				}
				continue
			}
			refused++
			if !errors.Is(err, ErrHistory) {
				t.Errorf("%s line %d, %q: %v", how, i+1, lines[i], err)
			}
			if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
				t.Errorf("%s line %d: a database is left", how, i+1)
			}
		}
	}
	if refused < 60 {
		t.Errorf("only %d damaged texts were refused", refused)
	}
}
