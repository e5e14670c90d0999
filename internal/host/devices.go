package host

// Finding the devices, and telling the service of them.

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
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
)

const (
	lookEvery = 500 * time.Millisecond // at the devices
	tellEvery = 5 * time.Second        // about them, when nothing has changed
	// emulatorsEvery is how often emulators are looked for that have just started.
	emulatorsEvery = 3 * time.Second
)

// watchDevices keeps the list of devices, brings those on the network back, and tells the service.
func (h *Host) watchDevices(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	if len(h.Emulators) > 0 {
		h.care.Go(func() { _ = guard.Run(h.Log, guard.Loop, func() { h.findEmulators(ctx) }) })
	}
	for {
		_ = guard.Run(h.Log, guard.Loop, func() { h.lookAndTell(ctx) })
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
	state := fmt.Sprint(h.about(), seen)
	if state == h.toldState && time.Since(h.toldAt) < tellEvery {
		return
	}
	call, cancel := context.WithTimeout(ctx, callTakes)
	defer cancel()
	if check, err := h.Link.Devices(call, h.Name, h.about(), seen); err == nil {
		h.toldAt, h.toldState = time.Now(), state
		h.checkThese(check)
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
			delete(h.looks, t)
		}
	}
	h.mu.Unlock()
	h.lookAndTell(ctx)
}

func (h *Host) look(ctx context.Context) ([]hostlink.Seen, error) {
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
		h.retry[address] = time.Now().Add(connectTakes)
		h.connect(address)
		if s := state[address]; s == "" || s == "offline" {
			state[address] = "connecting"
		}
	}
	var seen []hostlink.Seen
	for transport, s := range state {
		if one, ok := h.lookAt(transport, s); ok {
			seen = append(seen, one)
		}
	}
	h.mu.Lock()
	for t := range h.known {
		if state[t] != "device" {
			delete(h.known, t)
			delete(h.looks, t)
		}
	}
	for t := range h.starting {
		if state[t] != "device" {
			delete(h.starting, t)
		}
	}
	h.mu.Unlock()
	slices.SortFunc(seen, func(a, b hostlink.Seen) int { return strings.Compare(a.Facts.Serial, b.Facts.Serial) })
	return seen, nil
}

// connectTakes is how long the adb server is given to reach an address; until then it is not asked again.
const connectTakes = 15 * time.Second

// connectsAtOnce is how many addresses are tried at the same time.
const connectsAtOnce = 32

// connect has the adb server look for a device at an address, beside all else: at one where nothing is that takes long.
func (h *Host) connect(address string) {
	h.care.Go(func() {
		_ = guard.Do(h.Log, guard.Loop, func() error {
			ctx, cancel := context.WithTimeout(h.careCtx, connectTakes)
			defer cancel()
			select {
			case h.connecting <- struct{}{}:
				defer func() { <-h.connecting }()
			case <-ctx.Done():
				return nil
			}
			_ = h.Server.Disconnect(ctx, address)
			err := h.Server.Connect(ctx, address)
			if err != nil {
				h.Log.Debug("no device at its address", "address", address, "err", err)
			}
			h.looking.Lock()
			h.retry[address] = time.Now().Add(2 * time.Second)
			h.looking.Unlock()
			if err == nil {
				h.lookAndTell(h.careCtx)
			}
			return nil
		})
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
func (h *Host) findEmulators(ctx context.Context) {
	for {
		listed, err := h.Server.Devices(ctx)
		for _, port := range h.Emulators {
			if err != nil {
				break
			}
			if slices.ContainsFunc(listed, func(l adb.Listed) bool {
				return l.Serial == fmt.Sprintf("emulator-%d", port-1) || strings.HasSuffix(l.Serial, fmt.Sprintf(":%d", port))
			}) {
				continue
			}
			c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
			if err != nil {
				continue
			}
			_ = c.Close()
			if err := h.Server.Emulator(ctx, port); err != nil && ctx.Err() == nil {
				h.Log.Debug("the adb server could not be told of an emulator", "port", port, "err", err)
			}
		}
		if phone.Pause(ctx, emulatorsEvery) != nil {
			return
		}
	}
}

// meet asks a device what it is, beside all else: one that does not answer holds nobody up.
func (h *Host) meet(transport string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.meeting[transport] {
		return
	}
	h.meeting[transport] = true
	h.care.Go(func() {
		ctx, cancel := context.WithTimeout(h.careCtx, 20*time.Second)
		defer cancel()
		u := &unit{}
		var unfit *phone.Refused
		err := guard.Do(h.Log, guard.Loop, func() error {
			d, err := android.Open(ctx, h.Server, transport)
			if err == nil {
				u.device, u.told = d, d.Serial()
				u.facts, err = d.Facts(ctx)
			}
			if err == nil { // before any work is given to it
				unfit, err = d.Fit(ctx)
			}
			return err
		})
		var starting *android.Starting
		h.mu.Lock()
		delete(h.meeting, transport)
		delete(h.starting, transport)
		switch {
		case err == nil:
			u.facts.Serial = h.ownSerial(transport, u)
			h.known[transport], h.met[transport] = u, u.facts
			if unfit != nil {
				h.looks[transport] = closeLook{at: time.Now(), freeMB: leastFreeMB, unfit: whyUnfit(unfit)}
			}
		case errors.As(err, &starting):
			f := h.met[transport]
			f.Serial = cmp.Or(f.Serial, starting.Serial)
			h.starting[transport] = hostlink.Seen{Facts: f, State: "unusable", Why: "its system is still starting: wait until its home screen is there"}
		}
		h.mu.Unlock()
		if err != nil {
			if ctx.Err() == nil && starting == nil {
				h.Log.Warn("a device does not say what it is", "transport", transport, "err", err)
			}
			return
		}
		h.lookAndTell(h.careCtx)
	})
}

func (h *Host) lookAt(transport, state string) (hostlink.Seen, bool) {
	h.mu.Lock()
	u := h.known[transport]
	starts, isStarting := h.starting[transport]
	second := u != nil && h.bestWay(u.facts.Serial) != transport
	h.mu.Unlock()
	switch {
	case state == "device" && second:
		return hostlink.Seen{}, false // the device is shown once, by its better way
	case state == "device" && u != nil:
		return h.readiness(transport, u), true
	case state == "device":
		h.meet(transport)
		return starts, isStarting
	case state == "connecting":
		return hostlink.Seen{}, false
	}
	h.mu.Lock()
	f, ok := h.met[transport]
	h.mu.Unlock()
	if !ok {
		f.Serial = transport // it has never said its own
	}
	return hostlink.Seen{Facts: f, State: "unusable", Why: fmt.Sprintf("the adb server says %q: %s", state, adb.Remedy(state))}, true
}

var errNotHere = errors.New("the device is not there at the moment")

// device gives the device with a serial, waiting a little for one that is just being plugged in.
func (h *Host) device(ctx context.Context, serial string) (*unit, error) {
	for deadline := time.Now().Add(10 * time.Second); ; {
		h.mu.Lock()
		u := h.known[h.bestWay(serial)]
		h.mu.Unlock()
		if u != nil {
			return u, nil
		}
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
