package adb

// The settings that a test changes for a while.

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/phone"
)

// setting is how one stood before it was changed.
type setting struct{ restore string }

// put changes a setting of Android's tables, and remembers how it stood.
func (d *Device) put(ctx context.Context, doing, table, name, value string) error {
	a, err := d.shell(ctx, doing, "settings get "+table+" "+name, quick)
	if err != nil {
		return err
	}
	before := a.text()
	if before == value {
		return nil
	}
	back := fmt.Sprintf("settings put %s %s %s", table, name, quote(before))
	if before == "null" || before == "" { // it has never been set
		back = fmt.Sprintf("settings delete %s %s", table, name)
	}
	if a, err = d.shell(ctx, doing, fmt.Sprintf("settings put %s %s %s", table, name, quote(value)), quick); err != nil {
		return err
	}
	if a.code != 0 || strings.Contains(a.text(), "Exception") {
		return &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "allow changing settings over USB in the developer options"}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.changed = append(d.changed, setting{back})
	return nil
}

// Rotate turns the screen. Android counts quarter turns from how the device is held by nature,
// which for some tablets is landscape.
func (d *Device) Rotate(ctx context.Context, landscape bool) error {
	const doing = "turn its screen"
	a, err := d.shell(ctx, doing, "wm size", quick)
	if err != nil {
		return err
	}
	w, h := 0, 1
	for _, m := range sizeForm.FindAllStringSubmatch(string(a.out), -1) {
		_, _ = fmt.Sscan(m[2], &w)
		_, _ = fmt.Sscan(m[3], &h)
	}
	turn := "0"
	if landscape != (w > h) {
		turn = "1"
	}
	if err := d.put(ctx, doing, "system", "accelerometer_rotation", "0"); err != nil {
		return err
	}
	if err := d.put(ctx, doing, "system", "user_rotation", turn); err != nil {
		return err
	}
	// The tree says how the screen is turned once it is.
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); {
		s, err := d.Tree(ctx)
		if err == nil && strconv.Itoa(s.Rotation%2) == turn {
			return nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return d.failed(ctx, doing, ctx.Err())
		}
	}
	return nil // an app may hold the screen one way; what follows will show
}

// Settle sets what must not move by itself while a test runs: the screen stays as the
// device is held by nature, and does not turn.
func (d *Device) Settle(ctx context.Context) error {
	a, err := d.shell(ctx, "hold its screen still", "settings get system accelerometer_rotation; settings get system user_rotation", quick)
	if err != nil {
		return err
	}
	if f := strings.Fields(a.text()); len(f) == 2 && f[0] == "0" && (f[1] == "0" || f[1] == "null") {
		return nil
	}
	d.mu.Lock()
	d.changed = append(d.changed, setting{"settings put system accelerometer_rotation 1"})
	d.mu.Unlock()
	_, err = d.shell(ctx, "hold its screen still", "settings put system accelerometer_rotation 0; settings put system user_rotation 0", quick)
	return err
}

// Dark switches the dark mode.
func (d *Device) Dark(ctx context.Context, on bool) error {
	const doing = "switch its dark mode"
	word := map[bool]string{true: "yes", false: "no"}
	a, err := d.shell(ctx, doing, "cmd uimode night", quick)
	if err != nil {
		return err
	}
	_, before, ok := strings.Cut(a.text(), "Night mode: ")
	if !ok {
		return &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "Android 10 and later can"}
	}
	if before == word[on] {
		return nil
	}
	if _, err = d.shell(ctx, doing, "cmd uimode night "+word[on], quick); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.changed = append(d.changed, setting{"cmd uimode night " + quote(before)})
	return nil
}

// Restore puts settings back, the last change first.
func (d *Device) Restore(ctx context.Context) error {
	d.mu.Lock()
	var lines []string
	for i := len(d.changed) - 1; i >= 0; i-- {
		lines = append(lines, d.changed[i].restore)
	}
	d.mu.Unlock()
	if len(lines) == 0 {
		return nil
	}
	_, err := d.shell(ctx, "put its settings back", strings.Join(lines, "; "), quick)
	if err == nil {
		d.mu.Lock()
		d.changed = d.changed[len(lines):]
		d.mu.Unlock()
	}
	return err
}
