// Package notationtest reads estates and edits for tests.
package notationtest

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// Parse reads an estate; a text with faults ends the test.
func Parse(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

// Edit is an estate after an edit: of its lines "- line" goes, another comes, empty ones are nothing. What cannot be made ends the test.
func Edit(t testing.TB, e *estate.Estate, lines ...string) *estate.Estate {
	t.Helper()
	var text strings.Builder
	for _, line := range lines {
		if line = strings.TrimSpace(line); !strings.HasPrefix(line, "- ") && line != "" {
			line = "+ " + line
		}
		text.WriteString(line + "\n")
	}
	c, faults := notation.ParseChange(text.String(), e)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	next, err := e.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	return next
}
