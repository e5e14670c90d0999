package attempt

// What those who watch see of an attempt while it goes on.

import (
	"context"
	"time"

	"tessellant/internal/hostlink"
)

const (
	liveEvery = 150 * time.Millisecond
	liveWaits = 2 * time.Second // for a service that does not take it; what it did not take is lost
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
		now := hostlink.Now{Events: a.timeline.Fresh()}
		if frame, at := a.film.Newest(); frame != nil && at != shown {
			now.Frame, now.FrameAt, shown = frame, at, at
		}
		if len(now.Events) == 0 && now.Frame == nil {
			continue
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), liveWaits)
		if err := a.b.Link.Live(ctx, a.hold, now); err != nil {
			a.log.Debug("what happens now could not be told", "err", err)
		}
		cancel()
	}
}
