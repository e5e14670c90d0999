package listening

// A page that is spoken to: its frames, where they are, and what it tells.

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/bidi"
	"tessellant/internal/devtools"
	"tessellant/internal/guard"
	"tessellant/internal/webpage"
)

const (
	touchTakes = 20 * time.Second // to begin to speak to one
	maxEarly   = 1 << 20          // bytes of events of one that is not known yet
	maxURL     = 32 << 10         // bytes of the address of a frame, of which a page may have many
)

// page is a page that is spoken to.
type page struct {
	s       *Session
	context string
	prefix  string // of the contexts of its frames
	to      *devtools.Page

	turn    sync.Mutex // held while something is told, so that it is told in its order
	mu      sync.Mutex
	main    string // its outermost frame
	frames  map[string]*frame
	worlds  map[int]string // a script's world → its frame
	dialog  string         // the kind of the one that is open; "": none is
	known   bool           // it was told that the page is there
	early   []bidi.Event   // what the page told before
	held    int            // bytes of that
	changed chan struct{}  // closed, and made anew, when frames have changed
}

type frame struct {
	parent, url string
	loader      string // of its document: the navigation that brought it
	within      string // the navigation that went last to another place in it
	ready       int    // how far it is
	moves       int    // how often it went to another place, in its document, too
}

// How far a document is.
const (
	committed = iota
	interactive
	complete
)

// open begins to speak to a page. It is there as soon as it has said what is in it, or has opened a dialog, behind which it says nothing more until that is answered.
func (t *touched) open(ctx context.Context, f webpage.Found) (*page, error) {
	ctx, cancel := context.WithTimeout(ctx, touchTakes)
	defer cancel()
	to, err := f.Attach(ctx)
	if err != nil {
		return nil, err
	}
	id := f.Context()
	p := &page{s: t.s, context: id, prefix: strings.TrimSuffix(id, f.ID), to: to, main: f.ID, frames: map[string]*frame{f.ID: {url: f.URL, ready: complete}}, worlds: map[int]string{}, changed: make(chan struct{})}
	to.Hear(p.heard)
	begun := make(chan error, 1)
	t.s.tasks.Go(func() { begun <- guard.Do(t.s.Log, guard.Order, func() error { return p.begin(t.s.ctx) }) })
	for {
		p.mu.Lock()
		asks, changed := p.dialog != "", p.changed
		p.mu.Unlock()
		if asks {
			return p, nil
		}
		select {
		case err = <-begun:
			if err == nil {
				return p, nil
			}
		case <-changed:
			continue
		case <-ctx.Done():
			err = ctx.Err()
		}
		to.Close()
		return nil, err
	}
}

// begin learns what there is already. What its console has said before is told by the page again.
func (p *page) begin(ctx context.Context) error {
	if err := p.to.Do(ctx, "Page.enable", nil, nil); err != nil {
		return err
	}
	var whole struct{ FrameTree inFrames }
	if err := p.to.Do(ctx, "Page.getFrameTree", nil, &whole); err != nil {
		return err
	}
	p.mu.Lock()
	p.main = whole.FrameTree.Frame.ID
	p.take(whole.FrameTree)
	p.mu.Unlock()
	var ready struct{ Result struct{ Value string } }
	if err := p.to.Do(ctx, "Runtime.evaluate", map[string]any{"expression": "document.readyState", "returnByValue": true}, &ready); err != nil {
		return err
	}
	p.mu.Lock()
	for _, f := range p.frames {
		f.ready = max(f.ready, map[string]int{"interactive": interactive, "complete": complete}[ready.Result.Value])
	}
	p.mu.Unlock()
	for _, method := range []string{"Runtime.enable", "Page.setLifecycleEventsEnabled"} {
		if err := p.to.Do(ctx, method, map[string]any{"enabled": true}, nil); err != nil {
			return err
		}
	}
	return nil
}

// inFrames are frames in one another, as a page gives them.
type inFrames struct {
	Frame       place
	ChildFrames []inFrames
}

// take takes, under mu, frames in that there are.
func (p *page) take(t inFrames) {
	p.frames[t.Frame.ID] = &frame{parent: t.Frame.ParentID, url: t.Frame.url(), loader: t.Frame.LoaderID}
	for _, c := range t.ChildFrames {
		p.take(c)
	}
}

// know tells that the page is there, with its frames, and then what it has told meanwhile.
func (p *page) know() {
	p.turn.Lock()
	defer p.turn.Unlock()
	p.mu.Lock()
	out := append(p.created(), p.early...)
	p.early, p.known = nil, true
	p.mu.Unlock()
	for _, e := range out {
		p.s.tell(e)
	}
}

// created are, under mu, the events of its contexts.
func (p *page) created() (out []bidi.Event) {
	var add func(i bidi.Info, parent string)
	add = func(i bidi.Info, parent string) {
		children := i.Children
		i.Children = nil
		out = append(out, bidi.Event{Name: bidi.ContextCreated, Context: p.context, Params: i.Outermost(parent)})
		for _, x := range children {
			add(x, i.Context)
		}
	}
	add(p.info(p.main, -1), "")
	return out
}

func (p *page) outermost() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.main
}

func (p *page) ended() bool {
	select {
	case <-p.to.Gone():
		return true
	default:
		return false
	}
}

// call gives the context of a frame: the outermost is its page's.
func (p *page) call(frame string) string {
	if frame == p.main || frame == "" {
		return p.context
	}
	return p.prefix + frame
}

// frame gives the frame that a context is; "": it is none of this page.
func (p *page) frame(context string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if context == p.context {
		return p.main
	}
	id, ours := strings.CutPrefix(context, p.prefix)
	if ours && p.frames[id] != nil {
		return id
	}
	return ""
}

// tree gives the page's context, with so many levels of frames in it; -1: all.
func (p *page) tree(deep int) bidi.Info {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.info(p.main, deep)
}

// info gives a frame's, under mu.
func (p *page) info(id string, deep int) bidi.Info {
	url := ""
	if f := p.frames[id]; f != nil {
		url = f.url
	}
	i := bidi.NewInfo(p.call(id), url)
	if deep == 0 {
		return i
	}
	i.Children = []bidi.Info{}
	for c, f := range p.frames {
		if f.parent == id && c != id {
			i.Children = append(i.Children, p.info(c, deep-1))
		}
	}
	slices.SortFunc(i.Children, func(a, b bidi.Info) int { return strings.Compare(a.Context, b.Context) })
	return i
}

// place is where a frame is, as a page gives it.
type place struct{ ID, ParentID, URL, URLFragment, LoaderID string }

// url is its address; the beginning of a very long one.
func (p place) url() string {
	whole := p.URL + p.URLFragment
	if len(whole) <= maxURL {
		return whole
	}
	return strings.ToValidUTF8(strings.Clone(whole[:maxURL]), "") // so that the rest is not kept
}

// toldBy is what events of a page say, as far as it is read.
type toldBy struct {
	FrameID, ParentFrameID, LoaderID, URL, Name, Reason, NavigationType string
	Frame                                                               place
	Type, Message, DefaultPrompt, UserInput                             string
	Result                                                              bool
	Context                                                             struct {
		ID      int
		AuxData struct{ FrameID string }
	}
	ExecutionContextID int
}

// heard takes in what the page tells.
func (p *page) heard(e devtools.Event) {
	var m toldBy
	if json.Unmarshal(e.Params, &m) != nil {
		return
	}
	p.turn.Lock()
	defer p.turn.Unlock()
	var out []bidi.Event
	say := func(name string, params any) {
		e := bidi.Event{Name: name, Context: p.context, Params: params}
		switch {
		case p.known:
			out = append(out, e)
		case name == bidi.ContextCreated, name == bidi.ContextGone: // those that there are then are told with the page
		default:
			if p.held += len(bidi.Happened(e)); p.held <= maxEarly {
				p.early = append(p.early, e)
			}
		}
	}
	p.mu.Lock()
	switch e.Method {
	case "Runtime.executionContextCreated":
		p.worlds[m.Context.ID] = m.Context.AuxData.FrameID
	case "Runtime.executionContextDestroyed":
		delete(p.worlds, m.ExecutionContextID)
	case "Runtime.executionContextsCleared":
		clear(p.worlds)
	case "Runtime.consoleAPICalled", "Runtime.exceptionThrown":
		if s, ok := e.Said(); ok {
			say(bidi.LogEntry, p.entry(s))
		}
	case "Page.frameAttached":
		p.frames[m.FrameID] = &frame{parent: m.ParentFrameID, url: "about:blank"}
		say(bidi.ContextCreated, p.info(m.FrameID, 0).Outermost(p.call(m.ParentFrameID)))
	case "Page.frameDetached":
		if m.Reason != "swap" {
			p.detached(m.FrameID, say)
		}
	case "Page.frameStartedNavigating":
		if m.NavigationType != "sameDocument" && m.NavigationType != "historySameDocument" {
			say(bidi.Navigating, p.navigation(m.FrameID, m.LoaderID, m.URL))
		}
	case "Page.frameNavigated":
		if m.Frame.ParentID == "" {
			p.main = m.Frame.ID
		}
		f := p.frames[m.Frame.ID]
		if f == nil {
			f = &frame{}
			p.frames[m.Frame.ID] = f
		}
		for id, x := range p.frames { // those that were in the document before
			if x.parent == m.Frame.ID && f.loader != m.Frame.LoaderID {
				p.detached(id, say)
			}
		}
		f.parent, f.url, f.loader, f.within, f.ready, f.moves = m.Frame.ParentID, m.Frame.url(), m.Frame.LoaderID, "", committed, f.moves+1
		say(bidi.Committed, p.navigation(m.Frame.ID, m.Frame.LoaderID, f.url))
	case "Page.navigatedWithinDocument":
		if f := p.frames[m.FrameID]; f != nil {
			f.url, f.within = place{URL: m.URL}.url(), rand.Text()
			f.moves++
			n := p.navigation(m.FrameID, f.within, m.URL)
			switch m.NavigationType {
			case "fragment":
				say(bidi.Fragment, n)
			case "historyApi":
				say(bidi.HistoryUpdated, n.Updated())
			}
		}
	case "Page.lifecycleEvent":
		f := p.frames[m.FrameID]
		ready := map[string]int{"DOMContentLoaded": interactive, "load": complete}[m.Name]
		if f != nil && ready > f.ready && f.loader == m.LoaderID {
			f.ready = ready
			say(map[int]string{interactive: bidi.ContentLoaded, complete: bidi.Loaded}[ready], p.navigation(m.FrameID, m.LoaderID, f.url))
		}
	case "Page.javascriptDialogOpening":
		p.dialog = m.Type
		params := map[string]any{"context": p.context, "handler": "ignore", "message": m.Message, "type": m.Type, "userContext": bidi.UserContext}
		if m.Type == "prompt" {
			params["defaultValue"] = m.DefaultPrompt
		}
		say(bidi.PromptOpened, params)
	case "Page.javascriptDialogClosed":
		params := map[string]any{"context": p.context, "accepted": m.Result, "type": p.dialog, "userContext": bidi.UserContext}
		if p.dialog == "prompt" && m.Result {
			params["userText"] = m.UserInput
		}
		p.dialog = ""
		say(bidi.PromptClosed, params)
	default:
		p.mu.Unlock()
		return
	}
	close(p.changed)
	p.changed = make(chan struct{})
	p.mu.Unlock()
	for _, x := range out {
		p.s.tell(x)
	}
}

// detached forgets, under mu, a frame and those in it, the innermost first.
func (p *page) detached(id string, say func(string, any)) {
	f := p.frames[id]
	if f == nil {
		return
	}
	for c, x := range p.frames {
		if x.parent == id {
			p.detached(c, say)
		}
	}
	say(bidi.ContextGone, p.info(id, -1).Outermost(p.call(f.parent)))
	delete(p.frames, id)
}

func (p *page) navigation(frame, id, url string) bidi.Navigation {
	return bidi.Navigation{Context: p.call(frame), Navigation: &id, Timestamp: time.Now().UnixMilli(), URL: url, User: bidi.UserContext}
}
