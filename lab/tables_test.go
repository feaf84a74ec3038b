package lab

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"steady-compass/core/synth"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

const tablesEstate = `estate "Tables"
network lan 10.0.0.0/24
host gate router
host box
address gate 10.0.0.1 lan
address box 10.0.0.5 lan
forward gate 8080 to 10.0.0.5
forward gate 443 to 10.0.0.5
forward gate 25 to 10.0.0.5
container box/web
listen box 8080 as plain
listen box 443 as front tls cert site
listen box/web 9000 as web
cert site for a.example on box
intend a.example 443 for lan reaching box`

// line is the record of a row of the table that is shown.
func (b *browser) line(n int) string {
	b.t.Helper()
	return eval[string](b, fmt.Sprintf("document.querySelector('[aria-rowindex=\"%d\"]')?.dataset.line ?? ''", n+1))
}

// TestTables sorts, finds, edits in cells as fast as one types, chooses several, adds by a form and takes out with what depends on it.
func TestTables(t *testing.T) {
	t.Parallel()
	db := filepath.Join(t.TempDir(), "a.db")
	if out, code := command(t, "import", "estate", writeFile(t, tablesEstate), "--db", db); code != 0 {
		t.Fatal(out)
	}
	p := start(t, "serve", "--alone", "--db", db)
	b := open(t, p.url+"/records?table=forward")
	b.until(`document.querySelectorAll('[data-line]').length === 3 && document.activeElement.getAttribute('role') === 'grid'`)
	b.accessible("a table of records")

	// By the keys alone: to the head, to the column of ports, in order of these, and back to the order of the router.
	b.press(kb.ArrowUp + kb.ArrowRight + kb.ArrowRight + kb.Enter)
	b.until(`location.search.includes('by=bind') && document.querySelector('[aria-sort=ascending]')`)
	b.until(`document.querySelector('[aria-rowindex="2"]').dataset.line.includes(' 25 ')`)
	if last := b.line(3); last != "forward gate 8080 to 10.0.0.5" {
		t.Errorf("by their ports the last is %s", last)
	}
	b.press(kb.Enter)
	b.until(`document.querySelector('[aria-sort=descending]') && document.querySelector('[aria-rowindex="2"]').dataset.line.includes('8080')`)
	b.press(kb.Enter)
	b.until(`!location.search.includes('by=')`)

	// Cells are written one after the other, without waiting for any: all of it is kept, each in its record.
	b.do(chromedp.Navigate(p.url + "/records?table=listen"))
	b.until(`document.querySelectorAll('[data-line]').length === 3 && document.activeElement.getAttribute('role') === 'grid'`)
	b.press(kb.Home + kb.ArrowRight + kb.Enter)
	b.until(`document.activeElement.tagName === 'INPUT'`)
	b.press("8081" + kb.Tab + kb.Enter + "simple" + kb.Enter + kb.ArrowDown + kb.Enter + "first" + kb.Enter)
	b.until(`document.querySelector('[data-line="listen box 8081 as simple"]') && document.querySelector('[data-line="listen box 443 as first tls cert site"]')`)
	// What is wrong is said, and stays typed; Escape leaves it as it was.
	b.press(kb.ArrowLeft + kb.Enter)
	b.until(`document.activeElement.tagName === 'INPUT'`)
	b.press("443x")
	b.until(`document.querySelector('[role=gridcell] [role=alert]')?.innerText.includes('443x')`)
	b.press(kb.Enter)
	if typed := eval[string](b, `document.activeElement.value`); typed != "443x" {
		t.Errorf("what is wrong does not stay typed: %q", typed)
	}
	b.press(kb.Escape)
	b.until(`document.activeElement.getAttribute('role') === 'grid'`)

	// The form is of the record that is chosen, also where another is at hand.
	b.press(kb.Home + " " + kb.ArrowUp + "e")
	b.until(`document.querySelector('#field-place')`)
	if of, chosen := eval[string](b, `document.querySelector('#field-service').value`), eval[string](b, `document.querySelector('[aria-selected=true]').dataset.line`); !strings.Contains(chosen, " as "+of) {
		t.Errorf("%s is chosen, and the form is of %s", chosen, of)
	}
	b.press(kb.Escape)
	b.until(`document.activeElement.getAttribute('role') === 'grid'`)
	b.press(kb.ArrowDown + " ")
	b.until(`!document.querySelector('[aria-selected=true]')`)

	// Several at once, from the keyboard, and back by one undo.
	b.press(" " + kb.ArrowDown + " " + "e")
	b.until(`document.querySelector('#field-until') && document.querySelector('aside h2').innerText.includes('2 records at once')`)
	eval[bool](b, `(document.querySelector('#field-until').focus(), true)`)
	b.press("2099-01-01")
	b.until(`[...document.querySelectorAll('aside code')].filter((c) => c.innerText.includes('until 2099-01-01')).length === 2`)
	b.press(kb.Enter)
	b.until(`document.querySelectorAll('[data-line*="until 2099-01-01"]').length === 2`)
	time.Sleep(time.Second) // keys go to the field that was just left
	b.press("u")
	b.until(`document.querySelectorAll('[data-line*="until 2099-01-01"]').length === 0`)

	// The same records are chosen in the text.
	b.press("t")
	b.until(`document.querySelectorAll('.cm-chosen').length > 0`)
	if chosen := eval[string](b, `[...document.querySelectorAll('.cm-chosen')].map((l) => l.innerText.replace(/ +/g, ' ')).join()`); !strings.Contains(chosen, "listen box/web 9000 as web") {
		t.Errorf("chosen in the text: %s", chosen)
	}
	b.press(kb.End + kb.ArrowUp + kb.ArrowUp)
	b.until(`JSON.parse(sessionStorage.getItem('records-chosen')).length === 1`)
	at := eval[string](b, `JSON.parse(sessionStorage.getItem('records-chosen'))[0]`)
	eval[bool](b, `([...document.querySelectorAll('nav button')].find((x) => x.innerText === 'table').click(), true)`)
	b.until(fmt.Sprintf(`document.querySelector('[data-line=%q] .at')`, at))

	// A form for every kind, made of its declaration; what is wrong stands at its field.
	var kinds []struct {
		Word   string
		Fields []struct{ Column string }
	}
	if status, err := p.call("GET", "/api/kinds", nil, &kinds); err != nil || status != http.StatusOK {
		t.Fatal(status, err)
	}
	for _, k := range kinds {
		eval[bool](b, fmt.Sprintf(`([...document.querySelectorAll('nav button')].find((x) => x.innerText.split(/\s/)[0] === %q).click(), document.activeElement.blur(), true)`, k.Word))
		b.until(fmt.Sprintf(`document.querySelector('nav button[aria-current]')?.innerText.split(/\s/)[0] === %q && document.querySelector('aside h3')`, k.Word))
		b.press("+")
		b.until(`document.querySelector('[id^=field-]')`)
		if n := eval[int](b, `document.querySelectorAll('[id^=field-]:not(#field-at):not(datalist)').length`); n != len(k.Fields) {
			t.Errorf("the form of %s has %d fields of %d", k.Word, n, len(k.Fields))
		}
	}
	b.do(chromedp.Navigate(p.url + "/records?table=forward"))
	b.until(`document.querySelectorAll('[data-line]').length === 3`)
	b.press("+")
	b.until(`document.activeElement.id === 'field-router'`)
	b.until(`[...document.querySelectorAll('#field-offers option')].some((o) => o.value === 'gate')`)
	b.press("gate" + kb.Tab + "1" + kb.Tab + "99999")
	b.until(`document.querySelector('[role=alert]')?.innerText.includes('99999')`)
	b.accessible("a form with a fault")
	eval[bool](b, `(document.activeElement.select(), true)`)
	b.press("22" + kb.Tab + "10.0.0.5")
	b.until(`[...document.querySelectorAll('aside code')].some((c) => c.innerText === 'forward gate at 1 22 to 10.0.0.5')`)
	b.press(kb.Enter)
	b.until(`document.querySelector('[aria-rowindex="2"]').dataset.line === 'forward gate 22 to 10.0.0.5'`)

	// What depends on a record is shown before it goes, and goes with it but for what is to stay.
	b.do(chromedp.Navigate(p.url + "/records?table=host&like=box"))
	b.until(`document.querySelectorAll('[data-line]').length === 1 && document.activeElement.getAttribute('role') === 'grid'`)
	b.press(kb.Delete)
	b.until(`document.querySelectorAll('[data-depends]').length === 7 && document.querySelector('[data-effect]')`)
	b.accessible("what depends on a record")
	eval[bool](b, `(document.querySelector('[data-depends="cert site for a.example on box"] input').click(), true)`)
	b.until(`document.querySelector('[data-act] button').innerText === 'Take out 6, change 1'`)
	b.until(`document.activeElement.closest('[data-act], [data-depends]')`)
	eval[bool](b, `(document.querySelector('[data-act] button').focus(), true)`)
	b.press(kb.Enter)
	b.until(`document.querySelector('main').innerText.includes('None is like that')`)
	var records struct{ Text string }
	if status, err := p.call("GET", "/api/records", nil, &records); err != nil || status != http.StatusOK {
		t.Fatal(status, err)
	}
	for _, want := range []string{"intend    a.example 443 for lan\n", "cert      site for a.example on box\n"} {
		if !strings.Contains(records.Text, want) {
			t.Errorf("%q is not in\n%s", want, records.Text)
		}
	}
	if strings.Contains(records.Text, "listen") || strings.Contains(records.Text, "container") {
		t.Errorf("what was on it is left:\n%s", records.Text)
	}
}

// BenchmarkOpenTable opens the records of an estate of a hundred thousand as tables, until their rows are in the page: the page itself is
// loaded each time.
func BenchmarkOpenTable(b *testing.B) {
	dir := b.TempDir()
	file, db := filepath.Join(dir, "synth.estate"), filepath.Join(dir, "a.db")
	if err := os.WriteFile(file, []byte(synth.String(10_300, 1)), 0o600); err != nil {
		b.Fatal(err)
	}
	if out, code := command(b, "import", "estate", file, "--db", db); code != 0 {
		b.Fatal(out)
	}
	p := start(b, "serve", "--alone", "--db", db)
	for _, c := range []struct{ name, path, there string }{
		{"rules", "/records?table=rule", `document.querySelectorAll('[data-line]').length > 20`},
		{"rules by their ports", "/records?table=rule&by=ports", `document.querySelectorAll('[data-line]').length > 20`},
		{"text", "/records", `document.querySelectorAll('.cm-line').length > 20`},
	} {
		b.Run(c.name, func(b *testing.B) {
			page := open(b, p.url+"/words")
			for b.Loop() {
				page.do(chromedp.Navigate(p.url + c.path))
				page.until(c.there)
			}
		})
	}
}
