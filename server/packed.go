package server

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"

	"github.com/labstack/echo/v5"

	"steady-compass/core/parallel"
)

// packed is the answer to a question of a revision as it goes over the wire, made once for all who ask.
type packed struct {
	turn   parallel.Turn // of who makes it
	header http.Header   // nil until it is made
	body   []byte        // gzip (RFC 1952)
}

// packedAnswers are those to the questions of a revision.
type packedAnswers struct {
	mu sync.Mutex
	to map[string]*packed
}

func newPackedAnswers() *packedAnswers { return &packedAnswers{to: map[string]*packed{}} }

// mostPacked is how many answers of a revision are kept.
const mostPacked = 64

// of is the answer to a question, made or still to be made.
func (all *packedAnswers) of(question string) *packed {
	all.mu.Lock()
	defer all.mu.Unlock()
	if known := all.to[question]; known != nil {
		return known
	}
	for other := range all.to {
		if len(all.to) >= mostPacked {
			delete(all.to, other)
		}
	}
	p := &packed{turn: parallel.NewTurn()}
	all.to[question] = p
	return p
}

// recorder takes what a handler answers. Bodies of good answers are packed as they come.
type recorder struct {
	header http.Header
	status int
	plain  bytes.Buffer
	out    bytes.Buffer
	pack   *gzip.Writer
}

func (r *recorder) Header() http.Header    { return r.header }
func (r *recorder) WriteHeader(status int) { r.status = status }

func (r *recorder) Write(text []byte) (int, error) {
	if r.status != http.StatusOK {
		return r.plain.Write(text)
	}
	if r.pack == nil {
		r.pack, _ = gzip.NewWriterLevel(&r.out, gzip.BestSpeed) // the level is one
	}
	return r.pack.Write(text)
}

// once answers a question that depends on the revision and the day alone: one makes the answer, the others wait for it as long as
// their requests last.
func (s *Server) once(c *echo.Context, handle func(http.ResponseWriter, *http.Request)) error {
	r := c.Request()
	p := s.asked(r.Context()).packed.of(r.URL.RequestURI())
	if err := p.turn.Take(r.Context()); err != nil {
		return problemJSON(c, http.StatusServiceUnavailable, "This took too long", "the same question is being answered already; ask again")
	}
	if p.header == nil {
		made := recorder{header: http.Header{}, status: http.StatusOK}
		err := func() error {
			defer p.turn.Leave()
			handle(&made, r)
			if made.pack == nil {
				return nil
			}
			if err := made.pack.Close(); err != nil {
				return err
			}
			p.body, p.header = bytes.Clone(made.out.Bytes()), made.header
			return nil
		}()
		if err != nil || p.header == nil {
			return pass(c.Response(), &made, err)
		}
	} else {
		p.turn.Leave()
	}
	return p.write(c.Response(), r)
}

// pass hands an answer on that is not kept.
func pass(w http.ResponseWriter, made *recorder, err error) error {
	if err != nil {
		return err
	}
	for key, values := range made.header {
		w.Header()[key] = values
	}
	w.WriteHeader(made.status)
	_, err = w.Write(made.plain.Bytes())
	return err
}

func (p *packed) write(w http.ResponseWriter, r *http.Request) error {
	for key, values := range p.header {
		w.Header()[key] = values
	}
	w.Header().Add("Vary", "Accept-Encoding")
	if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		w.Header().Set("Content-Encoding", "gzip")
		_, err := w.Write(p.body)
		return err
	}
	plain, err := gzip.NewReader(bytes.NewReader(p.body))
	if err != nil {
		return err
	}
	_, err = io.Copy(w, plain)
	return err
}
