package lab

import (
	"flag"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
)

var pictures = flag.String("pictures", "", "a folder to write a picture of each main view to")

// view is a page, and what must be in sight before it is looked at.
type view struct{ name, path, ready string }

// besides are pages that have no picture.
var besides = []view{
	{"guide", "/guide/06-certificates", "[data-guide]"},
	{"people", "/people", "main form"},
}

// views are the pages that have a picture.
var views = []view{
	{"names", "/", "[data-name]"},
	{"trace", "/trace/sky.fernmoor.example%3A443", "[data-break]"},
	{"seen", "/trace/ridge.fernmoor.example%3A443", "[data-suspect]"},
	{"compare", "/compare/archive.fernmoor.example%3A443?otherfrom=yard", "[data-break]"},
	{"courses", "/courses", "[data-stroke=stopped]"},
	{"answers", "/answers", "[data-answer]"},
	{"uses", "/uses/203.0.113.20", "[data-use]"},
	{"without", "/without/azimuth", "[data-stops]"},
	{"certificates", "/certificates?cert=ridge", "[data-cert]"},
	{"dates", "/dates", "[data-due]"},
	{"steps", "/drafts/1", "[data-step]"},
	{"ports", "/ports?machine=azimuth", "[data-depth]"},
	{"findings", "/findings/exposure.undeclared/azimuth%3A5432%2Ftcp", "[data-effect]"},
	{"exposure", "/exposure", "[data-door]"},
	{"records", "/records", ".cm-caution"},
	{"table", "/records?table=forward", "[data-line]"},
	{"filter", "/filters/edge?line=9", "[data-rule]"},
	{"log", "/log", "[data-revision]"},
}

// TestPictures opens every main view on the demo estate, by day and by night. With -pictures it keeps what it
// sees.
func TestPictures(t *testing.T) {
	t.Parallel()
	p := start(t, "demo")
	b := open(t, p.url+"/")
	for _, light := range []string{"day", "night"} {
		b.do(chromedp.Navigate(p.url + "/"))
		eval[bool](b, `(localStorage.setItem('light', '`+light+`'), true)`)
		for _, v := range views {
			b.do(chromedp.Navigate(p.url + v.path))
			if v.name == "records" { // where there are cautions in the margin
				b.until(toKind("dns"))
			}
			b.until(`document.querySelector('` + v.ready + `')`)
			b.until(`document.fonts.status === 'loaded'`)
			if wide := eval[int](b, `document.documentElement.scrollWidth`); wide > 1280 {
				t.Errorf("%s is %d pixels wide", v.name, wide)
			}
			if *pictures == "" || light == "night" && v.name != "names" {
				continue
			}
			name := v.name
			if light == "night" {
				name += "-night"
			}
			b.settle()
			b.picture(filepath.Join(*pictures, name+".png"))
		}
	}
}

// picture writes what is in sight to a file.
func (b *browser) picture(path string) {
	b.t.Helper()
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(path, png, 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// settle waits until the page has painted what it knows.
func (b *browser) settle() {
	b.t.Helper()
	eval[bool](b, `(window.painted = false, requestAnimationFrame(() => setTimeout(() => { window.painted = true }, 120)), true)`)
	b.until(`window.painted`)
}
