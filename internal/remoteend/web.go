package remoteend

// Web views: the contexts of a session besides its screen, and a page as what commands work on (core/w3c: Web).

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
	"tessellant/internal/webpage"
)

const nativeContext = "native"

// web is a page in a web view. It implements surface.
type web struct {
	id   string
	page *webpage.Page
}

func (*web) context() w3c.Context { return w3c.Web }

func (*web) anew() {}

// pages lists the pages of all web views.
func (c *command) pages() ([]webpage.Found, *w3c.Error) {
	if c.phone.Webbed == nil {
		return nil, nil
	}
	all, err := webpage.List(c.ctx, c.phone.Webbed, c.Reaches)
	if err != nil {
		return nil, asError("list the web views", err)
	}
	return all, nil
}

// contexts lists them: the screen first.
func (c *command) contexts() (any, *w3c.Error) {
	all, err := c.pages()
	if err != nil {
		return nil, err
	}
	out := []any{map[string]any{"context": nativeContext}}
	for _, p := range all {
		out = append(out, map[string]any{"context": p.Context(), "app": p.App, "title": p.Title, "url": p.URL})
	}
	c.answer = fmt.Sprintf("%d contexts", len(out))
	return out, nil
}

// contextNow is the one that commands work on.
func (c *command) contextNow() string {
	if w, is := c.on.(*web); is {
		return w.id
	}
	return nativeContext
}

// leaveWeb goes back to the screen.
func (s *Session) leaveWeb() {
	if w, is := s.on.(*web); is {
		w.page.Close()
		s.on = s.screen
		s.touched()
	}
}

// switchContext switches to the screen, or to a page: by its context, or by a part of its address, for which it is waited.
func (c *command) switchContext() *w3c.Error {
	id, ok := c.body["context"].(string)
	if !ok {
		return w3c.Fail(w3c.InvalidArgument, `the context must be a text: "native", one of those that are listed, or "web" with a part of an address in url`)
	}
	part, _ := c.body["url"].(string)
	c.args["context"] = short(id)
	if part != "" {
		c.args["url"] = short(part)
	}
	switch {
	case c.phone.Passage != nil:
		return w3c.Fail(w3c.UnsupportedOperation, "the device's lab drives it: its contexts are the lab's own")
	case id == nativeContext:
		c.leaveWeb()
		return nil
	case c.phone.Webbed == nil:
		return w3c.Fail(w3c.UnsupportedOperation, "this device does not let web views be spoken to")
	}
	begun := time.Now()
	for {
		all, err := c.pages()
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(p webpage.Found) bool {
			return p.Context() == id || id == "web" && strings.Contains(p.URL, part)
		})
		if i >= 0 {
			return c.enter(all[i])
		}
		left := c.timeouts.Implicit - time.Since(begun)
		if left <= 0 {
			what := "the context " + id
			if id == "web" {
				what = "a page at an address with " + part
			}
			return w3c.Fail(w3c.NoSuchWindow, "there is no %.200s: %s; apps show theirs where they let web views be debugged (WebView.setWebContentsDebuggingEnabled)", what, pagesText(all))
		}
		if err := phone.Pause(c.ctx, min(left, pause)); err != nil {
			return asError("wait for the page", err)
		}
	}
}

func pagesText(all []webpage.Found) string {
	if len(all) == 0 {
		return "no page can be spoken to"
	}
	var out []string
	for _, p := range all {
		out = append(out, p.URL)
	}
	return "there are " + short(strings.Join(out, ", "))
}

// enter makes a page what commands work on.
func (c *command) enter(p webpage.Found) *w3c.Error {
	id := p.Context()
	if w, is := c.on.(*web); is && w.id == id && !w.page.Gone() {
		return nil
	}
	page, err := p.Open(c.ctx, &c.timeouts, c.Notes.Console)
	if err != nil {
		return w3c.Fail(w3c.NoSuchWindow, "the page %.200s can't be spoken to: %v", p.URL, err)
	}
	c.leaveWeb()
	c.on = &web{id, page}
	c.answer = short(p.URL)
	return nil
}

// do implements surface.
func (w *web) do(c *command) (any, *w3c.Error) {
	(&through{}).tell(c)
	switch c.call.Name {
	case "Dismiss Alert":
		return nil, w.page.Answer(c.ctx, false)
	case "Accept Alert":
		return nil, w.page.Answer(c.ctx, true)
	case "Get Alert Text":
		return said(c, w.page.Dialog)
	case "Send Alert Text":
		text, ok := c.body["text"].(string)
		if !ok {
			return nil, w3c.Fail(w3c.InvalidArgument, "the text must be a string")
		}
		return nil, w.page.Prompt(text)
	case "Get Window Handle", "Get Window Handles":
		if w.page.Gone() {
			return nil, w3c.Fail(w3c.NoSuchWindow, "the page is gone; see the contexts, and switch to another")
		}
		if c.call.Name == "Get Window Handles" {
			return []string{w.id}, nil
		}
		return w.id, nil
	}
	behaviour, _ := c.Answer["unhandledPromptBehavior"].(string)
	if err := w.page.Unexpected(c.ctx, behaviour); err != nil {
		return nil, err
	}
	v, err := w.plain(c, behaviour)
	if err == nil {
		c.answer = brief(v)
	}
	return v, err
}

func said(c *command, ask func() (string, *w3c.Error)) (any, *w3c.Error) {
	s, err := ask()
	if err != nil {
		return nil, err
	}
	c.answer = short(s)
	return s, nil
}

// plain does a command that no dialog is in the way of.
func (w *web) plain(c *command, behaviour string) (any, *w3c.Error) {
	p, ctx := w.page, c.ctx
	text := func(name string) (string, *w3c.Error) {
		s, ok := c.body[name].(string)
		if !ok {
			return "", w3c.Fail(w3c.InvalidArgument, "%s must be a string", name)
		}
		return s, nil
	}
	switch c.call.Name {
	case "Navigate To":
		url, err := text("url")
		if err != nil {
			return nil, err
		}
		if !strings.Contains(url, ":") {
			return nil, w3c.Fail(w3c.InvalidArgument, "%.200q is no address", url)
		}
		return nil, p.Navigate(ctx, url)
	case "Get Current URL":
		return orNothing(p.Says(ctx, webpage.URL))
	case "Get Title":
		return orNothing(p.Says(ctx, webpage.Title))
	case "Get Page Source":
		return orNothing(p.Says(ctx, webpage.Source))
	case "Back":
		return nil, p.Travel(ctx, -1)
	case "Forward":
		return nil, p.Travel(ctx, 1)
	case "Refresh":
		return nil, p.Reload(ctx)
	case "Switch To Window":
		handle, err := text("handle")
		if err != nil {
			return nil, err
		}
		if handle != w.id {
			return nil, w3c.Fail(w3c.NoSuchWindow, "there is no window %.200q; pages are contexts here: POST …/tessellant/context", handle)
		}
		return nil, nil
	case "Switch To Frame":
		return nil, w.frame(c)
	case "Switch To Parent Frame":
		p.ParentFrame()
		return nil, nil
	case "Get Window Rect":
		return p.Execute(ctx, "return {x: window.screenX, y: window.screenY, width: window.outerWidth, height: window.outerHeight}", nil, false)
	case "Find Element", "Find Element From Element", "Find Element From Shadow Root", "Find Elements", "Find Elements From Element", "Find Elements From Shadow Root":
		return w.find(c)
	case "Get Active Element":
		ref, err := p.Active(ctx)
		if err != nil {
			return nil, err
		}
		return map[string]string{w3c.ElementKey: ref}, nil
	case "Get Element Shadow Root":
		ref, err := p.Shadow(ctx, c.call.Element)
		if err != nil {
			return nil, err
		}
		return map[string]string{webpage.ShadowKey: ref}, nil
	case "Element Click":
		return nil, p.Click(ctx, c.call.Element)
	case "Element Clear":
		return nil, p.Clear(ctx, c.call.Element)
	case "Element Send Keys":
		s, err := text("text")
		if err != nil {
			return nil, err
		}
		return nil, p.Keys(ctx, c.call.Element, s)
	case "Execute Script", "Execute Async Script":
		script, err := text("script")
		if err != nil {
			return nil, err
		}
		args, ok := c.body["args"].([]any)
		if !ok {
			return nil, w3c.Fail(w3c.InvalidArgument, "args must be a list")
		}
		return p.Execute(ctx, script, args, c.call.Name == "Execute Async Script")
	case "Perform Actions":
		return nil, p.Perform(ctx, c.body, behaviour)
	case "Release Actions":
		return nil, p.Release(ctx)
	case "Get All Cookies":
		return orNothing(p.Cookies(ctx, ""))
	case "Get Named Cookie":
		all, err := p.Cookies(ctx, c.call.Param)
		if err == nil && len(all) == 0 {
			err = w3c.Fail(w3c.NoSuchCookie, "the page has no cookie %.200q", c.call.Param)
		}
		if err != nil {
			return nil, err
		}
		return all[0], nil
	case "Add Cookie":
		one, ok := c.body["cookie"].(map[string]any)
		if !ok {
			return nil, w3c.Fail(w3c.InvalidArgument, "cookie must be an object")
		}
		return nil, p.AddCookie(ctx, one)
	case "Delete Cookie":
		return nil, p.RemoveCookies(ctx, c.call.Param)
	case "Delete All Cookies":
		return nil, p.RemoveCookies(ctx, "")
	case "Take Screenshot":
		return orNothing(p.Screenshot(ctx, ""))
	case "Take Element Screenshot":
		return orNothing(p.Screenshot(ctx, c.call.Element))
	case "Print Page":
		return nil, w3c.Fail(w3c.UnsupportedOperation, "a web view does not print")
	}
	return p.Ask(ctx, c.call.Name, c.call.Element, c.call.Param)
}

// orNothing is a value, or the error alone.
func orNothing[T any](v T, err *w3c.Error) (any, *w3c.Error) {
	if err != nil {
		return nil, err
	}
	return v, nil
}

// find finds one element, or all.
func (w *web) find(c *command) (any, *w3c.Error) {
	using, ok1 := c.body["using"].(string)
	value, ok2 := c.body["value"].(string)
	if !ok1 || !ok2 {
		return nil, w3c.Fail(w3c.InvalidArgument, "a locator needs a strategy in using and a text in value")
	}
	delete(c.args, "using")
	delete(c.args, "value")
	c.args[map[bool]string{true: "element", false: using}[using == "css selector" || using == "xpath"]] = short(value)
	from := c.call.Element
	if strings.HasSuffix(c.call.Name, "Shadow Root") {
		from = c.call.Param
	}
	one := strings.HasPrefix(c.call.Name, "Find Element ") || c.call.Name == "Find Element"
	refs, err := w.page.Find(c.ctx, using, value, from, one)
	if err != nil {
		return nil, err
	}
	if !one {
		out := make([]any, len(refs))
		for i, r := range refs {
			out[i] = map[string]string{w3c.ElementKey: r}
		}
		return out, nil
	}
	if len(refs) == 0 {
		return nil, w3c.Fail(w3c.NoSuchElement, "nothing in the page is %s %s", using, short(value))
	}
	return map[string]string{w3c.ElementKey: refs[0]}, nil
}

// frame switches to a frame.
func (w *web) frame(c *command) *w3c.Error {
	id, given := c.body["id"]
	switch v := id.(type) {
	case nil:
		if !given {
			return w3c.Fail(w3c.InvalidArgument, "the frame's id is missing")
		}
		return w.page.Frame(c.ctx, nil)
	case float64:
		if v != float64(uint16(v)) {
			return w3c.Fail(w3c.InvalidArgument, "a frame's number must be a whole one from 0 to 65535, not %v", v)
		}
		return w.page.Frame(c.ctx, int(v))
	case map[string]any:
		if ref, ok := v[w3c.ElementKey].(string); ok {
			return w.page.Frame(c.ctx, ref)
		}
	}
	return w3c.Fail(w3c.InvalidArgument, "a frame's id must be null, a number or an element")
}
