// Package screens says how what is on a held screen can be addressed, and what a locator means on the screens that the newest runs kept of other devices.
//
// In: a hold, and locators. Out: the screen's index (core/locators), and counts by device. Trees that were read are remembered, up to so many elements.
package screens

import (
	"context"
	"errors"
	"io"
	"strings"
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tessellant/internal/blobs"
	"tessellant/internal/core/locators"
	"tessellant/internal/core/uitree"
	"tessellant/internal/service/hands"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Screens is that room.
type Screens struct {
	Store *store.Store
	Blobs *blobs.Store
	Hands *hands.Hands

	mu    sync.Mutex
	trees *simplelru.LRU[string, *locators.Index] // that were read: of holds, the last by the hold's id; of runs, by artifact. Nil: it can't be read
	size  int                                     // elements of all
}

const (
	newest   = 10      // runs whose trees are looked at
	maxTrees = 500     // of them, the newest
	maxTree  = 1 << 20 // bytes of one
	// maxElements is how many elements are remembered, in all trees: one that was searched takes some two kilobytes.
	maxElements = 50_000
	// maxAsked is how many locators are looked at in one request.
	maxAsked = 20
)

// known gives a tree that was read.
func (s *Screens) known(id string) (x *locators.Index, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.trees == nil {
		return nil, false
	}
	return s.trees.Get(id)
}

// remember keeps a tree that was read, in place of those that were not asked for the longest.
func (s *Screens) remember(id string, x *locators.Index) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.trees == nil {
		s.trees, _ = simplelru.NewLRU(4*maxTrees, func(_ string, x *locators.Index) { s.size -= x.Len() }) // it fails for no size alone
	}
	s.trees.Remove(id)
	s.trees.Add(id, x)
	for s.size += x.Len(); s.size > maxElements && s.trees.Len() > 1; {
		s.trees.RemoveOldest()
	}
}

// HeldScreen reads what is on the screen of a device that is held.
func (s *Screens) HeldScreen(ctx context.Context, who store.Identity, id string) (hands.At, *locators.Index, error) {
	v, screen, err := s.Hands.HeldTree(ctx, who, id)
	if err != nil {
		return v, nil, err
	}
	x := locators.New(screen)
	s.remember(v.ID, x)
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
	v, err := s.Hands.At(ctx, who, id)
	if err != nil {
		return out, err
	}
	here, known := s.known(v.ID)
	if !known {
		if v, here, err = s.HeldScreen(ctx, who, id); err != nil {
			return out, err
		}
	}
	spec, err := s.Store.Spec(ctx, v.ID)
	if err != nil {
		return out, err
	}
	app, _, _ := strings.Cut(spec.App.Ref, "/") // as kelpline/android@231
	rows, err := s.Store.KeptTrees(ctx, v.WorkspaceID, app, v.Serial, newest, maxTrees)
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
		out.Of = append(out.Of, Meant{l, locators.Counts(others, l)})
	}
	return out, nil
}

// read reads a kept tree; nil: it is gone, or no tree.
func (s *Screens) read(ctx context.Context, r store.KeptTree) (x *locators.Index, err error) {
	if x, known := s.known(r.ID); known || r.Size > maxTree {
		return x, nil
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
	if screen, err := uitree.ParseOurs(raw); err == nil {
		x = locators.New(screen)
	}
	s.remember(r.ID, x)
	return x, nil
}
