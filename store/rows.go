package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
)

// rankStep is the gap between the ranks of neighbours, so that a record can come between them
// without moving any.
const rankStep = 1 << 20

func table(k *estate.Kind) string { return "kind_" + k.Word }

func listTable(k *estate.Kind, f *estate.Field) string { return table(k) + "_" + f.Column }

func quoted(column string) string { return `"` + column + `"` }

// load reads the whole estate into memory, as it is at one moment. Records that are as they were before stay the same ones.
func (s *Store) load(ctx context.Context) error {
	conn, err := s.db.Connx(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	defer func() { _, _ = conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") }() // nothing was written
	stand := map[estate.Record]row{}
	var records []estate.Record
	for _, k := range estate.Kinds {
		list, err := loadKind(ctx, conn, k, stand)
		if err != nil {
			return fmt.Errorf("read the %s records: %w", k.Word, err)
		}
		records = append(records, list...)
	}
	var tail []string
	if err := conn.SelectContext(ctx, &tail, "SELECT comment FROM tail ORDER BY position"); err != nil {
		return err
	}
	revision, err := lastRevision(ctx, conn)
	if err != nil {
		return err
	}
	if err := s.loadStacks(ctx, conn); err != nil {
		return err
	}
	e := estate.New(records, tail)
	for _, k := range estate.Kinds {
		list := e.Of(k)
		if !slices.IsSortedFunc(list, func(a, b estate.Record) int { return cmp.Compare(stand[a].rank, stand[b].rank) }) {
			for _, r := range list { // an estate is not in the order written here
				stand[r] = row{stand[r].id, unranked}
			}
		}
	}
	if before := s.current.Load(); before != nil {
		e, stand = goneOn(before.Estate, e, stand)
	}
	s.rows = carry.MapOf(stand)
	s.current.Store(&Snapshot{e, revision})
	return nil
}

// goneOn is a loaded estate with the records of the one before in place of those that say the same, so that what was worked out
// of them is known still.
func goneOn(before, loaded *estate.Estate, stand map[estate.Record]row) (*estate.Estate, map[estate.Record]row) {
	next, err := before.Apply(estate.Difference(before, loaded))
	if err != nil {
		return loaded, stand
	}
	next.Tail = loaded.Tail // which nobody else has yet
	moved := make(map[estate.Record]row, len(stand))
	for _, k := range estate.Kinds {
		list, same := loaded.Of(k), next.Of(k)
		if len(list) != len(same) {
			return loaded, stand
		}
		for i, r := range list {
			if estate.Line(r) != estate.Line(same[i]) {
				return loaded, stand
			}
			moved[same[i]] = stand[r]
		}
	}
	return next, moved
}

// unranked is the rank of what is numbered anew with the next change of its kind.
const unranked = -1

func loadKind(ctx context.Context, conn *sqlx.Conn, k *estate.Kind, stand map[estate.Record]row) ([]estate.Record, error) {
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
		values, err := loadList(ctx, conn, listTable(k, f))
		if err != nil {
			return nil, err
		}
		lists[f.Column] = values
	}
	rows, err := conn.QueryxContext(ctx, "SELECT "+strings.Join(columns, ", ")+" FROM "+table(k)+" ORDER BY rank")
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
		stand[r] = at
		out = append(out, r)
	}
	return out, rows.Err()
}

func loadList(ctx context.Context, conn *sqlx.Conn, table string) (map[int64][]string, error) {
	var cells []struct {
		Record int64
		Value  string
	}
	if err := conn.SelectContext(ctx, &cells, "SELECT record, value FROM "+table+" ORDER BY record, position"); err != nil {
		return nil, err
	}
	out := map[int64][]string{}
	for _, c := range cells {
		out[c.Record] = append(out[c.Record], c.Value)
	}
	return out, nil
}

// writeRows makes the tables say what next says. Records that are in both estates keep their rows.
func (s *Store) writeRows(ctx context.Context, tx *sqlx.Tx, before, next *estate.Estate) (carry.Map[estate.Record, row], error) {
	rows := s.rows
	for _, k := range estate.Kinds {
		gone, come := estate.Changed(before, next, k)
		if len(gone)+len(come) == 0 {
			continue
		}
		var err error
		if rows, err = writeKind(ctx, tx, k, before, next, rows); err != nil {
			return rows, fmt.Errorf("write the %s records: %w", k.Word, err)
		}
	}
	if !slices.Equal(before.Tail, next.Tail) {
		if _, err := tx.ExecContext(ctx, "DELETE FROM tail"); err != nil {
			return rows, err
		}
		for i, comment := range next.Tail {
			if _, err := tx.ExecContext(ctx, "INSERT INTO tail (position, comment) VALUES (?, ?)", i, comment); err != nil {
				return rows, err
			}
		}
	}
	return rows, nil
}

// writeKind writes the records of a kind that came or went, and gives where each stands now.
func writeKind(ctx context.Context, tx *sqlx.Tx, k *estate.Kind, before, next *estate.Estate, rows carry.Map[estate.Record, row]) (carry.Map[estate.Record, row], error) {
	was, is := estate.Changed(before, next, k)
	stays := make(map[estate.Record]bool, len(is))
	for _, r := range is {
		stays[r] = true
	}
	var gone []estate.Record
	for _, r := range was {
		if !stays[r] {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table(k)+" WHERE id = ?", rows.Of(r).id); err != nil {
				return rows, err
			}
			gone = append(gone, r)
		}
	}
	list := next.Of(k)
	start, end := estate.Shared(before, next, k)
	low, high := int64(0), int64(0)
	if start > 0 {
		low = rows.Of(list[start-1]).rank
	}
	if end > 0 {
		high = rows.Of(list[len(list)-end]).rank
	}
	ranks, room := ranksFor(is, rows, low, high)
	if room = room && low != unranked && high != unranked; !room {
		is, ranks = list, evenRanks(len(list))
		// Out of the way first: ranks are unique at every moment.
		if _, err := tx.ExecContext(ctx, "UPDATE "+table(k)+" SET rank = -rank - 1"); err != nil {
			return rows, err
		}
	}
	come := map[estate.Record]row{}
	for i, r := range is {
		at, there := rows.Get(r)
		switch {
		case !there:
			id, err := insertRecord(ctx, tx, k, r, ranks[i])
			if err != nil {
				return rows, err
			}
			come[r] = row{id, ranks[i]}
		case !room:
			if _, err := tx.ExecContext(ctx, "UPDATE "+table(k)+" SET rank = ? WHERE id = ?", ranks[i], at.id); err != nil {
				return rows, err
			}
			come[r] = row{at.id, ranks[i]}
		}
	}
	return rows.After(gone, come), nil
}

// ranksFor gives each of some records a rank above low and, where that is not 0, below high: those that have one keep it where
// they are in order still, and new ones come between. false where there is no room, or the order changed: then all of the kind
// are numbered anew.
func ranksFor(list []estate.Record, rows carry.Map[estate.Record, row], low, high int64) (ranks []int64, room bool) {
	ranks = make([]int64, len(list))
	last := low
	for i := 0; i < len(list); {
		if at, there := rows.Get(list[i]); there {
			if at.rank <= last {
				return nil, false
			}
			ranks[i], last = at.rank, at.rank
			i++
			continue
		}
		end, next := i, high // the rank of the first behind them that has one
		for end < len(list) {
			if at, there := rows.Get(list[end]); there {
				next = at.rank
				break
			}
			end++
		}
		step := int64(rankStep)
		if next > 0 {
			step = (next - last) / int64(end-i+1)
		}
		if step < 1 {
			return nil, false
		}
		for ; i < end; i++ {
			last += step
			ranks[i] = last
		}
	}
	return ranks, high == 0 || last < high
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
