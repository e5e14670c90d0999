package android

// Fingers that move as a person moves theirs: a touch screen of our own stays there as long as the hand does, and is told where the fingers are
// (uinput: frameworks/base/cmds/uinput/README.md of the Android Open Source Project; its events are those of touch.go).

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/phone"
)

const (
	maxFingers = 10
	// panelTakes is how long the system takes to find a touch screen that was made.
	panelTakes = 500 * time.Millisecond
	placeTakes = 5 * time.Second // for a place to be taken from us
)

var _ phone.Touchable = (*Device)(nil)

// hand implements phone.Hand.
type hand struct {
	d             *Device
	c             *adb.Conn
	width, height int // of the upright screen
	ready         time.Time

	mu    sync.Mutex
	slots [maxFingers]touch
	ended error
	next  int // the number that the system tells contacts apart by
}

type touch struct {
	id, x, y int
	down     bool
}

// LayHand implements phone.Touchable.
func (d *Device) LayHand(ctx context.Context) (phone.Hand, error) {
	const doing = "lay a hand on it"
	if d.api < uinputSince || !d.features["shell_v2"] {
		return nil, &phone.Refused{Doing: doing, Why: "it takes fingers while they move from Android 12 on"}
	}
	f, err := d.Facts(ctx)
	if err != nil {
		return nil, err
	}
	c, err := d.server.Open(ctx, d.transport, "shell,v2,TERM=dumb,raw:uinput -")
	if err != nil {
		return nil, d.failed(ctx, doing, err)
	}
	c.Keep()
	h := &hand{d: d, c: c, width: f.Width, height: f.Height, ready: time.Now().Add(panelTakes)}
	go h.listen()
	if err := h.say(panelObject(f.Width, f.Height)); err != nil {
		_ = c.Close()
		return nil, d.failed(ctx, doing, err)
	}
	return h, nil
}

// listen notices when the device lets go of the touch screen; what it says is why.
func (h *hand) listen() {
	var a answer
	for {
		kind, err := a.read(h.c)
		h.mu.Lock()
		switch {
		case err != nil:
			h.end(&phone.Lost{Serial: h.d.serial, Doing: "touch", Err: errCut})
		case kind == packetExit:
			h.end(&phone.Refused{Doing: "touch", Why: clip("it lets tests make no touch screen: " + a.text())})
		}
		ended := h.ended != nil
		h.mu.Unlock()
		if ended {
			_ = h.c.Close()
			return
		}
		if len(a.out)+len(a.err) > maxSaid {
			a = answer{}
		}
	}
}

// end notes, under mu, why there is no hand any more.
func (h *hand) end(why error) {
	if h.ended == nil {
		h.ended = why
	}
}

// say writes one object for uinput.
func (h *hand) say(o map[string]any) error {
	raw, err := json.Marshal(o)
	if err != nil {
		return err
	}
	raw = append(raw, '\n')
	_ = h.c.SetWriteDeadline(time.Now().Add(placeTakes))
	_, err = h.c.Write(append(binary.LittleEndian.AppendUint32([]byte{packetIn}, uint32(len(raw))), raw...))
	return err
}

// Place implements phone.Hand.
func (h *hand) Place(ctx context.Context, fingers []phone.Finger) error {
	if wait := time.Until(h.ready); wait > 0 {
		if err := phone.Pause(ctx, wait); err != nil {
			return err
		}
	}
	quarters := h.d.turnedBy()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended != nil {
		return h.ended
	}
	events, err := h.events(fingers, quarters)
	if err != nil || len(events) == 0 {
		return err
	}
	if err := h.say(map[string]any{"id": 1, "command": "inject", "events": events}); err != nil {
		return h.d.failed(ctx, "touch", err)
	}
	return nil
}

// turnedBy is by how many quarters the screen is turned, as was last seen.
func (d *Device) turnedBy() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.screen == nil {
		return 0
	}
	return d.screen.Rotation
}

// events are what the touch screen tells, under mu, when fingers are there: first of those that lift, where they were, then of the others.
func (h *hand) events(fingers []phone.Finger, quarters int) (events []int, err error) {
	send := func(kind, code, value int) { events = append(events, kind, code, value) }
	touching := func() (n int) {
		for _, t := range h.slots {
			if t.down {
				n++
			}
		}
		return n
	}
	for slot := range h.slots {
		t := &h.slots[slot]
		if t.down && !slices.ContainsFunc(fingers, func(f phone.Finger) bool { return f.ID == t.id }) {
			t.down = false
			send(3, 0x2f, slot)
			send(3, 0x39, -1)
			if touching() == 0 {
				send(1, 0x14a, 0)
			}
		}
	}
	if len(events) > 0 {
		send(0, 0, 0)
	}
	told := len(events)
	for _, f := range fingers {
		x, y := upright(f.X, f.Y, h.width, h.height, quarters)
		x, y = max(0, min(x, h.width-1)), max(0, min(y, h.height-1))
		slot := slices.IndexFunc(h.slots[:], func(t touch) bool { return t.down && t.id == f.ID })
		fresh := slot < 0
		if fresh {
			if slot = slices.IndexFunc(h.slots[:], func(t touch) bool { return !t.down }); slot < 0 {
				return nil, fmt.Errorf("%d fingers at once are the most", maxFingers)
			}
		}
		t := &h.slots[slot]
		if !fresh && t.x == x && t.y == y {
			continue
		}
		send(3, 0x2f, slot)
		if fresh {
			h.next = h.next%65_000 + 1
			send(3, 0x39, h.next)
			if touching() == 0 {
				send(1, 0x14a, 1)
			}
		}
		send(3, 0x35, x)
		send(3, 0x36, y)
		*t = touch{f.ID, x, y, true}
	}
	if len(events) > told {
		send(0, 0, 0)
	}
	return events, nil
}

// Close implements phone.Hand. The touch screen goes away with its command; the system lifts what touches.
func (h *hand) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = h.Place(ctx, nil)
	h.mu.Lock()
	h.end(io.ErrClosedPipe)
	h.mu.Unlock()
	_ = h.c.Close()
	return nil
}
