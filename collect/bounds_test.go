package collect

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestEngineThatNeverEnds meets an engine that answers without an end, at once and drop by drop: it is left.
func TestEngineThatNeverEnds(t *testing.T) {
	for _, c := range []struct {
		pause time.Duration
		want  string
	}{
		{0, "answers more than 1 MB"},
		{20 * time.Millisecond, "did not answer everything within 400ms"},
	} {
		socket := filepath.Join(t.TempDir(), "engine.sock")
		l, err := net.Listen("unix", socket)
		if err != nil {
			t.Fatal(err)
		}
		server := &http.Server{ReadHeaderTimeout: time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			for sep := "["; r.Context().Err() == nil; sep = "," {
				if _, err := fmt.Fprintf(w, `%s{"Id":"%s"}`, sep, strings.Repeat("a", 60)); err != nil {
					return
				}
				if c.pause > 0 {
					_ = http.NewResponseController(w).Flush()
					time.Sleep(c.pause)
				}
			}
		})}
		go func() { _ = server.Serve(l) }()
		if _, err := ask(context.Background(), socket, 1<<20, map[bool]time.Duration{true: 400 * time.Millisecond, false: time.Minute}[c.pause > 0]); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want %q", err, c.want)
		}
		_ = server.Close()
	}
}
