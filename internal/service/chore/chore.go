// Package chore is what one of several processes does again and again: the one that holds the chore's lease in the database.
package chore

import (
	"context"
	"log/slog"
	"time"

	"tessellant/internal/guard"
	"tessellant/internal/store"
)

// Chore is one of them.
type Chore struct {
	Name  string        // of its lease
	Every time.Duration // it is done so often
	Lasts time.Duration // the lease: another process takes over so long after this one was heard of last
	Fails string        // what is said when it could not be done
	Wake  <-chan []byte // what comes here has it done at once; nil: nothing does
}

// Keep does a chore now and then until ctx ends, if it is this process's turn. An error, or a panic, is said; the next time it is tried again.
func (c Chore) Keep(ctx context.Context, s *store.Store, log *slog.Logger, do func() error) {
	me := store.NewID()
	tick := time.NewTicker(c.Every)
	defer tick.Stop()
	defer func() { _ = s.Unlease(context.WithoutCancel(ctx), c.Name, me) }()
	for {
		if mine, err := s.Lease(ctx, c.Name, me, c.Lasts); err != nil {
			guard.Warn(ctx, log, "the lease of a chore can't be had: "+c.Name, err)
		} else if mine {
			guard.Warn(ctx, log, c.Fails, guard.Do(log, guard.Loop, do))
		}
		select {
		case <-tick.C:
		case <-c.Wake:
		case <-ctx.Done():
			return
		}
	}
}

// Failed remembers what could not be done: it is left to the next process. The zero Failed has nothing.
type Failed struct{ ids map[string]bool }

const maxFailed = 1000

// Add remembers one.
func (f *Failed) Add(id string) {
	if f.ids == nil || len(f.ids) >= maxFailed {
		f.ids = map[string]bool{}
	}
	f.ids[id] = true
}

// Has says whether one is remembered.
func (f *Failed) Has(id string) bool { return f.ids[id] }

// Len is how many are.
func (f *Failed) Len() int { return len(f.ids) }
