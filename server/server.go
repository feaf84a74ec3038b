// Package server is the web application: it holds the compiled model of the current revision, answers the
// API and hands out the built interface, to those who may ask for it.
package server

import (
	"bytes"
	"compress/gzip"
	"context"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"steady-compass/core/estate"
	"steady-compass/core/parallel"
	"steady-compass/people"
	"steady-compass/store"
	"steady-compass/web"
)

const (
	maxBody         = 32 << 20 // bytes of a request's body
	requestDeadline = 20 * time.Second
	keepDeadline    = 5 * time.Minute // of what keeps, or looks through, a whole estate: it ends with whoever asked
	shutdownWait    = 3 * time.Second
)

// Server answers for one database.
type Server struct {
	db       *store.Store
	log      *slog.Logger
	current  atomic.Pointer[analysis]
	previous *analysis     // the one that was current before; guarded by swap
	swap     sync.Mutex    // held by whoever makes another the current one
	keeping  parallel.Turn // of who keeps a change
	noting   sync.Mutex    // held by whoever works out what a change did
	unnoted  parallel.Turn // of changes of which that is not worked out yet
	packed   *packedAnswers
	watch    watchers
	kept     keptAnswers
	lenses   lenses
	looked   seenLooks
	trouble  atomic.Pointer[string] // what is wrong with the database file; nil where nothing is
	today    func() estate.Date
	copyOld  time.Duration // how old a copy of the database may be before it is said

	access   Access
	sessions *scs.SessionManager
	hasher   *people.Hasher
	tries    tries
}

// New is a server for a database, for those to whom access is given.
func New(db *store.Store, log *slog.Logger, access Access) (*Server, error) {
	hasher, err := people.NewHasher()
	if err != nil {
		return nil, err
	}
	return &Server{
		db: db, log: log, keeping: parallel.NewTurn(), unnoted: parallel.NewTurns(mostUnnoted), packed: newPackedAnswers(), lenses: lenses{of: map[int64]*lens{}}, today: func() estate.Date { return estate.Date(time.Now().Format(time.DateOnly)) },
		copyOld: copyOld, access: access, sessions: newSessions(db, &access), hasher: hasher, tries: newTries(),
	}, nil
}

// Serve answers on a listener until the context ends.
func (s *Server) Serve(ctx context.Context, listener net.Listener) error {
	go s.follow(ctx)
	go s.ready(ctx)
	config := echo.StartConfig{
		Listener: listener, HideBanner: true, HidePort: true, GracefulTimeout: shutdownWait,
		BeforeServeFunc: func(h *http.Server) error {
			h.ReadHeaderTimeout = 5 * time.Second
			h.ReadTimeout = requestDeadline
			h.IdleTimeout = 2 * time.Minute
			h.MaxHeaderBytes = 64 << 10
			h.BaseContext = func(net.Listener) context.Context { return ctx } // events end with the server
			return nil
		},
	}
	return config.Start(ctx, s.Handler())
}

// Handler is everything that the server answers.
func (s *Server) Handler() http.Handler {
	e := echo.New()
	e.Logger = s.log
	e.IPExtractor = s.addressOf()
	tables := map[string]bool{} // these come packed
	e.Use(middleware.Recover(), s.ownOriginOnly, s.secured, middleware.BodyLimit(maxBody), middleware.GzipWithConfig(middleware.GzipConfig{
		Level:   gzip.BestSpeed,
		Skipper: func(c *echo.Context) bool { return tables[c.Request().URL.Path] },
	}), ofPeople(echo.WrapMiddleware(s.sessions.LoadAndSave)), ofPeople(s.recognise))
	for path, item := range registerAPI(e, s).OpenAPI().Paths {
		tables[path] = item.Get != nil && item.Get.Metadata[tabled] != nil
	}
	e.GET("/api/events", s.events)
	if s.access.Elsewhere != nil {
		e.GET(goElsewhere, s.goElsewhere)
		e.GET(backFromElsewhere, s.backFromElsewhere)
	}
	e.GET("/*", interfaceFiles())
	return e
}

// ofPeople is a part of the way only of what people are told apart for: the interface's own files are anybody's.
func ofPeople(part echo.MiddlewareFunc) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		through := part(next)
		return func(c *echo.Context) error {
			if path := c.Request().URL.Path; strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, signInPaths) {
				return through(c)
			}
			return next(c)
		}
	}
}

// ready works out what is asked first, before anybody asks.
func (s *Server) ready(ctx context.Context) {
	defer func() {
		if r := recover(); r != nil { // a fault of ours is not the end of the program
			s.log.Error("look the estate over at the start", "error", r)
		}
	}()
	a := s.now()
	if _, err := a.Counts(ctx); err == nil {
		_, _ = a.Every(ctx) // what the first edit is held against
	}
}

// lookInterval is how often the database file is looked at for what others did to it.
const lookInterval = 500 * time.Millisecond

// follow takes over what other programs keep in the database, and notes when its files are not there any more; whoever watches
// is told of both.
func (s *Server) follow(ctx context.Context) {
	tick := time.NewTicker(lookInterval)
	defer tick.Stop()
	drafts, _ := s.db.DraftsMark(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		known, was := s.db.Current().Revision, s.troubled()
		var trouble *string
		if err := s.db.Refresh(ctx); err != nil && ctx.Err() == nil {
			text := err.Error()
			trouble = &text
		}
		s.trouble.Store(trouble)
		if now := s.troubled(); now != was {
			s.log.Warn("the database", "trouble", now)
			s.watch.tell(s.db.Current().Revision)
		} else if mark, err := s.db.DraftsMark(ctx); s.db.Current().Revision != known || err == nil && mark != drafts {
			drafts = mark
			s.watch.tell(s.db.Current().Revision)
		}
	}
}

func (s *Server) troubled() string {
	if text := s.trouble.Load(); text != nil {
		return *text
	}
	return ""
}

// commit keeps a change, and has the estate before and after it to be analysed, whatever is changed meanwhile. One after the other:
// so the analyses go on from each other in the order of the revisions.
func (s *Server) commit(ctx context.Context, change func() (store.Committed, error)) (done store.Committed, before, after *analysis, err error) {
	if err := s.keeping.Take(ctx); err != nil {
		return done, nil, nil, err
	}
	defer s.keeping.Leave()
	if done, err = change(); err != nil {
		return done, nil, nil, err
	}
	s.swap.Lock()
	defer s.swap.Unlock()
	day := s.today()
	if before = s.known(done.Before.Revision, day); before == nil {
		before = s.goOn(done.Before, day)
	}
	if after = s.known(done.After.Revision, day); after == nil {
		after = before.after(done.After)
	}
	if now := s.current.Load(); now == nil || now.Day != day || now.Revision < after.Revision {
		s.advance(after)
	}
	return done, before, after, nil
}

// known is the analysis of a revision, on a day, where it is at hand.
func (s *Server) known(revision int64, day estate.Date) *analysis {
	for _, a := range []*analysis{s.current.Load(), s.previous} {
		if a != nil && a.Revision == revision && a.Day == day {
			return a
		}
	}
	return nil
}

// goOn is the analysis of a revision that goes on from the current one.
func (s *Server) goOn(snapshot store.Snapshot, day estate.Date) *analysis {
	if now := s.current.Load(); now != nil && now.Day == day {
		return now.after(snapshot)
	}
	return analyse(snapshot, day)
}

// advance makes an analysis the current one.
func (s *Server) advance(a *analysis) { s.previous = s.current.Swap(a) }

// now is the analysis of the current revision, on today's date.
func (s *Server) now() *analysis {
	snapshot, day := s.db.Current(), s.today()
	if a := s.current.Load(); a != nil && a.Revision == snapshot.Revision && a.Day == day {
		return a
	}
	s.swap.Lock()
	defer s.swap.Unlock()
	snapshot = s.db.Current()
	if a := s.current.Load(); a != nil && a.Revision == snapshot.Revision && a.Day == day {
		return a
	}
	a := s.goOn(snapshot, day)
	s.advance(a)
	return a
}

// secured says what a page of ours may do: load its own parts, and nothing else.
func (s *Server) secured(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		if s.access.secure() {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		return next(c)
	}
}

// interfaceFiles hands out the built interface; a path that is no file is a view's, and gets the page.
func interfaceFiles() echo.HandlerFunc {
	files := web.Files()
	return func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		if strings.HasPrefix(name, "api/") || name == "api" {
			return problemJSON(c, http.StatusNotFound, "There is no such question", clip(c.Request().URL.Path)+" is not part of the API")
		}
		if name == "" {
			name = "index.html"
		}
		text, err := fs.ReadFile(files, name)
		if err != nil {
			if strings.HasPrefix(name, "assets/") {
				return problemJSON(c, http.StatusNotFound, "There is no such file", name)
			}
			name = "index.html"
			if text, err = fs.ReadFile(files, name); err != nil {
				return problemJSON(c, http.StatusNotFound, "The interface is not built in", "expected a program built by make")
			}
		}
		if strings.HasPrefix(name, "assets/") {
			c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable") // named by their content
		} else {
			c.Response().Header().Set("Cache-Control", "no-cache")
		}
		http.ServeContent(c.Response(), c.Request(), name, time.Time{}, bytes.NewReader(text))
		return nil
	}
}
