package estate_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

func parsed(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults, text)
	}
	return e
}

// change reads "- line" and "+ line".
func change(t testing.TB, text string) estate.Change {
	t.Helper()
	var c estate.Change
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "- "):
			c.Remove = append(c.Remove, line[2:])
		case strings.HasPrefix(line, "+ "):
			p, _, err := notation.ParseLine(line[2:])
			if err != nil {
				t.Fatal(err)
			}
			c.Add = append(c.Add, p)
		}
	}
	return c
}

const before = `
# the first of them
host a
host b
filter f on a input otherwise drop
# administration
rule f pass 22
rule f pass 80
rule f pass 443
filter g on b input otherwise drop
rule g pass 25
forward a 80 to 10.0.0.1
forward a 443 to 10.0.0.1
forward b 25 to 10.0.0.2
`

// TestApply puts lines where they belong: in the place of one that goes, at the place asked for, else last of their
// group; the comments of a line stay with what comes in its place.
func TestApply(t *testing.T) {
	for _, c := range []struct{ name, change, want string }{
		{"in place", "- rule f pass 80\n+ rule f pass 81", "rule f pass 22 | rule f pass 81 | rule f pass 443 | rule g pass 25"},
		{"in place, of another group", "- rule f pass 80\n+ rule g pass 81", "rule f pass 22 | rule f pass 443 | rule g pass 25 | rule g pass 81"},
		{"at a place", "+ rule f at 2 pass 81", "rule f pass 22 | rule f pass 81 | rule f pass 80 | rule f pass 443 | rule g pass 25"},
		{"beyond the end", "+ rule f at 9 pass 81", "rule f pass 22 | rule f pass 80 | rule f pass 443 | rule f pass 81 | rule g pass 25"},
		{"at the first place of the second group", "+ rule g at 1 pass 81", "rule f pass 22 | rule f pass 80 | rule f pass 443 | rule g pass 81 | rule g pass 25"},
		{"last of its group", "+ rule f pass 81", "rule f pass 22 | rule f pass 80 | rule f pass 443 | rule f pass 81 | rule g pass 25"},
		{"moved", "- rule f pass 22\n+ rule f at 3 pass 22", "rule f pass 80 | rule f pass 443 | # administration rule f pass 22 | rule g pass 25"},
		{"two for one", "- rule f pass 80\n+ rule f pass 81\n+ rule f pass 82", "rule f pass 22 | rule f pass 81 | rule f pass 443 | rule f pass 82 | rule g pass 25"},
		{"one for two", "- rule f pass 80\n- rule f pass 443\n+ rule f pass 81", "rule f pass 22 | rule f pass 81 | rule g pass 25"},
		{"comments stay", "- rule f pass 22\n+ rule f pass 2222", "# administration rule f pass 2222 | rule f pass 80 | rule f pass 443 | rule g pass 25"},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := parsed(t, before)
			printed := notation.Print(e)
			next, err := e.Apply(change(t, c.change))
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, r := range next.Of(estate.KindNamed("rule")) {
				line := strings.Join(append(slices.Clone(r.Meta().Comments), estate.Line(r)), " ")
				if estate.Line(r) == "rule f pass 22" && !strings.Contains(c.want, "# administration rule f pass 22 ") {
					line = estate.Line(r) // its comment is looked at where it matters
				}
				got = append(got, line)
			}
			if all := strings.Join(got, " | "); all != c.want {
				t.Errorf("got  %s\nwant %s", all, c.want)
			}
			if notation.Print(e) != printed {
				t.Error("the estate itself has changed")
			}
		})
	}
}

func applied(t testing.TB, e *estate.Estate, text string) *estate.Estate {
	t.Helper()
	next, err := e.Apply(change(t, text))
	if err != nil {
		t.Fatal(err)
	}
	return next
}

// TestApplyAtOnce: lines that come in one change stand where they would if each came in a change of its own, those with a place among them.
func TestApplyAtOnce(t *testing.T) {
	made := func(r *rand.Rand) string {
		group, n, at := string('a'+rune(r.IntN(5))), 1+r.IntN(1000), ""
		if r.IntN(4) == 0 {
			at = fmt.Sprintf(" at %d", 1+r.IntN(4))
		}
		return []string{
			fmt.Sprintf("rule %s%s pass %d", group, at, n), fmt.Sprintf("forward %s%s %d to 10.0.0.1", group, at, n), fmt.Sprintf("map %s/c%s %d to 80", group, at, n),
			fmt.Sprintf("site %s%s n%d.example files", group, at, n), fmt.Sprintf("filter f%d%s on %s input otherwise drop", n, at, group), fmt.Sprintf("listen %s %d as %s", group, n, group),
		}[r.IntN(6)]
	}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		one := parsed(t, "host a\n")
		for range 30 {
			one = applied(t, one, "+ "+made(r))
		}
		all, lines := one, ""
		for range 1 + r.IntN(25) {
			line := "+ " + made(r) + "\n"
			one, lines = applied(t, one, line), lines+line
		}
		if got, want := notation.Print(applied(t, all, lines)), notation.Print(one); got != want {
			t.Fatalf("seed %d: of\n%s\nmade at once\n%s\nand one by one\n%s", seed, lines, got, want)
		}
	}
}

func TestApplyRefuses(t *testing.T) {
	e := parsed(t, "estate \"one\"\nhost a\nhost a\n")
	for _, c := range []string{"- host b", "- nonsense", "- host a\n- host a\n- host a", "+ estate \"two\""} {
		if next, err := e.Apply(change(t, c)); err == nil {
			t.Errorf("%q gives\n%s", c, notation.Print(next))
		}
	}
	if _, err := e.Apply(change(t, "- host b")); !errors.Is(err, estate.ErrNotThere) {
		t.Errorf("a line that is not there: %v", err)
	}
	many := change(t, strings.Repeat("- host a\n", 12))
	if _, err := e.Apply(many); !errors.Is(err, estate.ErrNotThere) {
		t.Errorf("a line that is there twice, taken out twelve times: %v", err)
	}
}

// random is an estate of lines that repeat, in groups, some with comments.
func random(r *rand.Rand) string {
	var out strings.Builder
	for range r.IntN(30) {
		if r.IntN(4) == 0 {
			fmt.Fprintf(&out, "# c%d\n", r.IntN(5))
		}
		switch r.IntN(5) {
		case 0:
			fmt.Fprintf(&out, "host h%d\n", r.IntN(6))
		case 1:
			fmt.Fprintf(&out, "filter f%d on h%d input otherwise drop\n", r.IntN(3), r.IntN(3))
		case 2:
			fmt.Fprintf(&out, "dns x%d.example A 192.0.2.%d\n", r.IntN(4), r.IntN(4))
		case 3:
			fmt.Fprintf(&out, "forward h%d %d to 10.0.0.1\n", r.IntN(3), 1+r.IntN(5))
		default:
			fmt.Fprintf(&out, "rule f%d pass %d\n", r.IntN(3), 1+r.IntN(6))
		}
	}
	return out.String()
}

// swapped is an estate with one line out and another in; "" for none.
func swapped(t *testing.T, e *estate.Estate, remove, add string) *estate.Estate {
	t.Helper()
	var change estate.Change
	if remove != "" {
		change.Remove = []string{remove}
	}
	if add != "" {
		p, _, err := notation.ParseLine(add)
		if err != nil {
			t.Fatal(err)
		}
		change.Add = []estate.Placed{p}
	}
	next, err := e.Apply(change)
	if err != nil {
		t.Fatal(err)
	}
	return next
}

// TestDifference finds, for any two estates, the change that makes one of the other, both ways; and none for the same.
func TestDifference(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		a, b := parsed(t, random(r)), parsed(t, random(r))
		for _, pair := range [][2]*estate.Estate{{a, b}, {b, a}} {
			from, to := pair[0], pair[1].WithTail(pair[0].Tail)
			c := estate.Difference(from, to)
			got, err := from.Apply(c)
			if err != nil {
				t.Fatalf("seed %d: %v\nfrom\n%s\nto\n%s", seed, err, notation.Print(from), notation.Print(to))
			}
			if notation.Print(got) != notation.Print(to) {
				t.Fatalf("seed %d: from\n%s\nby %v\ncomes\n%s\nnot\n%s", seed, notation.Print(from), c.Remove, notation.Print(got), notation.Print(to))
			}
			if c := estate.Difference(got, to); !c.IsEmpty() {
				t.Fatalf("seed %d: between two that are the same: %v", seed, c)
			}
		}
	}
}

// TestChanged: what an edit changed is told as two estates that know nothing of one another tell it, and the groups that it changed
// are whole.
func TestChanged(t *testing.T) {
	told := 0
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 2))
		from, to := parsed(t, random(r)), parsed(t, random(r))
		next, err := from.Apply(estate.Difference(from, to))
		if err != nil {
			t.Fatal(err)
		}
		for _, pair := range [][2]*estate.Estate{{from, next}, {next, from}} { // which share records
			c := estate.Difference(pair[0], pair[1].WithTail(pair[0].Tail))
			got, err := pair[0].Apply(c)
			if err != nil || notation.Print(got) != notation.Print(pair[1].WithTail(pair[0].Tail)) {
				t.Fatalf("seed %d: from\n%s\nby %v comes (%v)\n%s\nnot\n%s", seed, notation.Print(pair[0]), c, err, notation.Print(got), notation.Print(pair[1]))
			}
		}
		apart := estate.New(next.All(), nil)
		for _, k := range estate.Kinds {
			gone, come := estate.Changed(from, next, k)
			wantGone, wantCome := estate.Changed(from, apart, k)
			if !slices.Equal(gone, wantGone) || !slices.Equal(come, wantCome) {
				t.Fatalf("seed %d: of %s %v went and %v came, want %v and %v", seed, k.Word, gone, come, wantGone, wantCome)
			}
			back, forth := estate.Changed(next, from, k)
			if !slices.Equal(back, come) || !slices.Equal(forth, gone) {
				t.Fatalf("seed %d: of %s %v go back, and %v come", seed, k.Word, back, forth)
			}
			if k.Word != "rule" {
				continue
			}
			groups := map[string]bool{}
			for _, rec := range slices.Concat(gone, come) {
				groups[estate.GroupOf(rec)] = true
			}
			around := estate.GroupsChanged(from, next, k)
			for _, rec := range next.Of(k) {
				if groups[estate.GroupOf(rec)] && !slices.Contains(around, rec) {
					t.Fatalf("seed %d: %s is not among the groups that changed: %v", seed, estate.Line(rec), around)
				}
			}
			told += len(around)
		}
	}
	if told < 2000 {
		t.Errorf("only %d records are of groups that changed", told)
	}
}

// TestDeclarations holds every kind to what parser, storage and forms take for granted.
func TestDeclarations(t *testing.T) {
	words := map[string]bool{}
	for i, k := range estate.Kinds {
		if words[k.Word] || estate.KindNamed(k.Word) != k || estate.KindNamed(strings.ToUpper(k.Word)) != k {
			t.Errorf("%s: named twice, or not found by its word", k.Word)
		}
		words[k.Word] = true
		columns := map[string]bool{}
		optional := false
		for j := range k.Fields {
			f := &k.Fields[j]
			if f.Column == "" || columns[f.Column] {
				t.Errorf("%s: field %d has the column %q", k.Word, j, f.Column)
			}
			columns[f.Column] = true
			if f.Flag && f.Lead == "" {
				t.Errorf("%s: the flag %s has no word", k.Word, f.Column)
			}
			if !f.Option && optional {
				t.Errorf("%s: %s stands by its place behind what stands in any order", k.Word, f.Column)
			}
			optional = optional || f.Option
		}
		if k.Defines != 0 && (len(k.Fields) == 0 || !k.Fields[0].Required) {
			t.Errorf("%s defines a name, which does not come first", k.Word)
		}
		if i > 0 && k.Usage() == "" {
			t.Errorf("%s has no usage", k.Word)
		}
	}
}
