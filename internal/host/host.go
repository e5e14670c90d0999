package host

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/guard"
	"tessellant/internal/host/attempt"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/desk"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/record"
	"tessellant/internal/host/runners"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/sandbox"
)

// callTakes is how long one call to the service may take: after a call that hangs there is time for another, before a hold runs out.
const callTakes = 5 * time.Second

const (
	tellEvery = 5 * time.Second // about devices, when nothing has changed
	// fullSpool is how many bytes may lie in a host's folder, unless said.
	fullSpool = 20 << 30
	// longSilence is how long a device at work may not answer, unless said.
	longSilence = 20 * time.Second
)

// Config is what a host needs.
type Config struct {
	Name string
	Dir  string // where it keeps what it has not uploaded yet
	Link hostlink.Link
	Log  *slog.Logger
	Labs []lab.Maker // where its devices come from
	// SpoolLimit is how many bytes may lie in Dir; 0: 20 GB. When it is reached, evidence is left out, and no verdict.
	SpoolLimit int64
	// Silence is how long a device at work may not answer the simplest question; 0: 20 s.
	Silence time.Duration
	// Box is where programs run; nil: none do. OpenBox says that they may where the box is not tight.
	Box     *sandbox.Box
	Outlet  *record.Outlet // of the proxies by which devices reach the network; nil: they go their own ways
	OpenBox bool
}

// Host is a running host.
type Host struct {
	Config
	labs  map[string]lab.Lab // by name
	spool *spool.Spool
	bench *attempt.Bench
	desk  *desk.Desk

	looking   sync.Mutex         // guards the three below
	listed    map[string]listing // by the name of the lab
	toldAt    time.Time
	toldState string

	mu       sync.Mutex
	working  map[string]*job           // by hold
	runtimes map[string]string         // that programs find
	served   map[string]*orders.Served // that take orders, by hold; "": the host's desk
}

// job is the work of one hold.
type job struct {
	device   lab.ID
	released bool // the device is not needed any more; under the host's mu
	held     context.Context
	leave    context.CancelCauseFunc
	ended    chan struct{} // closed when it has ended
}

func (j *job) inHand() bool {
	select {
	case <-j.ended:
		return false
	default:
		return true
	}
}

// busy says whether work is done on a device.
func (h *Host) busy(u lab.ID) bool { return h.atWork(u) || h.desk.Checking(u) }

// atWork says whether somebody's work has a device.
func (h *Host) atWork(u lab.ID) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.onDevice(u) != nil
}

// onDevice gives, under mu, the work that has a device.
func (h *Host) onDevice(u lab.ID) *job {
	for _, j := range h.working {
		if j.device == u && !j.released && j.inHand() {
			return j
		}
	}
	return nil
}

// New makes a host; Run sets it to work.
func New(c Config) *Host {
	h := &Host{Config: c, spool: spool.New(filepath.Join(c.Dir, "spool"), cmp.Or(c.SpoolLimit, fullSpool)), working: map[string]*job{}, served: map[string]*orders.Served{}, labs: map[string]lab.Lab{}, listed: map[string]listing{}}
	for _, make := range c.Labs {
		var name string
		l := make(func(serial string) bool { return h.busy(lab.ID{Lab: name, Serial: serial}) })
		name = l.Name()
		h.labs[name] = l
	}
	h.bench = &attempt.Bench{Link: c.Link, Spool: h.spool, Lab: h.labOf, Runners: runners.All, Silence: cmp.Or(c.Silence, longSilence), Encoding: make(chan struct{}, 1), Box: c.Box, Outlet: c.Outlet, About: h.about, Lost: h.lost, Open: h.openSession, Stream: func(id string) (hostlink.Stream, error) { return c.Link.Stream(c.Name, id) }}
	h.desk = desk.New(c.Log, h.labs, h.atWork)
	return h
}

// Begin makes the host's folder and sees what an earlier process of it left there.
func (h *Host) Begin() error { return h.spool.Begin() }

// Run looks after the devices and does what holds ask for, until ctx ends. Begin comes first.
// Work in hand is then cut short: the service is told where there is time, else the next process of this host tells it.
func (h *Host) Run(ctx context.Context) error {
	var all sync.WaitGroup
	defer all.Wait()
	defer func() { // what this host saw, nobody sees any more
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		_, _ = h.Link.Devices(ctx, h.Name, h.about(), nil)
	}()
	for _, hold := range h.spool.Leftovers() {
		mine, _ := h.begin(ctx, hold)
		all.Go(func() {
			defer close(mine.ended)
			defer mine.leave(nil)
			_ = guard.Run(h.logOf(hold), guard.Hold, func() { attempt.Left(ctx, h.bench, hold, h.logOf(hold)) })
		})
	}
	for _, l := range h.labs {
		all.Go(func() { l.Watch(ctx, h.lookAndTell) })
	}
	all.Go(func() { h.renew(ctx) })
	if h.Box != nil {
		all.Go(func() { h.findRuntimes(ctx) })
	}
	all.Go(func() { h.desk.Run(ctx) })
	_, closeDesk := h.open("", orders.New(ctx, h.Log, h.desk))
	defer closeDesk()
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
			all.Go(func() { h.work(ctx, mine, before, hold) })
		}
		select {
		case <-wake:
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// work does what a hold asks for, once those before have left its device: two never work on one.
func (h *Host) work(ctx context.Context, mine *job, before []*job, hold hostlink.Hold) {
	defer close(mine.ended)
	defer mine.leave(nil)
	for _, j := range before {
		<-j.ended
	}
	h.desk.AfterCheck(mine.held, mine.device)
	log := h.logOf(hold)
	released := func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		mine.released = true
	}
	if err := guard.Run(log, guard.Hold, func() { attempt.Work(ctx, mine.held, h.bench, hold, log, released) }); err != nil {
		attempt.Refuse(ctx, h.Link, hold, log, err)
	}
}

// listing is what a lab last listed.
type listing struct {
	at      time.Time
	devices []lab.Device
}

// still is what holds of the devices of a lab that can't list them any more: for a moment, what it said of them.
func (l listing) still(why error) []lab.Device {
	if time.Since(l.at) < devices.SilentAfter {
		return l.devices
	}
	out := slices.Clone(l.devices)
	for i := range out {
		out[i].State, out[i].Why, out[i].Checked = devices.Unusable, "its lab does not list its devices any more: "+why.Error(), false
	}
	return out
}

// lookAndTell looks at the devices once, and tells the service when something
// has changed, or when it has not heard of them for a while.
func (h *Host) lookAndTell(ctx context.Context) {
	h.looking.Lock() // so that what was seen first is told first
	defer h.looking.Unlock()
	var seen []hostlink.Seen
	for name, l := range h.labs {
		there, err := l.Devices(ctx)
		if err != nil && ctx.Err() != nil {
			return
		}
		if err != nil {
			h.Log.Warn("the devices of a lab can't be listed", "lab", name, "err", err)
			there = h.listed[name].still(err)
		} else {
			h.listed[name] = listing{time.Now(), there}
		}
		for _, d := range there {
			seen = append(seen, hostlink.Seen{Lab: name, Facts: d.Facts, State: d.State, Why: d.Why, Checked: d.Checked})
		}
	}
	slices.SortFunc(seen, func(a, b hostlink.Seen) int {
		return cmp.Or(strings.Compare(a.Facts.Serial, b.Facts.Serial), strings.Compare(a.Lab, b.Lab))
	})
	state := fmt.Sprint(h.about(), seen)
	if state == h.toldState && time.Since(h.toldAt) < tellEvery {
		return
	}
	call, cancel := context.WithTimeout(ctx, callTakes)
	defer cancel()
	if check, err := h.Link.Devices(call, h.Name, h.about(), seen); err == nil {
		h.toldAt, h.toldState = time.Now(), state
		for _, d := range seen {
			if slices.Contains(check, d.Facts.Serial) {
				h.labs[d.Lab].Check([]string{d.Facts.Serial})
			}
		}
	} else if ctx.Err() == nil {
		h.Log.Warn("the service could not be told of the devices", "err", err)
	}
}

// lost takes a device off the list at once: the service must know that before the hold is closed.
func (h *Host) lost(ctx context.Context, hold hostlink.Hold) {
	h.labOf(hold).Lost(hold.Serial)
	h.lookAndTell(ctx)
}

// labOf is the lab of a hold's device. One that this host has not, any more, has no devices.
func (h *Host) labOf(hold hostlink.Hold) lab.Lab {
	if l := h.labs[cmp.Or(hold.Lab, lab.First)]; l != nil {
		return l
	}
	return lab.None{}
}

// open lets what takes orders be commanded until shut is called.
func (h *Host) open(hold string, s *orders.Served) (_ *orders.Served, shut func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.served[hold] = s
	return s, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.served, hold)
	}
}

func (h *Host) openSession(ctx context.Context, hold string, end orders.Carrier, log *slog.Logger) (*orders.Served, func()) {
	return h.open(hold, orders.New(ctx, log, end))
}

// answerOrder answers one order of the service.
func (h *Host) answerOrder(ctx context.Context, o hostlink.Order) hostlink.Result {
	h.mu.Lock()
	s := h.served[o.Hold]
	h.mu.Unlock()
	if s == nil {
		return hostlink.Result{Gone: true}
	}
	return s.Take(ctx, o)
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
	u := lab.ID{Lab: cmp.Or(hold.Lab, lab.First), Serial: hold.Serial}
	for _, j := range h.working {
		if j.device == u && !j.released && j.inHand() {
			j.leave(casebook.ErrHoldOver)
			before = append(before, j)
		}
	}
	mine = &job{device: u, ended: make(chan struct{})}
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
			j.leave(casebook.ErrStopped)
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
			j.leave(casebook.ErrHoldOver)
		}
	}
	return nil
}

// about says what the host can do for programs, and by which certificate its proxies open HTTPS.
func (h *Host) about() (a hostlink.About) {
	a.Labs = h.aboutLabs()
	if h.Outlet != nil && h.Outlet.Authority != nil {
		a.Certificate = string(h.Outlet.Authority.PEM())
	}
	if h.Box == nil {
		return a
	}
	a.Why = h.Box.Why
	if h.Box.Level != sandbox.Tight && !h.OpenBox {
		return a
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	a.Isolation, a.Runtimes = string(h.Box.Level), h.runtimes
	return a
}

// aboutLabs says how the labs stand, by their names.
func (h *Host) aboutLabs() (out []devices.Lab) {
	for name, l := range h.labs {
		a := devices.Lab{Name: name, Kind: l.Kind()}
		if t, ok := l.(lab.Teller); ok {
			a = t.About()
		}
		out = append(out, a)
	}
	slices.SortFunc(out, func(a, b devices.Lab) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// findRuntimes looks once for what programs find here.
func (h *Host) findRuntimes(ctx context.Context) {
	found := h.Box.Runtimes(ctx)
	h.mu.Lock()
	h.runtimes = found
	h.mu.Unlock()
	h.Log.Info("programs run here", "isolation", h.Box.Level, "why", h.Box.Why, "bounds", h.Box.Bounds, "runtimes", found)
	h.lookAndTell(ctx)
}
