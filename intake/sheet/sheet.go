// Package sheet reads and writes records of one kind as a table of comma-separated values (RFC 4180), for those who keep
// their forwards and rules in a sheet: a column a field, named as in the notation, and a row a record.
package sheet

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

// name is what a column is called: the word that opens the field in a line, else the field's own name.
func name(f *estate.Field) string {
	if f.Lead != "" {
		return f.Lead
	}
	return f.Column
}

// Write writes the records of a kind, in their order.
func Write(e *estate.Estate, kind string) (string, error) {
	k := estate.KindNamed(kind)
	if k == nil {
		return "", fmt.Errorf("%q is no kind of record; expected one as forward or rule", kind)
	}
	var b strings.Builder
	w := csv.NewWriter(&b)
	head := make([]string, len(k.Fields))
	for i := range k.Fields {
		head[i] = name(&k.Fields[i])
	}
	_ = w.Write(head) // a strings.Builder does not fail
	for _, r := range e.Of(k) {
		row := make([]string, len(k.Fields))
		for i := range k.Fields {
			f := &k.Fields[i]
			if row[i] = text(strings.Join(f.Values(r), ",")); f.Flag && row[i] != "" {
				row[i] = "yes"
			}
		}
		_ = w.Write(row)
	}
	w.Flush()
	return b.String(), nil
}

// text is a cell that a sheet takes for text: one that would be a formula stands behind an apostrophe, as one types it there.
func text(cell string) string {
	if isFormula(cell) {
		return "'" + cell
	}
	return cell
}

// cellText undoes text.
func cellText(cell string) string {
	if strings.HasPrefix(cell, "'") && isFormula(cell[1:]) {
		return cell[1:]
	}
	return cell
}

// isFormula says whether a sheet would reckon with a cell, however many apostrophes are before it.
func isFormula(cell string) bool {
	cell = strings.TrimLeft(cell, "'")
	return cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0]))
}

// Read reads a table whose columns say of which kind its rows are. Rows that cannot be read are faults, by line and column.
func Read(file, text string) intake.Reading {
	var out intake.Reading
	fault := func(line, column int, what, expected string) {
		out.Faults = intake.AddFault(out.Faults, intake.FileFault{File: file, Line: line, Column: column, What: what, Expected: expected})
	}
	in := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	in.FieldsPerRecord = -1
	in.TrimLeadingSpace = true
	if head, _, _ := strings.Cut(text, "\n"); strings.Count(head, ";") > strings.Count(head, ",") {
		in.Comma = ';' // as sheets write where the comma parts decimals
	}
	head, err := in.Read()
	if err != nil {
		fault(1, 1, "there is no first row", "the names of the columns, as router,bind,to,from")
		return out
	}
	for i := range head {
		head[i] = strings.ToLower(strings.TrimSpace(head[i]))
	}
	kind, columns := kindOf(head)
	if kind == nil {
		fault(1, 1, fmt.Sprintf("no kind of record has the columns %s", strings.Join(head, ", ")), "those of one kind: "+usage("forward")+"; "+usage("rule"))
		return out
	}
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return out
		}
		var broken *csv.ParseError
		if errors.As(err, &broken) {
			fault(broken.Line, broken.Column, broken.Err.Error(), "a quoted cell that ends with its quote")
			return out
		}
		line, _ := in.FieldPos(0)
		if !slices.ContainsFunc(row, func(cell string) bool { return strings.TrimSpace(cell) != "" }) {
			continue
		}
		r := kind.New()
		good := true
		for i, cell := range row {
			cell = cellText(strings.TrimSpace(cell))
			_, at := in.FieldPos(i)
			if i >= len(columns) && cell != "" {
				fault(line, at, fmt.Sprintf("%q stands in a column without a name", cell), fmt.Sprintf("%d columns", len(columns)))
				good = false
			}
			if i >= len(columns) || cell == "" {
				continue
			}
			if err := load(columns[i], r, cell); err != nil {
				var wrong *estate.Fault
				if errors.As(err, &wrong) {
					fault(line, at, head[i]+": "+wrong.What, wrong.Expected)
				} else {
					fault(line, at, head[i]+": "+err.Error(), columns[i].Expected)
				}
				good = false
			}
		}
		for i := range kind.Fields {
			if f := &kind.Fields[i]; good && f.Required && f.Print(r) == "" {
				fault(line, 1, name(f)+" is missing", f.Expected)
				good = false
			}
		}
		if !good {
			continue
		}
		if err := estate.Complete(r); err != nil {
			fault(line, 1, err.Error(), kind.Usage())
			continue
		}
		read, _, err := notation.ParseLine(estate.Line(r)) // what may not stand together is said there
		if err != nil {
			fault(line, 1, err.Error(), kind.Usage())
			continue
		}
		out.Records = append(out.Records, read.Record)
	}
}

// load sets a field by a cell. A flag is set by a word that says yes.
func load(f *estate.Field, r estate.Record, cell string) error {
	if !f.Flag {
		if f.Column != "note" {
			cell = strings.ReplaceAll(strings.ReplaceAll(cell, ", ", ","), " ,", ",")
		}
		return f.Load(r, []string{cell})
	}
	switch strings.ToLower(cell) {
	case "yes", "y", "true", "1", "x", f.Lead:
		return f.Load(r, []string{"1"})
	case "no", "n", "false", "0", "-":
		return nil
	}
	return fmt.Errorf("%q is neither yes nor no", cell)
}

// kindOf is the kind that has all of some columns and needs no other; nil where none has.
func kindOf(head []string) (*estate.Kind, []*estate.Field) {
	for _, k := range estate.Kinds {
		columns := make([]*estate.Field, len(head))
		all := true
		for i, h := range head {
			at := slices.IndexFunc(k.Fields, func(f estate.Field) bool { return name(&f) == h || f.Column == h })
			if at < 0 {
				all = false
				break
			}
			columns[i] = &k.Fields[at]
		}
		for i := range k.Fields {
			f := &k.Fields[i]
			all = all && (!f.Required || slices.Contains(columns, f))
		}
		if all {
			return k, columns
		}
	}
	return nil, nil
}

func usage(kind string) string {
	k := estate.KindNamed(kind)
	words := make([]string, len(k.Fields))
	for i := range k.Fields {
		words[i] = name(&k.Fields[i])
	}
	return strings.Join(words, ",")
}
