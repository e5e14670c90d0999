package service

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/dispatch"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/store"
)

const (
	leasePeriod = 5 * time.Second
	tickEvery   = time.Second
	// awayLimit is how long a leg waits for a device that is away.
	awayLimit = 2 * time.Minute
)

// quarantineLasts is how long a device that quarantined itself rests before a check can release it.
func (s *Service) quarantineLasts() time.Duration {
	if s.QuarantineLasts > 0 {
		return s.QuarantineLasts
	}
	return time.Minute
}

// Dispatch gives waiting legs to free devices until ctx ends. Of several
// processes, the one that has the lease does it.
func (s *Service) Dispatch(ctx context.Context) {
	me := store.NewID()
	up := time.Now() // since when hosts could have renewed their holds
	round := up
	wake, stop := s.Bus.Subscribe(bus.Work)
	defer stop()
	tick := time.NewTicker(tickEvery)
	defer tick.Stop()
	defer func() { _ = s.Store.Unlease(context.WithoutCancel(ctx), "dispatcher", me) }()
	for {
		mine, err := s.Store.Lease(ctx, "dispatcher", me, leasePeriod)
		if err != nil || time.Since(round) > hostlink.RenewEvery+2*time.Second { // it failed, or hung
			up = time.Now()
		}
		round = time.Now()
		if err == nil && mine {
			// Hosts may not have been able to renew while nobody was there to be asked, or no database.
			if time.Since(up) > hostlink.HoldPeriod {
				s.warn(ctx, "holds that ran out could not be ended", guard.Do(s.Log, guard.Loop, func() error { return s.endExpired(ctx) }))
			}
			if time.Since(up) > awaitedFor {
				s.warn(ctx, "sessions that nobody waits for could not be ended", guard.Do(s.Log, guard.Loop, func() error { return s.endUnawaited(ctx) }))
			}
			s.warn(ctx, "waiting legs could not be dispatched", guard.Do(s.Log, guard.Loop, func() error { return s.dispatchOnce(ctx) }))
		} else {
			s.warn(ctx, "the dispatcher's lease can't be had", err)
		}
		select {
		case <-wake:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (s *Service) warn(ctx context.Context, what string, err error) {
	if err != nil && ctx.Err() == nil {
		s.Log.Warn(what, "err", err)
	}
}

// endExpired takes the devices of hosts that have not been heard of. What they had handed in of their
// attempts is put together first.
func (s *Service) endExpired(ctx context.Context) error {
	holds, err := s.Store.ExpiredHolds(ctx)
	for _, h := range holds {
		s.logOf(h).Warn("a host went silent", "hold", h.ID)
		if bad := s.assemble(ctx, h); bad != nil {
			err = errors.Join(err, bad)
			continue
		}
		err = errors.Join(err, s.closeHold(ctx, h, store.Closing{Verdict: verdict.Lost, Message: "the host that had the device went away", How: "lost"}))
	}
	return err
}

// logOf is the log for what concerns a hold.
func (s *Service) logOf(h store.Hold) *slog.Logger {
	if h.Kind == store.KindSession {
		return s.Log.With("session", h.LegID, "attempt", h.AttemptID)
	}
	return s.Log.With("run", h.RunID, "leg", h.LegID, "attempt", h.AttemptID)
}

// closeHold ends a hold; a lost attempt is followed by another, as often as allowed.
func (s *Service) closeHold(ctx context.Context, hold store.Hold, c store.Closing) error {
	if c.Verdict == verdict.Lost && !c.OurFault && hold.Kind == store.KindLeg { // a session's client would know nothing of a second device
		attempts, err := s.Store.Attempts(ctx, hold.LegID)
		if err != nil {
			return err
		}
		run, err := s.Store.RunByID(ctx, hold.WorkspaceID, hold.RunID)
		if err != nil {
			return err
		}
		c.Again = len(attempts) < run.Request.V.MaxAttempts()
	}
	h, ok, err := s.Store.CloseHold(ctx, hold.ID, c)
	if ok {
		s.Bus.Publish(bus.Work, nil)
		s.changed(h)
		s.Feed.devicesChanged()
		s.Feed.attemptOver(h.AttemptID)
		s.logs.expect(h)
		s.logOf(h).Info("attempt ends", "verdict", c.Verdict, "again", c.Again)
	}
	return err
}

// dispatchOnce asks core/dispatch who goes where, and writes the holds.
func (s *Service) dispatchOnce(ctx context.Context) error {
	legs, err := s.Store.WaitingLegs(ctx, 5000)
	if err != nil || len(legs) == 0 {
		return err
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return err
	}
	holds, err := s.Store.ActiveHolds(ctx, "")
	if err != nil {
		return err
	}
	tried, err := s.Store.TriedOn(ctx)
	if err != nil {
		return err
	}
	held := dispatch.Held{Workspaces: map[string]int{}, Runs: map[string]int{}}
	for _, h := range holds {
		held.Workspaces[h.WorkspaceID]++
		held.Runs[h.RunID+sessionOf(h)]++
	}
	device := map[string]store.Device{}
	var free []string
	for _, d := range all {
		device[d.ID] = d
		if d.Free() {
			free = append(free, d.ID)
		}
	}
	var wishes map[string]wish
	if slices.ContainsFunc(legs, func(l store.Leg) bool { return l.Kind() == store.KindSession }) {
		if wishes, err = s.wishes(ctx); err != nil {
			return err
		}
	}
	byID := map[string]store.Leg{}
	var waiting []dispatch.Leg
	for _, l := range legs {
		byID[l.ID] = l
		if l.Kind() == store.KindSession {
			waiting = append(waiting, dispatch.Leg{ID: l.ID, Run: l.ID, Workspace: l.WorkspaceID, Wants: wishes[l.ID].devices(all)})
			continue
		}
		wants, moved := wanted(l, tried[l.ID], all)
		if d := device[l.DeviceID]; !moved && d.State != "ready" && d.Silent > int(awayLimit.Seconds()) && time.Since(l.Created) > awayLimit {
			if err := s.giveUp(ctx, l, d); err != nil {
				return err
			}
			continue
		}
		waiting = append(waiting, dispatch.Leg{ID: l.ID, Run: l.RunID, Workspace: l.WorkspaceID, Wants: wants})
	}
	woken := map[string]bool{}
	for _, p := range dispatch.Match(waiting, free, held) {
		d := device[p.Device]
		err := s.Store.TakeDevice(ctx, byID[p.Leg], d, hostlink.HoldPeriod)
		if errors.Is(err, store.ErrTaken) {
			continue
		}
		if err != nil {
			return err
		}
		woken[d.HostID] = true
		l := byID[p.Leg]
		s.changed(store.Hold{Kind: l.Kind(), WorkspaceID: l.WorkspaceID, RunID: l.RunID, LegID: l.ID})
		s.Feed.devicesChanged()
	}
	if len(woken) > 0 {
		for _, d := range all {
			if woken[d.HostID] {
				s.Bus.Publish(bus.Host(d.Host), nil)
				woken[d.HostID] = false
			}
		}
	}
	return nil
}

// sessionOf is a session's id where a hold is one's: each is a run of its own to the dispatcher.
func sessionOf(h store.Hold) string {
	if h.Kind == store.KindSession {
		return h.LegID
	}
	return ""
}

// wanted lists the devices that will do for a leg: its own; and once it was tried in vain, first those that are like it.
func wanted(l store.Leg, tried []string, all []store.Device) (ids []string, moved bool) {
	if len(tried) == 0 {
		return []string{l.DeviceID}, false
	}
	i := slices.IndexFunc(all, func(d store.Device) bool { return d.ID == l.DeviceID })
	for _, d := range all {
		if i >= 0 && d.ID != l.DeviceID && !slices.Contains(tried, d.ID) && d.State == "ready" && !d.Quarantined.Valid && d.Facts.V.Like(all[i].Facts.V) {
			ids = append(ids, d.ID)
		}
	}
	return append(ids, l.DeviceID), len(ids) > 0
}

func (s *Service) giveUp(ctx context.Context, l store.Leg, d store.Device) error {
	s.Log.Warn("a leg waited in vain for its device", "leg", l.ID, "device", d.Serial)
	err := s.Store.GiveUp(ctx, l.ID, verdict.Lost, "the device "+d.Serial+" has been away for "+awayLimit.String()+": "+d.Why)
	s.Feed.runChanged(l.WorkspaceID, l.RunID, l.ID)
	return err
}
