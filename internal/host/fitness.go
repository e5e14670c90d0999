package host

// Whether devices are fit for work: what they say of it, and how often they are asked.

import (
	"context"
	"fmt"
	"time"

	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
)

const (
	// storageEvery is how often an idle device is asked how much storage it has left.
	storageEvery = time.Minute
	// unfitEvery is how often one is that a person has to do something about, or that did not answer.
	unfitEvery = 5 * time.Second
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
func (h *Host) readiness(transport string, u *unit) hostlink.Seen {
	h.mu.Lock()
	defer h.mu.Unlock()
	l := h.looks[transport]
	busy := false
	for _, j := range h.working {
		busy = busy || (j.serial == u.facts.Serial && j.inHand())
	}
	passed, asked := h.toPass[u.facts.Serial]
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
	seen := hostlink.Seen{Facts: u.facts, State: "ready"}
	seen.Facts.Limits, seen.Facts.Ways = u.device.Limits(), h.ways(u.facts.Serial)
	switch {
	case l.unfit != "" && !busy:
		seen.State, seen.Why = "unusable", l.unfit
	case !l.at.IsZero() && l.freeMB < leastFreeMB:
		seen.State, seen.Why = "unusable", fmt.Sprintf("its storage is nearly full (%d MB free): remove apps or files from it", l.freeMB)
	}
	if passed && seen.State == "ready" {
		seen.Checked = true
		delete(h.toPass, u.facts.Serial)
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
		if _, known := h.toPass[s]; !known {
			h.toPass[s] = false
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
	_, asked := h.toPass[u.facts.Serial]
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
		h.toPass[u.facts.Serial] = true
	}
}
