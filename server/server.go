package server
import ("context";"log/slog";"net";"steady-compass/store")
type Server struct{}
func New(db *store.Store, l *slog.Logger) *Server { return &Server{} }
func (s *Server) Serve(ctx context.Context, l net.Listener) error { <-ctx.Done(); return nil }
