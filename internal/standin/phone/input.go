package phone

// input: fingers and keys.

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/standin/app"
)

func (p *Phone) input(c *call) int {
	p.take(c.ctx, 60, 160)
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
		if n[0] == n[2] && n[1] == n[3] && len(n) > 4 && n[4] >= 500 { // a long press, as Android counts it
			p.act(func(a *app.App) error { return a.LongTap(n[0], n[1]) })
			return 0
		}
		p.act(func(a *app.App) error { a.Swipe(n[0], n[1], n[2], n[3]); return nil })
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
		p.mu.Lock()
		defer p.mu.Unlock()
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
	if p.crashed != "" {
		p.closeDialog() // it has one button, and goes away when one taps beside it
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
	switch name {
	case "BACK", "4":
		if p.crashed != "" {
			p.closeDialog()
			return
		}
		handled := true
		p.act(func(a *app.App) (err error) { handled, err = a.Back(); return err })
		if !handled {
			p.front = ""
			p.changed()
		}
	case "HOME", "3":
		if p.crashed != "" {
			p.closeDialog()
		}
		p.front = ""
		p.changed()
	case "ENTER", "66":
		p.act(func(a *app.App) error { a.HideKeyboard(); return nil })
	case "DEL", "67":
		p.act(func(a *app.App) error { return a.Backspace() })
	case "WAKEUP", "224":
		if p.asleep {
			p.asleep = false
			p.changed()
		}
	case "SLEEP", "223":
		p.asleep = true
		p.changed()
	}
}
