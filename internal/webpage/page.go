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
	"slices"
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

	page   *devtools.Page
	id     string   // begins its elements' references
	main   string   // its main frame
	at     string   // the frame that is commanded
	around []string // the frames around it, the innermost last

	acting acting
	refs   map[string]string // reference → object, as far as it was not forgotten
	mu     sync.Mutex        // guards those below, which events change
	// Contexts are the scripts' worlds of frames. A frame apart may have one more, of the document before, in the process around.
	contexts map[string][]world
	apart    map[string]apart // by their sessions
	loading  map[string]bool  // frames
	changed  chan struct{}    // closed, and made anew, when those change
	dialog   *dialog          // that is open; nil: none is
}

const (
	blank        = "about:blank"
	contextTakes = 10 * time.Second // for a frame to have a script's world
	maxRefs      = 20_000
	poll         = 50 * time.Millisecond
)

// open begins to command a page; also one of which a dialog opens meanwhile, behind which it says nothing more.
func open(ctx context.Context, p *devtools.Page, timeouts *w3c.Timeouts) (*Page, error) {
	x := &Page{Timeouts: timeouts, page: p, main: p.Target.ID, at: p.Target.ID, id: strings.ToLower(p.Target.ID[:min(8, len(p.Target.ID))]), refs: map[string]string{}, contexts: map[string][]world{}, apart: map[string]apart{}, loading: map[string]bool{}, changed: make(chan struct{})}
	p.Hear(x.heard)
	if err := p.Do(ctx, "Runtime.enable", nil, nil); err != nil {
		return nil, err
	}
	if err := p.Do(ctx, "Target.setAutoAttach", autoAttach, nil); err != nil && !errors.As(err, new(*devtools.Error)) { // an old web view has no frames apart
		return nil, err
	}
	if err := x.do(ctx, "Page.enable", nil, nil); err != nil { // from here on dialogs are told of
		return x.unlessAsked(err)
	}
	for end := time.Now().Add(contextTakes); ; {
		var tree struct {
			FrameTree struct{ Frame struct{ ID, URL string } }
		}
		if err := x.do(ctx, "Page.getFrameTree", nil, &tree); err != nil {
			return x.unlessAsked(err)
		}
		x.main = tree.FrameTree.Frame.ID
		x.whole()
		// A page that was just made is listed at the address that it goes to, while its first, empty document is still there.
		if at := tree.FrameTree.Frame.URL; at != "" && at != blank || p.Target.URL == blank || p.Target.URL == "" || time.Now().After(end) {
			return x, nil
		}
		if err := phone.Pause(ctx, poll); err != nil {
			return nil, err
		}
	}
}

// unlessAsked is the page where a dialog is all that keeps it from answering.
func (x *Page) unlessAsked(err error) (*Page, error) {
	if errors.Is(err, errDialog) {
		return x, nil
	}
	return nil, err
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
		FrameID, SessionID string
		Type, Message      string
		TargetInfo         struct{ TargetID, Type string }
	}
	if json.Unmarshal(e.Params, &m) != nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	switch e.Method {
	case "Runtime.executionContextCreated":
		if m.Context.AuxData.IsDefault {
			x.contexts[m.Context.AuxData.FrameID] = append(x.contexts[m.Context.AuxData.FrameID], world{e.Session, m.Context.ID})
		}
	case "Runtime.executionContextDestroyed":
		x.forget(func(w world) bool { return w == world{e.Session, m.ExecutionContextID} })
	case "Runtime.executionContextsCleared":
		x.forget(func(w world) bool { return w.session == e.Session })
	case "Target.attachedToTarget":
		x.joined(m.SessionID, m.TargetInfo.TargetID, m.TargetInfo.Type, e.Session)
	case "Target.detachedFromTarget":
		delete(x.apart, m.SessionID)
		x.forget(func(w world) bool { return w.session == m.SessionID })
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

// forget forgets, under mu, scripts' worlds that are gone.
func (x *Page) forget(gone func(world) bool) {
	for frame, all := range x.contexts {
		if all = slices.DeleteFunc(all, gone); len(all) > 0 {
			x.contexts[frame] = all
		} else {
			delete(x.contexts, frame)
		}
	}
}

// inFrame is, under mu, the world of a frame: that of the frame's own session, if it has one, else the newest.
func (x *Page) inFrame(frame string) (in world) {
	for _, w := range x.contexts[frame] {
		if x.apart[w.session].frame == frame || x.apart[in.session].frame != frame {
			in = w
		}
	}
	return in
}

// state gives what events have told, and a channel that is closed when they tell more.
func (x *Page) state() (in world, loading bool, d *dialog, changed <-chan struct{}) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.inFrame(x.at), x.loading[x.at] || x.loading[x.main], x.dialog, x.changed
}

// errDialog says that a dialog has opened, behind which the command waits.
var errDialog = errors.New("a dialog has opened")

// do sends a command to the page. One that a dialog holds up is left to itself.
func (x *Page) do(ctx context.Context, method string, params, result any) error {
	return x.doIn(ctx, "", method, params, result)
}

// doIn is do to a frame apart, by its session; "": to the page.
func (x *Page) doIn(ctx context.Context, session, method string, params, result any) error {
	if _, _, d, _ := x.state(); d != nil && method != "Page.handleJavaScriptDialog" {
		return errDialog
	}
	done := make(chan error, 1)
	var raw json.RawMessage
	go func() { done <- x.page.DoIn(ctx, session, method, params, &raw) }()
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
	for _, part := range []string{"Could not find object with given id", noWorld, "Execution context was destroyed", "Inspected target navigated or closed", "Could not find node with given id", "No node with given id found", "Node with given id does not belong to the document", "Could not compute", "uniqueContextId not found", "Session with given id not found"} {
		if strings.Contains(message, part) {
			return true
		}
	}
	return false
}

type called struct {
	Result           devtools.Remote
	ExceptionDetails *struct {
		Text      string
		Exception *devtools.Remote
	}
}

// errMoved says that the document went while something was called in it.
var errMoved = errors.New("the page went to another document meanwhile")

// call calls a function in the frame that is commanded: on an object of it, or, with "", on nothing. What is thrown is a *thrown.
func (x *Page) call(ctx context.Context, on object, function string, byValue bool, args ...any) (r devtools.Remote, err error) {
	params := map[string]any{"functionDeclaration": function, "returnByValue": byValue, "awaitPromise": true, "userGesture": true}
	list, objects := make([]map[string]any, len(args)), on != ""
	for i, a := range args {
		if o, is := a.(object); is {
			_, id := o.parts()
			list[i], objects = map[string]any{"objectId": id}, true
		} else {
			list[i] = map[string]any{"value": a}
		}
	}
	params["arguments"] = list
	var out called
	for tries := 1; ; tries++ {
		session := ""
		if on != "" {
			session, params["objectId"] = on.parts()
		} else {
			in, err := x.world(ctx)
			if err != nil {
				return r, err
			}
			session, params["executionContextId"] = in.session, in.id
		}
		err = x.doIn(ctx, session, "Runtime.callFunctionOn", params, &out)
		out.Result.ObjectID = string(objectIn(session, out.Result.ObjectID))
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
func (x *Page) world(ctx context.Context) (world, error) {
	end := time.NewTimer(contextTakes)
	defer end.Stop()
	for {
		in, _, d, changed := x.state()
		switch {
		case d != nil:
			return in, errDialog
		case in.id != 0:
			return in, nil
		}
		select {
		case <-changed:
		case <-x.page.Gone():
			return in, devtools.ErrGone
		case <-end.C:
			if x.at != x.main {
				return in, w3c.Fail(w3c.NoSuchWindow, "the frame is gone; switch to another")
			}
			return in, errors.New("no script can be run in it")
		case <-ctx.Done():
			return in, ctx.Err()
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
			return {x: b.x, y: b.y, width: b.width, height: b.height};
		}`); err != nil {
			return "", failed("take a screenshot", err)
		}
		left, top, err := x.offset(ctx)
		if err != nil {
			return "", failed("take a screenshot", err)
		}
		var at struct {
			CSSVisualViewport struct{ PageX, PageY float64 }
		}
		if err := x.do(ctx, "Page.getLayoutMetrics", nil, &at); err != nil {
			return "", failed("take a screenshot", err)
		}
		r.X, r.Y = r.X+left+at.CSSVisualViewport.PageX, r.Y+top+at.CSSVisualViewport.PageY
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
