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

// Engine asks a container engine at a Unix socket for its containers, running or not, and its networks, by the calls
// that engines have in common: /containers/json, /containers/ID/json and /networks.
func Engine(ctx context.Context, socket string) (engine.State, error) {
	client := &http.Client{
		Timeout: 20 * time.Second,
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "unix", socket)
		}},
	}
	defer client.CloseIdleConnections()
	get := func(path string, into any) error { return getJSON(ctx, client, socket, path, into) }

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

func getJSON(ctx context.Context, client *http.Client, socket, path string, into any) error {
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
	if err := json.NewDecoder(res.Body).Decode(into); err != nil {
		return fmt.Errorf("%s gives something else than expected at %s: %w", socket, path, err)
	}
	return nil
}
