package host

// What those who watch see of an attempt while it goes on.

import (
	"context"
	"time"

	"tessellant/internal/core/timeline"
	"tessellant/internal/hostlink"
)

const (
	liveEvery = 150 * time.Millisecond
	liveWaits = 2 * time.Second // for a service that does not take it; what it did not take is lost
	maxFresh  = 2000            // events that wait
)

// tellLive tells what happens until ctx ends, and then once more.
func (a *attempt) tellLive(ctx context.Context) {
	tick := time.NewTicker(liveEvery)
	defer tick.Stop()
	shown := int64(-1)
	for over := false; !over; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			over = true
		}
		now := hostlink.Now{Events: a.rec.takeFresh()}
		if frame, at := a.film.newest(); frame != nil && at != shown {
			now.Frame, now.FrameAt, shown = frame, at, at
		}
		if len(now.Events) == 0 && now.Frame == nil {
			continue
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), liveWaits)
		if err := a.h.Link.Live(ctx, a.hold, now); err != nil {
			a.log.Debug("what happens now could not be told", "err", err)
		}
		cancel()
	}
}

// takeFresh gives the events since it was last asked.
func (r *recorder) takeFresh() []timeline.Event {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := r.fresh
	r.fresh, r.freshly = nil, 0
	return out
}

// newest gives the newest frame, as JPEG, and its moment. A nil film has none.
func (f *film) newest() ([]byte, int64) {
	if f == nil {
		return nil, 0
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.shown, f.shownAt
}
