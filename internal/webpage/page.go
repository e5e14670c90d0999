// Package webpage is a page in a web view, commanded in the words of W3C WebDriver.
//
// It does what the standard says of elements, scripts, cookies and navigation, by the DevTools protocol (internal/devtools). An element is known by a reference that it keeps
// while it is in its document. In: a page, and commands' arguments. Out: values as they go over the wire, or a *w3c.Error.
package webpage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/devtools"
	"tessellant/internal/phone"
)

// Page is one that is commanded. One command at a time.
type Page struct {
	Timeouts *w3c.Timeouts // as they are set now

	page *devtools.Page
	id   string // begins its elements' references
	main string // its main frame
	at   string // the frame that is commanded

	refs map[string]string // reference → object, as far as it was not forgotten
	mu   sync.Mutex        // guards those below, which events change
	// Contexts are the scripts' worlds of frames.
	contexts map[string]int
	loading  map[string]bool // frames
	changed  chan struct{}   // closed, and made anew, when those change
	dialog   *dialog         // that is open; nil: none is
}

const (
	blank        = "about:blank"
	contextTakes = 10 * time.Second // for a frame to have a script's world
	maxRefs      = 20_000
	poll         = 50 * time.Millisecond
)

// open begins to command a page.
func open(ctx context.Context, p *devtools.Page, timeouts *w3c.Timeouts) (*Page, error) {
	x := &Page{Timeouts: timeouts, page: p, id: strings.ToLower(p.Target.ID[:min(8, len(p.Target.ID))]), refs: map[string]string{}, contexts: map[string]int{}, loading: map[string]bool{}, changed: make(chan struct{})}
	p.Hear(x.heard)
	for _, method := range []string{"Page.enable", "Runtime.enable"} {
		if err := p.Do(ctx, method, nil, nil); err != nil {
			return nil, err
		}
	}
	for end := time.Now().Add(contextTakes); ; {
		var tree struct {
			FrameTree struct{ Frame struct{ ID, URL string } }
		}
		if err := p.Do(ctx, "Page.getFrameTree", nil, &tree); err != nil {
			return nil, err
		}
		x.main = tree.FrameTree.Frame.ID
		x.at = x.main
		// A page that was just made is listed at the address that it goes to, while its first, empty document is still there.
		if at := tree.FrameTree.Frame.URL; at != "" && at != blank || p.Target.URL == blank || p.Target.URL == "" || time.Now().After(end) {
			return x, nil
		}
		if err := phone.Pause(ctx, poll); err != nil {
			return nil, err
		}
	}
}

// heard takes in what the page tells.
func (x *Page) heard(e devtools.Event) {
	var m struct {
		Context struct {
			ID      int
			AuxData struct {
				IsDefault bool
				FrameID   string
			}
		}
		ExecutionContextID int
		FrameID            string
		Type, Message      string
	}
	if json.Unmarshal(e.Params, &m) != nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	switch e.Method {
	case "Runtime.executionContextCreated":
		if m.Context.AuxData.IsDefault {
			x.contexts[m.Context.AuxData.FrameID] = m.Context.ID
		}
	case "Runtime.executionContextDestroyed":
		for f, id := range x.contexts {
			if id == m.ExecutionContextID {
				delete(x.contexts, f)
			}
		}
	case "Runtime.executionContextsCleared":
		clear(x.contexts)
	case "Page.frameStartedLoading", "Page.frameScheduledNavigation", "Page.frameRequestedNavigation", "Page.frameStartedNavigating":
		x.loading[m.FrameID] = true
	case "Page.frameStoppedLoading", "Page.frameClearedScheduledNavigation", "Page.frameDetached":
		delete(x.loading, m.FrameID)
	case "Page.javascriptDialogOpening":
		x.dialog = &dialog{Type: m.Type, Message: m.Message}
	case "Page.javascriptDialogClosed":
		x.dialog = nil
	default:
		return
	}
	close(x.changed)
	x.changed = make(chan struct{})
}

// state gives what events have told, and a channel that is closed when they tell more.
func (x *Page) state() (context int, loading bool, d *dialog, changed <-chan struct{}) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.contexts[x.at], x.loading[x.at] || x.loading[x.main], x.dialog, x.changed
}

// errDialog says that a dialog has opened, behind which the command waits.
var errDialog = errors.New("a dialog has opened")

// do sends a command to the page. One that a dialog holds up is left to itself.
func (x *Page) do(ctx context.Context, method string, params, result any) error {
	if _, _, d, _ := x.state(); d != nil && method != "Page.handleJavaScriptDialog" {
		return errDialog
	}
	done := make(chan error, 1)
	var raw json.RawMessage
	go func() { done <- x.page.Do(ctx, method, params, &raw) }()
	for {
		_, _, d, changed := x.state()
		if d != nil && method != "Page.handleJavaScriptDialog" { // it waits behind the dialog, and ends with that
			return errDialog
		}
		select {
		case err := <-done:
			if err != nil || result == nil {
				return err
			}
			return json.Unmarshal(raw, result)
		case <-changed:
		}
	}
}

// failed says an error in the standard's words.
func failed(doing string, err error) *w3c.Error {
	var werr *w3c.Error
	var no *devtools.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &werr):
		return werr
	case errors.Is(err, errDialog):
		return w3c.Fail(w3c.UnexpectedAlertOpen, "%s: a dialog of the page is open", doing)
	case errors.Is(err, devtools.ErrGone):
		return w3c.Fail(w3c.NoSuchWindow, "%s: the page is gone; see the contexts, and switch to another", doing)
	case errors.Is(err, context.DeadlineExceeded):
		return w3c.Fail(w3c.Timeout, "%s: the page took too long", doing)
	case errors.Is(err, errMoved):
		return w3c.Fail(w3c.UnknownError, "%s: %v", doing, errMoved)
	case errors.As(err, &no) && isStale(no.Message):
		return w3c.Fail(w3c.StaleElementReference, "the element is not in the document any more; find it again")
	}
	return w3c.Fail(w3c.UnknownError, "%s: %v", doing, err)
}

const (
	noWorld   = "Cannot find context with specified id" // as DevTools say it: nothing was called
	mostTries = 5
)

// isStale says whether what was asked for is of a document that is gone.
func isStale(message string) bool {
	for _, part := range []string{"Could not find object with given id", noWorld, "Execution context was destroyed", "Inspected target navigated or closed", "Could not find node with given id", "No node with given id found", "Node with given id does not belong to the document", "Could not compute", "uniqueContextId not found"} {
		if strings.Contains(message, part) {
			return true
		}
	}
	return false
}

// remote is a value as the page has it.
type remote struct {
	Type, Subtype, ObjectID string
	Value                   json.RawMessage
	Description             string
}

type called struct {
	Result           remote
	ExceptionDetails *struct {
		Text      string
		Exception *remote
	}
}

// object is an argument that stands for a thing of the page.
type object string

// errMoved says that the document went while something was called in it.
var errMoved = errors.New("the page went to another document meanwhile")

// call calls a function in the frame that is commanded: on an object of it, or, with "", on nothing. What is thrown is a *thrown.
func (x *Page) call(ctx context.Context, on object, function string, byValue bool, args ...any) (r remote, err error) {
	params := map[string]any{"functionDeclaration": function, "returnByValue": byValue, "awaitPromise": true, "userGesture": true}
	list, objects := make([]map[string]any, len(args)), on != ""
	for i, a := range args {
		if o, is := a.(object); is {
			list[i], objects = map[string]any{"objectId": string(o)}, true
		} else {
			list[i] = map[string]any{"value": a}
		}
	}
	params["arguments"] = list
	var out called
	for tries := 1; ; tries++ {
		if on != "" {
			params["objectId"] = string(on)
		} else if params["executionContextId"], err = x.world(ctx); err != nil {
			return r, err
		}
		err = x.do(ctx, "Runtime.callFunctionOn", params, &out)
		var no *devtools.Error
		if err == nil || objects || !errors.As(err, &no) || !isStale(no.Message) {
			break
		}
		if tries == mostTries || !strings.Contains(no.Message, noWorld) { // it may have begun
			return r, fmt.Errorf("%w: %w", errMoved, err)
		}
		if err := phone.Pause(ctx, poll); err != nil {
			return r, err
		}
	}
	if err != nil {
		return r, err
	}
	if d := out.ExceptionDetails; d != nil {
		t := &thrown{message: d.Text}
		if e := d.Exception; e != nil {
			t.message = e.Description
			if t.message == "" {
				t.message = string(e.Value)
			}
		}
		return r, t
	}
	return out.Result, nil
}

// thrown is what a script threw.
type thrown struct{ message string }

func (t *thrown) Error() string {
	first, _, _ := strings.Cut(t.message, "\n")
	return first
}

// world waits until scripts can run in the frame that is commanded.
func (x *Page) world(ctx context.Context) (int, error) {
	end := time.NewTimer(contextTakes)
	defer end.Stop()
	for {
		world, _, d, changed := x.state()
		switch {
		case d != nil:
			return 0, errDialog
		case world != 0:
			return world, nil
		}
		select {
		case <-changed:
		case <-x.page.Gone():
			return 0, devtools.ErrGone
		case <-end.C:
			if x.at != x.main {
				return 0, w3c.Fail(w3c.NoSuchWindow, "the frame is gone; switch to another")
			}
			return 0, errors.New("no script can be run in it")
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
}

// value calls a function and reads what it returned.
func (x *Page) value(ctx context.Context, on object, result any, function string, args ...any) error {
	r, err := x.call(ctx, on, function, true, args...)
	if err != nil || result == nil {
		return err
	}
	if r.Type == "undefined" || len(r.Value) == 0 {
		r.Value = json.RawMessage("null")
	}
	return json.Unmarshal(r.Value, result)
}

// Screenshot takes a picture of the page, or of what of it an element covers, as Base64 of a PNG.
func (x *Page) Screenshot(ctx context.Context, ref string) (string, *w3c.Error) {
	params := map[string]any{"format": "png"}
	if ref != "" {
		var r struct{ X, Y, Width, Height float64 }
		e, werr := x.element(ctx, ref)
		if werr != nil {
			return "", werr
		}
		if err := x.value(ctx, e, &r, `function() {
			this.scrollIntoView({block: 'nearest', inline: 'nearest', behavior: 'instant'});
			const b = this.getBoundingClientRect();
			return {x: b.x + window.scrollX, y: b.y + window.scrollY, width: b.width, height: b.height};
		}`); err != nil {
			return "", failed("take a screenshot", err)
		}
		if r.Width < 1 || r.Height < 1 {
			return "", w3c.Fail(w3c.UnableToCaptureScreen, "the element has no size")
		}
		params["clip"] = map[string]any{"x": r.X, "y": r.Y, "width": r.Width, "height": r.Height, "scale": 1}
		params["captureBeyondViewport"] = true
	}
	var out struct{ Data string }
	if err := x.do(ctx, "Page.captureScreenshot", params, &out); err != nil {
		return "", failed("take a screenshot", err)
	}
	return out.Data, nil
}

// Close ends it; the page stays.
func (x *Page) Close() { x.page.Close() }

// Gone says whether the page is not there any more.
func (x *Page) Gone() bool {
	select {
	case <-x.page.Gone():
		return true
	default:
		return false
	}
}

func (x *Page) String() string { return fmt.Sprintf("%s (%s)", x.page.Target.Title, x.page.Target.URL) }
