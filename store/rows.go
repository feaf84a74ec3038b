package store

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"

	"steady-compass/core/estate"
)

// rankStep is the gap between the ranks of neighbours, so that a record can come between them
// without moving any.
const rankStep = 1 << 20

func table(k *estate.Kind) string { return "kind_" + k.Word }

func listTable(k *estate.Kind, f *estate.Field) string { return table(k) + "_" + f.Column }

func quoted(column string) string { return `"` + column + `"` }

// load reads the whole estate into memory.
func (s *Store) load(ctx context.Context) error {
	s.rows = map[estate.Record]row{}
	var records []estate.Record
	for _, k := range estate.Kinds {
		list, err := s.loadKind(ctx, k)
		if err != nil {
			return fmt.Errorf("read the %s records: %w", k.Word, err)
		}
		records = append(records, list...)
	}
	var tail []string
	if err := s.db.SelectContext(ctx, &tail, "SELECT comment FROM tail ORDER BY position"); err != nil {
		return err
	}
	var revision int64
	if err := s.db.GetContext(ctx, &revision, "SELECT coalesce(max(revision), 0) FROM change"); err != nil {
		return err
	}
	s.current.Store(&Snapshot{estate.New(records, tail), revision})
	return nil
}

func (s *Store) loadKind(ctx context.Context, k *estate.Kind) ([]estate.Record, error) {
	lists := map[string]map[int64][]string{}
	columns := []string{"id", "rank", "comments"}
	var plain []*estate.Field
	for i := range k.Fields {
		f := &k.Fields[i]
		if !f.List {
			columns = append(columns, quoted(f.Column))
			plain = append(plain, f)
			continue
		}
		values, err := s.loadList(ctx, listTable(k, f))
		if err != nil {
			return nil, err
		}
		lists[f.Column] = values
	}
	rows, err := s.db.QueryxContext(ctx, "SELECT "+strings.Join(columns, ", ")+" FROM "+table(k)+" ORDER BY rank")
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	var out []estate.Record
	for rows.Next() {
		cells, err := rows.SliceScan()
		if err != nil {
			return nil, err
		}
		at := row{cells[0].(int64), cells[1].(int64)}
		r := k.New()
		if text := cells[2].(string); text != "" {
			r.Meta().Comments = strings.Split(text, "\n")
		}
		for i, f := range plain {
			if cell := cells[3+i]; cell != nil {
				if err := f.Load(r, []string{fmt.Sprint(cell)}); err != nil {
					return nil, fmt.Errorf("row %d, %s: %w", at.id, f.Column, err)
				}
			}
		}
		for i := range k.Fields {
			if f := &k.Fields[i]; f.List && len(lists[f.Column][at.id]) > 0 {
				if err := f.Load(r, lists[f.Column][at.id]); err != nil {
					return nil, fmt.Errorf("row %d, %s: %w", at.id, f.Column, err)
				}
			}
		}
		if err := estate.Complete(r); err != nil {
			return nil, fmt.Errorf("row %d: %w", at.id, err)
		}
		s.rows[r] = at
		out = append(out, r)
	}
	return out, rows.Err()
}

func (s *Store) loadList(ctx context.Context, table string) (map[int64][]string, error) {
	var cells []struct {
		Record int64
		Value  string
	}
	if err := s.db.SelectContext(ctx, &cells, "SELECT record, value FROM "+table+" ORDER BY record, position"); err != nil {
		return nil, err
	}
	out := map[int64][]string{}
	for _, c := range cells {
		out[c.Record] = append(out[c.Record], c.Value)
	}
	return out, nil
}

// writeRows makes the tables say what next says. Records that are in both estates keep their rows.
func (s *Store) writeRows(ctx context.Context, tx *sqlx.Tx, before, next *estate.Estate) (map[estate.Record]row, error) {
	rows := s.rows
	changed := false
	for _, k := range estate.Kinds {
		a, b := before.Of(k), next.Of(k)
		if len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) {
			continue
		}
		if !changed {
			changed = true
			rows = make(map[estate.Record]row, len(s.rows))
			for r, at := range s.rows {
				rows[r] = at
			}
		}
		if err := writeKind(ctx, tx, k, a, b, rows); err != nil {
			return nil, fmt.Errorf("write the %s records: %w", k.Word, err)
		}
	}
	if !sameStrings(before.Tail, next.Tail) {
		if _, err := tx.ExecContext(ctx, "DELETE FROM tail"); err != nil {
			return nil, err
		}
		for i, comment := range next.Tail {
			if _, err := tx.ExecContext(ctx, "INSERT INTO tail (position, comment) VALUES (?, ?)", i, comment); err != nil {
				return nil, err
			}
		}
	}
	return rows, nil
}

func writeKind(ctx context.Context, tx *sqlx.Tx, k *estate.Kind, before, next []estate.Record, rows map[estate.Record]row) error {
	stays := make(map[estate.Record]bool, len(next))
	for _, r := range next {
		stays[r] = true
	}
	for _, r := range before {
		if !stays[r] {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table(k)+" WHERE id = ?", rows[r].id); err != nil {
				return err
			}
			delete(rows, r)
		}
	}
	ranks, renumber := ranksFor(next, rows)
	if renumber {
		// Out of the way first: ranks are unique at every moment.
		if _, err := tx.ExecContext(ctx, "UPDATE "+table(k)+" SET rank = -rank - 1"); err != nil {
			return err
		}
	}
	for i, r := range next {
		at, there := rows[r]
		switch {
		case !there:
			id, err := insertRecord(ctx, tx, k, r, ranks[i])
			if err != nil {
				return err
			}
			rows[r] = row{id, ranks[i]}
		case renumber:
			if _, err := tx.ExecContext(ctx, "UPDATE "+table(k)+" SET rank = ? WHERE id = ?", ranks[i], at.id); err != nil {
				return err
			}
			rows[r] = row{at.id, ranks[i]}
		}
	}
	return nil
}

// ranksFor gives each record a rank: those that have one keep it where they are in order still, and new ones
// come between. Where there is no room, or the order changed, all are numbered anew.
func ranksFor(list []estate.Record, rows map[estate.Record]row) (ranks []int64, renumber bool) {
	ranks = make([]int64, len(list))
	last := int64(0)
	for i := 0; i < len(list); {
		if at, there := rows[list[i]]; there {
			if at.rank <= last {
				return evenRanks(len(list)), true
			}
			ranks[i], last = at.rank, at.rank
			i++
			continue
		}
		end := i
		for end < len(list) {
			if _, there := rows[list[end]]; there {
				break
			}
			end++
		}
		step := int64(rankStep)
		if end < len(list) {
			step = (rows[list[end]].rank - last) / int64(end-i+1)
		}
		if step < 1 {
			return evenRanks(len(list)), true
		}
		for ; i < end; i++ {
			last += step
			ranks[i] = last
		}
	}
	return ranks, false
}

func evenRanks(n int) []int64 {
	ranks := make([]int64, n)
	for i := range ranks {
		ranks[i] = int64(i+1) * rankStep
	}
	return ranks
}

func insertRecord(ctx context.Context, tx *sqlx.Tx, k *estate.Kind, r estate.Record, rank int64) (int64, error) {
	columns := []string{"rank", "comments"}
	values := []any{rank, strings.Join(r.Meta().Comments, "\n")}
	for i := range k.Fields {
		f := &k.Fields[i]
		if f.List {
			continue
		}
		words := f.Values(r)
		if len(words) == 0 {
			continue
		}
		columns = append(columns, quoted(f.Column))
		if !f.Number {
			values = append(values, words[0])
			continue
		}
		n, err := number(words[0])
		if err != nil {
			return 0, err
		}
		values = append(values, n)
	}
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(values)), ", ")
	result, err := tx.ExecContext(ctx, "INSERT INTO "+table(k)+" ("+strings.Join(columns, ", ")+") VALUES ("+marks+")", values...)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", estate.Line(r), err)
	}
	id, err := result.LastInsertId()
	if err != nil {
		return 0, err
	}
	for i := range k.Fields {
		f := &k.Fields[i]
		if !f.List {
			continue
		}
		for position, value := range f.Values(r) {
			if _, err := tx.ExecContext(ctx, "INSERT INTO "+listTable(k, f)+" (record, position, value) VALUES (?, ?, ?)", id, position, value); err != nil {
				return 0, err
			}
		}
	}
	return id, nil
}

// number is a count, or a duration in seconds.
func number(word string) (int64, error) {
	if n, err := strconv.ParseInt(word, 10, 64); err == nil {
		return n, nil
	}
	s, err := estate.ParseSeconds(word)
	return int64(s), err
}
