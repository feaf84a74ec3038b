package lab

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// build makes the program once for all benches.
var build = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "steady-compass-lab-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "steady-compass")
	out, err := exec.Command("go", "build", "-o", path, "steady-compass/cmd/steady-compass").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build: %w\n%s", err, out)
	}
	return path, nil
})

func TestMain(m *testing.M) {
	code := m.Run()
	if path, err := build(); err == nil {
		_ = os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

// program is a running server.
type program struct {
	url string
	cmd *exec.Cmd
	out *bufio.Reader // what it prints next
	as  string        // the cookie of who asks; empty where nobody signs in
}

// start runs the program until the test ends; it listens on a free port of its own choosing.
func start(t testing.TB, args ...string) *program {
	t.Helper()
	path, err := build()
	if err != nil {
		t.Fatal(err)
	}
	return launch(t, exec.Command(path, args...))
}

// launch starts a server that is not listening yet.
func launch(t testing.TB, cmd *exec.Cmd) *program {
	t.Helper()
	cmd.Args = append(cmd.Args, "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "TMPDIR="+t.TempDir())
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var errors bytes.Buffer
	cmd.Stderr = &errors
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	p := &program{cmd: cmd, out: bufio.NewReader(out)}
	t.Cleanup(p.kill)
	line, err := p.out.ReadString('\n')
	url, found := strings.CutPrefix(strings.TrimSpace(line), "Open ")
	if err != nil || !found {
		t.Fatalf("the program printed %q (%v)\n%s", line, err, errors.String())
	}
	p.url = strings.TrimSuffix(url, "/")
	return p
}

func (p *program) kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// signed is the program as somebody asks it who sets a password with a one-time code.
func (p *program) signed(t testing.TB, name, code string) *program {
	t.Helper()
	as := *p
	if status, err := as.call("POST", "/api/sign-in/code", map[string]string{"name": name, "code": code, "password": herons}, nil); err != nil || status != http.StatusOK {
		t.Fatal(name, status, err)
	}
	return &as
}

// call asks the API, and decodes its answer into out where the status is 200.
func (p *program) call(method, path string, body, out any) (int, error) {
	var reader io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return 0, err
		}
		reader = bytes.NewReader(text)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute) // what must come; a slow machine is no fault
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, p.url+path, reader)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Content-Type", "application/json")
	if p.as != "" {
		req.Header.Set("Cookie", p.as)
	}
	req.Header.Set("Origin", p.url)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer func() { _ = resp.Body.Close() }()
	for _, c := range resp.Cookies() {
		p.as = c.Name + "=" + c.Value
	}
	text, err := io.ReadAll(resp.Body)
	if err == nil && out != nil && resp.StatusCode == http.StatusOK {
		err = json.Unmarshal(text, out)
	}
	return resp.StatusCode, err
}

// decoded reads an answer.
func decoded[T any](t testing.TB, text string) (out T) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
	return out
}
