package server

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/look"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
	"steady-compass/fetch"
	"steady-compass/intake"
	"steady-compass/intake/looks"
	"steady-compass/store"
)

// seenLooks are the looks that are kept, held against the records as they are. What an edit leaves alone stands.
type seenLooks struct {
	mu   sync.Mutex
	last int64     // the number of the last look
	by   *analysis // what they were held against
	rows []*judgedLook
	all  []SeenLook

	report *reported // what was found last
}

// reported is what is found in the records of an analysis, and by the looks at it up to one.
type reported struct {
	findings.Report
	of     *analysis
	last   int64
	causes func() []findings.Cause // worked out once for all who ask
}

func newReported(r findings.Report, of *analysis, last int64) *reported {
	return &reported{r, of, last, sync.OnceValue(func() []findings.Cause {
		causes, _ := r.Causes()
		return causes
	})}
}

// judgedLook is a look held against records, with what that came by.
type judgedLook struct {
	SeenLook
	reads memo.Reads
}

type lookKey struct {
	at                    time.Time
	from, target, address string
	did                   look.Did
}

func keyOf(l *look.Look) lookKey { return lookKey{l.At, l.From, l.Target, l.Address, l.Did} }

// SeenLook is a look, held against the records as they are now.
type SeenLook struct {
	look.Kept
	Name string `json:"name" doc:"What was looked at: a name, or an address"`
	Port uint16 `json:"port" doc:"None of a resolution"`
}

// Sight is how something stands to what was seen of it.
type Sight string

const (
	AsRecorded Sight = "as-recorded"
	Otherwise  Sight = "otherwise"
	Before     Sight = "before" // the last change of what it hangs on
)

// Sights are all of them.
var Sights = []Sight{AsRecorded, Otherwise, Before}

// Seen is the mark of a name and port, of what was seen of it from a vantage.
type Seen struct {
	Name  string    `json:"name"`
	Port  uint16    `json:"port"`
	From  string    `json:"from"`
	State Sight     `json:"state"`
	At    time.Time `json:"at" doc:"When it was looked at last"`
	Says  string    `json:"says" doc:"Both values, where they differ"`
}

// mostRevisions is how many revisions back looks are followed to tell whether what they hang on has changed.
const mostRevisions = 12

// seen gives the looks that are kept.
func (s *Server) seen(ctx context.Context) ([]SeenLook, error) {
	held, err := s.held(ctx)
	return held.all, err
}

// held are looks, and what they are held against: an analysis, and the last of them.
type held struct {
	all  []SeenLook
	of   *analysis
	last int64
}

func (s *Server) held(ctx context.Context) (held, error) {
	s.looked.mu.Lock()
	defer s.looked.mu.Unlock()
	last, err := s.db.LastLook(ctx)
	if err != nil {
		return held{}, err
	}
	now := s.now()
	x := &s.looked
	if x.last == last && x.by == now {
		return held{x.all, x.by, x.last}, nil
	}
	if x.last != last || x.by == nil {
		if err := s.reread(ctx); err != nil {
			return held{}, err
		}
	}
	touch := memo.Anything()
	if x.by != nil && x.by.Day == now.Day {
		touch = memo.Between(x.by.Tracer.Model, now.Tracer.Model)
	}
	var again []*judgedLook
	for _, row := range x.rows {
		if row.Agrees == "" || touch.Reading(&row.reads) {
			again = append(again, row)
		}
	}
	then := past{db: s.db, now: now.Revision, at: map[int64]*trace.Tracer{}}
	for _, row := range again {
		if err := then.know(ctx, row.Revision, now.Day); err != nil {
			return held{}, err
		}
	}
	judged := parallel.Map(ctx, len(again), func(i int) judgedLook { return judgeAnew(now.Tracer, then, again[i]) })
	if err := ctx.Err(); err != nil {
		return held{}, err
	}
	for i, row := range again {
		*row = judged[i]
	}
	x.all = make([]SeenLook, len(x.rows))
	for i, row := range x.rows {
		x.all[i] = row.SeenLook
	}
	x.last, x.by = last, now
	return held{x.all, x.by, x.last}, nil
}

// report is what is found in the records as they are, and by looking.
func (s *Server) report(ctx context.Context) (*reported, error) {
	seen, err := s.held(ctx)
	if err != nil {
		return nil, err
	}
	if a := s.asked(ctx); a != seen.of { // what was seen is of what is in force
		checked, err := a.Check(ctx)
		if err != nil {
			return nil, err
		}
		return newReported(checked.With(keptOf(seen.all)), a, seen.last), nil
	}
	s.looked.mu.Lock()
	known := s.looked.report
	s.looked.mu.Unlock()
	if known != nil && known.of == seen.of && known.last == seen.last {
		return known, nil
	}
	checked, err := seen.of.Check(ctx)
	if err != nil {
		return nil, err
	}
	next := newReported(checked.With(keptOf(seen.all)), seen.of, seen.last)
	s.looked.mu.Lock()
	s.looked.report = next
	s.looked.mu.Unlock()
	return next, nil
}

func keptOf(seen []SeenLook) []look.Kept {
	out := make([]look.Kept, len(seen))
	for i := range seen {
		out[i] = seen[i].Kept
	}
	return out
}

// reread reads the looks that are kept; those that are known already stand as they were judged.
func (s *Server) reread(ctx context.Context) error {
	kept, err := s.db.Looks(ctx)
	if err != nil {
		return err
	}
	known := make(map[lookKey]*judgedLook, len(s.looked.rows))
	for _, row := range s.looked.rows {
		known[keyOf(&row.Look)] = row
	}
	s.looked.rows = make([]*judgedLook, len(kept))
	for i := range kept {
		row := known[keyOf(&kept[i])]
		if row == nil {
			row = &judgedLook{SeenLook: SeenLook{Kept: look.Kept{Look: kept[i]}}}
			row.Name, row.Port = row.Aim()
		}
		s.looked.rows[i] = row
	}
	return nil
}

// judgeAnew holds a look against the records as they are, and says whether what it hangs on has changed since it was made.
func judgeAnew(now *trace.Tracer, then past, row *judgedLook) judgedLook {
	next := judgedLook{SeenLook: row.SeenLook}
	look.JudgeReading(now, &next.Look, &next.reads)
	if next.Agrees == "" {
		next.Agrees = look.CannotTell
	}
	next.Old = then.other(now, &next.Look)
	return next
}

// past are the records as they were when looks were made.
type past struct {
	db  *store.Store
	now int64 // the revision that is
	at  map[int64]*trace.Tracer
}

// know has a revision at hand, if there are not too many of them.
func (p past) know(ctx context.Context, revision int64, day estate.Date) error {
	if revision <= 0 || revision >= p.now || p.at[revision] != nil || len(p.at) == mostRevisions {
		return nil
	}
	e, err := p.db.At(ctx, revision)
	if err != nil {
		return err
	}
	p.at[revision] = trace.New(model.Compile(e), day)
	return nil
}

// other says whether what a look hangs on was otherwise when it was made, or that was too long ago to be told.
func (p past) other(now *trace.Tracer, l *look.Look) bool {
	if l.Revision == p.now {
		return false
	}
	before := p.at[l.Revision]
	return before == nil || linesOf(before, l) != linesOf(now, l)
}

// KeptLooks are the looks that a database keeps, held against records.
func KeptLooks(ctx context.Context, db *store.Store, now *trace.Tracer, day estate.Date) ([]look.Kept, error) {
	kept, err := db.Looks(ctx)
	if err != nil {
		return nil, err
	}
	then := past{db: db, now: db.Current().Revision, at: map[int64]*trace.Tracer{}}
	out := make([]look.Kept, len(kept))
	for i := range kept {
		if err := then.know(ctx, kept[i].Revision, day); err != nil {
			return nil, err
		}
		look.Judge(now, &kept[i])
		out[i] = look.Kept{Look: kept[i], Old: then.other(now, &kept[i])}
	}
	return out, nil
}

// linesOf are the lines by which a look's target is followed from its vantage.
func linesOf(t *trace.Tracer, l *look.Look) string {
	v, err := t.VantageNamed(l.From)
	if err != nil {
		return ""
	}
	if l.Did == look.Resolve {
		name, typ, _ := strings.Cut(l.Target, " ")
		a := t.Answer(name, typ, v)
		return fmt.Sprint(a.Chain, a.Values, a.Code)
	}
	tg, err := t.ParseTarget(l.Target)
	if err != nil {
		return ""
	}
	r := t.Trace(tg, v)
	var out []string
	for i := range r.Paths {
		for k := range r.Paths[i].Steps {
			out = append(out, r.Paths[i].Steps[k].Records...)
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), "\n")
}

type looksQuery struct {
	Name string `query:"name" maxLength:"300" doc:"Only what was seen of this name or address"`
	From string `query:"from" maxLength:"300" doc:"Only what was seen from this vantage"`
}

func (s *Server) getLooks(ctx context.Context, in *looksQuery) (*body[[]SeenLook], error) {
	all, err := s.seen(ctx)
	if err != nil {
		return nil, problem(err)
	}
	out := []SeenLook{}
	for _, l := range all {
		if (in.Name == "" || l.Name == in.Name) && (in.From == "" || l.From == in.From) {
			out = append(out, l)
		}
	}
	return &body[[]SeenLook]{out[:min(len(out), mostLooksShown)]}, nil
}

const mostLooksShown = 2_000

// getSeen gives a mark for each name and port that was looked at: the worst of what was seen of it last, older looks behind newer ones.
func (s *Server) getSeen(ctx context.Context, in *looksQuery) (*body[[]Seen], error) {
	all, err := s.seen(ctx)
	if err != nil {
		return nil, problem(err)
	}
	type key struct {
		name, from string
		port       uint16
	}
	marks := map[key]*Seen{}
	out := []*Seen{}
	for i := range all {
		l := &all[i]
		if l.Port == 0 || l.Came == look.NotLooked || in.From != "" && l.From != in.From {
			continue
		}
		k := key{l.Name, l.From, l.Port}
		m := marks[k]
		if m == nil {
			m = &Seen{Name: l.Name, Port: l.Port, From: l.From, State: AsRecorded, At: l.At}
			marks[k] = m
			out = append(out, m)
		}
		switch {
		case l.Old:
			if m.State == AsRecorded {
				m.State = Before
			}
		case l.Agrees == look.Differs:
			m.State, m.Says = Otherwise, cmp.Or(m.Says, l.Says)
		}
	}
	values := make([]Seen, len(out))
	for i, m := range out {
		values[i] = *m
	}
	return &body[[]Seen]{values}, nil
}

// LookQuestion is what is to be looked at now, from the machine that this runs on.
type LookQuestion struct {
	Targets []string `json:"targets" maxItems:"100" nullable:"false" doc:"As for a trace; none: what the intents name"`
	From    string   `json:"from,omitempty" maxLength:"300" doc:"The vantage that this machine is; found by its addresses and name where not given"`
	Dry     bool     `json:"dry,omitempty" doc:"Send nothing; only say what would be sent"`
}

// LookAnswer is what would be sent, and what was seen.
type LookAnswer struct {
	Plan  look.Plan   `json:"plan"`
	Looks []look.Look `json:"looks" nullable:"false"`
}

// mostContacts is how many contacts one question may make: what takes longer is for the command.
const mostContacts = 400

func (s *Server) postLook(ctx context.Context, in *body[LookQuestion]) (*body[LookAnswer], error) {
	self, err := fetch.Myself()
	if err != nil {
		return nil, problem(err)
	}
	now := s.now()
	plan, err := look.PlanOf(ctx, now.Tracer, self, look.Question{From: in.Body.From, Targets: in.Body.Targets})
	if err != nil {
		return nil, problem(err)
	}
	out := LookAnswer{Plan: plan, Looks: []look.Look{}}
	if in.Body.Dry {
		return &body[LookAnswer]{out}, nil
	}
	if len(plan.Contacts) > mostContacts {
		return nil, &Problem{Title: "That is too much to look at in one go", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("it takes %d contacts; expected at most %d here, and the command `look --db` for more", len(plan.Contacts), mostContacts)}
	}
	o := fetch.LookOptions{From: plan.From, Self: self, Certain: plan.Certain, Revision: now.Revision, Recorded: plan.Recorded}
	if err := fetch.Looks(ctx, plan.Contacts, o, func(l look.Look) { out.Looks = append(out.Looks, l) }); err != nil {
		return nil, problem(err)
	}
	kept := slices.DeleteFunc(slices.Clone(out.Looks), func(l look.Look) bool { return l.Came == look.NotLooked })
	if err := s.keepLooks(ctx, kept); err != nil {
		return nil, err
	}
	for i := range out.Looks {
		look.Judge(now.Tracer, &out.Looks[i])
	}
	return &body[LookAnswer]{out}, nil
}

func (s *Server) keepLooks(ctx context.Context, list []look.Look) error {
	if len(list) == 0 {
		return nil
	}
	if _, err := s.db.AddLooks(ctx, list, store.LooksKept); err != nil {
		return problem(err)
	}
	s.watch.tell(s.now().Revision)
	return nil
}

// LooksTaken is a file of looks that were made elsewhere.
type LooksTaken struct {
	Name string `json:"name" maxLength:"300"`
	Text string `json:"text"`
	From string `json:"from,omitempty" maxLength:"300" doc:"The vantage of those that name none"`
}

// LooksKept says what became of it.
type LooksKept struct {
	Kept   int                `json:"kept"`
	Faults []intake.FileFault `json:"faults" nullable:"false"`
}

func (s *Server) postLooks(ctx context.Context, in *body[LooksTaken]) (*body[LooksKept], error) {
	read, faults := looks.Read(in.Body.Name, in.Body.Text, in.Body.From)
	t := s.now().Tracer
	for i := range read {
		if _, err := t.VantageNamed(read[i].From); err != nil {
			faults = append(faults, intake.FileFault{File: in.Body.Name, Line: i + 1, What: fmt.Sprintf("it is from %q, which is no vantage here", intake.Shown(read[i].From)), Expected: "a vantage that is recorded"})
			break
		}
	}
	if len(faults) > 0 {
		return &body[LooksKept]{LooksKept{Faults: faults}}, nil
	}
	if err := s.keepLooks(ctx, read); err != nil {
		return nil, err
	}
	return &body[LooksKept]{LooksKept{Kept: len(read), Faults: []intake.FileFault{}}}, nil
}

type suspectsQuery struct {
	Target string `query:"target" maxLength:"2048" required:"true"`
}

func (s *Server) getSuspects(ctx context.Context, in *suspectsQuery) (*body[look.Inquiry], error) {
	all, err := s.seen(ctx)
	if err != nil {
		return nil, problem(err)
	}
	fresh := look.Fresh(keptOf(all))
	self, err := fetch.Myself()
	if err != nil {
		return nil, problem(err)
	}
	t := s.now().Tracer
	atHand, err := look.AtHand(t, self, "", fresh)
	if err != nil {
		return nil, problem(err)
	}
	if _, err := t.ParseTarget(in.Target); err != nil {
		return nil, problem(err)
	}
	got, err := look.Suspects(ctx, t, in.Target, fresh, atHand)
	if err != nil {
		return nil, problem(err)
	}
	return &body[look.Inquiry]{got}, nil
}
