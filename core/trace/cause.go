package trace

import "strings"

// Cause is the key of a break: what one change would have to change. That is the record, where a written line decides; else what
// is missing, and where. Two breaks with one cause are one mistake.
func (p *Path) Cause(b *Break) string {
	if !b.Mend.IsEmpty() && len(b.Mend.Remove) > 0 {
		return RecordCause(b.Mend.Remove[0])
	}
	record := ""
	if len(b.Records) > 0 {
		record = b.Records[0]
	}
	family, _, _ := strings.Cut(b.Code, ".")
	switch {
	case family == "name": // not resolved: the owner
		return "missing: " + b.Code + " " + b.Subject
	case family == "cert" && record != "": // all names of a listener together
		return "missing: certificate, " + record
	case record != "" && b.Mend.IsEmpty():
		return RecordCause(record)
	}
	return "missing: " + b.Code + " at " + b.At + ":" + p.portAt(b) + "/" + p.Transport + ", " + record
}

// RecordCause is the key where a written line decides.
func RecordCause(line string) string { return "record: " + line }

// portAt is the port that a flow was for as it came to a break.
func (p *Path) portAt(b *Break) string {
	for i := min(b.Step, len(p.Steps)-1); i >= 0; i-- {
		if to := p.Steps[i].Flow.To; to != "" {
			return to[strings.LastIndexByte(to, ':')+1:]
		}
	}
	return ""
}
