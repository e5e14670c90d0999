package host

// Finding the devices, telling the service of them, and seeing whether they are fit for work.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"tessellant/internal/guard"
	"tessellant/internal/phone"
	"tessellant/internal/phone/adb"
)

const (
	lookEvery = 500 * time.Millisecond // at the devices
	tellEvery = 5 * time.Second        // about them, when nothing has changed
	// storageEvery is how often an idle device is asked how much storage it has left.
	storageEvery = time.Minute
	// unfitEvery is how often one is that a person has to do something about, or that did not answer.
	unfitEvery = 5 * time.Second
	// emulatorsEvery is how often emulators are looked for that have just started.
	emulatorsEvery = 3 * time.Second
	// leastFreeMB is how much storage a device needs to be of use.
	leastFreeMB = 100
)

// closeLook is what a device last said of its storage, and of whether it can be tested.
type closeLook struct {
	at     time.Time
	freeMB int
	unfit  string // why it can't be tested, and what a person can do; "": it can
	failed bool   // it did not come to its end
	asking bool
}

// pace is how long it takes until the device is asked again.
func (l closeLook) pace() time.Duration {
	if l.unfit != "" || l.failed {
		return unfitEvery
	}
	return storageEvery
}

// readiness says whether a device that answers is fit for work.
func (h *Host) readiness(transport string, u *unit) Seen {
	h.mu.Lock()
	defer h.mu.Unlock()
	l := h.looks[transport]
	busy := false
	for _, j := range h.working {
		busy = busy || (j.serial == u.facts.Serial && j.inHand())
	}
	passed, asked := h.check[u.facts.Serial]
	if c := h.checks[u.facts.Serial]; c != nil && !c.over() {
		busy = true
	}
	if !busy && !l.asking && (asked && !passed || time.Since(l.at) > l.pace()) {
		l.asking = true
		h.looks[transport] = l
		h.care.Go(func() {
			_ = guard.Run(h.Log, guard.Loop, func() { h.lookCloser(transport, u) })
		})
	}
	seen := Seen{Facts: u.facts, State: "ready"}
	seen.Facts.Limits, seen.Facts.Ways = u.device.Limits(), h.ways(u.facts.Serial)
	switch {
	case l.unfit != "" && !busy:
		seen.State, seen.Why = "unusable", l.unfit
	case !l.at.IsZero() && l.freeMB < leastFreeMB:
		seen.State, seen.Why = "unusable", fmt.Sprintf("its storage is nearly full (%d MB free): remove apps or files from it", l.freeMB)
	}
	if passed && seen.State == "ready" {
		seen.Checked = true
		delete(h.check, u.facts.Serial)
	}
	return seen
}

// unfit notes that a device can't be tested, as it was met at work.
func (h *Host) unfit(serial string, no *phone.Refused) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for t, u := range h.known {
		if u.facts.Serial == serial {
			h.looks[t] = closeLook{at: time.Now(), freeMB: max(h.looks[t].freeMB, leastFreeMB), unfit: whyUnfit(no)}
		}
	}
}

// whyUnfit says why a device can't be tested, with the remedy.
func whyUnfit(no *phone.Refused) string { return no.Why + ": " + no.Remedy }

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

// lookCloser asks a device for its storage and whether it can be tested, and where a check is asked for, whether
// it shows its screen and gives the tree of it.
func (h *Host) lookCloser(transport string, u *unit) {
	ctx, cancel := context.WithTimeout(h.careCtx, time.Minute)
	defer cancel()
	free, err := u.device.FreeMB(ctx)
	var unfit *phone.Refused
	if err == nil {
		unfit, err = u.device.Fit(ctx)
	}
	if err == nil {
		err = u.device.UndoLeft(ctx)
	}
	h.mu.Lock()
	_, asked := h.check[u.facts.Serial]
	h.mu.Unlock()
	if err == nil && asked && unfit == nil {
		if _, err = u.device.Tree(ctx); err == nil {
			_, err = u.device.Screenshot(ctx)
		}
	}
	if err != nil && ctx.Err() == nil {
		h.Log.Warn("a device does not pass its check", "device", u.facts.Serial, "err", err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.known[transport] != u { // it was lost meanwhile: what it said then holds no more
		return
	}
	l := closeLook{at: time.Now(), freeMB: free}
	if unfit != nil {
		l.unfit = whyUnfit(unfit)
	}
	if err != nil {
		l.failed, l.freeMB = true, leastFreeMB // what it did not say is not held against it
	}
	h.looks[transport] = l
	if asked && err == nil && unfit == nil && free >= leastFreeMB {
		h.check[u.facts.Serial] = true
	}
}

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
			delete(h.looks, t)
		}
	}
	for t := range h.starting {
		if state[t] != "device" {
			delete(h.starting, t)
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
			d, err := adb.Open(ctx, h.Server, transport)
			if err == nil {
				u.device, u.told = d, d.Serial()
				u.facts, err = d.Facts(ctx)
			}
			if err == nil { // before any work is given to it
				unfit, err = d.Fit(ctx)
			}
			return err
		})
		var starting *adb.Starting
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
			h.starting[transport] = Seen{Facts: f, State: "unusable", Why: "its system is still starting: wait until its home screen is there"}
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

func (h *Host) lookAt(transport, state string) (Seen, bool) {
	h.mu.Lock()
	u := h.known[transport]
	starts, isStarting := h.starting[transport]
	second := u != nil && h.bestWay(u.facts.Serial) != transport
	h.mu.Unlock()
	switch {
	case state == "device" && second:
		return Seen{}, false // the device is shown once, by its better way
	case state == "device" && u != nil:
		return h.readiness(transport, u), true
	case state == "device":
		h.meet(transport)
		return starts, isStarting
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

// onNetwork says whether a way to a device goes over the network: the adb server lists such by their addresses.
func onNetwork(transport string) bool {
	_, _, err := net.SplitHostPort(transport)
	return err == nil || strings.Contains(transport, "._adb-tls-")
}

// bestWay gives, under mu, the way by which a device is used that has several: a cable rather than the network.
func (h *Host) bestWay(serial string) (best string) {
	for t, u := range h.known {
		if u.facts.Serial == serial && (best == "" || onNetwork(best) && !onNetwork(t) || onNetwork(best) == onNetwork(t) && t < best) {
			best = t
		}
	}
	return best
}

// ways are, under mu, those by which a device is connected, the one in use first; none where there is one.
func (h *Host) ways(serial string) (all []string) {
	best := h.bestWay(serial)
	for t, u := range h.known {
		if u.facts.Serial == serial && t != best {
			all = append(all, t)
		}
	}
	if len(all) == 0 {
		return nil
	}
	slices.Sort(all)
	return append([]string{best}, all...)
}

// ownSerial gives, under mu, what a device is known by that was just met: the serial that it tells, unless another device, which
// was started at another moment, tells the same.
func (h *Host) ownSerial(transport string, u *unit) string {
	shared := false
	before := h.met[transport].Serial
	if before != u.told && !strings.HasPrefix(before, u.told+"@") {
		before = "" // another device
	}
	for t, o := range h.known {
		if t == transport || o.told != u.told {
			continue
		}
		if o.device.Boot() == u.device.Boot() {
			h.Log.Info("a device is connected in two ways", "device", o.facts.Serial, "ways", []string{t, transport})
			return o.facts.Serial
		}
		shared = true
		if o.facts.Serial == before {
			before = ""
		}
	}
	switch {
	case before != "":
		return before // what it was called when it was there last
	case !shared:
		return u.told
	}
	h.Log.Warn("several devices tell the same serial", "serial", u.told, "way", transport)
	return u.told + "@" + transport
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
