package codes

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/codes.md anew")

// TestDocumented holds docs/codes.md to the table that it is made from.
func TestDocumented(t *testing.T) {
	const path = "../../docs/codes.md"
	var out strings.Builder
	out.WriteString("# Codes\n\nWhat may be found, made from the table in `core/codes` (`go test ./core/codes -update`). The level is as a rule: a finding may have another. `accept CODE SUBJECT until DATE` takes one on.\n")
	family := ""
	for _, c := range All {
		if c.Family() != family {
			family = c.Family()
			fmt.Fprintf(&out, "\n## %s\n\n| code | level | found by looking at | | |\n|---|---|---|---|---|\n", family)
		}
		var over []string
		for _, o := range c.Over {
			over = append(over, string(o))
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s | %s |\n", c.Code, c.Level, strings.Join(over, ", "), c.Title, c.Help)
	}
	if *update {
		if err := os.WriteFile(path, []byte(out.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if string(text) != out.String() {
		t.Errorf("%s is not what the table says; run go test ./core/codes -update", path)
	}
}

// TestTable holds the entries to what is built on them: each code once, its family together, a level, a title and a sentence.
func TestTable(t *testing.T) {
	seen, closed, last := map[string]bool{}, map[string]bool{}, ""
	for _, c := range All {
		family, rest, ok := strings.Cut(c.Code, ".")
		switch {
		case !ok || rest == "" || seen[c.Code]:
			t.Errorf("%q is no code, or stands twice", c.Code)
		case family != last && closed[family]:
			t.Errorf("%s stands apart from its family", c.Code)
		case c.Level.Rank() < 0:
			t.Errorf("%s has the level %q", c.Code, c.Level)
		case len(c.Over) == 0 || slices.ContainsFunc(c.Over, func(o Over) bool { return !slices.Contains(Overs, o) }):
			t.Errorf("%s is found by looking at %q", c.Code, c.Over)
		case c.Title == "" || strings.HasSuffix(c.Title, "."):
			t.Errorf("%s has the title %q", c.Code, c.Title)
		case !strings.HasSuffix(c.Help, ".") && !strings.HasSuffix(c.Help, ")."):
			t.Errorf("%s is helped by %q", c.Code, c.Help)
		}
		if family != last {
			closed[last], last = true, family
		}
		seen[c.Code] = true
	}
}
