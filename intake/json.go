package intake

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
)

// JSONFault is the fault that a JSON text has, at its place.
func JSONFault(file, text string, in *json.Decoder, err error, expected string) FileFault {
	at := in.InputOffset()
	what := err.Error()
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		at, what = syntax.Offset, "the JSON cannot be read: "+syntax.Error()
	case errors.As(err, &kind):
		at, what = kind.Offset, fmt.Sprintf("%s is a %s", kind.Field, kind.Value)
	}
	before := []byte(text)[:min(max(int(at)-1, 0), len(text))]
	line := bytes.Count(before, []byte("\n")) + 1
	return FileFault{File: file, Line: line, Column: len(before) - bytes.LastIndexByte(before, '\n'), What: what, Expected: expected}
}
