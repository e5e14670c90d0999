package android

// A device is set as a test wants it, and says so afterwards.
//
// All that is wanted is read first (knobs.go), then set with one line, and then read again until the device says what was wanted: a system may
// take its time, and some say yes and do nothing. How each is put back is in the journal on the device before it is changed (settings.go).

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/phone"
)

// turnsIn is how long a device may take until it says that it is set so.
const turnsIn = 6 * time.Second

// Condition implements phone.Conditioner.
func (d *Device) Condition(ctx context.Context, app string, set conditions.Set, whole bool) error {
	doing := "be set to " + set.String()
	names := slices.DeleteFunc(set.Sorted(), func(n string) bool { return n == conditions.Orientation })
	d.mu.Lock()
	known := d.factual
	d.mu.Unlock()
	if !known {
		if _, err := d.Facts(ctx); err != nil {
			return err
		}
	}
	if err := d.cutsOff(set, doing); err != nil {
		return err
	}
	knobs, reads := make([]knob, len(names)), make([]string, len(names))
	for i, n := range names {
		knobs[i] = d.knob(n, set[n], app)
		reads[i] = knobs[i].read
	}
	before, err := d.readAll(ctx, doing, reads)
	if err != nil {
		return err
	}
	var back []setting
	var lines []string
	for i, k := range knobs {
		now := k.says(before[i])
		switch {
		case now == set[names[i]]:
			continue
		case now == "":
			return &phone.Refused{Doing: "be set to " + one(set, names[i]), Why: "it does not say how it stands: " + clip(before[i]), Remedy: "leave the device out, or run without this condition"}
		}
		for _, line := range slices.Backward(k.back(before[i])) { // the last is undone first
			back = append(back, setting{restore: line})
		}
		if names[i] == conditions.Language {
			d.mu.Lock()
			back[len(back)-1].app, back[len(back)-1].language = app, d.languages[app]
			d.mu.Unlock()
		}
		lines = append(lines, k.set(before[i]))
		if names[i] == conditions.Language {
			d.speaks(app, set[names[i]])
		}
	}
	if len(lines) > 0 {
		for _, b := range back {
			if !backForm.MatchString(b.restore) { // what can't be put back stays
				return &phone.Refused{Doing: doing, Why: "how it stands now can't be put back with: " + clip(b.restore), Remedy: "set the device by hand, or leave it out"}
			}
		}
		d.mu.Lock() // also where the lines fail half way
		if whole {
			d.settled = append(d.settled, back...)
		} else {
			d.changed = append(d.changed, back...)
		}
		d.mu.Unlock()
		if err := d.changing(ctx, doing, back, strings.Join(lines, "; ")); err != nil {
			return err
		}
		err := d.stands(ctx, doing, reads, func(i int, out string) bool { return knobs[i].says(out) == set[names[i]] }, func(i int, out string) *phone.Refused {
			return &phone.Refused{Doing: "be set to " + one(set, names[i]), Why: fmt.Sprintf("afterwards it says %q", clip(out)), Remedy: "set the device by hand, or leave it out"}
		})
		if err != nil {
			return err
		}
	}
	if to, ok := set[conditions.Orientation]; ok {
		return d.turn(ctx, to == "landscape", whole)
	}
	return nil
}

// one is a set of one of its conditions.
func one(set conditions.Set, name string) string { return conditions.Set{name: set[name]}.String() }

// cutsOff says that a condition would cut off a device that is reached over the network.
func (d *Device) cutsOff(set conditions.Set, doing string) error {
	d.mu.Lock()
	standsIn := d.standsIn
	d.mu.Unlock()
	if !strings.Contains(d.transport, ":") || standsIn {
		return nil
	}
	if set[conditions.WiFi] == conditions.Off || set[conditions.AirplaneMode] == conditions.On {
		return &phone.Refused{Doing: doing, Why: "it is reached over the network, which that would cut", Remedy: "connect it with a cable"}
	}
	return nil
}

// readAll runs lines that say how something stands, at once.
func (d *Device) readAll(ctx context.Context, doing string, reads []string) ([]string, error) {
	if len(reads) == 0 {
		return nil, nil
	}
	const mark = "-- tessellant reads on --"
	line := ""
	for _, read := range reads {
		if line += read; strings.HasPrefix(read, "cmd ") { // they say there why not; of others only warnings come there
			line += " 2>&1"
		}
		line += "; echo; echo '" + mark + "'; "
	}
	a, err := d.shell(ctx, doing, line, quick)
	if err != nil {
		return nil, err
	}
	parts := strings.Split(strings.ReplaceAll(string(a.out), "\r\n", "\n"), "\n"+mark+"\n")
	if len(parts) != len(reads)+1 {
		return nil, &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "allow changing settings over USB in the developer options"}
	}
	return parts[:len(reads)], nil
}

// stands waits until all lines say what is wanted, by their numbers. Refused says what does not.
func (d *Device) stands(ctx context.Context, doing string, reads []string, wanted func(i int, out string) bool, refused func(i int, out string) *phone.Refused) error {
	for end := time.Now().Add(turnsIn); ; {
		out, err := d.readAll(ctx, doing, reads)
		if err != nil {
			return err
		}
		i := 0
		for i < len(reads) && wanted(i, out[i]) {
			i++
		}
		if i == len(reads) {
			return nil
		}
		if time.Now().After(end) {
			return refused(i, out[i])
		}
		if err := phone.Pause(ctx, 150*time.Millisecond); err != nil {
			return d.failed(ctx, doing, err)
		}
	}
}

// speaks remembers an app's language: clearing an app may take it away. "": none.
func (d *Device) speaks(app, language string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.languages == nil {
		d.languages = map[string]string{}
	}
	d.languages[app] = language
	if language == "" {
		delete(d.languages, app)
	}
}

// speakAgain gives an app that was cleared its language again.
func (d *Device) speakAgain(ctx context.Context, app string) error {
	d.mu.Lock()
	language := d.languages[app]
	d.mu.Unlock()
	if language == "" {
		return nil
	}
	_, err := d.shell(ctx, "set the app's language again", d.setLanguage(app, language), quick)
	return err
}

func (d *Device) setLanguage(app, language string) string {
	return fmt.Sprintf("cmd locale set-app-locales %s --user %s --locales %s", quote(app), d.userNumber(), quote(language))
}

func (d *Device) userNumber() string {
	if d.user == "" {
		return "0"
	}
	return d.user
}
