// Package looks reads what was seen from elsewhere: looks as the command prints them, one JSON object (RFC 8259) a line.
package looks

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/look"
	"steady-compass/intake"
)

// MostLines is how many looks are read at a time.
const MostLines = 100_000

// Read reads looks as they are printed: one JSON object a line. from is the vantage of those that name none. It gives all that is wrong, by
// line, and no look where anything is.
func Read(name, text, from string) ([]look.Look, []intake.FileFault) {
	var out []look.Look
	var faults []intake.FileFault
	for i, line := range strings.Split(strings.TrimPrefix(text, "\ufeff"), "\n") {
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		l, err := parseLine(line, from)
		if err != nil {
			faults = append(faults, intake.FileFault{File: name, Line: i + 1, What: err.Error(), Expected: "a look as look --json prints it"})
			if len(faults) == mostFaults {
				break
			}
			continue
		}
		if len(out) == MostLines {
			faults = append(faults, intake.FileFault{File: name, Line: i + 1, What: "there are more looks than are read at a time", Expected: fmt.Sprintf("at most %d", MostLines)})
			break
		}
		out = append(out, l)
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return out, nil
}

const mostFaults = 100

func parseLine(line, from string) (look.Look, error) {
	var l look.Look
	d := json.NewDecoder(bytes.NewReader([]byte(line)))
	if err := d.Decode(&l); err != nil {
		return l, fmt.Errorf("it is no JSON of a look (%v)", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return l, errors.New("there is more than one look on the line")
	}
	if l.From == "" {
		l.From = strings.ToLower(from)
	}
	l.From = strings.ToLower(l.From)
	// What was predicted is the records' own word, and they may say otherwise by now.
	l = l.Unjudged()
	switch {
	case l.At.IsZero():
		return l, errors.New(`it does not say when ("at")`)
	case l.From == "":
		return l, errors.New(`it does not say from where ("from"); say it with --from`)
	case l.Target == "" || len(l.Target) > 2048:
		return l, errors.New(`it does not say at what ("target")`)
	case !slices.Contains(look.Dids, l.Did):
		return l, fmt.Errorf(`what was done is %q; it may be %s ("did")`, l.Did, listed(look.Dids))
	case !slices.Contains(look.Cames, l.Came):
		return l, fmt.Errorf(`what came is %q; it may be %s ("came")`, l.Came, listed(look.Cames))
	}
	if l.Did != look.Resolve {
		if a, err := netip.ParseAddr(l.Address); err != nil || a.Zone() != "" {
			return l, fmt.Errorf(`its address is %q, which is no IP address ("address")`, l.Address)
		}
	}
	for _, text := range []*string{&l.Why, &l.Detail, &l.Issuer, &l.Location, &l.Target, &l.From, &l.Source, &l.Code, &l.Protocol, &l.Cipher} {
		*text = intake.Shown(*text)
	}
	for _, list := range [][]string{l.Names, l.Answers} {
		for i := range list {
			list[i] = intake.Shown(list[i])
		}
	}
	return l, nil
}

func listed[T ~string](words []T) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return strings.Join(out, ", ")
}
