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

// dialog is an alert, a confirm or a prompt.
type dialog struct {
	Type    string `json:"type"`
	Message string `json:"message"`
	text    *string
}

const (
	stopTakes    = 5 * time.Second
	contextTakes = 10 * time.Second // for a frame to have a script's world
	maxRefs      = 20_000
	poll         = 50 * time.Millisecond
)

// Open begins to command a page.
func Open(ctx context.Context, p *devtools.Page, timeouts *w3c.Timeouts) (*Page, error) {
	x := &Page{Timeouts: timeouts, page: p, id: strings.ToLower(p.Target.ID[:min(8, len(p.Target.ID))]), refs: map[string]string{}, contexts: map[string]int{}, loading: map[string]bool{}, changed: make(chan struct{})}
	p.Hear(x.heard)
	for _, method := range []string{"Page.enable", "Runtime.enable"} {
		if err := p.Do(ctx, method, nil, nil); err != nil {
			return nil, err
		}
	}
	var tree struct {
		FrameTree struct{ Frame struct{ ID string } }
	}
	if err := p.Do(ctx, "Page.getFrameTree", nil, &tree); err != nil {
		return nil, err
	}
	x.main = tree.FrameTree.Frame.ID
	x.at = x.main
	return x, nil
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
	case errors.As(err, &no) && isStale(no.Message):
		return w3c.Fail(w3c.StaleElementReference, "the element is not in the document any more; find it again")
	}
	return w3c.Fail(w3c.UnknownError, "%s: %v", doing, err)
}

// isStale says whether what was asked for is of a document that is gone.
func isStale(message string) bool {
	for _, part := range []string{"Could not find object with given id", "Cannot find context with specified id", "Execution context was destroyed", "Inspected target navigated or closed", "Could not find node with given id", "No node with given id found", "Node with given id does not belong to the document", "Could not compute", "uniqueContextId not found"} {
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

// call calls a function in the frame that is commanded: on an object of it, or, with "", on nothing. What is thrown is a *thrown.
func (x *Page) call(ctx context.Context, on object, function string, byValue bool, args ...any) (r remote, err error) {
	params := map[string]any{"functionDeclaration": function, "returnByValue": byValue, "awaitPromise": true, "userGesture": true}
	list := make([]map[string]any, len(args))
	for i, a := range args {
		if o, is := a.(object); is {
			list[i] = map[string]any{"objectId": string(o)}
		} else {
			list[i] = map[string]any{"value": a}
		}
	}
	params["arguments"] = list
	if on != "" {
		params["objectId"] = string(on)
	} else {
		world, err := x.world(ctx)
		if err != nil {
			return r, err
		}
		params["executionContextId"] = world
	}
	var out called
	if err := x.do(ctx, "Runtime.callFunctionOn", params, &out); err != nil {
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
	x.at = x.main
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
		x.at = x.main
		if err := x.do(ctx, "Page.navigateToHistoryEntry", map[string]any{"entryId": h.Entries[to].ID}, nil); err != nil {
			return failed("go through the history", err)
		}
	}
	return x.settle(ctx)
}

// Reload loads the page anew.
func (x *Page) Reload(ctx context.Context) *w3c.Error {
	x.at = x.main
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

// Frame switches to a frame: nil, the page itself; a number; or an element's reference.
func (x *Page) Frame(ctx context.Context, id any) *w3c.Error {
	var o object
	switch id := id.(type) {
	case nil:
		x.at = x.main
		return nil
	case int:
		r, err := x.call(ctx, "", `function(n) { return document.querySelectorAll('iframe, frame')[n] }`, false, id)
		if err != nil {
			return failed("switch to the frame", err)
		}
		if r.ObjectID == "" || r.Subtype != "node" {
			return w3c.Fail(w3c.NoSuchFrame, "there is no frame number %d", id)
		}
		o = object(r.ObjectID)
	case string:
		e, err := x.element(ctx, id)
		if err != nil {
			return err
		}
		o = e
	}
	var d struct {
		Node struct{ FrameID, NodeName string }
	}
	if err := x.do(ctx, "DOM.describeNode", map[string]any{"objectId": string(o)}, &d); err != nil {
		return failed("switch to the frame", err)
	}
	if d.Node.FrameID == "" || d.Node.NodeName != "IFRAME" && d.Node.NodeName != "FRAME" {
		return w3c.Fail(w3c.NoSuchFrame, "the element is no frame")
	}
	x.at = d.Node.FrameID
	return nil
}

// ParentFrame switches to the frame around.
func (x *Page) ParentFrame(ctx context.Context) *w3c.Error {
	type node struct {
		Frame       struct{ ID, ParentID string }
		ChildFrames []json.RawMessage
	}
	var tree struct{ FrameTree json.RawMessage }
	if err := x.do(ctx, "Page.getFrameTree", nil, &tree); err != nil {
		return failed("switch to the frame around", err)
	}
	var find func(raw json.RawMessage) string
	find = func(raw json.RawMessage) string {
		var n node
		if json.Unmarshal(raw, &n) != nil {
			return ""
		}
		if n.Frame.ID == x.at {
			return n.Frame.ParentID
		}
		for _, c := range n.ChildFrames {
			if p := find(c); p != "" {
				return p
			}
		}
		return ""
	}
	if p := find(tree.FrameTree); p != "" {
		x.at = p
	}
	return nil
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

// Dialog is the dialog that is open: its text. None is an error.
func (x *Page) Dialog() (string, *w3c.Error) {
	_, _, d, _ := x.state()
	if d == nil {
		return "", w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	}
	return d.Message, nil
}

// Answer answers the dialog that is open.
func (x *Page) Answer(ctx context.Context, accept bool) *w3c.Error {
	_, _, d, _ := x.state()
	if d == nil {
		return w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	}
	params := map[string]any{"accept": accept}
	if d.text != nil && accept {
		params["promptText"] = *d.text
	}
	if err := x.do(ctx, "Page.handleJavaScriptDialog", params, nil); err != nil {
		return failed("answer the dialog", err)
	}
	x.mu.Lock()
	if x.dialog == d {
		x.dialog = nil
	}
	x.mu.Unlock()
	return x.settle(ctx)
}

// Prompt sets what is answered to the prompt that is open.
func (x *Page) Prompt(text string) *w3c.Error {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch {
	case x.dialog == nil:
		return w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	case x.dialog.Type != "prompt":
		return w3c.Fail(w3c.ElementNotInteractable, "the dialog takes no text")
	}
	x.dialog.text = &text
	return nil
}

// Unexpected does with a dialog that is in the way of a command what the session's unhandledPromptBehavior says (section 18.5, "handle any user prompts"): dismiss and
// notify unless said. Nil: the command can be done.
func (x *Page) Unexpected(ctx context.Context, behaviour string) *w3c.Error {
	text, none := x.Dialog()
	if none != nil {
		return nil
	}
	said := "is open"
	if behaviour != "ignore" {
		accept := strings.HasPrefix(behaviour, "accept")
		if err := x.Answer(ctx, accept); err != nil {
			return err
		}
		if behaviour == "accept" || behaviour == "dismiss" {
			return nil
		}
		said = "was open and is " + map[bool]string{true: "accepted", false: "dismissed"}[accept]
	}
	err := w3c.Fail(w3c.UnexpectedAlertOpen, "a dialog of the page %s: %s", said, text)
	err.Data = map[string]any{"text": text}
	return err
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
