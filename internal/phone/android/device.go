// Package android drives Android devices behind an adb server, with nothing
// installed on them and no child process per command.
//
// Device is one, and a phone.Phone. What its shell says is text, whose forms differ
// with the system's level and its maker: each is read by a function of its own,
// which takes anything. In: a server and a device's name there. Out: calls that do
// what phone.Phone says, or *phone.Lost, *phone.Refused, *phone.Restless.
package android

// What a device is, and how it stands.

import (
	"cmp"
	"context"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// Limits of single calls. Real phones are slow; these are for the slowest.
const (
	quick       = 30 * time.Second
	treeLimit   = 60 * time.Second
	shotLimit   = 20 * time.Second
	launchLimit = 60 * time.Second
	installMin  = 3 * time.Minute
	installRate = 1 << 20 // bytes a second, at least
)

// Device is one Android device behind an adb server.
type Device struct {
	server    *adb.Server
	transport string // the server's name for the connection
	serial    string // the unit's own
	boot      string // differs from each start of each device to the next
	user      string // the number of the one who is at it; empty: 0, or not known
	epoch     bool   // its log tells times as seconds
	crashes   bool   // it has a buffer for crashes
	features  map[string]bool
	api       int

	settling sync.Mutex // held while settings are put to what tests want, and back

	mu       sync.Mutex
	closed   bool
	keeps    keeping
	changed  []setting      // by a case, as they were before, the first change first
	settled  []setting      // for an attempt
	keyboard bool           // ours is chosen, see LayKeyboard
	noted    bool           // how to put something back is noted on the device
	dump     []byte         // the last of the tree that could be read
	screen   *uitree.Screen // what it says
	seen     time.Time      // when it said so
	factual  bool           // it was asked for its facts; two of them are kept
	standsIn bool           // it is one of the simulated phones
	language string         // of its system
	// languages are those that apps were given.
	languages map[string]string
	several   *bool // whether it has several displays; nil: not known
	known     map[string]*known
	// What its maker forbids, as it was met.
	closedGates []gate

	markLevel   string            // of marks in its log; "": not known yet
	starts      map[string]string // how apps came up last
	port        int               // of the device, that leads to a proxy; 0: none
	panelClosed bool              // the shell may not write to its touch screen

	looking chan struct{} // holds one while the tree is being read
}

// Starting says that the device answers, and its system is still starting.
type Starting struct{ Serial string }

func (s *Starting) Error() string {
	return "the device " + s.Serial + " is still starting; wait until its home screen is there"
}

var (
	_ phone.Phone       = (*Device)(nil)
	_ phone.Logger      = (*Device)(nil)
	_ phone.Clock       = (*Device)(nil)
	_ phone.Keyboard    = (*Device)(nil)
	_ phone.Settings    = (*Device)(nil)
	_ phone.Conditioner = (*Device)(nil)
	_ phone.Waker       = (*Device)(nil)
	_ phone.Pixels      = (*Device)(nil)

	_ phone.Permissions = (*Device)(nil)
	_ phone.Settler     = (*Device)(nil)
)

// Open takes a device into use. Transport is its serial as the server lists it. One whose system is not up yet is *Starting.
func Open(ctx context.Context, server *adb.Server, transport string) (*Device, error) {
	d := newDevice(server, transport)
	var err error
	if d.features, err = server.Features(ctx, transport); err != nil {
		return nil, &phone.Lost{Serial: transport, Doing: "say what it can do", Err: err}
	}
	const mark = "echo ---; "
	a, err := d.shell(ctx, "say what it is", "getprop ro.serialno; getprop ro.build.version.sdk; "+mark+"getprop sys.boot_completed; "+mark+
		"cat /proc/sys/kernel/random/boot_id; "+mark+"am get-current-user", quick)
	if err != nil {
		return nil, err
	}
	parts := strings.Split(strings.ReplaceAll(string(a.out), "\r\n", "\n"), "---\n")
	if len(parts) != 4 {
		return nil, &phone.Refused{Doing: "say what it is", Why: clip(a.text()), Remedy: "restart it"}
	}
	serial, sdk, _ := strings.Cut(strings.TrimLeft(parts[0], " "), "\n")
	d.serial = unitSerial(strings.TrimSpace(serial), transport)
	d.api, _ = strconv.Atoi(strings.TrimSpace(sdk))
	if strings.TrimSpace(parts[1]) != "1" {
		return nil, &Starting{d.serial}
	}
	if boot := strings.TrimSpace(parts[2]); bootForm.MatchString(boot) {
		d.boot = boot
	}
	if n, err := strconv.Atoi(value(parts[3])); err == nil && n > 0 {
		d.user = strconv.Itoa(n)
	}
	d.epoch = d.api >= 24
	d.crashes = d.api >= 24
	if d.api >= 21 && d.api <= 25 { // some makers' systems lack what came with these levels
		a, err := d.shell(ctx, "say what its log can do", "logcat -v epoch -d -t 1; "+mark+"logcat -b crash -d -t 1", quick)
		if err != nil {
			return nil, err
		}
		epoch, crashes, _ := strings.Cut(a.text(), "---")
		d.epoch = d.epoch && !strings.Contains(epoch, "Invalid parameter")
		d.crashes = !strings.Contains(crashes, "nable to open log device") && !strings.Contains(crashes, "nknown buffer")
	}
	return d, nil
}

func newDevice(server *adb.Server, transport string) *Device {
	return &Device{server: server, transport: transport, serial: transport, known: map[string]*known{}, looking: make(chan struct{}, 1)}
}

var bootForm = regexp.MustCompile(`^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// sharedSerial are serials that many devices have: emulators of one version, and makers that left the field as it came.
var sharedSerial = regexp.MustCompile(`^(unknown|EMULATOR\d.*|0123456789ABCDEF|1234567890ABCDEF|0123456789|1234567890|(.)|0+|f+|F+|x+)?$`)

// unitSerial is what a unit is known by: the serial that it tells, unless that is one that many tell.
func unitSerial(told, transport string) string {
	if sharedSerial.MatchString(told) {
		return transport
	}
	return told
}

// Boot identifies this start of this device: two ways to one device tell the same. Empty: it does not say.
func (d *Device) Boot() string { return d.boot }

// forUser names the user who is at the device, where that is not the first.
func (d *Device) forUser() string {
	if d.user == "" {
		return ""
	}
	return " --user " + d.user
}

// Serial is the unit's own serial.
func (d *Device) Serial() string { return d.serial }

func (d *Device) isClosed() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.closed
}

// Close lets go of the device.
func (d *Device) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	d.keeps.shell.close()
	d.keeps.shell = nil
	return nil
}

var propForm = regexp.MustCompile(`(?m)^\[(.+?)\]: \[(.*?)\]\s*$`)

var sizeForm = regexp.MustCompile(`(Physical|Override) size: (\d+)x(\d+)`)

var densityForm = regexp.MustCompile(`(Physical|Override) density: (\d+)`)

var featureForm = regexp.MustCompile(`(?m)^feature:([\w.]+)`)

var memoryForm = regexp.MustCompile(`MemTotal:\s+(\d+) kB`)

// Facts asks the device what it is.
func (d *Device) Facts(ctx context.Context) (devices.Facts, error) {
	var f devices.Facts
	a, err := d.shell(ctx, "say what it is", "getprop; wm size; wm density; cat /proc/meminfo; pm list features", quick)
	if err != nil {
		return f, err
	}
	f = readFacts(string(a.out), d.serial)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.factual, d.language, d.standsIn = true, f.Language, f.Simulated
	return f, nil
}

// readSize reads from `wm size` how large the upright screen is; an override comes second, and is in force.
func readSize(out string) (w, h int) {
	for _, m := range sizeForm.FindAllStringSubmatch(out, -1) {
		w, _ = strconv.Atoi(m[2])
		h, _ = strconv.Atoi(m[3])
	}
	return w, h
}

func readFacts(out, serial string) devices.Facts {
	props := map[string]string{}
	for _, m := range propForm.FindAllStringSubmatch(out, -1) {
		props[m[1]] = m[2]
	}
	first := func(names ...string) string {
		for _, n := range names {
			if props[n] != "" {
				return props[n]
			}
		}
		return ""
	}
	f := devices.Facts{Serial: serial, Platform: "android", OS: props["ro.build.version.release"], Maker: props["ro.product.manufacturer"],
		Model: props["ro.product.model"], Form: "phone", Origin: "real", Simulated: props["ro.tessellant.simulated"] == "1"}
	f.API, _ = strconv.Atoi(props["ro.build.version.sdk"])
	if strings.Contains(props["ro.build.characteristics"], "tablet") {
		f.Form = "tablet"
	}
	if props["ro.kernel.qemu"] == "1" || props["ro.boot.qemu"] == "1" {
		f.Origin = "emulated"
	}
	f.Language, _, _ = strings.Cut(first("persist.sys.locale", "ro.product.locale", "persist.sys.language"), "-")
	for _, abi := range strings.Split(first("ro.product.cpu.abilist", "ro.product.cpu.abi"), ",") {
		if abi != "" {
			f.ABIs = append(f.ABIs, abi)
		}
	}
	f.Width, f.Height = readSize(out)
	for _, m := range densityForm.FindAllStringSubmatch(out, -1) {
		f.Density, _ = strconv.Atoi(m[2])
	}
	has := map[string]bool{}
	for _, m := range featureForm.FindAllStringSubmatch(out, -1) {
		has[m[1]] = true
	}
	for _, x := range devices.Usual {
		if len(has) > 0 && !has[x] { // one that says nothing is taken to have all
			f.Without = append(f.Without, x)
		}
	}
	if m := memoryForm.FindStringSubmatch(out); m != nil {
		kb, _ := strconv.Atoi(m[1])
		f.MemoryMB = kb / 1024
	}
	return f
}

// Answers asks the device the simplest question there is.
func (d *Device) Answers(ctx context.Context, within time.Duration) error {
	_, err := d.shell(ctx, "answer", "echo", within)
	return err
}

var (
	freeForm = regexp.MustCompile(`(?m)^\S+\s+\d+\s+\d+\s+(\d+)\s`)
	oldFree  = regexp.MustCompile(`(?m)^/data\s+[\d.]+[KMGT]?\s+[\d.]+[KMGT]?\s+([\d.]+)([KMGT]?)\s`)
)

// FreeMB asks how much storage is left for apps and their data, in MB.
func (d *Device) FreeMB(ctx context.Context) (int, error) {
	a, err := d.shell(ctx, "say how much storage it has left", "df -k /data", quick)
	if err != nil {
		return 0, err
	}
	if mb, ok := readFree(string(a.out)); ok {
		return mb, nil
	}
	return 1 << 20, nil // it writes sizes in a way of its own; an install that finds no room says so
}

// readFree reads MB that are free from what `df -k /data` says; before Android 6 that has no options, and sizes with units.
func readFree(out string) (mb int, ok bool) {
	if m := oldFree.FindStringSubmatch(out); m != nil {
		n, err := strconv.ParseFloat(m[1], 64)
		unit := map[string]float64{"": 1.0 / (1 << 20), "K": 1.0 / 1024, "M": 1, "G": 1024, "T": 1 << 20}[m[2]]
		return int(n * unit), err == nil
	}
	if m := freeForm.FindStringSubmatch(out); m != nil {
		kb, err := strconv.Atoi(m[1])
		return kb / 1024, err == nil
	}
	return 0, false
}

// KeyboardShown says whether the keyboard covers the screen.
func (d *Device) KeyboardShown(ctx context.Context) (bool, error) {
	a, err := d.shell(ctx, "say whether its keyboard is up", "dumpsys input_method", quick)
	return readKeyboard(string(a.out)), err
}

// readKeyboard reads `dumpsys input_method`. With a keyboard attached the service says that one is shown, and its view is not.
func readKeyboard(out string) bool {
	return strings.Contains(out, "mInputShown=true") && !strings.Contains(out, "mIsInputViewShown=false") && !strings.Contains(out, "mDecorViewVisible=false")
}

// Now reads the device's clock.
func (d *Device) Now(ctx context.Context) (time.Time, error) {
	a, err := d.shell(ctx, "tell the time", "date +%s.%N", quick)
	if err != nil {
		return time.Time{}, err
	}
	sec, frac, _ := strings.Cut(a.text(), ".")
	s, err := strconv.ParseInt(sec, 10, 64)
	if err != nil {
		return time.Time{}, &phone.Refused{Doing: "tell the time", Why: clip(a.text())}
	}
	ns, err := strconv.ParseInt(frac, 10, 64)
	if err != nil || len(frac) != 9 {
		ns = int64(500 * time.Millisecond) // an old date knows whole seconds only
	}
	return time.Unix(s, ns), nil
}

// Gone gives a channel that closes when the device goes away: the server ends
// an open stream at once, long before its list of devices shows it.
func (d *Device) Gone(ctx context.Context) (<-chan struct{}, error) {
	s, err := d.stream(ctx, "stay in touch", "cat")
	if err != nil {
		return nil, err
	}
	gone := make(chan struct{})
	go func() { // ends with the device or with ctx
		defer s.Close()
		_, _ = io.Copy(io.Discard, s)
		if ctx.Err() == nil {
			close(gone)
		}
	}()
	return gone, nil
}

func clip(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return cmp.Or(foreign.Name(s, 300), "it gave no reason")
}
