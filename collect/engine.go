package collect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"time"

	"steady-compass/intake/engine"
)

// What an engine may answer: in all, however slowly it comes.
const (
	mostAnswered   = 64 << 20 // bytes
	longestAnswers = 2 * time.Minute
)

// Engine asks a container engine at a Unix socket for its containers, running or not, and its networks, by the calls
// that engines have in common: /containers/json, /containers/ID/json and /networks.
func Engine(ctx context.Context, socket string) (engine.State, error) {
	return ask(ctx, socket, mostAnswered, longestAnswers)
}

func ask(ctx context.Context, socket string, most int64, longest time.Duration) (engine.State, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, longest, fmt.Errorf("%s did not answer everything within %s", socket, longest))
	defer cancel()
	client := &http.Client{
		Timeout: 20 * time.Second,
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "unix", socket)
		}},
	}
	defer client.CloseIdleConnections()
	left := most
	get := func(path string, into any) error {
		err := getJSON(ctx, client, socket, path, &left, into)
		if cause := context.Cause(ctx); err != nil && cause != nil {
			return cause
		}
		if left < 0 {
			return fmt.Errorf("%s answers more than %d MB", socket, most>>20)
		}
		return err
	}

	var s engine.State
	var list []struct {
		ID string `json:"Id"`
	}
	if err := get("/containers/json?all=1", &list); err != nil {
		return s, err
	}
	for _, c := range list {
		var one engine.Container
		err := get("/containers/"+url.PathEscape(c.ID)+"/json", &one)
		if errors.Is(err, errGone) {
			continue // removed since it was listed
		}
		if err != nil {
			return s, err
		}
		s.Containers = append(s.Containers, one)
	}
	return s, get("/networks", &s.Networks)
}

var errGone = errors.New("no such thing any more")

func getJSON(ctx context.Context, client *http.Client, socket, path string, left *int64, into any) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://engine"+path, nil)
	if err != nil {
		return err
	}
	res, err := client.Do(req)
	if err != nil {
		switch {
		case errors.Is(err, fs.ErrPermission):
			return fmt.Errorf("%s may not be opened by this user", socket)
		case errors.Is(err, fs.ErrNotExist):
			return fmt.Errorf("%s is not there", socket)
		}
		return fmt.Errorf("nobody answers at %s: %w", socket, err)
	}
	defer func() { _ = res.Body.Close() }()
	switch {
	case res.StatusCode == http.StatusNotFound && path != "/networks":
		return fmt.Errorf("%s: %s: %w", socket, path, errGone)
	case res.StatusCode != http.StatusOK:
		text, _ := io.ReadAll(io.LimitReader(res.Body, 300))
		return fmt.Errorf("%s answers %s to %s: %s", socket, res.Status, path, text)
	}
	if err := json.NewDecoder(&counted{res.Body, left}).Decode(into); err != nil {
		return fmt.Errorf("%s gives something else than expected at %s: %w", socket, path, err)
	}
	return nil
}

// counted reads as long as something is left of a number of bytes.
type counted struct {
	io.Reader
	left *int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if *c.left -= int64(n); *c.left < 0 {
		return n, errors.New("more than expected")
	}
	return n, err
}
