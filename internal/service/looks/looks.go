// Package looks is what runs showed step by step: the same step on all devices, remarks on screens, what is slower than before, two legs side by side, and the references
// that steps are held against.
//
// core/steps, core/likeness, core/remarks and core/triage find it; hosts have looked at the pictures already. This room reads an attempt once, when its run is over or
// somebody asks, and keeps its steps, remarks and measures (read.go). What the pages show is made of them when it is asked for: stacks of steps (stacks.go), families of
// remarks (remarks.go), what is slower (slower.go), two legs side by side (compare.go). References are kept for people and given to hosts (references.go).
package looks

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tessellant/internal/blobs"
	"tessellant/internal/service/chore"
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
	var failed chore.Failed
	chore.Chore{Name: "looks", Every: readEvery, Lasts: readLease, Fails: "runs could not be read step by step"}.Keep(ctx, s.Store, s.Log, func() error { return s.readSome(ctx, &failed) })
}

func (s *Looks) readSome(ctx context.Context, failed *chore.Failed) error {
	todo, err := s.Store.Unlooked(ctx, Version, readBatch+failed.Len())
	for _, r := range todo {
		if failed.Has(r.ID) {
			continue
		}
		_, bad := s.rows(ctx, r)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if now, err := s.Store.RunByID(ctx, r.WorkspaceID, r.ID); bad != nil || err != nil || now.Looked != Version {
			failed.Add(r.ID)
			s.Log.Warn("a run could not be read step by step", "run", r.ID, "why", errors.Join(bad, err))
		}
	}
	return err
}
