package phone

// input: fingers and keys.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/standin/app"
)

func (p *Phone) input(c *call) int {
	p.take(c.ctx, 60, 160)
	if p.notYet(c, "input") {
		return 20
	}
	if p.traits.has(NoInject) {
		fmt.Fprintln(c.err, "\nException occurred while executing 'tap':\njava.lang.SecurityException: Injecting to another application requires INJECT_EVENTS permission\n\tat android.os.Parcel.createException(Parcel.java:1950)")
		return 255
	}
	p.mu.Lock()
	p.doze()
	p.user()
	p.mu.Unlock()
	args := c.args
	if len(args) > 0 && (args[0] == "touchscreen" || args[0] == "keyboard") {
		args = args[1:]
	}
	if len(args) == 4 && args[0] == "motionevent" && p.traits.API >= 30 {
		args = []string{args[0] + " " + args[1], args[2], args[3]}
	}
	n := make([]int, 0, 5)
	for _, a := range args[min(1, len(args)):] {
		f, err := strconv.ParseFloat(a, 64)
		if err != nil {
			break
		}
		n = append(n, int(f))
	}
	verb := ""
	if len(args) > 0 {
		verb = args[0]
	}
	switch {
	case verb == "tap" && len(n) >= 2:
		p.mu.Lock()
		defer p.mu.Unlock()
		p.tap(n[0], n[1])
	case verb == "swipe" && len(n) >= 4:
		if len(n) > 4 && p.traits.Temper != Instant {
			wait(c.ctx, time.Duration(min(n[4], 5000))*time.Millisecond)
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.asleep || p.locked || p.asking != nil {
			return 0
		}
		if n[0] == n[2] && n[1] == n[3] && len(n) > 4 && time.Duration(n[4])*time.Millisecond >= longPress {
			p.longTap(n[0], n[1])
			return 0
		}
		p.stroke(n[0], n[1], n[2], n[3])
	case strings.HasPrefix(verb, "motionevent ") && len(n) == 2:
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.motion(strings.TrimPrefix(verb, "motionevent "), n[0], n[1]) {
			return 0
		}
		fmt.Fprintln(c.err, "Error: Invalid arguments for command: motionevent")
		return 255
	case verb == "text" && len(args) == 2:
		text := strings.ReplaceAll(args[1], "%s", " ")
		for _, r := range text {
			if r > 126 {
				fmt.Fprintln(c.err, "Exception occurred while executing 'text':\njava.lang.NullPointerException: Attempt to get length of null array")
				return 255
			}
		}
		p.take(c.ctx, 5*len(text), 20*len(text)) // a key at a time
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.asleep || p.locked || p.asking != nil {
			return 0
		}
		if p.keyboard == composingKeyboard { // it takes letters for the sounds of signs that are still to be chosen
			text = strings.Map(func(r rune) rune {
				if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
					return -1
				}
				return r
			}, text)
		}
		p.act(func(a *app.App) error { return a.Type(text) })
	case verb == "keyevent" && len(args) >= 2:
		for _, k := range args[1:] {
			p.mu.Lock()
			p.key(strings.TrimPrefix(k, "KEYCODE_"))
			p.mu.Unlock()
		}
	default:
		fmt.Fprintln(c.err, "Error: Invalid arguments for command: "+verb)
		return 255
	}
	return 0
}

// tap touches the screen, under mu.
func (p *Phone) tap(x, y int) {
	if p.asleep || p.locked {
		return
	}
	if p.asking != nil {
		for i, b := range p.asking.buttons {
			if _, at := p.askBox(i); x >= at.X1 && x < at.X2 && y >= at.Y1 && y < at.Y2 {
				p.answered(b)
				return
			}
		}
		return
	}
	if p.crashed != "" {
		if !p.hangs || p.onDialog(x, y) { // beside it: what says that an app has died goes away, what says that one hangs stays
			p.closeDialog()
		}
		return
	}
	if a := p.frontApp(); a != nil {
		_, h := p.size()
		if up, _ := a.Keyboard(); up && y >= h-p.navHeight()-a.KeyboardHeight() {
			return
		}
		p.act(func(a *app.App) error { return a.Tap(x, y) })
	}
}

func (p *Phone) key(name string) {
	if p.asleep && !slices.Contains([]string{"WAKEUP", "224", "POWER", "26"}, name) { // other keys don't reach anybody
		return
	}
	if p.locked && !slices.Contains([]string{"WAKEUP", "224", "SLEEP", "223", "POWER", "26", "MENU", "82"}, name) {
		return
	}
	if p.asking != nil && (name == "BACK" || name == "4") {
		return
	}
	switch name {
	case "BACK", "4":
		if p.crashed != "" {
			if !p.hangs {
				p.closeDialog()
			}
			return
		}
		handled := true
		p.act(func(a *app.App) (err error) { handled, err = a.Back(); return err })
		if !handled {
			p.front = ""
			p.changed()
		}
	case "HOME", "3":
		if p.crashed != "" && !p.hangs {
			p.closeDialog()
		}
		p.front, p.asking = "", nil
		p.changed()
	case "ENTER", "66":
		p.act(func(a *app.App) error { a.HideKeyboard(); return nil })
	case "DEL", "67":
		p.act(func(a *app.App) error { return a.Backspace() })
	case "MENU", "82":
		if p.locked && p.traits.Lock == "swipe" && p.traits.API < 23 {
			p.locked = false
			p.changed()
		}
	case "APP_SWITCH", "187": // there is one app at a time here: it leads to the launcher
		if p.crashed == "" {
			p.front, p.asking = "", nil
			p.changed()
		}
	case "POWER", "26":
		if p.asleep {
			p.asleep, p.touched = false, time.Now()
			p.changed()
		} else {
			p.sleepNow()
		}
	case "WAKEUP", "224":
		if p.asleep {
			p.asleep, p.touched = false, time.Now()
			p.changed()
		}
	case "SLEEP", "223":
		p.sleepNow()
	}
}
