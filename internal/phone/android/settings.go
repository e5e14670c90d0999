package android

// The settings that a test changes for a while, and how they are put back.
//
// Some are changed for a whole attempt (Settle, put back by Unsettle), others by a case (put back by Restore). What puts each
// back is written into a file on the device before it is changed, so that the next process can do it when this one is killed.

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/phone"
)

// setting is how one stood before it was changed.
type setting struct {
	restore       string
	app, language string // of an app's language: what it was
}

const journal = "/data/local/tmp/tessellant-back"

// backForm are the lines that the journal may hold: a hostile file there must not run anything else.
var backForm = regexp.MustCompile(`^(` + strings.Join([]string{
	`settings put (system|secure|global) [a-z_]+ '[\w./:, -]*'`, `settings delete (system|secure|global) [a-z_]+`, `cmd uimode night '[a-z_]+'`, `ime set '[\w./$-]+'`,
	`wm density (reset|\d{1,4})`, `(svc (wifi|data|bluetooth)|cmd bluetooth_manager|cmd connectivity airplane-mode) (enable|disable)`, `cmd alarm set-timezone '[\w/+-]+'`,
	`cmd location set-location-enabled (true|false)`, `cmd location providers remove-test-provider gps`, `dumpsys battery reset`,
	`cmd locale set-app-locales '[\w.]+' --user \d+ --locales '[\w,-]*'`}, "|") + `)$`)

// value reads what `settings get` says, from its last line: linkers of some makers warn before.
func value(out string) string {
	lines := strings.Split(strings.TrimSpace(out), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// change changes a setting of Android's tables, and gives what puts it back; nil: it stands so already.
func (d *Device) change(ctx context.Context, doing, table, name, to string) (*setting, error) {
	a, err := d.shell(ctx, doing, "settings get "+table+" "+name, quick)
	if err != nil {
		return nil, err
	}
	before := value(string(a.out))
	if before == to {
		return nil, nil
	}
	back := setting{restore: fmt.Sprintf("settings put %s %s %s", table, name, quote(before))}
	if before == "null" || before == "" { // it has never been set
		back.restore = fmt.Sprintf("settings delete %s %s", table, name)
	}
	return &back, d.changing(ctx, doing, []setting{back}, fmt.Sprintf("settings put %s %s %s", table, name, quote(to)))
}

// changing notes on the device how to put back, and then changes.
func (d *Device) changing(ctx context.Context, doing string, back []setting, line string) error {
	note := ""
	for _, b := range back {
		if backForm.MatchString(b.restore) {
			note += "echo " + quote(b.restore) + " >>" + journal + "; "
		}
	}
	d.mu.Lock()
	d.noted = d.noted || note != ""
	d.mu.Unlock()
	a, err := d.shell(ctx, doing, note+line, quick)
	if err == nil && strings.Contains(a.text(), "Exception") {
		err = &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "allow changing settings over USB in the developer options"}
	}
	return err
}

// put changes a setting until Restore; whole: until Unsettle.
func (d *Device) put(ctx context.Context, doing, table, name, to string, whole bool) error {
	back, err := d.change(ctx, doing, table, name, to)
	if err == nil && back != nil {
		d.mu.Lock()
		defer d.mu.Unlock()
		if whole {
			d.settled = append(d.settled, *back)
		} else {
			d.changed = append(d.changed, *back)
		}
	}
	return err
}

// Rotate turns the screen. Android counts quarter turns from how the device is held by nature,
// which for some tablets is landscape.
func (d *Device) Rotate(ctx context.Context, landscape bool) error {
	return d.turn(ctx, landscape, false)
}

func (d *Device) turn(ctx context.Context, landscape, whole bool) error {
	const doing = "turn its screen"
	a, err := d.shell(ctx, doing, "wm size", quick)
	if err != nil {
		return err
	}
	w, h := readSize(string(a.out))
	turn := "0"
	if landscape != (w > h) {
		turn = "1"
	}
	if err := d.put(ctx, doing, "system", "accelerometer_rotation", "0", whole); err != nil {
		return err
	}
	if err := d.put(ctx, doing, "system", "user_rotation", turn, whole); err != nil {
		return err
	}
	// The tree says how the screen is turned once it is.
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); {
		s, err := d.Tree(ctx)
		if err == nil && strconv.Itoa(s.Rotation%2) == turn {
			return nil
		}
		if err := phone.Pause(ctx, 100*time.Millisecond); err != nil {
			return d.failed(ctx, doing, err)
		}
	}
	return nil // an app may hold the screen one way; what follows will show
}

// settledTo are the settings that must not move by themselves while a test runs, and what each is to be.
var settledTo = []struct{ table, name, to string }{
	{"system", "accelerometer_rotation", "0"},
	{"system", "user_rotation", "0"},
	{"system", "screen_off_timeout", "1800000"},      // ms: half an hour; the longest that all systems take
	{"global", "stay_on_while_plugged_in", "7"},      // AC 1, USB 2, wireless 4
	{"secure", "default_input_method", "any.Latin/"}, // see latin
}

// Settle holds still what must not move by itself while a test runs: the screen stays on, as the
// device is held by nature, and its keyboard takes Latin letters. What an earlier process left behind is put back first. A device
// whose maker forbids that is noted as one.
func (d *Device) Settle(ctx context.Context) error {
	d.settling.Lock()
	defer d.settling.Unlock()
	return d.settle(ctx, true)
}

func (d *Device) settle(ctx context.Context, first bool) error {
	const doing = "hold its screen still"
	read := "cat " + journal + " 2>/dev/null; echo ---"
	for _, s := range settledTo {
		read += "; settings get " + s.table + " " + s.name + "; echo ---"
	}
	read += "; ime list -s"
	a, err := d.shell(ctx, doing, read, quick)
	if err != nil {
		return err
	}
	parts := strings.Split(strings.ReplaceAll(string(a.out), "\r\n", "\n"), "---\n")
	if len(parts) != len(settledTo)+2 {
		return &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "allow changing settings over USB in the developer options"}
	}
	if left := strings.TrimSpace(parts[0]); left != "" && first {
		if err := d.undo(ctx, strings.Split(left, "\n")); err != nil {
			return err
		}
		return d.settle(ctx, false)
	}
	var back []setting
	var lines []string
	for i, s := range settledTo {
		before := value(parts[i+1])
		to := s.to
		set := fmt.Sprintf("settings put %s %s %s", s.table, s.name, to)
		undo := fmt.Sprintf("settings put %s %s %s", s.table, s.name, quote(before))
		switch {
		case s.name == "default_input_method":
			if to = latin(before, parts[len(parts)-1]); to == "" {
				continue
			}
			set, undo = "ime set "+quote(to), "ime set "+quote(before)
		case before == to, s.name == "user_rotation" && before == "null":
			continue
		case s.name == "screen_off_timeout":
			if ms, err := strconv.Atoi(before); err == nil && ms > 1_800_000 {
				continue
			}
		}
		if before == "null" || before == "" {
			undo = fmt.Sprintf("settings delete %s %s", s.table, s.name)
		}
		if !backForm.MatchString(undo) {
			continue // what can't be put back stays
		}
		back, lines = append(back, setting{restore: undo}), append(lines, set)
	}
	if len(lines) == 0 {
		return nil
	}
	err = d.changing(ctx, doing, back, strings.Join(lines, "; "))
	var refused *phone.Refused
	if errors.As(err, &refused) { // tests can go on without
		d.gate(gateChange)
		return nil
	}
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.settled = append(d.settled, back...)
	return nil
}

// latin gives the keyboard to choose where the one in use may compose other signs from Latin letters: the open-source system's,
// and that of the same name that comes with most devices. Empty: none need be chosen, or none is there.
func latin(inUse, all string) string {
	const ours = "inputmethod.latin"
	if strings.Contains(inUse, ours) {
		return ""
	}
	for _, id := range strings.Fields(all) {
		if strings.Contains(id, ours) {
			return id
		}
	}
	return ""
}

// undo undoes lines, the last first, and forgets them.
func (d *Device) undo(ctx context.Context, lines []string) error {
	var do []string
	for _, l := range slices.Backward(lines) {
		if l = strings.TrimSpace(l); backForm.MatchString(l) {
			do = append(do, l)
		}
	}
	if len(do) > 0 {
		if _, err := d.shell(ctx, "put its settings back", strings.Join(do, "; "), quick); err != nil {
			return err
		}
		slices.Reverse(do) // what was changed first was put back last, and counts
		if err := d.undone(ctx, do); err != nil {
			return err
		}
	}
	_, err := d.shell(ctx, "put its settings back", "rm -f "+journal, quick)
	return err
}

// Unsettle puts everything back that was changed: by Settle, what a case left, and what is noted on the device by a process before.
func (d *Device) Unsettle(ctx context.Context) error {
	d.settling.Lock()
	defer d.settling.Unlock()
	d.unproxy(ctx)
	d.mu.Lock()
	var lines []string
	for _, s := range append(slices.Clone(d.settled), d.changed...) {
		lines = append(lines, s.restore)
	}
	noted := d.noted
	d.mu.Unlock()
	if len(lines) == 0 && !noted {
		return d.undoLeft(ctx)
	}
	if err := d.undo(ctx, lines); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.settled, d.changed, d.noted, d.languages, d.keyboard = nil, nil, false, nil, false
	return nil
}

// UndoLeft puts back what is noted on the device by who did not come to do it: a process that was killed, or work that lost the device. What is
// held now stays.
func (d *Device) UndoLeft(ctx context.Context) error {
	d.settling.Lock()
	defer d.settling.Unlock()
	d.mu.Lock()
	held := d.noted || len(d.settled)+len(d.changed) > 0
	d.mu.Unlock()
	if held {
		return nil
	}
	return d.undoLeft(ctx)
}

func (d *Device) undoLeft(ctx context.Context) error {
	a, err := d.shell(ctx, "say what is to be put back", "cat "+journal+" 2>/dev/null", quick)
	if left := strings.TrimSpace(string(a.out)); err == nil && left != "" {
		err = d.undo(ctx, strings.Split(left, "\n"))
	}
	return err
}

// Dark switches the dark mode.
func (d *Device) Dark(ctx context.Context, on bool) error {
	if d.api < 29 {
		return &phone.Refused{Doing: "switch its dark mode", Why: "it has none", Remedy: "Android 10 and later can"}
	}
	return d.Condition(ctx, "", conditions.Set{conditions.Dark: map[bool]string{true: conditions.On, false: conditions.Off}[on]}, false)
}

// Restore puts back what was changed since the last time, the last change first. What Settle holds stays so.
func (d *Device) Restore(ctx context.Context) error {
	d.mu.Lock()
	var lines []string
	for _, s := range slices.Backward(d.changed) {
		lines = append(lines, s.restore)
	}
	n := len(d.changed)
	last := len(d.settled) == 0
	d.mu.Unlock()
	if n == 0 {
		return nil
	}
	if last {
		lines = append(lines, "rm -f "+journal)
	}
	_, err := d.shell(ctx, "put its settings back", strings.Join(lines, "; "), quick)
	if err == nil {
		d.mu.Lock()
		for _, s := range slices.Backward(d.changed[:n]) {
			if s.app != "" {
				d.languages[s.app] = s.language
			}
		}
		d.changed = d.changed[n:]
		d.noted = d.noted && !last
		d.mu.Unlock()
	}
	return err
}
