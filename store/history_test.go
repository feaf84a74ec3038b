package store

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"steady-compass/core/estate"
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
