package phone

// What a lab's own rig does with a phone, without adb: it has its fingers on the glass and its own wires inside.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"tessellant/internal/standin/app"
)

// New makes a phone that is not connected to anything.
func New(t Traits) (*Phone, error) {
	if err := t.complete(); err != nil {
		return nil, fmt.Errorf("simulated phone %s: %w", t.Serial, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	p := newPhone(ctx, t)
	p.cancel = cancel
	p.settings["system/accelerometer_rotation"] = "0"
	return p, nil
}

// Add installs a build with all permissions that it asks for.
func (p *Phone) Add(raw []byte) error {
	p.take(p.ctx, 800, 1600)
	if said := p.install(raw, installOptions{grant: true, downgrade: true}); said != "Success" {
		return errors.New(said)
	}
	return nil
}

// Remove removes an app; no error where there is none.
func (p *Phone) Remove(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kill(id)
	delete(p.apps, id)
	p.changed()
}

// Open starts an app, anew where arguments are given.
func (p *Phone) Open(id string, args map[string]string) error {
	p.take(p.ctx, 300, 600)
	if len(args) > 0 {
		p.Quit(id)
	}
	_, err := p.launch(id, args)
	return err
}

// Quit ends an app.
func (p *Phone) Quit(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kill(id)
}

// Wipe ends an app and deletes its data.
func (p *Phone) Wipe(id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	if in == nil {
		return fmt.Errorf("there is no app %s", id)
	}
	p.kill(id)
	in.never, in.denied = map[string]bool{}, map[string]int{}
	return nil
}

// Stroke is a finger that touches, moves and lifts, in pixels of the screen as it is held.
func (p *Phone) Stroke(x0, y0, x, y int, took time.Duration) {
	p.take(p.ctx, 30, 60)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.user()
	if x0 == x && y0 == y && took >= 500*time.Millisecond && p.asking == nil && p.crashed == "" {
		p.act(func(a *app.App) error { return a.LongTap(x0, y0) })
		return
	}
	p.stroke(x0, y0, x, y)
}

// Enter types a text where the focus is.
func (p *Phone) Enter(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.act(func(a *app.App) error { return a.Type(text) })
}

// Key presses a key by its name, such as BACK.
func (p *Phone) Key(name string) {
	p.take(p.ctx, 30, 60)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key(name)
}

// Source is the tree of the screen, once it has come to rest.
func (p *Phone) Source() (string, error) {
	limit := 5 * time.Second
	if p.traits.Temper == Instant {
		limit = 0
	}
	for deadline := time.Now().Add(limit); p.moving() && time.Now().Before(deadline); {
		wait(p.ctx, 20*time.Millisecond)
	}
	p.take(p.ctx, 150, 300)
	p.mu.Lock()
	defer p.mu.Unlock()
	return string(p.tree()), nil
}

// Picture is the screen as a PNG.
func (p *Phone) Picture() []byte {
	p.take(p.ctx, 100, 200)
	p.mu.Lock()
	pic := p.look()
	p.mu.Unlock()
	return pic.asPNG()
}

// Size is the screen's as it is held, in pixels.
func (p *Phone) Size() (w, h int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.size()
}

// Keys says whether the keyboard is shown.
func (p *Phone) Keys() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.frontApp()
	if a == nil {
		return false
	}
	up, _ := a.Keyboard()
	return up
}

// Turn turns the screen.
func (p *Phone) Turn(landscape bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	upright := p.traits.Height >= p.traits.Width
	p.settings["system/user_rotation"] = map[bool]string{true: "1", false: "0"}[landscape == upright]
	p.adjusted()
}

// Night switches dark mode.
func (p *Phone) Night(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.night = on
	p.adjusted()
}

// Speak sets the language of all apps.
func (p *Phone) Speak(language string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.traits.Language = language
	p.adjusted()
}

// Lines are those of the log from a moment of the phone's clock on.
func (p *Phone) Lines(since time.Time) []string {
	lines, _, _ := p.logs.from(0)
	var out []string
	for _, l := range lines {
		if !l.at.Before(since) {
			out = append(out, fmt.Sprintf("%d.%03d %5d %5d %c %-8s: %s", l.at.Unix(), l.at.Nanosecond()/1e6, l.pid, l.tid, l.level, l.tag, l.text))
		}
	}
	return out
}

// Time is the phone's.
func (p *Phone) Time() time.Time { return p.now() }

// WriteFile puts a file onto the phone.
func (p *Phone) WriteFile(name string, raw []byte) {
	p.put(name, &file{bytes.Clone(raw), 0o100660, p.now()})
}

// ReadFile reads a file of the phone.
func (p *Phone) ReadFile(name string) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f := p.files[path.Clean(name)]
	if f == nil {
		return nil, fmt.Errorf("%s: No such file or directory", name)
	}
	return bytes.Clone(f.data), nil
}

// DeleteFile removes a file of the phone.
func (p *Phone) DeleteFile(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.files, path.Clean(name))
}

// Clean makes the phone as new: no apps, no files, upright, in its own language.
func (p *Phone) Clean(language string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id := range p.apps {
		p.kill(id)
		delete(p.apps, id)
	}
	for name := range p.files {
		if strings.HasPrefix(name, "/sdcard/") {
			delete(p.files, name)
		}
	}
	p.crashed, p.hangs, p.asking, p.front, p.night, p.traits.Language = "", false, nil, "", p.traits.Dark, language
	p.settings["system/user_rotation"] = "0"
	p.changed()
}

// Off switches the phone off.
func (p *Phone) Off() {
	p.cancel()
	p.running.Wait()
}
