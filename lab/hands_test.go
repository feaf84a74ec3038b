package lab

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// types presses the keys of a text one after another, at the pace of a quick typist.
func (b *browser) types(text string) {
	b.t.Helper()
	for _, key := range text {
		b.press(string(key))
		time.Sleep(30 * time.Millisecond)
	}
}

const bearing = `document.getElementById('bearing')`

// records waits until the frame counts so many records.
func (b *browser) records(n int) {
	b.t.Helper()
	b.until(fmt.Sprintf(`document.querySelector('header p').innerText.startsWith('%d record')`, n))
}

// TestTypingAhead types lines one after another without waiting for anything: each is kept, in order, and one that is wrong comes
// back without taking from the others.
func TestTypingAhead(t *testing.T) {
	t.Parallel()
	p := start(t, "serve", "--alone", "--db", filepath.Join(t.TempDir(), "a.db"))
	b := open(t, p.url+"/")
	b.says("main", "Nothing is written down yet")
	b.press("/")
	lines := []string{
		"network lan 10.0.0.0/24", "host gate router", "host box unlisted", "address gate 203.0.113.7 internet", "address gate 10.0.0.1 lan",
		"hots wrong", "address box 10.0.0.2 lan", "dns u.example A 203.0.113.7", "forward gate 443 to 10.0.0.2", "listen box 443 as u tls",
	}
	for _, line := range lines {
		b.types(line)
		b.press(kb.Enter)
	}
	b.records(len(lines) - 1)
	b.says("[data-returned] code", "hots wrong")
	b.says("[data-returned]", "nearest: host")
	// Left alone, it is put where it can be mended.
	b.until(bearing + `.value === 'hots wrong' && document.activeElement === ` + bearing)
	for range len("hots wrong") {
		b.press(kb.Backspace)
	}
	b.types("host wrong")
	b.press(kb.Enter)
	b.records(len(lines))
	b.until(`!document.querySelector('[data-returned]') && ` + bearing + `.value === ''`)
	var log []struct {
		Added []string `json:"added"`
	}
	if _, err := p.call("GET", "/api/log", nil, &log); err != nil {
		t.Fatal(err)
	}
	var kept []string
	for i := len(log) - 1; i >= 0; i-- {
		kept = append(kept, strings.ReplaceAll(strings.Join(log[i].Added, "\n"), " at 1 ", " "))
	}
	want := strings.Replace(strings.Join(lines, "\n"), "hots wrong\n", "", 1) + "\nhost wrong"
	if got := strings.Join(kept, "\n"); got != want {
		t.Errorf("kept in this order\n%s\nwant\n%s", got, want)
	}
	// Typed on after a trace was begun: no key acts on the view, none is lost.
	b.types("u.example")
	b.press(kb.Enter)
	b.types("host u")
	b.until(bearing + `.value === 'host u' && location.pathname.startsWith('/trace/u.example')`)
	b.press(kb.Enter)
	b.records(len(lines) + 1)
	// Nor while what was asked for is long in coming.
	b.slow(1500 * time.Millisecond)
	b.types("gate")
	b.press(kb.Enter)
	time.Sleep(900 * time.Millisecond)
	b.types("host v")
	b.until(bearing + `.value === 'host v' && location.pathname.startsWith('/trace/gate')`)
	b.press(kb.Enter)
	b.records(len(lines) + 2)
}

// TestPastedLines pastes several lines: they are shown with what they would do, and recorded as one change.
func TestPastedLines(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelectorAll('[data-name]').length > 15`)
	before := eval[int](b, `parseInt(document.querySelector('header p').innerText)`)
	paste := func(text string) {
		b.press("/")
		b.until(`document.activeElement === ` + bearing)
		eval[bool](b, fmt.Sprintf(`(() => { const data = new DataTransfer(); data.setData('text/plain', %q);
			return %s.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true })) || true })()`, text, bearing))
	}
	paste("# the new one\nhost quill\naddres quill 10.40.8.77 perimeter\n")
	b.says("[data-pasted] [role=alert]", "Line 3")
	b.says("[data-pasted] [role=alert]", "nearest: address")
	b.press(kb.Escape)
	b.until(`!document.querySelector('[data-pasted]')`)
	paste("# the new one\nhost quill\naddress quill 10.40.8.77 perimeter\n")
	b.says("[data-pasted]", "recorded as one change")
	b.until(`document.querySelector('[data-pasted] [data-effect]')`)
	b.press(kb.Enter)
	b.records(before + 2)
	b.until(`!document.querySelector('[data-pasted]') && document.activeElement === ` + bearing)
	if n := eval[string](b, `document.querySelector('header p').innerText`); !strings.Contains(n, "revision 2") {
		t.Errorf("not one change: %s", n)
	}
}

// command runs the program once, and gives what it printed and its exit code.
func command(t testing.TB, args ...string) (string, int) {
	t.Helper()
	path, err := build()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(path, args...)
	out, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		t.Fatal(err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// TestTwoHands has a command, and a second server, write to a database that is served: everybody sees it, nothing is lost.
func TestTwoHands(t *testing.T) {
	t.Parallel()
	db := filepath.Join(t.TempDir(), "a.db")
	p, q := start(t, "serve", "--alone", "--db", db), start(t, "serve", "--alone", "--db", db)
	add := func(p *program, base int, line string) int {
		status, err := p.call("POST", "/api/change", map[string]any{"base": base, "add": []string{line}, "remove": []string{}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return status
	}
	if status := add(p, 0, "host a"); status != http.StatusOK {
		t.Fatal(status)
	}
	b := open(t, p.url+"/records")
	b.records(1)
	if out, code := command(t, "import", "estate", writeFile(t, "host b\nnetwork lan 10.0.0.0/24\naddress b 10.0.0.2 lan\n"), "--db", db); code != 0 {
		t.Fatalf("exit %d\n%s", code, out)
	}
	b.records(4) // without a reload
	if out, code := command(t, "move", "10.0.0.2", "10.0.0.3", "--db", db); code != 0 {
		t.Fatalf("exit %d\n%s", code, out)
	}
	if status := add(q, 1, "host c"); status != http.StatusOK {
		t.Errorf("by the second server, from an old revision: %d", status)
	}
	if status := add(p, 1, "host d"); status != http.StatusOK {
		t.Errorf("by the first: %d", status)
	}
	b.records(6)
	want := "network   lan 10.0.0.0/24\nhost      a\nhost      b\nhost      c\nhost      d\naddress   b 10.0.0.3 lan\n"
	for _, server := range []*program{p, q} {
		b := open(t, server.url+"/")
		b.records(6)
		var records struct{ Text string }
		if _, err := server.call("GET", "/api/records", nil, &records); err != nil || records.Text != want {
			t.Errorf("%v\n%s", err, records.Text)
		}
	}
	if out, code := command(t, "export", "estate", "--db", db); code != 0 || out != want {
		t.Errorf("on disk, exit %d\n%s", code, out)
	}
}

func writeFile(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "some.estate")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestTheFileUnderTheServer: a database file that is moved away is said to be, no edit is acknowledged, and put back it goes on.
func TestTheFileUnderTheServer(t *testing.T) {
	t.Parallel()
	db := filepath.Join(t.TempDir(), "a.db")
	p := start(t, "serve", "--alone", "--db", db)
	b := open(t, p.url+"/")
	b.says("main", "Nothing is written down yet")
	b.press("/")
	b.types("host a")
	b.press(kb.Enter)
	b.records(1)
	if err := os.Rename(db, db+".away"); err != nil {
		t.Fatal(err)
	}
	b.says("[data-trouble]", "was moved or removed while it was open")
	b.types("host b")
	b.press(kb.Enter)
	b.says("[data-returned]", "nothing that comes now would be kept")
	if err := os.Rename(db+".away", db); err != nil {
		t.Fatal(err)
	}
	b.until(`!document.querySelector('[data-trouble]')`)
	b.until(bearing + `.value === 'host b'`)
	b.press(kb.Enter)
	b.records(2)
}

// TestWhileTheServerIsAway: what is typed while nothing answers is sent when it does, once; views ask again by themselves.
func TestWhileTheServerIsAway(t *testing.T) {
	t.Parallel()
	db := filepath.Join(t.TempDir(), "a.db")
	path, err := build()
	if err != nil {
		t.Fatal(err)
	}
	p := start(t, "serve", "--alone", "--db", db)
	b := open(t, p.url+"/")
	b.says("main", "Nothing is written down yet")
	b.press("/")
	b.types("host a")
	b.press(kb.Enter)
	b.records(1)
	p.kill()
	b.says("[role=status]", "The program does not answer")
	b.types("host b")
	b.press(kb.Enter)
	b.types("host c")
	b.press(kb.Enter)
	b.says("[role=status]", "2 changes wait")
	again := exec.Command(path, "serve", "--alone", "--db", db, "--listen", strings.TrimPrefix(p.url, "http://"))
	if err := again.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = again.Process.Kill(); _ = again.Wait() })
	b.records(3)
	b.until(`!document.querySelector('[role=status]').innerText.includes('does not answer')`)
	b.do(chromedp.Navigate(p.url + "/log"))
	b.until(`document.querySelectorAll('[data-revision]').length === 3`)
}

// TestTwoPeopleOneLine: who comes second sees the one line that changed, theirs beside his own, and chooses.
func TestTwoPeopleOneLine(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, traceURL(p, "sky.fernmoor.example:443", "internet"))
	b.until(`document.querySelector('[data-break]')`)
	eval[bool](b, `([...document.querySelectorAll('[data-break] button')].find(e => e.innerText === 'Edit').click(), true)`)
	b.until(`document.activeElement.tagName === 'TEXTAREA'`)
	old := eval[string](b, `document.activeElement.value`)
	theirs := strings.Replace(old, "localhost:3000", "allsky:3001", 1)
	if status, err := p.call("POST", "/api/change", map[string]any{"base": 1, "remove": []string{old}, "add": []string{theirs}}, nil); err != nil || status != http.StatusOK {
		t.Fatal(status, err)
	}
	b.until(`document.querySelector('header p').innerText.includes('revision 2')`)
	for range len("localhost:3000") {
		b.press(kb.Backspace)
	}
	b.press("allsky:3000")
	b.press(kb.Enter)
	b.says("[data-clashes]", "allsky:3001")
	b.says("[data-clashes]", "allsky:3000")
	if text := eval[string](b, `document.querySelector('[data-clashes]').innerText`); strings.Count(text, "site ") != 2 {
		t.Errorf("it shows more than the one line:\n%s", text)
	}
	b.until(`([...document.querySelectorAll('[data-clashes] button')].find((x) => x.innerText === 'Put mine in its place').click(), true)`)
	b.until(verdict + ` === 'arrives'`)
}
