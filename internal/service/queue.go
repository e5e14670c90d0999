package service

// The queue as people see it: which devices will do for what waits, and whose turn it is.

import (
	"context"
	"sync"
	"time"

	"tessellant/internal/core/dispatch"
	"tessellant/internal/store"
)

// unitsOf gives devices as the queue sees them.
func unitsOf(all []store.Device) []dispatch.Unit {
	out := make([]dispatch.Unit, len(all))
	for i, d := range all {
		out[i] = dispatch.Unit{ID: d.ID, Facts: d.Facts.V, Standing: d.Standing()}
	}
	return out
}

// queue remembers the places in the queue for a moment: many ask at once, and a long queue takes a while to read.
type queue struct {
	mu     sync.Mutex
	until  time.Time
	places map[string]int
}

const (
	placesRest    = 10              // as long as it took to find the places, they hold
	placesLongest = 5 * time.Second // at most
)

// places gives each piece of work that waits its place in the queue.
func (s *Service) places(ctx context.Context) (map[string]int, error) {
	q := &s.queue
	q.mu.Lock()
	defer q.mu.Unlock()
	if time.Now().Before(q.until) {
		return q.places, nil
	}
	start := time.Now()
	waiting, err := s.Store.Waiting(ctx, 0)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return nil, err
	}
	tried, err := s.Store.TriedOn(ctx)
	if err != nil {
		return nil, err
	}
	units := unitsOf(all)
	asked := make([]dispatch.Asked, len(waiting))
	for i, w := range waiting {
		asked[i].ID = w.ID
		asked[i].Devices, _ = dispatch.Candidates(w.Wants.V, tried[w.ID], units)
	}
	q.places = dispatch.Places(asked)
	q.until = time.Now().Add(min(placesRest*time.Since(start), placesLongest))
	return q.places, nil
}

// place gives the place of one piece of work; 0: it does not wait.
func (s *Service) place(ctx context.Context, w store.Work) (int, error) {
	if w.Stage != "waiting" {
		return 0, nil
	}
	places, err := s.places(ctx)
	return places[w.ID], err
}
