package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

const (
	// SessionIdle is after how long without a question a session ends.
	SessionIdle = 12 * time.Hour
	// seenEvery is how exactly it is kept when a session was used last: a question is not to wait for the disk.
	seenEvery = 10 * time.Minute
)

// Sessions keeps browsers' sessions. It is a store of github.com/alexedwards/scs/v2, which gives it digests of the cookies, not the cookies.
type Sessions struct{ *Store }

// FindCtx gives the data of a session that is not over.
func (s Sessions) FindCtx(ctx context.Context, token string) (data []byte, found bool, err error) {
	var row struct {
		Data []byte
		Seen int64
	}
	now := time.Now()
	err = s.db.GetContext(ctx, &row, "SELECT data, seen FROM session WHERE token = ? AND expiry > ? AND seen > ?", token, now.Unix(), now.Add(-SessionIdle).Unix())
	if errors.Is(err, sql.ErrNoRows) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, explained(s.file.name(), fmt.Errorf("read a session: %w", err))
	}
	if now.Sub(time.Unix(row.Seen, 0)) > seenEvery && s.readOnly == nil {
		if _, err := s.db.ExecContext(ctx, "UPDATE session SET seen = ? WHERE token = ?", now.Unix(), token); err != nil {
			return nil, false, explained(s.file.name(), fmt.Errorf("keep a session: %w", err))
		}
	}
	return row.Data, true, nil
}

// CommitCtx keeps a session; those that are over go.
func (s Sessions) CommitCtx(ctx context.Context, token string, data []byte, expiry time.Time) error {
	now := time.Now()
	if _, err := s.db.ExecContext(ctx, "DELETE FROM session WHERE expiry <= ? OR seen <= ?", now.Unix(), now.Add(-SessionIdle).Unix()); err != nil {
		return explained(s.file.name(), fmt.Errorf("keep a session: %w", err))
	}
	_, err := s.db.ExecContext(ctx, "INSERT INTO session (token, data, expiry, seen) VALUES (?, ?, ?, ?) ON CONFLICT (token) DO UPDATE SET data = excluded.data, expiry = excluded.expiry, seen = excluded.seen",
		token, data, expiry.Unix(), now.Unix())
	return explained(s.file.name(), err)
}

// DeleteCtx ends a session.
func (s Sessions) DeleteCtx(ctx context.Context, token string) error {
	_, err := s.db.ExecContext(ctx, "DELETE FROM session WHERE token = ?", token)
	return explained(s.file.name(), err)
}

// Find is FindCtx without a context.
func (s Sessions) Find(token string) ([]byte, bool, error) {
	return s.FindCtx(context.Background(), token)
}

// Commit is CommitCtx without a context.
func (s Sessions) Commit(token string, data []byte, expiry time.Time) error {
	return s.CommitCtx(context.Background(), token, data, expiry)
}

// Delete is DeleteCtx without a context.
func (s Sessions) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }
