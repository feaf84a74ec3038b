package main

import (
	"context"
	"slices"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/core/uses"
	"steady-compass/store"
)

type usesCommand struct {
	Of string `arg:"" help:"An address, a name, a machine, or a port of one as azimuth:80."`
	question
}

// anyName is what lines may call by a name.
const anyName = estate.RefSelector | estate.RefService | estate.RefHostname

// used is a use as JSON.
type used struct {
	Record string   `json:"record"`
	How    uses.How `json:"how"`
	Via    string   `json:"via,omitempty"`
}

func (c *usesCommand) Run(ctx context.Context, s streams) error {
	e, err := c.question.read(ctx, s)
	if err != nil {
		return err
	}
	x := uses.New(trace.New(model.Compile(e), ""))
	kind, word, ok := x.KindOf(c.Of)
	if !ok {
		return wrong("%q is no address, no name, no machine and no port of one", c.Of)
	}
	list := []used{}
	for _, u := range x.Find(word) {
		list = append(list, used{estate.Line(u.Record), u.How, u.Via})
	}
	if c.JSON {
		return printJSON(s.out, map[string]any{"of": word, "kind": kind, "uses": list})
	}
	p := newPaper(s.out)
	for _, u := range list {
		via := ""
		if u.Via != "" {
			via = p.faint("  by " + u.Via)
		}
		p.line("%-7s %s%s", u.How, u.Record, via)
	}
	near := ""
	if len(list) == 0 {
		near = estate.Near(e, word, anyName)
	}
	if len(list) == 1 {
		p.line("1 record uses %s", word)
	} else {
		p.line("%d records use %s%s", len(list), word, near)
	}
	return nil
}

type moveCommand struct {
	From   string `arg:"" help:"The address, name, machine or port (azimuth:80) that goes."`
	To     string `arg:"" help:"What comes in its place; for a port its number."`
	Estate string `help:"Estate file to change." placeholder:"FILE" xor:"into" required:""`
	DB     string `name:"db" help:"Database to change." placeholder:"FILE" xor:"into" required:""`
	Try    bool   `help:"Only say what would change."`
	Anyway bool   `help:"Make the change though it brings errors."`
}

func (c *moveCommand) Run(ctx context.Context, s streams) error {
	var e *estate.Estate
	var db *store.Store
	var err error
	if c.DB != "" {
		if db, err = openThere(ctx, c.DB); err != nil {
			return err
		}
		defer func() { _ = db.Close() }()
		if err := db.ReadOnly(); err != nil && !c.Try {
			return wrong("%v", err)
		}
		e = db.Current().Estate
	} else if e, err = readEstate(c.Estate, s.in); err != nil {
		return err
	}
	base := int64(0)
	if db != nil {
		base = db.Current().Revision
	}
	x := uses.New(trace.New(model.Compile(e), ""))
	kind, _, ok := x.KindOf(c.From)
	if !ok || !x.CanTake(kind, c.To) {
		return wrong("%q cannot stand where %q does; expected two addresses, two names, two machines, or a port of a machine and a port number", c.To, c.From)
	}
	p := newPaper(s.out)
	var change estate.Change
	stay := 0
	for _, sw := range x.Move(c.From, c.To) {
		if sw.Keep {
			stay++
			p.line("%s", p.faint("  stays: "+estate.Line(sw.Record)+wrongWords(sw.Wrong)))
			continue
		}
		p.line("- %s", estate.Line(sw.Record))
		p.line("+ %s", sw.New)
		placed, _, err := notation.ParseLine(sw.New)
		if err != nil {
			return wrong("%s: %v", sw.New, err)
		}
		change.Remove, change.Add = append(change.Remove, estate.Line(sw.Record)), append(change.Add, placed)
	}
	if len(change.Add)+stay == 0 {
		return wrong("nothing that is recorded uses %s, and nothing changes%s", c.From, estate.Near(e, strings.ToLower(c.From), anyName))
	}
	if len(change.Add) == 1 {
		p.line("1 line changes")
	} else {
		p.line("%d lines change", len(change.Add))
	}
	if len(change.Add) == 0 {
		return nil
	}
	next, err := e.Apply(change)
	if err != nil {
		return wrong("%v", err)
	}
	brought, err := errorsBrought(ctx, e, next)
	if err != nil {
		return err
	}
	for _, f := range brought {
		p.line("it brings: %s  %s\n    %s", f.Code, f.Subject, f.Why)
	}
	switch {
	case len(brought) > 0 && !c.Anyway:
		if !c.Try {
			p.line("nothing is changed; --anyway changes it all the same")
		}
		return doesNotHold
	case c.Try:
		return nil
	}
	if c.Estate != "" {
		return writeWhole(c.Estate, notation.Print(next))
	}
	_, err = db.Commit(ctx, store.Edit{Base: base, Who: atConsole(), Why: strings.Join([]string{"move", c.From, c.To}, " "), Change: change})
	return keptIn(err)
}

// errorsBrought are the errors that a check finds in an estate and did not find in the one before.
func errorsBrought(ctx context.Context, before, after *estate.Estate) ([]*findings.Finding, error) {
	day := estate.Date(time.Now().Format(time.DateOnly))
	was, err := findings.Check(ctx, trace.New(model.Compile(before), day), day)
	if err != nil {
		return nil, err
	}
	is, err := findings.Check(ctx, trace.New(model.Compile(after), day), day)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(findings.Ended(is.Report, was.Report), func(f *findings.Finding) bool { return f.Level != findings.Error }), nil
}

func wrongWords(text string) string {
	if text == "" {
		return ""
	}
	return " (" + text + ")"
}
