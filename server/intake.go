package server

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"testing/fstest"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/intake"
	"steady-compass/intake/archive"
	"steady-compass/intake/format"
)

// mostImported is how many records one import may bring.
const mostImported = 200_000

// ImportFile is a file that somebody drops: its text, or all that is in it, where it is an archive.
type ImportFile struct {
	Name    string `json:"name" maxLength:"300"`
	Text    string `json:"text"`
	Archive []byte `json:"archive,omitempty" doc:"In place of its text: a tar or zip, of which each file is one"`
}

// unpacked are the files that were sent, with those in archives in their place.
func unpacked(sent []ImportFile) ([]intake.File, error) {
	var out []intake.File
	for _, f := range sent {
		if len(f.Archive) == 0 {
			out = append(out, intake.File{Name: f.Name, Text: f.Text})
			continue
		}
		files, err := archive.Files(f.Name, bytes.NewReader(f.Archive), int64(len(f.Archive)))
		if err != nil {
			return nil, &Problem{Title: "The archive cannot be read", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%s: %v", intake.Shown(f.Name), err)}
		}
		out = append(out, files...)
	}
	return out, nil
}

// ImportQuestion is files to be taken over. The first is read, with the others where the format is read together or a
// zone file includes them.
type ImportQuestion struct {
	Format    string            `json:"format,omitempty" enum:"zone,hosts,estate,machine,sockets,ip,compose,inspect,nft,save,csv,pem,nginx,apache,haproxy,account" doc:"Guessed where not given"`
	Files     []ImportFile      `json:"files" minItems:"1" maxItems:"400" nullable:"false"`
	Zone      string            `json:"zone,omitempty" maxLength:"300"`
	For       string            `json:"for,omitempty" maxLength:"1000"`
	Place     string            `json:"place,omitempty" maxLength:"300"`
	Profiles  []string          `json:"profiles,omitempty" doc:"Of a Compose project: those that are chosen"`
	Variables map[string]string `json:"variables,omitempty" doc:"Of a Compose project"`

	Interfaces map[string]string `json:"interfaces,omitempty" doc:"Of a ruleset: the recorded networks by the names of the machine's interfaces"`
}

// ImportAnswer is what taking them over would do. Nothing is kept by asking: the lines go with a change.
type ImportAnswer struct {
	Format string             `json:"format"`
	Needs  string             `json:"needs,omitempty" doc:"What has to be said before it can be read: zone or place"`
	Wrong  string             `json:"wrong,omitempty" doc:"Why it cannot be read at all"`
	Faults []intake.FileFault `json:"faults" nullable:"false"`
	Left   []string           `json:"left" nullable:"false" doc:"What is left out on purpose"`
	Remove []string           `json:"remove" nullable:"false" doc:"The lines that go, for others in their place"`
	Add    []string           `json:"add" nullable:"false"`
	Gone   []string           `json:"gone" nullable:"false" doc:"What is recorded and not in the file, which is the whole of its zone or hosts file"`
	Leave  int                `json:"leave" doc:"How many lines are recorded already"`
}

func (s *Server) postImport(ctx context.Context, in *body[ImportQuestion]) (*body[ImportAnswer], error) {
	q := in.Body
	texts, err := unpacked(q.Files)
	if err != nil {
		return nil, err
	}
	files := fstest.MapFS{}
	for i, f := range texts {
		name := strings.Trim(strings.ReplaceAll(f.Name, `\`, "/"), "/")
		if !fs.ValidPath(name) || name == "." {
			return nil, &Problem{Title: "The file's name cannot be used", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%q is no file name; expected one as zones/example.org.zone", f.Name)}
		}
		texts[i].Name = name
		files[name] = &fstest.MapFile{Data: []byte(f.Text)}
	}
	main := texts[0]
	out := ImportAnswer{Format: q.Format, Faults: []intake.FileFault{}, Left: []string{}, Remove: []string{}, Add: []string{}, Gone: []string{}}
	if out.Format == "" {
		out.Format = format.Guess(main.Name, main.Text)
		for _, f := range texts { // a folder is what its files are for, whichever comes first
			if guess := format.Guess(f.Name, f.Text); len(texts) > 1 && slices.Contains(format.Foldered, guess) {
				out.Format = guess
				break
			}
		}
	}
	now := s.asked(ctx).Estate
	src := format.Source{Format: out.Format, Texts: texts, Files: files, Zone: q.Zone, For: q.For, Place: q.Place, Profiles: q.Profiles, Variables: q.Variables, Interfaces: q.Interfaces, Most: mostImported}
	parts, err := src.Parts()
	if err != nil {
		out.Wrong, out.Needs = err.Error(), format.Needs(err)
		return &body[ImportAnswer]{out}, nil
	}
	var plan intake.Plan
	for e := now; len(parts) > 0; parts = parts[1:] {
		reading, err := format.Read(parts[0], e)
		if err != nil {
			out.Wrong, out.Needs = err.Error(), format.Needs(err)
			return &body[ImportAnswer]{out}, nil
		}
		next := intake.Compare(e, reading)
		out.Faults, out.Left, plan = append(out.Faults, reading.Faults...), append(out.Left, reading.Left...), plan.With(next)
		if e, err = e.Apply(next.Edit(false)); err != nil {
			return nil, problem(err)
		}
	}
	out.Leave = plan.Leave
	for _, swap := range plan.Change {
		out.Remove = append(out.Remove, estate.Line(swap.Old))
		out.Add = append(out.Add, estate.Line(swap.New))
	}
	for _, r := range plan.Displaced {
		out.Remove = append(out.Remove, estate.Line(r))
	}
	for _, r := range plan.Add {
		out.Add = append(out.Add, estate.Line(r))
	}
	for _, r := range plan.Gone {
		out.Gone = append(out.Gone, estate.Line(r))
	}
	return &body[ImportAnswer]{out}, nil
}

// Export is something that can be written out.
type Export struct {
	Format string `json:"format"`
	Name   string `json:"name"`
	From   string `json:"from,omitempty"`
	File   string `json:"file" doc:"What the file is called"`
}

// exports are the zones, each for whom there is a copy of it, and the hosts files.
func exports(e *estate.Estate) []Export {
	out := []Export{{Format: "estate", File: "my.estate"}}
	for _, r := range e.Of(estate.KindNamed("zone")) {
		z := r.(*estate.Zone)
		if z.Off {
			continue
		}
		if len(z.For) == 0 {
			out = append(out, Export{"zone", z.Name, "internet", z.Name + ".zone"})
			continue
		}
		for _, s := range z.For {
			if s.Name != "" {
				out = append(out, Export{"zone", z.Name, s.Name, z.Name + "." + strings.ReplaceAll(s.Name, "/", "-") + ".zone"})
			}
		}
	}
	seen := map[string]bool{}
	for _, r := range e.Of(estate.KindNamed("name")) {
		if h := r.(*estate.HostsEntry); !h.Off && !seen[h.Place] {
			seen[h.Place] = true
			out = append(out, Export{"hosts", h.Place, "", strings.ReplaceAll(h.Place, "/", "-") + ".hosts"})
		}
	}
	for _, kind := range []string{"forward", "rule"} {
		if len(e.Of(estate.KindNamed(kind))) > 0 {
			out = append(out, Export{"csv", kind, "", kind + "s.csv"})
		}
	}
	return append(out, rulesets(e)...)
}

// rulesets are the packet filters of the hosts that have any line for one.
func rulesets(e *estate.Estate) []Export {
	var out []Export
	m := model.Compile(e)
	for _, p := range m.Places {
		filters := len(p.Forwards) + len(p.Outbounds)
		for _, list := range p.Filters {
			filters += len(list)
		}
		if filters > 0 {
			out = append(out, Export{"nft", p.Name, "", p.Name + ".nft.json"}, Export{"save", p.Name, "", p.Name + ".save"}, Export{"save6", p.Name, "", p.Name + ".save6"})
		}
	}
	return out
}

type exportQuery struct {
	Format string `query:"format" enum:"zone,hosts,estate,nft,save,save6,csv" required:"true"`
	Name   string `query:"name" maxLength:"300"`
	From   string `query:"from" maxLength:"300" default:"internet"`
}

// exported is a file to be kept.
type exported struct {
	ContentType string `header:"Content-Type"`
	Left        string `header:"X-Left-Out" doc:"What could not be written"`
	Body        []byte
}

func (s *Server) getExport(ctx context.Context, in *exportQuery) (*exported, error) {
	text, left, err := format.Write(in.Format, in.Name, in.From, nil, s.asked(ctx).Estate)
	if err != nil {
		return nil, &Problem{Title: "It cannot be written out", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	}
	return &exported{"text/plain; charset=utf-8", strings.Join(left, " "), []byte(text)}, nil
}
