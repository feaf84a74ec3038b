package docs

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"steady-compass/core/notation"
)

var update = flag.Bool("update", false, "write what the commands of the guide print into it")

// here is the address that the guide serves at, in whose place a free one is tried.
const here = "127.0.0.1:7373"

var (
	fence = regexp.MustCompile("(?ms)^```(\\w+)(?: (\\S+))?\n(.*?)^```$")
	link  = regexp.MustCompile(`\]\(([^)#:]+)\)`)
)

// TestGuide does what the guide says: its files are written, its commands run, and each prints what stands under it; its links lead somewhere.
// A line … stands for any others.
func TestGuide(t *testing.T) {
	bin := t.TempDir()
	if out, err := exec.Command("go", "build", "-o", bin+"/", "../cmd/steady-compass").CombinedOutput(); err != nil {
		t.Fatal(string(out), err)
	}
	pages, err := fs.Glob(Guide, "guide/*.md")
	if err != nil || len(pages) < 10 {
		t.Fatal(pages, err)
	}
	for _, page := range pages {
		t.Run(strings.TrimSuffix(filepath.Base(page), ".md"), func(t *testing.T) {
			raw, err := os.ReadFile(page)
			if err != nil {
				t.Fatal(err)
			}
			text := string(raw)
			for _, m := range link.FindAllStringSubmatch(text, -1) {
				if _, err := os.Stat(filepath.Join("guide", m[1])); err != nil {
					t.Errorf("a link leads nowhere: %s", m[1])
				}
			}
			w := work(t, bin)
			next := fence.ReplaceAllStringFunc(text, func(block string) string {
				m := fence.FindStringSubmatch(block)
				switch kind, name, body := m[1], m[2], m[3]; kind {
				case "estate", "change", "file":
					if kind == "estate" {
						if _, faults := notation.Parse(body); len(faults) > 0 {
							t.Errorf("%s: %v", name, faults)
						}
					}
					if err := os.WriteFile(filepath.Join(w.dir, name), []byte(body), 0o600); err != nil {
						t.Fatal(err)
					}
				case "console":
					return "```console\n" + w.console(body) + "```"
				default:
					t.Errorf("what is to be done with a block %q?", kind)
				}
				return block
			})
			if *update && next != text {
				if err := os.WriteFile(page, []byte(next), 0o644); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// worker does what a page says, in a folder of its own.
type worker struct {
	*testing.T
	dir, bin, address string
}

func work(t *testing.T, bin string) *worker {
	t.Helper()
	dir := t.TempDir()
	demo, err := filepath.Abs("../demo")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(demo, filepath.Join(dir, "demo")); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = l.Close() }()
	return &worker{t, dir, bin, l.Addr().String()}
}

// console runs the commands of a block, and gives the block with what they print.
func (w *worker) console(body string) string {
	w.Helper()
	var out strings.Builder
	for _, part := range regexp.MustCompile(`(?m)^\$ `).Split(body, -1)[1:] {
		command, want, _ := strings.Cut(part, "\n")
		got := w.run(command)
		if !*update && !like(want, got) {
			w.Errorf("$ %s\nprints\n%s\nand in the guide stands\n%s", command, got, want)
		}
		if strings.Contains(want, "…\n") && like(want, got) {
			got = want
		}
		fmt.Fprintf(&out, "$ %s\n%s", command, got)
	}
	return out.String()
}

// run runs a command line, and says what it prints, and its exit code where that is not 0. One that ends in & goes on until the page is done.
func (w *worker) run(command string) string {
	w.Helper()
	line := strings.ReplaceAll(command, here, w.address)
	ctx, cancel := context.WithTimeout(w.Context(), 3*time.Minute)
	w.Cleanup(cancel)
	rest, behind := strings.CutSuffix(line, " &")
	cmd := exec.CommandContext(ctx, "bash", "-c", rest)
	cmd.Dir = w.dir
	cmd.Env = append(os.Environ(), "PATH="+w.bin+":"+os.Getenv("PATH"), "NO_COLOR=1", "TZ=UTC", "STEADY_COMPASS_DAY=2026-12-01", "TMPDIR="+w.dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if behind {
		if err := cmd.Start(); err != nil {
			w.Fatal(err)
		}
		w.Cleanup(func() {
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
			_ = cmd.Wait()
		})
		for range 1200 {
			if r, err := http.Get("http://" + w.address + "/api/me"); err == nil { // it answers, and does not only listen
				_ = r.Body.Close()
				return ""
			}
			time.Sleep(50 * time.Millisecond)
		}
		w.Fatalf("%s: nothing listens on %s", command, w.address)
	}
	text, err := cmd.CombinedOutput()
	out := strings.ReplaceAll(string(text), w.address, here)
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		out += fmt.Sprintf("(exit %d)\n", ended.ExitCode())
	} else if err != nil {
		w.Fatal(command, err)
	}
	return out
}

// like says whether what was printed is what stands in the guide.
func like(want, got string) bool {
	var pattern strings.Builder
	for line := range strings.Lines(want) {
		if strings.TrimSpace(line) == "…" {
			pattern.WriteString(`(?:.*\n)*?`)
			continue
		}
		pattern.WriteString(regexp.QuoteMeta(line))
	}
	return regexp.MustCompile(`^` + pattern.String() + `$`).MatchString(got)
}
