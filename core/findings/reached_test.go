package findings

import (
	"slices"
	"testing"

	"steady-compass/core/exposure"
	"steady-compass/core/netset"
)

// TestReachedFrom: who reaches a port of a place, each once, in the order of the vantages.
func TestReachedFrom(t *testing.T) {
	open := func(lo, hi, lands uint16, transport string) *exposure.Open {
		return &exposure.Open{Place: "web", Transport: transport, Range: netset.PortRange{Lo: lo, Hi: hi}, Port: lands}
	}
	r := reached{"web": {
		{open(80, 80, 80, "tcp"), "internet"},
		{open(8000, 8009, 80, "tcp"), "lan"},
		{open(80, 80, 80, "tcp"), "lan"},
		{open(80, 80, 80, "udp"), "dock"},
		{open(85, 90, 85, "tcp"), "far"},
	}}
	for _, c := range []struct {
		port      uint16
		transport string
		want      []string
	}{
		{80, "tcp", []string{"internet", "lan"}},
		{80, "udp", []string{"dock"}},
		{84, "tcp", []string{"lan"}},
		{89, "tcp", []string{"lan", "far"}},
		{90, "tcp", []string{"far"}},
		{91, "tcp", nil},
		{8000, "tcp", nil},
	} {
		if got := r.from("web", c.transport, c.port); !slices.Equal(got, c.want) {
			t.Errorf("port %d over %s is reached from %q, want %q", c.port, c.transport, got, c.want)
		}
	}
	if got := r.from("db", "tcp", 80); got != nil {
		t.Errorf("a place where nothing is open: %q", got)
	}
}
