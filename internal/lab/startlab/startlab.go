// Package startlab is the lab of devices that a command starts when they are wanted, such as emulators: beside a lab of an adb server, which drives them.
//
// A device is known before it is up, by what the lab file says it will be. For a piece of work its command is started (running.go), and the adb server's lab proves it ready, as any
// phone. After the work it stays up for a while, or is thrown away. What an earlier process of the host has started, and could not end, is ended at the beginning. In: the kinds of a
// lab of a lab file. Out: a lab.Lab that is a lab.Starter.
package startlab

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/guard"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
)

// Bridge is the lab of the adb server that drives the devices.
type Bridge interface {
	Acquire(serial string) (*lab.Unit, error)
	Lost(serial string)
	Unfit(serial string, why *phone.Refused)
	LookAgain(serial string)
	Check(serials []string)
	// SeenApart gives the device at a transport that the lab itself does not list.
	SeenApart(transport string) (lab.Device, bool)
}

// Server is the adb server.
type Server interface {
	Connect(ctx context.Context, address string) error
	Disconnect(ctx context.Context, address string) error
}

// Config is what the lab needs.
type Config struct {
	Lab    *labfile.Lab
	Server Server
	Dir    string // a folder of the lab's own: what it has started is known by it
	Log    *slog.Logger
}

// Name is what the lab beside a lab of an adb server is called.
func Name(of string) string { return of + "-started" }

// Lab implements lab.Lab, lab.Starter and lab.Teller.
type Lab struct {
	Config
	bridge Bridge
	most   int

	mu      sync.Mutex
	look    func(context.Context)
	ctx     context.Context
	order   []string
	units   map[string]*unit // by serial
	changed chan struct{}    // closed, and made anew, whenever a place may have become free
	took    []time.Duration  // the last starts
}

// state is how a unit stands.
type state int

const (
	down state = iota
	starts
	up
	stops
)

// unit is one device.
type unit struct {
	serial    string
	kind      labfile.Startable
	state     state
	held      bool
	idle      time.Time // since when nobody wants it
	transport string
	running   *running
	inner     string // the serial that the adb server's lab knows it by
	failed    string // why it did not start the last time
	barred    time.Time
}

const (
	// failedFor is how long a device that did not start is left alone.
	failedFor = time.Minute
	tickEvery = time.Second
	lastOf    = 10 // starts that the time is taken from
)

// New makes the lab. What an earlier process has left is ended.
func New(c Config) (*Lab, error) {
	l := &Lab{Config: c, most: c.Lab.AtMost, units: map[string]*unit{}, look: func(context.Context) {}, ctx: context.Background(), changed: make(chan struct{})}
	for _, k := range c.Lab.Startable {
		for _, serial := range k.Serials() {
			l.order = append(l.order, serial)
			l.units[serial] = &unit{serial: serial, kind: k}
		}
	}
	if l.most == 0 || l.most > len(l.order) {
		l.most = len(l.order)
	}
	return l, endLeft(c.Dir, c.Log)
}

// Beside says by which lab the devices are driven. It is said before Watch.
func (l *Lab) Beside(b Bridge) { l.bridge = b }

// Owns says whether a device of this lab is, or will be, at a transport.
func (l *Lab) Owns(transport string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, u := range l.units {
		if u.state != down && u.transport == transport {
			return true
		}
	}
	return false
}

// Name implements lab.Lab.
func (l *Lab) Name() string { return Name(l.Lab.Name) }

// Kind implements lab.Lab.
func (l *Lab) Kind() string { return "started" }

// Watch implements lab.Lab. All devices are down when it returns.
func (l *Lab) Watch(ctx context.Context, look func(context.Context)) {
	l.mu.Lock()
	l.ctx, l.look = ctx, look
	l.mu.Unlock()
	tick := time.NewTicker(tickEvery)
	defer tick.Stop()
	for {
		_ = guard.Run(l.Log, guard.Loop, func() {
			l.tend()
			look(ctx)
		})
		select {
		case <-tick.C:
		case <-ctx.Done():
			l.stopAll()
			return
		}
	}
}

// tend stops what is idle, and notices what has ended by itself.
func (l *Lab) tend() {
	l.mu.Lock()
	var over []*unit
	for _, u := range l.units {
		if u.state == up && (u.running.over() || !u.held && time.Since(u.idle) > u.kind.Idle) {
			u.state = stops
			over = append(over, u)
		}
	}
	l.mu.Unlock()
	for _, u := range over {
		l.stop(u)
	}
}

func (l *Lab) stopAll() {
	l.mu.Lock()
	var over []*unit
	for _, u := range l.units {
		if u.state == up {
			u.state = stops
			over = append(over, u)
		}
	}
	l.mu.Unlock()
	var all sync.WaitGroup
	for _, u := range over {
		all.Go(func() { l.stop(u) })
	}
	all.Wait()
}

// stop ends a device whose state is stops already.
func (l *Lab) stop(u *unit) {
	ctx, cancel := context.WithTimeout(context.Background(), stopTakes)
	defer cancel()
	l.mu.Lock()
	r, inner, transport := u.running, u.inner, u.transport
	l.mu.Unlock()
	if inner != "" {
		l.bridge.Lost(inner)
	}
	if addressOf(transport) != "" {
		_ = l.Server.Disconnect(ctx, transport)
	}
	r.stop(ctx, u.kind.Stop)
	l.mu.Lock()
	u.state, u.running, u.inner, u.transport = down, nil, "", ""
	l.free()
	l.mu.Unlock()
}

// free says, under mu, that a place may have become free.
func (l *Lab) free() {
	close(l.changed)
	l.changed = make(chan struct{})
}

// Devices implements lab.Lab.
func (l *Lab) Devices(context.Context) ([]lab.Device, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]lab.Device, 0, len(l.order))
	for _, serial := range l.order {
		u := l.units[serial]
		d := lab.Device{Facts: u.facts(l.Lab.Place), State: devices.Ready, Checked: true}
		if u.failed != "" && time.Now().Before(u.barred) {
			d.State, d.Why = devices.Unusable, u.failed
		}
		out = append(out, d)
	}
	return out, nil
}

func (u *unit) facts(place string) devices.Facts {
	f := u.kind.Device.Facts(u.kind.Origin, place)
	f.Serial, f.Startable = u.serial, true
	return f
}

// About implements lab.Teller.
func (l *Lab) About() devices.Lab {
	l.mu.Lock()
	defer l.mu.Unlock()
	a := devices.Lab{Name: l.Name(), Kind: l.Kind(), Place: l.Lab.Place, Devices: len(l.order), AtOnce: l.most}
	for _, u := range l.units {
		if u.state != down {
			a.Open++
		}
	}
	a.StartMS = int(l.takes().Milliseconds())
	return a
}

// takes is how long a start takes, under mu: the mean of the last ones, else a guess.
func (l *Lab) takes() time.Duration {
	if len(l.took) == 0 {
		return 30 * time.Second
	}
	sum := time.Duration(0)
	for _, t := range l.took {
		sum += t
	}
	return sum / time.Duration(len(l.took))
}

// Acquire implements lab.Lab: of a device that is up.
func (l *Lab) Acquire(serial string) (*lab.Unit, error) {
	l.mu.Lock()
	u := l.units[serial]
	if u == nil || u.state != up || u.inner == "" {
		l.mu.Unlock()
		return nil, lab.ErrNotHere
	}
	inner := u.inner
	l.mu.Unlock()
	got, err := l.bridge.Acquire(inner)
	if err != nil {
		return nil, err
	}
	known := got.Known
	known.Serial, known.Startable, known.Origin, known.Place, known.Simulated = serial, true, u.kind.Origin, l.Lab.Place, known.Simulated || u.kind.Device.Simulated
	return &lab.Unit{Unit: got.Unit, Known: known}, nil
}

// Fresh implements lab.Starter.
func (l *Lab) Fresh(serial string) bool {
	u := l.units[serial]
	return u != nil && u.kind.Fresh
}

// Done implements lab.Starter.
func (l *Lab) Done(serial string) {
	l.mu.Lock()
	u := l.units[serial]
	if u == nil || !u.held {
		l.mu.Unlock()
		return
	}
	u.held, u.idle = false, time.Now()
	end := u.kind.Fresh && u.state == up
	if end {
		u.state = stops
	}
	l.free()
	l.mu.Unlock()
	if end {
		l.stop(u)
	}
}

// Lost implements lab.Lab: a device that was lost at work is thrown away.
func (l *Lab) Lost(serial string) {
	l.mu.Lock()
	u := l.units[serial]
	end := u != nil && u.state == up
	if end {
		u.state = stops
	}
	l.mu.Unlock()
	if end {
		go func() { _ = guard.Run(l.Log, guard.Loop, func() { l.stop(u) }) }()
	}
}

// Unfit implements lab.Lab.
func (l *Lab) Unfit(serial string, why *phone.Refused) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if u := l.units[serial]; u != nil {
		u.failed, u.barred = why.Why+": "+why.Remedy, time.Now().Add(failedFor)
	}
}

// Check implements lab.Lab: a device is proved whenever it is started.
func (l *Lab) Check([]string) {}

// LookAgain implements lab.Lab.
func (l *Lab) LookAgain(serial string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if u := l.units[serial]; u != nil {
		u.failed = ""
	}
}

// Start implements lab.Starter.
func (l *Lab) Start(ctx context.Context, serial string) (took time.Duration, err error) {
	u := l.units[serial]
	if u == nil {
		return 0, lab.ErrNotHere
	}
	begin := time.Now()
	ctx, cancel := context.WithTimeout(ctx, u.kind.Ready)
	defer cancel()
	if there, err := l.place(ctx, u); err != nil || there {
		return time.Since(begin), err
	}
	starting := time.Now()
	err = l.bringUp(ctx, u)
	l.mu.Lock()
	if err == nil {
		u.state, u.failed = up, ""
		if l.took = append(l.took, time.Since(starting)); len(l.took) > lastOf {
			l.took = l.took[1:]
		}
		l.mu.Unlock()
		l.Log.Info("a device was started", "device", serial, "took", time.Since(starting).Round(time.Millisecond))
		return time.Since(begin), nil
	}
	u.state, u.held = stops, false
	if ctx.Err() == nil || errors.Is(ctx.Err(), context.DeadlineExceeded) {
		u.failed, u.barred = err.Error(), time.Now().Add(failedFor)
	}
	l.mu.Unlock()
	l.stop(u)
	return time.Since(begin), err
}

// place waits until a device may be started: one of the places is free, or one that is idle gives way. There says that the device is up already.
func (l *Lab) place(ctx context.Context, u *unit) (there bool, err error) {
	for {
		l.mu.Lock()
		switch {
		case u.held:
			l.mu.Unlock()
			return false, errors.New("other work of this host has it")
		case u.state == up && !u.running.over():
			u.held = true
			l.mu.Unlock()
			return true, nil
		case u.state == down && l.up() < l.most:
			u.state, u.held = starts, true
			l.mu.Unlock()
			return false, nil
		}
		var way *unit
		if u.state == down {
			for _, o := range l.units {
				if o.state == up && !o.held && (way == nil || o.idle.Before(way.idle)) {
					way = o
				}
			}
		} else if u.state == up { // it has ended by itself
			way = u
		}
		if way != nil {
			way.state = stops
		}
		changed := l.changed
		l.mu.Unlock()
		if way != nil {
			l.stop(way)
			continue
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return false, fmt.Errorf("no place became free within %s: %d devices are up, and no more may be (at_most)", u.kind.Ready, l.most)
		}
	}
}

// up is, under mu, how many devices are up, or on their way.
func (l *Lab) up() (n int) {
	for _, u := range l.units {
		if u.state != down {
			n++
		}
	}
	return n
}
