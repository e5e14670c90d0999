package host

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone/android"
	"tessellant/internal/sandbox"
)

// callTakes is how long one call to the service may take: after a call that hangs there is time for another, before a hold runs out.
const callTakes = 5 * time.Second

// Config is what a host needs.
type Config struct {
	Name    string
	Dir     string // where it keeps what it has not handed in yet
	Server  *adb.Server
	Connect []string // devices on the network: address:port
	Link    hostlink.Link
	Log     *slog.Logger
	// SpoolLimit is how many bytes may lie in Dir; 0: 20 GB. When it is reached, evidence is left out, and no verdict.
	SpoolLimit int64
	// Silence is how long a device at work may not answer the simplest question; 0: 20 s.
	Silence time.Duration
	// Emulators are ports of this machine at which emulators are looked for: they tell the adb server at the usual port alone that they have started.
	Emulators []int
	// Box is where programs run; nil: none do. OpenBox says that they may where the box is not tight.
	Box     *sandbox.Box
	OpenBox bool
}

// Host is a running host.
type Host struct {
	Config
	encoding   chan struct{} // one encoder at a time
	connecting chan struct{} // places for addresses that are tried
	spool      *spool

	looking   sync.Mutex // guards the three below
	retry     map[string]time.Time
	toldAt    time.Time
	toldState string

	mu       sync.Mutex
	known    map[string]*unit         // by the adb server's serial
	met      map[string]devices.Facts // the same, of all that ever said what they are
	working  map[string]*job          // by hold
	meeting  map[string]bool          // by the adb server's serial: being asked what they are
	toPass   map[string]bool          // serials that must pass a check to leave their quarantine; true: passed
	looks    map[string]closeLook     // by the adb server's serial
	starting map[string]hostlink.Seen // by the adb server's serial: their systems are not up yet
	runtimes map[string]string        // that programs find
	sessions map[string]*served       // that can be commanded, by hold; the host's desk has none
	checks   map[string]*checking     // by serial, the newest
	pairings map[string]*hostlink.Pairing
	care     sync.WaitGroup // looks at devices that go on beside the rest
	careCtx  context.Context
}

// job is the work of one hold.
type job struct {
	serial string
	held   context.Context
	leave  context.CancelCauseFunc
	ended  chan struct{} // closed when it has ended
}

// Why a job is left before its end.
var (
	errHoldOver = errors.New("the hold on the device ran out")
	errStopped  = errors.New("the run was stopped")
)

func (j *job) inHand() bool {
	select {
	case <-j.ended:
		return false
	default:
		return true
	}
}

type unit struct {
	device *android.Device
	facts  devices.Facts
	told   string // the serial that the device tells: others may tell the same
}

// New makes a host; Run sets it to work.
func New(c Config) *Host {
	if c.SpoolLimit == 0 {
		c.SpoolLimit = 20 << 30
	}
	if c.Silence == 0 {
		c.Silence = 20 * time.Second
	}
	return &Host{Config: c, encoding: make(chan struct{}, 1), connecting: make(chan struct{}, connectsAtOnce), spool: &spool{dir: filepath.Join(c.Dir, "spool"), limit: c.SpoolLimit}, retry: map[string]time.Time{}, known: map[string]*unit{},
		met: map[string]devices.Facts{}, working: map[string]*job{}, meeting: map[string]bool{}, toPass: map[string]bool{}, looks: map[string]closeLook{}, starting: map[string]hostlink.Seen{}, sessions: map[string]*served{}, checks: map[string]*checking{}, pairings: map[string]*hostlink.Pairing{}}
}

// Begin makes the host's folder and sees what an earlier process of it left there.
func (h *Host) Begin() error {
	if err := os.MkdirAll(h.spool.dir, 0o700); err != nil {
		return fmt.Errorf("make the host's folder: %w", err)
	}
	h.spool.measure()
	return nil
}

// Run looks after the devices and does what holds ask for, until ctx ends. Begin comes first.
// Work in hand is then broken off: it is told so where there is time, else the next process of this host does.
func (h *Host) Run(ctx context.Context) error {
	h.careCtx = ctx
	defer h.care.Wait() // after those that begin such looks
	var all sync.WaitGroup
	defer all.Wait()
	defer func() { // what this host saw, nobody sees any more
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		_, _ = h.Link.Devices(ctx, h.Name, h.about(), nil)
	}()
	left := h.spool.leftovers()
	for _, hold := range left {
		mine, _ := h.begin(ctx, hold)
		all.Go(func() {
			defer close(mine.ended)
			defer mine.leave(nil)
			_ = guard.Run(h.logOf(hold), guard.Hold, func() { h.handInLeft(ctx, hold) })
		})
	}
	all.Go(func() { h.watchDevices(ctx) })
	all.Go(func() { h.renew(ctx) })
	if h.Box != nil {
		all.Go(func() { h.findRuntimes(ctx) })
	}
	h.open("", newServed(ctx, h.Log, desk{h}))
	deaf, err := h.Link.Serve(h.Name, h.answerOrder)
	if err != nil {
		return err
	}
	defer deaf()
	wake, stop := h.Link.Wake(h.Name)
	defer stop()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		var fresh []hostlink.Hold
		if err := guard.Run(h.Log, guard.Loop, func() { fresh = h.newHolds(ctx) }); err != nil {
			h.Log.Error("holds can't be looked at", "err", err)
		}
		for _, hold := range fresh {
			mine, before := h.begin(ctx, hold)
			all.Go(func() {
				defer close(mine.ended)
				defer mine.leave(nil)
				for _, j := range before { // two never work on one device
					<-j.ended
				}
				h.afterCheck(mine.held, hold.Serial)
				log := h.logOf(hold)
				if err := guard.Run(log, guard.Hold, func() { h.work(ctx, mine.held, hold) }); err != nil {
					h.refuse(ctx, hold, log, err)
				}
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

// handInLeft hands in what an earlier process of this host left of an attempt: what happened on the
// device since then is not known, so unless it had come to its end the attempt is lost.
func (h *Host) handInLeft(ctx context.Context, hold hostlink.Hold) {
	log := h.logOf(hold)
	c, err := newCourier(h.Link, h.spool, hold, log)
	if err != nil {
		log.Error("what was left of an attempt can't be read", "err", err)
		return
	}
	end := h.spool.leftClosing(hold)
	log.Warn("an attempt was left by an earlier process of this host", "verdict", end.Verdict)
	if u, err := h.device(ctx, hold.Serial); err == nil && end.Verdict == verdict.Lost {
		tidy, cancel := context.WithTimeout(ctx, time.Minute)
		clean(tidy, u.device, hold)
		cancel()
	}
	if err := c.finish(end); err != nil {
		log.Warn("how an attempt came out can't be written down", "err", err)
	}
	if err := c.deliver(ctx, func() hostlink.Closing { return end }); err == nil {
		h.spool.remove(hold.AttemptID)
	}
}

// logOf is the log for what concerns a hold.
func (h *Host) logOf(hold hostlink.Hold) *slog.Logger {
	l := h.Log.With(string(hold.Kind), hold.WorkID, "attempt", hold.AttemptID, "device", hold.Serial)
	if hold.RunID != "" {
		l = l.With("run", hold.RunID)
	}
	return l
}

// begin notes a hold's work. Work that is in hand on the same device is left:
// its hold must have run out.
func (h *Host) begin(ctx context.Context, hold hostlink.Hold) (mine *job, before []*job) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, j := range h.working {
		if j.serial == hold.Serial && j.inHand() {
			j.leave(errHoldOver)
			before = append(before, j)
		}
	}
	mine = &job{serial: hold.Serial, ended: make(chan struct{})}
	mine.held, mine.leave = context.WithCancelCause(ctx)
	h.working[hold.ID] = mine
	return mine, before
}

// newHolds asks the service for holds, and gives those that are not in hand yet.
// The answer may be older than the end of some: those that ended are
// remembered until an answer that was asked for later leaves them out.
func (h *Host) newHolds(ctx context.Context) []hostlink.Hold {
	h.mu.Lock()
	ended, inHand := map[string]bool{}, []string{}
	for id, j := range h.working {
		ended[id] = !j.inHand()
		inHand = append(inHand, id)
	}
	h.mu.Unlock()
	call, cancel := context.WithTimeout(ctx, callTakes)
	holds, err := h.Link.Holds(call, h.Name, inHand)
	cancel()
	if err != nil {
		if ctx.Err() == nil {
			h.Log.Warn("the service does not say what to do", "err", err)
		}
		return nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	var fresh []hostlink.Hold
	for _, hold := range holds {
		delete(ended, hold.ID)
		if j := h.working[hold.ID]; j != nil && hold.Stop {
			j.leave(errStopped)
		}
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

func (h *Host) renew(ctx context.Context) {
	tick := time.NewTicker(hostlink.RenewEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if err := guard.Do(h.Log, guard.Loop, func() error { return h.renewOnce(ctx) }); err != nil && ctx.Err() == nil {
			h.Log.Warn("holds could not be renewed", "err", err)
		}
	}
}

func (h *Host) renewOnce(ctx context.Context) error {
	h.mu.Lock()
	var ids []string
	for id, j := range h.working {
		if j.inHand() {
			ids = append(ids, id)
		}
	}
	h.mu.Unlock()
	if len(ids) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, callTakes)
	defer cancel()
	kept, err := h.Link.Renew(ctx, h.Name, ids)
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, id := range ids {
		if j := h.working[id]; j != nil && !slices.Contains(kept, id) {
			j.leave(errHoldOver)
		}
	}
	return nil
}
