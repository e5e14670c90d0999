package host

// What is gathered when an attempt is over: the video, the last lines of the log, the clock.

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"tessellant/internal/core/timeline"
	"tessellant/internal/guard"
)

// collect closes the evidence, and leaves the device clean.
func (a *attempt) collect(ctx context.Context) {
	if a.rec == nil {
		return
	}
	d := a.unit.device
	if a.noVideo { // the host stops: there is a moment left
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
	}
	tidy, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if len(a.samples) > 0 && !a.letGo {
		if err := a.sample(tidy, d); err == nil {
			o, doubt, _ := timeline.Align(a.samples...)
			a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "clock", Args: map[string]string{
				"device_zero_ms": fmt.Sprint(o.Zero().UnixMilli()), "doubt_ms": fmt.Sprint(doubt.Milliseconds())}})
		}
	}
	end := a.rec.now()
	var cleaning sync.WaitGroup
	if !a.letGo {
		cleaning.Go(func() {
			_ = guard.Run(a.log, guard.Hold, func() { clean(tidy, d, a.asHeld()) })
		})
	}
	if a.film != nil && !a.noVideo {
		if err := a.video(ctx, end); err != nil {
			a.log.Warn("no video", "err", err)
			a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "no video", Error: err.Error()})
		}
	}
	cleaning.Wait()
	a.rec.film = nil
	if a.book != nil {
		if err := a.book.close(); err != nil {
			a.log.Warn("the device log is not whole", "err", err)
		}
	}
	if err := a.rec.close(); err != nil {
		a.log.Warn("the timeline is not whole", "err", err)
	}
}

// finishLimit is how long a host that ends goes on writing videos.
const finishLimit = 15 * time.Second

// video encodes the film, when it is this attempt's turn.
func (a *attempt) video(ctx context.Context, end int64) error {
	// All cases have run: a host that ends waits a moment for what they left.
	finish, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	defer context.AfterFunc(ctx, func() { time.AfterFunc(finishLimit, cancel) })()
	var err error
	select {
	case a.h.encoding <- struct{}{}:
		defer func() { <-a.h.encoding }()
		err = a.film.encode(finish, filepath.Join(a.dir, "video.mp4"), end)
	case <-finish.Done():
		err = finish.Err()
	}
	a.cut = err != nil && finish.Err() != nil
	return err
}
