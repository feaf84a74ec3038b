package findings

import (
	"os"
	"path/filepath"
	"slices"
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

// over is what each part of a check looks at, as the table of codes has it.
var over = map[section]codes.Over{
	ofRenewals: codes.Certificates, ofRecords: codes.Lines, ofVisits: codes.Ways, ofExpired: codes.Lines, ofNearMisses: codes.Names, ofBackends: codes.Backends,
	ofPorts: codes.Ports, ofNames: codes.Names, ofFilters: codes.Filters, ofOpenings: codes.Openings,
}

// foundByLookingAt holds all that the parts of a check found to the table: each code is found by looking at what its entry says.
func foundByLookingAt(t *testing.T, x *Checked) {
	t.Helper()
	for _, list := range x.all.All() {
		for _, c := range list {
			entry, known := codes.Of(c.Code)
			if said := c.section == unlessSaid; !known || !said && !slices.Contains(entry.Over, over[c.section]) || said && !slices.Contains(entry.Over, codes.Certificates) && !slices.Contains(entry.Over, codes.Ways) {
				t.Errorf("%s %s is found by looking at %s, and its entry says %q", c.Code, c.Subject, over[c.section], entry.Over)
			}
		}
	}
}
