package lab

import (
	"context"
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// sheets are how many sheets the page is printed on.
func (b *browser) sheets() int {
	b.t.Helper()
	var printed []byte
	_, err := chromedp.Run(b.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		r, err := cdp.Call(ctx, t, page.PrintToPDF, page.PrintToPDFParams{})
		printed = r.Data
		return err
	}))
	if err != nil {
		b.t.Fatal(err)
	}
	return len(sheet.FindAll(printed, -1))
}

// sheet is where a PDF has the dictionary of a page, which is never packed (ISO 32000-1, 7.7.3.3).
var sheet = regexp.MustCompile(`/Type\s*/Page\b`)

// accessible says what an audit finds of the page in sight that keeps somebody out of it.
func (b *browser) accessible(what string) {
	b.t.Helper()
	audit, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		b.t.Fatal("the audit is not installed: make build installs it")
	}
	eval[bool](b, string(audit)+"; true")
	eval[bool](b, `(window.audited = '', axe.run(document, { resultTypes: ['violations'] }).then((r) => { window.audited = JSON.stringify(r.violations.filter((v) => v.impact === 'serious' || v.impact === 'critical').map((v) => [v.id, v.help, v.nodes.length, v.nodes[0].html.slice(0, 200), v.nodes[0].failureSummary])) }), true)`)
	b.until(`window.audited`)
	var found [][]any
	if err := json.Unmarshal([]byte(eval[string](b, `window.audited`)), &found); err != nil {
		b.t.Fatal(err)
	}
	for _, f := range found {
		b.t.Errorf("%s: %v", what, f)
	}
}

// TestAccess audits every view, by day and by night, against the rules of the Web Content Accessibility Guidelines that a program can
// judge: nothing serious is wrong. Each view has a title of its own, and prints whole.
func TestAccess(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	titles := map[string]string{}
	for _, light := range []string{"day", "night"} {
		eval[bool](b, `(localStorage.setItem('light', '`+light+`'), true)`)
		for _, v := range append(slices.Clone(views), besides...) {
			b.do(chromedp.Navigate(p.url + v.path))
			if v.name == "records" {
				b.until(toKind("dns"))
			}
			b.until(`document.querySelector('` + v.ready + `')`)
			b.settle()
			title := eval[string](b, `document.title`)
			if at := titles[title]; at != "" && at != v.name || !strings.Contains(title, "Fernmoor Observatory") {
				t.Errorf("%s has the title %q, as %q", v.name, title, at)
			}
			titles[title] = v.name
			b.accessible(v.name + " by " + light)
		}
	}
	// What is longer than a sheet is printed whole, and not in the strip that was in sight.
	for _, v := range []struct {
		path, ready string
		most, least int
	}{
		{"/", ".row[data-name]", 8, 1},
		{"/findings", "[data-code]", 30, 3},
		{"/trace/sky.fernmoor.example%3A443", "[data-break]", 8, 1},
		{"/records", ".print-only", 12, 4},
	} {
		b.do(chromedp.Navigate(p.url + v.path))
		b.until(`document.querySelector('` + v.ready + `') && document.fonts.status === 'loaded'`)
		b.settle()
		inSight := eval[int](b, `document.querySelector('main').innerText.length`)
		eval[bool](b, `(addEventListener('beforeprint', () => { window.printed = document.querySelector('main').innerText.length }), true)`)
		if sheets := b.sheets(); sheets < v.least || sheets > v.most {
			t.Errorf("%s is printed on %d sheets, expected %d to %d", v.path, sheets, v.least, v.most)
		}
		if printed := eval[int](b, `window.printed`); v.path == "/findings" && printed <= inSight {
			t.Errorf("%s prints %d characters, of which %d are in sight", v.path, printed, inSight)
		}
	}
}
