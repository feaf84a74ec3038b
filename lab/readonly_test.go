package lab

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// nobody is the user that owns nothing, of every Linux system.
const nobody = 65534

// TestMayOnlyBeRead has a user who may read a database, and not write it or its folder, ask and edit: questions are answered, and an edit is
// refused before any of it is tried.
func TestMayOnlyBeRead(t *testing.T) {
	built, err := build()
	if err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "steady-compass-readonly-") // where others may look in
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = os.Chmod(dir, 0o700)
		_ = os.RemoveAll(dir)
	})
	db, path := filepath.Join(dir, "a.db"), filepath.Join(dir, "steady-compass")
	if out, code := command(t, "import", "estate", writeFile(t, "host b\nnetwork lan 10.0.0.0/24\naddress b 10.0.0.2 lan\nlisten b 22 as sshd\n"), "--db", db); code != 0 {
		t.Fatalf("exit %d\n%s", code, out)
	}
	text, err := os.ReadFile(built)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, text, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, mode := range map[string]os.FileMode{db: 0o444, path: 0o755, dir: 0o555} {
		if err := os.Chmod(name, mode); err != nil {
			t.Fatal(err)
		}
	}
	as := func(cmd *exec.Cmd) *exec.Cmd {
		if os.Getuid() == 0 {
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		}
		return cmd
	}
	run := func(args ...string) (string, int) {
		cmd := as(exec.Command(path, args...))
		cmd.Dir, cmd.Stdin = "/", strings.NewReader("host c\n")
		out, err := cmd.CombinedOutput()
		if _, exited := err.(*exec.ExitError); err != nil && !exited {
			t.Fatal(err)
		}
		return string(out), cmd.ProcessState.ExitCode()
	}
	if out, code := run("uses", "10.0.0.2", "--db", db); code != 0 || !strings.Contains(out, "address") {
		t.Errorf("a question: exit %d\n%s", code, out)
	}
	for _, args := range [][]string{{"move", "10.0.0.2", "10.0.0.3"}, {"import", "estate", "-"}} {
		out, code := run(append(args, "--db", db)...)
		if want := db + ": the file may only be read; nothing can be kept\n"; code != 2 || out != want {
			t.Errorf("%s: exit %d\n%swant %s", args[0], code, out, want)
		}
		if out, code := run(append(args, "--try", "--db", db)...); code != 0 || !strings.Contains(out, "+ ") {
			t.Errorf("%s --try: exit %d\n%s", args[0], code, out)
		}
	}
	p := launch(t, as(exec.Command(path, "serve", "--alone", "--db", db)))
	if status, err := p.call("GET", "/api/names", nil, nil); status != http.StatusOK {
		t.Errorf("names: %d %v", status, err)
	}
	edit := map[string]any{"base": 1, "add": []string{"host c"}, "remove": []string{}}
	if status, err := p.call("POST", "/api/change", edit, nil); status != http.StatusForbidden {
		t.Errorf("an edit ends with %d %v", status, err)
	}
}
