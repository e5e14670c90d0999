// Package ios is a simulated iOS phone: what a lab's own rig finds there.
//
// It takes an IPA in, runs the behaviour file inside (standin/app) in place of its code, draws its screen with iOS's look, and gives the tree of it by the
// types of Apple's XCUIElement, in points (source.go). It speaks no protocol: a lab does that. In: traits, fingers, text. Out: pictures, trees, lines of a log.
package ios

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/appfile"
	"tessellant/internal/standin/app"
	"tessellant/internal/standin/paint"
)

// Traits are what a phone is.
type Traits struct {
	Name, Model string
	OS          string
	UDID        string
	Width       int // points, upright
	Height      int
	Scale       int // pixels a point
	MemoryGB    int
	Language    string
	Tablet      bool
	Instant     bool // it answers at once
	Skew        time.Duration
	Network     Network
}

// Phone is one simulated phone.
type Phone struct {
	traits  Traits
	ctx     context.Context
	cancel  context.CancelFunc
	running sync.WaitGroup

	mu       sync.Mutex
	apps     map[string]*installed
	front    string
	alert    *alert
	night    bool
	sideways bool
	language string
	changes  int
	moves    time.Time
	nextPID  int
	rnd      *rand.Rand
	lines    []line
	files    map[string][]byte
	fonts    *paint.Fonts
	drawn    string
	png      []byte
}

type installed struct {
	facts   appfile.Facts
	source  string
	icon    image.Image
	proc    *process
	allowed map[string]bool // what its user has answered
}

type process struct {
	pid  int
	app  *app.App
	gone context.Context
	end  context.CancelFunc
}

type line struct {
	at   time.Time
	text string
}

// alert is the system's question that is up.
type alert struct {
	id, permission string
	then           func(bool)
}

const maxLines = 20_000

// New makes a phone.
func New(t Traits) *Phone {
	ctx, cancel := context.WithCancel(context.Background())
	seed := uint64(7)
	for _, c := range []byte(t.Name) {
		seed = seed*31 + uint64(c)
	}
	p := &Phone{traits: t, ctx: ctx, cancel: cancel, apps: map[string]*installed{}, files: map[string][]byte{}, language: t.Language, nextPID: 300, rnd: rand.New(rand.NewPCG(seed, 2)), fonts: paint.NewFonts(160*t.Scale, 1)}
	p.log("SpringBoard", 58, "(FrontBoard) the home screen is in front")
	return p
}

// Off switches the phone off.
func (p *Phone) Off() {
	p.cancel()
	p.running.Wait()
}

func (p *Phone) take(least, most int) {
	if p.traits.Instant {
		return
	}
	p.mu.Lock()
	d := time.Duration(least+p.rnd.IntN(max(most-least, 1))) * time.Millisecond
	p.mu.Unlock()
	p.wait(p.ctx, d)
}

func (p *Phone) wait(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
}

// Time is the phone's.
func (p *Phone) Time() time.Time { return time.Now().Add(p.traits.Skew) }

// log writes a line as `log show --style syslog` has it.
func (p *Phone) log(process string, pid int, text string) {
	for _, t := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		at := p.Time()
		p.lines = append(p.lines, line{at, fmt.Sprintf("%s  %s %s[%d]: %s", at.UTC().Format("2006-01-02 15:04:05.000000-0700"), strings.ReplaceAll(p.traits.Model, " ", "-"), process, pid, t)})
	}
	if len(p.lines) > maxLines {
		p.lines = slices.Clone(p.lines[len(p.lines)-maxLines*9/10:])
	}
}

// Lines are those of the log from a moment of the phone's clock on.
func (p *Phone) Lines(since time.Time) (out []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.lines {
		if !l.at.Before(since) {
			out = append(out, l.text)
		}
	}
	return out
}

func (p *Phone) changed() {
	p.changes++
	if !p.traits.Instant {
		p.moves = time.Now().Add(250 * time.Millisecond)
	}
}

// device is what an app can notice of the phone, under mu.
func (p *Phone) device() app.Device {
	w, h := p.pixels()
	status := 47
	if p.sideways {
		status = 0
	}
	if p.traits.Tablet {
		status = 24
	}
	return app.Device{IOS: true, DPI: 160 * p.traits.Scale, Language: p.language, MemoryMB: p.traits.MemoryGB * 1024, ScreenW: w, ScreenH: h, StatusBarH: status * p.traits.Scale, NavBarH: 21 * p.traits.Scale, Dark: p.night}
}

// pixels is the screen's size as it is held, under mu.
func (p *Phone) pixels() (w, h int) {
	w, h = p.traits.Width*p.traits.Scale, p.traits.Height*p.traits.Scale
	if p.sideways {
		return h, w
	}
	return w, h
}

// Size is the screen's as it is held, in points.
func (p *Phone) Size() (w, h int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	w, h = p.pixels()
	return w / p.traits.Scale, h / p.traits.Scale
}

// Add installs a build, as a device refuses or takes it.
func (p *Phone) Add(raw []byte) error {
	p.take(1000, 2000)
	f, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return fmt.Errorf("ApplicationVerificationFailed: %w", err)
	}
	facts, err := f.Facts()
	switch {
	case err != nil:
		return fmt.Errorf("ApplicationVerificationFailed: %w", err)
	case facts.IOS == nil:
		return errors.New("PackageInspectionFailed: this is no app of iOS")
	case facts.IOS.Simulator:
		return errors.New("ApplicationVerificationFailed: the app is built for another platform")
	case facts.IOS.Profile == nil:
		return errors.New("ApplicationVerificationFailed: no valid provisioning profile for this executable was found (0xe8008015)")
	case time.Now().After(facts.IOS.Profile.Expires):
		return errors.New("ApplicationVerificationFailed: the provisioning profile has expired (0xe8008011)")
	case facts.IOS.Profile.Kind != appfile.Enterprise && !slices.Contains(facts.IOS.Profile.Devices, p.traits.UDID):
		return errors.New("ApplicationVerificationFailed: this app cannot be installed because its integrity could not be verified: the device is not in its profile (0xe8008012)")
	}
	in := &installed{facts: facts, allowed: map[string]bool{}}
	dir := facts.IconPath[:strings.LastIndex(facts.IconPath, "/")+1]
	if src, err := f.Entry(dir+"behaviour.star", 256<<10); err == nil {
		in.source = string(src)
	}
	if icon := f.Icon(facts.IconPath); icon != nil {
		in.icon, _ = png.Decode(bytes.NewReader(icon))
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kill(facts.AppID)
	p.apps[facts.AppID] = in
	p.log("installd", 71, "(MobileInstallation) installed "+facts.AppID+" "+facts.IOS.Version)
	p.changed()
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
	p.take(400, 800)
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	if in == nil {
		return fmt.Errorf("no app with the bundle identifier %s is installed", id)
	}
	defer p.changed()
	if in.proc != nil && len(args) > 0 {
		p.kill(id)
	}
	if in.proc != nil {
		behind := p.front != id
		p.front = id
		if behind {
			p.act(func(a *app.App) error { return a.Resumed() })
		}
		return nil
	}
	p.nextPID += 3
	gone, end := context.WithCancel(p.ctx)
	proc := &process{pid: p.nextPID, gone: gone, end: end}
	in.proc, p.front = proc, id
	p.log("SpringBoard", 58, fmt.Sprintf("(FrontBoard) [app<%s>:%d] launched", id, proc.pid))
	name := in.facts.Label
	env := app.Env{
		Died: func(err error) { p.died(id, proc, err) },
		Log:  func(_ byte, tag, text string) { p.log(name, proc.pid, "("+tag+") "+text) },
		HTTP: func(method, url string, body []byte, _ bool) (int, []byte, error) {
			return p.traits.Network.fetch(gone, method, url, body)
		},
		Later: func(after time.Duration, f func()) {
			p.running.Go(func() {
				p.wait(gone, after)
				p.inApp(proc, f)
			})
		},
		Async: func(work, then func()) {
			p.running.Go(func() {
				if !p.traits.Instant {
					p.wait(gone, 150*time.Millisecond)
				}
				work()
				p.inApp(proc, then)
			})
		},
		May: func(name string) bool { return in.allowed[name] },
		Ask: func(name string, then func(bool)) (granted, known bool) {
			if granted, known = in.allowed[name]; !known {
				p.alert = &alert{id, name, then}
			}
			return granted, known
		},
	}
	a, err := app.Start(id, name, in.source, p.device(), args, env)
	if a == nil {
		in.proc, p.front = nil, ""
		end()
		return err
	}
	proc.app = a
	if err != nil {
		p.died(id, proc, err)
	}
	return nil
}

func (p *Phone) inApp(proc *process, f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if proc.gone.Err() == nil {
		f()
		p.changed()
	}
}

// died ends an app that has died, under mu: iOS shows its home screen and says nothing.
func (p *Phone) died(id string, proc *process, err error) {
	in := p.apps[id]
	if in == nil || in.proc != proc {
		return
	}
	p.log(in.facts.Label, proc.pid, "*** Terminating app due to uncaught exception 'NSInternalInconsistencyException', reason: '"+err.Error()+"'")
	p.log("SpringBoard", 58, fmt.Sprintf("(FrontBoard) [app<%s>:%d] process exited: <RBSProcessExitContext| specific, status:<RBSProcessExitStatus| domain:signal(2) code:SIGABRT(6)>>", id, proc.pid))
	proc.end()
	in.proc, p.front, p.alert = nil, "", nil
	p.changed()
}

// kill ends an app's process, under mu.
func (p *Phone) kill(id string) {
	in := p.apps[id]
	if in == nil || in.proc == nil {
		return
	}
	in.proc.end()
	in.proc = nil
	if p.front == id {
		p.front = ""
	}
	if p.alert != nil && p.alert.id == id {
		p.alert = nil
	}
	p.changed()
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
		return fmt.Errorf("no app with the bundle identifier %s is installed", id)
	}
	p.kill(id)
	in.allowed = map[string]bool{}
	return nil
}

// Clean makes the phone as new.
func (p *Phone) Clean(language string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id := range p.apps {
		p.kill(id)
		delete(p.apps, id)
	}
	p.files, p.front, p.alert, p.night, p.sideways, p.language = map[string][]byte{}, "", nil, false, false, language
	p.changed()
}

// act lets the app in front take an input, under mu.
func (p *Phone) act(f func(*app.App) error) {
	in := p.apps[p.front]
	if in == nil || in.proc == nil || in.proc.app == nil {
		return
	}
	proc := in.proc
	before := proc.app.Version
	if err := f(proc.app); err != nil {
		p.died(p.front, proc, err)
		return
	}
	if proc.app.Version != before {
		p.changed()
	}
}

// Stroke is a finger that touches, moves and lifts, in points.
func (p *Phone) Stroke(x0, y0, x, y int, took time.Duration) {
	p.take(40, 80)
	p.mu.Lock()
	defer p.mu.Unlock()
	s := p.traits.Scale
	x0, y0, x, y = x0*s, y0*s, x*s, y*s
	if p.alert != nil {
		for i := range 2 {
			if _, b := p.alertBox(i); x0 >= b.X1 && x0 < b.X2 && y0 >= b.Y1 && y0 < b.Y2 {
				p.answer(i == 1)
				return
			}
		}
		return
	}
	in := p.apps[p.front]
	if in == nil || in.proc == nil {
		return
	}
	near := 12 * s
	still := max(x-x0, x0-x) < near && max(y-y0, y0-y) < near
	if up, _ := in.proc.app.Keyboard(); up && still {
		_, h := p.pixels()
		if y0 >= h-p.device().NavBarH-in.proc.app.KeyboardHeight() {
			return
		}
	}
	switch {
	case still && took >= 500*time.Millisecond:
		p.act(func(a *app.App) error { return a.LongTap(x0, y0) })
	case still:
		p.act(func(a *app.App) error { return a.Tap(x0, y0) })
	default:
		p.act(func(a *app.App) error { a.Swipe(x0, y0, x, y); return nil })
	}
}

// answer answers the system's question, under mu.
func (p *Phone) answer(allow bool) {
	q := p.alert
	p.alert = nil
	if in := p.apps[q.id]; in != nil {
		in.allowed[q.permission] = allow
		p.changed()
		p.act(func(*app.App) error { q.then(allow); return nil })
	}
}

// Enter types a text where the focus is.
func (p *Phone) Enter(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.act(func(a *app.App) error { return a.Type(text) })
}

// Key presses a key by its name: HOME, BACK (the arrow in the app's bar, or what hides the keyboard), ENTER, DEL.
func (p *Phone) Key(name string) {
	p.take(40, 80)
	p.mu.Lock()
	defer p.mu.Unlock()
	switch name {
	case "HOME":
		p.front, p.alert = "", nil
		p.changed()
	case "BACK":
		if p.alert == nil {
			p.act(func(a *app.App) error { _, err := a.Back(); return err })
		}
	case "ENTER":
		p.act(func(a *app.App) error { a.HideKeyboard(); return nil })
	case "DEL":
		p.act(func(a *app.App) error { return a.Backspace() })
	}
}

// Keys says whether the keyboard is shown.
func (p *Phone) Keys() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if in := p.apps[p.front]; in != nil && in.proc != nil {
		up, _ := in.proc.app.Keyboard()
		return up
	}
	return false
}

// Turn turns the screen.
func (p *Phone) Turn(landscape bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sideways = landscape == (p.traits.Height >= p.traits.Width)
	p.adjusted()
}

// Night switches dark mode.
func (p *Phone) Night(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.night = on
	p.adjusted()
}

// Speak sets the language.
func (p *Phone) Speak(language string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.language = language
	p.adjusted()
}

func (p *Phone) adjusted() {
	for id, in := range p.apps {
		if in.proc != nil && in.proc.app != nil && in.proc.app.Device != p.device() {
			if err := in.proc.app.Resize(p.device()); err != nil {
				p.died(id, in.proc, err)
			}
		}
	}
	p.changed()
}

// WriteFile puts a file onto the phone.
func (p *Phone) WriteFile(name string, raw []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files[name] = bytes.Clone(raw)
}

// ReadFile reads a file of the phone.
func (p *Phone) ReadFile(name string) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	raw, ok := p.files[name]
	if !ok {
		return nil, fmt.Errorf("%s: No such file or directory", name)
	}
	return bytes.Clone(raw), nil
}

// DeleteFile removes a file of the phone.
func (p *Phone) DeleteFile(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.files, name)
}
