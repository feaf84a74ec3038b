package server

import (
	"context"

	"steady-compass/core/certs"
)

func (s *Server) getCertificates(ctx context.Context, _ *struct{}) (*body[certs.Sheet], error) {
	sheet, err := certs.Of(ctx, s.asked(ctx).Survey)
	if err != nil {
		return nil, problem(err)
	}
	return &body[certs.Sheet]{sheet}, nil
}
