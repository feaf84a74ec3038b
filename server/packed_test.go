package server

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"weak"

	"steady-compass/core/parallel"
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

// TestAnsweredWhileItChanges: while an answer is made the estate changes, and others ask; they take the one that is made then, and none is made for
// each of them. Who asks of a later revision, of another day or through a draft gets none that is not of that.
func TestAnsweredWhileItChanges(t *testing.T) {
	p := newPackedAnswers().of("/api/names")
	made := 0
	answer := func(now, asked answered) string {
		if err := p.turn.Take(t.Context()); err != nil {
			t.Error(err)
			return ""
		}
		got, _ := p.answer(now, asked, func(w http.ResponseWriter) {
			made++
			_, _ = fmt.Fprintf(w, "of %d", now.revision)
		})
		w := httptest.NewRecorder()
		if err := got.write(w, httptest.NewRequest("GET", "/api/names", nil)); err != nil {
			t.Error(err)
		}
		return w.Body.String()
	}
	at := func(revision int64) answered { return answered{revision: revision, day: "2026-12-01"} }
	if got := answer(at(1), at(1)); got != "of 1" {
		t.Error(got)
	}
	if err := p.turn.Take(t.Context()); err != nil { // somebody makes one
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for n := range int64(20) {
		all.Go(func() {
			if got := answer(at(9), at(2+n%7)); got != "of 9" {
				t.Error(got)
			}
		})
	}
	p.turn.Leave()
	all.Wait()
	if made != 2 {
		t.Errorf("made %d times", made)
	}
	if got := answer(at(10), at(10)); got != "of 10" {
		t.Error(got)
	}
	tomorrow := answered{revision: 10, day: "2026-12-02"}
	if got := answer(tomorrow, tomorrow); got != "of 10" || made != 4 {
		t.Errorf("%s, made %d times", got, made)
	}
	one, other := answered{10, "2026-12-02", weak.Make(&analysis{})}, answered{10, "2026-12-02", weak.Make(&analysis{})}
	for _, draft := range []answered{one, other, other} {
		answer(draft, draft)
	}
	if made != 6 {
		t.Errorf("of two drafts, made %d times", made-4)
	}
}

// TestPace: a change waits until it is told of others what they did; it is made without, where that takes long.
func TestPace(t *testing.T) {
	s := Server{unnoted: parallel.NewTurns(mostUnnoted)}
	var noted []func()
	for range mostUnnoted {
		noted = append(noted, s.paced(t.Context()))
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	s.paced(gone)()
	if len(s.unnoted) != mostUnnoted {
		t.Errorf("%d are not told of", len(s.unnoted))
	}
	waits := make(chan func())
	go func() { waits <- s.paced(t.Context()) }()
	noted[0]()
	(<-waits)()
	for _, done := range noted[1:] {
		done()
	}
	if len(s.unnoted) != 0 {
		t.Errorf("%d are not told of in the end", len(s.unnoted))
	}
}
