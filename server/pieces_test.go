package server

import (
	"bytes"
	"compress/gzip"
	"io"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

// TestPieces packs texts and pieces one behind the other, in any order: what comes out is what went in, and its checksum holds.
func TestPieces(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		var want strings.Builder
		p := newPacker()
		for range r.IntN(12) {
			text := strings.Repeat("a name and another ", r.IntN(40)) + strings.Repeat("\x00\xff", r.IntN(r.IntN(5000)+1))
			want.WriteString(text)
			if r.IntN(2) == 0 {
				p.add(pieceOf([]byte(text)))
			} else if _, err := io.WriteString(p, text); err != nil {
				t.Fatal(err)
			}
		}
		plain, err := gzip.NewReader(bytes.NewReader(p.packed()))
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(plain) // which holds the checksum against the text
		if err != nil || string(got) != want.String() {
			t.Fatalf("seed %d: %d bytes, expected %d (%v)", seed, len(got), want.Len(), err)
		}
	}
}

// TestRowsTakenOver holds answers whose rows are taken over from revision to revision against those of a server that begins with that estate.
func TestRowsTakenOver(t *testing.T) {
	paths := []string{"/api/names", "/api/names?from=lan0", "/api/findings"}
	text := synth.String(150, 4)
	e := notationtest.Parse(t, text)
	h := served(t, text)
	r := rand.New(rand.NewPCG(8, 8))
	revision, taken := int64(1), 0
	for range 12 {
		c, _ := synth.Edit(r, e, nil)
		next, err := e.Apply(c)
		if err != nil {
			continue
		}
		w := call(t, h, "POST", "/api/records", map[string]any{"base": revision, "text": notation.Print(next)})
		revision, e = decoded[Changed](t, w, 200).Revision, next
		anew := served(t, notation.Print(e))
		for _, path := range paths {
			got, want := call(t, h, "GET", path, nil), call(t, anew, "GET", path, nil)
			if got.Code != want.Code || untold(got.Body.String()) != untold(want.Body.String()) {
				t.Fatalf("%s after %v:\n%.600s\nanew:\n%.600s", path, c, got.Body, want.Body)
			}
			if got.Code == 200 {
				taken++
			}
		}
	}
	if taken < 12 {
		t.Errorf("only %d answers held", taken)
	}
}

var revisionOf = regexp.MustCompile(`"revision":\d+,`)

// untold is an answer without the revision that it is of.
func untold(answer string) string { return revisionOf.ReplaceAllString(answer, "") }
