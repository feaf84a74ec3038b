package exposure

import (
	"net/netip"
	"reflect"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/netset"
)

// differing holds two things as alike against changes of each of their fields in turn; a field that no change is given for is a fault.
func differing[T any](t *testing.T, same func(a, b T) bool, changes map[string]func(*T)) {
	t.Helper()
	var zero T
	if !same(zero, zero) {
		t.Errorf("%T is not like itself", zero)
	}
	for i := range reflect.TypeFor[T]().NumField() {
		name := reflect.TypeFor[T]().Field(i).Name
		change := changes[name]
		if change == nil {
			t.Errorf("nothing is tried of %T.%s", zero, name)
			continue
		}
		other := zero
		change(&other)
		if same(zero, other) || same(other, zero) || !same(other, other) {
			t.Errorf("%T: another %s makes no difference", zero, name)
		}
	}
}

// TestSame: what is open, and what cannot be told, are other ones where anything about them is.
func TestSame(t *testing.T) {
	site, a := "a.example", netip.MustParseAddr("203.0.113.1")
	differing(t, Open.same, map[string]func(*Open){
		"Address": func(e *Open) { e.Address = "a" }, "Transport": func(e *Open) { e.Transport = "udp" }, "Ports": func(e *Open) { e.Ports = "1" },
		"Sources": func(e *Open) { e.Sources.Only = []string{"a"} }, "Place": func(e *Open) { e.Place = "a" }, "Port": func(e *Open) { e.Port = 1 },
		"Service": func(e *Open) { e.Service = "a" }, "Site": func(e *Open) { e.Site = &site }, "Records": func(e *Open) { e.Records = []string{"a"} },
		"Intent": func(e *Open) { e.Intent = Declared }, "Range": func(e *Open) { e.Range = netset.OnePort(1) }, "Host": func(e *Open) { e.Host = "a" },
		"Listen": func(e *Open) { e.Listen = &estate.Listen{} }, "Map": func(e *Open) { e.Map = &estate.Map{} }, "Ingress": func(e *Open) { e.Ingress = &Ingress{} },
		"Picked": func(e *Open) { e.Picked = &estate.Site{} }, "Meant": func(e *Open) { e.Meant = []*estate.Intent{nil} }, "PastInput": func(e *Open) { e.PastInput = true },
		"Also": func(e *Open) { e.Also = []string{"a"} }, "Beside": func(e *Open) { e.Beside = true }, "fronted": func(e *Open) { e.fronted = true },
		"addr": func(e *Open) { e.addr = a }, "set": func(e *Open) { e.set = netset.AddrsOf(a) }, "flat": func(e *Open) { e.flat = 1 },
	})
	differing(t, flow.Sources.Equal, map[string]func(*flow.Sources){
		"Of": func(s *flow.Sources) { s.Of = "a" }, "Only": func(s *flow.Sources) { s.Only = []string{"a"} }, "Except": func(s *flow.Sources) { s.Except = []string{"a"} },
	})
	differing(t, func(a, b Ingress) bool { return a.same(&b) }, map[string]func(*Ingress){
		"Host": func(d *Ingress) { d.Host = "a" }, "Addr": func(d *Ingress) { d.Addr = a }, "Ports": func(d *Ingress) { d.Ports = netset.AllPorts() },
		"Same": func(d *Ingress) { d.Same = true }, "Source": func(d *Ingress) { d.Source = netset.AddrsOf(a) }, "Mapped": func(d *Ingress) { d.Mapped = true },
	})
	differing(t, Undecided.same, map[string]func(*Undecided){
		"Address": func(d *Undecided) { d.Address = "a" }, "Transport": func(d *Undecided) { d.Transport = "udp" }, "Ports": func(d *Undecided) { d.Ports = "1" },
		"Place": func(d *Undecided) { d.Place = "a" }, "Why": func(d *Undecided) { d.Why = "a" }, "Records": func(d *Undecided) { d.Records = []string{"a"} },
	})
	other := site
	if !(Open{Site: &site}).same(Open{Site: &other}) {
		t.Error("a site is another where its name is the same")
	}
}
