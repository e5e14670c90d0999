package adblab

// Whether devices are fit for work: what they say of it, and how often they are asked.

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/lab"
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
func (k closeLook) pace() time.Duration {
	if k.unfit != "" || k.failed {
		return unfitEvery
	}
	return storageEvery
}

// readiness says whether a device that answers is fit for work.
func (l *Lab) readiness(transport string, u *unit) lab.Device {
	busy := l.busy(u.facts.Serial)
	l.mu.Lock()
	k := l.looks[transport]
	passed, asked := l.toPass[u.facts.Serial]
	due := !busy && !k.asking && (asked && !passed || time.Since(k.at) > k.pace())
	if due {
		k.asking = true
		l.looks[transport] = k
	}
	seen := lab.Device{Facts: u.facts, State: devices.Ready}
	seen.Facts.Limits, seen.Facts.Ways = u.device.Limits(), l.ways(u.facts.Serial)
	switch {
	case k.unfit != "" && !busy:
		seen.State, seen.Why = devices.Unusable, k.unfit
	case !k.at.IsZero() && k.freeMB < leastFreeMB:
		seen.State, seen.Why = devices.Unusable, fmt.Sprintf("its storage is nearly full (%d MB free): remove apps or files from it", k.freeMB)
	}
	if passed && seen.State == devices.Ready {
		seen.Checked = true
		delete(l.toPass, u.facts.Serial)
	}
	l.mu.Unlock()
	if due {
		l.beside(time.Minute, func(ctx context.Context) error {
			l.lookCloser(ctx, transport, u)
			return errNoNews // the next look tells
		})
	}
	return seen
}

var errNoNews = errors.New("nothing has to be told at once")

// Unfit implements lab.Lab.
func (l *Lab) Unfit(serial string, no *phone.Refused) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for t, u := range l.units {
		if u.facts.Serial == serial {
			l.looks[t] = closeLook{at: time.Now(), freeMB: max(l.looks[t].freeMB, leastFreeMB), unfit: whyUnfit(no)}
		}
	}
}

// whyUnfit says why a device can't be tested, with the remedy.
func whyUnfit(no *phone.Refused) string { return no.Why + ": " + no.Remedy }

// Check implements lab.Lab.
func (l *Lab) Check(serials []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range serials {
		if _, known := l.toPass[s]; !known {
			l.toPass[s] = false
		}
	}
}

// lookCloser asks a device for its storage and whether it can be tested, and where a check is asked for, whether
// it shows its screen and gives the tree of it.
func (l *Lab) lookCloser(ctx context.Context, transport string, u *unit) {
	free, err := u.device.FreeMB(ctx)
	var unfit *phone.Refused
	if err == nil {
		unfit, err = u.device.Fit(ctx)
	}
	if err == nil {
		err = u.device.UndoLeft(ctx)
	}
	l.mu.Lock()
	_, asked := l.toPass[u.facts.Serial]
	l.mu.Unlock()
	if err == nil && asked && unfit == nil {
		if _, err = u.device.Tree(ctx); err == nil {
			_, err = u.device.Screenshot(ctx)
		}
	}
	if err != nil && ctx.Err() == nil {
		l.Log.Warn("a device does not pass its check", "device", u.facts.Serial, "err", err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.units[transport] != u { // it was lost meanwhile: what it said then holds no more
		return
	}
	k := closeLook{at: time.Now(), freeMB: free}
	if unfit != nil {
		k.unfit = whyUnfit(unfit)
	}
	if err != nil {
		k.failed, k.freeMB = true, leastFreeMB // what it did not say is not held against it
	}
	l.looks[transport] = k
	if asked && err == nil && unfit == nil && free >= leastFreeMB {
		l.toPass[u.facts.Serial] = true
	}
}

// LookAgain implements lab.Lab.
func (l *Lab) LookAgain(serial string) {
	l.mu.Lock()
	for t, u := range l.units {
		if u.facts.Serial == serial {
			k := l.looks[t]
			k.at = time.Time{}
			l.looks[t] = k
		}
	}
	ctx, look := l.ctx, l.look
	l.mu.Unlock()
	look(ctx)
}
