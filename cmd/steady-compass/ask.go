package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/figure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/look"
	"steady-compass/core/mend"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/intake/looks"
	"steady-compass/server"
	"steady-compass/store"
)

// question is what every command that asks has in common.
type question struct {
	Estate string `help:"Estate file to ask, or - for standard input." placeholder:"FILE" xor:"source"`
	DB     string `help:"Database to ask." name:"db" placeholder:"FILE" xor:"source"`
	AsOf   string `help:"As a database was then: a revision's number, a day or a moment, as 2026-11-30 or 2026-11-30T14:00:00Z." placeholder:"WHEN"`
	With   string `help:"Text of a change, or - for standard input: answer as if it were made." placeholder:"FILE"`
	Day    string `help:"The day to ask for, as 2026-12-01; today where not given." placeholder:"DATE" env:"STEADY_COMPASS_DAY"`
	JSON   bool   `help:"Print JSON." name:"json"`
}

// looksQuestion is a question that looks have a say in.
type looksQuestion struct {
	Looks string `help:"What look --json printed, where no database keeps it." placeholder:"FILE"`
	question
}

// kept are the looks that there are, held against the records.
func (q *looksQuestion) kept(ctx context.Context, s streams, t *trace.Tracer, day estate.Date, from string) ([]look.Kept, error) {
	switch {
	case q.Looks != "":
		text, err := readText(q.Looks, s.in)
		if err != nil {
			return nil, wrong("--looks: %s: cannot be read (%v); expected what look --json printed", q.Looks, errors.Unwrap(err))
		}
		read, faults := looks.Read(q.Looks, text, from)
		if len(faults) > 0 {
			return nil, &failed{2, faultLines(faults)}
		}
		out := make([]look.Kept, len(read))
		for i := range read {
			look.Judge(t, &read[i])
			out[i] = look.Kept{Look: read[i]}
		}
		return out, nil
	case q.DB == "":
		return nil, nil
	}
	db, err := openThere(ctx, q.DB)
	if err != nil {
		return nil, err
	}
	defer func() { _ = db.Close() }()
	kept, err := server.KeptLooks(ctx, db, t, day)
	if err != nil {
		return nil, wrong("%v", err)
	}
	return kept, nil
}

// load reads the estate and compiles it.
func (q *question) load(ctx context.Context, s streams) (*trace.Tracer, estate.Date, error) {
	day, err := q.day()
	if err != nil {
		return nil, "", err
	}
	e, err := q.read(ctx, s)
	if err != nil {
		return nil, "", err
	}
	return trace.New(model.Compile(e), day), day, nil
}

// looked reads the estate, compiles it and looks it over.
func (q *question) looked(ctx context.Context, s streams) (mend.State, estate.Date, error) {
	t, day, err := q.load(ctx, s)
	if err != nil {
		return mend.State{}, day, err
	}
	checked, err := findings.Check(ctx, t, day)
	return mend.State{Tracer: t, Checked: checked}, day, err
}

func (q *question) day() (estate.Date, error) {
	if q.Day == "" {
		return estate.Date(time.Now().Format(time.DateOnly)), nil
	}
	day := estate.Date(q.Day)
	if day.Time().IsZero() {
		return "", wrong("--day: %q is no day of the calendar; expected a date, as 2026-12-01", q.Day)
	}
	return day, nil
}

// read reads the estate that is asked, with the change made that it is asked with.
func (q *question) read(ctx context.Context, s streams) (*estate.Estate, error) {
	e, err := q.recorded(ctx, s)
	if err != nil || q.With == "" {
		return e, err
	}
	return q.changed(e, s)
}

// changed makes the change that is asked with.
func (q *question) changed(e *estate.Estate, s streams) (*estate.Estate, error) {
	if q.With == "-" && q.Estate == "-" {
		return nil, wrong("--with -: the estate is read from standard input already; expected a file")
	}
	text, err := readText(q.With, s.in)
	if err != nil {
		return nil, wrong("%s: cannot be read (%v); expected the text of a change", q.With, errors.Unwrap(err))
	}
	c, faults := notation.ParseChange(text, e)
	if len(faults) > 0 {
		return nil, faulty(q.With, faults)
	}
	next, err := e.Apply(c)
	if err != nil {
		return nil, wrong("%s: %v", q.With, err)
	}
	return next, nil
}

// recorded reads the estate as it is.
func (q *question) recorded(ctx context.Context, s streams) (*estate.Estate, error) {
	if q.DB != "" {
		db, err := openThere(ctx, q.DB)
		if err != nil {
			return nil, err
		}
		e, err := asOf(ctx, db, q.AsOf)
		return e, errors.Join(err, db.Close())
	}
	if q.AsOf != "" {
		return nil, wrong("--as-of: a file has no past; expected --db FILE with it")
	}
	if q.Estate == "" {
		return nil, wrong("no estate to ask; expected --estate FILE, --estate - or --db FILE")
	}
	return readEstate(q.Estate, s.in)
}

// asOf is what a database held at a time: a revision's number, a day (its end) or a moment; now where none is said.
func asOf(ctx context.Context, db *store.Store, when string) (*estate.Estate, error) {
	if when == "" {
		return db.Current().Estate, nil
	}
	revision, err := strconv.ParseInt(when, 10, 64)
	if err != nil {
		at, err := time.Parse(time.RFC3339, when)
		if err != nil {
			day, err := time.ParseInLocation(time.DateOnly, when, time.Local)
			if err != nil {
				return nil, wrong("--as-of: %q is neither a revision nor a day nor a moment; expected 12, 2026-11-30 or 2026-11-30T14:00:00Z", when)
			}
			at = day.AddDate(0, 0, 1).Add(-time.Nanosecond)
		}
		if revision, err = db.RevisionAt(ctx, at); err != nil {
			return nil, err
		}
	}
	e, err := db.At(ctx, revision)
	if err != nil {
		return nil, wrong("--as-of %s: %v", when, err)
	}
	return e, nil
}

// openThere opens a database that is there already.
func openThere(ctx context.Context, path string) (*store.Store, error) {
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		return nil, wrong("%s: no such database; expected one that serve or demo made", path)
	}
	db, err := store.Open(ctx, path)
	if err != nil {
		return nil, wrong("%v", err)
	}
	return db, nil
}

// keptIn ends a command that has changed a database: what went wrong is said in a line, and that nothing was to be done is
// no fault.
func keptIn(err error) error {
	if err == nil || errors.Is(err, store.ErrNothing) {
		return nil
	}
	return wrong("%v", err)
}

// readEstate reads and parses an estate file; "-" is standard input.
func readEstate(path string, in io.Reader) (*estate.Estate, error) {
	text, err := readText(path, in)
	if err != nil {
		return nil, wrong("%s: cannot be read (%v); expected an estate file", path, errors.Unwrap(err))
	}
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		return nil, faulty(path, faults)
	}
	return e, nil
}

func readText(path string, in io.Reader) (string, error) {
	if path == "-" {
		text, err := io.ReadAll(in)
		return string(text), err
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

// faulty ends a command whose input has faults, with a line for each.
func faulty(path string, faults notation.Faults) error {
	f := &failed{code: 2}
	for _, fault := range faults {
		f.lines = append(f.lines, path+":"+fault.Error())
	}
	return f
}

func printJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

func vantage(t *trace.Tracer, from string) (flow.Vantage, error) {
	v, err := t.VantageNamed(from)
	if err != nil {
		return v, wrong("--from: %v", err)
	}
	return v, nil
}

type traceCommand struct {
	Target string `arg:"" help:"A name, name:port, IP:port, PLACE:port or URL; /udp may stand behind a port."`
	From   string `help:"The vantage: internet, a network, group, host, container or address." default:"internet"`
	SVG    bool   `help:"Print a picture that stands alone (SVG)." name:"svg" `
	question
}

func (c *traceCommand) Run(ctx context.Context, s streams) error {
	t, _, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	result, err := traced(t, c.Target, c.From)
	if err != nil {
		return err
	}
	switch {
	case c.SVG:
		_, err = s.out.Write(figure.Trace(&result))
	case c.JSON:
		err = printJSON(s.out, result)
	default:
		printTrace(newPaper(s.out), result)
	}
	if err == nil && !result.Holds() {
		return doesNotHold
	}
	return err
}

// traced follows a target from a vantage.
func traced(t *trace.Tracer, word, from string) (trace.Result, error) {
	v, err := vantage(t, from)
	if err != nil {
		return trace.Result{}, err
	}
	target, err := t.ParseTarget(word)
	if err != nil {
		return trace.Result{}, wrong("%v", err)
	}
	return t.Trace(target, v), nil
}

type leadsCommand struct {
	Place string `arg:"" help:"A host or container, with a port or not: azimuth/allsky or azimuth/allsky:3000."`
	question
}

func (c *leadsCommand) Run(ctx context.Context, s streams) error {
	t, _, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	place, port, err := t.ParseEnd(c.Place)
	if err != nil {
		return wrong("%v", err)
	}
	ways, err := t.Leads(ctx, place, port)
	if err != nil {
		return err
	}
	if c.JSON {
		return printJSON(s.out, map[string]any{"place": place, "port": port, "ways": ways})
	}
	p := newPaper(s.out)
	rows := [][]string{{"NAME", "ADDRESS", "PORT", "PATH", "FROM", "ENDS AT", "THROUGH"}}
	for _, w := range ways {
		rows = append(rows, []string{w.Name, w.Address, fmt.Sprintf("%d/%s", w.Port, w.Transport), w.URLPath, w.From, w.End, w.Front})
	}
	p.line("Ways that end at %s: %d", c.Place, len(ways))
	p.table(rows)
	return nil
}

type exposureCommand struct {
	From    string `help:"The vantage: internet, a network, group, host, container or address." default:"internet"`
	Against string `help:"Another estate file, as it was before: only what is open now and was not, and what was and is not." placeholder:"FILE"`
	question
}

func (c *exposureCommand) Run(ctx context.Context, s streams) error {
	t, _, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	v, err := vantage(t, c.From)
	if err != nil {
		return err
	}
	x := t.Exposure(v)
	if c.Against != "" {
		return c.compare(s, x, v)
	}
	if c.JSON {
		return printJSON(s.out, x)
	}
	printExposure(newPaper(s.out), x)
	return nil
}

// compare prints what differs from another estate; it exits with 1 where something opened.
func (c *exposureCommand) compare(s streams, now exposure.Exposure, v flow.Vantage) error {
	e, err := readEstate(c.Against, nil)
	if err != nil {
		return err
	}
	other := trace.New(model.Compile(e), "")
	w, err := vantage(other, c.From)
	if err != nil {
		return err
	}
	was := other.Exposure(w)
	opened, closed := exposure.Opened(was.Open, now.Open, v), exposure.Opened(now.Open, was.Open, w)
	if c.JSON {
		err = printJSON(s.out, map[string]any{"from": now.From, "against": c.Against, "opened": opened, "closed": closed})
	} else {
		p := newPaper(s.out)
		p.line("Opened from %s: %d", now.From, len(opened))
		printOpen(p, opened)
		p.line("\nClosed: %d", len(closed))
		printOpen(p, closed)
	}
	if err == nil && len(opened) > 0 {
		return doesNotHold
	}
	return err
}

type checkCommand struct {
	FailOn string `help:"The least level that makes the check fail: error, warning or note." enum:"error,warning,note" default:"error"`
	SARIF  bool   `help:"Print SARIF 2.1.0." name:"sarif"`
	Mends  bool   `help:"Try the mends of all findings. Without it those of the first ten causes are tried, and printed for a person only."`
	looksQuestion
}

// mendsTried is of how many causes the mends are tried unasked.
const mendsTried = 10

// reported is a finding with the mend that holds, or why there is none.
type reported struct {
	*findings.Finding
	Causes []int        `json:"causes"`           // of those of the report
	Others []*flow.Mend `json:"others,omitempty"` // that hold as well
	None   string       `json:"none,omitempty"`
}

// report is what a check prints.
type report struct {
	Findings []reported             `json:"findings"`
	Causes   []findings.Cause       `json:"causes"`
	Counts   map[findings.Level]int `json:"counts"`
	Accepted []*findings.Finding    `json:"accepted"`
}

// tried are the findings of a check, those of so many causes with their mends tried: one that does not hold is not offered.
// progress is told how many findings are done.
func tried(ctx context.Context, state mend.State, found *findings.Report, most int, progress func(done, of int)) (report, error) {
	out := report{Findings: []reported{}, Counts: found.Counts, Accepted: found.Accepted}
	var of [][]int
	out.Causes, of = found.Causes()
	all := most == math.MaxInt
	for i, f := range found.Findings {
		progress(i, len(found.Findings))
		shown := *f
		one := reported{Finding: &shown, Causes: of[i]}
		first := slices.Min(of[i])
		shown.Mend = nil
		if first < most {
			if err := one.offer(ctx, state, f, all); err != nil {
				return out, err
			}
		}
		out.Findings = append(out.Findings, one)
	}
	progress(len(found.Findings), len(found.Findings))
	return out, nil
}

// offer tries the mend of a finding and, where all are asked for, other readings of the mistake: what holds is kept to choose from.
func (one *reported) offer(ctx context.Context, state mend.State, f *findings.Finding, all bool) error {
	p := mend.For(f)
	if !all && p.Mend.IsEmpty() {
		return nil
	}
	var decided []string
	if all {
		decided = state.Deciding(f)
	}
	offers, own, err := state.Offers(ctx, p, decided)
	if err != nil {
		return err
	}
	if all && len(offers) == 0 && findings.OfLook(f.Code) && f.Level != findings.Note {
		one.None = "Only the world can tell which line is not so: `suspects " + f.Subject + "` weighs what would explain it."
	}
	if own != nil && !own.Holds() && len(offers) == 0 {
		one.None = own.Against[0]
	}
	if all && len(offers) == 0 && one.None == "" {
		one.None = "Nothing that is written down says what it should be instead."
	}
	for i, o := range offers {
		if i == 0 {
			one.Mend = o.Mend
		} else {
			one.Others = append(one.Others, o.Mend)
		}
	}
	return nil
}

func (c *checkCommand) Run(ctx context.Context, s streams) error {
	t, day, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	checked, err := findings.Check(ctx, t, day)
	if err != nil {
		return err
	}
	most := mendsTried
	switch {
	case c.SARIF: // it has none
		most = 0
	case c.Mends:
		most = math.MaxInt
	case c.JSON:
		most = 0
	}
	kept, err := c.kept(ctx, s, t, day, "")
	if err != nil {
		return err
	}
	found := checked.With(kept)
	r, err := tried(ctx, mend.State{Tracer: t, Checked: checked}, &found, most, progressOn(s.err, "Trying mends"))
	if err != nil {
		return err
	}
	switch {
	case c.SARIF:
		err = printJSON(s.out, findings.SARIF(found, c.Estate))
	case c.JSON:
		err = printJSON(s.out, r)
	default:
		printReport(newPaper(s.out), r, most)
	}
	if err != nil {
		return err
	}
	for _, f := range r.Findings {
		if f.Level.Rank() <= findings.Level(c.FailOn).Rank() {
			return doesNotHold
		}
	}
	return nil
}

type answerCommand struct {
	Name string `arg:"" help:"The name to ask for."`
	Type string `arg:"" optional:"" help:"The record type." default:"A"`
	From string `help:"Who asks: internet, a network, host, container or address." default:"internet"`
	question
}

// answer is the wire form of what a name answers.
type answer struct {
	Name    string   `json:"name"`
	Type    string   `json:"type"`
	From    string   `json:"from"`
	Code    string   `json:"code"`
	Chain   []string `json:"chain"`
	Answers []string `json:"answers"`
	Records []string `json:"records"`
}

func (c *answerCommand) Run(ctx context.Context, s streams) error {
	t, _, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	v, err := vantage(t, c.From)
	if err != nil {
		return err
	}
	name, ok := estate.CleanHostname(c.Name)
	if !ok {
		return wrong("%q is no host name; expected one, as www.example", c.Name)
	}
	qtype, err := estate.ParseType(c.Type)
	if err != nil {
		return wrong("%v", err)
	}
	a := t.Answer(name, qtype, v)
	out := answer{name, qtype, v.Word, a.Code.String(), a.Chain, a.Values, []string{}}
	if out.Answers == nil {
		out.Answers = []string{}
	}
	for _, l := range a.Links {
		out.Records = append(out.Records, estate.Line(l.Record))
	}
	if c.JSON {
		return printJSON(s.out, out)
	}
	_, err = fmt.Fprintf(s.out, "%s %s from %s: %s\n%s", name, qtype, v.Word, out.Code, indented(append(out.Answers, out.Records...)))
	return err
}

func indented(lines []string) string {
	var b strings.Builder
	for _, l := range lines {
		b.WriteString("  " + l + "\n")
	}
	return b.String()
}

type fmtCommand struct {
	File  string `arg:"" help:"The estate file, or - for standard input."`
	Write bool   `help:"Write the file in place of printing it."`
}

func (c *fmtCommand) Run(s streams) error {
	e, err := readEstate(c.File, s.in)
	if err != nil {
		return err
	}
	text := notation.Print(e)
	if !c.Write || c.File == "-" {
		_, err = io.WriteString(s.out, text)
		return err
	}
	return replaceFile(c.File, text)
}

// replaceFile writes a file beside the old one and then in its place, so that no moment has half of it.
func replaceFile(path, text string) error {
	info, err := os.Stat(path)
	if err != nil {
		return wrong("%s: %v", path, err)
	}
	next := path + ".new"
	if err := os.WriteFile(next, []byte(text), info.Mode().Perm()); err != nil {
		return wrong("%s: %v", next, err)
	}
	if err := os.Rename(next, path); err != nil {
		return errors.Join(wrong("%s: %v", path, err), os.Remove(next))
	}
	return nil
}
