package phone

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/appfile"
	"tessellant/internal/standin/app"
	"tessellant/internal/standin/paint"
)

// Phone is one simulated phone.
type Phone struct {
	traits   Traits
	ctx      context.Context
	cancel   context.CancelFunc
	listener net.Listener
	running  sync.WaitGroup

	connMu sync.Mutex
	conns  map[*conn]bool
	thawed chan struct{} // closed when a frozen phone thaws; nil: not frozen

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
	asleep     bool
	level      int // of the battery, percent
	nextPID    int
	installing int
	changes    int       // of what the system itself shows
	moves      time.Time // until then something on the screen moves
	rnd        *rand.Rand
	seed       uint64
	fonts      *paint.Fonts
	drawn      *picture
	touch      panel
	memories   map[string]*rand.Rand // by app and version, see wantsMemory

	began    time.Time // when it was switched on
	touched  time.Time // when somebody last did what keeps the screen on
	locked   bool      // a lock is before everything else
	sealed   bool      // it has not been unlocked since it was switched on
	restless bool
	folded   bool
	asking   *asking // nil: no permission is asked for
	dumping  bool    // somebody reads the tree
	keyboard string  // that is in use: one of keyboards
}

type installed struct {
	facts  appfile.Facts
	source string // the behaviour file; "": none
	icon   image.Image
	size   int
	proc   *process
	memory *rand.Rand // when there is little, see wantsMemory
	// Runtime permissions by their last words: what the app has, how often it was denied, and what it may not ask for again.
	granted, never map[string]bool
	denied         map[string]int
}

type process struct {
	pid   int
	app   *app.App
	gone  context.Context
	end   context.CancelFunc
	since time.Time
	busy  time.Time // until then it does not answer
	late  bool      // somebody waits for it to answer
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
	p := &Phone{traits: t, ctx: ctx, memories: map[string]*rand.Rand{}, began: time.Now(), touched: time.Now(), restless: t.Restless, locked: t.Lock == "swipe" || t.Lock == "pin", sealed: t.Lock == "pin", conns: map[*conn]bool{}, logs: &logBuffer{grown: make(chan struct{})},
		files: map[string]*file{}, apps: map[string]*installed{}, sessions: map[int]*installSession{},
		settings: map[string]string{
			"system/accelerometer_rotation": "1", "system/font_scale": "1.0", "system/screen_off_timeout": "60000",
			"global/window_animation_scale": "1.0", "global/transition_animation_scale": "1.0", "global/animator_duration_scale": "1.0",
			"global/device_name": t.Model, "global/wifi_on": "1", "secure/android_id": fmt.Sprintf("%016x", seed),
		},
		level: 87, nextPID: 4200, rnd: rand.New(rand.NewPCG(seed, 1)), seed: seed, night: t.Dark, fonts: paint.NewFonts(t.Density)}
	if t.Sleeps > 0 {
		p.settings["system/screen_off_timeout"] = strconv.FormatInt(t.Sleeps.Milliseconds(), 10)
	}
	if p.keyboard = latinKeyboard; t.Composing {
		p.keyboard = composingKeyboard
	}
	p.settings["secure/default_input_method"] = p.keyboard
	p.log("system", 812, 'I', "SystemServer", "Entered the Android system server!")
	p.log("system", 812, 'I', "PackageManager", "Finished scanning, %d packages", 143)
	p.log("main", 1310, 'D', "WifiStateMachine", "connected, rssi -52")
	return p
}

// now is the time on the phone's own clock.
func (p *Phone) now() time.Time { return time.Now().Add(p.traits.Skew) }

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

func (p *Phone) device() app.Device {
	w, h := p.size()
	return app.Device{API: p.traits.API, DPI: p.traits.Density, Language: p.traits.Language, MemoryMB: p.traits.MemoryGB * 1024,
		ScreenW: w, ScreenH: h, StatusBarH: p.dp(24), NavBarH: p.navHeight(), Dark: p.night, HardKeys: p.traits.HardKeys}
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
		if in.proc != nil && in.proc.app != nil && in.proc.app.Device != p.device() {
			if err := in.proc.app.Resize(p.device()); err != nil {
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

func (p *Phone) dp(v int) int { return v * p.traits.Density / 160 }

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

// launch starts an app or brings it to the front. It answers true for a cold start.
func (p *Phone) launch(id string, args map[string]string) (cold bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	if in == nil {
		return false, fmt.Errorf("Activity class {%s} does not exist", id) //nolint:staticcheck // as am words it
	}
	p.crashed, p.hangs = "", false
	defer p.changed()
	if in.proc != nil {
		behind := p.front != id
		p.front = id // its arguments are those that it was started with
		if behind {
			p.act(func(a *app.App) error { return a.Resumed() })
		}
		return false, nil
	}
	p.nextPID += 7
	gone, end := context.WithCancel(p.ctx)
	proc := &process{pid: p.nextPID, gone: gone, end: end, since: time.Now()}
	in.proc, p.front = proc, id
	p.log("system", 812, 'I', "ActivityManager", "Start proc %d:%s/u0a%d for activity {%s/%s}", proc.pid, id, 140+len(p.apps), id, in.facts.Activity)
	source := in.source
	if source == "" {
		source = "def view():\n    return screen(\"\")\n"
	}
	env := app.Env{
		Died: func(err error) { p.crash(id, proc, err) },
		Log:  func(level byte, tag, text string) { p.log("main", proc.pid, level, tag, "%s", text) },
		HTTP: func(method, url string, body []byte) (int, []byte, error) { return p.fetch(gone, method, url, body) },
		Later: func(after time.Duration, f func()) {
			p.running.Go(func() {
				wait(gone, after)
				p.inApp(proc, f)
			})
		},
		Memory: func() time.Duration { return p.wantsMemory(in) },
		May:    func(name string) bool { return p.may(in, name) },
		Ask:    func(name string, then func(bool)) (granted, known bool) { return p.ask(id, name, then) },
		Block:  func(d time.Duration) { proc.busy = time.Now().Add(d) },
		Async: func(work, then func()) {
			p.running.Go(func() {
				p.take(gone, 80, 250)
				work()
				p.inApp(proc, then)
			})
		},
	}
	label := in.facts.Label
	a, err := app.Start(id, label, source, p.device(), args, env)
	if a == nil {
		in.proc, p.front = nil, ""
		end()
		return true, err
	}
	proc.app = a
	if err != nil {
		p.crash(id, proc, err)
	}
	p.log("system", 812, 'I', "ActivityTaskManager", "Displayed %s/%s: +412ms", id, in.facts.Activity)
	return true, nil
}

// inApp runs f in an app's process, unless that is gone.
func (p *Phone) inApp(proc *process, f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if proc.gone.Err() == nil {
		f()
		p.changed()
	}
}

// crash writes, under mu, what Android writes when an app dies, and puts up the dialog.
func (p *Phone) crash(id string, proc *process, err error) {
	in := p.apps[id]
	c, ok := err.(*app.Crash)
	if !ok || in == nil || in.proc != proc {
		return
	}
	if c.Signal > 0 {
		p.logSignal(id, proc.pid, c.Signal)
	} else {
		p.log("crash", proc.pid, 'E', "AndroidRuntime", "FATAL EXCEPTION: main\nProcess: %s, PID: %d\n%s", id, proc.pid, strings.Join(c.Trace, "\n"))
	}
	p.log("system", 812, 'W', "ActivityTaskManager", "  Force finishing activity %s/%s", id, in.facts.Activity)
	p.log("system", 812, 'I', "ActivityManager", "Process %s (pid %d) has died: fg  TOP", id, proc.pid)
	proc.end()
	in.proc = nil
	p.crashed, p.front, p.asking = in.facts.Label, "", nil
	p.changed()
}

// anrAfter is how long Android waits for an app to take an input.
const anrAfter = 5 * time.Second

// judgeLate says that an app does not respond when it has not taken an input in time.
func (p *Phone) judgeLate(proc *process, id string, busyFor time.Duration) {
	wait(proc.gone, min(busyFor, anrAfter))
	p.mu.Lock()
	defer p.mu.Unlock()
	proc.late = false
	in := p.apps[id]
	if proc.gone.Err() != nil || in == nil || in.proc != proc || time.Now().After(proc.busy) {
		return
	}
	p.log("system", 812, 'E', "ActivityManager", "ANR in %s (%s/%s)\nPID: %d\nReason: Input dispatching timed out (%s/%s (server) is not responding. Waited 5003ms for MotionEvent)",
		id, id, in.facts.Activity, proc.pid, id, in.facts.Activity)
	p.log("events", 812, 'I', "am_anr", "[0,%d,%s,0,Input dispatching timed out]", proc.pid, id)
	p.crashed, p.hangs = in.facts.Label, true
	p.changed()
}

// closeDialog does what the button of the system's dialog does.
func (p *Phone) closeDialog() {
	if p.hangs {
		for id, in := range p.apps {
			if in.facts.Label == p.crashed {
				p.kill(id)
			}
		}
	}
	p.crashed, p.hangs = "", false
	p.changed()
}

// kill ends an app's process, under mu.
func (p *Phone) kill(id string) {
	in := p.apps[id]
	if in == nil || in.proc == nil {
		return
	}
	p.log("system", 812, 'I', "ActivityManager", "Killing %d:%s (adj 0): stop %s", in.proc.pid, id, id)
	in.proc.end()
	in.proc = nil
	if p.asking != nil && p.asking.id == id {
		p.asking = nil
	}
	if p.front == id {
		p.front = ""
	}
	p.changed()
}

// act lets the app in front take an input, under mu.
func (p *Phone) act(f func(a *app.App) error) {
	id := p.front
	in := p.apps[id]
	if in == nil || in.proc == nil {
		return
	}
	proc := in.proc
	if wait := time.Until(proc.busy); wait > 0 { // it takes the input when it has time, or never
		if !proc.late {
			proc.late = true
			p.running.Go(func() { p.judgeLate(proc, id, wait) })
		}
		return
	}
	before := proc.app.Version
	if err := f(proc.app); err != nil {
		p.crash(id, proc, err)
	}
	if proc.app.Version != before {
		p.changed()
	}
}

// fetch is the phone's network: through its proxy when one is set, and with the
// names that its traits know.
func (p *Phone) fetch(ctx context.Context, method, target string, body []byte) (int, []byte, error) {
	p.mu.Lock()
	proxy := p.settings["global/http_proxy"]
	p.mu.Unlock()
	t := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, _ := net.SplitHostPort(address)
		if known := p.traits.Network[host]; known != "" {
			address = known
		} else if net.ParseIP(host) == nil {
			return nil, fmt.Errorf("java.net.UnknownHostException: Unable to resolve host \"%s\"", host)
		}
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}}
	if proxy != "" && proxy != ":0" {
		t.Proxy = http.ProxyURL(&url.URL{Scheme: "http", Host: proxy})
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := (&http.Client{Transport: t}).Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return resp.StatusCode, answer, err
}

// Installing says whether the phone is taking an APK in at the moment.
func (p *Phone) Installing() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.installing > 0
}

// install takes an APK in, and answers as pm does.
func (p *Phone) install(raw []byte, o installOptions) string {
	fail := func(code, why string, args ...any) string {
		return fmt.Sprintf("Failure [%s: %s]", code, fmt.Sprintf(why, args...))
	}
	file, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	var facts appfile.Facts
	if err == nil {
		facts, err = file.Facts()
	}
	if err != nil {
		return fail("INSTALL_PARSE_FAILED_NOT_APK", "Failed to parse /data/app/vmdl.tmp/base.apk: %v", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	old := p.apps[facts.AppID]
	if refusal := p.refusesInstall(o); refusal != "" {
		return refusal
	}
	switch {
	case facts.MinAPI > p.traits.API:
		return fail("INSTALL_FAILED_OLDER_SDK", "Requires newer sdk version #%d (current version is #%d)", facts.MinAPI, p.traits.API)
	case p.full(len(raw)):
		return fail("INSTALL_FAILED_INSUFFICIENT_STORAGE", "Failed to override installation location")
	case len(facts.ABIs) > 0 && !overlap(facts.ABIs, p.traits.ABIs):
		return fail("INSTALL_FAILED_NO_MATCHING_ABIS", "Failed to extract native libraries, res=-113")
	case old != nil && old.facts.VersionCode > facts.VersionCode && !o.downgrade:
		return fail("INSTALL_FAILED_VERSION_DOWNGRADE", "Downgrade detected: Update version code %d is older than current %d", facts.VersionCode, old.facts.VersionCode)
	}
	in := &installed{facts: facts, size: len(raw), granted: map[string]bool{}, never: map[string]bool{}, denied: map[string]int{}}
	if old != nil { // an update keeps what was granted
		in.granted, in.never, in.denied = old.granted, old.never, old.denied
	}
	if o.grant {
		p.grantAll(in)
	}
	if src, err := file.Entry("assets/behaviour.star", 256<<10); err == nil {
		in.source = string(src)
	}
	if icon := file.Icon(facts.IconPath); icon != nil {
		in.icon, _ = png.Decode(bytes.NewReader(icon))
	}
	p.kill(facts.AppID)
	p.apps[facts.AppID] = in
	p.log("system", 812, 'I', "PackageManager", "Installed %s versionCode=%d", facts.AppID, facts.VersionCode)
	p.changed()
	return "Success"
}

func overlap(a, b []string) bool {
	for _, x := range a {
		for _, y := range b {
			if x == y {
				return true
			}
		}
	}
	return false
}
