// Package queue is the queue as people see it: which devices will do for what waits, and whose turn it is.
package queue

import (
	"context"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

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

	asking singleflight.Group
	now    atomic.Pointer[places]
}

type places struct {
	until time.Time
	of    map[string]int
}

const (
	placesRest    = 10              // as long as it took to find the places, they hold
	placesLongest = 5 * time.Second // at most
	placesLimit   = 30 * time.Second
)

// Places gives each piece of work that waits its place in the queue.
func (q *Queue) Places(ctx context.Context) (map[string]int, error) {
	if p := q.now.Load(); p != nil && time.Now().Before(p.until) {
		return p.of, nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), placesLimit) // the first asks for all the others too
	defer cancel()
	of, err, _ := q.asking.Do("", func() (any, error) { return q.find(ctx) })
	if err != nil {
		return nil, err
	}
	return of.(map[string]int), nil
}

// find reads the places from the database.
func (q *Queue) find(ctx context.Context) (map[string]int, error) {
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
	of := dispatch.Places(asked)
	q.now.Store(&places{time.Now().Add(min(placesRest*time.Since(start), placesLongest)), of})
	return of, nil
}

// Place gives the place of one piece of work; 0: it does not wait.
func (q *Queue) Place(ctx context.Context, w store.Work) (int, error) {
	if w.Stage != "waiting" {
		return 0, nil
	}
	places, err := q.Places(ctx)
	return places[w.ID], err
}
