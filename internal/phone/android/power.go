package android

// The screen that goes off, the lock before it, and whether the device can be tested at all.

import (
	"context"
	"regexp"
	"strings"
	"time"

	"tessellant/internal/phone"
)

var (
	lockForm   = regexp.MustCompile(`(?m)^\s*(?:showing|mIsShowing)=(true|false)`)
	oldLock    = regexp.MustCompile(`mShowingLockscreen=(true|false)`)
	secureForm = regexp.MustCompile(`(?m)^\s*secure=(true|false)`)
)

// readLock reads from `dumpsys window policy` whether a lock is before the screen, and whether it has a secret. Before
// Android 6 nothing says the second: a lock that can't be put away has one.
func readLock(out string) (shown, secure bool) {
	if m := oldLock.FindStringSubmatch(out); m != nil && m[1] == "true" {
		return true, true
	}
	if m := lockForm.FindStringSubmatch(out); m != nil {
		shown = m[1] == "true"
	}
	if m := secureForm.FindStringSubmatch(out); m != nil {
		secure = m[1] == "true"
	}
	return shown, secure
}

func (d *Device) lock(ctx context.Context) (shown, secure bool, err error) {
	a, err := d.shell(ctx, "say whether it is locked", "dumpsys window policy", quick)
	shown, secure = readLock(string(a.out))
	return shown, secure, err
}

func locked(doing string) *phone.Refused {
	return &phone.Refused{Doing: doing, Code: "locked", Why: "its screen is locked by a PIN, a pattern or a password",
		Remedy: "unlock it, and take the secret away: Settings, Security, Screen lock: None or Swipe"}
}

// Wake switches the screen on, and puts a lock screen away that has no secret.
func (d *Device) Wake(ctx context.Context) error {
	const doing = "wake up"
	dismiss := "wm dismiss-keyguard"
	if d.api < 23 {
		dismiss = "input keyevent KEYCODE_MENU"
	}
	for try := range 6 {
		line := "input keyevent KEYCODE_WAKEUP; dumpsys window policy"
		if try > 0 {
			line = dismiss + "; dumpsys window policy"
		}
		a, err := d.shell(ctx, doing, line, quick)
		if err != nil {
			return err
		}
		if err := injected(doing, a); err != nil {
			d.gate(gateInject)
			return err
		}
		shown, secure := readLock(string(a.out))
		if !shown {
			return nil
		}
		if secure && d.api >= 23 {
			return locked(doing)
		}
		if try > 1 {
			if err := phone.Pause(ctx, 200*time.Millisecond); err != nil {
				return d.failed(ctx, doing, err)
			}
		}
	}
	return locked(doing)
}

// awake says whether the screen is on, as far as the device says.
func (d *Device) awake(ctx context.Context) (bool, error) {
	a, err := d.shell(ctx, "say whether its screen is on", "dumpsys power", quick)
	return !strings.Contains(string(a.out), "mWakefulness=Asleep") && !strings.Contains(string(a.out), "mWakefulness=Dozing"), err
}

// Fit says why the device can't be tested, and what a person can do about it; nil: it can. It changes nothing on the device.
func (d *Device) Fit(ctx context.Context) (*phone.Refused, error) {
	const doing = "be tested"
	// A key that means nothing: whether keys are let in at all.
	a, err := d.shell(ctx, "say whether it can be tested", "input keyevent KEYCODE_UNKNOWN; dumpsys window policy", quick)
	if err != nil {
		return nil, err
	}
	if err := injected(doing, a); err != nil {
		d.gate(gateInject)
		return err, nil
	}
	if shown, secure := readLock(string(a.out)); shown && secure && d.api >= 23 {
		return locked(doing), nil
	}
	return nil, nil
}

// injected gives the refusal of a device that does not let the shell touch and type.
func injected(doing string, a answer) *phone.Refused {
	if !strings.Contains(a.text(), "INJECT_EVENTS") {
		return nil
	}
	return &phone.Refused{Doing: doing, Code: "forbidden", Why: "its maker does not let the shell touch and type", Remedy: gates[gateInject].remedy}
}
