package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/notation"
)

func open(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func parse(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

func change(t *testing.T, remove string, add string) estate.Change {
	t.Helper()
	located, _, faults := notation.ParseLines(add)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	var c estate.Change
	for line := range strings.SplitSeq(remove, "\n") {
		if line != "" {
			c.Remove = append(c.Remove, line)
		}
	}
	for _, l := range located {
		c.Add = append(c.Add, l.Placed)
	}
	return c
}

// columnsOf are the columns and list tables that a kind is stored in, for holding them against the schema.
func columnsOf(k *estate.Kind) (columns, lists []string) {
	columns = []string{"id", "rank", "comments"}
	for i := range k.Fields {
		if f := &k.Fields[i]; f.List {
			lists = append(lists, listTable(k, f))
		} else {
			columns = append(columns, f.Column)
		}
	}
	slices.Sort(columns)
	return columns, lists
}

// TestSchema holds the tables against the kinds as they are declared.
func TestSchema(t *testing.T) {
	s := open(t, "")
	for _, k := range estate.Kinds {
		columns, lists := columnsOf(k)
		var got []string
		if err := s.db.Select(&got, "SELECT name FROM pragma_table_info(?)", table(k)); err != nil {
			t.Fatal(err)
		}
		slices.Sort(got)
		if !slices.Equal(got, columns) {
			t.Errorf("%s has columns %v, declared are %v", table(k), got, columns)
		}
		for _, name := range lists {
			var n int
			if err := s.db.Get(&n, "SELECT count(*) FROM pragma_table_info(?)", name); err != nil || n != 3 {
				t.Errorf("%s has %d columns (%v), want 3", name, n, err)
			}
		}
	}
}

// everyKind has each option of each kind at least once.
const everyKind = `# the first comment
estate    "All"
network   yard 10.0.0.0/24,2001:db8::/64
network   dock 172.20.0.0/24 on box routed filtered until 2027-01-01 note "a \"note\""
host      box router outside unlisted off
address   box,other 10.0.0.1 yard dynamic
address   box ? internet
address   box 203.0.113.0/28 internet
route     box default via 10.0.0.2
group     staff yard,10.1.0.0/16,box
zone      a.example ttl 5m expires 2027-05-01 for yard,staff without wildcard,apex-alias
dns       a.example TXT "v=spf1 -all" "two" ttl 90s for yard
dns       b.example A dynamic box every 10m
name      x.example 10.0.0.9 on box/c
forward   box 203.0.113.1:80,443/tcp+udp to 10.0.0.5:1,2 from any hairpin
forward   box 8443 to pool desk inside
outbound  box leaving internet as 203.0.113.1
outbound  box from yard leaving internet as unchanged
filter    f on box,staff through otherwise refuse ipv6 drop-wins stateless loopback-too guards-containers
rule      f pass any/udp from internet,yard to box entering yard leaving internet
rule      f unknown 22
filter    g on box input otherwise drop strict
container box/c in dock=172.20.0.5+172.20.0.6,other alias web,www
container box/d shares-host
map       box/c 127.0.0.1:8000-8002 to 80-82 no-relay
listen    box/c [::]:443 as web tls cert one,two first-answers in-order shared
tunnel    t from box/c to gate.example:7000
tunnel    u from box to [2001:db8::7]:51820/udp
site      web *.a.example at 443 path /x to https://app:8443/y asking upstream verified through t default guard sign sources yard cert one
site      web p.example,*.q.example to pool desk speaking tcp guard "by hand"
site      web f.example files "/srv/www"
site      web g.example files
site      web i.example unknown
site      web h.example path =/exactly files
site      web h.example path /begins* redirect https
pool      desk least-busy sticky check 8080 path /ok tls every 5s up-after 2 down-after 4 within 1s
member    desk box:8443 share 2 spare out
cert      one for *.a.example expires 2027-03-01 on box/c,box by dns-01 alone through web renew 30d every 1d trial
cert      two for 203.0.113.7,b.example on box by http-01
intend    a.example 80,443 for internet,staff reaching box/c:443 guarded
accept    path.blocked "odd subject" until 2027-01-01 note "known"
# the last comment
`

func TestStoredAndReadBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a%20b?.db")
	s := open(t, path)
	want := parse(t, everyKind)
	if _, err := s.Reset(context.Background(), 0, want, "me", "all of it"); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	got := open(t, path).Current()
	if text := notation.Print(got.Estate); text != everyKind {
		t.Errorf("read back as\n%s", text)
	}
	if got.Revision != 1 {
		t.Errorf("revision %d, want 1", got.Revision)
	}
}

// TestEveryValue writes each kind with each word that each of its fields may have, and reads it back.
func TestEveryValue(t *testing.T) {
	var records []estate.Record
	for _, r := range parse(t, everyKind).All() {
		k := estate.KindOf(r)
		if k.Single {
			continue
		}
		for i := range k.Fields {
			for _, choice := range k.Fields[i].Choices {
				other := k.New()
				for j := range k.Fields {
					if f := &k.Fields[j]; j != i && len(f.Values(r)) > 0 {
						if err := f.Load(other, f.Values(r)); err != nil {
							t.Fatal(err)
						}
					}
				}
				if k.Fields[i].Load(other, []string{choice}) == nil && estate.Complete(other) == nil {
					records = append(records, other)
				}
			}
		}
	}
	if len(records) < 70 {
		t.Fatalf("only %d records", len(records))
	}
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	want := estate.New(records, nil)
	if _, err := s.Reset(t.Context(), 0, want, "me", ""); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if got := notation.Print(open(t, path).Current().Estate); got != notation.Print(want) {
		t.Errorf("read back as\n%s\nwant\n%s", got, notation.Print(want))
	}
}

// TestRandomEdits holds the store against the estate itself over random edits, undone and redone, and
// reads it back from disk in between.
func TestRandomEdits(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "random.db")
	s := open(t, path)
	r := rand.New(rand.NewPCG(7, 8))
	history := []string{""}
	at := 0
	for step := range 250 {
		now := s.Current()
		switch r.IntN(10) {
		case 0, 1:
			if got, err := s.Undo(ctx, "me"); at == 0 {
				if !errors.Is(err, ErrNothing) {
					t.Fatalf("undo of nothing: %v", err)
				}
			} else if err != nil {
				t.Fatal(err)
			} else if at--; notation.Print(got.After.Estate) != history[at] {
				t.Fatalf("step %d: undone to\n%s\nwant\n%s", step, notation.Print(got.After.Estate), history[at])
			}
		case 2:
			if got, err := s.Redo(ctx, "me"); at == len(history)-1 {
				if !errors.Is(err, ErrNothing) {
					t.Fatalf("redo of nothing: %v", err)
				}
			} else if err != nil {
				t.Fatal(err)
			} else if at++; notation.Print(got.After.Estate) != history[at] {
				t.Fatalf("step %d: redone otherwise", step)
			}
		case 3:
			_ = s.Close()
			s = open(t, path)
			if notation.Print(s.Current().Estate) != notation.Print(now.Estate) {
				t.Fatalf("step %d: read back as\n%s\nwant\n%s", step, notation.Print(s.Current().Estate), notation.Print(now.Estate))
			}
		default:
			var c estate.Change
			for range 1 + r.IntN(3) {
				all := now.Estate.All()
				if len(all) > 0 && r.IntN(3) == 0 {
					if line := estate.Line(all[r.IntN(len(all))]); !slices.Contains(c.Remove, line) {
						c.Remove = append(c.Remove, line)
					}
				}
				f := []string{"edge", "local"}[r.IntN(2)]
				text := fmt.Sprintf("rule %s at %d pass %d", f, 1+r.IntN(6), 1+r.IntN(60000))
				if r.IntN(3) == 0 {
					text = fmt.Sprintf("# %d\nhost h%d", step, r.IntN(100000))
				}
				if r.IntN(6) == 0 {
					text = fmt.Sprintf("filter %s on h input otherwise drop", f)
				}
				c.Add = append(c.Add, change(t, "", text).Add...)
			}
			got, err := s.Commit(ctx, Edit{Base: now.Revision, Who: "me", Change: c})
			if err != nil {
				t.Fatal(err)
			}
			history = append(history[:at+1], notation.Print(got.After.Estate))
			at++
		}
	}
}

// TestRowsInAnotherOrder: rows that stand in an order that no estate has are numbered anew with the next change.
func TestRowsInAnotherOrder(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	e := parse(t, "host a\nfilter x on a input otherwise drop\nfilter y on a through otherwise drop\nrule x pass 1\nrule x pass 2\nrule y pass 3\nrule y pass 4")
	if _, err := s.Commit(context.Background(), Edit{Change: estate.Difference(parse(t, ""), e)}); err != nil {
		t.Fatal(err)
	}
	// The rules of two filters among one another, as nothing here writes them.
	for _, sql := range []string{"UPDATE kind_rule SET rank = -rank", "UPDATE kind_rule SET rank = 40 WHERE ports = '1'", "UPDATE kind_rule SET rank = 10 WHERE ports = '3'", "UPDATE kind_rule SET rank = 30 WHERE ports = '2'", "UPDATE kind_rule SET rank = 20 WHERE ports = '4'"} {
		if _, err := s.db.Exec(sql); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, path)
	now := s.Current()
	line, _, err := notation.ParseLine("rule x at 2 pass 9")
	if err != nil {
		t.Fatal(err)
	}
	kept, err := s.Commit(context.Background(), Edit{Base: now.Revision, Change: estate.Change{Add: []estate.Placed{line}}})
	if err != nil {
		t.Fatal(err)
	}
	now = kept.After
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if got, want := notation.Print(open(t, path).Current().Estate), notation.Print(now.Estate); got != want {
		t.Errorf("read back\n%s\nwant\n%s", got, want)
	}
}

func TestAnEditOnAnOlderRevision(t *testing.T) {
	ctx := context.Background()
	s := open(t, "")
	base, err := s.Reset(ctx, 0, parse(t, "host a\nhost b\nfilter f on a input otherwise drop\nrule f pass 1\nrule f pass 2\n"), "me", "")
	if err != nil {
		t.Fatal(err)
	}
	commit := func(remove, add string) error {
		_, err := s.Commit(ctx, Edit{Base: base.After.Revision, Who: "you", Change: change(t, remove, add)})
		return err
	}
	if err := commit("host a", "host a router"); err != nil {
		t.Fatal(err)
	}
	if err := commit("host b", "host b router"); err != nil {
		t.Fatalf("an edit of another line: %v", err)
	}
	var conflict *Conflict
	if err := commit("host a", "host a unlisted"); !errors.As(err, &conflict) || len(conflict.Clashes) != 1 {
		t.Fatalf("an edit of the same line: %v, %+v", err, conflict)
	}
	if c := conflict.Clashes[0]; c.Line != "host a" || c.Mine != "host a unlisted" || c.Theirs != "host a router" || c.Who != "you" {
		t.Errorf("both sides: %+v", c)
	}
	if err := commit("", "rule f at 1 drop 9"); err != nil {
		t.Fatal(err)
	}
	if err := commit("", "rule f at 2 drop 8"); !errors.As(err, &conflict) || len(conflict.Clashes) != 1 || conflict.Clashes[0].Theirs != "rule f drop 9" {
		t.Fatalf("a place in an order that has changed: %v", err)
	}
	want := "host      a router\nhost      b router\nfilter    f on a input otherwise drop\nrule      f drop 9\nrule      f pass 1\nrule      f pass 2\n"
	if got := notation.Print(s.Current().Estate); got != want {
		t.Errorf("kept\n%s\nwant\n%s", got, want)
	}
}

func TestUndoOfAnEarlierChange(t *testing.T) {
	ctx := context.Background()
	s := open(t, "")
	var revisions []int64
	for _, c := range []estate.Change{change(t, "", "host a"), change(t, "", "host b"), change(t, "host a", "host a router")} {
		got, err := s.Commit(ctx, Edit{Base: s.Current().Revision, Who: "me", Change: c})
		if err != nil {
			t.Fatal(err)
		}
		revisions = append(revisions, got.After.Revision)
	}
	if _, err := s.UndoOf(ctx, revisions[1], "me"); err != nil {
		t.Fatal(err)
	}
	var conflict *Conflict
	if _, err := s.UndoOf(ctx, revisions[0], "me"); !errors.As(err, &conflict) {
		t.Fatalf("undo of a change whose line changed since: %v", err)
	}
	if got := notation.Print(s.Current().Estate); got != "host      a router\n" {
		t.Errorf("left\n%s", got)
	}
	entries, err := s.Log(ctx, 0, 10)
	if err != nil || len(entries) != 4 || entries[0].Act != "undo" || entries[0].Of != revisions[1] || !entries[2].Undone || entries[3].Undone {
		t.Errorf("log %+v, %v", entries, err)
	}
}

// TestProposal takes a change back of which a line is another by now: what can be is proposed as it was, and the other goes in its place. One that was
// undone is made again, others between or not.
func TestProposal(t *testing.T) {
	ctx := context.Background()
	s := open(t, "")
	commit := func(c estate.Change) int64 {
		t.Helper()
		got, err := s.Commit(ctx, Edit{Base: s.Current().Revision, Who: "me", Change: c})
		if err != nil {
			t.Fatal(err)
		}
		return got.After.Revision
	}
	commit(change(t, "", "host a\nhost b\nhost d"))
	three := commit(change(t, "host a", "host a router\nhost c"))
	commit(change(t, "host a router", `host a router note "kept"`))
	proposed := func(revision int64, again bool) string {
		t.Helper()
		c, err := s.Proposal(ctx, revision, again)
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Join(c.Remove, ", ") + " > "
		for _, p := range c.Add {
			text += p.Line()
		}
		return text
	}
	if got := proposed(three, false); got != `host c, host a router note "kept" > host a` {
		t.Errorf("to take it back: %s", got)
	}
	commit(change(t, `host a router note "kept"`, "")) // gone altogether
	if got := proposed(three, false); got != "host c > host a" {
		t.Errorf("to take it back, where one line is gone: %s", got)
	}
	if _, err := s.Proposal(ctx, 99, false); !errors.Is(err, ErrNothing) {
		t.Errorf("of what was never changed: %v", err)
	}

	last := commit(change(t, "host d", "host d router"))
	if _, err := s.RedoOf(ctx, last, "me"); !errors.Is(err, ErrNothing) {
		t.Errorf("what is not undone is made again: %v", err)
	}
	if _, err := s.UndoOf(ctx, last, "me"); err != nil {
		t.Fatal(err)
	}
	commit(change(t, "", "host e")) // an edit between: the last undone one is not redone by a key any more
	if _, err := s.Redo(ctx, "me"); !errors.Is(err, ErrNothing) {
		t.Errorf("redo after an edit: %v", err)
	}
	if _, err := s.RedoOf(ctx, last, "me"); err != nil || !s.Current().Estate.Has("host d router") {
		t.Errorf("made again: %v", err)
	}
	if _, err := s.RedoOf(ctx, last, "me"); !errors.Is(err, ErrNothing) {
		t.Errorf("made again twice: %v", err)
	}
	if got := proposed(last, true); got != " > " {
		t.Errorf("what is so already: %s", got)
	}
	if entries, err := s.Log(ctx, 0, 1); err != nil || entries[0].Act != "redo" || entries[0].Of != last {
		t.Errorf("log %+v, %v", entries, err)
	}
	if _, err := s.UndoOf(ctx, last, "me"); err != nil {
		t.Errorf("and taken back again: %v", err)
	}
}

// TestLooks holds that looks are kept once each, apart from the records, the newest of a kind given; and that those go that are old.
func TestLooks(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, filepath.Join(t.TempDir(), "x.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	now := time.Now().UTC().Truncate(time.Second)
	one := look.Look{At: now.Add(-time.Hour), From: "internet", Target: "a.example:443", Did: look.Connect, Came: look.Silent, Address: "9.9.9.9", Agrees: look.Differs, Says: "it was so then"}
	newer, other, old := one, one, one
	newer.At, newer.Came = now, look.Arrived
	other.From = "yard"
	old.At, old.Target = now.Add(-100*24*time.Hour), "b.example:443"
	for i, want := range []int{4, 0} {
		if n, err := s.AddLooks(ctx, []look.Look{one, newer, other, old}, LooksKept); err != nil || n != want && i == 0 {
			t.Fatalf("kept %d, %v", n, err)
		}
	}
	got, err := s.Looks(ctx)
	if err != nil {
		t.Fatal(err)
	}
	newer.Agrees, newer.Says, other.Agrees, other.Says = "", "", "", ""
	if !reflect.DeepEqual(got, []look.Look{newer, other}) {
		t.Errorf("got %+v", got)
	}
	if last, err := s.LastLook(ctx); err != nil || last == 0 || s.Current().Revision != 0 {
		t.Errorf("last %d, %v; revision %d", last, err, s.Current().Revision)
	}
	e, faults := notation.Parse("host box\n")
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	if _, err := s.Reset(ctx, 0, e, "me", "x"); err != nil {
		t.Fatal(err)
	}
	late := one
	late.At = time.Now().UTC().Add(time.Second).Truncate(time.Millisecond)
	if _, err := s.AddLooks(ctx, []look.Look{late}, LooksKept); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Looks(ctx); err != nil || got[0].Revision != s.Current().Revision || !got[0].At.Equal(late.At) {
		t.Errorf("made where nobody knew the revision: %+v, %v", got[0], err)
	}
}
