package flow

import (
	"net/netip"
	"reflect"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

const touching = synth.Office

// TestDeliveriesEnd: a flow that is asked for again is the one that is kept; beyond a number of them none is kept, and each is followed
// all the same.
func TestDeliveriesEnd(t *testing.T) {
	m := model.Compile(notationtest.Parse(t, touching))
	few, many := New(m), New(m)
	many.delivered.Store(mostDeliveries)
	v, err := few.VantageNamed("internet")
	if err != nil {
		t.Fatal(err)
	}
	ask := func(t *Engine) *Delivery {
		return t.Delivery(v.Origins[0], ToAddr(netip.MustParseAddr("203.0.113.1")), PortKey{443, netset.TCP}, Goal{Place: model.Nowhere, Diagnose: true})
	}
	got, want := ask(many), ask(few)
	if ask(few) != want || ask(many) == got {
		t.Error("a flow is not kept, or one is kept beyond the most")
	}
	if len(want.Landings) != 1 || want.Landings[0].Socket == nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%+v, want %+v", got, want)
	}
}
