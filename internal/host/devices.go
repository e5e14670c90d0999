package host

// Finding the devices, telling the service of them, and seeing whether they are fit for work.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tessellant/internal/guard"
	"tessellant/internal/phone/adb"
)

const (
	lookEvery = 500 * time.Millisecond // at the devices
	tellEvery = 5 * time.Second        // about them, when nothing has changed
	// storageEvery is how often an idle device is asked how much storage it has left.
	storageEvery = time.Minute
	// leastFreeMB is how much storage a device needs to be of use.
	leastFreeMB = 100
)

// storageLook is what a device last said of its storage.
type storageLook struct {
	at     time.Time
	freeMB int
	asking bool
}

// readiness says whether a device that answers is fit for work.
func (h *Host) readiness(transport string, u *unit) Seen {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.storage[transport]
	busy := false
	for _, j := range h.working {
		busy = busy || (j.serial == u.facts.Serial && j.inHand())
	}
	passed, asked := h.check[u.facts.Serial]
	if !busy && !s.asking && (asked && !passed || time.Since(s.at) > storageEvery) {
		s.asking = true
		h.storage[transport] = s
		h.care.Go(func() {
			_ = guard.Run(h.Log, guard.Loop, func() { h.lookCloser(transport, u) })
		})
	}
	seen := Seen{Facts: u.facts, State: "ready"}
	if !s.at.IsZero() && s.freeMB < leastFreeMB {
		seen.State, seen.Why = "unusable", fmt.Sprintf("its storage is nearly full (%d MB free): remove apps or files from it", s.freeMB)
	}
	if passed {
		seen.Checked = true
		delete(h.check, u.facts.Serial)
	}
	return seen
}

// checkThese notes which devices must pass a check.
func (h *Host) checkThese(serials []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, s := range serials {
		if _, known := h.check[s]; !known {
			h.check[s] = false
		}
	}
}

// lookCloser asks a device for its storage, and where a check is asked for, whether
// it shows its screen and gives the tree of it.
func (h *Host) lookCloser(transport string, u *unit) {
	ctx, cancel := context.WithTimeout(h.careCtx, time.Minute)
	defer cancel()
	free, err := u.device.FreeMB(ctx)
	h.mu.Lock()
	_, asked := h.check[u.facts.Serial]
	h.mu.Unlock()
	if err == nil && asked {
		if _, err = u.device.Tree(ctx); err == nil {
			_, err = u.device.Screenshot(ctx)
		}
	}
	if err != nil && ctx.Err() == nil {
		h.Log.Warn("a device does not pass its check", "device", u.facts.Serial, "err", err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	s := storageLook{at: time.Now(), freeMB: free}
	if err != nil {
		s.freeMB = leastFreeMB // what it did not say is not held against it
	}
	h.storage[transport] = s
	if asked && err == nil && free >= leastFreeMB {
		h.check[u.facts.Serial] = true
	}
}

// watchDevices keeps the list of devices, brings those on the network back, and tells the service.
func (h *Host) watchDevices(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
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
		h.retry[address] = time.Now().Add(connectTakes)
		h.connect(address)
		if s := state[address]; s == "" || s == "offline" {
			state[address] = "connecting"
		}
	}
	var seen []Seen
	for transport, s := range state {
		if one, ok := h.lookAt(transport, s); ok {
			seen = append(seen, one)
		}
	}
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
		err := guard.Do(h.Log, guard.Loop, func() error {
			d, err := adb.Open(ctx, h.Server, transport)
			if err == nil {
				u.device = d
				u.facts, err = d.Facts(ctx)
			}
			return err
		})
		h.mu.Lock()
		delete(h.meeting, transport)
		if err == nil {
			h.known[transport], h.met[transport] = u, u.facts
		}
		h.mu.Unlock()
		if err != nil {
			if ctx.Err() == nil {
				h.Log.Warn("a device does not say what it is", "transport", transport, "err", err)
			}
			return
		}
		h.lookAndTell(h.careCtx)
	})
}

func (h *Host) lookAt(transport, state string) (Seen, bool) {
	h.mu.Lock()
	u := h.known[transport]
	h.mu.Unlock()
	switch {
	case state == "device" && u != nil:
		return h.readiness(transport, u), true
	case state == "device":
		h.meet(transport)
		return Seen{}, false
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
