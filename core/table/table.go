// Package table has the records of a kind as rows and columns: found, put in order, and written from cells. All of it comes from the
// kind's declaration.
package table

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
)

// Place is the column of ordered kinds that says which, from 1, of its group a line is.
const Place = "at"

// yes is the cell of a field that is there without a word of its own.
const yes = "yes"

// Question is which rows of a kind are wanted, and in which order.
type Question struct {
	Like string // words that are all in the line or its comments; COLUMN=WORD looks in one column, and without a word for where it is empty
	By   string // the column to go by; "" for the order of the estate
	Down bool   // the last first; rows without a value stay last
}

// Row is a record, and which of its group it is; 0 where its kind has no order.
type Row struct {
	estate.Record
	At int
}

// Rows are the records of a kind that are asked for.
func Rows(e *estate.Estate, k *estate.Kind, q Question) []Row {
	all := e.Of(k)
	likes := likesOf(k, q.Like)
	out := make([]Row, 0, len(all))
	places := map[string]int{}
	for _, r := range all {
		row := Row{Record: r}
		if k.Placed {
			group := estate.GroupOf(r)
			places[group]++
			row.At = places[group]
		}
		if !slices.ContainsFunc(likes, func(l like) bool { return !l.is(row) }) {
			out = append(out, row)
		}
	}
	order(out, k, q)
	return out
}

func order(rows []Row, k *estate.Kind, q Question) {
	cell := cellsOf(k, q.By)
	if cell == nil {
		if q.Down {
			slices.Reverse(rows)
		}
		return
	}
	type keyed struct {
		key string
		row Row
	}
	list := make([]keyed, len(rows))
	for i, row := range rows {
		list[i] = keyed{sortKey(k, q.By, cell(row)), row}
	}
	slices.SortStableFunc(list, func(a, b keyed) int {
		switch {
		case a.key == "" || b.key == "":
			return cmp.Compare(len(b.key), len(a.key)) // nothing comes last
		case q.Down:
			return strings.Compare(b.key, a.key)
		}
		return strings.Compare(a.key, b.key)
	})
	for i := range list {
		rows[i] = list[i].row
	}
}

// Used says in how many records of a kind each column holds something.
func Used(e *estate.Estate, k *estate.Kind) map[string]int {
	out := map[string]int{}
	for _, r := range e.Of(k) {
		for i := range k.Fields {
			if k.Fields[i].Print(r) != "" {
				out[k.Fields[i].Column]++
			}
		}
	}
	return out
}

// Has says whether a kind has a column.
func Has(k *estate.Kind, column string) bool { return cellsOf(k, column) != nil }

// Cell is a field of a record by itself: what stands behind its lead, a text without its quotes, "yes" where there is only the lead.
func Cell(f *estate.Field, r estate.Record) string {
	if f.Quoted {
		return strings.Join(f.Values(r), "")
	}
	text := f.Print(r)
	switch {
	case text == "":
		return ""
	case f.Flag || text == f.Lead:
		return yes
	case f.Lead != "":
		return strings.TrimPrefix(text, f.Lead+" ")
	}
	return text
}

// Cells are all fields of a record, in the order of its kind's.
func Cells(r estate.Record) []string {
	k := estate.KindOf(r)
	out := make([]string, len(k.Fields))
	for i := range k.Fields {
		out[i] = Cell(&k.Fields[i], r)
	}
	return out
}

// cellsOf gives a column's cell of each row; nil where the kind has no such column.
func cellsOf(k *estate.Kind, column string) func(Row) string {
	if column == Place && k.Placed {
		return func(row Row) string { return strconv.Itoa(row.At) }
	}
	i := slices.IndexFunc(k.Fields, func(f estate.Field) bool { return f.Column == column })
	if i < 0 {
		return nil
	}
	return func(row Row) string { return Cell(&k.Fields[i], row.Record) }
}

// like is one of the words that a row is found by.
type like struct {
	word string
	in   func(Row) string // the cell; nil for the whole line
}

func likesOf(k *estate.Kind, text string) []like {
	var out []like
	for _, word := range strings.Fields(strings.ToLower(text)) {
		column, value, named := strings.Cut(word, "=")
		if cell := cellsOf(k, column); named && cell != nil {
			out = append(out, like{value, cell})
		} else {
			out = append(out, like{word: word})
		}
	}
	return out
}

func (l like) is(row Row) bool {
	holds := func(text string) bool { return strings.Contains(strings.ToLower(text), l.word) }
	switch {
	case l.in != nil && l.word == "":
		return l.in(row) == ""
	case l.in != nil:
		return holds(l.in(row))
	}
	return holds(estate.Line(row.Record)) || slices.ContainsFunc(row.Meta().Comments, holds)
}

// sortKey is a text by which cells stand in their order when compared byte by byte: addresses by their bits, counts and durations by size, and
// in all else the numbers by size. It is empty for an empty cell.
func sortKey(k *estate.Kind, column, cell string) string {
	if cell == "" {
		return ""
	}
	if slices.ContainsFunc(k.Fields, func(f estate.Field) bool { return f.Column == column && f.Number && !f.Flag }) {
		if n, err := estate.ParseSeconds(cell); err == nil {
			return bySize(strconv.Itoa(int(n)))
		}
	}
	first, _, _ := strings.Cut(cell, ",")
	if p, err := netip.ParsePrefix(first); err == nil {
		return byBits(p.Addr(), byte(p.Bits())) + bySize(cell)
	}
	if a, err := netip.ParseAddr(first); err == nil {
		return byBits(a, 255) + bySize(cell)
	}
	if a, err := netip.ParseAddrPort(first); err == nil {
		return byBits(a.Addr(), 255) + string(binary.BigEndian.AppendUint16(nil, a.Port())) + bySize(cell)
	}
	return bySize(cell)
}

// byBits puts IPv4 before IPv6, and both before names and numbers.
func byBits(a netip.Addr, length byte) string {
	family := "\x01"
	if a.Is6() {
		family = "\x02"
	}
	return family + string(a.AsSlice()) + string(length)
}

// bySize has each number of a text preceded by how long it is: of two numbers the longer is the larger.
func bySize(text string) string {
	var b strings.Builder
	for text = strings.ToLower(text); text != ""; {
		digits := len(text) - len(strings.TrimLeft(text, "0123456789"))
		if digits == 0 {
			b.WriteByte(text[0])
			text = text[1:]
			continue
		}
		number := strings.TrimLeft(text[:digits], "0")
		b.WriteByte('0')
		b.WriteByte(byte(min(len(number), 255)))
		b.WriteString(number)
		text = text[digits:]
	}
	return b.String()
}
