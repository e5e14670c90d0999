// Package feed is what changes in the service, numbered, for those who watch.
//
// Who changes something notes that; a follower reads what it has become, and adds it as a Change. Those who watch cost the database
// nothing: each change is read once, however many there are.
package feed

import (
	"crypto/rand"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
)

const (
	feedKeeps  = 8192     // changes, for those who were away for a while
	feedWeighs = 64 << 20 // bytes in them, about
	liveEvents = 20_000   // of an attempt that goes on, in memory
	liveBytes  = 8 << 20  // the same, in bytes
	oneWeighs  = OneWeighs
)

// OneWeighs is how many bytes a leg, a device or anything else is taken for.
const OneWeighs = 1 << 10

// Change is one thing that changed. Kind says what Value is: a run's view with the legs that
// changed, a session's view, a []store.Device, a store.Build, a store.Package, an AttemptEvents or an
// AttemptScreen.
type Change struct {
	ID    string // by which a watcher says where it was
	Kind  string // run, session, device, build, package, timeline, screen
	Value any

	seq       int64
	workspace string // whose it is; "": everybody's
	leg       string // only for those who watch this leg
	weight    int    // bytes, about
	whole     *written
	brief     *written
}

// written is what a change is written as, once for all watchers.
type written struct {
	once sync.Once
	data []byte
}

// Encoded gives what encode makes of the change, which is asked only once for all watchers; brief: for those who watch a list.
func (c Change) Encoded(brief bool, encode func(c Change, brief bool) []byte) []byte {
	w := c.whole
	if brief {
		w = c.brief
	}
	w.once.Do(func() { w.data = encode(c, brief) })
	return w.data
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
// a watcher that asks for more than is kept is told to ask anew.
type Feed struct {
	Bus bus.Bus

	mu      sync.Mutex
	epoch   string
	seq     int64
	kept    []Change
	weight  int           // of what is kept
	news    chan struct{} // closed at the next change
	ended   chan struct{} // closed when the service stops
	wake    chan struct{}
	dirty   map[string]*Dirty // by run
	outside map[string]string // sessions that have changed → their workspaces
	devices bool
	now     map[string]*attemptNow // by attempt
	content []Content              // that other processes took in
	others  map[string]time.Time   // processes of this service, and when they were last heard of

}

// Dirty is what has changed of a run.
type Dirty struct {
	Workspace string
	Legs      map[string]bool // "": all
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
		f.dirty, f.now, f.outside = map[string]*Dirty{}, map[string]*attemptNow{}, map[string]string{}
	}
}

// Add adds a change; workspace "": everybody's; leg: only for those who watch it. Weight is about how many bytes the value takes.
func (f *Feed) Add(kind, workspace, leg string, value any, weight int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	f.seq++
	c := Change{ID: f.epoch + "-" + strconv.FormatInt(f.seq, 10), Kind: kind, Value: value, seq: f.seq, workspace: workspace, leg: leg, weight: oneWeighs + weight, whole: &written{}, brief: &written{}}
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

// Added adds a build or a package that was taken in, and tells the other processes.
func (f *Feed) Added(kind, workspace, id string, value any) {
	f.Add(kind, workspace, "", value, 0)
	f.tell(notice{Kind: kind, Workspace: workspace, ID: id})
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

// RunChanged notes that a leg of a run has changed; leg "": the run as a whole.
func (f *Feed) RunChanged(workspace, run, leg string) {
	f.noteRun(workspace, run, leg)
	f.tell(notice{Kind: "run", Workspace: workspace, ID: run, Leg: leg})
}

func (f *Feed) noteRun(workspace, run, leg string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	if f.dirty[run] == nil {
		f.dirty[run] = &Dirty{workspace, map[string]bool{}}
	}
	f.dirty[run].Legs[leg] = true
	f.stir()
}

// WorkChanged notes that a piece of work has changed: a leg of a run, or a session.
func (f *Feed) WorkChanged(kind work.Kind, workspace, run, id string) {
	if kind == work.Session {
		f.SessionChanged(workspace, id)
		return
	}
	f.RunChanged(workspace, run, id)
}

// SessionChanged notes that a session has changed, and tells those who wait for it.
func (f *Feed) SessionChanged(workspace, id string) {
	f.Bus.Publish(bus.Session(id), nil)
	f.noteSession(workspace, id)
	f.tell(notice{Kind: "session", Workspace: workspace, ID: id})
}

func (f *Feed) noteSession(workspace, id string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	f.outside[id] = workspace
	f.stir()
}

// DevicesChanged notes that devices have changed.
func (f *Feed) DevicesChanged() {
	f.noteDevices()
	f.tell(notice{Kind: "devices"})
}

func (f *Feed) noteDevices() {
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

// Live takes in what has just happened in an attempt.
func (f *Feed) Live(h hostlink.Hold, l hostlink.Now) {
	f.noteLive(h, l)
	f.tell(notice{Kind: "live", Workspace: h.WorkspaceID, Leg: h.WorkID, AttemptID: h.AttemptID, Now: &l})
}

func (f *Feed) noteLive(h hostlink.Hold, l hostlink.Now) {
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
		f.Add("timeline", h.WorkspaceID, h.WorkID, AttemptEvents{h.WorkID, h.AttemptID, l.Events}, weigh(l.Events))
	}
	if l.Frame != nil {
		f.Add("screen", h.WorkspaceID, h.WorkID, AttemptScreen{h.WorkID, h.AttemptID, l.FrameAt}, 0)
	}
}

func weigh(events []timeline.Event) (n int) {
	for _, e := range events {
		n += e.Bytes()
	}
	return n
}

// OnlyThese forgets all attempts but those that go on: what is told of one that has ended comes late, or its end was told elsewhere.
func (f *Feed) OnlyThese(goOn map[string]bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for id := range f.now {
		if !goOn[id] {
			delete(f.now, id)
		}
	}
}

// AttemptOver forgets what was kept of an attempt that has ended.
func (f *Feed) AttemptOver(attempt string) {
	f.forget(attempt)
	f.tell(notice{Kind: "over", AttemptID: attempt})
}

func (f *Feed) forget(attempt string) {
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

// Woken is told when something has changed that was not taken yet.
func (f *Feed) Woken() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	return f.wake
}

// Taken is what has changed since it was last taken.
type Taken struct {
	Runs     map[string]*Dirty // by run
	Sessions map[string]string // → workspace
	Devices  bool
	Content  []Content // that other processes took in
}

// Take gives what has changed, once.
func (f *Feed) Take() Taken {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready()
	t := Taken{f.dirty, f.outside, f.devices, f.content}
	f.dirty, f.outside, f.devices, f.content = map[string]*Dirty{}, map[string]string{}, false, nil
	return t
}
