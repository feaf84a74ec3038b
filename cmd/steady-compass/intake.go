package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/fetch"
	"steady-compass/intake"
	"steady-compass/intake/archive"
	"steady-compass/intake/format"
	"steady-compass/intake/zonefile"
	"steady-compass/store"
)

type importCommand struct {
	Format    string            `arg:"" enum:"zone,hosts,estate,machine,sockets,ip,compose,inspect,nft,save,csv,pem,nginx,apache,haproxy,looks,router,account,transfer" help:"zone (RFC 1035); hosts; estate; machine (what collect prints); sockets (ss -tulpn, netstat -tulpn); ip (ip -json addr, ip -json route); compose; inspect (of containers and networks); nft (nft -j list ruleset); save (iptables-save, ip6tables-save); csv (a sheet of one kind of record); pem (certificates; RFC 7468); nginx, apache, haproxy (a folder, an archive or files of the configuration); looks (what look --json printed, kept in a database); router (the mappings that programs asked of a router that speaks the open port-mapping protocol, at the URL where it describes itself); account (what the script that collect --script prints printed on a machine); or transfer: a zone from its name server (RFC 5936)."`
	Files     []string          `arg:"" optional:"" name:"file" help:"The files, or - for standard input; for transfer the zones, for router its URL. Several of ip, compose or inspect are read together."`
	Into      string            `help:"Estate file that it comes to; made where it is not there." placeholder:"FILE" xor:"into"`
	DB        string            `name:"db" help:"Database that it comes to." placeholder:"FILE" xor:"into"`
	Try       bool              `help:"Only say what it would add, change and leave."`
	TakeOut   bool              `help:"Take out the lines that the file, being the whole of its zone or hosts file, no longer has."`
	KeepRest  bool              `help:"Keep what can be read of a damaged file."`
	Zone      string            `help:"The zone's name, where the file does not say it." placeholder:"NAME"`
	For       string            `help:"The askers whose copy of the zone it is." placeholder:"ASKER,…"`
	Place     string            `help:"The host or container whose hosts file, sockets, addresses, containers or mappings they are." placeholder:"PLACE"`
	Interface map[string]string `help:"The network of an interface that a ruleset names, where it is not the network's name." placeholder:"NAME=NETWORK"`
	Project   string            `help:"The name of a Compose project, where its files do not say it." placeholder:"NAME"`
	Profile   []string          `help:"Profiles of a Compose project that are chosen." placeholder:"NAME"`
	Var       map[string]string `help:"Variables of a Compose project." placeholder:"NAME=VALUE"`
	Server    string            `help:"The name server to ask for the transfer." placeholder:"ADDRESS[:PORT]"`
	From      string            `help:"The vantage of looks that name none." placeholder:"VANTAGE"`
	Key       string            `help:"The key that signs the transfer (TSIG)." placeholder:"NAME:ALGORITHM:SECRET" env:"STEADY_COMPASS_KEY"`
}

func (c *importCommand) Run(ctx context.Context, s streams) error {
	switch {
	case len(c.Files) == 0 && c.Format != "router":
		return wrong("no file to read; expected a file, or - for standard input")
	case c.Format == "looks":
		return c.looks(ctx, s)
	}
	base, keep, err := c.open(ctx)
	if err != nil {
		return err
	}
	e := base
	var faults []string
	p := newPaper(s.out)
	var said []string
	together := [][]string{c.Files}
	if len(c.Files) > 0 && !slices.Contains(format.Together, c.Format) {
		together = nil
		for _, file := range c.Files {
			together = append(together, []string{file})
		}
	}
	for _, files := range together {
		file := strings.Join(files, ", ")
		parts, err := c.read(ctx, s, files)
		if err != nil {
			return err
		}
		var all intake.Plan
		for _, read := range parts {
			reading, err := read(e)
			if err != nil {
				return err
			}
			for _, f := range reading.Faults {
				faults = append(faults, f.String())
			}
			for _, left := range reading.Left {
				_, _ = fmt.Fprintf(s.err, "%s: %s\n", file, left)
			}
			plan := intake.Compare(e, reading)
			said = append(said, planLines(p, plan, c.TakeOut)...)
			all = all.With(plan)
			if e, err = e.Apply(plan.Edit(c.TakeOut)); err != nil {
				return wrong("%s: %v", file, err)
			}
		}
		said = append(said, fmt.Sprintf("%s: %d to add, %d to change, %d left as they are, %d recorded and not in it.", file, len(all.Add), len(all.Change), all.Leave, len(all.Gone)))
	}
	if len(faults) > 0 && !c.KeepRest {
		return &failed{2, append(faults, "nothing is kept; --keep-rest keeps what can be read")}
	}
	for _, f := range faults {
		_, _ = fmt.Fprintln(s.err, f)
	}
	if c.Into == "" && c.DB == "" {
		_, err := io.WriteString(s.out, notation.Print(e))
		return err
	}
	for _, line := range said {
		p.line("%s", line)
	}
	if c.Try || estate.Difference(base, e).IsEmpty() {
		return nil
	}
	return keep(e)
}

// planLines are the lines that an import would bring and take.
func planLines(p *paper, plan intake.Plan, takeOut bool) []string {
	out := plan.Lines()
	for _, r := range plan.Gone {
		if takeOut {
			out = append(out, "- "+estate.Line(r))
		} else {
			out = append(out, p.faint("  not in it: "+estate.Line(r)))
		}
	}
	return out
}

// open gives the estate that the import comes to, and how it is kept.
func (c *importCommand) open(ctx context.Context) (*estate.Estate, func(*estate.Estate) error, error) {
	switch {
	case c.DB != "":
		if _, err := os.Stat(c.DB); c.Try && errors.Is(err, os.ErrNotExist) {
			return estate.New(nil, nil), nil, nil // what is only tried makes no database
		}
		db, err := store.Open(ctx, c.DB)
		if err != nil {
			return nil, nil, wrong("%v", err)
		}
		if err := db.ReadOnly(); err != nil && !c.Try {
			return nil, nil, errors.Join(wrong("%v", err), db.Close())
		}
		base := db.Current()
		return base.Estate, func(next *estate.Estate) error {
			edit := store.Edit{Base: base.Revision, Who: atConsole(), Why: "import " + c.Format + " " + strings.Join(c.Files, " "), Change: estate.Difference(base.Estate, next)}
			_, err := db.Commit(ctx, edit)
			return errors.Join(keptIn(err), db.Close())
		}, nil
	case c.Into != "":
		keep := func(next *estate.Estate) error { return writeWhole(c.Into, notation.Print(next)) }
		if _, err := os.Stat(c.Into); errors.Is(err, os.ErrNotExist) {
			return estate.New(nil, nil), keep, nil
		}
		e, err := readEstate(c.Into, nil)
		return e, keep, err
	}
	return estate.New(nil, nil), nil, nil
}

// writeWhole writes a file whole or not at all.
func writeWhole(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".steady-compass-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(f.Name()) }()
	if _, err = f.WriteString(text); err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if old, err := os.Stat(path); err == nil {
		_ = os.Chmod(f.Name(), old.Mode().Perm())
	} else {
		_ = os.Chmod(f.Name(), 0o644)
	}
	return os.Rename(f.Name(), path)
}

// texts are the files that were named; of a format that lies in a folder, all that are in a folder or an archive.
func (c *importCommand) texts(s streams, files []string) ([]intake.File, error) {
	foldered := slices.Contains(format.Foldered, c.Format)
	var out []intake.File
	for _, file := range files {
		if foldered && (isFolder(file) || archive.Named(file)) {
			texts, err := unfolded(file)
			if err != nil {
				return nil, wrong("%s: %v", file, err)
			}
			out = append(out, texts...)
			continue
		}
		var text []byte
		var err error
		if file == "-" {
			text, err = io.ReadAll(s.in)
		} else {
			text, err = os.ReadFile(file)
		}
		if err != nil {
			var path *os.PathError
			if errors.As(err, &path) {
				err = path.Err
			}
			return nil, wrong("%s: %v", file, err)
		}
		out = append(out, intake.File{Name: file, Text: string(text)})
	}
	return out, nil
}

// read is what files are to be read by, one part after another, each against what the one before left.
func (c *importCommand) read(ctx context.Context, s streams, files []string) ([]func(*estate.Estate) (intake.Reading, error), error) {
	alone := func(read func(*estate.Estate) (intake.Reading, error)) []func(*estate.Estate) (intake.Reading, error) {
		return []func(*estate.Estate) (intake.Reading, error){read}
	}
	switch c.Format {
	case "transfer":
		return alone(func(e *estate.Estate) (intake.Reading, error) { return c.transfer(ctx, files[0], e) }), nil
	case "router":
		return alone(func(e *estate.Estate) (intake.Reading, error) { return c.router(ctx, c.Place, files, e) }), nil
	}
	src := format.Source{Format: c.Format, Zone: c.Zone, For: c.For, Place: c.Place, Project: c.Project, Profiles: c.Profile, Variables: c.Var, Interfaces: c.Interface}
	var err error
	if src.Texts, err = c.texts(s, files); err != nil {
		return nil, err
	}
	dir := ""
	if c.Format == "zone" { // which may include others beside it
		main := &src.Texts[0]
		if files[0] == "-" {
			src.Files, main.Name = zonefile.Memory("-", main.Text)
		} else {
			dir = filepath.Dir(files[0])
			src.Files, main.Name = os.DirFS(dir), filepath.Base(files[0])
		}
	}
	parts, err := src.Parts()
	if err != nil {
		return nil, wrong("%s: %v", files[0], err)
	}
	var out []func(*estate.Estate) (intake.Reading, error)
	for _, part := range parts {
		out = append(out, func(e *estate.Estate) (intake.Reading, error) {
			reading, err := format.Read(part, e)
			if err != nil {
				return reading, wrong("%s: %v", files[0], err)
			}
			for i := range reading.Faults { // by the path as it was given
				reading.Faults[i].File = filepath.Join(dir, reading.Faults[i].File)
			}
			return reading, nil
		})
	}
	return out, nil
}

func (c *importCommand) transfer(ctx context.Context, zone string, e *estate.Estate) (intake.Reading, error) {
	name, ok := estate.CleanHostname(zone)
	if !ok {
		return intake.Reading{}, wrong("%q is no zone; expected a name as example.org", zone)
	}
	if c.Server == "" {
		return intake.Reading{}, wrong("no name server to ask for %s; expected --server ADDRESS[:PORT]", name)
	}
	var key *fetch.Key
	if c.Key != "" {
		k, err := fetch.ParseKey(c.Key)
		if err != nil {
			return intake.Reading{}, wrong("--key: %v", err)
		}
		key = &k
	}
	records, err := fetch.Transfer(ctx, name, c.Server, key)
	if err != nil {
		return intake.Reading{}, wrong("%v", err)
	}
	audience, err := format.Askers(c.For)
	if err != nil {
		return intake.Reading{}, wrong("--for: %v", err)
	}
	return zonefile.FromRecords(name, records, audience, e), nil
}

type exportCommand struct {
	Format    string            `arg:"" enum:"zone,hosts,estate,nft,save,save6,csv" help:"zone, hosts, estate, nft (the packet filter's JSON), save or save6 (the older format, of IPv4 or IPv6), or csv."`
	Name      string            `arg:"" optional:"" help:"The zone, the host or container whose hosts file it is, the host whose ruleset, or the kind of record."`
	Interface map[string]string `help:"The network of an interface, where it has not the network's name." placeholder:"NAME=NETWORK"`
	From      string            `help:"Whose copy of the zone: internet, a network, group, host or container." default:"internet"`
	question
}

func (c *exportCommand) Run(ctx context.Context, s streams) error {
	e, err := c.question.read(ctx, s)
	if err != nil {
		return err
	}
	text, left, err := format.Write(c.Format, c.Name, c.From, c.Interface, e)
	if err != nil {
		return wrong("%v", err)
	}
	for _, l := range left {
		_, _ = fmt.Fprintln(s.err, "left out: "+l)
	}
	_, err = io.WriteString(s.out, text)
	return err
}
