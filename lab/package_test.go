package lab

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// ran is what a program of the system prints; where it is not installed, the test is skipped.
func ran(t *testing.T, name string, args ...string) (string, error) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skip("no " + name + " on this machine")
	}
	out, err := exec.Command(path, args...).CombinedOutput()
	return string(out), err
}

// TestPackage builds the Debian package, and tries what is in it as far as that goes without installing it: the program runs, the services are
// such as the system's own checker takes, and shut off from what they do not need.
func TestPackage(t *testing.T) {
	program, err := build()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if out, err := ran(t, "sh", "../packaging/deb.sh", program, dir); err != nil {
		if _, missing := exec.LookPath("dpkg-deb"); missing != nil {
			t.Skip("no dpkg-deb on this machine")
		}
		t.Fatal(out, err)
	}
	built, _ := filepath.Glob(filepath.Join(dir, "steady-compass_*.deb"))
	if len(built) != 1 {
		t.Fatalf("built %v", built)
	}
	root, control := filepath.Join(dir, "root"), filepath.Join(dir, "control")
	for _, args := range [][]string{{"-x", built[0], root}, {"-e", built[0], control}} {
		if out, err := ran(t, "dpkg-deb", args...); err != nil {
			t.Fatal(out, err)
		}
	}
	version, err := ran(t, filepath.Join(root, "usr/bin/steady-compass"), "--version")
	if err != nil || !strings.Contains(built[0], "_"+strings.TrimSpace(version)+"_") {
		t.Errorf("%s is of version %q: %v", built[0], version, err)
	}
	for _, script := range []string{"postinst", "prerm", "postrm"} {
		if out, err := ran(t, "sh", "-n", filepath.Join(control, script)); err != nil {
			t.Error(script, out)
		}
		if out, err := ran(t, "sh", filepath.Join(control, script), "abort-upgrade"); err != nil || out != "" {
			t.Error(script, out, err)
		}
	}
	for _, name := range []string{"bin/sh", "usr/bin/find"} { // of the system's own, which the services name
		text, err := os.ReadFile("/" + name)
		if err != nil {
			t.Skip(err)
		}
		if err := os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, name), text, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	units := []string{"steady-compass.service", "steady-compass-backup.service", "steady-compass-backup.timer"}
	if out, err := ran(t, "systemd-analyze", append([]string{"verify", "--root=" + root, "--recursive-errors=no"}, units...)...); err != nil || strings.TrimSpace(out) != "" {
		t.Errorf("the services: %v\n%s", err, out)
	}
	for _, unit := range units[:2] {
		out, _ := ran(t, "systemd-analyze", "security", "--offline=true", "--root="+root, unit)
		m := regexp.MustCompile(`Overall exposure level for \S+: ([0-9.]+)`).FindStringSubmatch(out)
		if m == nil {
			t.Fatalf("%s: %s", unit, out)
		}
		if exposed, _ := strconv.ParseFloat(m[1], 64); exposed > 2 {
			t.Errorf("%s is exposed by %s, on the checker's scale of 10", unit, m[1])
		}
	}
	if out, err := ran(t, "systemd-sysusers", "--dry-run", "--root="+root, "steady-compass.conf"); err != nil {
		t.Error(out, err)
	}
}

// TestImage builds the container image: the program alone, for a user who is nobody.
func TestImage(t *testing.T) {
	program, err := build()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := exec.LookPath("podman"); err != nil {
		t.Skip("no podman on this machine: install Debian's package podman")
	}
	name := fmt.Sprintf("steady-compass-test-%d", os.Getpid())
	if out, err := ran(t, "sh", "../packaging/image.sh", program, name); err != nil {
		t.Fatal(out, err)
	}
	defer func() { _, _ = ran(t, "podman", "image", "rm", "--force", name) }()
	out, err := ran(t, "podman", "image", "inspect", name, "--format", "{{.Config.User}} {{.Config.Entrypoint}} {{.Config.Cmd}} {{.Config.Volumes}}")
	if err != nil || strings.TrimSpace(out) != "65532:65532 [/steady-compass] [serve --db /data/steady.db] map[/data:{}]" {
		t.Errorf("%s %v", out, err)
	}
	saved := filepath.Join(t.TempDir(), "image")
	if out, err := ran(t, "podman", "image", "save", "--format", "oci-dir", "--output", saved, name); err != nil {
		t.Fatal(out, err)
	}
	blobs, _ := filepath.Glob(filepath.Join(saved, "blobs", "*", "*"))
	var files string
	for _, blob := range blobs {
		if list, err := exec.Command("tar", "-tf", blob).Output(); err == nil {
			files += string(list)
		}
	}
	for _, want := range []string{"steady-compass\n", "data/\n", "tmp/\n"} {
		if !strings.Contains(files, want) {
			t.Errorf("%q is not in it:\n%s", want, files)
		}
	}
	if strings.Contains(files, "bin/sh") {
		t.Errorf("a shell is in it:\n%s", files)
	}
}
