package attempt

// The end of an attempt: the device is put back and released with proof, and the evidence is completed. Neither waits for the other.

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"tessellant/internal/core/recording"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/guard"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
)

const (
	// finishLimit is how long a host that ends goes on writing videos.
	finishLimit = 15 * time.Second
	// stopLimit is how long it takes for devices then.
	stopLimit = 3 * time.Second
	// tidyLimit is how long putting a device back may take.
	tidyLimit = 2 * time.Minute
)

// finish puts the device back and releases it, where it is ours, and completes the evidence. Cut says that the host ended before that.
func (a *attempt) finish(ctx context.Context, mine bool, released func()) (cut bool) {
	if a.timeline == nil {
		return false
	}
	tidy, limit := ctx, tidyLimit
	if a.stopping {
		tidy, limit = context.WithoutCancel(ctx), stopLimit
	}
	tidy, cancel := context.WithTimeout(tidy, limit)
	defer cancel()
	if _, known := a.kit.Book.Clock.Doubt(); mine && known {
		_ = a.readClock(tidy, 1)
	}
	end := a.timeline.Now()
	var releasing sync.WaitGroup
	if !mine && a.unit.Loan != nil { // whoever has the device next, this loan is ours to end
		releasing.Go(func() {
			_ = guard.Run(a.log, guard.Hold, func() { a.giveBack(tidy) })
		})
	}
	if mine {
		releasing.Go(func() {
			_ = guard.Run(a.log, guard.Hold, func() { a.release(tidy, released) })
		})
	}
	if a.film != nil && !a.stopping {
		if err := a.video(ctx, end, &cut); err != nil {
			a.broke(recording.Video, err)
		}
	}
	if n := a.kit.Network; n != nil && n.Count() == 0 && a.kit.App.ID != "" && a.hold.Spec.Recording.Keeps(recording.Network, recording.On) {
		a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "no traffic seen", Answer: "the app asked nothing of the network, or it does not mind the device's proxy"})
	}
	for _, r := range a.record {
		if err := r.Close(); err != nil {
			a.broke(r.Name(), err)
		}
	}
	if err := a.timeline.Close(); err != nil {
		a.log.Warn("the timeline is not whole", "err", err)
	}
	releasing.Wait()
	return cut
}

// release puts the device back and gives it back. Where that can't be proved, it gets no more work until it has passed a check.
func (a *attempt) release(ctx context.Context, released func()) {
	var err error
	s, _ := a.b.Lab(a.hold).(lab.Starter)
	switch {
	case a.unit.Loan != nil:
		a.giveBack(ctx) // its lab cleans it
	case s != nil && s.Fresh(a.hold.Serial): // it is thrown away
	default:
		err = Tidy(ctx, a.unit.Unit, a.journal.Changes())
	}
	var lost *phone.Lost
	switch {
	case ctx.Err() != nil || errors.As(err, &lost):
		return // the closing gives it back; the next work, or the next process, cleans up
	case err != nil:
		a.log.Warn("the device could not be put back as it was", "err", err)
	}
	a.doneWith()
	r := hostlink.Release{Clean: err == nil}
	if err != nil {
		r.Why = a.mask.Text(err.Error())
	}
	if err := a.b.Link.Release(ctx, a.hold, r); err != nil {
		a.log.Debug("the device could not be released before the end", "err", err)
		return // it is with the closing
	}
	released()
}

// Tidy undoes what was changed on a device: its settings are put back, the apps and the files removed, the home screen shown. The error says what could not be.
func Tidy(ctx context.Context, u *phone.Unit, c spool.Changes) error {
	var errs []error
	if c.Settled && u.Settler != nil {
		errs = append(errs, u.Settler.Unsettle(ctx))
	}
	for _, path := range c.Files {
		if u.Files != nil {
			errs = append(errs, u.Files.Remove(ctx, path))
		}
	}
	for _, app := range c.Apps {
		errs = append(errs, u.Uninstall(ctx, app))
	}
	return errors.Join(append(errs, u.Press(ctx, phone.Home))...)
}

// video encodes the film, when it is this attempt's turn. Cut is set where the host's end came first.
func (a *attempt) video(ctx context.Context, end int64, cut *bool) error {
	// All cases have run: a host that ends waits a moment for what they left.
	finish, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	defer context.AfterFunc(ctx, func() { time.AfterFunc(finishLimit, cancel) })()
	var err error
	select {
	case a.b.Encoding <- struct{}{}:
		defer func() { <-a.b.Encoding }()
		err = a.film.Encode(finish, filepath.Join(a.dir, tracks.Video), end)
	case <-finish.Done():
		err = finish.Err()
	}
	*cut = err != nil && finish.Err() != nil
	return err
}
