package service

// The feed: what changes in the service, numbered, for those who watch.

import (
	"crypto/rand"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/timeline"
	"tessellant/internal/hostlink"
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
func (f *Feed) live(h hostlink.Hold, l hostlink.Now) {
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
		f.add("timeline", h.WorkspaceID, h.WorkID, AttemptEvents{h.WorkID, h.AttemptID, l.Events})
	}
	if l.Frame != nil {
		f.add("screen", h.WorkspaceID, h.WorkID, AttemptScreen{h.WorkID, h.AttemptID, l.FrameAt})
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
