package lab

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestWidths: no view needs to be scrolled sideways at the widths of small and of usual screens, whatever counts stand in the frame.
func TestWidths(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	for _, width := range []int64{1024, 1180, 1280} {
		b.do(chromedp.EmulateViewport(width, 800))
		for _, v := range views {
			b.do(chromedp.Navigate(p.url + v.path))
			if v.name == "records" {
				b.until(toKind("dns"))
			}
			b.until(`document.querySelector('` + v.ready + `')`)
			b.until(`document.fonts.status === 'loaded'`)
			// As in an estate of ten thousand names.
			eval[bool](b, `(document.querySelectorAll('nav small').forEach((s) => { s.textContent = '10,000' }), true)`)
			if wide := eval[int64](b, `document.documentElement.scrollWidth`); wide > width {
				t.Errorf("%s is %d pixels wide on a screen of %d", v.name, wide, width)
			}
		}
	}
}
