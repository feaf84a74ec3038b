// Package findings looks an estate over and says what is wrong with it: each fault with its code,
// subject, a sentence, the records behind it and, where known, the lines that mend it.
package findings

import (
	"slices"
	"strings"
	"unique"

	"steady-compass/core/codes"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
)

// Level is how much a finding matters.
type Level = codes.Level

const (
	Error   = codes.Error
	Warning = codes.Warning
	Note    = codes.Note
)

// Finding is one thing wrong with an estate.
type Finding struct {
	Code    string     `json:"code"`
	Level   Level      `json:"level"`
	Subject string     `json:"subject"`
	Why     string     `json:"why"`
	Records []string   `json:"records" nullable:"false"`
	Mend    *flow.Mend `json:"mend,omitempty"`
	Trace   *Where     `json:"trace,omitempty"` // the trace that shows it
	Seen    bool       `json:"seen,omitempty"`  // it is of what was looked at, and has suspects in place of a mend that makes it so

	id      findingID
	keys    []string   // of its causes
	unknown estate.Ref // what a line refers to and nothing recorded is named
	lands   []landing  // of an intent that is not met: where its ways land, and would
	opens   opens      // of what is open: where
}

// opens is a listener that is open, with its site; "" for none.
type opens struct {
	place string
	port  uint16
	site  string
}

// landing is a listener, as an intent's way comes to it.
type landing struct {
	place  string
	port   uint16
	target string
}

// Unknown is what a finding's line refers to and nothing recorded is named; false where it is of something else.
func (f *Finding) Unknown() (estate.Ref, bool) { return f.unknown, f.unknown.Name != "" }

// OfPath says whether a code is of a break on somebody's way, or of an intent that is not met by one.
func OfPath(code string) bool {
	family, _, _ := strings.Cut(code, ".")
	switch family {
	case "path", "upstream", "cert", "intent", "redirect":
		return true
	case "site":
		return code != "site.default-answers"
	}
	return false
}

// findingID is a code and a subject.
type findingID = unique.Handle[[2]string]

// Where is a trace that shows a finding.
type Where struct {
	Target string `json:"target"`
	From   string `json:"from"`
}

// Report is the answer to a check. Its findings are those of the check, and not to be changed.
type Report struct {
	Findings []*Finding    `json:"findings" nullable:"false"`
	Counts   map[Level]int `json:"counts"`
	Accepted []*Finding    `json:"accepted" nullable:"false"` // known and taken on
}

// LevelOf is the level of a code, as a rule.
func LevelOf(code string) Level {
	c, _ := codes.Of(code)
	return c.Level
}

// joinMends brings two mends together; where both change the same line, the first holds.
func joinMends(a, b *flow.Mend) *flow.Mend {
	for _, line := range b.Remove {
		if slices.Contains(a.Remove, line) {
			return a
		}
	}
	out := &flow.Mend{Remove: slices.Concat(a.Remove, b.Remove), Add: slices.Clone(a.Add)}
	for _, line := range b.Add {
		if !slices.Contains(out.Add, line) {
			out.Add = append(out.Add, line)
		}
	}
	return out
}
