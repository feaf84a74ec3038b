package survey

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/names"
	"steady-compass/core/parallel"
	"steady-compass/core/say"
	"steady-compass/core/trace"
)

// Row is a name on a port, as the table of names shows it.
type Row struct {
	Name      string       `json:"name"`
	Unicode   string       `json:"unicode,omitempty"` // the name as people write it (RFC 5890), where that is not the same
	Zone      string       `json:"zone"`
	For       []string     `json:"for" nullable:"false"` // the vantages it is for, where not everybody's
	Port      uint16       `json:"port"`
	Transport string       `json:"transport"`
	Verdict   flow.Outcome `json:"verdict"`
	AsMeant   bool         `json:"asMeant"` // the name is not for this vantage, and does not resolve there
	Mark      trace.Mark   `json:"mark"`
	Guessed   bool         `json:"guessed"` // nothing recorded gives this port
	Mends     int          `json:"mends"`
	Ways      []RowWay     `json:"ways" nullable:"false"`

	reads *memo.Reads // what it was worked out from
}

// Origin is what a row was worked out from: a row of the same name, port and origin says the same.
func (r *Row) Origin() *memo.Reads { return r.reads }

// RowWay is one way of a row.
type RowWay struct {
	Family  string       `json:"family"`
	Address string       `json:"address"`
	URLPath string       `json:"urlpath"`
	Outcome flow.Outcome `json:"outcome"`
	Inner   flow.Outcome `json:"inner,omitempty"`
	Cells   flow.Cells   `json:"cells"`
	Mark    trace.Mark   `json:"mark"`

	End      string `json:"-"` // the place whose listener took it last; "" for none
	Intended string `json:"-"` // the place that it is meant to reach, where something says so
}

// Target is what to trace for a row: the name and its port.
func (r *Row) Target() string {
	return r.Name + ":" + say.PortWord(r.Port, flow.ProtoOf(r.Transport))
}

// Like says whether a row has a word in it, in lower case: in its name, its verdict or anything on its way.
func (r *Row) Like(word string) bool {
	has := func(text string) bool { return strings.Contains(strings.ToLower(text), word) }
	return has(r.Target()) || has(r.Unicode) || has(string(r.Verdict)) || slices.ContainsFunc(r.Ways, func(w RowWay) bool {
		c := w.Cells
		return slices.ContainsFunc([]string{c.Answers, c.Edge, c.Router, c.LetsIn, c.Machine, c.Service, c.Site, c.Backend, c.Reason}, has)
	})
}

// Names gives the rows seen from a vantage.
func (s *Survey) Names(ctx context.Context, from string) ([]Row, error) {
	v, err := s.Tracer.VantageNamed(from)
	if err != nil {
		return nil, err
	}
	if rows, ok := s.knownRows(v.Word); ok {
		return rows, nil
	}
	return inTurn(ctx, s.lineage, s.lineage.naming, func(ctx context.Context) ([]Row, error) { return s.rowsFrom(ctx, v) })
}

// rowsFrom works out the rows from a vantage; they go on from the last ones.
func (s *Survey) rowsFrom(ctx context.Context, v flow.Vantage) ([]Row, error) {
	if rows, ok := s.knownRows(v.Word); ok {
		return rows, nil
	}
	all := s.Tracer.Names()
	former := s.lineage.former(v.Word)
	known := rowsOf(all, former.rows)
	touch := memo.Anything()
	if former.tracer != nil {
		touch = s.Tracer.Since(former.tracer.Model)
	}
	parts := parallel.Map(ctx, len(all), func(i int) []Row {
		if stand(known[i], all[i], touch) {
			return known[i]
		}
		return s.nameRows(all[i], v)
	})
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	rows := slices.Concat(parts...)
	if rows == nil {
		rows = []Row{}
	}
	s.mu.Lock()
	s.rows[v.Word] = rows
	s.mu.Unlock()
	s.lineage.keep(v.Word, formerRows{rows, s.Tracer})
	return rows, nil
}

func (s *Survey) knownRows(from string) ([]Row, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	rows, ok := s.rows[from]
	return rows, ok
}

// rowsOf are the rows that each of some names has among rows in the same order; none where it has none.
func rowsOf(all []*trace.Name, rows []Row) [][]Row {
	out := make([][]Row, len(all))
	for i := 0; i < len(all) && len(rows) > 0; {
		n := 1
		for n < len(rows) && rows[n].Name == rows[0].Name {
			n++
		}
		switch d := cmp.Or(strings.Compare(all[i].Zone, rows[0].Zone), trace.CompareNames(all[i].Name, rows[0].Name)); {
		case d < 0:
			i++
		case d > 0:
			rows = rows[n:]
		default:
			out[i], rows = rows[:n:n], rows[n:]
			i++
		}
	}
	return out
}

// stand says whether the rows of a name are what they were: nothing that they come by is touched.
func stand(old []Row, n *trace.Name, touch *memo.Touch) bool {
	if len(old) == 0 || old[0].Zone != n.Zone || !slices.Equal(old[0].For, n.From) {
		return false
	}
	return !slices.ContainsFunc(old, func(r Row) bool { return touch.Reading(r.reads) })
}

func (s *Survey) nameRows(n *trace.Name, v flow.Vantage) []Row {
	var reads memo.Reads // of the name: whatever touches one of its rows, touches all
	reads.Asked(n.Name)
	ports, known := s.Tracer.PortsReading(n.Name, &v, &reads)
	if !known {
		ports = ports[:1] // one guess is enough for a row
	}
	target := trace.Target{Text: n.Name, Name: n.Name}
	var out []Row
	for _, k := range ports {
		paths, followed := []trace.Path(nil), false
		if checked := s.checked.Load(); checked != nil {
			paths, followed = checked.Paths(n.Name, k, v.Word, &reads)
		}
		if !followed {
			paths = s.Tracer.TraceReading(target, k, v, &reads)
		}
		r := Row{reads: &reads, Name: n.Name, Unicode: names.Unicode(n.Name), Zone: n.Zone, For: n.From, Port: k.Port, Transport: k.Transport.String(), Verdict: trace.VerdictOf(paths), Guessed: !known, Ways: []RowWay{}}
		if r.For == nil {
			r.For = []string{}
		}
		mends := map[string]bool{}
		for i := range paths {
			p := &paths[i]
			r.Ways = append(r.Ways, RowWay{p.Family, p.Address, p.URLPath, p.Outcome, p.Inner, p.Cells, p.Mark, place(p.End), place(p.Intended)})
			for _, b := range p.Breaks {
				mends[b.Code+b.At+strings.Join(b.Records, "\n")] = true
			}
		}
		r.Mends = len(mends)
		r.AsMeant = r.Verdict == flow.Unresolved && len(n.From) > 0 && !slices.Contains(n.From, v.Word)
		r.Mark = trace.MarkOf(r.Verdict, r.AsMeant, r.Mends > 0)
		for i := range r.Ways {
			if w := &r.Ways[i]; r.AsMeant && w.Mark == trace.Stopping {
				w.Mark = trace.Ending
			}
		}
		out = append(out, r)
	}
	return out
}

// Named says whether the names from a vantage were worked out lately, so that to go on from there is soon done.
func (s *Survey) Named(from string) bool { return len(s.lineage.former(from).rows) > 0 }

// Unlike are the rows of two tables from one vantage, before an edit and after, without those at the start and the end that stand.
func Unlike(was, is []Row) (before, after []Row) {
	for len(was) > 0 && len(is) > 0 && was[0].reads == is[0].reads {
		was, is = was[1:], is[1:]
	}
	for len(was) > 0 && len(is) > 0 && was[len(was)-1].reads == is[len(is)-1].reads {
		was, is = was[:len(was)-1], is[:len(is)-1]
	}
	return was, is
}

// place is the place of an end, which may have its port behind it.
func place(end *string) string {
	if end == nil {
		return ""
	}
	word, _, _ := strings.Cut(*end, ":")
	return word
}
