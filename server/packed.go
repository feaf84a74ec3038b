package server

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strings"
	"sync"
	"weak"

	"github.com/danielgtaylor/huma/v2"
	"github.com/klauspost/compress/gzip"
	"github.com/labstack/echo/v5"

	"steady-compass/core/estate"
	"steady-compass/core/parallel"
)

// packed is the answer to a question as it goes over the wire, made once for all who ask while it holds.
type packed struct {
	turn parallel.Turn // of who makes it; the rest is whose turn it is
	of   answered
	sealed
	rows any // those of its list, as they were packed last
}

// answered is what an answer is of: a revision on a day, or what a draft makes of it.
type answered struct {
	revision int64
	day      estate.Date
	draft    weak.Pointer[analysis] // none for what is in force; an answer keeps no draft that is looked through no more
}

func (a *analysis) answered(ctx context.Context) answered {
	out := answered{revision: a.Revision, day: a.Day}
	if lensOf(ctx) != nil {
		out.draft = weak.Make(a)
	}
	return out
}

// holds says whether an answer of this is one for who asked of another: of that itself, or, of what is in force, of a later revision.
func (a answered) holds(asked answered) bool {
	inForce := a.draft == weak.Pointer[analysis]{}
	return a.draft == asked.draft && a.day == asked.day && (a.revision == asked.revision || inForce && a.revision > asked.revision)
}

// sealed is a good answer.
type sealed struct {
	header http.Header // nil where there is none
	body   []byte      // gzip (RFC 1952)
}

// packedAnswers are those to the questions that were asked last.
type packedAnswers struct {
	mu sync.Mutex
	to map[string]*packed
}

func newPackedAnswers() *packedAnswers { return &packedAnswers{to: map[string]*packed{}} }

// mostPacked is how many answers are kept.
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
	pack   *packer
	rows   any // of the list of the answer, as they were packed the last time, and now
}

func (r *recorder) Header() http.Header    { return r.header }
func (r *recorder) WriteHeader(status int) { r.status = status }

func (r *recorder) Write(text []byte) (int, error) {
	if r.status != http.StatusOK {
		return r.plain.Write(text)
	}
	return r.packer().Write(text)
}

func (r *recorder) packer() *packer {
	if r.pack == nil {
		r.pack = newPacker()
	}
	return r.pack
}

// inRows is an answer with a list whose rows are mostly what they were, one revision after the other.
type inRows interface {
	// pack packs the answer, with what rows were packed the last time.
	pack(r *recorder) error
}

// jsonFormat writes answers as JSON (RFC 8259); those in rows, where they are packed, row by row.
var jsonFormat = huma.Format{
	Marshal: func(w io.Writer, v any) error {
		if r, ok := w.(*recorder); ok && r.status == http.StatusOK {
			if answer, ok := v.(inRows); ok {
				return answer.pack(r)
			}
		}
		return huma.DefaultJSONFormat.Marshal(w, v)
	},
	Unmarshal: huma.DefaultJSONFormat.Unmarshal,
}

// once answers a question that depends on the revision and the day alone: one makes the answer, the others wait for it as long as
// their requests last. Who has waited takes what was made meanwhile, if it is of no earlier revision than there was when it asked: so a question
// is never answered more often than it can be, however quick the estate changes.
func (s *Server) once(c *echo.Context, handle func(http.ResponseWriter, *http.Request)) error {
	r := c.Request()
	asked := s.asked(r.Context()).answered(r.Context())
	p := s.packed.of(r.URL.RequestURI())
	if err := p.turn.Take(r.Context()); err != nil {
		return problemJSON(c, http.StatusServiceUnavailable, "This took too long", "the same question is being answered already; ask again")
	}
	answer, made := p.answer(s.asked(r.Context()).answered(r.Context()), asked, func(w http.ResponseWriter) { handle(w, r) })
	if answer.header == nil {
		return pass(c.Response(), made)
	}
	return answer.write(c.Response(), r)
}

// answer is the answer that there is, where that holds for what was asked; else it is made, of what there is now. The turn ends with it.
func (p *packed) answer(now, asked answered, handle func(http.ResponseWriter)) (sealed, *recorder) {
	defer p.turn.Leave()
	if p.header != nil && p.of.holds(asked) {
		return p.sealed, nil
	}
	made := recorder{header: http.Header{}, status: http.StatusOK, rows: p.rows}
	handle(&made)
	if made.pack == nil {
		return sealed{}, &made
	}
	p.of, p.sealed, p.rows = now, sealed{made.header, made.pack.packed()}, made.rows
	return p.sealed, nil
}

// pass hands an answer on that is not kept.
func pass(w http.ResponseWriter, made *recorder) error {
	for key, values := range made.header {
		w.Header()[key] = values
	}
	w.WriteHeader(made.status)
	_, err := w.Write(made.plain.Bytes())
	return err
}

func (p *sealed) write(w http.ResponseWriter, r *http.Request) error {
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
