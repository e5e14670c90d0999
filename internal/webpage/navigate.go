package webpage

// Where a page goes.

import (
	"context"
	"errors"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/devtools"
)

const stopTakes = 5 * time.Second

// settle waits for a navigation that a command has set off, as long as pages may load.
func (x *Page) settle(ctx context.Context) *w3c.Error {
	_ = x.do(ctx, "Runtime.evaluate", map[string]any{"expression": "1"}, nil) // what the page has told by now has come
	return x.loaded(ctx)
}

// loaded waits until the page has loaded.
func (x *Page) loaded(ctx context.Context) *w3c.Error {
	ctx, cancel := context.WithTimeout(ctx, x.Timeouts.PageLoad)
	defer cancel()
	for {
		_, loading, d, changed := x.state()
		if d != nil {
			return nil
		}
		if !loading {
			var ready string
			err := x.value(ctx, "", &ready, `function() { return document.readyState }`)
			if err == nil && ready == "complete" || errors.Is(err, errDialog) {
				return nil
			}
			var no *devtools.Error
			if err != nil && !errors.As(err, &no) && ctx.Err() == nil {
				return failed("wait for the page", err)
			}
		}
		select {
		case <-changed:
		case <-time.After(poll):
		case <-x.page.Gone():
			return failed("wait for the page", devtools.ErrGone)
		case <-ctx.Done():
			x.stop(ctx)
			return w3c.Fail(w3c.Timeout, "the page had not loaded after %s", x.Timeouts.PageLoad)
		}
	}
}

// stop has the page load no more.
func (x *Page) stop(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTakes)
	defer cancel()
	_ = x.do(ctx, "Page.stopLoading", nil, nil)
}

// Navigate goes to an address.
func (x *Page) Navigate(ctx context.Context, url string) *w3c.Error {
	var out struct{ ErrorText string }
	x.whole()
	ctx, cancel := context.WithTimeout(ctx, x.Timeouts.PageLoad)
	defer cancel()
	if err := x.do(ctx, "Page.navigate", map[string]any{"url": url}, &out); err != nil {
		if ctx.Err() != nil {
			x.stop(ctx)
		}
		return failed("navigate", err)
	}
	if out.ErrorText != "" {
		return w3c.Fail(w3c.UnknownError, "%s can't be opened: %s", url, out.ErrorText)
	}
	return x.settle(ctx)
}

// Travel goes through the history: -1 back, 1 forward.
func (x *Page) Travel(ctx context.Context, by int) *w3c.Error {
	var h struct {
		CurrentIndex int
		Entries      []struct{ ID int }
	}
	if err := x.do(ctx, "Page.getNavigationHistory", nil, &h); err != nil {
		return failed("go through the history", err)
	}
	if to := h.CurrentIndex + by; to >= 0 && to < len(h.Entries) {
		x.whole()
		if err := x.do(ctx, "Page.navigateToHistoryEntry", map[string]any{"entryId": h.Entries[to].ID}, nil); err != nil {
			return failed("go through the history", err)
		}
	}
	return x.settle(ctx)
}

// Reload loads the page anew.
func (x *Page) Reload(ctx context.Context) *w3c.Error {
	x.whole()
	if err := x.do(ctx, "Page.reload", nil, nil); err != nil {
		return failed("reload", err)
	}
	return x.settle(ctx)
}

// Says gives one of the page's own words: its title, its address, its source. The source is that of the frame that is commanded.
func (x *Page) Says(ctx context.Context, expression string) (s string, werr *w3c.Error) {
	if at := x.at; expression != Source {
		x.at = x.main
		defer func() { x.at = at }()
	}
	err := x.value(ctx, "", &s, "function() { return "+expression+" }")
	return s, failed("ask the page", err)
}

// What a page says of itself.
const (
	Title  = "document.title"
	URL    = "document.URL"
	Source = "(document.doctype ? new XMLSerializer().serializeToString(document.doctype) : '') + document.documentElement.outerHTML"
)
