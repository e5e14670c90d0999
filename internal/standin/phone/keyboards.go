package phone

// Keyboards: the system's, and input methods that were installed, which type what broadcasts bring them.

import (
	"fmt"
	"slices"
	"strings"

	"tessellant/internal/standin/app"
)

const (
	latinKeyboard     = "com.android.inputmethod.latin/.LatinIME"
	composingKeyboard = "com.android.inputmethod.pinyin/.PinyinIME"
)

// ownKeyboards are those that the phone comes with, the one that it uses first.
func (p *Phone) ownKeyboards() []string {
	if p.traits.Composing {
		return []string{composingKeyboard, latinKeyboard}
	}
	return []string{latinKeyboard}
}

// method gives, under mu, the input method of an id among those that were installed.
func (p *Phone) method(id string) *app.Keyboard {
	for _, in := range p.apps {
		if in.keyboard != nil && in.keyboard.ID == id {
			return in.keyboard
		}
	}
	return nil
}

// choose chooses a keyboard, under mu.
func (p *Phone) choose(id string) {
	p.keyboard = id
	p.settings["secure/default_input_method"] = id
	p.changed()
}

// removed notes, under mu, that an app is gone: a keyboard of its own is not chosen any more.
func (p *Phone) removed() {
	for id := range p.enabled {
		if p.method(id) == nil {
			delete(p.enabled, id)
		}
	}
	if own := p.ownKeyboards(); !slices.Contains(own, p.keyboard) && !p.enabled[p.keyboard] {
		p.choose(own[0])
	}
}

// ime list -s | enable ID | set ID
func (p *Phone) ime(c *call) int {
	p.take(c.ctx, 50, 120)
	if p.notYet(c, "input_method") {
		return 20
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(c.args) != 2 {
		return 0
	}
	known := p.ownKeyboards()
	for id := range p.enabled {
		known = append(known, id)
	}
	slices.Sort(known[len(p.ownKeyboards()):])
	switch verb, id := c.args[0], c.args[1]; {
	case verb == "list" && id == "-s":
		c.say("%s\n", strings.Join(known, "\n"))
	case verb == "enable" && slices.Contains(known, id):
		c.say("Input method %s: already enabled for user #%d\n", id, p.traits.User)
	case verb == "enable" && p.method(id) != nil:
		p.enabled[id] = true
		c.say("Input method %s: now enabled for user #%d\n", id, p.traits.User)
	case verb == "enable":
		fmt.Fprintf(c.err, "Unknown input method %s cannot be enabled for user #%d\n", id, p.traits.User)
		return 255
	case verb == "set" && slices.Contains(known, id):
		p.choose(id)
		c.say("Input method %s selected\n", id)
	case verb == "set":
		fmt.Fprintf(c.err, "Unknown id: %s\n", id)
		return 255
	}
	return 0
}

// broadcast is am broadcast: an ordered one, whose result is said. Here only the keyboard in use hears any.
func (p *Phone) broadcast(c *call) int {
	p.take(c.ctx, 60, 150)
	action, to, extras := "", "", map[string]string{}
	for i := 1; i < len(c.args); i++ {
		next := func() string {
			i++
			if i < len(c.args) {
				return c.args[i]
			}
			return ""
		}
		switch c.args[i] {
		case "-a":
			action = next()
		case "-p":
			to = next()
		case "--es":
			name := next()
			extras[name] = next()
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	result := 0
	k := p.method(p.keyboard)
	if pkg, _, _ := strings.Cut(p.keyboard, "/"); k != nil && k.Action == action && (to == "" || to == pkg) {
		var err error
		result, err = k.Received(extras, func(text string) bool {
			a := p.frontApp()
			if a == nil || !a.Focused() || p.asleep || p.locked || p.asking != nil || p.crashed != "" {
				return false
			}
			p.act(func(a *app.App) error { return a.Type(text) })
			return true
		})
		if err != nil {
			p.log("main", 2210, 'E', "AndroidRuntime", "Error receiving broadcast Intent { act=%s }: %v", action, err)
			result = 0
		}
	}
	c.say("Broadcasting: Intent { act=%s flg=0x400000 pkg=%s (has extras) }\nBroadcast completed: result=%d\n", action, to, result)
	return 0
}
