package lab

import (
	"fmt"
	"strings"
	"testing"
)

// BenchmarkPortsDrawn is from the choice of a machine of 500 ports to its picture, and the part of it that the page itself
// takes once the answer is there.
func BenchmarkPortsDrawn(b *testing.B) {
	var text strings.Builder
	text.WriteString("network lan 10.0.0.0/24\nhost gate router\nhost box\nhost idle\naddress gate 203.0.113.1 internet\naddress gate 10.0.0.1 lan\naddress box 10.0.0.2 lan\naddress idle 10.0.0.3 lan\n")
	for i := range 500 {
		fmt.Fprintf(&text, "listen box %d as s%d\n", 1000+2*i, i)
		if i%2 == 0 {
			fmt.Fprintf(&text, "forward gate %d to 10.0.0.2\n", 1000+2*i)
		}
	}
	text.WriteString("listen idle 22 as ssh\n")
	p := start(b, "serve", "--alone", "--db", b.TempDir()+"/ports.db")
	if status, err := p.call("POST", "/api/records", map[string]any{"base": 0, "text": text.String()}, nil); err != nil || status != 200 {
		b.Fatalf("status %d, %v", status, err)
	}
	page := open(b, p.url+"/ports?machine=idle")
	page.until(`document.querySelector('[data-depth="22"]')`)
	eval[bool](page, `(() => {
		window.drawn = (name, ready) => new Promise((done) => {
			const from = performance.now();
			const look = () => document.querySelector(ready) ? requestAnimationFrame(() => setTimeout(() => {
				const answered = performance.getEntriesByType('resource').filter(e => e.name.includes('/api/ports/machine') && e.startTime >= from).at(-1);
				done(JSON.stringify([performance.now() - from, performance.now() - (answered ? answered.responseEnd : from)]));
			})) : requestAnimationFrame(look);
			document.querySelector('[data-machine=' + name + ']').click();
			look();
		});
		return true;
	})()`)
	total, drawn, n := 0.0, 0.0, 0
	for b.Loop() {
		var all, alone float64
		eval[bool](page, `(window.result = '', window.drawn('box', '[data-depth="1000"]').then(r => { window.result = r }), true)`)
		page.until(`window.result`)
		if _, err := fmt.Sscanf(eval[string](page, `window.result`), "[%f,%f]", &all, &alone); err != nil {
			b.Fatal(err)
		}
		total, drawn, n = total+all, drawn+alone, n+1
		eval[bool](page, `(document.querySelector('[data-machine=idle]').click(), true)`)
		page.until(`document.querySelector('[data-depth="22"]')`)
	}
	b.ReportMetric(total/float64(n), "ms/choice")
	b.ReportMetric(drawn/float64(n), "ms/drawn")
	b.ReportMetric(0, "ns/op")
}
