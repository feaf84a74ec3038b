// Package findings looks an estate over and says what is wrong with it: each fault with its code,
// subject, a sentence, the records behind it and, where known, the lines that mend it.
package findings

import (
	"slices"
	"strings"
	"unique"

	"steady-compass/core/trace"
)

// Level is how much a finding matters.
type Level string

const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// Rank orders levels, the worst first.
func (l Level) Rank() int { return slices.Index(levels, l) }

var levels = []Level{Error, Warning, Note}

// Finding is one thing wrong with an estate.
type Finding struct {
	Code    string      `json:"code"`
	Level   Level       `json:"level"`
	Subject string      `json:"subject"`
	Why     string      `json:"why"`
	Records []string    `json:"records" nullable:"false"`
	Mend    *trace.Mend `json:"mend,omitempty"`
	Trace   *Where      `json:"trace,omitempty"` // the trace that shows it

	id   findingID
	keys []string // of its causes
}

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

var families = map[string]Level{
	"conflict": Error, "path": Error, "upstream": Error, "cert": Error, "intent": Error,
	"site": Warning, "redirect": Warning, "exposure": Warning,
	"name": Warning, "order": Warning, "temporary": Warning, "record": Warning,
}

var exceptions = map[string]Level{
	"conflict.record": Note, "path.tie": Warning, "path.one-sided": Warning, "intent.undecided": Warning,
	"site.none": Error, "site.unknown-service": Error, "site.speech": Error,
	"cert.expiring": Warning, "cert.trial": Warning, "redirect.dead": Error, "redirect.loop": Error,
	"exposure.wider": Error, "exposure.bypass": Error, "exposure.admin": Error,
	"name.unresolved": Error, "name.broken-alias": Error, "name.alias-loop": Error, "name.dangling": Error,
	"name.stale": Error, "name.mail": Error, "name.unsupported": Error, "name.undelegated": Error,
	"order.redundant": Note, "order.unused": Note, "name.no-www": Note, "name.near-miss": Note,
}

// LevelOf is the level of a code.
func LevelOf(code string) Level {
	if l, ok := exceptions[code]; ok {
		return l
	}
	family, _, _ := strings.Cut(code, ".")
	return families[family]
}

// joinMends brings two mends together; where both change the same line, the first holds.
func joinMends(a, b *trace.Mend) *trace.Mend {
	for _, line := range b.Remove {
		if slices.Contains(a.Remove, line) {
			return a
		}
	}
	out := &trace.Mend{Remove: slices.Concat(a.Remove, b.Remove), Add: slices.Clone(a.Add)}
	for _, line := range b.Add {
		if !slices.Contains(out.Add, line) {
			out.Add = append(out.Add, line)
		}
	}
	return out
}
