package attempt

// A device that its lab lends: it is taken when all is there that the work needs, and given back with its last command.

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/timeline"
	"tessellant/internal/host/casebook"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
)

// borrow takes the device from its lab, where that lends it.
func (a *attempt) borrow(ctx context.Context) (err error) {
	if a.unit.Loan == nil {
		return nil
	}
	l, spec := a.b.Lab(a.hold), a.hold.Spec
	waiting := func(how string) {
		a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "waiting for the lab", Args: map[string]string{"lab": l.Name()}, Answer: how})
	}
	lent := func(g lab.Given) {
		a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "lent by its lab", Args: map[string]string{"lab": l.Name(), "session": g.Shown}})
		a.loan = devices.Loan{Lab: l.Name(), Session: g.Shown, Page: g.Page}
		a.tell(hostlink.Progress{Loan: &a.loan})
		if err := a.journal.Lent(g.Ref); err != nil {
			a.log.Warn("the loan can't be written down", "session", g.Shown, "err", err)
		}
	}
	a.given, err = a.unit.Loan.Begin(ctx, lab.Want{Name: a.hold.WorkID, App: a.kit.App, SHA256: spec.App.SHA256, Conditions: spec.Conditions, Again: lent}, waiting)
	var refused *phone.Refused
	if errors.As(err, &refused) {
		return &casebook.Unready{Err: err}
	}
	if err != nil {
		return err
	}
	a.lentAt = time.Now()
	lent(a.given)
	return nil
}

// giveBack ends the loan. A lab that can't be told now is told later.
func (a *attempt) giveBack(ctx context.Context) {
	err := a.unit.Loan.End(ctx)
	if !a.lentAt.IsZero() {
		over := a.loan
		over.Seconds = time.Since(a.lentAt).Seconds()
		a.tell(hostlink.Progress{Loan: &over})
	}
	if err != nil {
		a.log.Warn("the device could not be given back to its lab yet", "session", a.given.Shown, "err", err)
	}
}

// reclaim ends a loan that an earlier process of this host began.
func reclaim(ctx context.Context, l lab.Lab, hold hostlink.Hold, ref string, log *slog.Logger) {
	lender, ok := l.(lab.Lender)
	if !ok {
		log.Warn("a loan of a lab that this host has not any more can't be ended", "session", ref)
		return
	}
	if err := lender.Reclaim(ctx, hold.Serial, ref); err != nil {
		log.Warn("a loan that was left could not be ended", "session", ref, "err", err)
	}
}
