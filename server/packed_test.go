package server

import (
	"compress/gzip"
	"fmt"
	"io"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"steady-compass/demo"
)

// TestPackedAnswers asks for a table packed and plain, many at once, before and after changes: all get the same, of the revision
// that they asked at or a newer one; what is wrong with a question is said each time.
func TestPackedAnswers(t *testing.T) {
	h := served(t, demo.Estate)
	unpacked := func(w *httptest.ResponseRecorder) string {
		if w.Header().Get("Content-Encoding") != "gzip" {
			return w.Body.String()
		}
		r, err := gzip.NewReader(w.Body)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for _, path := range []string{"/api/names?from=yard", "/api/findings", "/api/counts", "/api/exposure", "/api/ports", "/api/records", "/api/answers", "/api/leads?to=azimuth"} {
		plain := call(t, h, "GET", path, nil)
		packed := call(t, h, "GET", path, nil, "Accept-Encoding", "gzip")
		if packed.Header().Get("Content-Encoding") != "gzip" || plain.Header().Get("Content-Encoding") != "" {
			t.Errorf("%s: packed %q, plain %q", path, packed.Header().Get("Content-Encoding"), plain.Header().Get("Content-Encoding"))
		}
		for _, w := range []*httptest.ResponseRecorder{plain, packed} {
			if w.Code != 200 || !strings.HasPrefix(w.Header().Get("Content-Type"), "application/json") || w.Header().Get("Vary") == "" {
				t.Errorf("%s: %d %v", path, w.Code, w.Header())
			}
		}
		if text := plain.Body.String(); text != unpacked(packed) || len(text) < 20 {
			t.Errorf("%s: %.80s", path, text)
		}
	}
	for range 2 {
		if w := call(t, h, "GET", "/api/names?from=moon", nil, "Accept-Encoding", "gzip"); w.Code != 422 || !strings.Contains(unpacked(w), "moon") {
			t.Errorf("a vantage that is not there: %d %s", w.Code, w.Body)
		}
	}
	var all sync.WaitGroup
	for n := range 12 {
		name := fmt.Sprintf("more%d.fernmoor.example", n)
		done := decoded[Changed](t, call(t, h, "POST", "/api/change", ChangeQuestion{Base: int64(n + 1), Add: []string{"dns " + name + " A 203.0.113.20"}, Remove: []string{}}), 200)
		for range 4 {
			all.Go(func() {
				rows := decoded[NamesAnswer](t, call(t, h, "GET", "/api/names", nil), 200)
				if rows.Revision < done.Revision {
					t.Errorf("revision %d after %d", rows.Revision, done.Revision)
				}
				for _, r := range rows.Rows {
					if r.Name == name {
						return
					}
				}
				t.Errorf("%s is not among the rows of revision %d", name, rows.Revision)
			})
		}
	}
	all.Wait()
}
