// Package webserver reads the configuration of web servers: their name-based sites, listeners, redirects, upstreams and pools, each server by
// its own syntax and its own rules of which site takes a request. What is not understood is named by file and line. Configuration that lies
// there and is not in force is read as such.
package webserver

import (
	"cmp"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/intake"
)

// Syntax is how a configuration is written.
type Syntax uint8

const (
	Braces   Syntax = iota // blocks in braces: the server picks by exact name, then by the longest wildcard
	Tags                   // blocks in tags: the first written that has the name answers
	Sections               // a balancer's: rules of its fronts choose among backends
)

// Read reads the configuration of a place: its main file with all that it includes, or only the files of its sites.
func Read(syntax Syntax, files []intake.File, place string, e *estate.Estate) intake.Reading {
	c := &config{place: place, files: files, used: map[string]bool{}}
	switch syntax {
	case Braces:
		c.readBraces()
	case Tags:
		c.readTags()
	case Sections:
		c.readSections()
	}
	return c.reading(e)
}

// config is a configuration as far as it is read.
type config struct {
	place   string
	files   []intake.File
	root    string          // the folder that what it includes is given from
	used    map[string]bool // the files that were read
	open    []string        // those that are being read: one includes the next
	bytes   int             // of all that was read, a file included twice counted twice
	taken   int             // how many files that was
	servers []*server
	pools   []pool
	wide    []*server // those whose names are patterns: asked after all the others
	binds   []bind    // where it listens though no site is there
	inOrder bool      // the first written that has a name answers

	passthrough bool // the name is read in the handshake, and the stream handed on
	faults      []intake.FileFault
	left        []string
	missing     bool // something that it includes was not given
}

// place of a statement in a file.
type position struct {
	file string
	line int
}

// server is one of those that are told apart by name, at the addresses and ports where it is.
type server struct {
	position
	off       bool
	stream    bool // it hands on what it gets, and sees no name
	binds     []bind
	names     []string  // host names, wildcards, or addresses
	patterns  []string  // wildcards under which every name lies that a pattern of its names fits
	others    bool      // what is asked by no name of it, and comes to it, meets a condition that is not followed
	plain     *location // what becomes of all that comes in the clear, where that is another thing
	locations []location
	certs     []string // files
}

// bind is an address and port to listen at.
type bind struct {
	addr  string // as notation writes it; "" for both families
	port  int
	udp   bool
	tls   bool
	first bool // the server is what answers there where no name fits
}

// at is the address and port as notation writes them.
func (b bind) at() string {
	if b.addr == "" {
		return fmt.Sprint(b.port)
	}
	return fmt.Sprintf("%s:%d", b.addr, b.port)
}

// location is what becomes of the requests for a path.
type location struct {
	position
	path    string // as notation writes it; "" for all
	action  string // the same
	answers bool   // the server answers by itself, whatever else is written
	sources []string
	guard   string
	note    string
	how     matching
	pattern string
	only    []string // of the server's names, those that it is for; all where empty
}

// matching is how the path of a location is held against the one asked, where that decides which of several takes it.
type matching uint8

const (
	byBeginning matching = iota // the longest takes it, if no pattern does
	aheadOfAll                  // it takes what it is the longest for, whatever patterns there are
	byPattern                   // the first of them takes it: all that begins so
	byPartOf                    // the same, but of what begins so perhaps not all
	byUnknown                   // by a pattern of which nobody can tell what it takes
	byCondition                 // before any location is looked for
)

func (h matching) pattern() bool { return h == byPattern || h == byPartOf || h == byUnknown }

// undecided notes that where the requests go cannot be told.
func (l *location) undecided() { l.action, l.answers = unknown, true }

// pool is upstreams that requests are spread over.
type pool struct {
	position
	name    string
	options string
	members []string // what stands behind `member NAME `
}

// How much is read in all, what is included several times counted each time; how deep; and how much comes of it.
const (
	mostBytes = 32 << 20
	mostTaken = 5_000
	mostDepth = 16
	mostSites = 20_000
)

func (c *config) fault(at position, what, expected string) {
	c.faults = intake.AddFault(c.faults, intake.FileFault{File: at.file, Line: max(at.line, 1), What: what, Expected: expected})
}

// leave says that something is not understood, or left out on purpose.
func (c *config) leave(at position, format string, args ...any) {
	const most = 400
	switch {
	case len(c.left) < most:
		c.left = append(c.left, fmt.Sprintf("%s:%d: %s", at.file, at.line, fmt.Sprintf(format, args...)))
	case len(c.left) == most:
		c.left = append(c.left, "What else is not understood is not listed.")
	}
}

// addressOf is an address as notation writes it; false for a name, which is said: nobody knows what it is before it is asked for.
func (c *config) addressOf(at position, host string) (string, bool) {
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	switch {
	case err != nil:
		c.leave(at, "the address %s is a name, which nobody knows before it is asked for; left out.", host)
		return "", false
	case a.Is6():
		return "[" + a.String() + "]", true
	}
	return a.String(), true
}

// find gives the files that a pattern names, of those that were given: by its path from the configuration's folder, or by an absolute one
// of which the folder's own place is not known.
func (c *config) find(pattern string) []intake.File {
	pattern = path.Clean(pattern)
	var candidates []string
	if strings.HasPrefix(pattern, "/") {
		candidates = append(candidates, pattern)
		parts := strings.Split(strings.TrimPrefix(pattern, "/"), "/")
		for i := range parts {
			// A pattern of files alone is of the folder itself only where that is known to be the one named.
			alone := i == len(parts)-1 && strings.ContainsAny(parts[i], "*?[")
			if !alone || i > 0 && parts[i-1] == path.Base(c.root) {
				candidates = append(candidates, path.Join(append([]string{c.root}, parts[i:]...)...))
			}
		}
	} else {
		candidates = append(candidates, path.Join(c.root, pattern))
	}
	for _, p := range candidates {
		var out []intake.File
		for _, f := range c.files {
			if ok, err := path.Match(p, path.Clean(f.Name)); err == nil && ok {
				out = append(out, f)
			}
		}
		if len(out) > 0 {
			slices.SortFunc(out, func(a, b intake.File) int { return strings.Compare(a.Name, b.Name) })
			return out
		}
	}
	return nil
}

// take counts a file as read; false where that is more than is read at all.
func (c *config) take(f intake.File) bool {
	c.used[f.Name] = true
	c.bytes += len(f.Text)
	c.taken++
	return c.bytes <= mostBytes && c.taken <= mostTaken
}

// include reads a file in the place of the statement that names it; one that includes itself, or files without end, is not read again.
func (c *config) include(at position, f intake.File, read func(intake.File) []statement) []statement {
	switch {
	case slices.Contains(c.open, f.Name):
		c.fault(at, fmt.Sprintf("%s includes itself", f.Name), "a file that does not")
		return nil
	case len(c.open) >= mostDepth:
		c.fault(at, "files include one another deeper than any configuration needs", fmt.Sprintf("at most %d", mostDepth))
		return nil
	case !c.take(f):
		c.fault(at, "what is included is more than is read", fmt.Sprintf("at most %d files and %d bytes in all", mostTaken, mostBytes))
		return nil
	}
	c.open = append(c.open, f.Name)
	defer func() { c.open = c.open[:len(c.open)-1] }()
	return read(f)
}

// main is the configuration's main file; none where only the files of sites were given.
func (c *config) main(names ...string) (intake.File, bool) {
	var found []intake.File
	for _, f := range c.files {
		if slices.Contains(names, path.Base(f.Name)) {
			found = append(found, f)
		}
	}
	if len(found) == 0 {
		return intake.File{}, false
	}
	shortest := slices.MinFunc(found, func(a, b intake.File) int {
		return cmp.Or(strings.Count(a.Name, "/")-strings.Count(b.Name, "/"), strings.Compare(a.Name, b.Name))
	})
	return shortest, true
}

// available are the files that were given, lie among what could be in force, and are not.
func (c *config) available() []intake.File {
	var out []intake.File
	for _, f := range c.files {
		dir := path.Base(path.Dir(path.Clean(f.Name)))
		beside := c.root != "" && c.root != "." && !strings.HasPrefix(path.Clean(f.Name), c.root+"/") // of something else
		if c.used[f.Name] || beside || !strings.HasSuffix(dir, "-available") || strings.HasPrefix(dir, "mod") {
			continue
		}
		if !slices.ContainsFunc(c.files, func(o intake.File) bool { return c.used[o.Name] && o.Text == f.Text }) { // a link to it is read
			out = append(out, f)
		}
	}
	return out
}
