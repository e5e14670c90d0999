package service

// The feed: what changes in the service, numbered, for those who watch.

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/timeline"
	"tessellant/internal/guard"
	"tessellant/internal/host"
	"tessellant/internal/store"
)

const (
	feedKeeps   = 8192                   // changes, for those who were away for a while
	feedWeighs  = 64 << 20               // bytes in them, about
	feedGathers = 100 * time.Millisecond // changes of one run that come so close are told as one
	feedLooks   = 5 * time.Second        // at runs and devices that other processes may have changed
	liveEvents  = 20_000                 // of an attempt that goes on, in memory
	liveBytes   = 8 << 20                // the same, in bytes
	feedRests   = 4                      // as long as reading the changes took
	feedAgain   = time.Second            // after changes could not be read
	oneWeighs   = 1 << 10                // bytes that a leg, a device or anything else is taken for
)

// Change is one thing that changed. Value is a RunView with the legs that
// changed, a SessionView, a []store.Device, a store.Build, a store.Package, an AttemptEvents or an
// AttemptScreen, as Kind says.
type Change struct {
	ID    string // by which a watcher says where it was
	Kind  string // run, session, device, build, package, timeline, screen
	Value any

	seq       int64
	workspace string // whose it is; "": everybody's
	leg       string // only for those who watch this leg
	weight    int    // bytes, about
	once      *sync.Once
	data      *[]byte
}

// Encoded gives what encode makes of the change, which is asked only once for all watchers.
func (c Change) Encoded(encode func(Change) []byte) []byte {
	c.once.Do(func() { *c.data = encode(c) })
	return *c.data
}

// AttemptEvents is what was added to an attempt's timeline.
type AttemptEvents struct {
	Leg, Attempt string
	Events       []timeline.Event
}

// AttemptScreen says that there is a newer picture.
type AttemptScreen struct {
	Leg, Attempt string
	At           int64
}

// Feed keeps the newest changes in memory. Those who watch cost the database
// nothing: each change is read once, however many there are. A change that is missed does no harm:
// a watcher that asks for more than is kept is told to ask anew. The zero value is ready for use.
type Feed struct {
	mu      sync.Mutex
	epoch   string
	seq     int64
	kept    []Change
	weight  int           // of what is kept
	news    chan struct{} // closed at the next change
	ended   chan struct{} // closed when the service stops
	wake    chan struct{}
	dirty   map[string]*dirtyRun // by run
	outside map[string]string    // sessions that have changed → their workspaces
	devices bool
	now     map[string]*attemptNow // by attempt

	told        map[string]*toldRun // how the legs of runs, and sessions, stood when they were told
	toldDevices map[string]string
}

// toldRun is a run, or a session, that goes on as far as the watchers know.
type toldRun struct {
	workspace string
	session   bool
	legs      map[string]string // how each stood; "": the whole
}

type dirtyRun struct {
	workspace string
	legs      map[string]bool // "": all
}

type attemptNow struct {
	events []timeline.Event
	bytes  int // of the events
	frame  []byte
	at     int64
}

// ready makes what a zero Feed lacks, under mu.
func (f *Feed) ready() {
	if f.epoch == "" {
		f.epoch = strings.ToLower(rand.Text()[:10])
		f.news, f.ended, f.wake = make(chan struct{}), make(chan struct{}), make(chan struct{}, 1)
		f.dirty, f.now, f.outside = map[string]*dirtyRun{}, map[string]*attemptNow{}, map[string]string{}
		f.told, f.toldDevices = map[string]*toldRun{}, map[string]string{}
	}
}

func (f *Feed) add(kind, workspace, leg string, value any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	f.seq++
	c := Change{ID: f.epoch + "-" + strconv.FormatInt(f.seq, 10), Kind: kind, Value: value, seq: f.seq, workspace: workspace, leg: leg, weight: oneWeighs, once: &sync.Once{}, data: new([]byte)}
	switch v := value.(type) {
	case RunView:
		c.weight += len(v.Legs) * oneWeighs
		for _, l := range v.Legs {
			c.weight += len(l.Message) + 16*len(l.Cases)
		}
		for _, n := range v.CaseNames {
			c.weight += len(n)
		}
	case []store.Device:
		c.weight += len(v) * oneWeighs
	case AttemptEvents:
		c.weight += weigh(v.Events)
	}
	c.weight *= 2 // for what it is written as
	f.kept, f.weight = append(f.kept, c), f.weight+c.weight
	if len(f.kept) > feedKeeps || f.weight > feedWeighs { // down to three quarters, so that it is seldom done
		drop := 0
		for ; len(f.kept)-drop > feedKeeps*3/4 || f.weight > feedWeighs*3/4; drop++ {
			f.weight -= f.kept[drop].weight
		}
		f.kept = append([]Change(nil), f.kept[drop:]...)
	}
	close(f.news)
	f.news = make(chan struct{})
}

// End sends the watchers away: the service stops.
func (f *Feed) End() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	select {
	case <-f.ended:
	default:
		close(f.ended)
	}
}

// Ended is closed when the service stops.
func (f *Feed) Ended() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	return f.ended
}

// Here is the place of the newest change.
func (f *Feed) Here() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	return f.epoch + "-" + strconv.FormatInt(f.seq, 10)
}

// After gives the changes after a place that concern a workspace, and a leg
// where one is watched, with the place of the last. News is closed when there is more. Not ok: some of
// what came after that place is no longer kept.
func (f *Feed) After(place, workspace, leg string) (changes []Change, now string, news <-chan struct{}, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	now = f.epoch + "-" + strconv.FormatInt(f.seq, 10)
	epoch, number, _ := strings.Cut(place, "-")
	seq, err := strconv.ParseInt(number, 10, 64)
	if epoch != f.epoch || err != nil || seq > f.seq || seq < f.seq-int64(len(f.kept)) {
		return nil, now, f.news, false
	}
	for _, c := range f.kept[len(f.kept)-int(f.seq-seq):] {
		if (c.workspace == "" || c.workspace == workspace) && (c.leg == "" || c.leg == leg) {
			changes = append(changes, c)
		}
	}
	return changes, now, f.news, true
}

// runChanged notes that a leg of a run has changed; leg "": the run as a whole.
func (f *Feed) runChanged(workspace, run, leg string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	if f.dirty[run] == nil {
		f.dirty[run] = &dirtyRun{workspace, map[string]bool{}}
	}
	f.dirty[run].legs[leg] = true
	f.stir()
}

// sessionChanged notes that a session has changed.
func (f *Feed) sessionChanged(workspace, id string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	f.outside[id] = workspace
	f.stir()
}

func (f *Feed) devicesChanged() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	f.devices = true
	f.stir()
}

func (f *Feed) stir() {
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

// live takes in what has just happened in an attempt.
func (f *Feed) live(h host.Hold, l host.Live) {
	f.mu.Lock()
	f.ready()
	n := f.now[h.AttemptID]
	if n == nil {
		n = &attemptNow{}
		f.now[h.AttemptID] = n
	}
	n.events = append(n.events, l.Events...)
	if n.bytes += weigh(l.Events); len(n.events) > liveEvents || n.bytes > liveBytes { // down to three quarters, so that it is seldom done
		drop := 0
		for ; len(n.events)-drop > liveEvents*3/4 || n.bytes > liveBytes*3/4; drop++ {
			n.bytes -= n.events[drop].Bytes()
		}
		n.events = append([]timeline.Event(nil), n.events[drop:]...)
	}
	if l.Frame != nil {
		n.frame, n.at = l.Frame, l.FrameAt
	}
	f.mu.Unlock()
	if len(l.Events) > 0 {
		f.add("timeline", h.WorkspaceID, h.LegID, AttemptEvents{h.LegID, h.AttemptID, l.Events})
	}
	if l.Frame != nil {
		f.add("screen", h.WorkspaceID, h.LegID, AttemptScreen{h.LegID, h.AttemptID, l.FrameAt})
	}
}

func weigh(events []timeline.Event) (n int) {
	for _, e := range events {
		n += e.Bytes()
	}
	return n
}

// onlyThese forgets all attempts but those that go on: what is told of one that has ended comes late, or its end was told elsewhere.
func (f *Feed) onlyThese(goOn map[string]bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for id := range f.now {
		if !goOn[id] {
			delete(f.now, id)
		}
	}
}

// attemptOver forgets what was kept of an attempt that has ended.
func (f *Feed) attemptOver(attempt string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.now, attempt)
}

// Now gives what is known of an attempt that goes on: its events and its newest picture.
func (f *Feed) Now(attempt string) (events []timeline.Event, frame []byte, at int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if n := f.now[attempt]; n != nil {
		return append([]timeline.Event(nil), n.events...), n.frame, n.at
	}
	return nil, nil, 0
}

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
		state := fmt.Sprint(d.State, d.Why, d.Held, d.Overdue, d.Quarantined.Valid, d.QuarantineWhy, d.Facts.V)
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
