package store

import (
	"bufio"
	"context"
	"database/sql"
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

	"github.com/jmoiron/sqlx"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/notation"
)

// The text of an estate with its history: the estate as notation, as any estate file, and behind it, in comments, every change from the first on.
// A change begins with its data as JSON; under it stand the lines that went, and those that came, each with its place and its comments. Last come,
// as JSON and counted, the drafts, the kept questions and the looks; texts of the first version end before these.
const (
	historyHead     = "# Steady Compass: an estate and its history, version "
	historyBegins   = "# ---- its history, change by change; the estate stands above ----"
	historyChange   = "#@ "
	historyGone     = "#- "
	historyCome     = "#+ "
	historyComment  = "#. " // above the line that comes next
	historyBeside   = "# ---- beside it, %d drafts, questions and looks ----"
	historyDraft    = "#draft "
	historyQuestion = "#question "
	historyLook     = "#look "
)

// historyVersion is the newest form of such a text.
const historyVersion = 2

// longestHistoryLine is how long a line of such a text may be, in bytes.
const longestHistoryLine = 16 << 20

// ErrHistory is wrapped by the errors for texts of an estate and its history that are not whole, or do not agree with themselves.
var ErrHistory = errors.New("this is no estate with its whole history")

// historyEntry is a change but for its lines.
type historyEntry struct {
	Revision int64  `json:"revision"`
	At       string `json:"at"`
	Who      string `json:"who"`
	Why      string `json:"why,omitempty"`
	Act      string `json:"act"`
	Of       int64  `json:"of,omitempty"`
	Key      string `json:"key,omitempty"` // where the database was replaced by a copy
	Effect   string `json:"effect,omitempty"`
}

// WriteHistory writes the estate, all its changes, and the drafts, kept questions and looks beside it as a text. Accounts are not in it.
func (s *Store) WriteHistory(ctx context.Context, out io.Writer) error {
	beside, err := s.beside(ctx) // before the estate is taken: a draft begun at a later revision than that would be of nothing
	if err != nil {
		return err
	}
	w := bufio.NewWriter(out)
	now := s.Current()
	_, _ = fmt.Fprintf(w, "%s%d\n%s%s\n", historyHead, historyVersion, notation.Print(now.Estate), historyBegins) // w keeps its first error
	if err := s.writeChanges(ctx, w, now.Revision); err != nil {
		return err
	}
	_, _ = fmt.Fprintf(w, historyBeside+"\n", len(beside))
	for _, line := range beside {
		_, _ = fmt.Fprintln(w, line)
	}
	return w.Flush()
}

// beside is all that is kept beside the estate, but accounts, each as a line.
func (s *Store) beside(ctx context.Context) ([]string, error) {
	drafts, err := s.Drafts(ctx)
	questions, errQuestions := s.Questions(ctx)
	var looks []string
	errLooks := s.db.SelectContext(ctx, &looks, "SELECT seen FROM look ORDER BY id")
	if err := errors.Join(err, errQuestions, errLooks); err != nil {
		return nil, fmt.Errorf("read what is beside the estate: %w", err)
	}
	var lines []string
	for _, d := range slices.Backward(drafts) {
		lines = append(lines, historyDraft+marshal(d))
	}
	for _, q := range questions {
		lines = append(lines, historyQuestion+marshal(q))
	}
	for _, l := range looks {
		lines = append(lines, historyLook+l)
	}
	return lines, nil
}

// writeChanges writes the changes up to a revision.
func (s *Store) writeChanges(ctx context.Context, w io.Writer, last int64) error {
	rows, err := s.db.QueryxContext(ctx, "SELECT revision, at, who, why, act, coalesce(of, 0), CASE WHEN "+isRestored+" THEN key ELSE '' END, effect, forward FROM change WHERE revision <= ? ORDER BY revision", last)
	if err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var e historyEntry
		var forward string
		if err := rows.Scan(&e.Revision, &e.At, &e.Who, &e.Why, &e.Act, &e.Of, &e.Key, &e.Effect, &forward); err != nil {
			return fmt.Errorf("read the log: %w", err)
		}
		var c wireChange
		if err := json.Unmarshal([]byte(forward), &c); err != nil {
			return fmt.Errorf("read change %d: %w", e.Revision, err)
		}
		_, _ = fmt.Fprintf(w, "%s%s\n", historyChange, marshal(e))
		for _, line := range c.Remove {
			_, _ = fmt.Fprintf(w, "%s%s\n", historyGone, line)
		}
		for _, a := range c.Add {
			for _, comment := range a.Comments {
				_, _ = fmt.Fprintf(w, "%s%s\n", historyComment, comment)
			}
			_, _ = fmt.Fprintf(w, "%s%d %d %s\n", historyCome, a.At, a.Index, a.Line)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	return nil
}

// IsHistory says whether a file begins as the text of an estate with its history does.
func IsHistory(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer func() { _ = f.Close() }()
	head := make([]byte, len(historyHead))
	n, err := io.ReadFull(f, head)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = nil
	}
	return string(head[:n]) == historyHead, err
}

// historyRead is a text of an estate with its history, made again change by change.
type historyRead struct {
	estate    *estate.Estate // as its own part of the text has it
	entries   []entry
	meta      []historyEntry
	drafts    []Draft
	questions []Question
	looks     []look.Look
}

// CheckHistory looks a text through: every change is made again, and they lead to the estate that stands in it.
func CheckHistory(text io.Reader) (Contents, error) {
	h, err := readHistory(text)
	if err != nil {
		return Contents{}, err
	}
	last := h.meta[len(h.meta)-1]
	at, err := time.Parse(time.RFC3339Nano, last.At)
	return Contents{Revision: last.Revision, Records: h.estate.Count(), Changes: len(h.meta), Last: at}, err
}

// RestoreHistory makes a database of a text of an estate with its history; there must be none there yet. Where it fails, none is.
func RestoreHistory(ctx context.Context, text io.Reader, path string) (_ Contents, err error) {
	if _, err := os.Stat(path); err == nil {
		return Contents{}, fmt.Errorf("%s is there already: the accounts in it are not in a text; expected a database that is not there yet", path)
	} else if !errors.Is(err, os.ErrNotExist) {
		return Contents{}, err
	}
	h, err := readHistory(text)
	if err != nil {
		return Contents{}, err
	}
	s, err := Open(ctx, path)
	if err != nil {
		return Contents{}, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(path))
		}
	}()
	if err := errors.Join(s.fill(ctx, h), s.Close()); err != nil {
		return Contents{}, err
	}
	return CheckCopy(ctx, path)
}

// fill writes an estate and its changes into a database that has none yet.
func (s *Store) fill(ctx context.Context, h *historyRead) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	if _, err := s.writeRows(ctx, tx, s.Current().Estate, h.estate); err != nil {
		return err
	}
	for i, e := range h.meta {
		c := h.entries[i]
		of, key := sql.NullInt64{Int64: e.Of, Valid: e.Of != 0}, sql.NullString{String: e.Key, Valid: e.Key != ""}
		if _, err := tx.ExecContext(ctx, "INSERT INTO change (revision, at, who, why, act, of, key, forward, backward, summary, effect) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			e.Revision, e.At, e.Who, e.Why, e.Act, of, key, c.forward, c.backward, c.summary, e.Effect); err != nil {
			return fmt.Errorf("%w: change %d: %w", ErrHistory, e.Revision, err)
		}
	}
	for i := range h.drafts {
		if err := putDraft(ctx, tx, &h.drafts[i]); err != nil {
			return fmt.Errorf("%w: draft %d: %w", ErrHistory, h.drafts[i].ID, err)
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	for _, q := range h.questions {
		if err := s.KeepQuestion(ctx, q); err != nil {
			return fmt.Errorf("%w: %w", ErrHistory, err)
		}
	}
	_, err = s.AddLooks(ctx, h.looks, math.MaxInt64) // of whatever age: the next ones let the old go
	return err
}

// putDraft writes a draft as it was, its number too.
func putDraft(ctx context.Context, tx *sqlx.Tx, d *Draft) error {
	if _, err := tx.ExecContext(ctx, "INSERT INTO draft (id, title, author, why, at, revision, gone, come, edition) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		d.ID, d.Title, d.Author, d.Why, d.At.UTC().Format(time.RFC3339Nano), d.Revision, marshal(d.Remove), marshal(d.Add), d.Edition); err != nil {
		return err
	}
	for _, done := range d.Done {
		if err := putDone(ctx, tx, d.ID, done); err != nil {
			return err
		}
	}
	return nil
}

func readHistory(text io.Reader) (*historyRead, error) {
	lines := bufio.NewScanner(text)
	lines.Buffer(nil, longestHistoryLine)
	r := historyReader{changes: estate.New(nil, nil), beside: -1}
	for lines.Scan() {
		r.line++
		if err := r.take(strings.TrimSuffix(lines.Text(), "\r")); err != nil {
			return nil, fmt.Errorf("%w: line %d: %w", ErrHistory, r.line, err)
		}
	}
	if err := errors.Join(lines.Err(), r.end()); err != nil {
		return nil, fmt.Errorf("%w: line %d: %w", ErrHistory, r.line, err)
	}
	switch {
	case !r.past:
		return nil, fmt.Errorf("%w: it ends before its history; expected the line %q", ErrHistory, historyBegins)
	case r.version > 1 && r.beside < 0:
		return nil, fmt.Errorf("%w: it ends before what is beside the estate; expected a line as %q", ErrHistory, fmt.Sprintf(historyBeside, 0))
	case r.beside > 0:
		return nil, fmt.Errorf("%w: it ends too soon: %d drafts, questions or looks are missing", ErrHistory, r.beside)
	case len(r.read.meta) == 0:
		return nil, fmt.Errorf("%w: no change stands in it", ErrHistory)
	}
	e, faults := notation.Parse(r.text.String())
	if len(faults) > 0 {
		return nil, fmt.Errorf("%w: line %d: %w", ErrHistory, faults[0].Line+1, faults[0])
	}
	if want, got := notation.Print(e.WithTail(nil)), notation.Print(r.changes.WithTail(nil)); want != got {
		return nil, fmt.Errorf("%w: its changes lead to another estate than the one that stands in it: %s", ErrHistory, firstDifference(want, got))
	}
	r.read.estate = e
	return &r.read, nil
}

// firstDifference says where two texts part.
func firstDifference(stands, made string) string {
	a, b := strings.Split(stands, "\n"), strings.Split(made, "\n")
	for i := range max(len(a), len(b)) {
		if i >= len(a) || i >= len(b) || a[i] != b[i] {
			return fmt.Sprintf("%q stands there, %q they make", slices.Concat(a, []string{""})[min(i, len(a))], slices.Concat(b, []string{""})[min(i, len(b))])
		}
	}
	return "not in any line"
}

type historyReader struct {
	read     historyRead
	version  int
	line     int
	text     strings.Builder // the estate's own part
	changes  *estate.Estate  // as the changes so far make it
	past     bool            // whether the estate's own part is over
	open     bool            // whether a change is being read
	change   estate.Change
	comments []string
	beside   int // how many drafts, questions and looks are to come; -1 before that part
}

func (r *historyReader) take(line string) error {
	if r.line == 1 {
		version, is := strings.CutPrefix(line, historyHead)
		n, err := strconv.Atoi(version)
		if !is || err != nil || n < 1 || n > historyVersion {
			return fmt.Errorf("it begins with %q; expected %q, and 1 to %d", line, historyHead, historyVersion)
		}
		r.version = n
		return nil
	}
	if r.beside >= 0 {
		return r.takeBeside(line)
	}
	if !r.past {
		if r.past = line == historyBegins; !r.past {
			r.text.WriteString(line + "\n")
		}
		return nil
	}
	if n := 0; r.version > 1 && strings.HasPrefix(line, "# ----") {
		if _, err := fmt.Sscanf(line, historyBeside, &n); err != nil || n < 0 || fmt.Sprintf(historyBeside, n) != line {
			return fmt.Errorf("%q stands among the changes; expected a line as %q", line, fmt.Sprintf(historyBeside, 0))
		}
		r.beside = n
		return r.end()
	}
	tag := ""
	for _, t := range []string{historyChange, historyGone, historyCome, historyComment} {
		if strings.HasPrefix(line, t) {
			tag = t
		}
	}
	rest := strings.TrimPrefix(line, tag)
	switch {
	case tag == historyChange:
		if err := r.end(); err != nil {
			return err
		}
		var e historyEntry
		if err := json.Unmarshal([]byte(rest), &e); err != nil {
			return fmt.Errorf("the data of a change: %w", err)
		}
		last := int64(0)
		if n := len(r.read.meta); n > 0 {
			last = r.read.meta[n-1].Revision
		}
		if _, err := time.Parse(time.RFC3339Nano, e.At); err != nil || e.Revision <= last {
			return fmt.Errorf("change %d, of %q, comes behind change %d; expected the next one, with its moment", e.Revision, e.At, last)
		}
		r.read.meta, r.open = append(r.read.meta, e), true
	case !r.open && strings.TrimSpace(line) != "":
		return fmt.Errorf("%q stands before the first change; expected one, which begins with #@", line)
	case tag == historyGone:
		r.change.Remove = append(r.change.Remove, rest)
	case tag == historyComment:
		r.comments = append(r.comments, rest)
	case tag == historyCome:
		return r.come(rest)
	case strings.TrimSpace(line) != "":
		return fmt.Errorf("%q stands among the changes; expected a line of one: it begins with #@, #-, #+ or #. and a blank", line)
	}
	return nil
}

// takeBeside takes a line of what is beside the estate.
func (r *historyReader) takeBeside(line string) error {
	if strings.TrimSpace(line) == "" {
		return nil
	}
	if r.beside == 0 {
		return fmt.Errorf("%q stands behind the last of what is beside the estate; expected the end", line)
	}
	r.beside--
	switch {
	case strings.HasPrefix(line, historyDraft):
		return takeJSON(&r.read.drafts, line[len(historyDraft):])
	case strings.HasPrefix(line, historyQuestion):
		return takeJSON(&r.read.questions, line[len(historyQuestion):])
	case strings.HasPrefix(line, historyLook):
		return takeJSON(&r.read.looks, line[len(historyLook):])
	}
	return fmt.Errorf("%q stands beside the estate; expected a draft, a question or a look", line)
}

func takeJSON[T any](list *[]T, text string) error {
	var one T
	if err := json.Unmarshal([]byte(text), &one); err != nil {
		return fmt.Errorf("%q: %w", text, err)
	}
	*list = append(*list, one)
	return nil
}

func (r *historyReader) come(text string) error {
	var at, index int
	at1, rest, _ := strings.Cut(text, " ")
	index1, line, _ := strings.Cut(rest, " ")
	if _, err := fmt.Sscan(at1+" "+index1, &at, &index); err != nil {
		return fmt.Errorf("%q: expected two places and a record", text)
	}
	p, _, err := notation.ParseLine(line)
	if err != nil {
		return err
	}
	if p.Record == nil {
		return fmt.Errorf("%q: expected two places and a record", text)
	}
	p.Record.Meta().Comments = r.comments
	r.change.Add = append(r.change.Add, estate.Placed{Record: p.Record, At: at, Index: index})
	r.comments = nil
	return nil
}

// end makes the change that was read.
func (r *historyReader) end() error {
	if !r.open {
		return nil
	}
	next, err := r.changes.Apply(r.change)
	if err != nil {
		return fmt.Errorf("change %d cannot be made: %w", r.read.meta[len(r.read.meta)-1].Revision, err)
	}
	forward, backward := estate.Difference(r.changes, next), estate.Difference(next, r.changes)
	r.read.entries = append(r.read.entries, entry{forward: encode(forward), backward: encode(backward), summary: summaryOf(forward)})
	r.changes, r.change, r.comments, r.open = next, estate.Change{}, nil, false
	return nil
}
