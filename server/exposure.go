package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// WallAddress is an address that a wall stands before, whether or not anything is open in it.
type WallAddress struct {
	Address string `json:"address"`
	Machine string `json:"machine"`
	Dynamic bool   `json:"dynamic"`
}

// ExposureAnswer is what can be touched from a vantage, and the addresses that it can be led to.
type ExposureAnswer struct {
	From      string               `json:"from"`
	Open      []OpenDoor           `json:"open" nullable:"false"`
	Undecided []exposure.Undecided `json:"undecided" nullable:"false"`
	Addresses []WallAddress        `json:"addresses" nullable:"false"`
}

// OpenDoor is what is open, with the lines that let it in.
type OpenDoor struct {
	exposure.Open
	Through []string `json:"through" nullable:"false" doc:"The first of its records that let it in; the listener, where it is simply there"`
}

// mostThrough is how many lines are named by which a door is open.
const mostThrough = 3

func doors(open []exposure.Open) []OpenDoor {
	out := make([]OpenDoor, len(open))
	for i, o := range open {
		out[i] = OpenDoor{o, letsIn(o.Records)}
	}
	return out
}

// letsIn are the lines that let something in, of those that it met.
func letsIn(records []string) []string {
	of := func(most int, kinds ...string) []string {
		out := []string{}
		for _, line := range records {
			if word, _, _ := strings.Cut(line, " "); slices.Contains(kinds, word) && len(out) < most {
				out = append(out, line)
			}
		}
		return out
	}
	if lines := of(mostThrough, "forward", "map", "rule", "filter"); len(lines) > 0 {
		return lines
	}
	return of(1, "listen")
}

func (s *Server) getExposure(ctx context.Context, in *fromQuery) (*body[ExposureAnswer], error) {
	a := s.asked(ctx)
	x, err := a.Exposure(in.From)
	if err != nil {
		return nil, problem(err)
	}
	return &body[ExposureAnswer]{ExposureAnswer{x.From, doors(x.Open), x.Undecided, walls(a.Tracer.Model, x)}}, nil
}

// walls are the addresses of machines that have something open or not known, and from the internet all that are
// reachable there; those of a machine beside each other.
func walls(m *model.Model, x exposure.Exposure) []WallAddress {
	met := map[string]bool{}
	for i := range x.Open {
		met[x.Open[i].Address] = true
	}
	for i := range x.Undecided {
		met[x.Undecided[i].Address] = true
	}
	out := []WallAddress{}
	for _, p := range m.Places {
		for _, attachment := range p.Attachments {
			for _, addr := range attachment.Addrs {
				if met[addr.String()] || x.From == "internet" && !p.Outside && !attachment.Gateway && netset.GloballyReachable().Contains(addr) {
					delete(met, addr.String())
					dynamic := slices.ContainsFunc(attachment.Records, func(r estate.Record) bool { a, ok := r.(*estate.Address); return ok && a.Dynamic })
					out = append(out, WallAddress{addr.String(), p.Name, dynamic})
				}
			}
		}
	}
	var rest []string
	for address := range met { // of a block that nobody holds an address of, or some point of a container network
		rest = append(rest, address)
	}
	slices.Sort(rest)
	for _, address := range rest {
		i := slices.IndexFunc(x.Open, func(o exposure.Open) bool { return o.Address == address })
		machine := ""
		if i >= 0 {
			machine = x.Open[i].Host
		}
		out = append(out, WallAddress{address, machine, false})
	}
	return out
}

type changesQuery struct {
	From string `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
	With string `query:"with" required:"true" maxLength:"300" doc:"A revision by its number, or another vantage"`
}

// ExposureChanges is what differs from another revision or vantage.
type ExposureChanges struct {
	With   string     `json:"with"`
	Opened []OpenDoor `json:"opened" nullable:"false" doc:"Open here, and not there"`
	Closed []OpenDoor `json:"closed" nullable:"false" doc:"Open there, and not here"`
}

func (s *Server) getExposureChanges(ctx context.Context, in *changesQuery) (*body[ExposureChanges], error) {
	a := s.asked(ctx)
	here, err := a.Tracer.VantageNamed(in.From)
	if err != nil {
		return nil, problem(err)
	}
	there, other := in.From, a.Tracer
	if revision, err := strconv.ParseInt(in.With, 10, 64); err == nil {
		e, err := s.db.At(ctx, revision)
		if err != nil {
			return nil, &Problem{Title: "That revision is not there", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
		}
		other = trace.New(model.Compile(e), a.Day)
	} else {
		there = in.With
	}
	v, err := other.VantageNamed(there)
	if err != nil {
		if other == a.Tracer {
			return nil, problem(err)
		}
		return nil, &Problem{Title: "Nothing to compare with", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%s was not recorded at revision %s", there, in.With)}
	}
	now, err := a.Exposure(in.From)
	if err != nil {
		return nil, problem(err)
	}
	was := other.Exposure(v)
	return &body[ExposureChanges]{ExposureChanges{in.With, doors(exposure.Opened(was.Open, now.Open, here)), doors(exposure.Opened(now.Open, was.Open, v))}}, nil
}

type closeQuery struct {
	From      string `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
	Address   string `query:"address" required:"true" maxLength:"300"`
	Transport string `query:"transport" enum:"tcp,udp" default:"tcp"`
	Ports     string `query:"ports" required:"true" maxLength:"300"`
}

// getClose is the lines that close a door.
func (s *Server) getClose(ctx context.Context, in *closeQuery) (*body[flow.Mend], error) {
	a := s.asked(ctx)
	x, err := a.Exposure(in.From)
	if err != nil {
		return nil, problem(err)
	}
	open := slices.Clone(x.Open)
	open = slices.DeleteFunc(open, func(o exposure.Open) bool {
		return o.Address != in.Address || o.Transport != in.Transport || o.Ports != in.Ports
	})
	if len(open) == 0 {
		return nil, &Problem{Title: "That door is not open", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("Nothing is open at %s, ports %s/%s, from %s", in.Address, in.Ports, in.Transport, x.From)}
	}
	mend := findings.Closing(a.Tracer, open, x.From)
	if mend == nil {
		return nil, &Problem{Title: "No line closes just that", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%s is reached there beside its machine's filters; the records do not say how it could be closed", open[0].Place)}
	}
	return &body[flow.Mend]{*mend}, nil
}
