package main

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"time"

	"steady-compass/core/look"
	"steady-compass/core/model"
	"steady-compass/core/trace"
	"steady-compass/fetch"
	"steady-compass/intake/looks"
	"steady-compass/store"
)

type lookCommand struct {
	Target   []string      `arg:"" optional:"" help:"What to look at: as for trace. None: what the intents name, what should arrive and what should not."`
	From     string        `help:"The vantage that this machine is; found by its addresses and its name where not given." placeholder:"VANTAGE"`
	Resolver string        `help:"Whom to ask for names; the system's resolver where not given." placeholder:"IP"`
	Targets  string        `help:"Contacts that another machine worked out, as look --dry-run --json printed them; no records are needed then." placeholder:"FILE"`
	Rate     int           `help:"New contacts a second." default:"40"`
	Within   time.Duration `help:"How long each is waited for." default:"4s"`
	Roots    string        `help:"Certificates that are trusted, in place of the system's (PEM)." placeholder:"FILE"`
	Mark     string        `help:"Words that the pages of the targets are to have in them; they are asked for whole then, up to 64 KiB." placeholder:"TEXT"`
	All      bool          `help:"All ports of an address that is for nobody, and not only the first hundred."`
	DryRun   bool          `help:"Send nothing, and say what would be sent and what would not."`
	question
}

func (c *lookCommand) Run(ctx context.Context, s streams) error {
	if err := c.check(); err != nil {
		return err
	}
	self, err := fetch.Myself()
	if err != nil {
		return wrong("%v", err)
	}
	o, err := c.options(self)
	if err != nil {
		return err
	}
	var t *trace.Tracer
	var plan look.Plan
	if c.Targets != "" {
		plan, err = c.given(s)
	} else {
		t, plan, err = c.planned(ctx, s, self)
	}
	if err != nil {
		return err
	}
	plan.Resolver = c.Resolver
	if c.Mark != "" {
		plan.AskFor(c.Mark)
	}
	if c.DryRun {
		if c.JSON {
			return printJSON(s.out, plan)
		}
		printPlan(newPaper(s.out), plan)
		return nil
	}
	o.From, o.Certain, o.Recorded = plan.From, plan.Certain, plan.Recorded
	return c.look(ctx, s, t, plan, o)
}

func (c *lookCommand) check() error {
	switch {
	case c.Targets != "" && len(c.Target) > 0:
		return wrong("--targets: the file says what to look at; expected no target beside it")
	case c.Mark != "" && len(c.Target) == 0:
		return wrong("--mark: whose page is to have it? expected a target beside it")
	case c.Rate < 1 || c.Rate > 400:
		return wrong("--rate: %d new contacts a second; expected 1 to 400", c.Rate)
	case c.Within < 100*time.Millisecond || c.Within > time.Minute:
		return wrong("--within: %v; expected 100ms to 1m", c.Within)
	}
	return nil
}

func (c *lookCommand) options(self look.Self) (fetch.LookOptions, error) {
	o := fetch.LookOptions{Rate: c.Rate, Within: c.Within, Self: self}
	if c.Resolver != "" {
		a, err := netip.ParseAddr(c.Resolver)
		if err != nil {
			return o, wrong("--resolver: %q is no IP address", c.Resolver)
		}
		o.Resolver = a
	}
	if c.Roots != "" {
		text, err := os.ReadFile(c.Roots)
		if err != nil {
			return o, wrong("--roots: %s: %v", c.Roots, errors.Unwrap(err))
		}
		if o.Roots = x509.NewCertPool(); !o.Roots.AppendCertsFromPEM(text) {
			return o, wrong("--roots: %s has no certificate in it; expected PEM", c.Roots)
		}
	}
	return o, nil
}

// planned works out the contacts from records.
func (c *lookCommand) planned(ctx context.Context, s streams, self look.Self) (*trace.Tracer, look.Plan, error) {
	t, _, err := c.load(ctx, s)
	if err != nil {
		return nil, look.Plan{}, err
	}
	plan, err := look.PlanOf(ctx, t, self, look.Question{From: c.From, Targets: c.Target, All: c.All})
	if errors.Is(err, context.Canceled) {
		return nil, plan, err
	}
	if err != nil {
		return nil, plan, wrong("%v", err)
	}
	return t, plan, nil
}

// given reads contacts that another machine worked out. Where they are made from has to be said here: what a private address means hangs on it.
func (c *lookCommand) given(s streams) (look.Plan, error) {
	text, err := readText(c.Targets, s.in)
	if err != nil {
		return look.Plan{}, wrong("--targets: %s: cannot be read (%v)", c.Targets, errors.Unwrap(err))
	}
	var plan look.Plan
	if err := json.Unmarshal([]byte(text), &plan); err != nil || plan.From == "" {
		return look.Plan{}, wrong("--targets: %s is no list of contacts; expected what look --dry-run --json prints", c.Targets)
	}
	plan.Certain = c.From != ""
	if c.From != "" {
		plan.From = c.From
	}
	return plan, nil
}

// look makes the contacts, and prints each look as it comes.
func (c *lookCommand) look(ctx context.Context, s streams, t *trace.Tracer, plan look.Plan, o fetch.LookOptions) error {
	differ := 0
	p := newPaper(s.out)
	out := json.NewEncoder(s.out)
	var failed error
	counts := map[look.Agreement]int{}
	var seen []look.Look
	err := fetch.Looks(ctx, plan.Contacts, o, func(l look.Look) {
		if c.DB != "" && l.Came != look.NotLooked {
			seen = append(seen, l)
		}
		if t != nil {
			look.Judge(t, &l)
		}
		counts[l.Agrees]++
		if l.Agrees == look.Differs {
			differ++
		}
		if c.JSON {
			if err := out.Encode(l); err != nil && failed == nil {
				failed = err
			}
			return
		}
		printLook(p, &l)
	})
	switch {
	case failed != nil:
		return failed
	case err != nil:
		return err
	}
	if err := c.keep(ctx, s, seen); err != nil {
		return err
	}
	if !c.JSON {
		for _, r := range plan.Refused {
			p.line("%s", p.faint(fmt.Sprintf("not looked at: %s: %s", r.Target, r.Why)))
		}
		p.line("%d looks from %s: %d as recorded, %d otherwise, %d that cannot tell", counts[look.Agrees]+counts[look.Differs]+counts[look.CannotTell]+counts[""], plan.From, counts[look.Agrees], differ, counts[look.CannotTell]+counts[""])
	}
	if differ > 0 {
		return doesNotHold
	}
	return nil
}

// keep keeps looks in the database that was asked, if it may be written.
func (c *lookCommand) keep(ctx context.Context, s streams, seen []look.Look) error {
	if c.DB == "" || len(seen) == 0 {
		return nil
	}
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	if why := db.ReadOnly(); why != nil {
		_, _ = fmt.Fprintf(s.err, "the looks are not kept: %v\n", why)
		return nil
	}
	if _, err := db.AddLooks(ctx, seen, store.LooksKept); err != nil {
		return wrong("%v", err)
	}
	return nil
}

var marks = map[look.Agreement]string{look.Agrees: "as recorded", look.Differs: "otherwise", look.CannotTell: "cannot tell", "": ""}

func printLook(p *paper, l *look.Look) {
	mark := fmt.Sprintf("%-11s", marks[l.Agrees])
	if l.Agrees == look.Differs {
		mark = p.look(mark)
	}
	p.line("%s  %-7s  %s  %s", mark, l.Did, l.Target, p.faint(seenWord(l)))
	if l.Says != "" {
		p.line("             %s", l.Says)
	}
}

// seenWord is what came of a look, in short.
func seenWord(l *look.Look) string {
	switch {
	case l.Came == look.NotLooked:
		return "not looked at: " + l.Why
	case l.Did == look.Resolve && l.Came == look.Answered:
		return fmt.Sprintf("%s %v", l.Code, l.Answers)
	case l.Did == look.HTTP && l.Came == look.Arrived:
		return fmt.Sprintf("%s: %d %s", l.Address, l.Status, l.Location)
	case l.Did == look.TLS && l.Came == look.Arrived:
		return fmt.Sprintf("%s: for %v, until %s", l.Address, l.Names, l.Expires)
	case l.Detail != "":
		return fmt.Sprintf("%s: %s (%s)", l.Address, l.Came, l.Detail)
	}
	return fmt.Sprintf("%s: %s in %.3fs", l.Address, l.Came, l.Seconds)
}

func printPlan(p *paper, plan look.Plan) {
	p.line("From %s: %s.", plan.From, plan.Why)
	p.line("Sources %v, resolver %s.", plan.Sources, orSystem(plan.Resolver))
	for i := range plan.Contacts {
		c := &plan.Contacts[i]
		at := ""
		if c.Address != "" {
			at = " at " + netip.AddrPortFrom(netip.MustParseAddr(c.Address), c.Port).String()
		}
		p.line("%s%s: %s; expected: %s", c.Target, at, c.Sends, c.Expected)
		if c.Ours != "" {
			p.line("    %s", p.faint(c.Ours))
		}
	}
	for _, r := range plan.Refused {
		p.line("%s", p.look(fmt.Sprintf("not looked at: %s %s: %s", r.Target, r.Address, r.Why)))
	}
	p.line("%d contacts, %d not looked at; %d a second, at most %.0f s", len(plan.Contacts), len(plan.Refused), plan.Rate, plan.Longest)
}

func orSystem(resolver string) string {
	if resolver == "" {
		return "the system's"
	}
	return resolver
}

// looks takes in looks that were made elsewhere: into a database, apart from its records.
func (c *importCommand) looks(ctx context.Context, s streams) error {
	if c.DB == "" {
		return wrong("looks: they are kept in a database; expected --db FILE")
	}
	var all []look.Look
	var faults []string
	for _, file := range c.Files {
		text, err := readText(file, s.in)
		if err != nil {
			return wrong("%s: cannot be read (%v); expected what look --json printed", file, errors.Unwrap(err))
		}
		read, wrongs := looks.Read(file, text, c.From)
		all = append(all, read...)
		for _, f := range wrongs {
			faults = append(faults, f.String())
		}
	}
	if len(faults) > 0 {
		return &failed{2, append(faults, "nothing is kept")}
	}
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	tracer := trace.New(model.Compile(db.Current().Estate), "")
	for i := range all {
		if _, err := tracer.VantageNamed(all[i].From); err != nil {
			return wrong("looks from %q: %v; say which it is with --from", all[i].From, err)
		}
	}
	if c.Try {
		newPaper(s.out).line("%d looks to keep.", len(all))
		return nil
	}
	added, err := db.AddLooks(ctx, all, store.LooksKept)
	if err != nil {
		return wrong("%v", err)
	}
	newPaper(s.out).line("%d looks kept, %d of them new.", len(all), added)
	return nil
}
