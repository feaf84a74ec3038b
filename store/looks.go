package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"steady-compass/core/look"
)

// LooksKept is how long looks are kept where nothing else is said.
const LooksKept = 90 * 24 * time.Hour

// mostLooks is how many looks are kept at all, the newest.
const mostLooks = 200_000

// AddLooks keeps looks, and says how many of them were not there before; those older than an age go. A look is known by its moment, vantage,
// target, address and what was done. What was predicted is not kept: that hangs on the records, which change.
func (s *Store) AddLooks(ctx context.Context, looks []look.Look, age time.Duration) (added int, err error) {
	if why := s.ReadOnly(); why != nil {
		return 0, why
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, fmt.Errorf("keep looks: %w", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, tx.Rollback())
		}
	}()
	for i := range looks {
		l := looks[i].Unjudged()
		if l.Revision == 0 { // made where nobody knew it: the one that stood then
			if err := tx.GetContext(ctx, &l.Revision, "SELECT coalesce(max(revision), 0) FROM change WHERE julianday(at) <= julianday(?)", l.At.UTC().Format(time.RFC3339Nano)); err != nil {
				return 0, fmt.Errorf("keep looks: %w", err)
			}
		}
		result, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO look (at, vantage, target, did, came, address, revision, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			l.At.UTC().Format(lookTime), l.From, l.Target, string(l.Did), string(l.Came), l.Address, l.Revision, marshal(l))
		if err != nil {
			return 0, fmt.Errorf("keep looks: %s: %w", l.Target, err)
		}
		n, err := result.RowsAffected()
		if err != nil {
			return 0, fmt.Errorf("keep looks: %w", err)
		}
		added += int(n)
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM look WHERE at < ? OR id <= (SELECT max(id) FROM look) - ?", time.Now().Add(-age).UTC().Format(lookTime), mostLooks); err != nil {
		return 0, fmt.Errorf("keep looks: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return 0, fmt.Errorf("keep looks: %w", err)
	}
	return added, nil
}

// lookTime sorts as time does.
const lookTime = "2006-01-02T15:04:05.000000000Z"

// Looks are the newest look of each kind at each address of each target from each vantage; and how many there are in all, with the last
// one's number, by which one tells whether there are others.
func (s *Store) Looks(ctx context.Context) ([]look.Look, error) {
	var texts []string
	if err := s.db.SelectContext(ctx, &texts, `SELECT seen FROM look WHERE id IN (
		SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY vantage, target, did, address ORDER BY at DESC) AS n FROM look) WHERE n = 1) ORDER BY at DESC`); err != nil {
		return nil, fmt.Errorf("read looks: %w", err)
	}
	out := make([]look.Look, 0, len(texts))
	for _, text := range texts {
		var l look.Look
		if err := json.Unmarshal([]byte(text), &l); err != nil {
			return nil, fmt.Errorf("read looks: %w", err)
		}
		out = append(out, l)
	}
	return out, nil
}

// LastLooks are when each vantage was looked from last.
func (s *Store) LastLooks(ctx context.Context) (map[string]time.Time, error) {
	var rows []struct {
		Vantage string `db:"vantage"`
		At      string `db:"at"`
	}
	if err := s.db.SelectContext(ctx, &rows, "SELECT vantage, max(at) AS at FROM look WHERE came <> 'not-looked' GROUP BY vantage"); err != nil {
		return nil, fmt.Errorf("read looks: %w", err)
	}
	out := make(map[string]time.Time, len(rows))
	for _, row := range rows {
		at, err := time.Parse(lookTime, row.At)
		if err != nil {
			return nil, fmt.Errorf("read looks: %w", err)
		}
		out[row.Vantage] = at
	}
	return out, nil
}

// LastLook is the number of the look that was kept last; 0 where there is none.
func (s *Store) LastLook(ctx context.Context) (int64, error) {
	var last int64
	if err := s.db.GetContext(ctx, &last, "SELECT coalesce(max(id), 0) FROM look"); err != nil {
		return 0, fmt.Errorf("read looks: %w", err)
	}
	return last, nil
}
