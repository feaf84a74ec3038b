package findings

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"steady-compass/core/codes"
)

// unjudged are the codes that are in the table and not looked for yet.
var unjudged = strings.Fields(`exposure.thin`)

// TestEveryCodeHasACase ties every code of the table to a case by hand: it is asked for in the tests that say what is found.
func TestEveryCodeHasACase(t *testing.T) {
	var cases strings.Builder
	for _, pattern := range []string{"*_test.go", "../trace/*_test.go"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if file != "codes_test.go" {
				cases.Write(text)
			}
		}
	}
	later := " " + strings.Join(unjudged, " ") + " "
	for _, c := range codes.All {
		asked := strings.Contains(cases.String(), c.Code)
		if left := strings.Contains(later, " "+c.Code+" "); asked == left {
			t.Errorf("%s: a case asks for it: %v; it is left for later: %v", c.Code, asked, left)
		}
	}
}
