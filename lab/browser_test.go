package lab

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// browser is one page in a headless Chromium.
type browser struct {
	t   testing.TB
	ctx context.Context
}

// open starts a browser on a page of 1280 by 800; without Chromium the test is skipped.
func open(t testing.TB, url string) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("no Chromium on this machine: install Debian's package chromium")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("font-render-hinting", "none"),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost"))
	allocator, stopBrowser := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, stopPage := chromedp.NewContext(allocator)
	ctx, stopClock := context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(func() { stopClock(); stopPage(); stopBrowser() })
	b := &browser{t, ctx}
	b.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url))
	return b
}

func (b *browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, actions...); err != nil {
		b.t.Fatal(err)
	}
}

// eval is the value of an expression in the page.
func eval[T any](b *browser, expression string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](expression))
	if err != nil {
		b.t.Fatalf("%s: %v", expression, err)
	}
	return v
}

// until waits for an expression to be true.
func (b *browser) until(expression string) {
	b.t.Helper()
	deadline := time.Now().Add(2 * time.Minute) // what must come; a slow machine is no fault
	for time.Now().Before(deadline) {
		v, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool]("Boolean("+expression+")"))
		if err == nil && v {
			return
		}
		if errors.Is(err, context.DeadlineExceeded) {
			break
		}
		time.Sleep(30 * time.Millisecond)
	}
	b.t.Fatalf("never true: %s\nthe page says:\n%s", expression, eval[string](b, "document.body.innerText.slice(0, 3000)"))
}

// throttle is a command of the browser that the generated packages have under a later name only.
var throttle = cdp.Command[map[string]any, struct{}]{Method: "Network.emulateNetworkConditions"}

// slow makes the network wait before each answer; 0 ends it.
func (b *browser) slow(latency time.Duration) {
	b.t.Helper()
	b.do(chromedp.Func(func(ctx context.Context, page *chromedp.Target) error {
		_, err := cdp.Call(ctx, page, throttle, map[string]any{"offline": false, "latency": latency.Milliseconds(), "downloadThroughput": -1, "uploadThroughput": -1})
		return err
	}))
}

// says waits until an element's text holds a word.
func (b *browser) says(selector, word string) {
	b.t.Helper()
	b.until(fmt.Sprintf("[...document.querySelectorAll(%q)].some(e => e.innerText.includes(%q))", selector, word))
}

// press sends keys to whatever has the focus. As at a keyboard, a letter is typed only where nothing takes its key for itself.
func (b *browser) press(keys string) {
	b.t.Helper()
	b.do(chromedp.Func(func(ctx context.Context, page *chromedp.Target) error {
		for _, r := range keys {
			events := kb.Encode(r)
			for i, e := range events {
				if e.Type == kb.KeyChar {
					continue
				}
				if i+1 < len(events) && events[i+1].Type == kb.KeyChar {
					e.Text, e.UnmodifiedText = events[i+1].Text, events[i+1].UnmodifiedText
				}
				if _, err := cdp.Call(ctx, page, input.DispatchKeyEvent, *e); err != nil {
					return err
				}
			}
		}
		return nil
	}))
}
