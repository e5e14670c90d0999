package phone

// The touch screen below `input`: getevent, sendevent and motionevent.

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"tessellant/internal/standin/app"
)

const (
	touchDevice = "/dev/input/event2"
	touchMax    = 4095 // on both axes: finer than the screen, as panels are
)

// panel is the touch screen's state, by the multi-touch protocol B.
type panel struct {
	slot  int
	slots map[int]*finger
	one   *finger // of `input motionevent`
}

// finger is one that touches, in pixels of the screen as it is held.
type finger struct {
	x0, y0, x, y int
	down, lifted bool
	since        time.Time // it is down
}

func (p *Phone) getevent(c *call) int {
	p.take(c.ctx, 20, 60)
	c.say("add device 1: /dev/input/event0\n  name:     \"gpio-keys\"\n  events:\n    KEY (0001): 0072  0073  0074 \n  input props:\n    <none>\n")
	c.say("add device 2: %s\n  name:     \"standin-touch\"\n  events:\n    KEY (0001): 014a \n    ABS (0003): 002f  : value 0, min 0, max 9, fuzz 0, flat 0, resolution 0\n", touchDevice)
	for _, axis := range []string{"0035", "0036"} {
		c.say("                %s  : value 0, min 0, max %d, fuzz 0, flat 0, resolution 0\n", axis, touchMax)
	}
	c.say("                0039  : value 0, min 0, max 65535, fuzz 0, flat 0, resolution 0\n  input props:\n    INPUT_PROP_DIRECT\n")
	return 0
}

func (p *Phone) sendevent(c *call) int {
	p.take(c.ctx, 4, 9)
	n := make([]int, 3)
	if p.traits.TouchClosed {
		fmt.Fprintf(c.err, "sendevent: %s: Permission denied\n", c.args[0])
		return 1
	}
	if len(c.args) != 4 || c.args[0] != touchDevice {
		c.say("sendevent: %v: No such file or directory\n", c.args)
		return 1
	}
	for i := range n {
		v, err := strconv.ParseInt(c.args[i+1], 10, 32)
		if err != nil {
			c.say("sendevent: not a number: %s\n", c.args[i+1])
			return 1
		}
		n[i] = int(v)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	w, h := p.upright()
	p.event(n, w, touchMax+1, h, touchMax+1)
	return 0
}

// event takes in an event of a touch screen, under mu, that counts to maxX and maxY over the screen's width and height.
func (p *Phone) event(n []int, width, maxX, height, maxY int) {
	t := &p.touch
	if t.slots == nil {
		t.slots = map[int]*finger{}
	}
	f := t.slots[t.slot]
	switch {
	case n[0] == 3 && n[1] == 0x2f:
		t.slot = n[2]
	case n[0] == 3 && n[1] == 0x39 && n[2] >= 0:
		t.slots[t.slot] = &finger{}
	case n[0] == 3 && n[1] == 0x39 && f != nil:
		f.lifted = true
	case n[0] == 3 && n[1] == 0x35 && f != nil:
		f.x = n[2] * width / maxX
	case n[0] == 3 && n[1] == 0x36 && f != nil:
		f.y = n[2] * height / maxY
	case n[0] == 0:
		for slot, f := range t.slots {
			switch {
			case !f.down:
				f.x0, f.y0, f.down, f.since = f.x, f.y, true, time.Now()
			case f.lifted:
				delete(t.slots, slot)
				x0, y0 := p.held(f.x0, f.y0)
				x, y := p.held(f.x, f.y)
				if near := p.dp(24); time.Since(f.since) >= longPress && max(x-x0, x0-x, y-y0, y0-y) < near {
					p.longTap(x0, y0)
					continue
				}
				p.stroke(x0, y0, x, y)
			}
		}
	}
}

// uinput - : makes an input device of what JSON objects on its input say, and plays events on it
// (frameworks/base/cmds/uinput/README.md of the Android Open Source Project).
func (p *Phone) uinput(c *call) int {
	if p.traits.API < 31 {
		fmt.Fprintln(c.err, "/system/bin/sh: uinput: inaccessible or not found")
		return 127
	}
	maxX, maxY := 0, 0
	for dec := json.NewDecoder(c.in); ; {
		var o struct {
			Command  string `json:"command"`
			Duration int    `json:"duration"`
			Events   []int  `json:"events"`
			Axes     []struct {
				Code int `json:"code"`
				Info struct {
					Maximum int `json:"maximum"`
				} `json:"info"`
			} `json:"abs_info"`
		}
		if err := dec.Decode(&o); errors.Is(err, io.EOF) {
			return 0
		} else if err != nil {
			fmt.Fprintf(c.err, "Error reading in command: %v\n", err)
			return 1
		}
		switch o.Command {
		case "register":
			for _, a := range o.Axes {
				switch a.Code {
				case 0x35:
					maxX = a.Info.Maximum + 1
				case 0x36:
					maxY = a.Info.Maximum + 1
				}
			}
		case "delay":
			wait(c.ctx, time.Duration(min(o.Duration, 60_000))*time.Millisecond)
		case "inject":
			if maxX == 0 || maxY == 0 {
				fmt.Fprintln(c.err, "Error: the device was not registered")
				return 1
			}
			p.mu.Lock()
			w, h := p.upright()
			for i := 0; i+2 < len(o.Events); i += 3 {
				p.event(o.Events[i:i+3], w, maxX, h, maxY)
			}
			p.mu.Unlock()
		}
	}
}

// held turns a place on the upright screen into one on the screen as it is held, under mu.
func (p *Phone) held(x, y int) (int, int) {
	w, h := p.upright()
	switch p.turns() % 4 {
	case 1:
		return y, w - 1 - x
	case 2:
		return w - 1 - x, h - 1 - y
	case 3:
		return h - 1 - y, x
	}
	return x, y
}

// longPress is how long a finger stays that does more than tap, as Android counts it.
const longPress = 500 * time.Millisecond

// longTap is a finger that stayed, under mu.
func (p *Phone) longTap(x, y int) {
	if !p.asleep && !p.locked && p.asking == nil {
		p.act(func(a *app.App) error { return a.LongTap(x, y) })
	}
}

// stroke is what a finger did, once it has lifted, under mu.
func (p *Phone) stroke(x0, y0, x, y int) {
	if near := p.dp(24); max(x-x0, x0-x) < near && max(y-y0, y0-y) < near {
		p.tap(x0, y0)
		return
	}
	if p.asleep || p.locked || p.asking != nil {
		return
	}
	p.act(func(a *app.App) error { a.Swipe(x0, y0, x, y); return nil })
}

// motion is `input motionevent VERB X Y`, under mu.
func (p *Phone) motion(verb string, x, y int) bool {
	t := &p.touch
	switch {
	case verb == "DOWN":
		t.one = &finger{x0: x, y0: y, x: x, y: y}
	case verb == "MOVE" && t.one != nil:
		t.one.x, t.one.y = x, y
	case verb == "UP" && t.one != nil:
		p.stroke(t.one.x0, t.one.y0, x, y)
		t.one = nil
	case verb == "CANCEL":
		t.one = nil
	default:
		return false
	}
	return true
}
