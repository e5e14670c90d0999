package adb

// Fingers that do more than a tap or a straight move.
//
// One finger goes by `input motionevent`, which newer systems have. Several, and one on older systems, go
// to the touch screen itself: its events are those of Linux's multi-touch protocol B
// (kernel.org, Documentation/input/multi-touch-protocol.rst), written with sendevent. Which device
// the touch screen is, and how finely it counts, `getevent -p` says. Some makers do not let the shell write there.

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/uitree"
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
			line = append(line, fmt.Sprintf("sleep %.3f", wait.Seconds()))
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
	a, err := d.shell(ctx, doing, "getevent -p", quick)
	if err != nil {
		return err
	}
	p, ok := readPanel(string(a.out))
	if !ok {
		return &phone.Refused{Doing: doing, Why: "it does not say which of its inputs is the touch screen: " + clip(a.text()), Remedy: "use one finger"}
	}
	f, err := d.Facts(ctx)
	if err != nil {
		return err
	}
	s, err := d.Tree(ctx) // it says how the screen is turned
	if err != nil {
		return err
	}
	line, took := p.events(strokes, f.Width, f.Height, s)
	if a, err = d.shell(ctx, doing, line, quick+took); err != nil {
		return err
	}
	if a.code != 0 || a.text() != "" { // sendevent is silent when it can
		return &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "this device does not let tests write to its touch screen: use one finger"}
	}
	return nil
}

// events is the shell line that plays strokes, and how long it takes. Width and height are those of the upright screen.
func (p panel) events(strokes []phone.Stroke, width, height int, s *uitree.Screen) (line string, took time.Duration) {
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
	var out []string
	send := func(kind, code, value int) {
		out = append(out, fmt.Sprintf("sendevent %s %d %d %d", p.device, kind, code, value))
	}
	down := 0
	at := moments[0]
	sent := make([][2]int, len(strokes)) // the place of each finger that was told last
	for _, now := range moments {
		if now > at {
			out = append(out, fmt.Sprintf("sleep %.3f", (now-at).Seconds()))
			at = now
		}
		told := len(out)
		for slot, st := range strokes {
			first, last := st[0].At, st[len(st)-1].At
			if now < first || now > last {
				continue
			}
			x, y := along(st, now)
			x, y = upright(x, y, width, height, s.Rotation)
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
		if len(out) > told {
			send(0, 0, 0) // SYN_REPORT
		}
		// A finger lifts where it came to: that was told in a report of its own.
		told = len(out)
		for slot, st := range strokes {
			if now == st[len(st)-1].At {
				send(3, 0x2f, slot)
				send(3, 0x39, -1)
				if down--; down == 0 {
					send(1, 0x14a, 0)
				}
			}
		}
		if len(out) > told {
			send(0, 0, 0)
		}
	}
	return strings.Join(out, " && "), at - moments[0]
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
