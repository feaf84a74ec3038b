package main

import (
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/mattn/go-isatty"

	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/trace"
)

// paper is where a command prints for a person: in colour on a terminal only.
type paper struct {
	w      io.Writer
	colour bool
}

func newPaper(w io.Writer) *paper {
	f, ok := w.(*os.File)
	return &paper{w, ok && isatty.IsTerminal(f.Fd()) && os.Getenv("NO_COLOR") == ""}
}

func (p *paper) line(format string, args ...any) { _, _ = fmt.Fprintf(p.w, format+"\n", args...) }

// look is text in the ink that says "look here".
func (p *paper) look(text string) string {
	if p.colour {
		return "\x1b[1;35m" + text + "\x1b[0m"
	}
	return text
}

func (p *paper) faint(text string) string {
	if p.colour {
		return "\x1b[2m" + text + "\x1b[0m"
	}
	return text
}

func (p *paper) table(rows [][]string) {
	t := tabwriter.NewWriter(p.w, 0, 4, 2, ' ', 0)
	for _, r := range rows {
		_, _ = fmt.Fprintln(t, strings.Join(r, "\t"))
	}
	_ = t.Flush()
}

func words(o flow.Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }

func printTrace(p *paper, r trace.Result) {
	verdict := words(r.Verdict)
	if !r.Verdict.Good() {
		verdict = p.look(verdict)
	}
	written := ""
	if r.Unicode != "" {
		written = " (" + r.Unicode + ")"
	}
	p.line("%s%s from %s: %s", r.Target, written, r.From, verdict)
	for _, path := range r.Paths {
		p.line("")
		outcome := words(path.Outcome)
		if path.Inner != "" {
			outcome += " (" + words(path.Inner) + " behind it)"
		}
		if !path.Outcome.Good() {
			outcome = p.look(outcome)
		}
		port := fmt.Sprintf("%d/%s", path.Port, path.Transport)
		member := ""
		if path.Member != "" {
			member = " to " + path.Member
		}
		p.line("%s  %s%s%s%s  %s", port, path.Address, pathWord(path.URLPath), member, sourcesWord(path.Sources), outcome)
		for _, s := range path.Steps {
			mark := map[flow.Verdict]string{flow.Pass: "|", flow.Broken: "X", flow.Assumed: "|", flow.Unsettled: "?"}[s.Verdict]
			if s.Ghost && s.Verdict == flow.Pass {
				mark = ":"
			}
			text := fmt.Sprintf("  %s %-18s %s", mark, s.At, s.Why)
			if s.Verdict == flow.Broken {
				text = p.look(text)
			}
			p.line("%s", text)
			for _, rec := range s.Records {
				p.line("    %s", p.faint("      "+rec))
			}
		}
		for _, b := range path.Breaks {
			p.line("  %s  %s", p.look(b.Code), b.Why)
			printMend(p, b.Mend)
		}
	}
}

func pathWord(path string) string {
	if path == "/" {
		return ""
	}
	return path
}

func sourcesWord(s flow.Sources) string {
	switch {
	case len(s.Only) > 0:
		return ", only from " + cidrs(s.Only)
	case len(s.Except) > 0:
		return ", except from " + cidrs(s.Except)
	}
	return ""
}

// cidrs are networks for a person: an address stands without its length.
func cidrs(list []string) string {
	words := make([]string, len(list))
	for i, c := range list {
		words[i] = c
		if p, err := netip.ParsePrefix(c); err == nil && p.IsSingleIP() {
			words[i] = p.Addr().String()
		}
	}
	return strings.Join(words, ", ")
}

func printMend(p *paper, m *flow.Mend) {
	if m.IsEmpty() {
		return
	}
	for _, l := range m.Remove {
		p.line("      - %s", l)
	}
	for _, l := range m.Add {
		p.line("      + %s", l)
	}
}

func printOpen(p *paper, open []exposure.Open) {
	rows := [][]string{{"ADDRESS", "PORT", "LANDS ON", "SERVICE", "SITE", "OPEN TO", "MEANT"}}
	for _, o := range open {
		site := ""
		if o.Site != nil {
			site = *o.Site
		}
		to := "all of " + o.Sources.Of
		if w := sourcesWord(o.Sources); w != "" {
			to = strings.TrimPrefix(w, ", ")
		}
		meant := string(o.Intent)
		if o.Intent != exposure.Declared {
			meant = p.look(map[exposure.Covered]string{exposure.None: "undeclared", exposure.Partial: "in part"}[o.Intent])
		}
		rows = append(rows, []string{o.Address, o.Ports + "/" + o.Transport, fmt.Sprintf("%s:%d", o.Place, o.Port), o.Service, site, to, meant})
	}
	p.table(rows)
}

func printExposure(p *paper, x exposure.Exposure) {
	p.line("Open from %s: %d", x.From, len(x.Open))
	printOpen(p, x.Open)
	if len(x.Undecided) > 0 {
		p.line("\nNot known: %d", len(x.Undecided))
		var rows [][]string
		for _, d := range x.Undecided {
			rows = append(rows, []string{d.Address, d.Ports + "/" + d.Transport, d.Place, d.Why})
		}
		p.table(rows)
	}
}

// counted is how many there are of something.
func counted(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}

// progressOn says on a terminal how far something long has come; elsewhere it says nothing.
func progressOn(w io.Writer, what string) func(done, of int) {
	f, ok := w.(*os.File)
	if !ok || !isatty.IsTerminal(f.Fd()) {
		return func(int, int) {}
	}
	last := time.Now()
	said := false
	return func(done, of int) {
		switch {
		case done < of && time.Since(last) > time.Second:
			last, said = time.Now(), true
			_, _ = fmt.Fprintf(w, "\r%s: %d of %d", what, done, of)
		case done == of && said:
			_, _ = fmt.Fprint(w, "\r\033[K")
		}
	}
}

func printFinding(p *paper, f reported, tried bool) {
	level := string(f.Level)
	if f.Level == findings.Error {
		level = p.look(level)
	}
	p.line("%s  %s  %s", level, f.Subject, p.faint(f.Code))
	p.line("    %s", f.Why)
	printMend(p, f.Mend)
	for _, other := range f.Others {
		p.line("      or")
		printMend(p, other)
	}
	if tried && f.None != "" {
		p.line("      no mend that holds is known: %s", f.None)
	}
}

// printReport prints what is wrong by cause: the finding nearest to it with its mend, and below what else hangs on it.
func printReport(p *paper, r report, tried int) {
	told := map[int]bool{}
	for n, c := range r.Causes {
		printFinding(p, r.Findings[c.Head], n < tried)
		told[c.Head] = true
		for _, i := range c.Findings {
			if i == c.Head || told[i] {
				continue
			}
			told[i] = true
			f := r.Findings[i]
			p.line("    and %s  %s  %s", f.Level, f.Subject, p.faint(f.Code))
			p.line("        %s", f.Why)
		}
	}
	if len(r.Causes) > tried {
		p.line("The mends of the first %d causes are tried; --mends has those of all.", tried)
	}
	p.line("%s", counted(len(r.Causes), "cause"))
	p.line("%s, %s, %s", counted(r.Counts[findings.Error], "error"), counted(r.Counts[findings.Warning], "warning"), counted(r.Counts[findings.Note], "note"))
	if len(r.Accepted) > 0 {
		p.line("%d known and taken on", len(r.Accepted))
	}
}
