package service

// What the feed is told: what has changed is read from the database, a little later and together, and told where it stands otherwise than before.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"tessellant/internal/guard"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

const (
	followGathers = 100 * time.Millisecond // changes of one run that come so close are told as one
	followLooks   = 5 * time.Second        // at runs and devices that other processes may have changed
	followRests   = 4                      // as long as reading the changes took
	followAgain   = time.Second            // after changes could not be read
)

// follower remembers how things stood when they were told last.
type follower struct {
	*Service
	told    map[string]*told // runs and sessions that go on as far as the watchers know
	devices map[string]string
}

// told is how a run, or a session, stood.
type told struct {
	workspace string
	session   bool
	legs      map[string]string // how each stood; "": the whole
}

// Follow reads what has changed and tells it, until ctx ends.
func (s *Service) Follow(ctx context.Context) {
	go s.Feed.Share(ctx, s.Log)
	f := &follower{Service: s, told: map[string]*told{}, devices: map[string]string{}}
	look := time.NewTicker(followLooks)
	defer look.Stop()
	gather := time.NewTimer(0)
	defer gather.Stop()
	took := time.Duration(0) // to read what had changed last
	for {
		select {
		case <-s.Feed.Woken():
		case <-look.C:
			guard.Warn(ctx, s.Log, "runs that go on can't be looked at", guard.Do(s.Log, guard.Loop, func() error { return f.lookAround(ctx) }))
		case <-ctx.Done():
			return
		}
		gather.Reset(max(followGathers, min(followRests*took, followLooks))) // a run of very many cases is read less often
		select {
		case <-gather.C:
		case <-ctx.Done():
			return
		}
		start := time.Now()
		err := guard.Do(s.Log, guard.Loop, func() error { return f.tellChanges(ctx) })
		took = time.Since(start)
		if err != nil {
			guard.Warn(ctx, s.Log, "changes can't be told yet", err)
			select {
			case <-time.After(followAgain):
			case <-ctx.Done():
			}
		}
	}
}

// lookAround takes all runs that go on, and the devices, as changed: what another
// process did is told too, only later.
func (f *follower) lookAround(ctx context.Context) error {
	f.Feed.DevicesChanged()
	runs, err := f.Store.RunsGoing(ctx)
	if err != nil {
		return err
	}
	sessions, err := f.Store.SessionsGoing(ctx)
	if err != nil {
		return err
	}
	holds, err := f.Store.ActiveHolds(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range runs {
		f.Feed.RunChanged(r.WorkspaceID, r.ID, "")
	}
	for _, r := range sessions {
		f.Feed.SessionChanged(r.WorkspaceID, r.ID)
	}
	for id, t := range f.told { // what went on when it was last told may have ended, in whichever process
		if t.session {
			f.Feed.SessionChanged(t.workspace, id)
		} else {
			f.Feed.RunChanged(t.workspace, id, "")
		}
	}
	goOn := map[string]bool{}
	for _, h := range holds {
		goOn[h.AttemptID] = true
	}
	f.Feed.OnlyThese(goOn)
	return nil
}

func (f *follower) tellChanges(ctx context.Context) error {
	changed := f.Feed.Take()
	var failed []error
	if err := f.tellSessions(ctx, maps.Clone(changed.Sessions)); err != nil {
		failed = append(failed, err)
		for id, workspace := range changed.Sessions {
			f.Feed.SessionChanged(workspace, id)
		}
	}
	for id, d := range changed.Runs {
		err := f.tellRun(ctx, id, d)
		if errors.Is(err, store.ErrNotFound) {
			delete(f.told, id) // it was removed
			continue
		}
		if err != nil { // its end, too, must be told: it is changed still
			failed = append(failed, err)
			for leg := range d.Legs {
				f.Feed.RunChanged(d.Workspace, id, leg)
			}
		}
	}
	for _, c := range changed.Content {
		if err := f.tellContent(ctx, c); err != nil {
			failed = append(failed, err)
		}
	}
	if changed.Devices {
		if err := f.tellDevices(ctx); err != nil {
			failed = append(failed, err)
			f.Feed.DevicesChanged()
		}
	}
	if len(failed) > 0 {
		return fmt.Errorf("%w (%d questions failed)", failed[0], len(failed))
	}
	return nil
}

// tellRun tells those legs of a run that stand otherwise than when they were last told.
func (f *follower) tellRun(ctx context.Context, id string, d *feed.Dirty) error {
	r, err := f.Store.RunByID(ctx, d.Workspace, id)
	if err != nil {
		return err
	}
	wanted := d.Legs
	if wanted[""] {
		wanted = nil
	}
	v, err := f.Runs.View(ctx, r, wanted)
	if err != nil {
		return err
	}
	t := f.told[id]
	if t == nil {
		t = &told{workspace: r.WorkspaceID, legs: map[string]string{}}
		f.told[id] = t
	}
	stood := t.legs
	var changed []runs.LegView
	for _, l := range v.Legs {
		state := fmt.Sprint(l.Stage, l.Verdict, l.Message, l.Attempts, l.NowCase, l.Cases, l.Stop, l.RanOn, l.Place)
		if stood[l.ID] != state {
			stood[l.ID] = state
			changed = append(changed, l)
		}
	}
	over := fmt.Sprint("ended ", r.Ended.Valid)
	if len(changed) == 0 && stood[""] == over {
		return nil
	}
	stood[""] = over
	if r.Ended.Valid {
		delete(f.told, id)
	}
	v.Legs = changed
	f.Feed.Add("run", r.WorkspaceID, "", v, v.Weight())
	return nil
}

// tellSessions tells those of the sessions (id → workspace) that stand otherwise than when they were last told. However many they are, they
// are read together, but for those that have just ended.
func (f *follower) tellSessions(ctx context.Context, changed map[string]string) error {
	if len(changed) == 0 {
		return nil
	}
	going, err := f.Store.SessionsGoing(ctx)
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
		r, err := f.Store.SessionByID(ctx, workspace, id)
		if errors.Is(err, store.ErrNotFound) {
			delete(f.told, id)
			continue
		}
		if err != nil {
			return err
		}
		rows = append(rows, r)
	}
	views, err := f.Sessions.Views(ctx, rows)
	for _, v := range views {
		state := fmt.Sprint(v.Stage, v.Verdict, v.Message, v.NowCase, v.Cases, v.Stop, v.Serial, v.Place, v.Inferred)
		if t := f.told[v.ID]; t != nil && t.legs[""] == state {
			continue
		}
		f.told[v.ID] = &told{workspace: v.WorkspaceID, session: true, legs: map[string]string{"": state}}
		if v.Stage == "done" {
			delete(f.told, v.ID)
		}
		f.Feed.Add("session", v.WorkspaceID, "", v, 0)
	}
	return err
}

// tellContent tells of a build or a package that another process took in.
func (f *follower) tellContent(ctx context.Context, c feed.Content) error {
	if c.Kind == "build" {
		b, err := f.Store.BuildByID(ctx, c.Workspace, c.ID)
		if err == nil {
			f.Feed.Add(c.Kind, c.Workspace, "", b, 0)
		}
		return err
	}
	p, err := f.Store.PackageByID(ctx, c.Workspace, c.ID)
	if err == nil {
		f.Feed.Add(c.Kind, c.Workspace, "", p, 0)
	}
	return err
}

func (f *follower) tellDevices(ctx context.Context) error {
	all, err := f.Store.Devices(ctx, "", 0)
	if err != nil {
		return err
	}
	var changed []store.Device
	for _, d := range all {
		state := fmt.Sprint(d.Standing(), d.Overdue, d.Quarantined.Valid, d.QuarantineWhy, d.Facts.V)
		if f.devices[d.Serial] != state {
			f.devices[d.Serial] = state
			changed = append(changed, d)
		}
	}
	if len(changed) > 0 {
		f.Feed.Add("device", "", "", changed, len(changed)*feed.OneWeighs)
	}
	return nil
}
