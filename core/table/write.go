package table

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// CellFault is what is wrong with a cell. Column is empty where it is with the line.
type CellFault struct {
	Column   string `json:"column,omitempty"`
	What     string `json:"what"`
	Expected string `json:"expected,omitempty"`
	Nearest  string `json:"nearest,omitempty"`
}

func (f *CellFault) Error() string {
	text := f.What
	if f.Column != "" {
		text = f.Column + ": " + text
	}
	if f.Expected != "" {
		text += "; expected " + f.Expected
	}
	return text
}

// Write is the line of a kind that cells make, by their columns; those that are not given are empty. The error is a *CellFault.
func Write(k *estate.Kind, cells map[string]string) (estate.Placed, error) {
	w := writer{kind: k, line: k.Word}
	for i := range k.Fields {
		f := &k.Fields[i]
		text := strings.TrimSpace(cells[f.Column])
		if text == "" && f.Required && !instead(f, cells) {
			if wrong := w.wrong(); wrong != nil {
				return estate.Placed{}, wrong
			}
			return estate.Placed{}, &CellFault{Column: f.Column, What: "nothing stands here", Expected: f.Expected}
		}
		written, err := writtenAs(f, text)
		if err != nil {
			return estate.Placed{}, err
		}
		w.add(f.Column, written)
		if at := strings.TrimSpace(cells[Place]); i == 0 && k.Placed && at != "" {
			if n, err := strconv.Atoi(at); err != nil || n < 1 {
				return estate.Placed{}, &CellFault{Column: Place, What: fmt.Sprintf("%q is no place", at), Expected: "which of its list it is, from 1"}
			}
			w.add(Place, "at "+at)
		}
	}
	placed, comment, err := notation.ParseLine(w.line)
	if err != nil {
		return estate.Placed{}, w.fault(err)
	}
	if comment != "" {
		return estate.Placed{}, &CellFault{Column: w.last(), What: "what stands behind a # is a comment, and no value", Expected: "a note, or no #"}
	}
	for i := range k.Fields { // one cell is one value: what another would hold stands in that one
		f := &k.Fields[i]
		if strings.TrimSpace(cells[f.Column]) == "" && f.Print(placed.Record) != "" {
			return estate.Placed{}, &CellFault{Column: w.holding(f), What: fmt.Sprintf("%s stands in a cell of another column", f.Print(placed.Record)), Expected: "it in the column " + Title(f)}
		}
	}
	return placed, nil
}

// instead says whether the cell is filled in that may stand in a field's place.
func instead(f *estate.Field, cells map[string]string) bool {
	return f.Instead != "" && strings.TrimSpace(cells[f.Instead]) != ""
}

// Rewrite is a record with some of its cells written anew, an empty one taken out.
func Rewrite(r estate.Record, cells map[string]string) (estate.Placed, error) {
	return Write(estate.KindOf(r), With(r, cells))
}

// With are the cells of a record by their columns, some of them others.
func With(r estate.Record, cells map[string]string) map[string]string {
	all := map[string]string{}
	for i, text := range Cells(r) {
		all[estate.KindOf(r).Fields[i].Column] = text
	}
	maps.Copy(all, cells)
	return all
}

// Title is what a column is called: the word that opens it in a line, where it has one.
func Title(f *estate.Field) string {
	if f.Lead != "" {
		return f.Lead
	}
	return strings.ReplaceAll(f.Column, "_", " ")
}

// writtenAs is a cell as it stands in a line.
func writtenAs(f *estate.Field, text string) (string, error) {
	switch {
	case text == "":
		return "", nil
	case strings.ContainsAny(text, "\n\r"):
		return "", &CellFault{Column: f.Column, What: "a cell is one line", Expected: f.Expected}
	case f.Flag || f.Alone:
		if no := strings.EqualFold(text, "no"); no || strings.EqualFold(text, yes) || strings.EqualFold(text, f.Lead) {
			if no {
				return "", nil
			}
			return f.Lead, nil
		}
		if f.Flag {
			return "", &CellFault{Column: f.Column, What: fmt.Sprintf("%q cannot stand here", text), Expected: "yes, or nothing"}
		}
		if !strings.HasPrefix(text, `"`) {
			text = estate.Quote(text)
		}
	case f.Quoted:
		text = estate.Quote(text)
	}
	if f.Lead != "" {
		text = f.Lead + " " + text
	}
	return text, nil
}

// writer puts a line together, and knows which cell is where.
type writer struct {
	kind  *estate.Kind
	line  string
	cells []written
}

type written struct {
	column   string
	from, to int // in characters, from 1
	text     string
}

func (w *writer) add(column, text string) {
	if text == "" {
		return
	}
	w.line += " "
	from := utf8.RuneCountInString(w.line) + 1
	w.line += text
	w.cells = append(w.cells, written{column, from, utf8.RuneCountInString(w.line) + 1, text})
}

func (w *writer) last() string {
	if len(w.cells) == 0 {
		return ""
	}
	return w.cells[len(w.cells)-1].column
}

// holding is the column whose cell has a field's words among its own.
func (w *writer) holding(f *estate.Field) string {
	lead := f.Lead
	if i := slices.IndexFunc(w.cells, func(c written) bool { return lead != "" && slices.Contains(strings.Fields(c.text), lead) }); i >= 0 {
		return w.cells[i].column
	}
	if i := slices.IndexFunc(w.cells, func(c written) bool { return len(strings.Fields(c.text)) > 1 }); i >= 0 {
		return w.cells[i].column
	}
	return ""
}

// wrong is what is wrong with a cell of a line that is not whole yet; nil where nothing is but that it ends.
func (w *writer) wrong() *CellFault {
	_, _, err := notation.ParseLine(w.line)
	var at *estate.Fault
	if errors.As(err, &at) && at.Column < utf8.RuneCountInString(w.line)+1 {
		return w.fault(err)
	}
	return nil
}

// fault says which cell is wrong where a line cannot be read.
func (w *writer) fault(err error) *CellFault {
	var at *estate.Fault
	if !errors.As(err, &at) {
		return &CellFault{What: err.Error()}
	}
	out := &CellFault{What: at.What, Expected: at.Expected, Nearest: at.Nearest}
	for _, c := range w.cells {
		if at.Column >= c.from && at.Column <= c.to {
			out.Column = c.column
		}
	}
	return out
}

// Offers are what a cell could hold, given what the estate has names for and what stands in the cells before it: each as the whole cell.
func Offers(e *estate.Estate, k *estate.Kind, cells map[string]string, column string) []notation.Suggestion {
	at := slices.IndexFunc(k.Fields, func(f estate.Field) bool { return f.Column == column })
	if at < 0 || k.Fields[at].Flag || k.Fields[at].Quoted {
		return nil
	}
	line := k.Word
	for i := range k.Fields[:at] {
		if f := &k.Fields[i]; f.Required && !instead(f, cells) {
			written, err := writtenAs(f, strings.TrimSpace(cells[f.Column]))
			if err != nil || written == "" {
				line = "" // what comes first is not known yet
				break
			}
			line += " " + written
		}
	}
	f, text := &k.Fields[at], strings.TrimLeft(cells[column], " ")
	var out []notation.Suggestion
	if line != "" {
		if line += " "; f.Lead != "" {
			line += f.Lead + " "
		}
		found := notation.Complete(line+text, len(line)+len(text), e)
		head := text[:max(0, min(found.From-len(line), len(text)))]
		for _, s := range found.Words {
			if s.Detail != "option" {
				out = append(out, notation.Suggestion{Text: head + s.Text, Detail: s.Detail})
			}
		}
	}
	for _, choice := range f.Choices {
		if !slices.ContainsFunc(out, func(s notation.Suggestion) bool { return s.Text == choice }) && strings.HasPrefix(choice, strings.ToLower(text)) {
			out = append(out, notation.Suggestion{Text: choice})
		}
	}
	return out
}
