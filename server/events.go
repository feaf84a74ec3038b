package server

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"steady-compass/people"

	"github.com/labstack/echo/v5"
)

// watchers are the open event streams, each told of every new revision.
type watchers struct {
	mu   sync.Mutex
	list map[chan int64]bool
}

func (w *watchers) add() chan int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.list == nil {
		w.list = map[chan int64]bool{}
	}
	c := make(chan int64, 1)
	w.list[c] = true
	return c
}

func (w *watchers) remove(c chan int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.list, c)
}

// tell never waits: a stream that has not read the last revision yet will find a newer one.
func (w *watchers) tell(revision int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.list {
		select {
		case <-c:
		default:
		}
		c <- revision
	}
}

// still says whether who watches may go on: the session may have ended since.
func (s *Server) still(c *echo.Context) bool {
	p, err := s.personOf(c.Request())
	return err == nil && p != nil && p.role.May(people.Reader)
}

const heartbeat = 15 * time.Second

// events is a stream of revisions, of what drafts there are, and of what is wrong with the database file (HTML Standard, server-sent events).
func (s *Server) events(c *echo.Context) error {
	if err := refused(c.Request().Context(), people.Reader, false); err != nil {
		return failed(c, err)
	}
	revisions := s.watch.add()
	defer s.watch.remove(revisions)
	w := c.Response()
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Time{})
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	revision, trouble := s.db.Current().Revision, s.troubled()
	for {
		if !s.still(c) {
			return nil
		}
		text := fmt.Sprintf("event: revision\ndata: %d\n\n", revision)
		if mark, err := s.db.DraftsMark(c.Request().Context()); err == nil {
			text += "event: drafts\ndata: " + mark + "\n\n"
		}
		if now := s.troubled(); now != trouble {
			trouble = now
			text += "event: trouble\ndata: " + strings.ReplaceAll(now, "\n", " ") + "\n\n"
		}
		if _, err := io.WriteString(w, text); err != nil {
			return nil // the page is gone
		}
		if err := control.Flush(); err != nil {
			return nil
		}
		select {
		case <-c.Request().Context().Done():
			return nil
		case revision = <-revisions:
		case <-beat.C:
		}
	}
}
