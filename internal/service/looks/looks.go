// Package looks is what runs showed step by step: the same step on all devices, remarks on screens, what is slower than before, two legs side by side, and the references
// that steps are held against.
//
// core/steps, core/likeness, core/remarks and core/triage find it; hosts have looked at the pictures already. This room reads an attempt once, when its run is over or
// somebody asks (read.go), and keeps what the pages need: stacks of steps (stacks.go), families of remarks (remarks.go), measures (slower.go). Legs are compared as
// they are asked for (compare.go). References are kept for people and given to hosts (references.go).
package looks

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tessellant/internal/blobs"
	"tessellant/internal/guard"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// Looks is that room.
type Looks struct {
	Store *store.Store
	Blobs *blobs.Store
	Log   *slog.Logger
	Runs  *runs.Runs

	mu     sync.Mutex
	recent *simplelru.LRU[string, RemarksView] // of runs that were looked at last, and are over
}

const maxRecent = 50

// remembered gives the remarks of a run that were found a while ago.
func (s *Looks) remembered(run string) (v RemarksView, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recent == nil {
		return v, false
	}
	return s.recent.Get(run)
}

func (s *Looks) remember(run string, v RemarksView) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recent == nil {
		s.recent, _ = simplelru.NewLRU[string, RemarksView](maxRecent, nil) // it fails for no size alone
	}
	s.recent.Add(run, v)
}

// Version is of the way in which attempts are read: with another one they are read anew.
const Version = 1

const (
	readEvery = 2 * time.Second
	readLease = 5 * time.Minute
	readBatch = 10
)

// KeepReading reads the attempts of runs that are over, also of those of before, until ctx ends. Of several processes one does it.
func (s *Looks) KeepReading(ctx context.Context) {
	me := store.NewID()
	tick := time.NewTicker(readEvery)
	defer tick.Stop()
	defer func() { _ = s.Store.Unlease(context.WithoutCancel(ctx), "looks", me) }()
	failed := map[string]bool{} // that can't be read; tried again by the next process
	for {
		if mine, err := s.Store.Lease(ctx, "looks", me, readLease); err != nil {
			guard.Warn(ctx, s.Log, "the lease for reading steps can't be had", err)
		} else if mine {
			guard.Warn(ctx, s.Log, "runs could not be read step by step", guard.Do(s.Log, guard.Loop, func() error { return s.readSome(ctx, failed) }))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (s *Looks) readSome(ctx context.Context, failed map[string]bool) error {
	todo, err := s.Store.Unlooked(ctx, Version, readBatch+len(failed))
	for _, r := range todo {
		if failed[r.ID] {
			continue
		}
		if _, bad := s.rows(ctx, r); bad != nil && ctx.Err() == nil {
			if failed[r.ID] = true; len(failed) > 1000 {
				clear(failed)
			}
			s.Log.Warn("a run could not be read step by step", "run", r.ID, "why", bad)
		}
	}
	return err
}
