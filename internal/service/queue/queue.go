// Package queue is the queue as people see it: which devices will do for what waits, and whose turn it is.
package queue

import (
	"context"
	"sync"
	"time"

	"tessellant/internal/core/dispatch"
	"tessellant/internal/store"
)

// Units gives devices as the queue sees them.
func Units(all []store.Device) []dispatch.Unit {
	out := make([]dispatch.Unit, len(all))
	for i, d := range all {
		out[i] = dispatch.Unit{ID: d.ID, Facts: d.Facts.V, Standing: d.Standing()}
	}
	return out
}

// Queue remembers the places in the queue for a moment: many ask at once, and a long queue takes a while to read.
type Queue struct {
	Store *store.Store

	mu     sync.Mutex
	until  time.Time
	places map[string]int
}

const (
	placesRest    = 10              // as long as it took to find the places, they hold
	placesLongest = 5 * time.Second // at most
)

// Places gives each piece of work that waits its place in the queue.
func (q *Queue) Places(ctx context.Context) (map[string]int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if time.Now().Before(q.until) {
		return q.places, nil
	}
	start := time.Now()
	waiting, err := q.Store.Waiting(ctx, 0)
	if err != nil {
		return nil, err
	}
	all, err := q.Store.Devices(ctx, "", 0)
	if err != nil {
		return nil, err
	}
	tried, err := q.Store.TriedOn(ctx)
	if err != nil {
		return nil, err
	}
	units := Units(all)
	asked := make([]dispatch.Asked, len(waiting))
	for i, w := range waiting {
		asked[i].ID = w.ID
		asked[i].Devices, _ = dispatch.Candidates(w.Wants.V, tried[w.ID], units)
	}
	q.places = dispatch.Places(asked)
	q.until = time.Now().Add(min(placesRest*time.Since(start), placesLongest))
	return q.places, nil
}

// Place gives the place of one piece of work; 0: it does not wait.
func (q *Queue) Place(ctx context.Context, w store.Work) (int, error) {
	if w.Stage != "waiting" {
		return 0, nil
	}
	places, err := q.Places(ctx)
	return places[w.ID], err
}
