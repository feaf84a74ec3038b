package lab

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// typist presses keys one after the other, and counts them.
type typist struct {
	b    *browser
	keys int
}

func (y *typist) press(keys ...string) {
	for _, k := range keys {
		y.b.press(k)
		y.keys++
	}
}

// letters types a word, letter by letter, where the field shows what came of each.
func (y *typist) letters(word string) {
	for _, r := range word {
		y.press(string(r))
	}
}

// TestPublishedFromTheKeyboard: a service is published, stepped and retired in under 60 keys, and no value is typed that the program knows: the
// zone, the machine, its port and the audience are offered.
func TestPublishedFromTheKeyboard(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	b.until(`document.querySelector('[role=grid]')`)
	y := &typist{b: b}
	written := func(want string) {
		t.Helper()
		b.until(fmt.Sprintf(`document.getElementById('bearing').value === %q`, want))
	}
	offered := func(want string) {
		t.Helper()
		b.until(fmt.Sprintf(`[...document.querySelectorAll('[role=option]')].map((o) => o.querySelector('span').innerText)[0] === %q`, want))
	}
	outcome := func() string {
		var state struct{ Verdict string }
		p.call("GET", "/api/trace?target=pics.fernmoor.example%3A443", nil, &state)
		return state.Verdict
	}
	stepped := func(title string) {
		t.Helper()
		b.until(`document.activeElement.innerText === 'Keep as draft'`)
		y.press(kb.Enter)
		b.until(`document.querySelector('[data-step]')`)
		time.Sleep(time.Second) // a key at once would still be meant for the field that was left
		for range 8 {
			b.until(`location.pathname === '/drafts' || document.querySelector('[data-step], [data-wait]')`) // while they are put in order anew there are none
			before := eval[int](b, `document.querySelectorAll('[data-step], [data-wait]').length`)
			y.press("h")
			b.until(fmt.Sprintf(`location.pathname === '/drafts' || document.querySelectorAll('[data-step], [data-wait]').length !== %d`, before))
			if eval[bool](b, `location.pathname === '/drafts'`) {
				break
			}
		}
		b.until(`location.pathname === '/drafts' && !document.querySelector('[data-draft^="` + title + `"]')`)
	}

	y.press("i")
	written("publish ")
	y.letters("pics")
	offered("pics.fernmoor.example")
	y.press(kb.Tab)
	written("publish pics.fernmoor.example ")
	offered("to")
	y.press(kb.Tab)
	y.letters("ima")
	offered("images")
	y.press(kb.Tab)
	written("publish pics.fernmoor.example to images ")
	offered("for")
	y.press(kb.Tab)
	offered("internet")
	y.press(kb.Tab, kb.Enter)
	stepped("publish")
	if got := outcome(); got != "arrives" {
		t.Errorf("published, and it ends %q", got)
	}
	y.press("1")
	b.until(`location.pathname === '/'`)
	y.press("f")
	b.until(`document.activeElement.id === 'filter'`)
	y.letters("pics")
	b.until(`document.querySelectorAll('[data-name]').length === 2`)
	y.press(kb.ArrowDown)
	b.until(`document.activeElement.id !== 'filter'`)
	y.press("z")
	b.says("[data-sentence]", "retire pics.fernmoor.example")
	stepped("retire")
	if got := outcome(); got == "arrives" {
		t.Error("retired, and it arrives")
	}
	t.Logf("%d keys", y.keys)
	if y.keys >= 60 {
		t.Errorf("%d keys", y.keys)
	}
}

// TestSentencesAreBegun: by a key at what is in sight, and said otherwise.
func TestSentencesAreBegun(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/uses/azimuth%2Flab")
	b.says("h2", "azimuth/lab")
	b.press("i")
	b.until(`document.getElementById('bearing').value === 'publish  to azimuth/lab for internet'`)
	b.until(`document.activeElement.id === 'bearing' && document.activeElement.selectionStart === 8`)
	b.types("plots")
	b.until(`[...document.querySelectorAll('[role=option]')].some((o) => o.innerText.startsWith('plots.fernmoor.example'))`)
	b.press(kb.Tab)
	b.until(`document.getElementById('bearing').value === 'publish plots.fernmoor.example to azimuth/lab for internet'`)
	b.press(kb.Enter)
	b.until(`document.querySelector('[data-plan="0"]')?.innerText.includes('plots.fernmoor.example')`)
	eval[bool](b, `([...document.querySelectorAll('button')].find((x) => x.innerText === 'say it otherwise').click(), true)`)
	b.until(`document.activeElement.id === 'bearing' && document.activeElement.value.startsWith('publish plots')`)
	b.press(kb.Escape)
	b.press(kb.Escape)
	b.do(chromedp.Navigate(p.url + "/uses/zenith"))
	b.says("h2", "zenith")
	b.press("z")
	b.until(`document.querySelector('[data-plan="0"]')?.innerText.includes('listen zenith 9000 as images')`)
	b.press("/")
	b.until(`document.activeElement.id === 'bearing'`)
	b.types("retire nobody")
	b.press("\r")
	b.until(`document.querySelector('[data-none]')?.innerText.includes('Nothing that is recorded is called nobody')`)
}

// TestLookingThroughADraft: by one key every view answers as if it were made, says so, and marks what is other; what is written goes into it; and
// by the same key one is out of it, and all is as it was.
func TestLookingThroughADraft(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/drafts/1")
	b.until(`document.querySelector('[data-step]')`)
	b.press("q")
	b.until(`document.querySelector('[data-through="1"]')?.innerText.includes('Move to the second address')`)
	for path, marked := range map[string]string{
		"/": `[data-name="archive.fernmoor.example"][data-altered]`, "/exposure": `[data-door="203.0.113.21:443"][data-altered]`, "/answers": `[data-answer="archive.fernmoor.example A"][data-altered]`,
		"/records": `.cm-altered`, "/findings": `[data-altered]`, "/ports": `[data-altered-count]`,
	} {
		b.do(chromedp.Navigate(p.url + path)) // which outlives a page that is loaded anew
		b.until(`document.querySelector('[data-through="1"]')`)
		if path == "/ports" { // no machine's ports are other
			b.until(`document.querySelector('[data-machine="zenith"]') && !document.querySelector('[data-machine="zenith"][data-altered]')`)
			continue
		}
		b.until(fmt.Sprintf(`document.querySelector(%q)`, marked))
	}
	b.do(chromedp.Navigate(p.url + "/trace/archive.fernmoor.example%3A443"))
	b.says("main", "203.0.113.21")
	b.until(`[...document.querySelectorAll('a')].some((a) => a.innerText === 'beside what is in force')`)
	b.press("/")
	b.until(`document.activeElement.id === 'bearing'`)
	b.types("host lamp")
	b.press("\r")
	b.says("[role=status]", "in the draft")
	b.press(kb.Escape)
	b.press(kb.Escape)
	var state struct {
		Revision int64
		Through  *struct{ Lines int }
	}
	p.call("GET", "/api/state?draft=1", nil, &state)
	if state.Revision != 1 || state.Through == nil || state.Through.Lines != 27 {
		t.Errorf("%+v", state)
	}
	time.Sleep(time.Second)
	b.press("u")
	b.says("[role=status]", "Taken back, in the draft")
	if p.call("GET", "/api/state?draft=1", nil, &state); state.Through.Lines != 26 {
		t.Errorf("%+v", state.Through)
	}
	b.press("q")
	b.until(`!document.querySelector('[data-through]')`)
	b.says("main", "203.0.113.20")
	b.until(`!document.querySelector('[data-altered]')`)

	// While it is looked through, another drops it: this is what is in force.
	b.do(chromedp.Navigate(p.url + "/drafts/1"))
	b.until(`document.querySelector('[data-step]')`)
	b.press("q")
	b.until(`document.querySelector('[data-through="1"]')`)
	b.press("1")
	b.until(`document.querySelector('[data-altered]')`)
	p.call("POST", "/api/drafts/1/drop", nil, nil)
	b.until(`!document.querySelector('[data-through]')`)
	b.says("[role=status]", "is not there any more")
}

// TestADraftMeetsAnothersChange: base, now and wanted are shown, and a choice makes the draft whole again; its text is edited in place.
func TestADraftMeetsAnothersChange(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	var draft struct{ ID int64 }
	line := "listen zenith 9000 as images"
	p.call("POST", "/api/drafts", map[string]any{"title": "Another port", "remove": []string{line}, "add": []string{"listen zenith 9001 as images"}}, &draft)
	p.call("POST", "/api/change", map[string]any{"base": 1, "remove": []string{line}, "add": []string{"listen zenith 9002 as images"}}, nil)
	b := open(t, fmt.Sprintf("%s/drafts/%d", p.url, draft.ID))
	for _, says := range []string{"was", line, "is now", "listen zenith 9002 as images", "wanted", "listen zenith 9001 as images"} {
		b.says("[data-meanwhile]", says)
	}
	press := func(label string) {
		b.until(fmt.Sprintf(`([...document.querySelectorAll('button')].find((x) => x.innerText === %q)?.click(), true)`, label))
	}
	press("What is wanted in its place")
	b.until(`!document.querySelector('[data-meanwhile]') && document.querySelector('[data-step]')?.innerText.includes('9001')`)
	press("Edit")
	b.until(`document.querySelector('[data-draft-text] textarea')?.value.includes('- listen zenith 9002 as images')`)
	eval[bool](b, `(document.querySelector('[data-draft-text] textarea').select(), document.querySelector('[data-draft-text] textarea').focus(), true)`)
	b.types("+ hots lamp")
	b.says("[data-draft-text]", "hots")
	press("Keep")
	b.until(`document.querySelector('[data-draft-text] [role=alert]')`) // and what was typed is there still
	b.until(`document.querySelector('[data-draft-text] textarea').value.endsWith('hots lamp')`)
}
