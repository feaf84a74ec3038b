package findings

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"steady-compass/core/codes"
)

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
	for _, c := range codes.All {
		if !strings.Contains(cases.String(), c.Code) {
			t.Errorf("%s: no case asks for it", c.Code)
		}
	}
}
