package change

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
	"steady-compass/demo"
)

// TestCompleteASentence: at every place of a sentence what is known is offered, and what has to be said before what may be.
func TestCompleteASentence(t *testing.T) {
	e := notationtest.Parse(t, demo.Estate)
	for _, c := range []struct {
		line  string // up to the cursor
		first string // of what is offered; "" where nothing is
		also  string
	}{
		{"pub", "publish", ""},
		{"ret", "retire", ""},
		{"publish pics", "pics.fernmoor.example", ""},
		{"publish pics.f", "pics.fernmoor.example", ""},
		{"publish sky.fernmoor", "", ""}, // is recorded
		{"publish plates", "plates.fernmoor.example", ""},
		{"publish pics.fernmoor.example ", "to", ""},
		{"publish pics.fernmoor.example to zen", "zenith:22", "zenith:9000"},
		{"publish pics.fernmoor.example to azimuth/lab", "azimuth/lab:8000", ""},
		{"publish pics.fernmoor.example to zenith:9000 ", "for", ""},
		{"publish pics.fernmoor.example to zenith:9000 for ", "internet", "instruments"},
		{"publish pics.fernmoor.example to zenith:9000 for yard,", "internet", "instruments"},
		{"publish pics.fernmoor.example to zenith:9000 for yard,ins", "instruments", ""},
		{"publish pics.fernmoor.example to zenith:9000 for internet ", "through", "guarded"},
		{"publish pics.fernmoor.example to zenith:9000 for internet guarded ", "by", ""},
		{"publish pics.fernmoor.example to zenith:9000 for internet guarded by ", "sign", ""},
		{"publish pics.fernmoor.example to zenith:9000 for internet guarded by sign ", "through", "at"},
		{"publish pics.fernmoor.example to zenith:9000 for internet through ", "front", ""},
		{"publish pics.fernmoor.example to zenith:9000 for internet at ", "203.0.113.20", "192.0.2.61"},
		{"retire boo", "book.fernmoor.example", ""},
		{"retire azimuth/l", "azimuth/lab", ""},
		{"retire front x ", "", ""},
	} {
		got := Complete(c.line, len(c.line), e)
		var words []string
		for _, w := range got.Words {
			words = append(words, w.Text)
		}
		if c.first == "" && len(words) > 0 || c.first != "" && (len(words) == 0 || words[0] != c.first) {
			t.Errorf("%q: %v, want %q first", c.line, words, c.first)
		}
		if c.also != "" && !slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(w, c.also) }) {
			t.Errorf("%q: %v is without %q", c.line, words, c.also)
		}
		if typed := c.line[got.From:]; strings.ContainsAny(typed, " ,") {
			t.Errorf("%q: completes %q", c.line, typed)
		}
	}
	for line, want := range map[string]bool{"publish ": true, "retire x": true, " publish x": true, "publish": false, "published x": false, "dns x A": false} {
		if Begins(line) != want {
			t.Errorf("%q begins a sentence: %v", line, !want)
		}
	}
}

// FuzzSaid: whatever is said is understood or not; it never ends the program, and it is completed at every place.
func FuzzSaid(f *testing.F) {
	for _, s := range []string{"publish a.b to c:1 for d,e guarded by f through g at 1.2.3.4", "retire x", "publish", "publish  , to", "retire  ", "publish a for"} {
		f.Add(s, 3)
	}
	var e *estate.Estate
	f.Fuzz(func(t *testing.T, s string, cursor int) {
		words := strings.Fields(s)
		if len(words) > 0 && words[0] == publishWord {
			if w, err := wishOf(words[1:]); err == nil && w.Place == "" {
				t.Errorf("%q is understood, and leads nowhere", s)
			}
		}
		if e == nil {
			e = notationtest.Parse(t, hill)
		}
		if c := Complete(s, cursor, e); c.From < 0 || c.From > len(s) {
			t.Errorf("%q at %d completes from %d", s, cursor, c.From)
		}
	})
}
