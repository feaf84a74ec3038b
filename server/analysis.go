package server

import (
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/survey"
	"steady-compass/store"
)

// analysis is a revision, looked over. It is shared by all requests.
type analysis struct {
	store.Snapshot
	*survey.Survey
	tables *tables
}

func analysisOf(s store.Snapshot, over *survey.Survey) *analysis {
	return &analysis{s, over, &tables{}}
}

func analyse(s store.Snapshot, day estate.Date) *analysis {
	return analysisOf(s, survey.New(s.Estate, day))
}

// after is the analysis of a revision that came of the analysed one by an edit, on the same day.
func (a *analysis) after(s store.Snapshot) *analysis {
	return analysisOf(s, a.Survey.After(s.Estate))
}

// Vantage is a place to look from.
type Vantage struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

func (a *analysis) vantages() []Vantage {
	out := []Vantage{{"internet", "internet"}}
	for _, kind := range []string{"network", "group", "host", "container"} {
		k := estate.KindNamed(kind)
		for _, r := range a.Estate.Of(k) {
			if name := k.Fields[0].Values(r)[0]; !r.Meta().Off && !slices.ContainsFunc(out, func(v Vantage) bool { return v.Name == name }) {
				out = append(out, Vantage{name, kind})
			}
		}
	}
	return out
}
