package service

// What the feed is told: what has changed is read from the database, a little later and together, and told where it stands otherwise than before.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"tessellant/internal/guard"
	"tessellant/internal/store"
)

// Follow reads what has changed and tells it, until ctx ends.
func (s *Service) Follow(ctx context.Context) {
	f := &s.Feed
	f.mu.Lock()
	f.ready()
	f.mu.Unlock()
	look := time.NewTicker(feedLooks)
	defer look.Stop()
	gather := time.NewTimer(0)
	defer gather.Stop()
	took := time.Duration(0) // to read what had changed last
	for {
		select {
		case <-f.wake:
		case <-look.C:
			s.warn(ctx, "runs that go on can't be looked at", guard.Do(s.Log, guard.Loop, func() error { return s.lookAround(ctx) }))
		case <-ctx.Done():
			return
		}
		gather.Reset(max(feedGathers, min(feedRests*took, feedLooks))) // a run of very many cases is read less often
		select {
		case <-gather.C:
		case <-ctx.Done():
			return
		}
		start := time.Now()
		err := guard.Do(s.Log, guard.Loop, func() error { return s.tellChanges(ctx) })
		took = time.Since(start)
		if err != nil {
			s.warn(ctx, "changes can't be told yet", err)
			select {
			case <-time.After(feedAgain):
			case <-ctx.Done():
			}
		}
	}
}

// lookAround takes all runs that go on, and the devices, as changed: what another
// process did is told too, only later.
func (s *Service) lookAround(ctx context.Context) error {
	s.Feed.devicesChanged()
	runs, err := s.Store.RunsGoing(ctx)
	if err != nil {
		return err
	}
	sessions, err := s.Store.SessionsGoing(ctx)
	if err != nil {
		return err
	}
	holds, err := s.Store.ActiveHolds(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range runs {
		s.Feed.runChanged(r.WorkspaceID, r.ID, "")
	}
	for _, r := range sessions {
		s.Feed.sessionChanged(r.WorkspaceID, r.ID)
	}
	for id, t := range s.Feed.told { // what went on when it was last told may have ended, in whichever process
		if t.session {
			s.Feed.sessionChanged(t.workspace, id)
		} else {
			s.Feed.runChanged(t.workspace, id, "")
		}
	}
	goOn := map[string]bool{}
	for _, h := range holds {
		goOn[h.AttemptID] = true
	}
	s.Feed.onlyThese(goOn)
	return nil
}

func (s *Service) tellChanges(ctx context.Context) error {
	f := &s.Feed
	f.mu.Lock()
	dirty, devices, outside := f.dirty, f.devices, f.outside
	f.dirty, f.devices, f.outside = map[string]*dirtyRun{}, false, map[string]string{}
	f.mu.Unlock()
	var failed []error
	if err := s.tellSessions(ctx, maps.Clone(outside)); err != nil {
		failed = append(failed, err)
		for id, workspace := range outside {
			f.sessionChanged(workspace, id)
		}
	}
	for id, d := range dirty {
		err := s.tellRun(ctx, id, d)
		if errors.Is(err, store.ErrNotFound) {
			delete(f.told, id) // it was removed
			continue
		}
		if err != nil { // its end, too, must be told: it is changed still
			failed = append(failed, err)
			for leg := range d.legs {
				f.runChanged(d.workspace, id, leg)
			}
		}
	}
	if devices {
		if err := s.tellDevices(ctx); err != nil {
			failed = append(failed, err)
			f.devicesChanged()
		}
	}
	if len(failed) > 0 {
		return fmt.Errorf("%w (%d questions failed)", failed[0], len(failed))
	}
	return nil
}

// tellRun tells those legs of a run that stand otherwise than when they were last told.
func (s *Service) tellRun(ctx context.Context, id string, d *dirtyRun) error {
	r, err := s.Store.RunByID(ctx, d.workspace, id)
	if err != nil {
		return err
	}
	wanted := d.legs
	if wanted[""] {
		wanted = nil
	}
	v, err := s.view(ctx, r, wanted)
	if err != nil {
		return err
	}
	t := s.Feed.told[id]
	if t == nil {
		t = &toldRun{workspace: r.WorkspaceID, legs: map[string]string{}}
		s.Feed.told[id] = t
	}
	told := t.legs
	var changed []LegView
	for _, l := range v.Legs {
		state := fmt.Sprint(l.Stage, l.Verdict, l.Message, l.Attempts, l.NowCase, l.Cases, l.Stop, l.RanOn, l.Place)
		if told[l.ID] != state {
			told[l.ID] = state
			changed = append(changed, l)
		}
	}
	over := fmt.Sprint("ended ", r.Ended.Valid)
	if len(changed) == 0 && told[""] == over {
		return nil
	}
	told[""] = over
	if r.Ended.Valid {
		delete(s.Feed.told, id)
	}
	v.Legs = changed
	s.Feed.add("run", r.WorkspaceID, "", v)
	return nil
}

// tellSessions tells those of the sessions (id → workspace) that stand otherwise than when they were last told. However many they are, they
// are read together, but for those that have just ended.
func (s *Service) tellSessions(ctx context.Context, changed map[string]string) error {
	if len(changed) == 0 {
		return nil
	}
	going, err := s.Store.SessionsGoing(ctx)
	if err != nil {
		return err
	}
	var rows []store.SessionRow
	for _, r := range going {
		if _, ok := changed[r.ID]; ok {
			rows = append(rows, r)
			delete(changed, r.ID)
		}
	}
	for id, workspace := range changed {
		r, err := s.Store.SessionByID(ctx, workspace, id)
		if errors.Is(err, store.ErrNotFound) {
			delete(s.Feed.told, id)
			continue
		}
		if err != nil {
			return err
		}
		rows = append(rows, r)
	}
	views, err := s.sessionViews(ctx, rows)
	for _, v := range views {
		state := fmt.Sprint(v.Stage, v.Verdict, v.Message, v.NowCase, v.Cases, v.Stop, v.Serial, v.Place, v.Inferred)
		if t := s.Feed.told[v.ID]; t != nil && t.legs[""] == state {
			continue
		}
		s.Feed.told[v.ID] = &toldRun{workspace: v.WorkspaceID, session: true, legs: map[string]string{"": state}}
		if v.Stage == "done" {
			delete(s.Feed.told, v.ID)
		}
		s.Feed.add("session", v.WorkspaceID, "", v)
	}
	return err
}

func (s *Service) tellDevices(ctx context.Context) error {
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return err
	}
	var changed []store.Device
	for _, d := range all {
		state := fmt.Sprint(d.Standing(), d.Overdue, d.Quarantined.Valid, d.QuarantineWhy, d.Facts.V)
		if s.Feed.toldDevices[d.Serial] != state {
			s.Feed.toldDevices[d.Serial] = state
			changed = append(changed, d)
		}
	}
	if len(changed) > 0 {
		s.Feed.add("device", "", "", changed)
	}
	return nil
}
