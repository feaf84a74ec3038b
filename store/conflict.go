package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// Conflict is an edit that meets lines which have changed since the revision it was made on.
// Nothing of it is kept.
type Conflict struct {
	Base, Current int64
	Clashes       []Clash
}

// Clash is one line that an edit and somebody else changed.
type Clash struct {
	Line   string    `json:"line" doc:"As it was; empty where only the order is another, in which a place was said"`
	Mine   string    `json:"mine" doc:"As the edit has it; empty where it takes it out"`
	Theirs string    `json:"theirs" doc:"As it is now; empty where it is gone"`
	Who    string    `json:"who"`
	At     time.Time `json:"at"`
}

func (c *Conflict) Error() string {
	lines := make([]string, len(c.Clashes))
	for i, clash := range c.Clashes {
		lines[i] = cmp.Or(clash.Line, clash.Theirs)
	}
	return "somebody has changed the same line meanwhile, and nothing was kept: " + strings.Join(lines, "; ")
}

// checkBase refuses an edit made on an older revision where the changes since touched its lines, or the order
// among which it places one.
func (s *Store) checkBase(ctx context.Context, e Edit, now Snapshot) error {
	switch {
	case e.Base == now.Revision:
		return nil
	case e.Base > now.Revision:
		return fmt.Errorf("revision %d is not there yet; the estate is at %d", e.Base, now.Revision)
	}
	since, err := s.since(ctx, e.Base)
	if err != nil {
		return err
	}
	placed := map[string]bool{} // the groups in which the edit says a place
	for _, p := range e.Change.Add {
		if p.At > 0 {
			placed[groupKey(p.Record)] = true
		}
	}
	lines, groups := map[string]bool{}, map[string]string{} // of a group, the line that changed last
	for _, c := range since {
		for _, line := range c.lines() {
			lines[line] = true
			if len(placed) > 0 {
				if p, _, err := notation.ParseLine(line); err == nil && p.Record != nil {
					groups[groupKey(p.Record)] = line
				}
			}
		}
	}
	var met []string
	for _, line := range e.Change.Remove {
		if lines[line] {
			met = append(met, line)
		}
	}
	for _, p := range e.Change.Add {
		line := estate.Line(p.Record)
		if lines[line] && !slices.Contains(met, line) {
			met = append(met, line)
			continue
		}
		if theirs := groups[groupKey(p.Record)]; p.At > 0 && theirs != "" && len(met) == 0 {
			by, err := s.lastThatTouched(ctx, theirs)
			if err != nil {
				return err
			}
			return &Conflict{e.Base, now.Revision, []Clash{{Mine: p.Line(), Theirs: theirs, Who: by.who, At: by.at}}}
		}
	}
	if len(met) == 0 {
		return nil
	}
	return s.conflict(ctx, e, now, met, nil)
}

// conflict is the error for an edit that meets lines which are not as they were. Where nobody's change tells what became of
// them, it is the error given.
func (s *Store) conflict(ctx context.Context, e Edit, now Snapshot, met []string, otherwise error) error {
	c := &Conflict{Base: e.Base, Current: now.Revision}
	for _, line := range met {
		clash := Clash{Line: line, Mine: instead(line, e.Change.Remove, added(e.Change))}
		if !slices.Contains(e.Change.Remove, line) {
			clash.Mine = line // it is to come
		}
		by, err := s.lastThatTouched(ctx, line)
		if errors.Is(err, errNobody) {
			continue
		}
		if err != nil {
			return err
		}
		clash.Theirs, clash.Who, clash.At = instead(line, by.change.Remove, by.change.added()), by.who, by.at
		if slices.Contains(by.change.added(), line) {
			clash.Theirs = line
		}
		// What came in its place may have been changed again.
		for range maxFollowed {
			if clash.Theirs == "" || now.Estate.Has(clash.Theirs) {
				break
			}
			if by, err = s.lastThatTouched(ctx, clash.Theirs); err != nil {
				break
			}
			clash.Theirs, clash.Who, clash.At = instead(clash.Theirs, by.change.Remove, by.change.added()), by.who, by.at
		}
		c.Clashes = append(c.Clashes, clash)
	}
	if len(c.Clashes) == 0 {
		if otherwise == nil {
			otherwise = fmt.Errorf("%w: %s", estate.ErrNotThere, strings.Join(met, "; "))
		}
		return otherwise
	}
	return c
}

// maxFollowed is how often one line is followed through the changes that it was changed again by.
const maxFollowed = 100

// instead is the line that a change puts in place of one that it takes out: of those of the same kind, the one as far along;
// "" where it only takes it out.
func instead(line string, removed, added []string) string {
	kind, _, _ := strings.Cut(line, " ")
	ofKind := func(list []string) (out []string) {
		for _, l := range list {
			if word, _, _ := strings.Cut(l, " "); word == kind {
				out = append(out, l)
			}
		}
		return out
	}
	came := ofKind(added)
	if i := slices.Index(ofKind(removed), line); i >= 0 && i < len(came) {
		return came[i]
	}
	return ""
}

func added(c estate.Change) []string {
	out := make([]string, len(c.Add))
	for i, p := range c.Add {
		out[i] = estate.Line(p.Record)
	}
	return out
}

var errNobody = errors.New("no change speaks of the line")

// touching is a change that speaks of a line.
type touching struct {
	change wireChange
	who    string
	at     time.Time
}

// lastThatTouched is the newest change that took out or brought a line.
func (s *Store) lastThatTouched(ctx context.Context, line string) (touching, error) {
	quoted, err := json.Marshal(line)
	if err != nil {
		return touching{}, err
	}
	var rows []struct{ At, Who, Forward string }
	if err := s.db.SelectContext(ctx, &rows, "SELECT at, who, forward FROM change WHERE instr(forward, ?) > 0 ORDER BY revision DESC LIMIT 1", string(quoted)); err != nil {
		return touching{}, fmt.Errorf("read the log: %w", err)
	}
	if len(rows) == 0 {
		return touching{}, errNobody
	}
	out := touching{who: rows[0].Who}
	if out.at, err = time.Parse(time.RFC3339Nano, rows[0].At); err != nil {
		return touching{}, fmt.Errorf("read the log: %w", err)
	}
	if err := json.Unmarshal([]byte(rows[0].Forward), &out.change); err != nil {
		return touching{}, fmt.Errorf("read the log: %w", err)
	}
	return out, nil
}
