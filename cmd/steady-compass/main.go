// Command steady-compass records how services are reached from outside, and traces each public
// name to its backend: on the command line, and in a web interface that it serves.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/alecthomas/kong"

	"steady-compass/intake"
	"steady-compass/server"
)

// cli is every command; each file beside this one has those of one concern.
type cli struct {
	Version kong.VersionFlag `help:"Print the version."`

	Demo     demoCommand     `cmd:"" help:"Serve the demo estate from a database of its own, and print the address to open."`
	Serve    serveCommand    `cmd:"" help:"Serve the interface on a database."`
	Trace    traceCommand    `cmd:"" help:"Follow a target from a vantage: every step, every break, every mend."`
	Compare  compareCommand  `cmd:"" help:"Hold two traces against one another: two vantages, two targets, before and after a change."`
	Leads    leadsCommand    `cmd:"" help:"List every way in that ends at a place."`
	Exposure exposureCommand `cmd:"" help:"List everything that can be touched from a vantage."`
	Check    checkCommand    `cmd:"" help:"Look the whole estate over."`
	Answer   answerCommand   `cmd:"" help:"Say what a name answers, by the records."`
	Effect   effectCommand   `cmd:"" help:"Say what a change does: names, doors, findings, old answers."`
	Steps    stepsCommand    `cmd:"" help:"Put a change into an order in which nothing that works stops and nothing opens in between."`
	Retire   retireCommand   `cmd:"" help:"Work out what goes with a name, a service or a place, and what stays since others need it."`
	Publish  publishCommand  `cmd:"" help:"Work out the lines by which a name leads to a place for an audience, and prove them."`
	Draft    draftCommand    `cmd:"" help:"Changes that are kept and not in force: list, show, new, apply, drop."`
	Without  withoutCommand  `cmd:"" help:"Say what becomes of the names without a part of the estate; or, of a name, what it stands on alone."`
	Suspects suspectsCommand `cmd:"" help:"Say what would explain that something is seen otherwise than recorded, and what to look at next."`
	Dates    datesCommand    `cmd:"" help:"List what comes due: certificates, what is temporary, findings taken on, registrations, old answers."`
	Look     lookCommand     `cmd:"" help:"Look from this machine at what the records name, and hold what is seen against them."`
	Uses     usesCommand     `cmd:"" help:"Say where an address, a name or a machine is used."`
	Move     moveCommand     `cmd:"" help:"Put another address, name or machine in one's place, everywhere at once."`
	Plan     planCommand     `cmd:"" help:"List the planned ports (lines that are off) with what they would collide with; or write a plan of rows."`
	Fmt      fmtCommand      `cmd:"" help:"Print an estate file in canonical form."`
	Import   importCommand   `cmd:"" help:"Take over what stands in files of other formats, or what a name server has."`
	Collect  collectCommand  `cmd:"" help:"Print what this machine says of itself: addresses, routes, listeners, hosts file, containers."`
	Export   exportCommand   `cmd:"" help:"Write a zone or a hosts file."`
	Synth    synthCommand    `cmd:"" help:"Print a made-up estate of any size."`
	Log      logCommand      `cmd:"" help:"List the changes of a database, the newest first."`
	Diff     diffCommand     `cmd:"" help:"Print what makes one estate of another, as the text of a change."`
	People   peopleCommand   `cmd:"" help:"Who may do what in a database: list, add, code, role, off, on."`
	Backup   backupCommand   `cmd:"" help:"Write a sound copy of a database to a new file."`
	Restore  restoreCommand  `cmd:"" help:"Look a copy of a database through, and put it in the place of one."`
	StandIn  standInCommand  `cmd:"" name:"stand-in" help:"Play an outside service, for trying this out where there is none."`
}

// failed ends a command with an exit code and, for code 2, lines about what was wrong.
type failed struct {
	code  int
	lines []string
}

func (f *failed) Error() string { return fmt.Sprint(f.lines) }

// doesNotHold is the end of a command that is done, and whose answer is no.
var doesNotHold = &failed{code: 1}

// wrong ends a command whose question or input is wrong.
func wrong(format string, args ...any) error {
	return &failed{2, []string{fmt.Sprintf(format, args...)}}
}

// streams are what a command reads and writes.
type streams struct {
	in       io.Reader
	out, err io.Writer
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], streams{os.Stdin, os.Stdout, os.Stderr}))
}

// run is one call of the program; the result is its exit code.
func run(ctx context.Context, args []string, s streams) int {
	var c cli
	code := -1
	parser, err := kong.New(&c,
		kong.Name("steady-compass"),
		kong.Description("Where does a stranger who types this name end up, through what, and is that what we meant?"),
		kong.Writers(s.out, s.err),
		kong.Vars{"version": server.Version},
		kong.Exit(func(n int) { code = n }),
		kong.UsageOnError(),
		kong.BindTo(ctx, (*context.Context)(nil)),
		kong.Bind(s),
	)
	if err != nil {
		_, _ = fmt.Fprintln(s.err, err)
		return 2
	}
	if len(args) == 0 {
		args = []string{"--help"}
	}
	command, err := parser.Parse(args)
	if code >= 0 {
		return code // help was asked for
	}
	if err != nil {
		_, _ = fmt.Fprintf(s.err, "%v; steady-compass --help lists the commands\n", err)
		return 2
	}
	err = command.Run()
	var f *failed
	switch {
	case err == nil:
		return 0
	case errors.As(err, &f):
		for _, line := range f.lines {
			complain(s.err, line)
		}
		return f.code
	}
	complain(s.err, err.Error())
	return 2
}

// complain prints what is wrong. It may quote a name or a file of somebody else's.
func complain(w io.Writer, text string) {
	for line := range strings.SplitSeq(text, "\n") {
		_, _ = fmt.Fprintln(w, intake.Shown(line))
	}
}
