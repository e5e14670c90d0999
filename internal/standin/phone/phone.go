package phone

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"tessellant/internal/standin/adbd"
	"tessellant/internal/standin/app"
	"tessellant/internal/standin/paint"
)

// Phone is one simulated phone.
type Phone struct {
	traits  Traits
	ctx     context.Context
	cancel  context.CancelFunc
	adb     *adbd.Server // nil: it is not at an adb server
	running sync.WaitGroup

	jumped atomic.Int64 // by which the clock was set, in all

	reverseMu sync.Mutex
	reverses  map[int]reverse // ports that lead to the host

	logs *logBuffer

	mu         sync.Mutex // guards all below; the apps run under it
	files      map[string]*file
	apps       map[string]*installed
	sessions   map[int]*installSession
	settings   map[string]string // "global/http_proxy"
	front      string            // app in front; "": the home screen
	crashed    string            // label of the app whose crash dialog is up
	hangs      bool              // that dialog says that the app does not respond
	night      bool
	set        set
	asleep     bool
	level      int // of the battery, percent
	load       load
	webs       map[*webView]bool
	nextPID    int
	installing int
	changes    int       // of what the system itself shows
	moves      time.Time // until then something on the screen moves
	rnd        *rand.Rand
	seed       uint64
	fonts      *paint.Fonts
	drawn      *picture
	swept      *picture // of a screen on which something moves
	touch      panel
	memories   map[string]*rand.Rand // by app and version, see wantsMemory

	began    time.Time // when it was switched on
	touched  time.Time // when somebody last did what keeps the screen on
	locked   bool      // a lock is before everything else
	sealed   bool      // it has not been unlocked since it was switched on
	restless bool
	folded   bool
	asking   *asking         // nil: no permission is asked for
	dumping  bool            // somebody reads the tree
	filmed   chan struct{}   // closed when the encoder breaks
	keyboard string          // that is in use
	enabled  map[string]bool // input methods that were installed, and may be chosen

}

type installSession struct{ apks [][]byte }

// picture is the screen as it was last drawn.
type picture struct {
	key  string
	img  *image.RGBA
	pack sync.Once
	png  []byte
}

// asPNG packs the picture, once.
func (p *picture) asPNG() []byte {
	p.pack.Do(func() {
		var buf bytes.Buffer
		_ = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&buf, p.img)
		p.png = buf.Bytes()
	})
	return p.png
}

func newPhone(ctx context.Context, t Traits) *Phone {
	seed := uint64(14695981039346656037)
	for _, c := range []byte(t.Serial) {
		seed = (seed ^ uint64(c)) * 1099511628211
	}
	if t.Temper == Uneasy {
		t.Sides = Awkward(t.API)
	}
	p := &Phone{traits: t, ctx: ctx, memories: map[string]*rand.Rand{}, began: time.Now(), touched: time.Now(), restless: t.Restless, locked: t.Lock == "swipe" || t.Lock == "pin", sealed: t.Lock == "pin", reverses: map[int]reverse{}, logs: &logBuffer{grown: make(chan struct{})}, filmed: make(chan struct{}),
		files: map[string]*file{}, apps: map[string]*installed{}, sessions: map[int]*installSession{},
		settings: map[string]string{
			"system/accelerometer_rotation": "1", "system/font_scale": "1.0", "system/screen_off_timeout": "60000",
			"global/window_animation_scale": "1.0", "global/transition_animation_scale": "1.0", "global/animator_duration_scale": "1.0",
			"global/device_name": t.Model, "global/wifi_on": "1", "global/mobile_data": "1", "global/bluetooth_on": "1", "global/low_power": "0", "global/auto_time_zone": "1",
			"secure/location_mode": "3", "secure/android_id": fmt.Sprintf("%016x", seed),
		},
		level: 87, nextPID: 4200, rnd: rand.New(rand.NewPCG(seed, 1)), seed: seed, night: t.Dark, fonts: paint.NewFonts(t.Density, 1)}
	if t.Sleeps > 0 {
		p.settings["system/screen_off_timeout"] = strconv.FormatInt(t.Sleeps.Milliseconds(), 10)
	}
	p.set.zone = "Europe/London"
	p.keyboard, p.enabled, p.webs = p.ownKeyboards()[0], map[string]bool{}, map[*webView]bool{}
	p.settings["secure/default_input_method"] = p.keyboard
	p.log("system", 812, 'I', "SystemServer", "Entered the Android system server!")
	p.log("system", 812, 'I', "PackageManager", "Finished scanning, %d packages", 143)
	p.log("main", 1310, 'D', "WifiStateMachine", "connected, rssi -52")
	return p
}

// Start switches a phone on, which listens on an address ("127.0.0.1:0" for any free port) for the adb server.
func Start(t Traits, address string) (*Phone, error) {
	if err := t.complete(); err != nil {
		return nil, fmt.Errorf("simulated phone %s: %w", t.Serial, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	p := newPhone(ctx, t)
	p.cancel = cancel
	var err error
	if p.adb, err = adbd.Listen(ctx, address, adbd.Config{Banner: p.banner, Service: p.service, Ended: p.unreversed}); err != nil {
		cancel()
		return nil, fmt.Errorf("simulated phone %s: %w", t.Serial, err)
	}
	if t.Drops > 0 {
		p.running.Go(p.drop)
	}
	return p, nil
}

// drop is a loose cable: it holds for half to one and a half times as long as on average.
func (p *Phone) drop() {
	for p.ctx.Err() == nil {
		p.mu.Lock()
		held := p.traits.Drops/2 + time.Duration(p.rnd.Int64N(int64(p.traits.Drops)))
		p.mu.Unlock()
		wait(p.ctx, held)
		p.Unplug()
	}
}

// Address is where the phone listens.
func (p *Phone) Address() string { return p.adb.Address() }

// Close switches the phone off and waits until all it did has ended.
func (p *Phone) Close() {
	p.cancel()
	p.adb.Close()
	p.running.Wait()
}

// Unplug cuts every connection, as a pulled cable does. The phone goes on listening: it can be plugged in again.
func (p *Phone) Unplug() { p.adb.Unplug() }

// Freeze makes the phone stop answering while it stays connected; Thaw ends it.
func (p *Phone) Freeze() { p.adb.Freeze() }

// Thaw lets a frozen phone answer again.
func (p *Phone) Thaw() { p.adb.Thaw() }

// now is the time on the phone's own clock.
func (p *Phone) now() time.Time {
	drift := time.Duration(float64(time.Since(p.began)) * float64(p.traits.Drift) / 1e6)
	return time.Now().Add(p.traits.Skew + drift + time.Duration(p.jumped.Load()))
}

// SetClock sets the phone's clock, as the network does when it knows better: so much later than it showed.
func (p *Phone) SetClock(later time.Duration) { p.jumped.Add(int64(later)) }

// take spends the time that a real phone needs for something; least and most in
// milliseconds. An instant phone needs none.
func (p *Phone) take(ctx context.Context, least, most int) {
	if p.traits.Temper == Instant {
		return
	}
	p.mu.Lock()
	d := time.Duration(least+p.rnd.IntN(max(most-least, 1))) * time.Millisecond
	p.mu.Unlock()
	wait(ctx, d)
}

func wait(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
}

// changed notes, under mu, that the screen is another now, and moves for a
// moment where the temper says so.
func (p *Phone) changed() {
	p.changes++
	if p.traits.Temper != Instant && p.settings["global/window_animation_scale"] != "0" {
		p.moves = time.Now().Add(300 * time.Millisecond)
	}
}

// device is what an app can notice of the phone, under mu.
func (p *Phone) device(id string) app.Device {
	w, h := p.size()
	return app.Device{API: p.traits.API, DPI: p.density(), FontScale: p.textScale(), Language: p.speaks(id), MemoryMB: p.traits.MemoryGB * 1024,
		ScreenW: w, ScreenH: h, StatusBarH: p.dp(24), NavBarH: p.navHeight(), Dark: p.night, HardKeys: p.traits.HardKeys || p.method(p.keyboard) != nil}
}

// turns is how often the screen is turned by a quarter. The sensor says that nobody turns the phone.
func (p *Phone) turns() int {
	if p.settings["system/accelerometer_rotation"] == "1" {
		return 0
	}
	n, _ := strconv.Atoi(p.settings["system/user_rotation"])
	return n
}

// size is the screen's as it is held, in pixels.
func (p *Phone) size() (w, h int) {
	w, h = p.upright()
	if p.turns()%2 == 1 {
		return h, w
	}
	return w, h
}

// upright is the size of the screen that is in use as it is held by nature, in pixels.
func (p *Phone) upright() (w, h int) {
	if p.traits.Outer && p.folded {
		return outerWidth, outerHeight
	}
	return p.traits.Width, p.traits.Height
}

func (p *Phone) sizes() (w, h float64) {
	iw, ih := p.size()
	return float64(iw), float64(ih)
}

// adjusted tells the apps, under mu, that the screen was turned or darkened.
func (p *Phone) adjusted() {
	for id, in := range p.apps {
		if in.proc != nil && in.proc.app != nil && in.proc.app.Device != p.device(id) {
			if err := in.proc.app.Resize(p.device(id)); err != nil {
				p.crash(id, in.proc, err)
			}
		}
	}
	p.changed()
}

// wantsMemory says, under mu, how long an app waits for memory. With 2 GB or less the system is
// short of it now and then, three times in ten; which times, the phone's seed says, counted from the app's install; from
// the first install of this version where an app's data can be cleared by installing it anew alone.
func (p *Phone) wantsMemory(in *installed) time.Duration {
	if p.traits.MemoryGB > 2 {
		return 0
	}
	if in.memory == nil {
		const salt = 3807 // with it the first sync waits on each of the demo's small phones, and the next three do not
		in.memory = rand.New(rand.NewPCG(p.seed, salt))
		if key := fmt.Sprint(in.facts.AppID, in.facts.VersionCode); p.traits.has(NoClear) {
			if p.memories[key] == nil {
				p.memories[key] = in.memory
			}
			in.memory = p.memories[key]
		}
	}
	if in.memory.IntN(10) < 3 {
		return 25 * time.Second
	}
	return 0
}

func (p *Phone) dp(v int) int { return v * p.density() / 160 }

// navHeight: three buttons before Android 10, a gesture bar since.
func (p *Phone) navHeight() int {
	if p.traits.API < 29 {
		return p.dp(48)
	}
	return p.dp(20)
}

// running app in front, under mu; nil when there is none.
func (p *Phone) frontApp() *app.App {
	if in := p.apps[p.front]; in != nil && in.proc != nil && p.crashed == "" {
		return in.proc.app
	}
	return nil
}
