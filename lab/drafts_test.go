package lab

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestPublishedFromTheKeyboard: a sentence in the bearing line is worked out, kept as a draft, made step by step by a key, and the name arrives;
// then it is retired again the same way.
func TestPublishedFromTheKeyboard(t *testing.T) {
	p := start(t, "demo")
	b := open(t, p.url+"/drafts")
	b.until(`document.querySelector('[data-draft="Move to the second address"]')`)
	for _, sentence := range []string{"publish pics.fernmoor.example to zenith:9000 for internet", "retire pics.fernmoor.example"} {
		b.press("/")
		b.until(`document.activeElement.id === 'bearing'`)
		b.types(sentence)
		b.press("\r")
		b.until(`document.querySelector('[data-plan="0"]')`)
		b.until(`[...document.querySelectorAll('[data-plan="0"] button')].find((x) => x.innerText === 'Keep as draft').click() ?? true`)
		b.until(`document.querySelector('[data-step]')`)
		time.Sleep(time.Second) // a key at once would still be meant for the field that was left
		for range 8 {
			if eval[bool](b, `location.pathname === '/drafts'`) {
				break
			}
			before := eval[string](b, `document.querySelectorAll('[data-step]').length + ''`)
			b.press("h")
			b.until(`location.pathname === '/drafts' || document.querySelectorAll('[data-step]').length + '' !== '` + before + `'`)
		}
		b.until(`location.pathname === '/drafts' && !document.querySelector('[data-draft^="` + strings.Fields(sentence)[0] + `"]')`)
		var state struct{ Verdict string }
		status, _ := p.call("GET", "/api/trace?target=pics.fernmoor.example%3A443", nil, &state)
		if published := strings.HasPrefix(sentence, "publish"); published && state.Verdict != "arrives" {
			t.Errorf("published, and it ends %q (%d)", state.Verdict, status)
		} else if !published && state.Verdict == "arrives" {
			t.Error("retired, and it arrives")
		}
	}
	b.do(chromedp.Navigate(p.url + "/uses/zenith"))
	b.says("h2", "zenith")
	b.press("i")
	b.until(`document.activeElement.id === 'wish' && document.activeElement.value === 'retire zenith'`)
	b.press("\r")
	b.until(`document.querySelector('[data-plan="0"]')?.innerText.includes('listen zenith 9000 as images')`)
	b.press("\x1b")
	b.press("/")
	b.until(`document.activeElement.id === 'bearing'`)
	b.types("retire nobody")
	b.press("\r")
	b.until(`document.querySelector('[data-none]')?.innerText.includes('Nothing that is recorded is called nobody')`)
}
