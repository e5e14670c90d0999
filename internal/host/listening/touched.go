package listening

// The pages of web views that a session speaks to: found, and let go of when they are gone.

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/bidi"
	"tessellant/internal/core/w3c"
	"tessellant/internal/webpage"
)

const (
	lookEvery = time.Second // for pages, while somebody wants to hear of them
	maxPages  = 50          // that are spoken to
)

// touched are the pages that are spoken to.
type touched struct {
	s *Session

	turn  sync.Mutex // one looks at a time
	mu    sync.Mutex
	pages map[string]*page // by their contexts
}

// watch looks for pages while somebody wants to hear of them.
func (t *touched) watch() {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-t.s.look:
		case <-t.s.ctx.Done():
			return
		}
		if t.s.wants() {
			_ = t.sync(t.s.ctx)
		}
	}
}

// sync begins to speak to the pages that there are, and lets go of those that are gone.
func (t *touched) sync(ctx context.Context) error {
	t.turn.Lock()
	defer t.turn.Unlock()
	return t.syncNow(ctx)
}

// still runs f with the pages that there are; none comes or goes meanwhile.
func (t *touched) still(ctx context.Context, f func()) {
	t.turn.Lock()
	defer t.turn.Unlock()
	_ = t.syncNow(ctx)
	f()
}

// syncNow is sync, in the turn of who calls it.
func (t *touched) syncNow(ctx context.Context) error {
	if t.s.Pages == nil {
		return nil
	}
	all, err := t.s.Pages(ctx)
	if err != nil {
		return err
	}
	t.mu.Lock()
	var gone []*page
	for id, p := range t.pages {
		if p.ended() || !slices.ContainsFunc(all, func(f webpage.Found) bool { return f.Context() == id }) {
			gone = append(gone, p)
			delete(t.pages, id)
		}
	}
	room := maxPages - len(t.pages)
	t.mu.Unlock()
	for _, p := range gone {
		p.to.Close()
		t.s.tell(bidi.Event{Name: bidi.ContextGone, Context: p.context, Params: p.tree(-1).Outermost("")})
	}
	for _, f := range all {
		t.mu.Lock()
		had := t.pages[f.Context()] != nil
		t.mu.Unlock()
		if had || room == 0 {
			continue
		}
		p, err := t.open(ctx, f)
		if err != nil {
			continue // it is being opened, or has gone already
		}
		room--
		t.mu.Lock()
		t.pages[p.context] = p
		t.mu.Unlock()
		p.know()
	}
	return nil
}

func (t *touched) close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, p := range t.pages {
		p.to.Close()
	}
}

// list gives the pages, in the order of their contexts.
func (t *touched) list() []*page {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := make([]*page, 0, len(t.pages))
	for _, p := range t.pages {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b *page) int { return strings.Compare(a.context, b.context) })
	return out
}

// created are the events of all contexts that there are: the screen, the pages, and their frames.
func (t *touched) created() []bidi.Event {
	out := []bidi.Event{{Name: bidi.ContextCreated, Context: bidi.Screen, Params: bidi.NewInfo(bidi.Screen, "").Outermost("")}}
	for _, p := range t.list() {
		p.mu.Lock()
		out = append(out, p.created()...)
		p.mu.Unlock()
	}
	return out
}

// find finds the page that a context is, or is in, and its frame.
func (t *touched) find(ctx context.Context, context string) (p *page, frame string, werr *w3c.Error) {
	look := func() (*page, string) {
		for _, p := range t.list() {
			if f := p.frame(context); f != "" && !p.ended() {
				return p, f
			}
		}
		return nil, ""
	}
	if p, frame = look(); p == nil {
		if err := t.sync(ctx); err != nil {
			return nil, "", w3c.Fail(w3c.UnknownError, "the web views can't be listed: %v", err)
		}
		if p, frame = look(); p == nil {
			return nil, "", w3c.Fail(w3c.NoSuchFrame, "there is no context %.200q; see browsingContext.getTree", context)
		}
	}
	return p, frame, nil
}
