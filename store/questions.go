package store

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Question is what somebody kept under a name, to be asked again: an address of the interface.
type Question struct {
	Name    string    `db:"name" json:"name"`
	Address string    `db:"address" json:"address" doc:"Of a view, with all that it is set to"`
	Who     string    `db:"who" json:"who"`
	At      time.Time `db:"at" json:"at"`
}

const (
	mostQuestions = 500
	longestName   = 80   // characters
	longestPlace  = 4000 // bytes
)

// ErrQuestion is wrapped by the errors for questions that cannot be kept as they are.
var ErrQuestion = errors.New("this question cannot be kept")

// Questions are those that are kept, by their names.
func (s *Store) Questions(ctx context.Context) ([]Question, error) {
	var rows []struct{ Name, Address, Who, At string }
	if err := s.db.SelectContext(ctx, &rows, "SELECT name, address, who, at FROM question ORDER BY name"); err != nil {
		return nil, fmt.Errorf("read the questions: %w", err)
	}
	out := []Question{}
	for _, r := range rows {
		at, err := time.Parse(time.RFC3339, r.At)
		if err != nil {
			return nil, fmt.Errorf("read the questions: %w", err)
		}
		out = append(out, Question{r.Name, r.Address, r.Who, at})
	}
	return out, nil
}

// KeepQuestion keeps a question, in place of one of the same name, however its letters are written. The error wraps ErrQuestion where it
// cannot be kept as it is.
func (s *Store) KeepQuestion(ctx context.Context, q Question) error {
	if why := s.ReadOnly(); why != nil {
		return why
	}
	if err := q.check(); err != nil {
		return err
	}
	result, err := s.db.ExecContext(ctx, `INSERT INTO question (name, address, who, at)
		SELECT ?1, ?2, ?3, ?4 WHERE (SELECT count(*) FROM question) < ?5 OR EXISTS (SELECT 1 FROM question WHERE name = ?1)
		ON CONFLICT (name) DO UPDATE SET name = excluded.name, address = excluded.address, who = excluded.who, at = excluded.at`,
		q.Name, q.Address, q.Who, q.At.UTC().Format(time.RFC3339), mostQuestions)
	if err != nil {
		return fmt.Errorf("keep a question: %w", err)
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("%w: there are %d already", ErrQuestion, mostQuestions))
	}
	return nil
}

// DropQuestion takes a question away; false where there is none of that name.
func (s *Store) DropQuestion(ctx context.Context, name string) (bool, error) {
	if why := s.ReadOnly(); why != nil {
		return false, why
	}
	result, err := s.db.ExecContext(ctx, "DELETE FROM question WHERE name = ?", name)
	if err != nil {
		return false, fmt.Errorf("take a question away: %w", err)
	}
	n, err := result.RowsAffected()
	return n > 0, err
}

func (q Question) check() error {
	wrong := func(form string, words ...any) error {
		return fmt.Errorf("%w: %s", ErrQuestion, fmt.Sprintf(form, words...))
	}
	switch {
	case strings.TrimSpace(q.Name) == "":
		return wrong("it has no name")
	case q.Name != strings.TrimSpace(q.Name) || strings.ContainsFunc(q.Name, unicode.IsControl) || !utf8.ValidString(q.Name):
		return wrong("its name has blanks around it, or is no text")
	case utf8.RuneCountInString(q.Name) > longestName:
		return wrong("its name is longer than %d characters", longestName)
	case len(q.Address) > longestPlace:
		return wrong("its address is longer than %d bytes", longestPlace)
	}
	// It is gone to by a click: it is of this interface, and of nothing else.
	u, err := url.Parse(q.Address)
	if err != nil || u.IsAbs() || u.Host != "" || u.User != nil || !strings.HasPrefix(q.Address, "/") || strings.HasPrefix(q.Address, "//") ||
		strings.ContainsAny(q.Address, "\\\n\r\t") || strings.HasPrefix(u.Path, "/api") {
		return wrong("%q is no address of this interface; expected one as /?show=stops", q.Address)
	}
	return nil
}
