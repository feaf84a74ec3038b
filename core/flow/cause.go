package flow

import (
	"strings"
)

// Cause is the key of a break: what one change would have to change. That is the record, where a written line decides; else what
// is missing, and where. Two breaks with one cause are one mistake.
func Cause(b *Break, steps []Step, transport string) string {
	if b.Key != "" {
		return b.Key
	}
	record := ""
	if len(b.Records) > 0 {
		record = b.Records[0]
	}
	family, kind, _ := strings.Cut(b.Code, ".")
	step := Step{}
	if b.Step < len(steps) {
		step = steps[b.Step]
	}
	switch {
	case !b.Mend.IsEmpty() && len(b.Mend.Remove) > 0:
		return RecordCause(b.Mend.Remove[0])
	case kind == "no-listener" || kind == "refused":
		return NoListener(b.At, portAt(b, steps), transport)
	case step.Stage == StageFilter && len(step.Records) > 1: // the filter, and the line that decides
		return RecordCause(step.Records[len(step.Records)-1])
	case step.Stage == StageFilter && len(step.Records) == 1:
		return "missing: let through by " + step.Records[0] + " to " + b.To + ":" + portAt(b, steps) + "/" + transport
	case family == "name": // not resolved: the owner
		return "missing: " + b.Code + " " + b.Subject
	case family == "cert" && record != "": // all names of a listener together
		return "missing: certificate, " + record
	case record != "" && b.Mend.IsEmpty():
		return RecordCause(record)
	}
	return "missing: " + b.Code + " at " + b.At + ":" + portAt(b, steps) + "/" + transport + ", " + record
}

// NoListener is the key where nothing listens.
func NoListener(place, port, transport string) string {
	return "missing: listener, " + place + ":" + port + "/" + transport
}

// RecordCause is the key where a written line decides.
func RecordCause(line string) string { return "record: " + line }

// portAt is the port that a flow was for as it came to a break.
func portAt(b *Break, steps []Step) string {
	for i := min(b.Step, len(steps)-1); i >= 0; i-- {
		if to := steps[i].Flow.To; to != "" {
			return to[strings.LastIndexByte(to, ':')+1:]
		}
	}
	return ""
}
