// Package dispatcher says who gets which device, ends holds that ran out, and closes those that are over.
//
// Of several processes of a service one dispatches, by a lease in the database. core/dispatch decides; this room writes the holds.
package dispatcher

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/dispatch"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/evidence"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/queue"
	"tessellant/internal/service/sessions"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

const (
	leasePeriod = 5 * time.Second
	tickEvery   = time.Second
	// awayLimit is how long a leg waits for a device that is away.
	awayLimit = 2 * time.Minute
)

// Dispatcher is that room.
type Dispatcher struct {
	Store    *store.Store
	Bus      bus.Bus
	Log      *slog.Logger
	Feed     *feed.Feed
	Specs    *specs.Specs
	Evidence *evidence.Evidence
	Orders   *orders.Orders
	Sessions *sessions.Sessions
	Answers  *answers.Answers
}

// Dispatch gives waiting legs to free devices until ctx ends. Of several
// processes, the one that has the lease does it.
func (s *Dispatcher) Dispatch(ctx context.Context) {
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
		if err != nil || ago(round) > hostlink.RenewEvery+2*time.Second { // it failed, or hung, or the machine slept
			up = time.Now()
		}
		heard := time.Since(up) > hostlink.HoldPeriod
		round = time.Now()
		if err == nil && mine {
			// Hosts may not have been able to renew while nobody was there to be asked, or no database.
			if heard {
				guard.Warn(ctx, s.Log, "holds that ran out could not be ended", guard.Do(s.Log, guard.Loop, func() error { return s.endExpired(ctx) }))
			}
			if time.Since(up) > sessions.AwaitedFor {
				guard.Warn(ctx, s.Log, "sessions that nobody waits for could not be ended", guard.Do(s.Log, guard.Loop, func() error { return s.Sessions.EndUnawaited(ctx) }))
			}
			guard.Warn(ctx, s.Log, "sessions of keys that ended could not be ended", guard.Do(s.Log, guard.Loop, func() error { return s.Sessions.EndOfKeys(ctx) }))
			guard.Warn(ctx, s.Log, "waiting legs could not be dispatched", guard.Do(s.Log, guard.Loop, func() error { return s.dispatchOnce(ctx, heard) }))
		} else {
			guard.Warn(ctx, s.Log, "the dispatcher's lease can't be had", err)
		}
		select {
		case <-wake:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// endExpired takes the devices of hosts that have not been heard of. What they had handed in of their
// attempts is put together first.
func (s *Dispatcher) endExpired(ctx context.Context) error {
	holds, err := s.Store.ExpiredHolds(ctx)
	for _, h := range holds {
		orders.Log(s.Log, h).Warn("a host went silent", "hold", h.ID)
		if bad := s.Evidence.Assemble(ctx, h); bad != nil {
			err = errors.Join(err, bad)
			continue
		}
		err = errors.Join(err, s.CloseHold(ctx, h, store.Closing{Verdict: verdict.Lost, Message: "the host that had the device went away", How: "lost"}))
	}
	return err
}

// CloseHold ends a hold; a lost attempt is followed by another, as often as allowed.
func (s *Dispatcher) CloseHold(ctx context.Context, hold store.Hold, c store.Closing) error {
	if c.Verdict == verdict.Lost && !c.OurFault {
		attempts, err := s.Store.Attempts(ctx, hold.WorkID)
		if err != nil {
			return err
		}
		spec, err := s.Specs.Of(ctx, hold.WorkspaceID, hold.WorkID)
		if err != nil {
			return err
		}
		c.Again = len(attempts) < spec.Limits.Attempts // a session's client would know nothing of a second device: it has one
	}
	var err error
	if c.Counts, err = s.Answers.Counting(ctx, hold, c.Verdict); err != nil {
		return err
	}
	h, ok, err := s.Store.CloseHold(ctx, hold.ID, c)
	if ok {
		s.Bus.Publish(bus.Work, nil)
		s.Feed.WorkChanged(h.Kind, h.WorkspaceID, h.RunID, h.WorkID)
		s.Feed.DevicesChanged()
		s.Feed.AttemptOver(h.AttemptID)
		s.Evidence.Ended(h)
		orders.Log(s.Log, h).Info("attempt ends", "verdict", c.Verdict, "again", c.Again)
	}
	return err
}

// ago is how long ago a moment was. While a machine sleeps its monotonic clock stands still, and the clock on the wall goes on.
func ago(t time.Time) time.Duration { return max(time.Since(t), time.Now().Round(0).Sub(t.Round(0))) }

// dispatchOnce asks core/dispatch who goes where, and writes the holds. Heard says that hosts could speak of their devices lately: only then is a device that is away given up.
func (s *Dispatcher) dispatchOnce(ctx context.Context, heard bool) error {
	rows, err := s.Store.Waiting(ctx, dispatchAtOnce)
	if err != nil || len(rows) == 0 {
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
	rooms, err := s.Store.Rooms(ctx)
	if err != nil {
		return err
	}
	labs := dispatch.Labs{Of: map[string]string{}, Room: rooms}
	for _, d := range all {
		if key := store.LabKey(d.HostID, d.Lab); rooms[key] > 0 {
			labs.Of[d.ID] = key
		}
	}
	held := dispatch.Held{Workspaces: map[string]int{}, Runs: map[string]int{}}
	for _, h := range holds {
		if h.Released.Valid {
			continue // only its evidence is still coming
		}
		if key, limited := labs.Of[h.DeviceID]; limited {
			labs.Room[key]--
		}
		held.Workspaces[h.WorkspaceID]++
		held.Runs[cmp.Or(h.RunID, h.WorkID)]++
	}
	units := queue.Units(all)
	device := map[string]store.Device{}
	var free []string
	for i, d := range all {
		device[d.ID] = d
		if units[i].Free {
			free = append(free, d.ID)
		}
	}
	byID := map[string]store.Work{}
	var waiting []dispatch.Leg
	for _, w := range rows {
		byID[w.ID] = w
		wants, moved := dispatch.Candidates(w.Wants.V, tried[w.ID], units)
		if d, named := device[w.Wants.V.Device]; named && heard && !moved && inVain(w, d) {
			if err := s.giveUp(ctx, w, d); err != nil {
				return err
			}
			continue
		}
		waiting = append(waiting, dispatch.Leg{ID: w.ID, Run: w.Of(), Workspace: w.WorkspaceID, Wants: wants})
	}
	wake := map[string]bool{}
	for _, p := range dispatch.Match(waiting, free, held, labs) {
		d, w := device[p.Device], byID[p.Leg]
		err := s.Store.TakeDevice(ctx, w, d, hostlink.HoldPeriod)
		if errors.Is(err, store.ErrTaken) {
			continue
		}
		if err != nil {
			return err
		}
		wake[d.Host] = true
		s.Feed.WorkChanged(w.Kind, w.WorkspaceID, w.RunID, w.ID)
		s.Feed.DevicesChanged()
	}
	for host := range wake {
		s.Orders.Wake(host)
	}
	return nil
}

// dispatchAtOnce is how much of what waits is looked at in one round: fairly chosen, where more waits.
const dispatchAtOnce = 5000

// inVain says whether work has waited long enough for a device that is away.
func inVain(w store.Work, d store.Device) bool {
	return d.Standing().State != devices.Ready && d.Silent > int(awayLimit.Seconds()) && time.Since(w.Created) > awayLimit
}

func (s *Dispatcher) giveUp(ctx context.Context, w store.Work, d store.Device) error {
	s.Log.Warn("work waited in vain for its device", string(w.Kind), w.ID, "device", d.Serial)
	err := s.Store.GiveUp(ctx, w.ID, store.Closing{Verdict: verdict.Lost, Message: "the device " + d.Serial + " has been away for " + awayLimit.String() + ": " + d.Standing().Why, How: "never"})
	s.Feed.WorkChanged(w.Kind, w.WorkspaceID, w.RunID, w.ID)
	return err
}
