package housetest

// Tabs of a headless Chromium.

import (
	"context"
	"os"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Tab is a tab with a profile of its own.
type Tab struct {
	ctx context.Context
}

// Patience is how long a tab waits for what should come.
const Patience = time.Minute

// Browse starts a browser with an empty profile; stop ends it.
func Browse() (*Tab, func(), error) {
	own, err := os.MkdirTemp("", "tsl-tab-") // it leaves folders there when it is ended
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Env("TMPDIR="+own))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, cancel := chromedp.NewContext(alloc)
	end := func() { cancel(); stop(); _ = os.RemoveAll(own) }
	if err := chromedp.Do(ctx); err != nil {
		end()
		return nil, nil, err
	}
	return &Tab{ctx}, end, nil
}

// shared is the browser of a package's tests: to start one takes seconds of processor time.
var shared struct {
	mu  sync.Mutex
	tab *Tab
	end func()
}

// BrowseBeside opens a tab in the browser that a package's tests share, where it sees nothing of the others; stop closes it.
func BrowseBeside() (*Tab, func(), error) {
	shared.mu.Lock()
	defer shared.mu.Unlock()
	if shared.tab == nil || shared.tab.ctx.Err() != nil { // none yet, or it has ended by itself
		endShared()
		tab, end, err := Browse()
		if err != nil {
			return nil, nil, err
		}
		shared.tab, shared.end = tab, end
	}
	ctx, stop := chromedp.NewContext(shared.tab.ctx, chromedp.WithNewBrowserContext())
	if err := chromedp.Do(ctx); err != nil {
		stop()
		return nil, nil, err
	}
	return &Tab{ctx}, stop, nil
}

func endShared() {
	if shared.end != nil {
		shared.end()
		shared.tab, shared.end = nil, nil
	}
}

// Do runs actions, with a deadline.
func (b *Tab) Do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(b.ctx, Patience)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Ask runs an action that answers something, with a deadline.
func Ask[T any](b *Tab, a chromedp.Action[T]) (T, error) {
	ctx, cancel := context.WithTimeout(b.ctx, Patience)
	defer cancel()
	return chromedp.Run(ctx, a)
}

// Eval evaluates JavaScript in the page; a promise is awaited.
func Eval[T any](b *Tab, expression string) (T, error) {
	return Ask(b, chromedp.Evaluate[T](expression, func(p *runtime.EvaluateParams) { p.AwaitPromise = &yes }))
}

var yes = true

// Size sets how large the page is; at phone's width it is a phone's.
func (b *Tab) Size(width, height int64) error {
	return b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{Width: width, Height: height, DeviceScaleFactor: 1, Mobile: width < 700})
		return err
	}))
}

// Look sets the system's look: light or dark.
func (b *Tab) Look(look string) error {
	return b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: look}}})
		return err
	}))
}

// settled is true once nothing more is loaded: fonts, pictures, the video's frame.
const settled = `new Promise(done => { let quiet = 0, n = -1; const t = setInterval(() => {
	const v = document.querySelector('video'), now = performance.getEntriesByType('resource').length;
	quiet = now === n && document.fonts.status === 'loaded' && (!v || (v.readyState >= 2 && !v.seeking)) && [...document.images].every(i => i.complete) ? quiet + 1 : 0;
	n = now; if (quiet >= 4) { clearInterval(t); requestAnimationFrame(() => requestAnimationFrame(() => done(true))); } }, 50); })`

// Open goes to a page and waits until something is on it and all of it has come.
func (b *Tab) Open(url, ready string) error {
	if err := b.Do(chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS(ready))); err != nil {
		return err
	}
	_, err := Eval[bool](b, settled)
	return err
}

// SignIn signs in with a key, at whatever page asks for one.
func (b *Tab) SignIn(url, key string) error {
	return b.Do(chromedp.Navigate(url+"/"), chromedp.WaitVisible(chromedp.CSS("input[name=key]")), chromedp.SendKeys(chromedp.CSS("input[name=key]"), key+"\r"), chromedp.WaitVisible(chromedp.CSS("nav")))
}

// Picture is what the page looks like, as PNG.
func (b *Tab) Picture() ([]byte, error) { return Ask(b, chromedp.CaptureScreenshot()) }

// Listen calls f with each event of the tab's domains, until the browser ends. It must return fast.
func (b *Tab) Listen(f func(event any)) error { return chromedp.Listen(b.ctx, f) }
