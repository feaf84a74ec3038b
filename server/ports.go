package server

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"strings"

	"steady-compass/core/netset"
	"steady-compass/core/ports"
)

func (s *Server) getPorts(ctx context.Context, _ *none) (*body[[]ports.Machine], error) {
	c, err := s.asked(ctx).Ports(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return &body[[]ports.Machine]{c.Machines()}, nil
}

type machineQuery struct {
	Machine string `query:"machine" required:"true" maxLength:"300"`
}

// MachineDepth is a machine's ports in depth.
type MachineDepth struct {
	Machine string        `json:"machine"`
	Ports   []ports.Depth `json:"ports" nullable:"false"`
}

func (s *Server) getMachinePorts(ctx context.Context, in *machineQuery) (*body[MachineDepth], error) {
	c, err := s.asked(ctx).Ports(ctx)
	if err != nil {
		return nil, problem(err)
	}
	name := strings.ToLower(in.Machine)
	depths := c.Depths(name)
	if depths == nil {
		return nil, noMachine(in.Machine)
	}
	return &body[MachineDepth]{MachineDepth{name, depths}}, nil
}

func noMachine(name string) error {
	return &Problem{Title: "There is no such machine", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%q is no machine; expected a host that is recorded", name)}
}

type freeQuery struct {
	Machine   string `query:"machine" required:"true" maxLength:"300"`
	Transport string `query:"transport" enum:"tcp,udp" default:"tcp"`
	Above     int    `query:"above" minimum:"0" maximum:"65535" default:"1023"`
	Address   string `query:"address" maxLength:"300" doc:"On this address of the machine; on every one where not given"`
}

// Free is the next free port of a machine.
type Free struct {
	Port uint16 `json:"port" doc:"0 where there is none"`
}

func (s *Server) getFree(ctx context.Context, in *freeQuery) (*body[Free], error) {
	a := s.asked(ctx)
	if p := a.Tracer.Model.PlaceNamed(strings.ToLower(in.Machine)); p == nil || p.IsContainer() {
		return nil, noMachine(in.Machine)
	}
	proto := netset.TCP
	if in.Transport == "udp" {
		proto = netset.UDP
	}
	var on netip.Addr
	if in.Address != "" {
		addr, err := netip.ParseAddr(in.Address)
		if err != nil {
			return nil, &Problem{Title: "That is no address", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%q is no address; expected one of %s", in.Address, in.Machine)}
		}
		on = addr.Unmap()
	}
	port, _ := ports.New(a.Tracer, nil, nil).NextFree(strings.ToLower(in.Machine), on, proto, uint16(in.Above))
	return &body[Free]{Free{port}}, nil
}
