package webpage

// The pages of a device's web views: listed, and opened.

import (
	"context"
	"net"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/devtools"
	"tessellant/internal/phone"
)

const openTakes = 20 * time.Second

// Found is a page that can be opened.
type Found struct {
	App string // whose web view it is in; "": unknown, as that of a browser
	devtools.Target
	socket devtools.Socket
}

// List lists the pages of the web views of the apps that reaches gives no error for; nil: of all. A web view that does not answer is left out: its app may be
// starting, or ending.
func List(ctx context.Context, d phone.Webbed, reaches func(app string) error) (out []Found, err error) {
	views, err := d.WebViews(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range views {
		if v.App != "" && reaches != nil && reaches(v.App) != nil {
			continue // an app of somebody else's
		}
		socket := devtools.Socket{Connect: func(ctx context.Context) (net.Conn, error) { return d.DialWeb(ctx, v.Socket) }}
		all, err := socket.List(ctx)
		if err != nil {
			continue
		}
		for _, t := range all {
			out = append(out, Found{v.App, t, socket})
		}
	}
	return out, nil
}

// webPrefix begins the names of pages as contexts.
const webPrefix = "web:"

// Context is how the page is called as a context.
func (f Found) Context() string { return webPrefix + f.App + ":" + f.ID }

// Attach begins to speak to the page.
func (f Found) Attach(ctx context.Context) (*devtools.Page, error) {
	return f.socket.Attach(ctx, f.Target)
}

// Open begins to command the page. Console is told what its console says; nil: nobody is.
func (f Found) Open(ctx context.Context, timeouts *w3c.Timeouts, console func(level, text string)) (*Page, error) {
	ctx, cancel := context.WithTimeout(ctx, openTakes)
	defer cancel()
	to, err := f.Attach(ctx)
	if err != nil {
		return nil, err
	}
	if console != nil {
		hearConsole(to, console)
	}
	p, err := open(ctx, to, timeouts)
	if err != nil {
		to.Close()
	}
	return p, err
}
