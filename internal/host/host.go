package host

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
	"tessellant/internal/phone/adb"
)

// RenewEvery is how often a host renews its holds; a hold lasts HoldPeriod.
const (
	RenewEvery = 3 * time.Second
	HoldPeriod = 15 * time.Second
)

// Config is what a host needs.
type Config struct {
	Name    string
	Dir     string // where it keeps what it has not handed in yet
	Server  *adb.Server
	Connect []string // devices on the network: address:port
	Link    Link
	Log     *slog.Logger
}

// Host is a running host.
type Host struct {
	Config
	encoding chan struct{} // one encoder at a time

	looking   sync.Mutex // guards the three below
	retry     map[string]time.Time
	toldAt    time.Time
	toldState string

	mu      sync.Mutex
	known   map[string]*unit         // by the adb server's serial
	met     map[string]devices.Facts // the same, of all that ever said what they are
	working map[string]*job          // by hold
}

// job is the work of one hold.
type job struct {
	serial string
	held   context.Context
	leave  context.CancelFunc
	ended  chan struct{} // closed when it has ended
}

func (j *job) inHand() bool {
	select {
	case <-j.ended:
		return false
	default:
		return true
	}
}

type unit struct {
	device *adb.Device
	facts  devices.Facts
}

// New makes a host; Run sets it to work.
func New(c Config) *Host {
	return &Host{Config: c, encoding: make(chan struct{}, 1), retry: map[string]time.Time{}, known: map[string]*unit{}, met: map[string]devices.Facts{}, working: map[string]*job{}}
}

const (
	lookEvery = 500 * time.Millisecond // at the devices
	tellEvery = 5 * time.Second        // about them, when nothing has changed
)

// Begin clears up after an earlier process of this host: its devices are away
// until they are seen, and its legs are closed.
func (h *Host) Begin(ctx context.Context) error {
	if err := os.MkdirAll(h.spool(), 0o700); err != nil {
		return fmt.Errorf("make the host's folder: %w", err)
	}
	if err := h.Link.Devices(ctx, h.Name, nil); err != nil {
		return err
	}
	h.recover(ctx)
	return nil
}

// Run looks after the devices and does what holds ask for, until ctx ends. Begin comes first.
// Work in hand is then left as a killed host would leave it.
func (h *Host) Run(ctx context.Context) error {
	var all sync.WaitGroup
	defer all.Wait()
	defer func() { // what this host saw, nobody sees any more
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		_ = h.Link.Devices(ctx, h.Name, nil)
	}()
	all.Go(func() { h.watchDevices(ctx) })
	all.Go(func() { h.renew(ctx) })
	wake, stop := h.Link.Wake(h.Name)
	defer stop()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		for _, hold := range h.newHolds(ctx) {
			mine, before := h.begin(ctx, hold)
			all.Go(func() {
				defer close(mine.ended)
				defer mine.leave()
				for _, j := range before { // two never work on one device
					<-j.ended
				}
				h.work(ctx, mine.held, hold)
			})
		}
		select {
		case <-wake:
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// begin notes a hold's work. Work that is in hand on the same device is left:
// its hold must have run out.
func (h *Host) begin(ctx context.Context, hold Hold) (mine *job, before []*job) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, j := range h.working {
		if j.serial == hold.Serial && j.inHand() {
			j.leave()
			before = append(before, j)
		}
	}
	mine = &job{serial: hold.Serial, ended: make(chan struct{})}
	mine.held, mine.leave = context.WithCancel(ctx)
	h.working[hold.ID] = mine
	return mine, before
}

// newHolds asks the service for holds, and gives those that are not in hand yet.
// The answer may be older than the end of some: those that ended are
// remembered until an answer that was asked for later leaves them out.
func (h *Host) newHolds(ctx context.Context) []Hold {
	h.mu.Lock()
	ended := map[string]bool{}
	for id, j := range h.working {
		ended[id] = !j.inHand()
	}
	h.mu.Unlock()
	holds, err := h.Link.Holds(ctx, h.Name)
	if err != nil {
		if ctx.Err() == nil {
			h.Log.Warn("the service does not say what to do", "err", err)
		}
		return nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	var fresh []Hold
	for _, hold := range holds {
		delete(ended, hold.ID)
		if h.working[hold.ID] == nil {
			fresh = append(fresh, hold)
		}
	}
	for id, over := range ended {
		if over {
			delete(h.working, id)
		}
	}
	return fresh
}

// recover hands in what an earlier process of this host left of its legs, and
// closes their holds: what happened on the devices since then is not known.
func (h *Host) recover(ctx context.Context) {
	holds, err := h.Link.Holds(ctx, h.Name)
	if err != nil {
		h.Log.Warn("the service does not say what this host was doing", "err", err)
		return
	}
	for _, hold := range holds {
		dir := filepath.Join(h.spool(), hold.AttemptID)
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			name, rerr := filepath.Rel(dir, path)
			a, ok := artifactNamed(filepath.ToSlash(name))
			if err != nil || rerr != nil || d.IsDir() || !ok {
				return nil
			}
			f, err := os.Open(path)
			if err != nil {
				return nil
			}
			defer f.Close()
			if err := h.Link.Keep(ctx, hold, a, f); err != nil {
				h.Log.Warn("evidence of a broken-off leg could not be handed in", "leg", hold.LegID, "file", name, "err", err)
			}
			return nil
		})
		c := Closing{Verdict: verdict.Lost, Message: "the host was started again while the leg ran"}
		if err := h.Link.Close(ctx, hold.ID, c); err != nil {
			h.Log.Warn("a broken-off leg could not be closed", "leg", hold.LegID, "err", err)
			continue
		}
		_ = os.RemoveAll(dir)
	}
}

// artifactNamed says what a file of an attempt's folder is, by its name.
func artifactNamed(name string) (Artifact, bool) {
	switch {
	case name == "timeline.jsonl":
		return Artifact{name, "timeline", "application/jsonl"}, true
	case name == "device.log":
		return Artifact{name, "device-log", "text/plain; charset=utf-8"}, true
	case name == "video.mp4":
		return Artifact{name, "video", "video/mp4"}, true
	case strings.HasPrefix(name, "screenshots/"):
		return Artifact{name, "screenshot", "image/png"}, true
	case strings.HasPrefix(name, "trees/"):
		return Artifact{name, "tree", "application/xml"}, true
	}
	return Artifact{}, false
}

func (h *Host) spool() string { return filepath.Join(h.Dir, "spool") }

func (h *Host) renew(ctx context.Context) {
	tick := time.NewTicker(RenewEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		h.mu.Lock()
		var ids []string
		for id, j := range h.working {
			if j.inHand() {
				ids = append(ids, id)
			}
		}
		h.mu.Unlock()
		if len(ids) == 0 {
			continue
		}
		kept, err := h.Link.Renew(ctx, h.Name, ids)
		if err != nil {
			if ctx.Err() == nil {
				h.Log.Warn("holds could not be renewed", "err", err)
			}
			continue
		}
		h.mu.Lock()
		for _, id := range ids {
			if j := h.working[id]; j != nil && !slices.Contains(kept, id) {
				j.leave()
			}
		}
		h.mu.Unlock()
	}
}

// watchDevices keeps the list of devices, brings those on the network back, and tells the service.
func (h *Host) watchDevices(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		h.lookAndTell(ctx)
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// lookAndTell looks at the devices once, and tells the service when something
// has changed, or when it has not heard of them for a while.
func (h *Host) lookAndTell(ctx context.Context) {
	h.looking.Lock() // so that what was seen first is told first
	defer h.looking.Unlock()
	seen, err := h.look(ctx)
	if err != nil {
		if ctx.Err() == nil {
			h.Log.Warn("the devices can't be listed", "err", err)
		}
		return
	}
	state := fmt.Sprint(seen)
	if state == h.toldState && time.Since(h.toldAt) < tellEvery {
		return
	}
	if err := h.Link.Devices(ctx, h.Name, seen); err == nil {
		h.toldAt, h.toldState = time.Now(), state
	} else if ctx.Err() == nil {
		h.Log.Warn("the service could not be told of the devices", "err", err)
	}
}

// lost takes a device off the list at once: it has to be looked at anew before
// it gets more work, and the service must know that before the hold is closed.
func (h *Host) lost(ctx context.Context, serial string) {
	h.mu.Lock()
	for t, u := range h.known {
		if u.facts.Serial == serial {
			delete(h.known, t)
		}
	}
	h.mu.Unlock()
	h.lookAndTell(ctx)
}

func (h *Host) look(ctx context.Context) ([]Seen, error) {
	listed, err := h.Server.Devices(ctx)
	if err != nil {
		return nil, err
	}
	state := map[string]string{}
	for _, l := range listed {
		state[l.Serial] = l.State
	}
	for _, address := range h.Connect {
		if s := state[address]; s == "device" || time.Now().Before(h.retry[address]) {
			continue
		}
		h.retry[address] = time.Now().Add(2 * time.Second)
		_ = h.Server.Disconnect(ctx, address)
		if err := h.Server.Connect(ctx, address); err != nil {
			h.Log.Debug("no device at its address", "address", address, "err", err)
			continue
		}
		state[address] = "connecting"
	}
	var mu sync.Mutex
	var seen []Seen
	var all sync.WaitGroup
	for transport, s := range state {
		all.Go(func() {
			if one, ok := h.lookAt(ctx, transport, s); ok {
				mu.Lock()
				seen = append(seen, one)
				mu.Unlock()
			}
		})
	}
	all.Wait()
	h.mu.Lock()
	for t := range h.known {
		if state[t] != "device" {
			delete(h.known, t)
		}
	}
	h.mu.Unlock()
	slices.SortFunc(seen, func(a, b Seen) int { return strings.Compare(a.Facts.Serial, b.Facts.Serial) })
	return seen, nil
}

func (h *Host) lookAt(ctx context.Context, transport, state string) (Seen, bool) {
	h.mu.Lock()
	u := h.known[transport]
	h.mu.Unlock()
	switch {
	case state == "device" && u != nil:
		return Seen{Facts: u.facts, State: "ready"}, true
	case state == "device":
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		d, err := adb.Open(ctx, h.Server, transport)
		if err == nil {
			u = &unit{device: d}
			u.facts, err = d.Facts(ctx)
		}
		if err != nil {
			if ctx.Err() == nil {
				h.Log.Warn("a device does not say what it is", "transport", transport, "err", err)
			}
			return Seen{}, false
		}
		h.mu.Lock()
		h.known[transport], h.met[transport] = u, u.facts
		h.mu.Unlock()
		return Seen{Facts: u.facts, State: "ready"}, true
	case state == "connecting":
		return Seen{}, false
	}
	h.mu.Lock()
	f, ok := h.met[transport]
	h.mu.Unlock()
	if !ok {
		f.Serial = transport // it has never said its own
	}
	return Seen{Facts: f, State: "unusable", Why: fmt.Sprintf("the adb server says %q: %s", state, adb.Remedy(state))}, true
}

var errNotHere = errors.New("the device is not there at the moment")

// device gives the device with a serial, waiting a little for one that is just being plugged in.
func (h *Host) device(ctx context.Context, serial string) (*unit, error) {
	for deadline := time.Now().Add(10 * time.Second); ; {
		h.mu.Lock()
		for _, u := range h.known {
			if u.facts.Serial == serial {
				h.mu.Unlock()
				return u, nil
			}
		}
		h.mu.Unlock()
		if time.Now().After(deadline) {
			return nil, errNotHere
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
