// Package ios is a simulated iOS phone: what a lab's own rig finds there.
//
// It takes an IPA in, runs the behaviour file inside (standin/app) in place of its code, draws its screen with iOS's look, and gives the tree of it by the
// types of Apple's XCUIElement, in points (source.go). It speaks no protocol: a lab does that. In: traits, fingers, text. Out: pictures, trees, lines of a log.
package ios

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

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
