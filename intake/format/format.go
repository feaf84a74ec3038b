// Package format knows the formats that can be taken over and written out, by their words.
package format

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/notation"
	"steady-compass/intake"
	"steady-compass/intake/hostsfile"
	"steady-compass/intake/zonefile"
)

// Words are the formats.
var Words = []string{"zone", "hosts", "estate"}

// Source is a file to be taken over, and what the file does not say itself.
type Source struct {
	Format string
	Files  fs.FS
	Main   string
	Zone   string // of a zone file: its name; "": that of its SOA, else the one in its file's name
	For    string // of a zone file: whose copy it is, a comma list; "": everybody's
	Place  string // of a hosts file: whose it is
	Most   int    // records at most; 0: as many as the format bears
}

// ErrUnknown is wrapped by the error for a format that is not known.
var ErrUnknown = errors.New("no such format")

// ErrNoPlace is the error for a hosts file whose machine is not known.
var ErrNoPlace = errors.New("whose hosts file it is is not known: expected a host or container")

// Needs is what an error of Read asks for: zone, place, or nothing.
func Needs(err error) string {
	switch {
	case errors.Is(err, zonefile.ErrNoZone):
		return "zone"
	case errors.Is(err, ErrNoPlace):
		return "place"
	}
	return ""
}

func unknown(word string) error {
	return fmt.Errorf("%w: %q; expected %s", ErrUnknown, word, strings.Join(Words, ", "))
}

// Guess is the format that a file's name and its first lines speak for.
func Guess(name, text string) string {
	base := strings.ToLower(path.Base(strings.ReplaceAll(name, `\`, "/")))
	switch {
	case strings.HasSuffix(base, ".estate"):
		return "estate"
	case base == "hosts" || strings.HasSuffix(base, ".hosts") || strings.HasPrefix(base, "hosts."):
		return "hosts"
	case strings.HasSuffix(base, ".zone") || strings.HasPrefix(base, "db.") || strings.Contains(text, "$ORIGIN") || strings.Contains(text, "$TTL") || strings.Contains(text, "SOA"):
		return "zone"
	}
	if _, faults := notation.Parse(text); len(faults) == 0 && strings.TrimSpace(text) != "" {
		return "estate"
	}
	return "hosts"
}

// Read reads a source against the estate that it would come to.
func Read(src Source, e *estate.Estate) (intake.Reading, error) {
	text, err := fs.ReadFile(src.Files, src.Main)
	if err != nil {
		return intake.Reading{}, err
	}
	switch src.Format {
	case "zone":
		return readZone(src, e)
	case "hosts":
		if src.Place == "" {
			return intake.Reading{}, ErrNoPlace
		}
		return hostsfile.Read(src.Main, string(text), strings.ToLower(src.Place)), nil
	case "estate":
		return readEstate(src.Main, string(text)), nil
	}
	return intake.Reading{}, unknown(src.Format)
}

func readZone(src Source, e *estate.Estate) (intake.Reading, error) {
	audience, err := Askers(src.For)
	if err != nil {
		return intake.Reading{}, err
	}
	z := zonefile.Source{Zone: src.Zone, Files: src.Files, Main: src.Main, For: audience, Most: src.Most}
	r, err := zonefile.Read(z, e)
	if errors.Is(err, zonefile.ErrNoZone) {
		name := strings.TrimSuffix(strings.TrimSuffix(strings.TrimPrefix(path.Base(src.Main), "db."), ".zone"), ".txt")
		if clean, ok := estate.CleanHostname(name); ok && strings.Contains(clean, ".") {
			z.Zone = clean
			return zonefile.Read(z, e)
		}
	}
	return r, err
}

// Askers reads a comma list of places that a zone is for.
func Askers(list string) ([]estate.Selector, error) {
	if list == "" {
		return nil, nil
	}
	p, _, err := notation.ParseLine("zone example.invalid for " + list)
	if err != nil {
		return nil, fmt.Errorf("for %s: %w", list, err)
	}
	return p.Record.(*estate.Zone).For, nil
}

func readEstate(file, text string) intake.Reading {
	located, _, faults := notation.ParseLines(text)
	r := intake.Reading{}
	for _, f := range faults {
		r.Faults = append(r.Faults, intake.FileFault{File: file, Line: f.Line, Column: f.Column, What: f.What, Expected: f.Expected})
	}
	for _, l := range located {
		r.Records = append(r.Records, l.Record)
	}
	return r
}

// Write writes a format out: a zone as an asker sees it, or a place's hosts file. left says what could not be written.
func Write(word, name, from string, e *estate.Estate) (text string, left []string, err error) {
	switch word {
	case "zone":
		zone, ok := estate.CleanHostname(name)
		if !ok {
			return "", nil, fmt.Errorf("%q is no zone: expected the name of one", name)
		}
		m := model.Compile(e)
		return zonefile.Write(m.Names, zone, names.Asker{Levels: [][]string{{orInternet(from)}}})
	case "hosts":
		m := model.Compile(e)
		if m.PlaceNamed(strings.ToLower(name)) == nil {
			return "", nil, fmt.Errorf("%q is no host or container: expected one that is recorded", name)
		}
		return hostsfile.Write(e, strings.ToLower(name)), nil, nil
	case "estate":
		return notation.Print(e), nil, nil
	}
	return "", nil, unknown(word)
}

func orInternet(from string) string {
	if from == "" {
		return "internet"
	}
	return strings.ToLower(from)
}
