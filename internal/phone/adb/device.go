package adb

// A device behind an adb server: what it is, and how it stands.

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

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
	server    *Server
	transport string // the server's name for the connection
	serial    string // the unit's own
	features  map[string]bool
	api       int

	mu       sync.Mutex
	closed   bool
	keeps    keeping
	fileDump bool           // this device writes the tree into files only
	changed  []setting      // as they were before, the first change first
	dump     []byte         // the last of the tree that could be read
	screen   *uitree.Screen // what it says
}

var (
	_ phone.Phone    = (*Device)(nil)
	_ phone.Logger   = (*Device)(nil)
	_ phone.Clock    = (*Device)(nil)
	_ phone.Keyboard = (*Device)(nil)
	_ phone.Settings = (*Device)(nil)
	_ phone.Waker    = (*Device)(nil)
	_ phone.Pixels   = (*Device)(nil)
)

// Open takes a device into use. Transport is its serial as the server lists it.
func Open(ctx context.Context, server *Server, transport string) (*Device, error) {
	d := &Device{server: server, transport: transport, serial: transport}
	var err error
	if d.features, err = server.features(ctx, transport); err != nil {
		return nil, &phone.Lost{Serial: transport, Doing: "say what it can do", Err: err}
	}
	a, err := d.shell(ctx, "say what it is", "getprop ro.serialno; getprop ro.build.version.sdk", quick)
	if err != nil {
		return nil, err
	}
	serial, sdk, _ := strings.Cut(strings.TrimSpace(string(a.out)), "\n")
	if s := strings.TrimSpace(serial); s != "" {
		d.serial = s
	}
	d.api, _ = strconv.Atoi(strings.TrimSpace(sdk))
	return d, nil
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

var memoryForm = regexp.MustCompile(`MemTotal:\s+(\d+) kB`)

// Facts asks the device what it is.
func (d *Device) Facts(ctx context.Context) (devices.Facts, error) {
	var f devices.Facts
	a, err := d.shell(ctx, "say what it is", "getprop; wm size; wm density; cat /proc/meminfo", quick)
	if err != nil {
		return f, err
	}
	return readFacts(string(a.out), d.serial), nil
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
	for _, m := range sizeForm.FindAllStringSubmatch(out, -1) { // an override comes second, and is in force
		f.Width, _ = strconv.Atoi(m[2])
		f.Height, _ = strconv.Atoi(m[3])
	}
	for _, m := range densityForm.FindAllStringSubmatch(out, -1) {
		f.Density, _ = strconv.Atoi(m[2])
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

var freeForm = regexp.MustCompile(`(?m)^\S+\s+\d+\s+\d+\s+(\d+)\s`)

// FreeMB asks how much storage is left for apps and their data, in MB.
func (d *Device) FreeMB(ctx context.Context) (int, error) {
	a, err := d.shell(ctx, "say how much storage it has left", "df -k /data", quick)
	if err != nil {
		return 0, err
	}
	m := freeForm.FindStringSubmatch(string(a.out))
	if m == nil {
		return 1 << 20, nil // an old df writes sizes in its own way; an install that finds no room says so
	}
	kb, _ := strconv.Atoi(m[1])
	return kb / 1024, nil
}

// KeyboardShown says whether the keyboard is up.
func (d *Device) KeyboardShown(ctx context.Context) (bool, error) {
	a, err := d.shell(ctx, "say whether its keyboard is up", "dumpsys input_method", quick)
	return strings.Contains(string(a.out), "mInputShown=true"), err
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

// Log streams the device's log.
func (d *Device) Log(ctx context.Context, since time.Time) (io.ReadCloser, error) {
	line := fmt.Sprintf("logcat -v epoch -b main,system,crash -T %d.%03d", since.Unix(), since.Nanosecond()/1e6)
	if d.api < 24 { // knows neither the format nor the crash buffer's name everywhere
		line = "logcat -v threadtime -b main -b system -T " + quote(since.UTC().Format("01-02 15:04:05.000"))
	}
	return d.stream(ctx, "send its log", line)
}

// Mark writes a line into the device's log.
func (d *Device) Mark(ctx context.Context, text string) error {
	_, err := d.shell(ctx, "write into its log", "log -t Tessellant "+quote(text), quick)
	return err
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
