package android

// Fingers that do more than a tap or a straight move.
//
// One finger goes by `input motionevent`, which newer systems have. Several, and one on older systems, go
// to the touch screen itself: its events are those of Linux's multi-touch protocol B
// (kernel.org, Documentation/input/multi-touch-protocol.rst), written with sendevent. Which device
// the touch screen is, and how finely it counts, `getevent -p` says. Some makers do not let the shell write there.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/phone"
)

// motionSince is the API level from which `input motionevent` is there.
const motionSince = 30

// tapTakes is how long a finger is down that is to be lifted at once.
const tapTakes = 40 * time.Millisecond

// frameEvery is how often a moving finger's place is told.
const frameEvery = 40 * time.Millisecond

var _ phone.Fingers = (*Device)(nil)

// Touch implements phone.Fingers.
func (d *Device) Touch(ctx context.Context, strokes []phone.Stroke) error {
	if len(strokes) == 1 && d.api >= motionSince {
		return d.motion(ctx, strokes[0])
	}
	return d.multiTouch(ctx, strokes)
}

func (d *Device) motion(ctx context.Context, s phone.Stroke) error {
	var line []string
	at := s[0].At
	for i, c := range s {
		if wait := c.At - at; wait > 0 {
			line = append(line, d.sleep(wait))
			at = c.At
		}
		verb := "MOVE"
		switch i {
		case 0:
			verb = "DOWN"
		case len(s) - 1:
			verb = "UP"
		}
		line = append(line, fmt.Sprintf("input motionevent %s %d %d", verb, c.X, c.Y))
	}
	const doing = "move a finger"
	a, err := d.shell(ctx, doing, strings.Join(line, " && "), quick+at)
	if err == nil && (a.code != 0 || strings.Contains(a.text(), "Exception")) {
		err = &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "see whether the device allows input over USB (its developer options)"}
	}
	return err
}

// panel is a touch screen.
type panel struct {
	device     string // /dev/input/event2
	maxX, maxY int
	pressure   bool
}

var (
	deviceForm = regexp.MustCompile(`add device \d+: (\S+)`)
	axisForm   = regexp.MustCompile(`^\s*(?:ABS \(0003\):\s*)?([0-9a-f]{4})\s*:\s*value -?\d+, min -?\d+, max (\d+)`)
)

// readPanel finds the touch screen in what `getevent -p` says: the device that tells where fingers are on
// both axes (ABS_MT_POSITION_X 0x35, _Y 0x36), and lies directly on the screen.
func readPanel(out string) (panel, bool) {
	for _, block := range strings.Split(out, "add device ")[1:] {
		m := deviceForm.FindStringSubmatch("add device " + block)
		if m == nil {
			continue
		}
		p := panel{device: m[1]}
		for _, line := range strings.Split(block, "\n") {
			a := axisForm.FindStringSubmatch(line)
			if a == nil {
				continue
			}
			n, _ := strconv.Atoi(a[2])
			switch a[1] {
			case "0035":
				p.maxX = n
			case "0036":
				p.maxY = n
			case "003a":
				p.pressure = true
			}
		}
		if p.maxX > 0 && p.maxY > 0 && !strings.Contains(block, "INPUT_PROP_POINTER") {
			return p, true
		}
	}
	return panel{}, false
}

func (d *Device) multiTouch(ctx context.Context, strokes []phone.Stroke) error {
	const doing = "move several fingers"
	f, err := d.Facts(ctx)
	if err != nil {
		return err
	}
	s, err := d.Tree(ctx) // it says how the screen is turned
	var restless *phone.Restless
	if errors.As(err, &restless) && restless.Last != nil {
		s, err = restless.Last, nil
	}
	if err != nil {
		return err
	}
	a, err := d.shell(ctx, doing, "getevent -p", quick)
	if err != nil {
		return err
	}
	if p, ok := readPanel(string(a.out)); ok && !d.closedPanel() {
		line, took := d.sendevents(p, p.frames(strokes, f.Width, f.Height, s.Rotation))
		if a, err = d.shell(ctx, doing, line, quick+took); err != nil {
			return err
		}
		if a.code == 0 && a.text() == "" { // sendevent is silent when it can
			return nil
		}
	}
	if d.api < uinputSince {
		if len(strokes) == 1 && straight(strokes[0]) {
			first, last := strokes[0][0], strokes[0][len(strokes[0])-1]
			return d.Swipe(ctx, first.X, first.Y, last.X, last.Y, max(last.At-first.At, tapTakes))
		}
		return &phone.Refused{Doing: doing, Why: "it does not let tests write to its touch screen: " + clip(a.text()), Remedy: "use one finger, or a device with Android 12 or later"}
	}
	d.mu.Lock()
	d.panelClosed = true
	d.mu.Unlock()
	return d.ownPanel(ctx, doing, strokes, f.Width, f.Height, s.Rotation)
}

func (d *Device) closedPanel() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.panelClosed
}

// uinputSince is the API level from which the shell can make an input device of its own.
const uinputSince = 31

// panelObject makes a touch screen that counts as the upright screen does.
func panelObject(width, height int) map[string]any {
	type object = map[string]any
	axis := func(code, most int) object {
		return object{"code": code, "info": object{"value": 0, "minimum": 0, "maximum": most, "fuzz": 0, "flat": 0, "resolution": 0}}
	}
	const setEvBit, setKeyBit, setAbsBit, setPropBit = 100, 101, 103, 110
	return object{"id": 1, "command": "register", "name": "Tessellant fingers", "vid": 0, "pid": 0, "bus": "usb",
		"configuration": []object{{"type": setEvBit, "data": []int{1, 3}}, {"type": setKeyBit, "data": []int{0x14a}}, {"type": setAbsBit, "data": []int{0x2f, 0x35, 0x36, 0x39}}, {"type": setPropBit, "data": []int{1}}},
		"abs_info":      []object{axis(0x2f, maxFingers-1), axis(0x35, width-1), axis(0x36, height-1), axis(0x39, 65535)}}
}

// ownPanel plays strokes on a touch screen that is made for them (uinput: frameworks/base/cmds/uinput/README.md of the Android
// Open Source Project), where the shell may not write to the device's own.
func (d *Device) ownPanel(ctx context.Context, doing string, strokes []phone.Stroke, width, height, rotation int) error {
	p := panel{maxX: width - 1, maxY: height - 1}
	type object = map[string]any
	objects := []object{
		panelObject(width, height),
		{"id": 1, "command": "delay", "duration": panelTakes.Milliseconds()},
	}
	var took time.Duration
	for _, f := range p.frames(strokes, width, height, rotation) {
		if f.wait > 0 {
			objects = append(objects, object{"id": 1, "command": "delay", "duration": f.wait.Milliseconds()})
			took += f.wait
		}
		var events []int
		for _, e := range f.events {
			events = append(events, e[:]...)
		}
		objects = append(objects, object{"id": 1, "command": "inject", "events": events})
	}
	objects = append(objects, object{"id": 1, "command": "delay", "duration": 200})
	var text strings.Builder
	for _, o := range objects {
		raw, err := json.Marshal(o)
		if err != nil {
			return err
		}
		text.Write(append(raw, '\n'))
	}
	a, err := d.shell(ctx, doing, "echo "+quote(text.String())+" | uinput -", quick+took)
	if err == nil && (a.code != 0 || strings.Contains(strings.ToLower(a.text()), "error")) {
		err = &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "this device does not let tests make a touch screen: use one finger"}
	}
	return err
}

// frame is what a touch screen tells at one moment: events of type, code and value.
type frame struct {
	wait   time.Duration // since the last
	events [][3]int
}

// sendevents is the shell line that plays frames, and how long it takes.
func (d *Device) sendevents(p panel, frames []frame) (line string, took time.Duration) {
	var out []string
	for _, f := range frames {
		if f.wait > 0 {
			out = append(out, d.sleep(f.wait))
			took += f.wait
		}
		for _, e := range f.events {
			out = append(out, fmt.Sprintf("sendevent %s %d %d %d", p.device, e[0], e[1], e[2]))
		}
	}
	return strings.Join(out, " && "), took
}

// sleep is the command that waits: before Android 6 sleep knows whole seconds alone.
func (d *Device) sleep(t time.Duration) string {
	if d.api < 23 {
		return fmt.Sprintf("usleep %d", t.Microseconds())
	}
	return fmt.Sprintf("sleep %.3f", t.Seconds())
}

// frames are what the touch screen tells of strokes. Width and height are those of the upright screen, which is turned by so many quarters.
func (p panel) frames(strokes []phone.Stroke, width, height, quarters int) []frame {
	var moments []time.Duration
	strokes = slices.Clone(strokes)
	for i, st := range strokes {
		if end := st[len(st)-1]; end.At == st[0].At { // it lifts as soon as it touches: the screen must see both
			end.At += tapTakes
			st = append(slices.Clone(st), end)
			strokes[i] = st
		}
		for i, c := range st {
			moments = append(moments, c.At)
			if i > 0 {
				for at := st[i-1].At + frameEvery; at < c.At; at += frameEvery {
					moments = append(moments, at)
				}
			}
		}
	}
	slices.Sort(moments)
	moments = slices.Compact(moments)
	var out []frame
	var events [][3]int
	send := func(kind, code, value int) { events = append(events, [3]int{kind, code, value}) }
	down := 0
	at := moments[0]
	sent := make([][2]int, len(strokes)) // the place of each finger that was told last
	for _, now := range moments {
		wait := now - at
		at, events = now, nil
		told := len(events)
		for slot, st := range strokes {
			first, last := st[0].At, st[len(st)-1].At
			if now < first || now > last {
				continue
			}
			x, y := along(st, now)
			x, y = upright(x, y, width, height, quarters)
			place := [2]int{x * (p.maxX + 1) / max(width, 1), y * (p.maxY + 1) / max(height, 1)}
			if now > first && place == sent[slot] {
				continue
			}
			send(3, 0x2f, slot) // ABS_MT_SLOT
			if now == first {
				send(3, 0x39, slot+1) // ABS_MT_TRACKING_ID
				if down++; down == 1 {
					send(1, 0x14a, 1) // BTN_TOUCH
				}
			}
			sent[slot] = place
			send(3, 0x35, place[0])
			send(3, 0x36, place[1])
			if p.pressure {
				send(3, 0x3a, 50)
			}
		}
		if len(events) > told {
			send(0, 0, 0) // SYN_REPORT
		}
		// A finger lifts where it came to: that was told in a report of its own.
		told = len(events)
		for slot, st := range strokes {
			if now == st[len(st)-1].At {
				send(3, 0x2f, slot)
				send(3, 0x39, -1)
				if down--; down == 0 {
					send(1, 0x14a, 0)
				}
			}
		}
		if len(events) > told {
			send(0, 0, 0)
		}
		out = append(out, frame{wait, events})
	}
	return out
}

// straight says whether a finger goes from its first place to its last one as a swipe does, within some pixels.
func straight(s phone.Stroke) bool {
	const near = 8
	whole := phone.Stroke{s[0], s[len(s)-1]}
	for _, c := range s {
		if x, y := along(whole, c.At); max(x-c.X, c.X-x, y-c.Y, c.Y-y) > near {
			return false
		}
	}
	return true
}

// along is where a finger is at a moment.
func along(s phone.Stroke, at time.Duration) (x, y int) {
	for i := 1; i < len(s); i++ {
		a, b := s[i-1], s[i]
		if at > b.At {
			continue
		}
		if b.At == a.At {
			return b.X, b.Y
		}
		part := float64(at-a.At) / float64(b.At-a.At)
		return a.X + int(part*float64(b.X-a.X)), a.Y + int(part*float64(b.Y-a.Y))
	}
	return s[len(s)-1].X, s[len(s)-1].Y
}

// upright turns a place on the screen as it is held into one on the upright screen.
func upright(x, y, width, height, quarters int) (int, int) {
	switch quarters % 4 {
	case 1:
		return width - 1 - y, x
	case 2:
		return width - 1 - x, height - 1 - y
	case 3:
		return y, height - 1 - x
	}
	return x, y
}
