package findings

import (
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/netset"
)

// TestWhatPortsAreFor tells administration from the web, by the port as it is entered and by that where it lands.
func TestWhatPortsAreFor(t *testing.T) {
	for _, c := range []struct {
		entered   netset.PortRange
		landed    uint16
		transport string
		admin     bool
		clear     bool
	}{
		{netset.OnePort(22), 22, "tcp", true, false},
		{netset.OnePort(2222), 22, "tcp", true, false},
		{netset.OnePort(22), 8022, "tcp", true, false},
		{netset.OnePort(22), 22, "udp", false, false},
		{netset.PortRange{Lo: 5000, Hi: 6000}, 5500, "tcp", true, false},
		{netset.OnePort(161), 161, "udp", true, false},
		{netset.OnePort(161), 161, "tcp", false, false},
		{netset.OnePort(3389), 3389, "udp", true, false},
		{netset.OnePort(443), 8443, "tcp", false, false},
		{netset.OnePort(443), 80, "tcp", false, false},
		{netset.OnePort(8080), 80, "tcp", false, true},
		{netset.OnePort(21), 21, "tcp", false, true},
		{netset.OnePort(69), 69, "udp", false, true},
		{netset.OnePort(69), 69, "tcp", false, false},
	} {
		o := &exposure.Open{Transport: c.transport, Port: c.landed, Range: c.entered, Listen: &estate.Listen{}}
		if use := Administration(o); (use != "") != c.admin {
			t.Errorf("%s/%s on %d is for administration: %q, want %v", c.entered, c.transport, c.landed, use, c.admin)
		}
		if got := inTheClear(nil, o); got != c.clear {
			t.Errorf("%s/%s on %d is in the clear: %v, want %v", c.entered, c.transport, c.landed, got, c.clear)
		}
		site := "a.example"
		o.Site, o.Picked = &site, &estate.Site{}
		if use := Administration(o); use != "" {
			t.Errorf("a site on %s/%s is for administration: %q", c.entered, c.transport, use)
		}
		if got, want := inTheClear(nil, o), c.transport == "tcp" && !c.entered.Contains(443); got != want {
			t.Errorf("a site without TLS on %s/%s is in the clear: %v, want %v", c.entered, c.transport, got, want)
		}
		if o.Listen.TLS = true; inTheClear(nil, o) {
			t.Errorf("a site with TLS on %s/%s is in the clear", c.entered, c.transport)
		}
	}
}
