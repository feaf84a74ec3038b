package main

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestLoopback: only addresses that nobody else reaches are listened on.
func TestLoopback(t *testing.T) {
	for _, c := range []struct{ listen, want, fault string }{
		{"127.0.0.1:7373", "127.0.0.1:7373", ""},
		{"localhost:0", "127.0.0.1:0", ""},
		{"[::1]:7373", "[::1]:7373", ""},
		{"127.8.9.1:1", "127.8.9.1:1", ""},
		{"0.0.0.0:7373", "", "can be reached from elsewhere"},
		{":7373", "", "can be reached from elsewhere"},
		{"203.0.113.1:7373", "", "expected a loopback address"},
		{"box:7373", "", "is no address"},
		{"7373", "", "is no address; expected one, as 127.0.0.1:7373"},
		{"::1:7373", "", "is no address"},
	} {
		got, err := (&accessFlags{}).listenAddress(c.listen)
		if got != c.want || (err == nil) != (c.fault == "") || err != nil && !strings.Contains(err.Error(), c.fault) {
			t.Errorf("%s: %q, %v; want %q, %q", c.listen, got, err, c.want, c.fault)
		}
	}
}

// said is what a command has printed so far, while it runs.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

var addressSaid = regexp.MustCompile(`Open (http://127\.0\.0\.1:\d+/)`)

// serving runs a command that serves, and gives the address that it says to open and a way to end it.
func serving(t *testing.T, args ...string) (address string, end func() int) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	var out, errs said
	code := make(chan int, 1)
	go func() { code <- run(ctx, args, streams{strings.NewReader(""), &out, &errs}) }()
	end = func() int {
		cancel()
		return <-code
	}
	for range 400 {
		if m := addressSaid.FindStringSubmatch(out.String()); m != nil {
			return m[1], end
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("it says no address: %s%s", out.String(), errs.String())
	return "", end
}

func fetched(t *testing.T, url string) string {
	t.Helper()
	resp, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = resp.Body.Close() }()
	text, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != http.StatusOK {
		t.Fatalf("%s: %d %v\n%s", url, resp.StatusCode, err, text)
	}
	return string(text)
}

// TestServeAndAsk serves the demo from a database, and asks that of the commands while it is served, and after; a copy of it has
// the same.
func TestServeAndAsk(t *testing.T) {
	dir := t.TempDir()
	db, copied := filepath.Join(dir, "demo.db"), filepath.Join(dir, "copy.db")
	address, end := serving(t, "serve", "--alone", "--db", db, "--listen", "127.0.0.1:0")
	resp, err := http.Post(address+"api/example", "application/json", strings.NewReader("{}"))
	if err != nil || resp.StatusCode != http.StatusOK {
		t.Fatalf("the example is not taken: %v %v", resp, err)
	}
	_ = resp.Body.Close()
	var state struct {
		Name    string
		Records int
	}
	if err := json.Unmarshal([]byte(fetched(t, address+"api/state")), &state); err != nil || state.Name != "Fernmoor Observatory" || state.Records < 100 {
		t.Errorf("%+v, %v", state, err)
	}
	if code, out, errs := call(t, "", "answer", "fernmoor.example", "--db", db); code != 0 || !strings.Contains(out, "203.0.113.20") {
		t.Errorf("asked while it is served: exit %d\n%s%s", code, out, errs)
	}
	if code, _, errs := call(t, "", "backup", copied, "--db", db); code != 0 {
		t.Errorf("copied while it is served: exit %d\n%s", code, errs)
	}
	taken := strings.TrimSuffix(strings.TrimPrefix(address, "http://"), "/")
	if code, _, errs := call(t, "", "serve", "--alone", "--db", filepath.Join(dir, "other.db"), "--listen", taken); code != 2 || !strings.Contains(errs, "cannot be listened on") {
		t.Errorf("on a port that is taken: exit %d\n%s", code, errs)
	}
	if code := end(); code != 0 {
		t.Errorf("it ends with %d", code)
	}
	if _, err := net.Dial("tcp", taken); err == nil {
		t.Error("it is served still")
	}
	_, was, _ := call(t, "", "check", "--db", db, "--day", "2026-12-01", "--json")
	_, is, _ := call(t, "", "check", "--db", copied, "--day", "2026-12-01", "--json")
	if was != is || len(was) < 1000 {
		t.Errorf("the copy is found otherwise: %d bytes and %d", len(was), len(is))
	}
	again, end := serving(t, "serve", "--alone", "--db", db, "--listen", "localhost:0")
	if !strings.Contains(fetched(t, again+"api/state"), "Fernmoor Observatory") {
		t.Error("what was kept is not served again")
	}
	if code := end(); code != 0 {
		t.Errorf("it ends with %d", code)
	}
	for args, want := range map[string]string{
		"backup " + copied + " --db " + db:            "is there already",
		"backup " + copied + " --db nowhere.db":       "nowhere.db: no such database",
		"check --db nowhere.db":                       "no such database; expected one that serve or demo made",
		"serve --db " + db + " --listen 0.0.0.0:0":    "can be reached from elsewhere",
		"serve --db " + dir + " --listen 127.0.0.1:0": "",
	} {
		if code, _, errs := call(t, "", strings.Fields(args)...); code != 2 && want != "" || code == 0 || !strings.Contains(errs, want) {
			t.Errorf("%s: exit %d\n%s", args, code, errs)
		}
	}
}

// TestDemo serves the demo estate, each time as it was.
func TestDemo(t *testing.T) {
	t.Chdir(t.TempDir())
	for range 2 {
		address, end := serving(t, "demo", "--listen", "127.0.0.1:0")
		if text := fetched(t, address+"api/records"); !strings.Contains(text, "fernmoor.example") || strings.Contains(text, "passing") {
			t.Error("the demo is not as it was")
		}
		resp, err := http.Post(address+"api/change", "application/json", strings.NewReader(`{"base": 1, "remove": [], "add": ["host passing"]}`))
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		if resp.StatusCode != http.StatusOK || !strings.Contains(fetched(t, address+"api/records"), "passing") {
			t.Errorf("a change is not taken: %d", resp.StatusCode)
		}
		if code := end(); code != 0 {
			t.Errorf("it ends with %d", code)
		}
	}
}

// TestFormatInPlace writes a file in canonical form, and leaves one alone that cannot be read.
func TestFormatInPlace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "my.estate")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	read := func() string {
		t.Helper()
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	write("HOST   box   ROUTER\n# about the lan\nnetwork lan 10.0.0.0/24\n")
	if code, out, errs := call(t, "", "fmt", path); code != 0 || !strings.Contains(out, "network   lan") || !strings.HasPrefix(read(), "HOST") {
		t.Errorf("printed: exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs := call(t, "", "fmt", "--write", path); code != 0 || out != "" {
		t.Errorf("written: exit %d\n%s%s", code, out, errs)
	}
	if got := read(); got != "# about the lan\nnetwork   lan 10.0.0.0/24\nhost      box router\n" {
		t.Errorf("written\n%s", got)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("its permissions are %v, %v", info.Mode(), err)
	}
	if list, err := os.ReadDir(filepath.Dir(path)); err != nil || len(list) != 1 {
		t.Errorf("%d files are left, %v", len(list), err)
	}
	write("host box\nhots gate\n")
	if code, _, errs := call(t, "", "fmt", "--write", path); code != 2 || !strings.Contains(errs, path+":2:1") || read() != "host box\nhots gate\n" {
		t.Errorf("what cannot be read: exit %d\n%s", code, errs)
	}
	if code, _, errs := call(t, "", "fmt", "--write", path+".none"); code != 2 || !strings.Contains(errs, "cannot be read") {
		t.Errorf("what is not there: exit %d\n%s", code, errs)
	}
}

// TestExposureUndecided prints what cannot be told apart from what is open.
func TestExposureUndecided(t *testing.T) {
	code, out, errs := call(t, small+"filter f on box input otherwise drop\nrule f unknown 443\n", "exposure", "--estate", "-")
	if code != 0 || !strings.Contains(out, "Open from internet: 0") || !strings.Contains(out, "Not known: 1") || !strings.Contains(out, "443/tcp") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	code, out, _ = call(t, small+"listen box 25 as mail\nforward gate 25 to 10.0.0.2\nfilter f on box input otherwise drop\nrule f pass 25 from 198.51.100.0/24\nrule f pass 443\n", "exposure", "--estate", "-")
	if code != 0 || !strings.Contains(out, "undeclared") || !strings.Contains(out, "198.51.100.0/24") || !strings.Contains(out, "declared") {
		t.Errorf("for some only: exit %d\n%s", code, out)
	}
}
