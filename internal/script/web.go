package script

// Pages in web views, as scripts have them.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
	"tessellant/internal/webpage"
)

const maxPages = 20 // that a case may have at once

var errPages = fmt.Errorf("web: a case may have %d pages at once", maxPages)

// ClosePages lets go of the pages that a script has.
func (h *Hands) ClosePages() {
	for _, p := range h.pages {
		p.Close()
	}
	h.pages = nil
}

// web waits for a page at an address with part in it. The answer is how the script's process calls it.
func (h *Hands) web(ctx context.Context, part string, within time.Duration, line string) (any, error) {
	if h.Web == nil {
		return nil, errors.New("web: this device does not let web views be spoken to")
	}
	for end := time.Now().Add(within); ; {
		var there []string
		all, err := webpage.List(ctx, h.Web, h.Reaches)
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			if !strings.Contains(p.URL, part) {
				there = append(there, p.URL)
				continue
			}
			switch id, err := h.open(ctx, p); {
			case err == nil:
				return id, nil
			case errors.Is(err, errPages):
				return nil, err
			}
		}
		if !time.Now().Before(end) {
			actual := "no page can be spoken to; apps show theirs where they let web views be debugged"
			if len(there) > 0 {
				actual = "there are " + strings.Join(there, ", ")
			}
			return nil, &Failure{Expected: fmt.Sprintf("a page at an address with %q within %s", part, within), Actual: actual, Line: line}
		}
		if err := phone.Pause(ctx, pause); err != nil {
			return nil, err
		}
	}
}

// open begins to command a page.
func (h *Hands) open(ctx context.Context, found webpage.Found) (string, error) {
	if p := h.pages[found.ID]; p != nil && !p.Gone() {
		return found.ID, nil
	}
	maps.DeleteFunc(h.pages, func(_ string, p *webpage.Page) bool { return p.Gone() })
	if len(h.pages) >= maxPages {
		return "", errPages
	}
	timeouts := w3c.DefaultTimeouts()
	p, err := found.Open(ctx, &timeouts, h.Console)
	if err != nil {
		return "", err
	}
	if h.pages == nil {
		h.pages = map[string]*webpage.Page{}
	}
	h.pages[found.ID] = p
	return found.ID, nil
}

// onPage does a word of a page.
func (h *Hands) onPage(ctx context.Context, what string, c Call, within time.Duration) (v any, err error) {
	text := func(name string) string { s, _ := c.Args[name].(string); return s }
	p := h.pages[text("page")]
	if p == nil {
		return nil, errors.New("the page is not there any more; find it again with phone.web")
	}
	done := phone.Command{Name: what, Args: map[string]string{"page": p.String()}, Start: time.Now(), Looks: what != "tap" && what != "type" && what != "clear" && what != "run"}
	for _, name := range []string{"locator", "text", "script"} {
		if s := text(name); s != "" {
			done.Args[map[string]string{"locator": "element"}[name]+strings.TrimPrefix(name, "locator")] = s
		}
	}
	defer func() {
		if h.See != nil {
			done.Took, done.Err = time.Since(done.Start), err
			if s, is := v.(string); is {
				done.Answer = s
			}
			h.See(done)
		}
	}()
	value, werr := h.word(ctx, p, what, text, c, within)
	if werr != nil {
		return nil, told(werr, text("locator"), within, c.Line)
	}
	return value, nil
}

// told is an error of a page in a script's words.
func told(werr *w3c.Error, locator string, within time.Duration, line string) error {
	if werr.Code == w3c.NoSuchElement {
		return &Failure{Expected: fmt.Sprintf("%s in the page within %s", locator, within), Actual: "no such element", Line: line}
	}
	return werr
}

func (h *Hands) word(ctx context.Context, p *webpage.Page, what string, text func(string) string, c Call, within time.Duration) (any, *w3c.Error) {
	locator := text("locator")
	using := "css selector"
	if strings.HasPrefix(locator, "/") || strings.HasPrefix(locator, "(") {
		using = "xpath"
	}
	all := func(wait time.Duration) ([]string, *w3c.Error) {
		p.Timeouts.Implicit = wait
		return p.Find(ctx, using, locator, "", false)
	}
	switch what {
	case "title":
		return says(p.Says(ctx, webpage.Title))
	case "url":
		return says(p.Says(ctx, webpage.URL))
	case "run":
		p.Timeouts.Script = &within
		return p.Execute(ctx, text("script"), []any{}, false)
	case "sees", "count":
		refs, err := all(0)
		if err != nil || what == "count" {
			return float64(len(refs)), err
		}
		return len(refs) > 0, nil
	case "wait_for":
		return h.waitOnPage(ctx, p, using, locator, text("text"), within, c.Line)
	}
	refs, err := all(within)
	if err != nil {
		return nil, err
	}
	if len(refs) == 0 {
		return nil, w3c.Fail(w3c.NoSuchElement, "nothing in the page is %s", locator)
	}
	switch what {
	case "read":
		return p.Ask(ctx, "Get Element Text", refs[0], "")
	case "tap":
		return nil, p.Click(ctx, refs[0])
	case "type":
		return nil, p.Keys(ctx, refs[0], text("text"))
	case "clear":
		return nil, p.Clear(ctx, refs[0])
	}
	return nil, w3c.Fail(w3c.UnknownCommand, "a page has no %s", what)
}

func says(s string, err *w3c.Error) (any, *w3c.Error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// waitOnPage waits until an element has a text.
func (h *Hands) waitOnPage(ctx context.Context, p *webpage.Page, using, locator, wanted string, within time.Duration, line string) (any, *w3c.Error) {
	p.Timeouts.Implicit = 0
	last := "no such element"
	for end := time.Now().Add(within); ; {
		refs, err := p.Find(ctx, using, locator, "", true)
		if err != nil {
			return nil, err
		}
		if len(refs) > 0 {
			v, err := p.Ask(ctx, "Get Element Text", refs[0], "")
			if err == nil {
				if s := asText(v); strings.Contains(s, wanted) {
					return s, nil
				} else {
					last = fmt.Sprintf("the text %q", s)
				}
			} else if err.Code != w3c.StaleElementReference {
				return nil, err
			}
		}
		if !time.Now().Before(end) {
			return nil, w3c.Fail(w3c.Timeout, "%s was awaited with the text %q for %s, but there was %s", locator, wanted, within, last)
		}
		if err := phone.Pause(ctx, pause); err != nil {
			return nil, w3c.Fail(w3c.Timeout, "%v", err)
		}
	}
}
