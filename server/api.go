package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humago"
	"github.com/labstack/echo/v5"

	"steady-compass/core/change"
	"steady-compass/core/codes"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/figure"
	"steady-compass/core/findings"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/notation"
	"steady-compass/core/survey"
	"steady-compass/core/table"
	"steady-compass/core/trace"
	"steady-compass/demo"
	"steady-compass/people"
	"steady-compass/store"
)

// Version is that of the program and its API.
const Version = "0.1.0"

// adapter lets the API be declared on Echo.
type adapter struct {
	*echo.Echo
	server *Server
}

func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	a.Add(op.Method, strings.NewReplacer("{", ":", "}", "").Replace(op.Path), func(c *echo.Context) error {
		for _, v := range c.PathValues() {
			c.Request().SetPathValue(v.Name, v.Value)
		}
		deadline := requestDeadline
		if op.Metadata[whole] != nil {
			deadline = keepDeadline
		}
		ctx, cancel := context.WithTimeout(context.WithValue(c.Request().Context(), addressKey{}, c.RealIP()), deadline)
		defer cancel()
		if err := refusedOperation(ctx, op); err != nil {
			return failed(c, err)
		}
		if slices.Contains(op.Parameters, throughParam) {
			var err error
			if ctx, err = a.server.through(ctx, c.QueryParam(throughWord)); err == nil && op.OperationID != "state" { // which says why a draft cannot be looked through
				err = lensOf(ctx).clear()
			}
			if err != nil {
				return failed(c, err)
			}
		}
		c.SetRequest(c.Request().WithContext(ctx))
		handle := func(w http.ResponseWriter, r *http.Request) { handler(humago.NewContext(op, r, w)) }
		if op.Metadata[tabled] != nil {
			return a.server.once(c, handle)
		}
		handle(c.Response(), c.Request())
		return nil
	})
}

// tabled marks the operations whose answers are large, and depend on the revision and the day alone.
const tabled = "tabled"

// whole marks the operations that may look through, or keep, a whole estate.
const whole = "whole"

func registerAPI(e *echo.Echo, s *Server) huma.API {
	config := huma.DefaultConfig("Steady Compass", Version)
	config.CreateHooks = nil // no links to schemas in every answer
	config.Formats = map[string]huma.Format{"application/json": jsonFormat, "json": jsonFormat}
	config.DocsPath = ""
	config.OpenAPIPath = "/api/openapi"
	enumerateAll(config.Components.Schemas)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "Of a browser that signed in"},
		"token":   {Type: "http", Scheme: "bearer", Description: "Of a script"},
	}
	api := huma.NewAPI(config, adapter{e, s})
	reader, editor := door{API: api, needs: people.Reader}, door{API: api, needs: people.Editor}
	s.registerPeople(api)
	get(reader, "state", "/api/state", "What the estate is called and what needs attention", s.getState)
	once(reader, "counts", "/api/counts", "How much needs attention", s.getCounts)
	once(reader, "names", "/api/names", "The table of names, seen from a vantage", s.getNames)
	once(reader, "answers", "/api/answers", "What names answer, from several vantages side by side", s.getAnswers)
	get(reader, "courses", "/api/courses", "Names drawn as courses: through addresses, edges, machines and fronts to backends", s.getCourses)
	get(reader, "trace", "/api/trace", "A target followed from a vantage", s.getTrace)
	get(reader, "trace-picture", "/api/trace.svg", "A trace as a picture that stands alone", s.getTracePicture)
	get(reader, "compare", "/api/compare", "Two traces side by side, joined where they are the same and split where they part", s.getCompare)
	once(reader, "exposure", "/api/exposure", "Everything that can be touched from a vantage", s.getExposure)
	get(reader, "exposureChanges", "/api/exposure/changes", "What another revision, or another vantage, has open that this has not, and the other way round", s.getExposureChanges)
	get(reader, "close", "/api/exposure/close", "The lines that close a door", s.getClose)
	once(reader, "findings", "/api/findings", "What is wrong with the estate", s.getFindings)
	get(reader, "codes", "/api/codes", "What may be found: every code with its level, and a sentence that helps", s.getCodes)
	get(reader, "table", "/api/table", "The records of a kind as rows and columns: found, put in order, part by part", s.getTable)
	get(reader, "table-lines", "/api/table/lines", "The lines of the records of a kind: found, put in order", s.getLines)
	once(reader, "marks", "/api/marks", "What is wrong, each at one of the records that it is about", s.getMarks)
	keep(reader, "write", "/api/table/write", "The change that writing into cells is", s.postWrite)
	keep(reader, "depends", "/api/table/depends", "What depends on some records, and what becomes of it without them", s.postDepends)
	once(reader, "records", "/api/records", "The estate as notation", s.getRecords)
	get(reader, "vantages", "/api/vantages", "The places to look from", s.getVantages)
	get(reader, "log", "/api/log", "The changes, the newest first", s.getLog)
	get(reader, "between", "/api/log/between", "What two revisions differ in: lines, and what that does", s.getBetween)
	once(reader, "ports", "/api/ports", "All machines with their used ports", s.getPorts)
	get(reader, "machine-ports", "/api/ports/machine", "A machine's ports in depth", s.getMachinePorts)
	get(reader, "free", "/api/ports/free", "The next free port of a machine", s.getFree)
	get(reader, "plan", "/api/plan", "The lines that are off and take ports, with what they would collide with", s.getPlan)
	post(reader, "writePlan", "/api/plan", "A port plan as lines that are off", s.postPlan)
	post(reader, "switchOn", "/api/plan/on", "The change that switches planned lines on", s.postSwitch)
	get(reader, "filter", "/api/filter", "A filter read as an ordered list: what each line takes, and who needs it", s.getFilter)
	get(reader, "uses", "/api/uses", "Where an address, a name, a machine or a port is used", s.getUses)
	get(reader, "certificates", "/api/certificates", "The certificates: whom they serve, until when, and whether they can be renewed", s.getCertificates)
	get(reader, "dates", "/api/dates", "What comes due, and when: certificates, what is temporary, findings taken on, registrations, old answers", s.getDates)
	get(reader, "feed", "/api/dates.ics", "The same as a calendar to subscribe to (iCalendar, RFC 5545)", s.getFeed)
	get(reader, "looks", "/api/looks", "What was seen, held against what is recorded, the newest first", s.getLooks)
	get(reader, "seen", "/api/seen", "A mark for each name and port of what was seen of it", s.getSeen)
	get(reader, "suspects", "/api/suspects", "What would explain that a target is seen otherwise than recorded, and what to look at next", s.getSuspects)
	post(editor, "look", "/api/look", "Look now, from the machine that this runs on", s.postLook)
	post(editor, "take-looks", "/api/looks", "Take in looks that were made elsewhere", s.postLooks)
	get(reader, "without", "/api/without", "What becomes of the names without a part of the estate; or, of a name, what it stands on alone", s.getWithout)
	once(reader, "leads", "/api/leads", "Every way in from a vantage that ends at a place", s.getLeads)
	get(editor, "machine", "/api/machine", "What the machine that this runs on is seen to be, as the command collect prints it", s.getMachine)
	get(reader, "export", "/api/export", "A zone, a hosts file or the estate, as a file", s.getExport)
	get(reader, "guide", "/api/guide", "The guide, page by page, as HTML", s.getGuide)
	get(reader, "guide-picture", guidePictures+"{name}", "A picture of the guide", s.getGuidePicture)
	get(reader, "questions", "/api/questions", "Questions that are kept under a name", s.getQuestions)
	post(editor, "keep-question", "/api/questions", "Keep a question under a name", s.postQuestion)
	post(editor, "drop-question", "/api/questions/drop", "Take away a question that is kept", s.postDropQuestion)
	get(reader, "kinds", "/api/kinds", "The kinds of records and their words", s.getKinds)
	post(reader, "line", "/api/line", "What a line being typed means, could be, and would clash with", s.postLine)
	keep(reader, "text", "/api/text", "What is wrong with a whole text, and what saving it would change", s.postText)
	keep(reader, "preview", "/api/preview", "What a change would do", s.postPreview)
	keep(reader, "mend", "/api/mend", "Whether a mend holds, and what it would do", s.postMend)
	keep(reader, "others", "/api/mend/others", "Other mends that hold for the same", s.postOthers)
	post(reader, "draft-trace", "/api/draft/trace", "A target followed as if a change were made", s.postDraftTrace)
	keep(editor, "change", "/api/change", "Make a change", s.postChange)
	keep(editor, "save-text", "/api/records", "Make the estate what a whole text says", s.postRecords)
	keep(editor, "import", "/api/import", "What taking files over would add, change and leave", s.postImport)
	post(reader, "move", "/api/move", "What the lines would be with another in something's place", s.postMove)
	keep(editor, "undo", "/api/undo", "Take back a change", s.postUndo)
	keep(editor, "redo", "/api/redo", "Make a change again that was undone", s.postRedo)
	post(editor, "proposal", "/api/log/proposal", "Keep as a draft what takes a change back, or makes it again, where others touched its lines since", s.postProposal)
	keep(editor, "example", "/api/example", "Load the example into an empty estate", s.postExample)
	get(reader, "drafts", "/api/drafts", "The changes that are not in force, the newest first", s.getDrafts)
	get(reader, "draft", "/api/drafts/{id}", "A draft: its lines, what it would do, and its steps in the safe order", s.getDraft)
	keep(editor, "new-draft", "/api/drafts", "Keep a change without making it", s.postDraft)
	keep(editor, "amend-draft", "/api/drafts/{id}", "Write a draft anew: its title, its reason, its lines", s.postAmend)
	post(editor, "unamend-draft", "/api/drafts/{id}/undo", "Take back what was written into a draft last", s.postUnamend)
	post(editor, "apply-draft", "/api/drafts/{id}/apply", "Make a draft as one change", s.postApply)
	keep(editor, "done", "/api/drafts/{id}/done", "Make a step of a draft", s.postDone)
	keep(editor, "ahead", "/api/drafts/{id}/ahead", "Lower for how long answers are kept that a draft changes, so that it is waited for less long", s.postAhead)
	post(editor, "drop-draft", "/api/drafts/{id}/drop", "Take a draft away", s.postDrop)
	post(reader, "plans", "/api/plans", "The lines by which a name leads to a place for an audience; or what goes with what is retired, and what stays", s.postPlans)
	return api
}

func get[I, O any](d door, id, path, summary string, handler func(context.Context, *I) (*O, error)) {
	huma.Register(d.API, d.operation(http.MethodGet, id, path, summary), handler)
}

// once is for a question whose answer is made once for all who ask.
func once[I, O any](d door, id, path, summary string, handler func(context.Context, *I) (*O, error)) {
	op := d.operation(http.MethodGet, id, path, summary)
	op.Metadata[tabled] = true
	huma.Register(d.API, op, handler)
}

func post[I, O any](d door, id, path, summary string, handler func(context.Context, *I) (*O, error)) {
	huma.Register(d.API, d.operation(http.MethodPost, id, path, summary), handler)
}

// keep is for a question that may be of a whole estate.
func keep[I, O any](d door, id, path, summary string, handler func(context.Context, *I) (*O, error)) {
	op := d.operation(http.MethodPost, id, path, summary)
	op.Metadata[whole] = true
	huma.Register(d.API, op, handler)
}

// door is where questions are asked that need the same of who asks.
type door struct {
	huma.API
	needs   people.Role // empty where anybody may ask
	session bool        // no token is enough
}

func (d door) operation(method, id, path, summary string) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Metadata: map[string]any{neededRole: d.needs}}
	if method == http.MethodPost {
		op.MaxBodyBytes, op.Errors = maxBody, []int{409, 422}
	}
	if d.needs != "" {
		op.Errors = append(op.Errors, 401, 403)
		op.Description = "Needs the role " + string(d.needs) + "."
		op.Security = []map[string][]string{{"session": {}}}
	}
	if d.session {
		op.Metadata[onlySession] = true
	} else if d.needs != "" {
		op.Security = append(op.Security, map[string][]string{"token": {}})
	}
	if d.needs != "" && !d.session && !strings.HasPrefix(path, "/api/drafts") { // these are of drafts, whichever is looked through
		op.Parameters = []*huma.Param{throughParam}
	}
	return op
}

// body wraps an answer as its body.
type body[T any] struct{ Body T }

type none struct{}

type fromQuery struct {
	From string `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
}

// State is what the frame of the interface shows.
type State struct {
	Name     string   `json:"name"`
	Revision int64    `json:"revision"`
	Day      string   `json:"day"`
	Records  int      `json:"records"`
	Drafts   int      `json:"drafts"`
	Undo     Undo     `json:"undo"`
	Through  *Through `json:"through,omitempty" doc:"The draft that is looked through"`
	ReadOnly string   `json:"readOnly,omitempty" doc:"Why nothing can be kept, where the database may only be read"`
	Trouble  string   `json:"trouble,omitempty" doc:"What is wrong with the database file: nothing is kept while it is so"`
	Copied   *Copied  `json:"copied,omitempty" doc:"For keepers, where the last copy of the database is old, and it has changed since"`
}

// Copied is when a database was last copied.
type Copied struct {
	At      time.Time `json:"at,omitzero" doc:"Not there where it never was"`
	Changes int64     `json:"changes" doc:"How many were made since"`
}

// copyOld is how old a copy may be before it is said, where nothing else is.
const copyOld = 7 * 24 * time.Hour

// copied says that the last copy is old; nil where it is not, or who asks cannot do anything about it.
func (s *Server) copied(ctx context.Context) (*Copied, error) {
	if p := asks(ctx); p == nil || !p.role.May(people.Keeper) {
		return nil, nil
	}
	at, since, err := s.db.LastBackup(ctx)
	if err != nil || since == 0 {
		return nil, err
	}
	old := at
	if at.IsZero() {
		if old, err = s.db.Begun(ctx); err != nil {
			return nil, err
		}
	}
	if time.Since(old) < s.copyOld {
		return nil, nil
	}
	return &Copied{at, since}, nil
}

// Undo is the change that an undo would take back.
type Undo struct {
	Revision int64 `json:"revision" doc:"0 where there is none"`
	Lines    int   `json:"lines" doc:"how many it took and brought"`
}

func (s *Server) getState(ctx context.Context, _ *none) (*body[State], error) {
	now := s.asked(ctx)
	revision, lines, err := s.db.Next(ctx)
	if err != nil {
		return nil, problem(err)
	}
	drafts, err := s.db.DraftCount(ctx)
	if err != nil {
		return nil, problem(err)
	}
	through, err := s.throughOf(ctx)
	if err != nil {
		return nil, problem(err)
	}
	state := State{Name: now.Estate.Name(), Revision: now.Revision, Day: string(s.today()), Records: now.Estate.Count(), Drafts: drafts, Undo: Undo{revision, lines}, Through: through, Trouble: s.troubled()}
	if why := s.db.ReadOnly(); why != nil {
		state.ReadOnly = why.Error()
	}
	if state.Copied, err = s.copied(ctx); err != nil {
		return nil, problem(err)
	}
	return &body[State]{state}, nil
}

func (s *Server) getCounts(ctx context.Context, _ *none) (*body[survey.Counts], error) {
	counts, err := s.asked(ctx).Counts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	report, err := s.report(ctx)
	if err != nil {
		return nil, problem(err)
	}
	counts.Found(&report.Report, report.causes())
	return &body[survey.Counts]{counts}, nil
}

// NamesAnswer is the table of names.
type NamesAnswer struct {
	From     string       `json:"from"`
	Revision int64        `json:"revision"`
	Rows     []survey.Row `json:"rows" nullable:"false"`
}

// rowID is a row that stands for as long as nothing is touched that it was worked out from.
type rowID struct {
	origin    *memo.Reads
	port      uint16
	transport string
}

var namesRows = rows[survey.Row, rowID]{
	name: func(r *survey.Row) string { return r.Name },
	id:   func(r *survey.Row) rowID { return rowID{r.Origin(), r.Port, r.Transport} },
}

func (a NamesAnswer) pack(r *recorder) error {
	list := a.Rows
	a.Rows = []survey.Row{}
	return namesRows.around(r, a, "rows", list)
}

func (s *Server) getNames(ctx context.Context, in *fromQuery) (*body[NamesAnswer], error) {
	a := s.asked(ctx)
	rows, err := a.Names(ctx, in.From)
	if err != nil {
		return nil, problem(err)
	}
	return &body[NamesAnswer]{NamesAnswer{in.From, a.Revision, rows}}, nil
}

type traceQuery struct {
	Target string `query:"target" required:"true" maxLength:"2048"`
	From   string `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
}

func (s *Server) getTrace(ctx context.Context, in *traceQuery) (*body[trace.Result], error) {
	r, err := traced(s.asked(ctx).Tracer, in.Target, in.From)
	if err != nil {
		return nil, problem(err)
	}
	return &body[trace.Result]{r}, nil
}

// picture is a drawing to be kept.
type picture struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (s *Server) getTracePicture(ctx context.Context, in *traceQuery) (*picture, error) {
	r, err := traced(s.asked(ctx).Tracer, in.Target, in.From)
	if err != nil {
		return nil, problem(err)
	}
	return &picture{"image/svg+xml", figure.Trace(&r)}, nil
}

func traced(t *trace.Tracer, target, from string) (trace.Result, error) {
	v, err := t.VantageNamed(from)
	if err != nil {
		return trace.Result{}, err
	}
	tg, err := t.ParseTarget(target)
	if err != nil {
		return trace.Result{}, err
	}
	return t.Trace(tg, v), nil
}

// FindingsAnswer is what is wrong, by cause.
type FindingsAnswer struct {
	findings.Report
	Causes []findings.Cause `json:"causes" nullable:"false" doc:"The mistakes, the one that most hangs on first; numbers are of the findings"`
}

var findingsRows = rows[*findings.Finding, *findings.Finding]{
	name: func(f **findings.Finding) string { return (*f).Subject },
	id:   func(f **findings.Finding) *findings.Finding { return *f },
}

func (a FindingsAnswer) pack(r *recorder) error {
	list := a.Findings
	a.Findings = []*findings.Finding{}
	return findingsRows.around(r, a, "findings", list)
}

func (s *Server) getCodes(context.Context, *none) (*body[[]codes.Code], error) {
	return &body[[]codes.Code]{codes.All}, nil
}

func (s *Server) getFindings(ctx context.Context, _ *none) (*body[FindingsAnswer], error) {
	report, err := s.report(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return &body[FindingsAnswer]{FindingsAnswer{report.Report, report.causes()}}, nil
}

// Records is the estate as text.
type Records struct {
	Revision int64          `json:"revision"`
	Edition  int64          `json:"edition,omitempty" doc:"Of the draft that is looked through"`
	Text     string         `json:"text"`
	Kinds    map[string]int `json:"kinds"`
	Filters  []string       `json:"filters" nullable:"false"`
	Exports  []Export       `json:"exports" nullable:"false"` // what can be written out
}

func (s *Server) getRecords(ctx context.Context, _ *none) (*body[Records], error) {
	now := s.asked(ctx)
	r := Records{Revision: now.Revision, Text: notation.Print(now.Estate), Kinds: now.counted(), Filters: []string{}, Exports: exports(now.Estate)}
	if l := lensOf(ctx); l != nil {
		r.Edition = l.draft.Edition
	}
	for _, f := range now.Estate.Of(estate.KindNamed("filter")) {
		r.Filters = append(r.Filters, f.(*estate.Filter).Name)
	}
	return &body[Records]{r}, nil
}

func (s *Server) getVantages(ctx context.Context, _ *none) (*body[[]Vantage], error) {
	return &body[[]Vantage]{s.asked(ctx).vantages()}, nil
}

// KindWords is a kind of record by its words.
type KindWords struct {
	Word  string   `json:"word"`
	Leads []string `json:"leads" nullable:"false"` // the words that open its fields
	Usage string   `json:"usage"`

	Placed bool         `json:"placed" doc:"Whether its records stand in an order that counts"`
	Single bool         `json:"single" doc:"Whether there is at most one"`
	Fields []FieldWords `json:"fields" nullable:"false"`
}

// FieldWords is a field of a kind, for who fills it in.
type FieldWords struct {
	Column   string   `json:"column"`
	Title    string   `json:"title"`
	Expected string   `json:"expected"`
	Choices  []string `json:"choices" nullable:"false" doc:"Words that may stand there"`
	Flag     bool     `json:"flag" doc:"It is there or not, without a word of its own"`
	List     bool     `json:"list" doc:"It may hold several, with commas between"`
	Required bool     `json:"required"`
	Instead  string   `json:"instead,omitempty" doc:"The column that may be filled in in its place"`
	Excludes string   `json:"excludes,omitempty" doc:"At most one field of those that share this may be filled in"`
}

func (s *Server) getKinds(context.Context, *none) (*body[[]KindWords], error) {
	out := []KindWords{}
	for _, k := range estate.Kinds {
		w := KindWords{Word: k.Word, Leads: []string{}, Usage: k.Usage(), Placed: k.Placed, Single: k.Single, Fields: []FieldWords{}}
		for i := range k.Fields {
			f := &k.Fields[i]
			w.Fields = append(w.Fields, FieldWords{f.Column, table.Title(f), f.Expected, slices.Concat([]string{}, f.Choices), f.Flag, f.List, f.Required, f.Instead, f.Excludes})
			if f.Lead != "" {
				w.Leads = append(w.Leads, f.Lead)
			} else if len(f.Choices) > 0 && k.Word != "dns" {
				w.Leads = append(w.Leads, f.Choices...)
			}
		}
		out = append(out, w)
	}
	return &body[[]KindWords]{out}, nil
}

// LineQuestion is a line as it stands while somebody types.
type LineQuestion struct {
	Line   string `json:"line" maxLength:"65536"`
	Cursor int    `json:"cursor" minimum:"0"`
}

// LineAnswer is what is to be said of it.
type LineAnswer struct {
	Record     bool                `json:"record"`   // it begins with the word of a kind: it is recorded, not traced
	Sentence   bool                `json:"sentence"` // it begins with publish or retire: what it comes to is worked out
	Canonical  string              `json:"canonical,omitempty"`
	Meaning    string              `json:"meaning,omitempty"`
	Fault      *estate.Fault       `json:"fault,omitempty"`
	Completion notation.Completion `json:"completion"`
	Effect     *effect.Effect      `json:"effect,omitempty"`
	Target     *TargetAnswer       `json:"target,omitempty"`
}

// TargetAnswer is what is to be said of something that would be traced.
type TargetAnswer struct {
	Word  string `json:"word"`            // the name, address or machine in it
	Says  string `json:"says,omitempty"`  // of a name that is not recorded: what would answer it
	Offer string `json:"offer,omitempty"` // the line that would record it
	Uses  int    `json:"uses" doc:"How many records use it; -1 where they were not counted"`
}

// target says what a line that is no record would be traced as.
func (a *analysis) target(text string) *TargetAnswer {
	tg, err := a.Tracer.ParseTarget(text)
	if err != nil {
		return nil
	}
	out := &TargetAnswer{Word: tg.Name, Uses: -1}
	switch {
	case tg.Place != nil:
		out.Word = tg.Place.Name
	case tg.Addr.IsValid():
		out.Word = tg.Addr.String()
	}
	if !a.Estate.Large() {
		out.Uses = len(a.Uses().Find(out.Word))
	}
	if tg.Name == "" || !strings.Contains(tg.Name, ".") {
		return out
	}
	m := a.Tracer.Model
	everybody := m.AskerAt(model.Nowhere, model.Internet)
	at := m.Names.Standing(tg.Name, everybody)
	if at.Exists {
		return out
	}
	_, v4 := m.Names.Addresses(tg.Name, everybody)
	switch {
	case at.Zone == "":
		out.Says = fmt.Sprintf("No recorded zone has %s: what it answers is not known here.", tg.Name)
		return out
	case at.Wildcard != "":
		out.Says = fmt.Sprintf("%s is not recorded; the wildcard %s answers for it: %s.", tg.Name, at.Wildcard, strings.Join(v4.Values, ", "))
	case v4.Code != names.NXDomain:
		out.Says = fmt.Sprintf("%s is not recorded here: %s is handed on.", tg.Name, at.Encloser)
		return out
	default:
		out.Says = fmt.Sprintf("%s is not there: the closest name above it is %s, and no wildcard stands below that.", tg.Name, at.Encloser)
	}
	if _, apex := m.Names.Addresses(at.Zone, everybody); len(apex.Values) > 0 {
		out.Offer = fmt.Sprintf("dns %s A %s", tg.Name, apex.Values[0])
	} else {
		out.Offer = fmt.Sprintf("dns %s A", tg.Name)
	}
	return out
}

func (s *Server) postLine(ctx context.Context, in *body[LineQuestion]) (*body[LineAnswer], error) {
	a := s.asked(ctx)
	if change.Begins(in.Body.Line) {
		completion := change.Complete(in.Body.Line, in.Body.Cursor, a.Estate)
		return &body[LineAnswer]{LineAnswer{Sentence: true, Meaning: change.Sentences, Completion: completion}}, nil
	}
	out := LineAnswer{Completion: notation.Complete(in.Body.Line, in.Body.Cursor, a.Estate)}
	if strings.TrimSpace(in.Body.Line[:min(in.Body.Cursor, len(in.Body.Line))]) != "" && !strings.Contains(in.Body.Line, " ") {
		out.Completion.Words = append(out.Completion.Words, change.Complete(in.Body.Line, in.Body.Cursor, a.Estate).Words...)
	}
	if out.Completion.Words == nil {
		out.Completion.Words = []notation.Suggestion{}
	}
	word, _, spaced := strings.Cut(strings.TrimLeft(in.Body.Line, " \t"), " ")
	out.Record = spaced && estate.KindNamed(word) != nil || strings.HasPrefix(word, "#")
	p, _, err := notation.ParseLine(in.Body.Line)
	if err != nil {
		out.Fault, _ = err.(*estate.Fault)
		out.Fault.Line = 1
		if !out.Record {
			out.Target = a.target(in.Body.Line)
		}
		return &body[LineAnswer]{out}, nil
	}
	if p.Record == nil {
		return &body[LineAnswer]{out}, nil
	}
	out.Canonical, out.Meaning = p.Line(), estate.KindOf(p.Record).Says(p.Record)
	next, err := a.Estate.Apply(estate.Change{Add: []estate.Placed{p}})
	if err != nil {
		out.Fault = &estate.Fault{Line: 1, Column: 1, What: err.Error()}
		return &body[LineAnswer]{out}, nil
	}
	after := a.Draft(next)
	effect, err := effect.Soon(ctx, a.Survey, after)
	if err != nil {
		return nil, problem(err)
	}
	out.Effect = &effect
	return &body[LineAnswer]{out}, nil
}

// effect is what a change of an analysed estate would do.
func (s *Server) effect(ctx context.Context, a *analysis, c estate.Change) (effect.Effect, error) {
	next, err := a.Estate.Apply(c)
	if err != nil {
		return effect.Effect{}, err
	}
	return effect.Of(ctx, a.Survey, a.Draft(next))
}

// ChangeQuestion is lines out and lines in. A line in an ordered kind may carry its place.
type ChangeQuestion struct {
	Base   int64    `json:"base" doc:"The revision it is made on"`
	Remove []string `json:"remove" nullable:"false"`
	Add    []string `json:"add" nullable:"false"`
	Why    string   `json:"why,omitempty" maxLength:"1000"`
	Key    string   `json:"key,omitempty" maxLength:"100" doc:"What its maker calls it: the same change sent again, since no answer came, is kept once"`
}

// change parses what is asked for; its error is a problem.
func (q *ChangeQuestion) change() (estate.Change, error) {
	var c estate.Change
	located, _, faults := notation.ParseLines(strings.Join(q.Add, "\n"))
	if len(faults) > 0 {
		return c, faultsProblem(faults)
	}
	for _, l := range located {
		c.Add = append(c.Add, l.Placed)
	}
	for _, line := range q.Remove {
		p, _, err := notation.ParseLine(line)
		if err != nil || p.Record == nil {
			return c, &Problem{Title: "The line is not there", Status: http.StatusConflict, Detail: "not a line of the estate: " + clip(line)}
		}
		c.Remove = append(c.Remove, estate.Line(p.Record))
	}
	return c, nil
}

func (s *Server) postPreview(ctx context.Context, in *body[ChangeQuestion]) (*body[effect.Effect], error) {
	c, err := in.Body.change()
	if err != nil {
		return nil, err
	}
	e, err := s.effect(ctx, s.asked(ctx), c)
	if err != nil {
		return nil, problem(err)
	}
	return &body[effect.Effect]{e}, nil
}

// DraftQuestion is a trace as if a change were made.
type DraftQuestion struct {
	ChangeQuestion
	Target string `json:"target" maxLength:"2048"`
	From   string `json:"from" maxLength:"300"`
}

func (s *Server) postDraftTrace(ctx context.Context, in *body[DraftQuestion]) (*body[trace.Result], error) {
	c, err := in.Body.change()
	if err != nil {
		return nil, err
	}
	a := s.asked(ctx)
	next, err := a.Estate.Apply(c)
	if err != nil {
		return nil, problem(err)
	}
	r, err := traced(a.Draft(next).Tracer, in.Body.Target, in.Body.From)
	if err != nil {
		return nil, problem(err)
	}
	return &body[trace.Result]{r}, nil
}

// Changed is the revision after a change, and what it did.
type Changed struct {
	Revision int64          `json:"revision"`
	Effect   *effect.Effect `json:"effect,omitempty"`
}

func (s *Server) postChange(ctx context.Context, in *body[ChangeQuestion]) (*body[Changed], error) {
	c, err := in.Body.change()
	if err != nil {
		return nil, err
	}
	if c.IsEmpty() {
		return nil, problem(fmt.Errorf("%w: no line goes and none comes", store.ErrNothing))
	}
	if lensOf(ctx) != nil {
		return s.amend(ctx, in.Body.Key, func(l *lens) (*estate.Estate, error) {
			next, err := l.made.Estate.Apply(c)
			return next, problem(err)
		})
	}
	return s.change(ctx, func() (store.Committed, error) {
		return s.db.Commit(ctx, store.Edit{Base: in.Body.Base, Key: in.Body.Key, Who: whoOf(ctx), Why: in.Body.Why, Change: c})
	})
}

// change answers a request that changes the estate. Once the change is kept, it is, whatever happens to the rest.
func (s *Server) change(ctx context.Context, keep func() (store.Committed, error)) (*body[Changed], error) {
	noted, told := s.paced(ctx), false
	defer func() {
		if !told {
			noted()
		}
	}()
	done, before, after, err := s.commit(ctx, keep)
	if err != nil {
		return nil, problem(err)
	}
	s.watch.tell(s.db.Current().Revision)
	out := Changed{Revision: done.After.Revision}
	// What the change did is worked out for the log whatever happens; the answer waits for it only so long.
	effects := make(chan *effect.Effect, 1)
	told = true
	go func() {
		defer noted()
		effect, err := s.effectOf(context.WithoutCancel(ctx), before, after)
		if err != nil {
			s.log.Error("note the effect of a change", "revision", done.After.Revision, "error", err)
		}
		effects <- effect
	}()
	select {
	case out.Effect = <-effects:
	case <-time.After(effectWait):
	}
	return &body[Changed]{out}, nil
}

// Changes come no quicker than it can be told what they did: with more than so many of which it is not told yet, the next waits that long. Each
// revision is looked over in its turn, and whoever asks for the last one would wait for all of them.
const (
	mostUnnoted = 4
	paceWait    = 5 * time.Second
)

// paced waits until few changes are not looked over yet, or long enough; what it gives is called once this one is.
func (s *Server) paced(ctx context.Context) func() {
	ctx, cancel := context.WithTimeout(ctx, paceWait)
	defer cancel()
	if err := s.unnoted.Take(ctx); err != nil {
		return func() {}
	}
	return s.unnoted.Leave
}

// effectOf works out what a change did by itself, and notes it in the log. One is worked out after the other: changes that are
// made at once would only take each other's time.
func (s *Server) effectOf(ctx context.Context, before, after *analysis) (out *effect.Effect, err error) {
	s.noting.Lock()
	defer s.noting.Unlock()
	defer func() {
		if r := recover(); r != nil { // a fault of ours is not the end of the program
			err = fmt.Errorf("%v\n%s", r, debug.Stack())
		}
	}()
	e, err := effect.Of(ctx, before.Survey, after.Survey)
	if err != nil {
		return nil, err
	}
	return &e, s.db.SetEffect(ctx, after.Revision, e.Short)
}

// effectWait is how long the answer to a change waits for what it did.
const effectWait = 700 * time.Millisecond

// TextQuestion is a whole estate as text, made on a revision.
type TextQuestion struct {
	Base    int64  `json:"base"`
	Edition int64  `json:"edition,omitempty" doc:"Of the draft that is looked through"`
	Text    string `json:"text"`
	Why     string `json:"why,omitempty" maxLength:"1000"`
}

// TextAnswer is what is wrong with it, or what saving it would do.
type TextAnswer struct {
	Faults  []*estate.Fault `json:"faults" nullable:"false"`
	Removed []string        `json:"removed" nullable:"false"`
	Added   []string        `json:"added" nullable:"false"`
	Effect  *effect.Effect  `json:"effect,omitempty"`
	Marks   []Mark          `json:"marks" nullable:"false"`
}

// Mark is a caution in the margin: a finding at the line of one of its records.
type Mark struct {
	Line  int            `json:"line"`
	Level findings.Level `json:"level"`
	Code  string         `json:"code"`
	Why   string         `json:"why"`
}

func (s *Server) postText(ctx context.Context, in *body[TextQuestion]) (*body[TextAnswer], error) {
	out := TextAnswer{Faults: []*estate.Fault{}, Removed: []string{}, Added: []string{}, Marks: []Mark{}}
	e, faults := notation.Parse(in.Body.Text)
	if len(faults) > 0 {
		out.Faults = faults
		return &body[TextAnswer]{out}, nil
	}
	a := s.asked(ctx)
	after := a.Survey
	if c := estate.Difference(a.Estate, e); !c.IsEmpty() {
		out.Removed = append(out.Removed, c.Remove...)
		for _, p := range c.Add {
			out.Added = append(out.Added, p.Line())
		}
		if e, err := a.Estate.Apply(c); err == nil { // the same, with the records that stay
			after = a.Draft(e)
		} else {
			return nil, problem(err)
		}
		effect, err := effect.Of(ctx, a.Survey, after)
		if err != nil {
			return nil, problem(err)
		}
		out.Effect = &effect
	}
	located, _, _ := notation.ParseLines(in.Body.Text)
	at := map[string]int{}
	for _, l := range located {
		at[estate.Line(l.Record)] = l.Line
	}
	report, err := after.Check(ctx)
	if err != nil {
		return nil, problem(err)
	}
	for _, f := range report.Findings {
		if line, is := markedLine(f, at); is {
			out.Marks = append(out.Marks, Mark{at[line], f.Level, f.Code, f.Why})
		}
	}
	slices.SortStableFunc(out.Marks, func(a, b Mark) int { return a.Line - b.Line })
	return &body[TextAnswer]{out}, nil
}

// markedLine is the record, of those that are there, at which a finding is shown.
func markedLine[T any](f *findings.Finding, there map[string]T) (string, bool) {
	where := slices.Clone(f.Records)
	if strings.HasPrefix(f.Code, "exposure.") { // at what is open, before the ways that lead there
		slices.SortStableFunc(where, func(a, b string) int { return openFirst(a) - openFirst(b) })
	}
	if f.Mend != nil { // where it is to be mended, before where else it shows
		where = append(slices.Clone(f.Mend.Remove), where...)
	}
	for _, line := range where {
		if _, is := there[line]; is {
			return line, true
		}
	}
	return "", false
}

// openFirst orders the records of something open: what takes the flow comes first.
func openFirst(line string) int {
	kind, _, _ := strings.Cut(line, " ")
	if kind == "map" || kind == "listen" {
		return 0
	}
	return 1
}

func (s *Server) postRecords(ctx context.Context, in *body[TextQuestion]) (*body[Changed], error) {
	e, faults := notation.Parse(in.Body.Text)
	if len(faults) > 0 {
		return nil, faultsProblem(faults)
	}
	if lensOf(ctx) != nil {
		return s.amend(ctx, "", func(l *lens) (*estate.Estate, error) {
			if in.Body.Edition != l.draft.Edition || in.Body.Base != l.on.Revision {
				return nil, problem(fmt.Errorf("%w: this text was begun on edition %d of it, at revision %d; it is edition %d at revision %d by now", store.ErrDraftMoved, in.Body.Edition, in.Body.Base, l.draft.Edition, l.on.Revision))
			}
			next, err := l.made.Estate.Apply(estate.Difference(l.made.Estate, e))
			return next, problem(err)
		})
	}
	base, err := s.db.At(ctx, in.Body.Base)
	if err != nil {
		return nil, problem(err)
	}
	return s.change(ctx, func() (store.Committed, error) {
		return s.db.Commit(ctx, store.Edit{Base: in.Body.Base, Who: whoOf(ctx), Why: in.Body.Why, Change: estate.Difference(base, e), Tail: e.Tail, SetTail: true})
	})
}

// UndoQuestion is which change to take back.
type UndoQuestion struct {
	Revision int64 `json:"revision,omitempty" doc:"The change to take back; the last where not given"`
}

// RedoQuestion is which change to make again.
type RedoQuestion struct {
	Revision int64 `json:"revision,omitempty" doc:"The change to make again; the one that was undone last where not given"`
}

func (s *Server) postUndo(ctx context.Context, in *body[UndoQuestion]) (*body[Changed], error) {
	if l := lensOf(ctx); l != nil && in.Body.Revision == 0 {
		return s.unamend(ctx, l)
	}
	if err := inForceOnly(ctx, "a change in the log"); err != nil {
		return nil, err
	}
	return s.change(ctx, func() (store.Committed, error) {
		if in.Body.Revision > 0 {
			return s.db.UndoOf(ctx, in.Body.Revision, whoOf(ctx))
		}
		return s.db.Undo(ctx, whoOf(ctx))
	})
}

func (s *Server) postRedo(ctx context.Context, in *body[RedoQuestion]) (*body[Changed], error) {
	if err := inForceOnly(ctx, "a change that is made again"); err != nil {
		return nil, err
	}
	return s.change(ctx, func() (store.Committed, error) {
		if in.Body.Revision > 0 {
			return s.db.RedoOf(ctx, in.Body.Revision, whoOf(ctx))
		}
		return s.db.Redo(ctx, whoOf(ctx))
	})
}

// ProposalQuestion is a change to be taken back, or made again, though others touched its lines since.
type ProposalQuestion struct {
	Revision int64 `json:"revision" minimum:"1"`
	Again    bool  `json:"again" doc:"It is to be made again; else it is taken back"`
}

// postProposal keeps as a draft what the change comes to: in it, what there is now goes and what there was comes, line by line.
func (s *Server) postProposal(ctx context.Context, in *body[ProposalQuestion]) (*body[store.Draft], error) {
	if err := inForceOnly(ctx, "a change in the log"); err != nil {
		return nil, err
	}
	c, err := s.db.Proposal(ctx, in.Body.Revision, in.Body.Again)
	if err != nil {
		return nil, problem(err)
	}
	title := fmt.Sprintf("Take back revision %d", in.Body.Revision)
	if in.Body.Again {
		title = fmt.Sprintf("Make revision %d again", in.Body.Revision)
	}
	draft := NewDraft{Title: title, Why: "Others have changed some of its lines since: what goes is as it is now, what comes as it would be.", Remove: append([]string{}, c.Remove...), Add: []string{}}
	for _, p := range c.Add {
		draft.Add = append(draft.Add, p.Line())
	}
	return s.postDraft(ctx, &body[NewDraft]{draft})
}

func (s *Server) postExample(ctx context.Context, _ *none) (*body[Changed], error) {
	if err := inForceOnly(ctx, "the example"); err != nil {
		return nil, err
	}
	before := s.now()
	if before.Estate.Count() > 0 {
		return nil, &Problem{Title: "The estate is not empty", Status: http.StatusConflict, Detail: "the example is loaded into an empty estate only"}
	}
	e, faults := notation.Parse(demo.Estate)
	if len(faults) > 0 {
		return nil, problem(errors.New("the example cannot be read: " + faults.Error()))
	}
	return s.change(ctx, func() (store.Committed, error) {
		return s.db.Reset(ctx, before.Revision, e, whoOf(ctx), "the example")
	})
}
