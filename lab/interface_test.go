package lab

import (
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"steady-compass/core/synth"
)

// verdict is the outcome that a trace's heading shows.
const verdict = `document.querySelector('[data-verdict]')?.dataset.verdict`

func traceURL(p *program, target, from string) string {
	return p.url + "/trace/" + url.PathEscape(target) + "?from=" + from
}

// TestFilterInOrder reads a filter line by line: one that is left nothing says so, moving it shows what that does before it
// is kept, and undo takes it back.
func TestFilterInOrder(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/filters/edge?line=9")
	b.until(`document.querySelector('[data-rule="9"][aria-selected=true]')?.innerText.includes('line 8 takes all that it names')`)
	b.press("[")
	b.until(`document.querySelector('[data-effect]')?.innerText.includes('203.0.113.20:2222')`)
	b.until(`[...document.querySelectorAll('[data-rule]')].findIndex((r) => r.dataset.rule === '9') === 7`)
	b.press(kb.Enter)
	b.until(`document.querySelector('[data-rule="8"]')?.innerText.includes('office')`)
	b.press("u")
	b.until(`document.querySelector('[data-rule="9"]')?.innerText.includes('line 8 takes all that it names')`)
	b.do(chromedp.Navigate(traceURL(p, "archive.fernmoor.example:443", "internet")))
	b.until(`[...document.querySelectorAll('button')].some((x) => x.innerText === 'edge, line by line')`)
	b.until(`([...document.querySelectorAll('button')].find((x) => x.innerText === 'edge, line by line').click(), true)`)
	b.until(`location.pathname === '/filters/edge'`)
}

// TestCloseADoor closes a door that is meant to be open: what else that would do stands there first.
func TestCloseADoor(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/exposure")
	b.until(`[...document.querySelectorAll('[role=row]')].some((r) => r.innerText.includes('azimuth/front') && r.innerText.includes('80'))`)
	row := `[...document.querySelectorAll('[role=row]')].find((r) => r.innerText.startsWith('203.0.113.20') && r.innerText.includes('zenith') && r.innerText.includes('mail'))`
	b.until(row + `?.innerText.includes('declared')`)
	b.until(`([...` + row + `.querySelectorAll('button')].find((x) => x.innerText === 'close').click(), true)`)
	b.until(`document.querySelector('[data-closing] [data-effect]')?.innerText.includes('closes')`)
	b.says("[data-closing]", "forward meridian 25 to 10.40.8.20")
	b.until(`([...document.querySelectorAll('[data-closing] button')].find((x) => x.innerText.startsWith('Close it')).click(), true)`)
	b.until(`!` + row)
	b.press("u")
	b.until(row)
}

// TestPlantedFaults goes through each fault that the demo has and that can be judged by now: seen in its trace
// and among the findings, mended with a key until it arrives, and broken again by undo.
func TestPlantedFaults(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelectorAll('[data-name]').length > 15`)
	for _, f := range []struct{ target, from, code, finding string }{
		{"sky.fernmoor.example:443", "internet", "upstream.localhost", "sky.fernmoor.example:443"},
		{"api.fernmoor.example:443", "internet", "upstream.mapped-port", "api.fernmoor.example:443"},
		{"feed.fernmoor.example:8883", "internet", "path.forward-transport", "feed.fernmoor.example:8883"},
		{"notes.fernmoor.example:443", "internet", "path.loopback", "notes.fernmoor.example:443"},
		{"visit.fernmoor.example:443", "internet", "site.none", "visit.fernmoor.example:443"},
		{"www.fernmoor.example:443", "internet", "cert.names", "www.fernmoor.example:443"},
		{"mail.fernmoor.example:25", "internet", "name.stale", "mail.fernmoor.example"},
		{"archive.fernmoor.example:443", "yard", "path.no-hairpin", "archive.fernmoor.example:443"},
		{"203.0.113.20:2222", "office", "path.blocked", "203.0.113.20:2222"},
	} {
		t.Run(f.code, func(t *testing.T) {
			b.t = t
			b.do(chromedp.Navigate(p.url + "/findings/" + f.code + "/" + url.PathEscape(f.finding)))
			b.until(fmt.Sprintf(`document.querySelector('[role=option][aria-selected=true]')?.dataset.code === %q`, f.code))
			b.do(chromedp.Navigate(traceURL(p, f.target, f.from)))
			b.until(fmt.Sprintf(`document.querySelector('[data-break=%q]')`, f.code))
			b.until(verdict + ` !== 'arrives'`)
			b.press("m")
			b.until(verdict + ` === 'arrives'`)
			b.until(`!document.querySelector('[data-break]')`)
			b.press("u")
			b.until(fmt.Sprintf(`document.querySelector('[data-break=%q]')`, f.code))
		})
	}
	b.t = t
	for _, f := range [][2]string{{"conflict.map", "azimuth:8080/tcp"}, {"name.dangling", "old.fernmoor.example"}, {"name.broken-alias", "charts.fernmoor.example"}, {"exposure.undeclared", "azimuth:5432/tcp"}} {
		b.do(chromedp.Navigate(p.url + "/findings/" + f[0] + "/" + url.PathEscape(f[1])))
		b.until(fmt.Sprintf(`document.querySelector('[role=option][aria-selected=true]')?.dataset.code === %q`, f[0]))
		b.until(`document.querySelector('[data-effect]')`)
		b.press("m")
		b.until(fmt.Sprintf(`![...document.querySelectorAll('[role=option]')].some(e => e.dataset.code === %q && e.innerText.includes(%q))`, f[0], f[1]))
		b.press("u")
		b.until(fmt.Sprintf(`[...document.querySelectorAll('[role=option]')].some(e => e.dataset.code === %q && e.innerText.includes(%q))`, f[0], f[1]))
	}
}

// TestTypedLineByLine types the example of the notation into the bearing line, and then the name.
func TestTypedLineByLine(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../core/trace/testdata/example.estate")
	if err != nil {
		t.Fatal(err)
	}
	p := start(t, "serve", "--alone", "--db", t.TempDir()+"/typed.db")
	b := open(t, p.url+"/")
	b.says("main", "Nothing is written down yet")
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	b.press("/")
	for i, line := range lines {
		b.until(`document.activeElement.id === 'bearing' && document.activeElement.value === ''`)
		b.press(line)
		b.press(kb.Enter)
		b.until(fmt.Sprintf(`document.querySelector('header p').innerText.startsWith('%d record')`, i+1))
	}
	b.press("hots azimuth")
	b.press(kb.Enter)
	b.until(`document.activeElement.value === '' || document.querySelector('[role=alert]')`)
	b.do(chromedp.Navigate(traceURL(p, "sky.fernmoor.example", "internet")))
	b.until(verdict + ` === 'gateway-error'`)
	b.says("[data-break]", "azimuth/allsky is reached as allsky:3000")
	b.says("[role=tab]", "80")
	b.press("o")
	b.until(verdict + ` === 'silent'`)
	b.says("[data-break]", "rule edge at 3 pass 80 from internet to azimuth")
}

// TestBearingLine says what a line means, completes it, and keeps what was typed where it is wrong.
func TestBearingLine(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelectorAll('[data-name]').length > 15`)
	b.press("/")
	b.press("map azimuth/pages 9100 to 8000")
	b.says("header", "Whoever reaches azimuth on 9100/tcp gets to pages, port 8000.")
	b.says("[data-effect]", "gauge listens on it")
	b.press(kb.Escape)
	eval[bool](b, `(document.getElementById('bearing').select(), true)`)
	b.press("forward meri")
	b.says("[role=option]", "meridian")
	b.press(kb.Tab)
	b.until(`document.getElementById('bearing').value === 'forward meridian '`)
	b.press("99999 to 10.0.0.1")
	b.says("[role=alert]", "expected a port from 1 to 65535")
	b.press(kb.Enter)
	b.until(`document.getElementById('bearing').value === 'forward meridian 99999 to 10.0.0.1'`)
	eval[bool](b, `(document.getElementById('bearing').select(), true)`)
	b.press("sign.fernmoor.example")
	b.press(kb.Enter)
	b.until(verdict + ` === 'arrives'`)
	b.until(`location.pathname.startsWith('/trace/sign')`)
}

// TestEditedWhereItStands types into a record of a trace: the verdict answers before anything is kept.
func TestEditedWhereItStands(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, traceURL(p, "sky.fernmoor.example:443", "internet"))
	b.until(`document.querySelector('[data-break]')`)
	eval[bool](b, `([...document.querySelectorAll('[data-break] button')].find(e => e.innerText === 'Edit').click(), true)`)
	b.until(`document.activeElement.tagName === 'TEXTAREA'`)
	for range len("localhost:3000") {
		b.press(kb.Backspace)
	}
	b.press("allsky:3000")
	b.until(verdict + ` === 'arrives'`)
	b.says("[data-verdict]", "as typed")
	if n := eval[string](b, `document.querySelector('header p').innerText`); !strings.Contains(n, "revision 1") {
		t.Errorf("something was kept already: %s", n)
	}
	b.press(kb.Enter)
	b.until(`document.querySelector('header p').innerText.includes('revision 2') && !document.querySelector('main textarea') && ` + verdict + ` === 'arrives'`)
	b.press("u")
	b.until(verdict + ` === 'gateway-error'`)
}

// TestRecordsEditor edits the whole text: errors in the margin, what saving would do, saved as one change.
func TestRecordsEditor(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/records")
	b.until(`document.querySelectorAll('.cm-line').length > 10`)
	eval[bool](b, `(document.querySelector('.cm-content').focus(), true)`)
	b.press(kb.Enter)
	b.press(kb.ArrowUp)
	b.press("hots x")
	b.says("aside", "no kind of record is called")
	for range len("ts x") {
		b.press(kb.Backspace)
	}
	b.press("st fresh")
	b.says("aside", "0 lines go, 1 comes.")
	eval[bool](b, `([...document.querySelectorAll('aside button')].find(e => e.innerText.startsWith('Save')).click(), true)`)
	b.until(`document.querySelector('header p').innerText.includes('revision 2')`)
	b.do(chromedp.Navigate(p.url + "/log"))
	b.says("[data-revision='2']", "+ host fresh")
	eval[bool](b, `(document.querySelector("[data-revision='2'] button").click(), true)`)
	b.says("[data-revision='3']", "− host fresh")
}

// TestTenThousandNames moves through ten thousand rows with the keyboard.
func TestTenThousandNames(t *testing.T) {
	t.Parallel()
	p := start(t, "serve", "--alone", "--db", t.TempDir()+"/large.db")
	status, err := p.call("POST", "/api/records", map[string]any{"base": 0, "text": synth.String(10_000, 1)}, nil)
	if err != nil || status != 200 {
		t.Fatalf("status %d, %v", status, err)
	}
	b := open(t, p.url+"/")
	b.until(`document.querySelectorAll('[data-name]').length > 15`)
	rows := eval[int](b, `document.querySelectorAll('[data-name]').length`)
	if rows > 120 {
		t.Errorf("%d rows are in the page at once", rows)
	}
	eval[bool](b, `(document.querySelector('[role=grid]').focus(), true)`)
	b.press(kb.End)
	b.until(`document.querySelector('[role=row][aria-selected=true]')?.getBoundingClientRect().bottom <= innerHeight`)
	b.until(`Number(document.querySelector('[role=row][aria-selected=true]').id.split('-')[1]) > 9000`)
	b.press(kb.ArrowUp)
	b.press(kb.Enter)
	b.until(`location.pathname.startsWith('/trace/')`)
	b.until(`document.querySelector('[data-step]')`)
}

// TestAnotherPersonsChange appears without a reload, and an edit that meets it is not lost.
func TestAnotherPersonsChange(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, traceURL(p, "sky.fernmoor.example:443", "internet"))
	b.until(verdict + ` === 'gateway-error'`)
	change := map[string]any{"base": 1, "remove": []string{"site front sky.fernmoor.example at 443 to http://localhost:3000"}, "add": []string{"site front sky.fernmoor.example at 443 to http://allsky:3000"}}
	if status, err := p.call("POST", "/api/change", change, nil); err != nil || status != 200 {
		t.Fatalf("status %d, %v", status, err)
	}
	b.until(verdict + ` === 'arrives'`)
}

// toKind goes to the first line of a kind in the editor of the records.
func toKind(word string) string {
	return fmt.Sprintf(`([...document.querySelectorAll('nav button')].find((x) => x.firstChild.textContent.trim() === %q).click(), true)`, word)
}

// TestImportedFile takes a zone file over: shown first, its faults too, kept as one change, taken back with a key.
func TestImportedFile(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/records")
	b.until(toKind("dns"))
	b.until(`document.querySelector('.cm-caution')`)
	drop := func(name, text string) {
		eval[bool](b, fmt.Sprintf(`(() => {
			const held = new DataTransfer();
			held.items.add(new File([%q], %q));
			const input = document.getElementById('import-files');
			input.files = held.files;
			return input.dispatchEvent(new Event('change', { bubbles: true }));
		})()`, text, name))
	}
	click := func(label string) {
		b.until(fmt.Sprintf(`[...document.querySelectorAll('aside button')].some(e => e.innerText === %q && !e.disabled)`, label))
		eval[bool](b, fmt.Sprintf(`([...document.querySelectorAll('aside button')].find(e => e.innerText === %q).click(), true)`, label))
	}
	drop("fernmoor.example.zone", "$TTL 1h\nwww CNAME @\nnew A 203.0.113.20\nbad A 1.2.3\nmail A 203.0.113.20\n")
	b.says("[data-import]", `fernmoor.example.zone, line 4, column 11: "1.2.3" cannot stand in a record of type A`)
	b.says("[data-import]", "+ dns new.fernmoor.example A 203.0.113.20")
	b.says("[data-import]", "1 to add, 1 to change, 2 left as they are")
	b.says("[data-import] [data-effect]", "new.fernmoor.example")
	click("Keep what can be read")
	b.until(`document.querySelector('header p').innerText.includes('revision 2') && !document.querySelector('[data-import]')`)
	drop("fernmoor.example.zone", "$TTL 1h\nwww CNAME @\nnew A 203.0.113.20\nmail A 203.0.113.20\n")
	b.says("[data-import]", "0 to add, 0 to change, 4 left as they are")
	click("Leave it")
	b.until(`!document.querySelector('[data-import]')`)
	drop("hosts", "10.40.8.20 store.fernmoor.example\n")
	b.says("[data-import]", "it does not say of which machine it is")
	eval[bool](b, `([...document.querySelectorAll('[data-import] input')].at(-1).focus(), true)`)
	b.press("zenith")
	b.says("[data-import]", "+ name store.fernmoor.example 10.40.8.20 on zenith")
	click("Keep")
	b.until(`document.querySelector('header p').innerText.includes('revision 3')`)
	eval[bool](b, `(document.activeElement.blur(), true)`)
	b.press("u")
	b.until(`document.querySelector('header p').innerText.includes('revision 4')`)
}

// TestMovedAddress finds where the public address is used, puts another in its place but for one line, and takes it
// back.
func TestMovedAddress(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelectorAll('[data-name]').length > 15`)
	b.press("/")
	b.press("203.0.113.20")
	b.says("header", "Used in")
	b.do(chromedp.KeyEvent(kb.Enter, chromedp.KeyModifiers(chromedp.ModifierShift)))
	b.until(`location.pathname === '/uses/203.0.113.20' && document.querySelectorAll('[data-use=direct]').length === 13`)
	eval[bool](b, `(document.getElementById('move-to').focus(), true)`)
	b.press("203.0.113.77")
	b.says("aside", "Change 13 lines")
	eval[bool](b, `([...document.querySelectorAll('[data-use=direct] input')].at(-1).click(), true)`)
	b.says("aside", "Change 12 lines")
	b.says("aside [data-effect]", "the old answer may be seen until")
	b.press(kb.Enter)
	b.until(`location.pathname === '/uses/203.0.113.77' && document.querySelectorAll('[data-use=direct]').length === 12`)
	eval[bool](b, `(document.activeElement.blur(), true)`)
	b.press("u")
	b.until(`document.querySelectorAll('[data-use=direct]').length === 0`)
}

// TestAnswersBesideOneAnother shows the odd answer of a split view.
func TestAnswersBesideOneAnother(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelectorAll('[data-name]').length > 15`)
	b.press("b")
	b.says("[data-answer='dome.fernmoor.example A'] .odd", "no such name")
	b.says("[data-answer='old.fernmoor.example A']", "nobody")
	b.until(`document.querySelectorAll('[data-differs]').length === 3`)
	b.press(kb.Escape)
	b.until(`location.pathname === '/'`)
}

// TestPorts goes through the machines and their ports with the keyboard, finds one anywhere, and begins a line with the
// next that is free.
func TestPorts(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/ports?machine=azimuth")
	b.says("[data-machine=azimuth]", "2 claim it")
	b.says("[data-depth='8080']", "azimuth 8080/tcp is mapped to allsky and to stars; allsky gets it")
	b.says("[data-depth='5432']", "past local")
	b.says("[data-depth='8883']", "meridian 8883/udp")
	b.press(kb.ArrowRight)
	b.press(kb.ArrowRight)
	b.until(`document.querySelector('[data-port][aria-pressed=true]')?.dataset.port === '80'`)
	b.press(kb.ArrowDown)
	b.until(`document.querySelector('[data-machine][aria-selected=true]').dataset.machine === 'zenith'`)
	eval[bool](b, `(document.getElementById('ports-find').focus(), true)`)
	b.press("5432")
	b.until(`document.querySelectorAll('[data-machine]').length === 1`)
	b.press(kb.Enter)
	b.until(`document.querySelector('[data-port="5432"]')`)
	eval[bool](b, `(document.querySelector('[data-port="5432"]').click(), true)`)
	b.says("header", "trace [2001:db8:40:8::10]:5432 from internet")
	eval[bool](b, `(document.querySelector('[role=grid]').focus(), true)`)
	b.press(kb.Enter)
	b.until(verdict + ` === 'arrives'`)
	b.do(chromedp.Navigate(p.url + "/ports?machine=azimuth"))
	b.says("form code", "8001")
	eval[bool](b, `([...document.querySelectorAll('form button')].find(e => e.innerText === 'listen on it').click(), true)`)
	b.until(`document.activeElement.id === 'bearing' && document.activeElement.value === 'listen azimuth 8001 as '`)
	b.press("spare")
	b.press(kb.Enter)
	b.says("[data-depth='8001']", "spare")
}

// TestUndoByKey takes back a small change at once, however soon the key is pressed, and leads to the Log where the last
// change brought the whole estate.
func TestUndoByKey(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, traceURL(p, "sky.fernmoor.example:443", "internet"))
	b.until(`document.querySelector('[data-break]')`)
	b.press("m")
	b.press("u") // before anything has come back
	b.until(`document.querySelector('header p').innerText.includes('revision 3')`)
	b.until(verdict + ` === 'gateway-error'`)
	b.press("u")
	b.until(`location.pathname === '/log'`)
	b.says("main, [role=status]", "Revision 1 changed 206 lines")
	if n := eval[string](b, `document.querySelector('header p').innerText`); !strings.Contains(n, "revision 3") {
		t.Errorf("the whole estate was taken back by a key: %s", n)
	}
}

const appOnEighty = `network lan 10.0.0.0/24
network dock 172.20.0.0/24 on box
host gate router
host box
host hub
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
address hub 10.0.0.3 lan
zone a.example
dns app.a.example A 203.0.113.1
dns hub.a.example A 10.0.0.3 for lan
forward gate 80 to 10.0.0.2
filter edge on gate through otherwise drop
rule edge pass 80 from internet to box
container box/front in dock
container box/app in dock
map box/app 80 to 3000
listen box/app 3000 as app
listen hub 80 as hub
site hub hub.a.example to http://box:80
intend app.a.example 80 for internet reaching box/app
intend hub.a.example 80 for lan reaching box/app
`

// TestFrontBeforeAnApplication puts a front before an application that sits on port 80: its outer port moves with all that
// followed it, 80 goes to the front, and every consequence is said before anything is kept.
func TestFrontBeforeAnApplication(t *testing.T) {
	t.Parallel()
	p := start(t, "serve", "--alone", "--db", t.TempDir()+"/app.db")
	if status, err := p.call("POST", "/api/records", map[string]any{"base": 0, "text": appOnEighty}, nil); err != nil || status != 200 {
		t.Fatalf("status %d, %v", status, err)
	}
	b := open(t, p.url+"/ports?machine=box&port=80")
	b.until(`document.querySelector('[data-port="80"][aria-pressed=true]')`)
	b.press("w")
	b.until(`location.pathname === '/uses/box%3A80' && document.querySelectorAll('[data-use=direct]').length === 4`)
	b.press("r")
	for range len("r") {
		b.press(kb.Backspace)
	}
	b.press("8081")
	b.says("aside", "Change 4 lines")
	b.says("aside [data-effect]", "closes to lan")
	eval[bool](b, `(document.querySelector('aside textarea').focus(), true)`)
	b.press("map box/front 80 to 80\nlisten box/front 80 as front\nsite front app.a.example to http://app:3000")
	b.says("aside", "Change 2 lines, add 3")
	b.says("aside [data-effect]", "as meant")
	stays := eval[string](b, `[...document.querySelectorAll('[data-use=direct]')].filter(e => e.innerText.includes('stays')).map(e => e.innerText).join(' ')`)
	for _, line := range []string{"forward gate 80 to 10.0.0.2", "rule edge pass 80 from internet to box"} {
		if !strings.Contains(stays, line) {
			t.Errorf("%s does not stay: %s", line, stays)
		}
	}
	eval[bool](b, `([...document.querySelectorAll('aside button')].find(e => e.innerText.startsWith('Change 2')).click(), true)`)
	b.until(`location.pathname === '/uses/box%3A8081' && document.querySelectorAll('[data-use=direct]').length === 2`)
	for _, target := range []string{"app.a.example:80", "hub.a.example:80"} {
		from := map[bool]string{true: "internet", false: "lan"}[target == "app.a.example:80"]
		b.do(chromedp.Navigate(traceURL(p, target, from)))
		b.until(verdict + ` === 'arrives'`)
	}
	b.says("main", "box:8081")
}

// TestPortPlan writes a plan of rows, is told what would collide before anything is kept, and switches the rest on at once.
func TestPortPlan(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	running := map[string]any{"base": 1, "remove": []string{"listen relay 1883 as telemetry off"}, "add": []string{"listen relay 1883 as telemetry"}}
	if status, err := p.call("POST", "/api/change", running, nil); err != nil || status != 200 {
		t.Fatal(status, err) // else a line is planned already
	}
	b := open(t, p.url+"/ports?machine=azimuth")
	b.until(`document.querySelector('[data-depth]')`)
	b.press("p")
	b.until(`document.activeElement.tagName === 'TEXTAREA'`)
	b.says("aside", "Nothing is planned")
	for eval[string](b, `document.activeElement.value`) != "" { // the key may have written itself
		b.press(kb.Backspace)
	}
	b.press("8444 azimuth/pages:8000 a second\n8080 lab")
	b.says("aside", `Row 2: "lab" is no address, machine or container`)
	b.press("x") // still wrong, and still there
	b.says("aside", `Row 2: "labx"`)
	for range len("labx") {
		b.press(kb.Backspace)
	}
	b.press("azimuth/lab:8000")
	b.says("[data-written] [data-planned=collides]", "azimuth 8080/tcp is mapped to allsky and to lab")
	b.says("[data-written]", "Write the 2 down, off")
	eval[bool](b, `([...document.querySelectorAll('[data-written] button')].find(e => e.innerText.startsWith('Write')).click(), true)`)
	b.says("section[aria-label='Planned on azimuth']", "map azimuth/pages 8444 to 8000")
	b.says("aside", "Switch on 2")
	eval[bool](b, `(document.querySelector("[data-planned=collides] input").click(), true)`)
	b.says("aside", "Switch on 1")
	b.says("aside [data-effect]", "8444")
	eval[bool](b, `([...document.querySelectorAll('aside button')].find(e => e.innerText === 'Switch on 1').click(), true)`)
	b.until(`document.querySelector("[data-port='8444']")`)
	b.until(`document.querySelectorAll('aside [data-planned]').length === 1`)
}

// TestImportedCompose reads two Compose files together, for a machine and with a variable, and shows what they change.
func TestImportedCompose(t *testing.T) {
	p := start(t, "demo")
	var got struct {
		Format, Needs, Wrong string
		Add, Remove, Left    []string
	}
	files := []map[string]string{
		{"name": "compose.yaml", "text": "services:\n  allsky:\n    image: x\n    ports: [\"${SKY}:3000\"]\n    networks: [dock]\nnetworks:\n  dock: {external: true}\n"},
		{"name": "compose.more.yaml", "text": "services:\n  tide:\n    image: y\n    ports: [\"8090:90\"]\n    networks: [dock]\n"},
	}
	if _, err := p.call("POST", "/api/import", map[string]any{"files": files}, &got); err != nil || got.Format != "compose" || got.Needs != "place" {
		t.Fatalf("%v %+v", err, got)
	}
	got.Wrong = ""
	body := map[string]any{"files": files, "place": "azimuth", "variables": map[string]string{"SKY": "8089"}}
	if _, err := p.call("POST", "/api/import", body, &got); err != nil || got.Wrong != "" {
		t.Fatalf("%v %+v", err, got)
	}
	for _, want := range []string{"map azimuth/allsky 8089 to 3000", "container azimuth/tide in dock", "map azimuth/tide 8090 to 90"} {
		if !slices.Contains(got.Add, want) {
			t.Errorf("%s does not come: %q", want, got.Add)
		}
	}
}

// TestWall shows the gaps of the wall by day of a change: what it opened and closed, with the doors below, from the keyboard.
func TestWall(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	change := map[string]any{
		"base": 1, "remove": []string{"map azimuth/stars-db 5432 to 5432"}, "add": []string{"listen azimuth 6000-6063/udp as media"}, "why": "what Tuesday brought",
	}
	if status, err := p.call("POST", "/api/change", change, nil); err != nil || status != 200 {
		t.Fatalf("status %d, %v", status, err)
	}
	b := open(t, p.url+"/exposure?against=1")
	b.until(`document.querySelector('[data-change=opened] b')?.innerText === '1' && document.querySelector('[data-change=closed] b')?.innerText === '1'`)
	b.until(`[...document.querySelectorAll("[data-wall='2001:db8:40:8::10'] text")].some(e => e.textContent === '+6000-6063/udp')`)
	b.until(`[...document.querySelectorAll("[data-wall='2001:db8:40:8::10'] [data-gap]")].some(e => e.dataset.gap.includes(' 5432 '))`)
	b.until(`document.querySelectorAll("[data-wall='2001:db8:40::1'] [data-gap]").length === 0`)
	b.until(`document.activeElement.getAttribute('role') === 'table'`)
	b.press(kb.ArrowDown)
	b.until(`document.querySelector('[data-door][aria-selected=true]')?.dataset.door === '[2001:db8:40:8::10]:6000-6063'`)
	b.press("d")
	b.until(`document.querySelector('header p').innerText.includes('revision 3')`)
	b.says("[data-door='[2001:db8:40:8::10]:6000-6063']", "declared")
	eval[bool](b, `(document.querySelector('[aria-label^="The wall"]').focus(), true)`)
	before := eval[int](b, `document.querySelectorAll('[data-gap]').length`)
	for range 6 {
		b.press("+")
	}
	b.until(fmt.Sprintf(`document.querySelectorAll('[data-gap]').length < %d`, before))
	b.press("0")
	b.until(fmt.Sprintf(`document.querySelectorAll('[data-gap]').length >= %d`, before-1))
	b.do(chromedp.Navigate(p.url + "/exposure?against=yard"))
	b.says("[data-change=opened]", "Open here, and not from yard")
	b.do(chromedp.Navigate(p.url + "/exposure?against=99"))
	b.says("[role=alert]", "revision 99 is not there yet")
}
