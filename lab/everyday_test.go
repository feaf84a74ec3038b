package lab

import (
	"net/http"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestKeptQuestions keeps what a view is set to under a name, by the keys, finds it from another view, and takes it away.
func TestKeptQuestions(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/?show=stops&by=machine")
	b.until(`document.querySelector('[role=grid]')`)
	b.press("S")
	b.until(`document.querySelector('[role=dialog] form input')`)
	b.accessible("the kept questions")
	eval[bool](b, `(document.querySelector('[role=dialog] form input').focus(), true)`)
	b.press("what stops" + kb.Enter)
	b.until(`document.querySelector('[role=dialog] a[aria-current]')?.innerText === 'what stops'`)
	b.press(kb.Escape)
	b.until(`!document.querySelector('[role=dialog]')`)
	b.do(chromedp.Navigate(p.url + "/log"))
	b.until(`document.querySelector('[data-revision]')`)
	b.press("S")
	b.until(`document.querySelector('[role=dialog] a')`)
	eval[bool](b, `(document.querySelector('[role=dialog] a').focus(), true)`)
	b.press(kb.Enter)
	b.until(`location.pathname + location.search === '/?show=stops&by=machine' && !document.querySelector('[role=dialog]')`)
	// What would lead elsewhere is not kept, and what is there is not lost by it.
	if status, err := p.call("POST", "/api/questions", map[string]any{"name": "what stops", "address": "//evil.example"}, nil); err != nil || status != http.StatusUnprocessableEntity {
		t.Error(status, err)
	}
	time.Sleep(time.Second) // keys go to the field that was just left
	b.press("S")
	b.until(`document.querySelector('[role=dialog] [aria-label="take away what stops"]')`)
	eval[bool](b, `(document.querySelector('[role=dialog] [aria-label="take away what stops"]').click(), true)`)
	b.until(`!document.querySelector('[role=dialog] a')`)
}

// TestCameDue says what came due since the last visit until it was looked at, and no more after that; days and moments are exact on hover.
func TestCameDue(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`Object.keys(localStorage).some((k) => k.startsWith('visited'))`)
	if eval[bool](b, `!!document.querySelector('[data-came-due]')`) {
		t.Error("on the first visit something came due since the last")
	}
	eval[bool](b, `(Object.keys(localStorage).filter((k) => k.startsWith('visited')).forEach((k) => localStorage.setItem(k, '2026-11-01')), true)`)
	b.do(chromedp.Navigate(p.url + "/ports"))
	b.says("[data-came-due]", "edge, line")
	b.until(`document.querySelector('[data-came-due] time').title === '2026-11-01'`)
	// It stays until it is looked at: another page has it too.
	b.do(chromedp.Navigate(p.url + "/findings"))
	b.until(`document.querySelector('[data-came-due]')`)
	eval[bool](b, `([...document.querySelectorAll('[data-came-due] button')].find((x) => x.innerText === 'Look at Dates').click(), true)`)
	b.until(`location.pathname === '/dates' && !document.querySelector('[data-came-due]')`)
	b.until(`Object.keys(localStorage).some((k) => k.startsWith('visited') && localStorage.getItem(k) > '2026-11-01')`)
	b.do(chromedp.Navigate(p.url + "/log"))
	b.until(`document.querySelector('[data-revision] time')`)
	if eval[bool](b, `!!document.querySelector('[data-came-due]')`) {
		t.Error("what was looked at is said again")
	}
	if title := eval[string](b, `document.querySelector('[data-revision] time').title`); len(title) != len("2026-11-25T09:30:00+00:00") {
		t.Errorf("the moment of a change is %q on hover", title)
	}
}
