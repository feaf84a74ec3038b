package lab

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestWordsAndKeys opens the keys, and from them what the words mean; and reads the hints of every view: one key does the same
// in all that have it.
func TestWordsAndKeys(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelector('[role=grid]')`)
	b.press("?")
	b.until(`document.querySelector('[role=dialog]')`)
	b.press(kb.Tab + kb.Enter) // behind the guide
	b.until(`location.pathname === '/words'`)
	for _, word := range []string{"gateway error", "not known", "accept", "forward ROUTER"} {
		b.says("main", word)
	}
	does := map[string]string{}
	for _, path := range []string{"/", "/courses", "/answers", "/ports", "/exposure", "/findings", "/records", "/log", "/trace/sky.fernmoor.example%3A443", "/compare/sky.fernmoor.example%3A443", "/filters/edge", "/uses/azimuth", "/without/azimuth", "/certificates", "/dates", "/drafts", "/drafts/1"} {
		b.do(chromedp.Navigate(p.url + path))
		b.until(`document.querySelectorAll('footer kbd').length > 1`)
		for _, hint := range strings.Split(eval[string](b, `[...document.querySelectorAll('footer > span > span')].filter((s) => s.querySelector('kbd')).map((s) => s.querySelector('kbd').innerText + '\t' + s.innerText.slice(s.querySelector('kbd').innerText.length).trim()).join('\n')`), "\n") {
			key, what, _ := strings.Cut(hint, "\t")
			if len(key) != 1 { // arrows and Enter go by what is chosen
				continue
			}
			if before, known := does[key]; known && before != what && key != "v" { // seen from one vantage, or from one more
				t.Errorf("%s: %s does %q, and elsewhere %q", path, key, what, before)
			}
			does[key] = what
		}
	}
	if len(does) < 12 {
		t.Errorf("only these keys were found: %v", does)
	}
}

// TestCourses goes from the table to the same names as courses, leaves only what hangs on one machine, and comes to a trace, by keys alone.
func TestCourses(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/?filter=ridge")
	b.until(`document.querySelectorAll('[data-name]').length > 0`)
	b.press("t")
	b.until(`location.pathname === '/courses' && location.search === '?filter=ridge'`)
	b.until(`document.querySelectorAll('[data-column=name]').length === 2`)
	b.do(chromedp.Navigate(p.url + "/courses"))
	b.until(`document.querySelectorAll('[data-column=name]').length > 15 && document.querySelectorAll('[data-around]').length > 0`)
	b.press(kb.ArrowDown)
	b.until(`document.activeElement.dataset.column === 'name'`)
	for _, column := range []string{"answers", "edge", "machine"} {
		b.press(kb.ArrowRight)
		b.until(`document.activeElement.dataset.column === '` + column + `'`)
	}
	chosen := eval[string](b, `document.activeElement.dataset.node`)
	all := eval[int](b, `document.querySelectorAll('[data-column=name]').length`)
	b.press(kb.Enter)
	b.until(`location.search.includes('through=machine') && document.querySelectorAll('[data-column=machine]').length === 1`)
	if left := eval[int](b, `document.querySelectorAll('[data-column=name]').length`); left == 0 || left >= all {
		t.Errorf("%d of %d names go by %s", left, all, chosen)
	}
	b.press(kb.Escape)
	b.until(`location.search === '' && document.querySelectorAll('[data-column=name]').length === ` + strconv.Itoa(all))
	if at := eval[string](b, `document.activeElement.dataset.node ?? ''`); at != chosen {
		t.Errorf("after going back the focus is at %q, not at %s", at, chosen)
	}
	eval[bool](b, `(document.querySelector('[data-column=name]').focus(), true)`)
	b.press(kb.Enter)
	b.until(`location.pathname.startsWith('/trace/')`)

	// The drawing stands by itself as a file: all that it is drawn in is written on it.
	b.do(chromedp.Navigate(p.url + "/courses"))
	b.until(`document.querySelectorAll('[data-stroke]').length > 0`)
	eval[bool](b, `((make) => { URL.createObjectURL = (blob) => { blob.text().then((t) => { window.drawn = t }); return make.call(URL, blob) }; return true })(URL.createObjectURL)`)
	eval[bool](b, `([...document.querySelectorAll('button')].find((x) => x.innerText === 'SVG').click(), true)`)
	b.until(`window.drawn`)
	var drawing struct {
		XMLName xml.Name `xml:"http://www.w3.org/2000/svg svg"`
		Height  float64  `xml:"height,attr"`
	}
	if err := xml.Unmarshal([]byte(eval[string](b, `window.drawn`)), &drawing); err != nil || drawing.Height < 400 {
		t.Errorf("the drawing as a file: %v, %v high", err, drawing.Height)
	}
}

// TestSideBySide holds a name from outside against the same from inside, and mends what keeps it from the inside.
func TestSideBySide(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/trace/archive.fernmoor.example%3A443")
	b.until(`document.querySelector('[data-verdict]')`)
	b.press("c")
	b.until(`location.pathname.startsWith('/compare/')`)
	b.until(`document.querySelectorAll('[data-verdict=arrives]').length === 1 && document.querySelector('[data-side=right] [data-break="path.no-hairpin"]')`)
	if joined := eval[int](b, `document.querySelectorAll('[data-joined]').length`); joined < 4 {
		t.Errorf("joined at %d steps", joined)
	}
	b.says("main", "yard")
	b.press("m")
	b.until(`document.querySelectorAll('[data-verdict=arrives]').length === 2`)
	b.press("s")
	b.until(`location.search.includes('from=yard') && location.search.includes('otherfrom=internet')`)
	b.do(chromedp.Navigate(p.url + "/compare/archive.fernmoor.example%3A443?from=yard&revision=1"))
	b.until(`document.querySelector('[data-side=right] [data-break="path.no-hairpin"]')`)
	if eval[bool](b, `[...document.querySelectorAll('button')].some((x) => x.innerText === 'Mend')`) {
		t.Error("what is past is to be mended")
	}
	b.press(kb.Escape)
	b.until(`location.pathname.startsWith('/trace/') && location.search === '?from=yard'`)
}

// TestWaysIn lists the ways in that end at a container, from one vantage and another, and opens one.
func TestWaysIn(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/uses/azimuth%2Fallsky")
	b.until(`document.querySelectorAll('[data-leads] button').length > 0 && document.querySelector('[data-leads]').innerText.includes('[2001:db8:40:8::10]:8080')`)
	b.do(chromedp.Navigate(p.url + "/trace/sky.fernmoor.example%3A443"))
	b.until(`document.querySelector('[data-other-end="1"]')?.innerText.includes('[2001:db8:40:8::10]:8080')`) // the other end of what is broken
	b.do(chromedp.Navigate(p.url + "/uses/azimuth%2Fpages"))
	b.until(`document.querySelector('[data-leads]')?.innerText.includes('through azimuth/front')`)
	var got struct {
		Ways []struct{ Name, Address, End string }
	}
	if status, err := p.call("GET", "/api/leads?to=azimuth/allsky:3000&from=perimeter", nil, &got); err != nil || status != 200 || len(got.Ways) == 0 || got.Ways[0].End != "azimuth/allsky:3000" {
		t.Errorf("%d %v %v", status, err, got)
	}
	for _, wrong := range []string{"nobody", "azimuth:0", "azimuth:x"} {
		if status, _ := p.call("GET", "/api/leads?to="+wrong, nil, nil); status != 422 {
			t.Errorf("ways to %s: %d", wrong, status)
		}
	}
}

// TestWithoutAPart: from a trace, what the name stands on; from one of these, what stops with it; nothing is changed by looking.
func TestWithoutAPart(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/trace/book.fernmoor.example%3A443")
	b.until(`document.querySelector('[data-step]')`)
	b.press("g")
	b.until(`location.pathname === '/without/book.fernmoor.example%3A443' && document.querySelectorAll('[data-stand=host]').length === 3`)
	b.until(`document.querySelector('h2').textContent === 'What book.fernmoor.example:443 stands on'`)
	eval[bool](b, `(document.querySelector('[data-stand=certificate] button').click(), true)`)
	b.until(`location.pathname === '/without/star' && document.querySelector('h2').textContent === 'Without star'`)
	b.until(`document.querySelector('[data-stops="book.fernmoor.example:443"]') && !document.querySelector('[data-stops="fernmoor.example:443"]')`)
	b.press("w")
	b.until(`location.pathname === '/uses/star'`)
	var state struct{ Revision int }
	if _, err := p.call("GET", "/api/state", nil, &state); err != nil || state.Revision != 1 {
		t.Errorf("something was changed: %+v, %v", state, err)
	}
}

// TestWaysIntoAnEmptyEstate reads the machine that the program runs on from the first screen: what it would write down is shown,
// and kept by one press. A file dropped on any view is shown too.
func TestWaysIntoAnEmptyEstate(t *testing.T) {
	t.Parallel()
	p := start(t, "serve", "--alone", "--db", filepath.Join(t.TempDir(), "a.db"))
	b := open(t, p.url+"/")
	press := func(name string) string {
		return fmt.Sprintf(`(() => { const x = [...document.querySelectorAll('button')].find((x) => x.innerText.trim() === %q && !x.disabled); x?.click(); return !!x })()`, name)
	}
	b.until(press("Read this machine"))
	b.until(`location.pathname === '/records' && document.querySelector('[data-import] li')`)
	b.says("[data-import]", "+ host ")
	b.until(press("Keep"))
	b.until(`!document.querySelector('[data-import]')`)
	b.until(`!document.body.innerText.includes('0 records')`)

	b.do(chromedp.Navigate(p.url + "/exposure"))
	b.until(`document.querySelector('main')`)
	eval[bool](b, `(() => {
		const data = new DataTransfer();
		data.items.add(new File(['192.0.2.1 dropped.example\n'], 'hosts'));
		document.querySelector('main').dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
		return true })()`)
	b.until(`location.pathname === '/records' && document.querySelector('[data-import] h2')?.innerText === 'hosts'`)
}

// TestMendThatDoesNotHold looks at a finding whose nearest mend would open what nobody declared: it is not offered, and the key
// says why; once it is declared, it is.
func TestMendThatDoesNotHold(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "a.estate")
	text := "network lan 10.0.0.0/24\nhost gate router\naddress gate 203.0.113.1 internet\naddress gate 10.0.0.1 lan\nhost box\naddress box 10.0.0.5 lan\nforward gate 80/udp to 10.0.0.5\nlisten box 80 as web\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	db := filepath.Join(t.TempDir(), "a.db")
	if out, code := command(t, "import", "estate", file, "--db", db); code != 0 {
		t.Fatal(out)
	}
	p := start(t, "serve", "--alone", "--db", db)
	b := open(t, p.url+"/findings/path.forward-transport/gate:80%2Fudp")
	b.until(`document.querySelector('[data-tried=not]')`)
	b.says("[data-tried]", "It would open 203.0.113.1:80 on box to the internet, which no intent covers.")
	const button = `[...document.querySelectorAll('aside button')].some((x) => x.innerText === 'Mend')`
	if eval[bool](b, button) {
		t.Error("it is offered all the same")
	}
	b.press("m")
	b.until(`document.body.innerText.includes('No mend that holds is known. It would open')`)
	var state struct{ Revision, Records int }
	if _, err := p.call("GET", "/api/state", nil, &state); err != nil || state.Revision != 1 {
		t.Errorf("something was changed: %v %+v", err, state)
	}
	declared := map[string]any{"base": 1, "remove": []string{}, "add": []string{"intend 203.0.113.1 80 for internet reaching box"}}
	if status, err := p.call("POST", "/api/change", declared, nil); err != nil || status != 200 {
		t.Fatal(status, err)
	}
	b.until(`document.querySelector('[data-tried=holds]') && ` + button)
	b.press("m")
	b.until(`document.body.innerText.includes('Mended path.forward-transport')`)
}

// TestImportIsStopped stops the keeping of a large import as soon as that can be: all of it is kept or nothing, and what stands
// in the panel by then is what is left to add.
func TestImportIsStopped(t *testing.T) {
	t.Parallel()
	const lines = 8000
	p := start(t, "serve", "--alone", "--db", filepath.Join(t.TempDir(), "a.db"))
	b := open(t, p.url+"/records")
	b.until(`document.querySelector('#import-files')`)
	eval[bool](b, fmt.Sprintf(`(() => {
		const data = new DataTransfer();
		const text = 'host box\n' + Array.from({ length: %d }, (_, i) => 'listen box ' + (i + 1) + ' as p').join('\n');
		data.items.add(new File([text], 'big.estate'));
		document.querySelector('main').dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
		return true })()`, lines-1))
	b.until(fmt.Sprintf(`document.querySelector('[data-import]')?.innerText.includes('%d to add')`, lines))
	eval[bool](b, `(() => {
		const find = (name) => [...document.querySelectorAll('[data-import] button')].find((x) => x.innerText.trim() === name);
		const stopping = setInterval(() => { const stop = find('Stop'); if (stop) { stop.click(); clearInterval(stopping) } }, 1);
		find('Keep').click();
		return true })()`)
	b.until(`document.body.innerText.includes('Stopped.')`)
	var state struct{ Records int }
	if _, err := p.call("GET", "/api/state", nil, &state); err != nil {
		t.Fatal(err)
	}
	if state.Records != 0 && state.Records != lines {
		t.Errorf("%d of %d records are kept", state.Records, lines)
	}
	b.until(fmt.Sprintf(`document.querySelector('[data-import]')?.innerText.includes('%d to add')`, lines-state.Records))
}

// TestBackToTheRow opens a trace from a filtered table, and comes back to the same row and filter; the table is copied as columns.
func TestBackToTheRow(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/?filter=fernmoor&show=stops")
	b.until(`document.querySelectorAll('[role=row]').length > 3`)
	for range 3 {
		b.press(kb.ArrowDown)
	}
	row := eval[string](b, `document.querySelector('[role=row][aria-selected=true]').innerText`)
	for _, back := range []string{`(history.back(), true)`, ``} {
		b.press(kb.Enter)
		b.until(`location.pathname.startsWith('/trace/') && document.querySelector('[data-step]')`)
		if back != "" {
			b.until(back)
		} else {
			b.press(kb.Escape)
		}
		b.until(`location.pathname === '/' && location.search.includes('filter=fernmoor') && location.search.includes('show=stops')`)
		b.until(fmt.Sprintf(`document.querySelector('[role=row][aria-selected=true]')?.innerText === %q`, row))
	}
	copied := eval[string](b, `(() => {
		const rows = [...document.querySelectorAll('[role=row]')];
		document.getSelection().setBaseAndExtent(rows[0], 0, rows[2], rows[2].childNodes.length);
		const data = new DataTransfer();
		document.dispatchEvent(new ClipboardEvent('copy', { clipboardData: data, bubbles: true, cancelable: true }));
		return data.getData('text/plain') })()`)
	if lines := strings.Split(copied, "\n"); len(lines) < 2 || strings.Count(lines[0], "\t") < 7 {
		t.Errorf("copied %q", copied)
	}
}

// TestListByKeys goes through the findings and the machines by keys: the choice moves, is announced, stands in the address
// when it rests, and is there again when one comes back.
func TestListByKeys(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/findings")
	const chosen = `document.querySelector('[role=option][aria-selected=true]')`
	b.until(chosen)
	first := eval[string](b, chosen+`.innerText`)
	for _, key := range []string{kb.ArrowDown, "j", kb.ArrowDown, kb.ArrowUp, "5", "z"} {
		b.press(key)
	}
	third := eval[string](b, `document.querySelectorAll('[role=option]')[2].innerText`)
	b.until(fmt.Sprintf(`%s?.innerText === %q && document.activeElement === %s`, chosen, third, chosen))
	b.until(`decodeURIComponent(location.pathname).includes(` + chosen + `.dataset.code)`)
	b.press(kb.Enter)
	b.until(`location.pathname.startsWith('/trace/')`)
	b.until(`(history.back(), true)`)
	b.until(fmt.Sprintf(`%s?.innerText === %q`, chosen, third))
	b.press(kb.Home)
	b.until(fmt.Sprintf(`%s?.innerText === %q`, chosen, first))
	b.press(kb.End)
	b.until(`+` + chosen + `?.getAttribute('aria-posinset') === +` + chosen + `?.getAttribute('aria-setsize')`)

	b.do(chromedp.Navigate(p.url + "/ports?machine=azimuth"))
	const active = `document.getElementById(document.querySelector('[role=grid]')?.getAttribute('aria-activedescendant'))`
	b.until(active + `?.dataset.machine === 'azimuth' && document.activeElement.getAttribute('role') === 'grid'`)
	b.press(kb.ArrowDown)
	b.until(active + `?.dataset.machine === 'zenith'`)
	b.press(kb.ArrowRight)
	b.until(active + `?.getAttribute('role') === 'gridcell' && ` + active + `.getAttribute('aria-selected') === 'true'`)
	b.until(`location.search.includes('machine=zenith') && location.search.includes('port=22')`)
	b.press("w")
	b.until(`location.pathname.startsWith('/uses')`)
}

// TestAcceptSaysWhyNot accepts a finding without a reason and a day: it is said what is missing.
func TestAcceptSaysWhyNot(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/findings")
	b.until(`document.querySelector('[role=option][aria-selected=true]')`)
	b.press("a")
	b.until(`document.querySelector('[role=dialog] input') === document.activeElement`)
	b.press(kb.Backspace) // the key may have written itself
	b.press(kb.Enter)
	b.says("[role=dialog]", "Say why")
	b.says("[role=dialog]", "Say until which day")
	b.press("known for years")
	b.until(`!document.querySelector('[role=dialog]').innerText.includes('Say why')`)
}

// TestDates walks what comes due, opens it, and sees an answer that was changed come to it by itself.
func TestDates(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/dates")
	b.until(`document.querySelector('[data-due="ridge"]')`)
	b.until(`document.querySelector('[data-timeline] [data-date="ridge"]')`)
	var calendar struct {
		Dates []struct{ Name string }
	}
	if status, err := p.call("GET", "/api/dates", nil, &calendar); err != nil || status != http.StatusOK {
		t.Fatal(status, err)
	}
	if n := eval[int](b, `document.querySelectorAll('[data-timeline] [data-date]').length`); n != len(calendar.Dates) {
		t.Errorf("%d marks on the line for %d dates", n, len(calendar.Dates))
	}
	change := map[string]any{
		"base":   1,
		"remove": []string{"dns sky.fernmoor.example A 203.0.113.20 ttl 5m"}, "add": []string{"dns sky.fernmoor.example A 203.0.113.21 ttl 5m"},
	}
	if status, err := p.call("POST", "/api/change", change, nil); err != nil || status != http.StatusOK {
		t.Fatal(status, err)
	}
	b.until(`document.querySelector('[data-due="sky.fernmoor.example"]')?.innerText.includes('answer of before')`)
	feed, err := http.Get(p.url + "/api/dates.ics")
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(feed.Body)
	if err := errors.Join(err, feed.Body.Close()); err != nil {
		t.Fatal(err)
	}
	if kind := feed.Header.Get("Content-Type"); kind != "text/calendar; charset=utf-8" || !strings.Contains(string(text), "SUMMARY:Old answers of sky.fernmoor.example are over\r\n") {
		t.Errorf("the feed is %s\n%s", kind, text)
	}
	// Chosen and opened at once, while the next view is slow to come: the choice stays in the address of the view that it was made in.
	b.slow(500 * time.Millisecond)
	eval[bool](b, `(document.querySelector('[data-timeline] [data-date="ridge"]').dispatchEvent(new MouseEvent('click', { bubbles: true })), true)`)
	b.until(`document.querySelector('[data-due="ridge"]').getAttribute('aria-selected') === 'true'`)
	eval[bool](b, `(document.querySelector('[data-due="ridge"]').focus(), true)`)
	b.press(kb.Enter)
	b.until(`document.querySelector('[data-cert="ridge"]')`)
	if at := eval[string](b, `location.pathname + location.search`); at != "/certificates?cert=ridge" {
		t.Errorf("the certificate is opened at %s", at)
	}
	b.slow(0)
	b.do(chromedp.NavigateBack())
	b.until(`document.querySelector('[data-due="ridge"]')?.getAttribute('aria-selected') === 'true'`)
}

// TestRecordedAndSeen sees in Names what was seen otherwise, in a trace at which station, and below it what would explain it.
func TestRecordedAndSeen(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/?show=seen+otherwise")
	b.until(`document.querySelector('[data-sight=otherwise]')`)
	b.until(`![...document.querySelectorAll('[data-name]')].some((row) => !row.querySelector('[data-sight=otherwise]'))`)
	b.do(chromedp.Navigate(p.url + "/trace/ridge.fernmoor.example%3A443"))
	b.until(`document.querySelector('[data-seen=connect][data-otherwise]')?.innerText.includes('refused')`)
	b.until(`document.querySelector('[data-seen=resolve] [data-sight=as-recorded]')`)
	b.until(`document.querySelector('[data-suspect]')?.dataset.suspect === 'camera does not run on ridge-cam'`)
	// Once the records say what is seen, nothing is otherwise.
	change := map[string]any{"base": 1, "remove": []string{"listen ridge-cam 443 as camera tls cert ridge"}, "add": []string{"listen ridge-cam 443 as camera tls cert ridge off"}}
	if status, err := p.call("POST", "/api/change", change, nil); err != nil || status != http.StatusOK {
		t.Fatal(status, err)
	}
	b.until(`!document.querySelector('[data-suspects]') && document.querySelector('[data-seen=connect] [data-sight=before]')`)
}

// TestWhatWas: an earlier revision is looked at in every view, says so, takes nothing in, and is left by a key; two are held against one another;
// the log is sought.
func TestWhatWas(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	for n, line := range []string{"host nova", "dns nova.fernmoor.example A 203.0.113.20"} {
		if status, err := p.call("POST", "/api/change", map[string]any{"base": n + 1, "remove": []string{}, "add": []string{line}}, nil); err != nil || status != 200 {
			t.Fatal(status, err)
		}
	}
	b := open(t, p.url+"/log")
	b.until(`document.querySelectorAll('[data-revision]').length === 3`)
	eval[bool](b, `(document.querySelector('[data-revision="1"] [aria-label^="as it was"]').click(), true)`)
	b.says("[data-through='-1']", "As it was at revision 1")
	b.press("1")
	b.until(`document.querySelector('[data-name]') && !document.querySelector('[data-name="nova.fernmoor.example"]')`)
	b.press("/")
	b.until(`document.activeElement.id === 'bearing'`)
	b.types("host intruder\r")
	b.until(`document.body.innerText.includes('nothing is written into what has been')`)
	b.press(kb.Escape)
	b.press(kb.Escape)
	b.until(`document.activeElement.id !== 'bearing'`)
	time.Sleep(time.Second) // a key at once would still be meant for the field that was left
	b.press("q")
	b.until(`!document.querySelector('[data-through]') && document.querySelector('[data-name="nova.fernmoor.example"]')`)

	b.do(chromedp.Navigate(p.url + "/log"))
	b.until(`document.querySelectorAll('[data-revision]').length === 3`)
	eval[bool](b, `(document.querySelector('[data-revision="1"] [aria-label^="since then"]').click(), true)`)
	b.says("[data-between]", "From revision 1 to now")
	b.says("[data-between]", "dns nova.fernmoor.example A 203.0.113.20")
	b.accessible("two revisions")
	eval[bool](b, `(document.querySelector('[aria-label="up to here: what came from revision 1 to revision 2"]').click(), true)`)
	b.says("[data-between]", "From revision 1 to revision 2")
	b.until(`!document.querySelector('[data-between]').innerText.includes('dns nova')`)
	b.press("f")
	b.until(`document.activeElement.id === 'filter'`)
	b.types("host nova")
	b.until(`[...document.querySelectorAll('[data-revision]')].map((r) => r.dataset.revision).join() === '2'`)
}

// TestGuideIsRead: by the key that says all keys, and from page to page.
func TestGuideIsRead(t *testing.T) {
	t.Parallel()
	p := start(t, "serve", "--alone", "--db", filepath.Join(t.TempDir(), "a.db"))
	b := open(t, p.url+"/")
	b.says("main", "Nothing is written down yet")
	b.press("?")
	b.until(`document.activeElement.innerText === 'The guide'`)
	b.press("\r")
	b.until(`document.querySelector('[data-guide="01-first-estate"]')?.innerText.includes('ten minutes')`)
	b.until(`[...document.querySelectorAll('[data-guide] img')].every((i) => i.complete && i.naturalWidth > 0)`)
	eval[bool](b, `(window.stayed = true, document.querySelector('[data-guide] a[href="/guide/02-reading-a-machine"]').click(), true)`)
	b.until(`document.querySelector('[data-guide="02-reading-a-machine"]') && window.stayed && location.pathname === '/guide/02-reading-a-machine'`)
}
