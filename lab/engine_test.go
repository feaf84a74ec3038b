package lab

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/collect"
	"steady-compass/core/estate"
	"steady-compass/intake/engine"
)

// podman is a real container engine with a store of its own, whose service answers until the test ends. It gives its
// socket and a way to run its commands.
func podman(t *testing.T) (socket string, run func(args ...string) string) {
	t.Helper()
	path, err := exec.LookPath("podman")
	if err != nil {
		t.Skip("podman is not installed: its container engine is not read")
	}
	dir := t.TempDir()
	global := []string{
		"--root", filepath.Join(dir, "root"), "--runroot", filepath.Join(dir, "run"), "--storage-driver", "vfs",
		"--cgroup-manager", "cgroupfs", "--network-config-dir", filepath.Join(dir, "networks"),
	}
	run = func(args ...string) string {
		t.Helper()
		out, err := exec.Command(path, append(slices.Clone(global), args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("podman %v: %v\n%s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	if err := os.MkdirAll(filepath.Join(dir, "image"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "image", "hello"), []byte("hello\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	archive := filepath.Join(dir, "image.tar")
	if out, err := exec.Command("tar", "-C", filepath.Join(dir, "image"), "-cf", archive, ".").CombinedOutput(); err != nil {
		t.Fatalf("tar: %v %s", err, out)
	}
	run("import", archive, "localhost/tiny")
	socket = filepath.Join(dir, "podman.sock")
	cmd := exec.Command(path, append(slices.Clone(global), "system", "service", "--time=0", "unix://"+socket)...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for range 100 {
		if _, err := collect.Engine(context.Background(), socket); err == nil {
			return socket, run
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatal("the engine's service does not answer within 10 s")
	return "", nil
}

func accountOf(s engine.State) []string {
	a, _ := s.Account("azimuth", true)
	var out []string
	for _, r := range a.Records {
		out = append(out, estate.Line(r))
	}
	slices.Sort(out)
	return out
}

// Containers that a real engine has come as they were made; and the stand-in, which has the same, gives the same records.
func TestContainerEngine(t *testing.T) {
	socket, run := podman(t)
	run("network", "create", "--subnet", "172.31.5.0/24", "dock")
	run("network", "create", "--subnet", "172.31.6.0/24", "vault")
	for _, c := range [][]string{
		{"--name", "front", "--network", "dock", "-p", "80:80", "-p", "443:443"},
		{"--name", "allsky", "--network", "dock:alias=sky", "-p", "8080:3000", "-p", "127.0.0.1:5353:53/udp", "-p", "[::1]:8081:3000"},
		{"--name", "stars", "--network", "dock:alias=measures", "--network", "vault", "-p", "7000-7003:7000-7003"},
		{"--name", "shop_db_1", "--network", "vault", "--label", "com.docker.compose.service=db", "-p", "5432:5432"},
		{"--name", "gauge", "--network", "host"},
		{"--name", "plain"},
		{"--name", "alone", "--network", "none"},
	} {
		run(append(append([]string{"create"}, c...), "localhost/tiny", "/hello")...)
	}
	state, err := collect.Engine(context.Background(), socket)
	if err != nil {
		t.Fatal(err)
	}
	got := accountOf(state)
	want := []string{
		"container azimuth/allsky in dock alias sky",
		"container azimuth/alone",
		"container azimuth/db in vault alias shop_db_1",
		"container azimuth/front in dock",
		"container azimuth/gauge shares-host",
		"container azimuth/plain in bridge",
		"container azimuth/stars in dock,vault alias measures",
		"host azimuth",
		"map azimuth/allsky 127.0.0.1:5353/udp to 53",
		"map azimuth/allsky 8080 to 3000",
		"map azimuth/allsky [::1]:8081 to 3000",
		"map azimuth/db 5432 to 5432",
		"map azimuth/front 80,443 to 80,443",
		"map azimuth/stars 7000-7003 to 7000-7003",
		"network bridge 10.88.0.0/16 on azimuth",
		"network dock 172.31.5.0/24 on azimuth",
		"network vault 172.31.6.0/24 on azimuth",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}

	fixture, err := json.Marshal(map[string]any{"containers": state.Containers, "networks": state.Networks})
	if err != nil {
		t.Fatal(err)
	}
	played, err := collect.Engine(context.Background(), serveEngine(t, fixture))
	if err != nil {
		t.Fatal(err)
	}
	if again := accountOf(played); !slices.Equal(again, got) {
		t.Errorf("the stand-in gives\n%s\nthe engine\n%s", strings.Join(again, "\n"), strings.Join(got, "\n"))
	}

	// What the engine's own command prints says the same.
	var printed engine.State
	for _, text := range []string{run("inspect", "front", "allsky", "stars", "shop_db_1", "gauge", "plain", "alone"), run("network", "inspect", "dock", "vault", "podman")} {
		s, faults := engine.Parse("inspect", text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		printed.Containers, printed.Networks = append(printed.Containers, s.Containers...), append(printed.Networks, s.Networks...)
	}
	for i, line := range want { // the command calls the engine's first network by another name than its service does
		want[i] = strings.ReplaceAll(line, "in bridge", "in podman")
		want[i] = strings.ReplaceAll(want[i], "network bridge", "network podman")
	}
	slices.Sort(want)
	if got := accountOf(printed); !slices.Equal(got, want) {
		t.Errorf("its inspect command gives\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// An engine that is not there, or says something else, is told; nothing is taken from it.
func TestEngineFaults(t *testing.T) {
	if _, err := collect.Engine(context.Background(), filepath.Join(t.TempDir(), "none.sock")); err == nil || !strings.Contains(err.Error(), "is not there") {
		t.Errorf("without a socket: %v", err)
	}
	socket := serveEngine(t, []byte(`{"containers":[{"Id":"a1","Name":"/x","HostConfig":7}],"networks":[]}`))
	if _, err := collect.Engine(context.Background(), socket); err == nil || !strings.Contains(err.Error(), "something else than expected") {
		t.Errorf("with a wrong document: %v", err)
	}
}
