package lab

import (
	"path/filepath"
	"regexp"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// code is the one-time code that a program prints at which nobody has an account.
func (p *program) code(t testing.TB) string {
	t.Helper()
	line, err := p.out.ReadString('\n')
	code := regexp.MustCompile(`[A-Z2-7]{4}-[A-Z2-7]{4}-[A-Z2-7]{4}`).FindString(line)
	if err != nil || code == "" {
		t.Fatalf("no code: %q %v", line, err)
	}
	return code
}

const herons = "seven slow herons"

// TestPeople: the first account is made with the code of the console, another by it; who may read is told so and changes nothing; and what is
// typed while a session ends is kept until one has signed in again, under the name of who typed it.
func TestPeople(t *testing.T) {
	t.Parallel()
	p := start(t, "serve", "--db", filepath.Join(t.TempDir(), "a.db"))
	code := p.code(t)
	b := open(t, p.url+"/people")
	b.until(`document.querySelector('[data-sign-in]') && document.activeElement.autocomplete === 'username'`)
	b.accessible("the first account")
	b.types("anna" + kb.Tab + "WRONG-CODE" + kb.Tab + herons + "\r")
	b.says("[role=alert]", "The name and the one-time code do not go together")
	eval[bool](b, `(document.querySelector('[autocomplete=one-time-code]').select(), true)`)
	b.do(chromedp.Focus(chromedp.CSS("[autocomplete=one-time-code]")))
	eval[bool](b, `(document.querySelector('[autocomplete=one-time-code]').select(), true)`)
	b.types(code + "\r")
	b.says("[data-who]", "anna")
	b.says("h2", "People")

	b.until(`document.querySelector('[aria-label="Another account"] input')`)
	b.do(chromedp.Focus(chromedp.CSS(`[aria-label="Another account"] input`)))
	b.types("cora\r")
	b.until(`document.querySelector('[data-code=cora]')`)
	b.settle()
	b.accessible("people")
	invited := regexp.MustCompile(`[A-Z2-7]{4}-[A-Z2-7]{4}-[A-Z2-7]{4}`).FindString(eval[string](b, `document.querySelector('[data-code=cora]').innerText`))
	c := open(t, p.url+"/")
	c.says("button", "I have a one-time code")
	eval[bool](c, `([...document.querySelectorAll('button')].find((x) => x.innerText === 'I have a one-time code').click(), true)`)
	c.until(`document.querySelector('[autocomplete=one-time-code]')`)
	c.do(chromedp.Focus(chromedp.CSS("[autocomplete=username]")))
	c.types("cora" + kb.Tab + invited + kb.Tab + herons + "\r")
	c.until(`document.querySelector('[data-reader]')`)
	c.says("[data-who]", "cora")
	c.press("/")
	c.until(`document.activeElement.id === 'bearing'`)
	c.types("host nova\r")
	c.until(`document.body.innerText.includes('it needs the role editor; cora is reader')`)
	c.until(`document.body.innerText.includes('host nova')`)

	asAnna := func(body string) {
		t.Helper()
		eval[bool](b, `(window.told = false, fetch('/api/people/2', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: '`+body+`' }).then((r) => { window.told = r.ok }), true)`)
		b.until(`window.told`)
	}
	asAnna(`{"role":"editor","off":false}`)
	c.do(chromedp.Navigate(p.url + "/records"))
	c.until(`document.querySelector('[data-who]') && !document.querySelector('[data-reader]')`)
	asAnna(`{"role":"editor","off":true}`)
	asAnna(`{"role":"editor","off":false}`)
	c.press("/")
	c.until(`document.activeElement.id === 'bearing'`)
	c.types("host vega\r")
	c.until(`document.querySelector('[data-sign-in]') && document.activeElement.type === 'password'`)
	c.accessible("signing in again")
	c.types(herons + "\r")
	c.until(`!document.querySelector('[data-sign-in]')`)
	c.records(1)
	var log []struct{ Who string }
	text := eval[string](b, `(() => { const x = new XMLHttpRequest(); x.open('GET', '/api/log', false); x.send(); return x.responseText })()`)
	if log = decoded[[]struct{ Who string }](t, text); len(log) != 1 || log[0].Who != "cora" {
		t.Errorf("the log: %s", text)
	}

	// Somebody else goes on in her window: what she had typed is not recorded under another name, and not lost.
	asAnna(`{"role":"editor","off":true}`)
	c.press("/")
	c.until(`document.activeElement.id === 'bearing' && document.activeElement.value === 'host nova'`) // which came back
	eval[bool](c, `(document.activeElement.select(), true)`)
	c.types("host lyra\r")
	c.until(`document.querySelector('[data-sign-in]') && document.activeElement.type === 'password'`)
	c.types(herons + "\r")
	c.says("[role=alert]", "The name and the password do not go together")
	c.do(chromedp.Focus(chromedp.CSS("[autocomplete=username]")))
	for _, field := range []string{"anna", herons} {
		eval[bool](c, `(document.activeElement.select(), true)`)
		c.types(field + kb.Tab)
	}
	c.press("\r")
	c.says("[data-who]", "anna")
	c.press("/")
	c.until(`document.body.innerText.includes('Typed by cora, and not recorded') && [document.body.innerText, document.getElementById('bearing').value].some((x) => x.includes('host lyra'))`)
	c.records(1)
	if got := eval[string](b, `document.cookie`); got != "" {
		t.Errorf("a script reads the cookie: %s", got)
	}
}
