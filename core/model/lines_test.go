package model

import (
	"slices"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

const twoSites = `
network lan 10.0.0.0/24
network far 10.1.0.0/24
network dock 172.20.0.0/24 on box
host gate router
host box
host other router
host away
host lone
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.5 lan
address other 203.0.113.9 internet
address other 10.1.0.1 far
address away 10.1.0.5 far
address lone 203.0.113.77 internet
container box/web in dock
container box/same shares-host
filter edge on gate through otherwise drop
rule edge pass 80 from internet
filter both on gate,other input otherwise drop
rule both pass 22 from lan
forward gate 80 to 10.0.0.5
map box/web 80 to 8080
listen box/web 8080 as web
listen box/same 9000 as same
listen away 80 as away
site web a.example at 80 files
dns a.example A 203.0.113.1
`

// edit takes lines out of a model's estate and puts others in.
func edit(t *testing.T, m *Model, remove, add []string) *estate.Estate {
	t.Helper()
	c := estate.Change{Remove: remove}
	for _, line := range add {
		p, _, err := notation.ParseLine(line)
		if err != nil {
			t.Fatal(err)
		}
		c.Add = append(c.Add, p)
	}
	e, err := m.Estate.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// TestIslands: what hangs together without the internet, and nothing else, is one segment.
func TestIslands(t *testing.T) {
	m := compiled(t, twoSites)
	segment := func(place string) Segment { return m.PlaceNamed(place).Segment }
	for _, together := range [][]string{{"gate", "box", "box/web", "box/same"}, {"other", "away"}} {
		for _, place := range together {
			if segment(place) != segment(together[0]) {
				t.Errorf("%s is not on the segment of %s", place, together[0])
			}
		}
	}
	if segment("gate") == segment("other") || segment("lone") == segment("gate") || segment("lone") == segment("other") {
		t.Error("segments that only the internet joins are one")
	}
	if m.Networks[Internet].Segment != OpenSegment || m.NetNamed("dock").Segment != segment("gate") || m.NetNamed("far").Segment != segment("away") {
		t.Error("a network is not where its members are")
	}
	if routers := m.Routers(segment("box")); len(routers) != 1 || m.Places[routers[0]].Name != "gate" {
		t.Errorf("routers of the first segment: %v", routers)
	}
	joined := compiled(t, twoSites+"address box 10.1.0.6 far\n")
	if joined.PlaceNamed("gate").Segment != joined.PlaceNamed("away").Segment {
		t.Error("a machine on both sides does not join them")
	}
}

// TestRecompileShares: only the machines and services that changed lines speak of are made anew.
func TestRecompileShares(t *testing.T) {
	for _, c := range []struct {
		remove, add      []string
		places, services []string // made anew
	}{
		{add: []string{"rule edge pass 443 from internet"}, places: []string{"gate"}},
		{remove: []string{"rule both pass 22 from lan"}, places: []string{"gate", "other"}},
		{remove: []string{"filter both on gate,other input otherwise drop"}, add: []string{"filter both on other input otherwise drop"}, places: []string{"gate", "other"}},
		{add: []string{"forward gate 443 to 10.0.0.5"}, places: []string{"gate"}},
		{add: []string{"outbound gate from lan as unchanged"}, places: []string{"gate"}},
		{remove: []string{"map box/web 80 to 8080"}, places: []string{"box"}},
		{add: []string{"listen away 81 as more"}, places: []string{"away"}, services: []string{"more"}},
		{remove: []string{"listen box/same 9000 as same"}, places: []string{"box"}, services: []string{"same"}},
		{add: []string{"site web b.example at 80 files"}, services: []string{"web"}},
		{add: []string{"dns b.example A 203.0.113.1"}},
		{add: []string{"intend a.example 80 for internet"}},
	} {
		m := compiled(t, twoSites)
		e := edit(t, m, c.remove, c.add)
		next, whole := m.Recompile(e), Compile(e)
		for i, p := range next.Places {
			if fresh := p != m.Places[i]; fresh != slices.Contains(c.places, p.Name) {
				t.Errorf("%v %v: %s is made anew: %v", c.remove, c.add, p.Name, fresh)
			}
			w := whole.Places[i]
			if len(p.Sockets) != len(w.Sockets) || len(p.Forwards) != len(w.Forwards) || len(p.Maps) != len(w.Maps) || len(p.Outbounds) != len(w.Outbounds) {
				t.Errorf("%v %v: %s has other lines than when all is compiled", c.remove, c.add, p.Name)
			}
			for hook := range p.Filters {
				same := slices.EqualFunc(p.Filters[hook], w.Filters[hook], func(a, b *Filter) bool {
					return a.Record == b.Record && slices.EqualFunc(a.Rules, b.Rules, func(x, y *Rule) bool { return x.Record == y.Record && x.Place == y.Place })
				})
				if !same {
					t.Errorf("%v %v: %s filters otherwise on %s than when all is compiled", c.remove, c.add, p.Name, Hook(hook))
				}
			}
		}
		if len(next.Services) != len(whole.Services) || len(next.Off) != len(whole.Off) || len(next.Intents) != len(whole.Intents) {
			t.Errorf("%v %v: other lists than when all is compiled", c.remove, c.add)
		}
		for name, s := range next.Services {
			if old := m.Services[name]; old != nil && (s != old) != slices.Contains(c.services, name) {
				t.Errorf("%v %v: service %s is made anew: %v", c.remove, c.add, name, s != old)
			}
			if w := whole.Services[name]; w == nil || len(w.Listens) != len(s.Listens) || len(w.Sites) != len(s.Sites) {
				t.Errorf("%v %v: service %s is another than when all is compiled", c.remove, c.add, name)
			}
		}
	}
	m := compiled(t, twoSites)
	if next := m.Recompile(edit(t, m, nil, []string{"host fresh"})); next.PlaceNamed("fresh") == nil || next.PlaceNamed("gate") == m.PlaceNamed("gate") {
		t.Error("a new machine does not make all anew")
	}
	if m.PlaceNamed("fresh") != nil || len(m.PlaceNamed("gate").Forwards) != 1 {
		t.Error("the model gone on from has changed")
	}
}

// TestStoodAnew: where machines stand at other addresses, filters are kept, and mean what they mean when all is compiled.
func TestStoodAnew(t *testing.T) {
	const more = `
group inside lan,box,web-1
group all inside
host web-1
address web-1 10.0.0.7 lan
filter third on other input otherwise drop
rule third pass 80 from box
rule third pass 81 from all
rule third pass 82 from 10.0.0.0/24
filter near on box input otherwise drop
rule near pass 80 from on-link
filter own on web-1 input otherwise drop
rule own pass 80 from lan
route box default via 10.0.0.1
`
	for _, c := range []struct {
		remove, add []string
		anew        []string // filters
	}{
		{remove: []string{"address web-1 10.0.0.7 lan"}, anew: []string{"third", "near"}},
		{remove: []string{"address away 10.1.0.5 far"}, add: []string{"address away 10.1.0.6 far"}, anew: []string{"near"}},
		{remove: []string{"address lone 203.0.113.77 internet"}, anew: []string{"edge", "near"}}, // internet is more by it
		{add: []string{"address lone 9.9.9.9 internet"}, anew: []string{"edge", "near"}},
		{remove: []string{"route box default via 10.0.0.1"}},
		{remove: []string{"address box 10.0.0.5 lan"}, add: []string{"address box 10.0.0.9 lan", "route lone default via 203.0.113.1"}, anew: []string{"third", "near"}},
	} {
		m := compiled(t, twoSites+more)
		e := edit(t, m, c.remove, c.add)
		next, whole := m.Recompile(e), Compile(e)
		for i, p := range next.Places {
			w := whole.Places[i]
			if !slices.EqualFunc(p.Attachments, w.Attachments, sameAttachment) || !slices.Equal(p.Routes, w.Routes) {
				t.Errorf("%v %v: %s stands otherwise than when all is compiled", c.remove, c.add, p.Name)
			}
			for hook, list := range p.Filters {
				for k, f := range list {
					if kept := m.Places[i].Filters[hook][k] == f; kept == slices.Contains(c.anew, f.Record.Name) {
						t.Errorf("%v %v: filter %s is kept: %v", c.remove, c.add, f.Record.Name, kept)
					}
					for n, r := range f.Rules {
						if want := w.Filters[hook][k].Rules[n]; !r.From.Set.Equal(want.From.Set) || !r.To.Set.Equal(want.To.Set) {
							t.Errorf("%v %v: %s means another than when all is compiled", c.remove, c.add, estate.Line(r.Record))
						}
					}
				}
			}
		}
	}
}

// TestServiceWithoutListeners has the sites that it would have.
func TestServiceWithoutListeners(t *testing.T) {
	m := compiled(t, "host web\nlisten web 80 as shop off\nsite shop a.example at 80 files\nsite shop * at 80 redirect https\n")
	if m.Services["shop"] != nil {
		t.Error("what nothing in force listens as is a service")
	}
	if s := m.Service("shop"); len(s.Sites) != 2 || len(s.Named("a.example")) != 1 || len(s.Named("*")) != 1 || len(s.Listens) != 0 {
		t.Errorf("%+v", s)
	}
	if s := m.Service("nothing"); s == nil || len(s.Sites) != 0 {
		t.Errorf("%+v", s)
	}
}
