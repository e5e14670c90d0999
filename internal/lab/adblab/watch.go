package adblab

// Finding the devices: those that the adb server lists, at addresses on the network, emulators.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/core/devices"
	"tessellant/internal/guard"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
)

const (
	lookEvery = 500 * time.Millisecond // at the devices
	// emulatorsEvery is how often emulators are looked for that have just started.
	emulatorsEvery = 3 * time.Second
)

// Watch implements lab.Lab.
func (l *Lab) Watch(ctx context.Context, look func(context.Context)) {
	l.mu.Lock()
	l.ctx, l.look = ctx, look
	l.mu.Unlock()
	defer l.care.Wait()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	if len(l.Emulators) > 0 {
		l.care.Go(func() { _ = guard.Run(l.Log, guard.Loop, func() { l.findEmulators(ctx) }) })
	}
	for {
		_ = guard.Run(l.Log, guard.Loop, func() { look(ctx) })
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// beside does something beside all else, until Watch ends. What it finds is looked at when it has ended.
func (l *Lab) beside(within time.Duration, do func(context.Context) error) {
	l.mu.Lock()
	whole, look := l.ctx, l.look
	l.mu.Unlock()
	l.care.Go(func() {
		_ = guard.Run(l.Log, guard.Loop, func() {
			ctx, cancel := context.WithTimeout(whole, within)
			defer cancel()
			if do(ctx) == nil {
				look(whole)
			}
		})
	})
}

// Lost implements lab.Lab.
func (l *Lab) Lost(serial string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for t, u := range l.units {
		if u.facts.Serial == serial {
			l.forget(t)
		}
	}
}

// forget forgets, under mu, the unit at a transport.
func (l *Lab) forget(transport string) {
	delete(l.units, transport)
	delete(l.looks, transport)
}

// Devices implements lab.Lab.
func (l *Lab) Devices(ctx context.Context) ([]lab.Device, error) {
	listed, err := l.Server.Devices(ctx)
	if err != nil {
		return nil, err
	}
	state := map[string]string{}
	for _, x := range listed {
		state[x.Serial] = x.State
	}
	for _, address := range l.Connect {
		if state[address] != "device" && l.due(address) {
			l.connect(address)
			if s := state[address]; s == "" || s == "offline" {
				state[address] = "connecting"
			}
		}
	}
	var seen []lab.Device
	apart := map[string]lab.Device{}
	for transport, s := range state {
		one, ok := l.at(transport, s)
		switch {
		case !ok:
		case l.Config.Apart != nil && l.Config.Apart(transport):
			apart[transport] = one
		default:
			seen = append(seen, one)
		}
	}
	l.mu.Lock()
	l.apart = apart
	for t := range l.units {
		if state[t] != "device" {
			l.forget(t)
		}
	}
	for t := range l.starting {
		if state[t] != "device" {
			delete(l.starting, t)
		}
	}
	l.mu.Unlock()
	slices.SortFunc(seen, func(a, b lab.Device) int { return strings.Compare(a.Facts.Serial, b.Facts.Serial) })
	return seen, nil
}

// SeenApart gives the device at a transport that is not listed, as it was seen last; false: none is there.
func (l *Lab) SeenApart(transport string) (lab.Device, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	d, ok := l.apart[transport]
	return d, ok
}

// due says whether it is time to try an address again, and notes that it is tried.
func (l *Lab) due(address string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if time.Now().Before(l.retry[address]) {
		return false
	}
	l.retry[address] = time.Now().Add(connectTakes)
	return true
}

// connectTakes is how long the adb server is given to reach an address; until then it is not asked again.
const connectTakes = 15 * time.Second

// connectsAtOnce is how many addresses are tried at the same time.
const connectsAtOnce = 32

// connect has the adb server look for a device at an address, beside all else: at one where nothing is that takes long.
func (l *Lab) connect(address string) {
	l.beside(connectTakes, func(ctx context.Context) error {
		select {
		case l.connecting <- struct{}{}:
			defer func() { <-l.connecting }()
		case <-ctx.Done():
			return ctx.Err()
		}
		_ = l.Server.Disconnect(ctx, address)
		err := l.Server.Connect(ctx, address)
		if err != nil {
			l.Log.Debug("no device at its address", "address", address, "err", err)
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.retry[address] = time.Now().Add(2 * time.Second)
		return err
	})
}

// EmulatorPorts are those at which emulators listen for adb; the one before each is their console's.
func EmulatorPorts() (ports []int) {
	for p := 5555; p <= 5585; p += 2 {
		ports = append(ports, p)
	}
	return ports
}

// findEmulators tells our adb server of emulators that have started.
func (l *Lab) findEmulators(ctx context.Context) {
	for {
		listed, err := l.Server.Devices(ctx)
		for _, port := range l.Emulators {
			if err != nil {
				break
			}
			if slices.ContainsFunc(listed, func(x adb.Listed) bool {
				return x.Serial == fmt.Sprintf("emulator-%d", port-1) || strings.HasSuffix(x.Serial, fmt.Sprintf(":%d", port))
			}) {
				continue
			}
			c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
			if err != nil {
				continue
			}
			_ = c.Close()
			if err := l.Server.Emulator(ctx, port); err != nil && ctx.Err() == nil {
				l.Log.Debug("the adb server could not be told of an emulator", "port", port, "err", err)
			}
		}
		if phone.Pause(ctx, emulatorsEvery) != nil {
			return
		}
	}
}

// ask asks a device what it is, beside all else: one that does not answer holds nobody up.
func (l *Lab) ask(transport string) {
	l.mu.Lock()
	already := l.asking[transport]
	l.asking[transport] = true
	l.mu.Unlock()
	if already {
		return
	}
	l.beside(20*time.Second, func(ctx context.Context) error {
		u := &unit{}
		var unfit *phone.Refused
		err := guard.Do(l.Log, guard.Loop, func() error {
			d, err := android.Open(ctx, l.Server, transport)
			if err == nil {
				u.device, u.phone, u.told = d, phone.Of(d), d.Serial()
				u.facts, err = d.Facts(ctx)
			}
			if err == nil { // before any work is given to it
				unfit, err = d.Fit(ctx)
			}
			return err
		})
		var starting *android.Starting
		l.mu.Lock()
		delete(l.asking, transport)
		delete(l.starting, transport)
		switch {
		case err == nil:
			u.facts.Serial = l.ownSerial(transport, u)
			l.units[transport], l.said[transport] = u, u.facts
			if unfit != nil {
				l.looks[transport] = closeLook{at: time.Now(), freeMB: leastFreeMB, unfit: whyUnfit(unfit)}
			}
		case errors.As(err, &starting):
			l.starting[transport] = starting.Serial
		}
		l.mu.Unlock()
		if err != nil && ctx.Err() == nil && starting == nil {
			l.Log.Warn("a device does not say what it is", "transport", transport, "err", err)
		}
		return err
	})
}

// at says how the device at a transport stands; false: it is not shown.
func (l *Lab) at(transport, state string) (lab.Device, bool) {
	l.mu.Lock()
	u := l.units[transport]
	serial, starts := l.starting[transport]
	said, ever := l.said[transport]
	second := u != nil && l.bestWay(u.facts.Serial) != transport
	l.mu.Unlock()
	switch {
	case state == "device" && second:
		return lab.Device{}, false // the device is shown once, by its better way
	case state == "device" && u != nil:
		return l.readiness(transport, u), true
	case state == "device":
		l.ask(transport)
		said.Serial = cmp.Or(said.Serial, serial)
		return lab.Device{Facts: said, State: devices.Unusable, Why: "its system is still starting: wait until its home screen is there"}, starts
	case state == "connecting":
		return lab.Device{}, false
	}
	if !ever {
		said.Serial = transport // it has never said its own
	}
	return lab.Device{Facts: said, State: devices.Unusable, Why: fmt.Sprintf("the adb server says %q: %s", state, adb.Remedy(state))}, true
}

// Acquire implements lab.Lab.
func (l *Lab) Acquire(serial string) (*lab.Unit, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	u := l.units[l.bestWay(serial)]
	if u == nil {
		return nil, lab.ErrNotHere
	}
	return &lab.Unit{Unit: u.phone, Known: u.facts}, nil
}
