package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/notation"
	"steady-compass/core/table"
)

// TableQuestion is which rows of a kind are wanted, and which part of them.
type TableQuestion struct {
	Kind string `query:"kind" required:"true" maxLength:"40" doc:"The word of the kind"`
	Like string `query:"like" maxLength:"300" doc:"Words that are all in the line; COLUMN=WORD looks in one column"`
	By   string `query:"by" maxLength:"40" doc:"The column to go by; none for the order of the estate"`
	Down bool   `query:"down" doc:"The last first"`
	From int    `query:"from" minimum:"0" doc:"How many rows stand before the first that is wanted"`
	Most int    `query:"most" minimum:"0" maximum:"1000" default:"200" doc:"How many rows are wanted"`
	Line string `query:"line" maxLength:"70000" doc:"A record: where it stands among the rows is answered too"`
}

// LinesQuestion is which rows of a kind are wanted, however many: as their lines alone.
type LinesQuestion struct {
	Kind string `query:"kind" required:"true" maxLength:"40" doc:"The word of the kind"`
	Like string `query:"like" maxLength:"300" doc:"Words that are all in the line; COLUMN=WORD looks in one column"`
	By   string `query:"by" maxLength:"40" doc:"The column to go by; none for the order of the estate"`
	Down bool   `query:"down" doc:"The last first"`
	From int    `query:"from" minimum:"0" doc:"How many rows stand before the first that is wanted"`
	Most int    `query:"most" minimum:"0" doc:"How many are wanted; 0 for all"`
}

// LinesAnswer are the lines of rows, in their order.
type LinesAnswer struct {
	Lines []string `json:"lines" nullable:"false"`
}

// TableAnswer is a part of the rows of a kind.
type TableAnswer struct {
	Revision int64          `json:"revision"`
	Kinds    map[string]int `json:"kinds" doc:"How many records there are of each kind"`
	Used     map[string]int `json:"used" doc:"In how many records of the kind each column holds something"`
	Found    int            `json:"found"`
	Where    int            `json:"where" doc:"How many rows stand before the record that was asked for; -1 where it is not among them"`
	From     int            `json:"from"`
	Rows     []TableRow     `json:"rows" nullable:"false"`
}

// TableRow is a record as a row.
type TableRow struct {
	Line     string   `json:"line"`
	At       int      `json:"at,omitempty" doc:"Which of its list it is, from 1, where its kind is ordered"`
	Cells    []string `json:"cells" nullable:"false" doc:"In the order of the kind's fields"`
	Comments []string `json:"comments,omitempty"`
}

// tables are what was worked out for the tables of a revision.
type tables struct {
	mu   sync.Mutex
	used map[*estate.Kind]map[string]int
	last struct { // who scrolls asks for the same rows, part by part
		kind     *estate.Kind
		question table.Question
		rows     []table.Row
	}
}

// of gives the rows that are asked for, and in how many records of the kind each column holds something.
func (t *tables) of(e *estate.Estate, k *estate.Kind, q table.Question) ([]table.Row, map[string]int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.used[k] == nil {
		if t.used == nil {
			t.used = map[*estate.Kind]map[string]int{}
		}
		t.used[k] = table.Used(e, k)
	}
	if t.last.kind != k || t.last.question != q {
		t.last.kind, t.last.question, t.last.rows = k, q, table.Rows(e, k, q)
	}
	return t.last.rows, t.used[k]
}

func kindNamed(word string) (*estate.Kind, error) {
	if k := estate.KindNamed(word); k != nil {
		return k, nil
	}
	detail := fmt.Sprintf("%q is no kind of record", word)
	if near := estate.Nearest(word, estate.KindWords()); near != "" {
		detail += " (nearest: " + near + ")"
	}
	return nil, &Problem{Title: "There is no such kind", Status: http.StatusUnprocessableEntity, Detail: detail}
}

// ordered is the kind of a word, where it has the column by which its records are to be put in order.
func ordered(kind, by string) (*estate.Kind, error) {
	k, err := kindNamed(kind)
	if err == nil && by != "" && !table.Has(k, by) {
		return nil, &Problem{Title: "There is no such column", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%s has no column %q", k.Word, by)}
	}
	return k, err
}

func (s *Server) getTable(ctx context.Context, in *TableQuestion) (*body[TableAnswer], error) {
	k, err := ordered(in.Kind, in.By)
	if err != nil {
		return nil, err
	}
	a := s.asked(ctx)
	rows, used := a.tables.of(a.Estate, k, table.Question{Like: in.Like, By: in.By, Down: in.Down})
	out := TableAnswer{Revision: a.Revision, Kinds: a.counted(), Used: used, Found: len(rows), Where: -1, From: min(in.From, len(rows)), Rows: []TableRow{}}
	for _, row := range rows[out.From:min(out.From+in.Most, len(rows))] {
		out.Rows = append(out.Rows, TableRow{estate.Line(row.Record), row.At, table.Cells(row.Record), row.Meta().Comments})
	}
	if in.Line != "" {
		out.Where = slices.IndexFunc(rows, func(row table.Row) bool { return estate.Line(row.Record) == in.Line })
	}
	return &body[TableAnswer]{out}, nil
}

func (s *Server) getLines(ctx context.Context, in *LinesQuestion) (*body[LinesAnswer], error) {
	k, err := ordered(in.Kind, in.By)
	if err != nil {
		return nil, err
	}
	a := s.asked(ctx)
	rows, _ := a.tables.of(a.Estate, k, table.Question{Like: in.Like, By: in.By, Down: in.Down})
	rows = rows[min(in.From, len(rows)):]
	if in.Most > 0 {
		rows = rows[:min(in.Most, len(rows))]
	}
	out := LinesAnswer{Lines: []string{}}
	for _, row := range rows {
		out.Lines = append(out.Lines, estate.Line(row.Record))
	}
	return &body[LinesAnswer]{out}, nil
}

// counted are how many records there are of each kind.
func (a *analysis) counted() map[string]int {
	out := map[string]int{}
	for _, k := range estate.Kinds {
		out[k.Word] = len(a.Estate.Of(k))
	}
	return out
}

// WriteQuestion is what cells are to hold: of some records of a kind, or of a new one.
type WriteQuestion struct {
	Kind  string            `json:"kind" maxLength:"40"`
	Lines []string          `json:"lines" nullable:"false" doc:"The records that are written anew; none for a new one"`
	Cells map[string]string `json:"cells" doc:"By column; an empty one takes out what is there"`
	Offer string            `json:"offer,omitempty" maxLength:"40" doc:"The column whose cell is being typed: what it could hold is answered too"`
}

// WriteAnswer is the change that this is.
type WriteAnswer struct {
	Remove  []string              `json:"remove" nullable:"false"`
	Add     []string              `json:"add" nullable:"false"`
	Now     string                `json:"now,omitempty" doc:"A single record as it stands then, without the place that it is given"`
	Meaning string                `json:"meaning,omitempty" doc:"The same, in words"`
	Fault   *table.CellFault      `json:"fault,omitempty" doc:"What is wrong with one of the cells: nothing is changed then"`
	At      string                `json:"at,omitempty" doc:"The record of several that cannot be written so"`
	Offers  []notation.Suggestion `json:"offers" nullable:"false" doc:"Each the whole of the cell"`
}

func (s *Server) postWrite(ctx context.Context, in *body[WriteQuestion]) (*body[WriteAnswer], error) {
	k, err := kindNamed(in.Body.Kind)
	if err != nil {
		return nil, err
	}
	out := WriteAnswer{Remove: []string{}, Add: []string{}, Offers: []notation.Suggestion{}}
	e := s.asked(ctx).Estate
	for column := range in.Body.Cells {
		if !table.Has(k, column) {
			out.Fault = &table.CellFault{Column: column, What: "there is no such column"}
			return &body[WriteAnswer]{out}, nil
		}
	}
	written := func(line string, placed estate.Placed, err error) bool {
		if err != nil {
			if !errors.As(err, &out.Fault) {
				out.Fault = &table.CellFault{What: err.Error()}
			}
			out.Remove, out.Add, out.At = []string{}, []string{}, line
			return false
		}
		if now := placed.Line(); now != line {
			out.Add = append(out.Add, now)
			if line != "" {
				out.Remove = append(out.Remove, line)
			}
		}
		out.Now, out.Meaning = estate.Line(placed.Record), k.Says(placed.Record)
		return true
	}
	if len(in.Body.Lines) == 0 {
		out.Offers = append(out.Offers, table.Offers(e, k, in.Body.Cells, in.Body.Offer)...)
		placed, err := table.Write(k, in.Body.Cells)
		written("", placed, err)
		return &body[WriteAnswer]{out}, nil
	}
	at := map[string]estate.Record{}
	for _, r := range e.Of(k) {
		at[estate.Line(r)] = r
	}
	for i, line := range in.Body.Lines {
		r := at[line]
		if r == nil {
			return nil, problem(fmt.Errorf("%w: %s", estate.ErrNotThere, line))
		}
		if i == 0 {
			out.Offers = append(out.Offers, table.Offers(e, k, table.With(r, in.Body.Cells), in.Body.Offer)...)
		}
		placed, err := table.Rewrite(r, in.Body.Cells)
		if !written(line, placed, err) {
			break
		}
	}
	if len(in.Body.Lines) > 1 {
		out.Now, out.Meaning = "", ""
	}
	return &body[WriteAnswer]{out}, nil
}

// DependsQuestion is which records would go.
type DependsQuestion struct {
	Lines []string `json:"lines" nullable:"false"`
}

// Dependent is a record that speaks of what goes.
type Dependent struct {
	Record  string   `json:"record"`
	Becomes string   `json:"becomes,omitempty" doc:"What it is without that; it goes too where this is not there"`
	Of      []string `json:"of" nullable:"false" doc:"The names that it speaks of"`
}

// DependsAnswer is what depends on some records.
type DependsAnswer struct {
	Depends []Dependent `json:"depends" nullable:"false"`
}

func (s *Server) postDepends(ctx context.Context, in *body[DependsQuestion]) (*body[DependsAnswer], error) {
	found, err := s.asked(ctx).Uses().Depending(in.Body.Lines)
	if err != nil {
		return nil, problem(err)
	}
	out := DependsAnswer{Depends: []Dependent{}}
	for _, d := range found {
		one := Dependent{Record: estate.Line(d.Record), Of: d.Of}
		if d.Becomes != nil {
			one.Becomes = estate.Line(d.Becomes)
		}
		out.Depends = append(out.Depends, one)
	}
	return &body[DependsAnswer]{out}, nil
}

// LineMark is a finding at one of its records.
type LineMark struct {
	Line  string         `json:"line"`
	Level findings.Level `json:"level"`
	Code  string         `json:"code"`
	Why   string         `json:"why"`
}

func (s *Server) getMarks(ctx context.Context, _ *none) (*body[[]LineMark], error) {
	report, err := s.report(ctx)
	if err != nil {
		return nil, problem(err)
	}
	there := map[string]bool{}
	for _, r := range s.asked(ctx).Estate.All() {
		there[estate.Line(r)] = true
	}
	out := []LineMark{}
	for _, f := range report.Findings {
		if line, is := markedLine(f, there); is {
			out = append(out, LineMark{line, f.Level, f.Code, f.Why})
		}
	}
	return &body[[]LineMark]{out}, nil
}
