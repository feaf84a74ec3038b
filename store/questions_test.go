package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestQuestions(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)
	keep := func(name, address string) error {
		return s.KeepQuestion(ctx, Question{name, address, "ada", at})
	}
	for _, q := range [][2]string{{"stops at night", "/?show=stops"}, {"Open to all", "/exposure?from=internet"}, {"STOPS at night", "/?show=stops&from=yard"}} {
		if err := keep(q[0], q[1]); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.Questions(ctx)
	if err != nil || len(list) != 2 || list[0].Name != "Open to all" || list[1] != (Question{"STOPS at night", "/?show=stops&from=yard", "ada", at}) {
		t.Errorf("the questions: %+v %v", list, err)
	}
	for _, wrong := range [][2]string{
		{"", "/"},
		{" ", "/"},
		{"two\nlines", "/"},
		{strings.Repeat("x", 81), "/"},
		{" around ", "/"},
		{"bytes \xff", "/"},
		{"elsewhere", "https://evil.example/"},
		{"elsewhere", "//evil.example/"},
		{"elsewhere", `/\evil.example`},
		{"elsewhere", "javascript:alert(1)"},
		{"a command", "/api/state"},
		{"nothing", ""},
		{"long", "/?like=" + strings.Repeat("x", 4000)},
		{"tab", "/\t/evil.example"},
	} {
		if err := keep(wrong[0], wrong[1]); !errors.Is(err, ErrQuestion) {
			t.Errorf("%q at %q is kept: %v", wrong[0], wrong[1], err)
		}
	}
	if there, err := s.DropQuestion(ctx, "open TO all"); !there || err != nil {
		t.Errorf("it is not taken away: %v", err)
	}
	if there, err := s.DropQuestion(ctx, "open to all"); there || err != nil {
		t.Errorf("it is taken away twice: %v", err)
	}
	for n := range mostQuestions - 1 {
		if err := keep(fmt.Sprint("number ", n), "/"); err != nil {
			t.Fatal(err)
		}
	}
	if err := keep("one more", "/"); !errors.Is(err, ErrQuestion) {
		t.Errorf("more than there may be: %v", err)
	}
	if err := keep("number 1", "/log"); err != nil {
		t.Errorf("one that is there is not written anew once there are many: %v", err)
	}
}
