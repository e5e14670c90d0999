package attempt

// What an earlier process of the host left.

import (
	"context"
	"log/slog"
	"time"

	"tessellant/internal/core/verdict"
	"tessellant/internal/host/record"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
)

// leftTidy is how long putting a device back may take that an earlier process left.
const leftTidy = time.Minute

// Left uploads what an earlier process of this host left of an attempt. What happened on the
// device since then is not known: unless the attempt had come to its end it is lost, and the device is put back.
func Left(ctx context.Context, b *Bench, hold hostlink.Hold, log *slog.Logger) {
	c, err := spool.NewCourier(b.Link, b.Spool, hold, log)
	if err != nil {
		log.Error("what was left of an attempt can't be read", "err", err)
		return
	}
	end := b.Spool.LeftClosing(hold)
	log.Warn("an attempt was left by an earlier process of this host", "verdict", end.Verdict)
	if end.Verdict == verdict.Lost {
		putBack(ctx, b, hold, log)
	}
	if err := record.CompleteNetwork(b.Spool.Path(hold.AttemptID)); err != nil {
		log.Warn("the network log that was left can't be ended", "err", err)
	}
	if err := c.Finish(end); err != nil {
		log.Warn("the result of an attempt can't be written down", "err", err)
	}
	if err := c.Deliver(ctx, func() hostlink.Closing { return end }); err == nil {
		b.Spool.Remove(hold.AttemptID)
	}
}

// putBack undoes what an attempt had changed on its device.
func putBack(ctx context.Context, b *Bench, hold hostlink.Hold, log *slog.Logger) {
	j, err := b.Spool.Journal(hold.AttemptID)
	if err != nil {
		log.Warn("what was changed on a device can't be read", "err", err)
		return
	}
	ctx, cancel := context.WithTimeout(ctx, leftTidy)
	defer cancel()
	changes := j.Changes()
	if changes.Loan != "" {
		reclaim(ctx, b.Lab(hold), hold, changes.Loan, log)
		return
	}
	if _, ok := b.Lab(hold).(lab.Starter); ok { // it was thrown away with the process that started it
		return
	}
	if len(changes.Apps) == 0 && hold.Spec.App.ID != "" { // a process that kept no journal
		changes.Apps, changes.Settled = append([]string{hold.Spec.App.ID}, hold.Besides...), true
	}
	u, err := lab.Await(ctx, b.Lab(hold), hold.Serial)
	if err != nil || u.Loan != nil {
		return // it is put back when it is there again; of one that was never lent nothing was changed
	}
	if err := Tidy(ctx, u.Unit, changes); err != nil {
		log.Warn("the device could not be put back as it was", "err", err)
	}
}
