// Package screens says how what is on a held screen can be addressed, and what a locator means on the screens that the newest runs kept of other devices.
//
// In: a hold, and locators. Out: the screen's index (core/locators), and counts by device. Trees that were read are remembered, up to so many bytes.
package screens

import (
	"context"
	"errors"
	"io"
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tessellant/internal/blobs"
	"tessellant/internal/core/locators"
	"tessellant/internal/core/uitree"
	"tessellant/internal/service/hands"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/sessions"
	"tessellant/internal/store"
)

// Screens is that room.
type Screens struct {
	Store *store.Store
	Blobs *blobs.Store
	Hands *hands.Hands

	mu   sync.Mutex
	now  *simplelru.LRU[string, *locators.Index] // of holds, as they were read last
	kept *simplelru.LRU[string, remembered]      // of runs, by artifact
	size int64                                   // bytes of the trees of those
}

// remembered is a tree that was read. One that can't be read has no index.
type remembered struct {
	index *locators.Index
	size  int64
}

const (
	maxNow   = 200
	newest   = 10       // runs whose trees are looked at
	maxTrees = 500      // of them, the newest
	maxTree  = 1 << 20  // bytes of one
	maxKept  = 48 << 20 // bytes of those that are remembered
	// maxAsked is how many locators are looked at in one request.
	maxAsked = 20
)

func (s *Screens) ready() {
	if s.now == nil {
		s.now, _ = simplelru.NewLRU[string, *locators.Index](maxNow, nil) // they fail for no size alone
		s.kept, _ = simplelru.NewLRU(2*maxTrees, func(_ string, r remembered) { s.size -= r.size })
	}
}

// HeldScreen reads what is on the screen of a device that is held.
func (s *Screens) HeldScreen(ctx context.Context, who store.Identity, id string) (sessions.SessionView, *locators.Index, error) {
	v, screen, err := s.Hands.HeldTree(ctx, who, id)
	if err != nil {
		return v, nil, err
	}
	x := locators.New(screen)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ready()
	s.now.Add(v.ID, x)
	return v, x, nil
}

// Elsewhere is what locators mean on other devices.
type Elsewhere struct {
	Of      []Meant
	Devices int // that kept such a screen
	Trees   int // that were looked at
}

// Meant is what one locator means there.
type Meant struct {
	CSS    string
	Counts []locators.Count
}

// Elsewhere says what locators mean on other devices: on the tree of each that is most like the held screen, as that was read last, among those which the newest runs kept.
func (s *Screens) Elsewhere(ctx context.Context, who store.Identity, id string, css []string) (out Elsewhere, err error) {
	const title = "see what locators mean elsewhere"
	if len(css) > maxAsked {
		return out, refuse.New(refuse.Invalid, title, "ask for fewer", "%d locators are too many for one request", len(css))
	}
	for _, l := range css {
		if err := uitree.CheckLocator(l); err != nil {
			return out, refuse.New(refuse.Invalid, title, `such as #send, button[text="Send"] or //text`, "%v", err)
		}
	}
	v, err := s.Hands.Sessions.HoldByID(ctx, who, id)
	if err != nil {
		return out, err
	}
	s.mu.Lock()
	s.ready()
	here, known := s.now.Get(v.ID)
	s.mu.Unlock()
	if !known {
		if v, here, err = s.HeldScreen(ctx, who, id); err != nil {
			return out, err
		}
	}
	app := ""
	if v.BuildID.Valid {
		b, err := s.Store.BuildByID(ctx, v.WorkspaceID, v.BuildID.String)
		if err != nil {
			return out, err
		}
		app = b.Slug
	}
	rows, err := s.Store.KeptTrees(ctx, v.WorkspaceID, app, v.Serial.String, newest, maxTrees)
	if err != nil {
		return out, err
	}
	var kept []locators.Kept
	for _, r := range rows {
		x, err := s.read(ctx, r)
		if err != nil {
			return out, err
		}
		if x != nil {
			kept = append(kept, locators.Kept{Device: r.Serial, Index: x})
		}
	}
	others := here.Others(kept)
	out.Devices, out.Trees = len(others), len(kept)
	for _, l := range css {
		out.Of = append(out.Of, Meant{l, locators.Counts(others, locators.Locator{By: locators.Way, CSS: l})})
	}
	return out, nil
}

// read reads a kept tree; nil: it is gone, or no tree.
func (s *Screens) read(ctx context.Context, r store.KeptTree) (*locators.Index, error) {
	s.mu.Lock()
	m, known := s.kept.Get(r.ID)
	s.mu.Unlock()
	if known {
		return m.index, nil
	}
	if r.Size > maxTree {
		return nil, nil
	}
	in, err := s.Blobs.Read(ctx, r.BlobKey, 0, -1)
	if errors.Is(err, blobs.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	raw, err := io.ReadAll(io.LimitReader(in, maxTree))
	if err != nil {
		return nil, err
	}
	m.size = int64(len(raw))
	if screen, err := uitree.ParseOurs(raw); err == nil {
		m.index = locators.New(screen)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if old, again := s.kept.Peek(r.ID); again { // another has read it meanwhile
		return old.index, nil
	}
	s.size += m.size
	s.kept.Add(r.ID, m)
	for s.size > maxKept && s.kept.Len() > 1 {
		s.kept.RemoveOldest()
	}
	return m.index, nil
}
