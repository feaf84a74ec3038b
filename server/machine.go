package server

import (
	"context"
	"net/http"

	"steady-compass/collect"
)

// MachineAnswer is what a machine is seen to be.
type MachineAnswer struct {
	Text string `json:"text" doc:"In the format machine, to be taken over as a file is"`
}

// getMachine looks at the machine that the program runs on: its networks, routes, sockets and containers. Nothing is kept.
func (s *Server) getMachine(ctx context.Context, _ *none) (*body[MachineAnswer], error) {
	account, err := collect.Machine(ctx, collect.Options{})
	if err != nil {
		return nil, &Problem{Title: "This machine cannot be read", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	}
	return &body[MachineAnswer]{MachineAnswer{account.Text()}}, nil
}
