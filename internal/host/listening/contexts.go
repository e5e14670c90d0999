package listening

// The commands of the module browsingContext.

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"time"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

const (
	loadTakes = 5 * time.Minute // for a page to load, as a session's page load timeout is unless said
	moveTakes = 10 * time.Second
	maxDepth  = 1000
)

// looks are the commands that do nothing to a page.
var looks = map[string]bool{"browsingContext.getTree": true, "browsingContext.captureScreenshot": true}

// inContext carries out a command of a context. Those that act wait while a person has paused the test; what is seen or done stands on the timeline.
func (s *Session) inContext(ctx context.Context, x bidi.Command) (result any, werr *w3c.Error) {
	if x.Method == "browsingContext.getTree" {
		return s.getTree(ctx, x.Params)
	}
	c := phone.Command{Name: x.Method, Args: map[string]string{}, Start: time.Now(), Looks: looks[x.Method]}
	for _, name := range []string{"context", "url", "delta", "accept", "userText"} {
		if v, given := x.Params[name]; given {
			c.Args[name] = fmt.Sprintf("%.200v", v)
		}
	}
	if !c.Looks {
		leave, err := s.Enter(ctx, x.Method)
		if err != nil {
			return nil, w3c.Fail(w3c.UnknownError, "the test is paused: %v", err)
		}
		defer leave()
	}
	whole, cancel := context.WithTimeout(ctx, loadTakes) // a page answers nothing while a dialog of it is open
	defer cancel()
	result, werr = s.ofPage(whole, x)
	if c.Took = time.Since(c.Start); werr != nil {
		c.Err = werr
	}
	s.Command(c)
	return result, werr
}

// getTree lists the contexts.
func (s *Session) getTree(ctx context.Context, p bidi.Params) (any, *w3c.Error) {
	deep, werr := p.Whole("maxDepth", -1, 0, maxDepth)
	if werr != nil {
		return nil, werr
	}
	out := []any{}
	screen := bidi.NewInfo(bidi.Screen, "")
	if deep != 0 {
		screen.Children = []bidi.Info{}
	}
	if _, given := p["root"]; given {
		root, werr := p.Text("root")
		if werr != nil {
			return nil, werr
		}
		if root == bidi.Screen {
			return map[string]any{"contexts": append(out, screen.Outermost(""))}, nil
		}
		x, frame, werr := s.touch.find(ctx, root)
		if werr != nil {
			return nil, werr
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		parent := ""
		if f := x.frames[frame]; f != nil && frame != x.main {
			parent = x.call(f.parent)
		}
		return map[string]any{"contexts": append(out, x.info(frame, deep).Outermost(parent))}, nil
	}
	if err := s.touch.sync(ctx); err != nil {
		return nil, w3c.Fail(w3c.UnknownError, "the web views can't be listed: %v", err)
	}
	out = append(out, screen.Outermost(""))
	for _, x := range s.touch.list() {
		out = append(out, x.tree(deep).Outermost(""))
	}
	return map[string]any{"contexts": out}, nil
}

// ofPage carries out a command that names its context.
func (s *Session) ofPage(ctx context.Context, x bidi.Command) (any, *w3c.Error) {
	name, werr := x.Params.Text("context")
	if werr != nil {
		return nil, werr
	}
	if name == bidi.Screen {
		if x.Method == "browsingContext.captureScreenshot" {
			return s.pictureOfScreen(ctx, x.Params)
		}
		return nil, w3c.Fail(w3c.UnsupportedOperation, "%s has no meaning on the screen of a native app: name the context of a page, see browsingContext.getTree", x.Method)
	}
	p, frame, werr := s.touch.find(ctx, name)
	if werr != nil {
		return nil, werr
	}
	switch x.Method {
	case "browsingContext.captureScreenshot":
		return p.picture(ctx, frame, x.Params)
	case "browsingContext.navigate":
		return p.navigate(ctx, frame, x.Params)
	case "browsingContext.reload":
		return p.reload(ctx, frame, x.Params)
	}
	if frame != p.outermost() {
		return nil, w3c.Fail(w3c.InvalidArgument, "%s is for a page, not for a frame in it", x.Method)
	}
	switch x.Method {
	case "browsingContext.activate":
		return nil, p.failed("bring the page to the front", p.to.Do(ctx, "Page.bringToFront", nil, nil))
	case "browsingContext.handleUserPrompt":
		return nil, p.answer(ctx, x.Params)
	case "browsingContext.traverseHistory":
		return nil, p.travel(ctx, x.Params)
	}
	return nil, w3c.Fail(w3c.UnknownError, "nothing here does %s", x.Method)
}

// failed says an error of a page in the draft's words.
func (p *page) failed(doing string, err error) *w3c.Error {
	switch {
	case err == nil:
		return nil
	case p.ended():
		return w3c.Fail(w3c.NoSuchFrame, "%s: the page is gone; see browsingContext.getTree", doing)
	case errors.Is(err, context.DeadlineExceeded):
		return w3c.Fail(w3c.UnknownError, "%s: the page had not answered after %s; a dialog of it may be open", doing, loadTakes)
	}
	return w3c.Fail(w3c.UnknownError, "%s: %v", doing, err)
}

func (s *Session) pictureOfScreen(ctx context.Context, params bidi.Params) (any, *w3c.Error) {
	format, werr := formatOf(params)
	if werr != nil {
		return nil, werr
	}
	if _, clipped := params["clip"]; clipped || format["format"] != "png" {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "the screen's picture is a whole PNG; for a part of it use GET …/element/ID/screenshot")
	}
	png, err := s.Screenshot(ctx)
	if err != nil {
		return nil, w3c.Fail(w3c.UnableToCaptureScreen, "take a picture of the screen: %v", err)
	}
	return map[string]string{"data": base64.StdEncoding.EncodeToString(png)}, nil
}

// formatOf reads how a picture is to be written, in the words of DevTools.
func formatOf(p bidi.Params) (map[string]any, *w3c.Error) {
	out := map[string]any{"format": "png"}
	v, given := p["format"]
	if !given {
		return out, nil
	}
	f, isObject := v.(map[string]any)
	kind, _ := f["type"].(string)
	name := map[string]string{"image/png": "png", "image/jpeg": "jpeg", "image/webp": "webp"}[kind]
	if !isObject || name == "" {
		return nil, w3c.Fail(w3c.InvalidArgument, "format must be an object whose type is image/png, image/jpeg or image/webp")
	}
	out["format"] = name
	if q, given := f["quality"]; given {
		n, ok := q.(float64)
		if !ok || n < 0 || n > 1 {
			return nil, w3c.Fail(w3c.InvalidArgument, "quality must be a number from 0 to 1")
		}
		if name != "png" {
			out["quality"] = int(math.Round(n * 100))
		}
	}
	return out, nil
}

// picture takes a picture of a page: of what of it is seen, or of its whole document; of all of that, or of a box.
func (p *page) picture(ctx context.Context, frame string, params bidi.Params) (any, *w3c.Error) {
	const doing = "take a picture of the page"
	if frame != p.outermost() {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "a picture is of a whole page, not of a frame in it")
	}
	origin, werr := params.OneOf("origin", "viewport", "document")
	if werr != nil {
		return nil, werr
	}
	how, werr := formatOf(params)
	if werr != nil {
		return nil, werr
	}
	var m struct {
		CSSLayoutViewport struct{ PageX, PageY, ClientWidth, ClientHeight float64 }
		CSSContentSize    struct{ Width, Height float64 }
	}
	if err := p.to.Do(ctx, "Page.getLayoutMetrics", nil, &m); err != nil {
		return nil, p.failed(doing, err)
	}
	// All in pixels of the document.
	x, y, w, h := m.CSSLayoutViewport.PageX, m.CSSLayoutViewport.PageY, m.CSSLayoutViewport.ClientWidth, m.CSSLayoutViewport.ClientHeight
	if origin == "document" {
		x, y, w, h = 0, 0, m.CSSContentSize.Width, m.CSSContentSize.Height
	}
	if v, given := params["clip"]; given {
		box, isObject := v.(map[string]any)
		if !isObject {
			return nil, w3c.Fail(w3c.InvalidArgument, "clip must be an object")
		}
		if box["type"] == "element" {
			return nil, w3c.Fail(w3c.UnsupportedOperation, "for the picture of an element use GET …/element/ID/screenshot, after POST …/tessellant/context")
		}
		var n [4]float64
		for i, name := range []string{"x", "y", "width", "height"} {
			f, ok := box[name].(float64)
			if !ok || box["type"] != "box" {
				return nil, w3c.Fail(w3c.InvalidArgument, "clip must be a box with x, y, width and height")
			}
			n[i] = f
		}
		left, top := math.Max(x, x+math.Min(n[0], n[0]+n[2])), math.Max(y, y+math.Min(n[1], n[1]+n[3]))
		right, bottom := math.Min(x+w, x+math.Max(n[0], n[0]+n[2])), math.Min(y+h, y+math.Max(n[1], n[1]+n[3]))
		x, y, w, h = left, top, right-left, bottom-top
	}
	if w < 1 || h < 1 {
		return nil, w3c.Fail(w3c.UnableToCaptureScreen, "%s: nothing of it is in the box", doing)
	}
	how["clip"] = map[string]any{"x": x, "y": y, "width": w, "height": h, "scale": 1}
	how["captureBeyondViewport"] = origin == "document"
	var out struct {
		Data string `json:"data"`
	}
	if err := p.to.Do(ctx, "Page.captureScreenshot", how, &out); err != nil {
		return nil, p.failed(doing, err)
	}
	return out, nil
}

// waits are how far a navigation is waited for.
func waits(params bidi.Params) (ready int, werr *w3c.Error) {
	word, werr := params.OneOf("wait", "none", "interactive", "complete")
	return map[string]int{"none": committed, "interactive": interactive, "complete": complete}[word], werr
}

// navigated is what a navigation answers.
type navigated struct {
	Navigation string `json:"navigation"`
	URL        string `json:"url"`
}

func (p *page) navigate(ctx context.Context, id string, params bidi.Params) (any, *w3c.Error) {
	const doing = "navigate"
	url, werr := params.Text("url")
	if werr != nil {
		return nil, werr
	}
	ready, werr := waits(params)
	if werr != nil {
		return nil, werr
	}
	was, _ := p.at(id)
	var out struct{ LoaderID, ErrorText string }
	if err := p.to.Do(ctx, "Page.navigate", map[string]any{"url": url, "frameId": id}, &out); err != nil {
		return nil, p.failed(doing, err)
	}
	switch {
	case out.ErrorText != "":
		return nil, w3c.Fail(w3c.UnknownError, "%.200s can't be opened: %s", url, out.ErrorText)
	case out.LoaderID == "": // within the document
		if werr := p.await(ctx, doing, func(f *frame) bool { return f.moves > was.moves }, id, moveTakes); werr != nil {
			return nil, werr
		}
		now, _ := p.at(id)
		return navigated{now.within, now.url}, nil
	case ready > committed:
		if werr := p.await(ctx, doing, func(f *frame) bool { return f.loader == out.LoaderID && f.ready >= ready }, id, loadTakes); werr != nil {
			return nil, werr
		}
	}
	return navigated{out.LoaderID, url}, nil
}

func (p *page) reload(ctx context.Context, id string, params bidi.Params) (any, *w3c.Error) {
	const doing = "reload"
	ready, werr := waits(params)
	if werr != nil {
		return nil, werr
	}
	afresh, werr := params.Is("ignoreCache", false)
	if werr != nil {
		return nil, werr
	}
	if id != p.outermost() {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "a page is reloaded, not a frame in it; navigate the frame to its address")
	}
	was, _ := p.at(id)
	if err := p.to.Do(ctx, "Page.reload", map[string]any{"ignoreCache": afresh}, nil); err != nil {
		return nil, p.failed(doing, err)
	}
	if werr := p.await(ctx, doing, func(f *frame) bool { return f.loader != was.loader && f.ready >= ready }, id, loadTakes); werr != nil {
		return nil, werr
	}
	now, _ := p.at(id)
	return navigated{now.loader, now.url}, nil
}

// at is how a frame stands.
func (p *page) at(id string) (f frame, changed <-chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if x := p.frames[id]; x != nil {
		f = *x
	}
	return f, p.changed
}

// await waits until a frame is as is wanted.
func (p *page) await(ctx context.Context, doing string, is func(*frame) bool, id string, most time.Duration) *w3c.Error {
	end := time.NewTimer(most)
	defer end.Stop()
	for {
		f, changed := p.at(id)
		if is(&f) {
			return nil
		}
		select {
		case <-changed:
		case <-p.to.Gone():
			return w3c.Fail(w3c.NoSuchFrame, "%s: the page is gone; see browsingContext.getTree", doing)
		case <-end.C:
			return w3c.Fail(w3c.UnknownError, "%s: the page had not come that far after %s", doing, most)
		case <-ctx.Done():
			return p.failed(doing, context.Cause(ctx))
		}
	}
}

// answer answers the dialog of a page that is open.
func (p *page) answer(ctx context.Context, params bidi.Params) *w3c.Error {
	accept, werr := params.Is("accept", true)
	if werr != nil {
		return werr
	}
	how := map[string]any{"accept": accept}
	if _, given := params["userText"]; given {
		text, werr := params.Text("userText")
		if werr != nil {
			return werr
		}
		how["promptText"] = text
	}
	p.mu.Lock()
	open := p.dialog != ""
	p.mu.Unlock()
	if !open {
		return w3c.Fail(w3c.NoSuchAlert, "no dialog of the page is open")
	}
	return p.failed("answer the dialog", p.to.Do(ctx, "Page.handleJavaScriptDialog", how, nil))
}

// travel goes through the history of a page.
func (p *page) travel(ctx context.Context, params bidi.Params) *w3c.Error {
	const doing, most = "go through the history", 1 << 20
	by, werr := params.Whole("delta", 0, -most, most)
	if _, given := params["delta"]; werr == nil && !given {
		werr = w3c.Fail(w3c.InvalidArgument, "delta must say how far: -1 is one back")
	}
	if werr != nil || by == 0 {
		return werr
	}
	var h struct {
		CurrentIndex int
		Entries      []struct{ ID int }
	}
	if err := p.to.Do(ctx, "Page.getNavigationHistory", nil, &h); err != nil {
		return p.failed(doing, err)
	}
	to := h.CurrentIndex + by
	if to < 0 || to >= len(h.Entries) {
		return w3c.Fail(bidi.NoSuchHistoryEntry, "the page has %d entries, and is at number %d", len(h.Entries), h.CurrentIndex+1)
	}
	was, _ := p.at(p.outermost())
	if err := p.to.Do(ctx, "Page.navigateToHistoryEntry", map[string]any{"entryId": h.Entries[to].ID}, nil); err != nil {
		return p.failed(doing, err)
	}
	return p.await(ctx, doing, func(f *frame) bool { return f.moves > was.moves }, p.outermost(), moveTakes)
}
