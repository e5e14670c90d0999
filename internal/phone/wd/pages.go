package wd

// A page in the browser of a device: it is navigated to (WebDriver, section 10.1), and its tree comes from a script (section 13.2), since the source of a page has no
// bounds.

import (
	"context"
	"net/http"
	"net/url"

	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// pages implements content.
type pages struct{ *Device }

// nowhere is where a browser is while no page is tested.
const nowhere = "about:blank"

// install implements content: a page is where it is.
func (d pages) install(context.Context, phone.App) error { return nil }

// uninstall implements content.
func (d pages) uninstall(context.Context, string) error { return nil }

// launch implements content. The arguments stand in the address's query.
func (d pages) launch(ctx context.Context, app phone.App) error {
	address := app.Page
	if address == "" {
		address = d.Values.Page
	}
	u, err := url.Parse(address)
	if err != nil || address == "" {
		return &phone.Refused{Doing: "open the page", Why: "there is no page with an address", Remedy: "test a page: tessellant build add https://…"}
	}
	if len(app.Args) > 0 {
		q := u.Query()
		for name, value := range app.Args {
			q.Set(name, value)
		}
		u.RawQuery = q.Encode()
	}
	return d.navigate(ctx, "open the page", u.String())
}

func (d pages) navigate(ctx context.Context, doing, address string) error {
	if d.Leads != nil {
		if err := d.Leads(address); err != nil {
			return err
		}
	}
	d.touched()
	_, err := d.command(ctx, doing, http.MethodPost, "/url", object{"url": address})
	return err
}

// stop implements content.
func (d pages) stop(ctx context.Context, _ string) error {
	return d.navigate(ctx, "leave the page", nowhere)
}

// clear implements content: a new session has a browser without cookies, storage and caches.
func (d pages) clear(ctx context.Context, _ string) error {
	d.mu.Lock()
	there := d.fresh
	d.mu.Unlock()
	if there || d.Anew == nil {
		return nil
	}
	return d.anew(ctx)
}

// tree implements content.
func (d pages) tree(ctx context.Context) (*uitree.Screen, error) {
	const doing = "read the page"
	v, err := d.command(ctx, doing, http.MethodPost, "/execute/sync", object{"script": uitree.HTMLScript, "args": []any{}})
	if err != nil {
		return nil, err
	}
	text, _ := v.(string)
	s, err := uitree.ParseHTML([]byte(text))
	if err != nil {
		return nil, d.failed(doing, &Garbage{err.Error()})
	}
	return s, nil
}
