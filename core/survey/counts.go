package survey

import (
	"context"

	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// Exposure is what can be touched from a vantage.
func (s *Survey) Exposure(from string) (exposure.Exposure, error) {
	v, err := s.Tracer.VantageNamed(from)
	if err != nil {
		return exposure.Exposure{}, err
	}
	return s.Tracer.Exposure(v), nil
}

// Every is what internet and each recorded network reach.
func (s *Survey) Every(ctx context.Context) (map[string][]exposure.Open, error) {
	networks := s.Tracer.Model.Networks
	open := parallel.Map(ctx, len(networks), func(i int) []exposure.Open {
		x, _ := s.Exposure(networks[i].Name) // a network is a vantage
		return x.Open
	})
	out := map[string][]exposure.Open{}
	for i, net := range networks {
		out[net.Name] = open[i]
	}
	return out, ctx.Err()
}

// Counts is what needs attention.
type Counts struct {
	Names      int `json:"names"`
	Stop       int `json:"stop"`       // rows that do not arrive
	Arrive     int `json:"arrive"`     // rows that do
	Undecided  int `json:"undecided"`  // rows that cannot be told
	Undeclared int `json:"undeclared"` // things open to the internet that no intent covers wholly
	Machines   int `json:"machines"`
	Open       int `json:"open"`
	Causes     int `json:"causes"` // mistakes that findings come of
	Errors     int `json:"errors"`
	Warnings   int `json:"warnings"`
	Notes      int `json:"notes"`
}

// Counts says how much needs attention, seen from the internet; what is found is for Found to count.
func (s *Survey) Counts(ctx context.Context) (Counts, error) {
	if _, err := s.Check(ctx); err != nil { // before what is open, which goes on from there
		return Counts{}, err
	}
	rows, err := s.Names(ctx, "internet")
	if err != nil {
		return Counts{}, err
	}
	c := Counts{Names: len(rows)}
	for i := range rows {
		switch rows[i].Mark {
		case trace.Unknown:
			c.Undecided++
		case trace.Arriving:
			c.Arrive++
		case trace.Stopping:
			c.Stop++
		}
	}
	x, err := s.Exposure("internet")
	if err != nil {
		return Counts{}, err
	}
	for _, p := range s.Tracer.Model.Places {
		if !p.IsContainer() && !p.Outside {
			c.Machines++
		}
	}
	c.Open = len(x.Open)
	doors := map[string]bool{}
	for i := range x.Open {
		if o := &x.Open[i]; o.Intent != exposure.Declared {
			doors[o.Address+o.Ports+o.Transport] = true
		}
	}
	c.Undeclared = len(doors)
	return c, nil
}

// Found counts what a report has, and its causes.
func (c *Counts) Found(report *findings.Report, causes []findings.Cause) {
	c.Causes = len(causes)
	c.Errors, c.Warnings, c.Notes = report.Counts[findings.Error], report.Counts[findings.Warning], report.Counts[findings.Note]
}
