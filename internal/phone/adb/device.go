package adb

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"maps"
	"net"
	"path"
	"regexp"
	"slices"
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

var failureForm = regexp.MustCompile(`(?s)Failure \[(\w+)(?::\s*(.*?))?\]`)

var installRemedies = map[string]string{
	"OLDER_SDK":                            "the build needs a newer Android than the device has",
	"UPDATE_INCOMPATIBLE":                  "an app with this id but another signer is on the device: uninstall it there",
	"VERSION_DOWNGRADE":                    "a newer version is on the device: uninstall it there",
	"INSUFFICIENT_STORAGE":                 "free some storage on the device",
	"NO_MATCHING_ABIS":                     "the build has no code for the device's processor kind",
	"TEST_ONLY":                            "the build is marked testOnly",
	"USER_RESTRICTED":                      "the device asks its user to allow it: tap Allow there, or switch on installing over USB",
	"MISSING_SPLIT":                        "the build is one part of a split set: upload a universal APK",
	"INSTALL_PARSE_FAILED_NO_CERTIFICATES": "sign the build",
}

// Install installs the build.
func (d *Device) Install(ctx context.Context, app phone.App) error {
	const doing = "install the build"
	ctx, cancel := d.with(ctx, installMin+time.Duration(app.Size/installRate)*time.Second)
	defer cancel()
	file, err := app.Open()
	if err != nil {
		return fmt.Errorf("open the build: %w", err)
	}
	defer file.Close()
	flags := "-r -t"
	if d.api >= 23 {
		flags += " -g" // grants what the app asks for, so that no dialog stands in the way
	}
	var out string
	if d.features["cmd"] {
		raw, err := d.exec(ctx, doing, fmt.Sprintf("exec:cmd package install %s -S %d", flags, app.Size), file)
		if err != nil {
			return err
		}
		out = string(raw)
	} else {
		target := "/data/local/tmp/tessellant-" + path.Base(app.ID) + ".apk"
		if err := d.push(ctx, doing, file, target); err != nil {
			return err
		}
		a, err := d.shell(ctx, doing, "pm install "+flags+" "+quote(target)+"; rm -f "+quote(target), installMin)
		if err != nil {
			return err
		}
		out = a.text()
	}
	if strings.Contains(out, "Success") {
		return nil
	}
	if m := failureForm.FindStringSubmatch(out); m != nil {
		r := &phone.Refused{Doing: doing, Code: m[1], Why: strings.TrimSpace(m[2]), Remedy: "see the device's log"}
		for code, remedy := range installRemedies {
			if strings.HasSuffix(m[1], code) {
				r.Remedy = remedy
			}
		}
		if r.Why == "" {
			r.Why = "it gave no reason"
		}
		return r
	}
	if strings.TrimSpace(out) == "" { // it never goes silent when it is there
		return d.failed(ctx, doing, errCut)
	}
	return &phone.Refused{Doing: doing, Why: clip(out)}
}

// push writes a file on the device (SYNC.TXT: SEND).
func (d *Device) push(ctx context.Context, doing string, r io.Reader, target string) error {
	c, err := d.server.open(ctx, d.transport, "sync:")
	if err != nil {
		return d.failed(ctx, doing, err)
	}
	defer c.Close()
	le := binary.LittleEndian
	send := func(id string, n uint32, body []byte) error {
		_, err := c.Write(append(le.AppendUint32([]byte(id), n), body...))
		return err
	}
	name := target + ",33188" // a plain file, 0644
	if err := send("SEND", uint32(len(name)), []byte(name)); err != nil {
		return d.failed(ctx, doing, err)
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(r, buf)
		if n > 0 {
			if err := send("DATA", uint32(n), buf[:n]); err != nil {
				return d.failed(ctx, doing, err)
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("read the build: %w", err)
		}
	}
	if err := send("DONE", uint32(time.Now().Unix()), nil); err != nil {
		return d.failed(ctx, doing, err)
	}
	head := make([]byte, 8)
	if _, err := io.ReadFull(c, head); err != nil {
		return d.failed(ctx, doing, errCut)
	}
	if string(head[:4]) == "OKAY" {
		return nil
	}
	why, _ := io.ReadAll(io.LimitReader(c, int64(min(le.Uint32(head[4:]), 1<<10))))
	return &phone.Refused{Doing: doing, Why: string(why), Remedy: "free some storage on the device"}
}

// Uninstall removes an app.
func (d *Device) Uninstall(ctx context.Context, id string) error {
	a, err := d.shell(ctx, "say whether the app is installed", "pm path "+quote(id), quick)
	if err != nil || !strings.Contains(string(a.out), "package:") {
		return err
	}
	a, err = d.shell(ctx, "uninstall the app", "pm uninstall "+quote(id), quick)
	if err == nil && !strings.Contains(a.text(), "Success") {
		err = &phone.Refused{Doing: "uninstall the app " + id, Why: clip(a.text())}
	}
	return err
}

// Launch starts the app.
func (d *Device) Launch(ctx context.Context, app phone.App) error {
	component := app.ID + "/" + app.Activity
	if app.Activity == "" {
		a, err := d.shell(ctx, "find the app's first screen", "cmd package resolve-activity --brief -c android.intent.category.LAUNCHER "+quote(app.ID), quick)
		if err != nil {
			return err
		}
		lines := strings.Split(strings.TrimSpace(string(a.out)), "\n")
		component = strings.TrimSpace(lines[len(lines)-1])
		if !strings.Contains(component, "/") {
			return &phone.Refused{Doing: "start the app " + app.ID, Why: "it is not installed, or has no screen that a launcher starts"}
		}
	}
	line := "am start -W -n " + quote(component)
	for _, n := range slices.Sorted(maps.Keys(app.Args)) {
		line += " --es " + quote(n) + " " + quote(app.Args[n])
	}
	a, err := d.shell(ctx, "start the app", line, launchLimit)
	if err != nil {
		return err
	}
	if !strings.Contains(a.text(), "Status: ok") { // the exit code says nothing
		return &phone.Refused{Doing: "start the app " + app.ID, Why: clip(a.text()), Remedy: "see whether it is installed"}
	}
	return nil
}

// Stop ends the app.
func (d *Device) Stop(ctx context.Context, id string) error {
	_, err := d.shell(ctx, "stop the app", "am force-stop "+quote(id), quick)
	return err
}

// Clear deletes the app's data.
func (d *Device) Clear(ctx context.Context, id string) error {
	a, err := d.shell(ctx, "clear the app's data", "pm clear "+quote(id), quick)
	if err == nil && !strings.Contains(a.text(), "Success") {
		err = &phone.Refused{Doing: "clear the data of " + id, Why: clip(a.text()), Remedy: "see whether it is installed"}
	}
	return err
}

// Tree reads what is on the screen. While something moves, or the accessibility service has
// nothing to give, it asks again.
func (d *Device) Tree(ctx context.Context) (*uitree.Screen, error) {
	const doing = "read the screen's tree"
	ctx, cancel := d.with(ctx, treeLimit)
	defer cancel()
	var last error
	for try := range 5 {
		d.mu.Lock()
		asFile := d.fileDump
		d.mu.Unlock()
		line := "uiautomator dump /dev/tty"
		if asFile {
			line = "uiautomator dump /sdcard/tessellant.xml; cat /sdcard/tessellant.xml; rm -f /sdcard/tessellant.xml"
		}
		a, err := d.shell(ctx, doing, line, treeLimit)
		if err != nil {
			return nil, err
		}
		s, err := d.parse(a.out)
		if err == nil {
			return s, nil
		}
		last = &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "wait until nothing on the screen moves"}
		if !asFile && strings.Contains(a.text(), "dumped to: /dev/tty") {
			d.mu.Lock()
			d.fileDump = true
			d.mu.Unlock()
			continue
		}
		select {
		case <-time.After(time.Duration(50*(try+1)) * time.Millisecond):
		case <-ctx.Done():
			return nil, d.failed(ctx, doing, ctx.Err())
		}
	}
	return nil, last
}

// parse reads a dump. One that is the same as the last is the same screen: those who wait look again and again.
func (d *Device) parse(dump []byte) (*uitree.Screen, error) {
	d.mu.Lock()
	if d.screen != nil && bytes.Equal(dump, d.dump) {
		defer d.mu.Unlock()
		return d.screen, nil
	}
	d.mu.Unlock()
	s, err := uitree.ParseAndroid(dump)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.dump, d.screen = dump, s
	return s, nil
}

var pngStart, pngEnd = []byte("\x89PNG\r\n\x1a\n"), []byte("IEND\xaeB`\x82")

// Screenshot gives the screen as a PNG. What some devices print before it is cut off.
func (d *Device) Screenshot(ctx context.Context) ([]byte, error) {
	const doing = "take a screenshot"
	ctx, cancel := d.with(ctx, shotLimit)
	defer cancel()
	raw, err := d.exec(ctx, doing, "exec:screencap -p", nil)
	if err != nil {
		return nil, err
	}
	i := bytes.Index(raw, pngStart)
	switch {
	case i >= 0 && bytes.HasSuffix(raw, pngEnd):
		return raw[i:], nil
	case i < 0 && len(raw) > 0:
		return nil, &phone.Refused{Doing: doing, Why: clip(string(raw))}
	}
	return nil, d.failed(ctx, doing, errCut) // it broke off: exec says nothing of how a command ended
}

// Pixels gives the screen as screencap writes it: width, height, format and,
// since Android 9, colour space, four bytes each, then the pixels.
func (d *Device) Pixels(ctx context.Context) (*image.RGBA, error) {
	const doing = "give its pixels"
	ctx, cancel := d.with(ctx, shotLimit)
	defer cancel()
	raw, err := d.exec(ctx, doing, "exec:screencap", nil)
	if err != nil {
		return nil, err
	}
	if len(raw) < 12 {
		return nil, d.failed(ctx, doing, errCut)
	}
	le := binary.LittleEndian
	w, h, format := int(le.Uint32(raw)), int(le.Uint32(raw[4:])), le.Uint32(raw[8:])
	const rgba8888 = 1
	if w <= 0 || h <= 0 || w > 20_000 || h > 20_000 || format != rgba8888 {
		return nil, &phone.Refused{Doing: doing, Why: fmt.Sprintf("it gave %d×%d pixels of format %d", w, h, format)}
	}
	head := len(raw) - w*h*4
	if head != 12 && head != 16 {
		return nil, d.failed(ctx, doing, errCut)
	}
	return &image.RGBA{Pix: raw[head:], Stride: w * 4, Rect: image.Rect(0, 0, w, h)}, nil
}

// QuickLink reports whether the device is reached over loopback.
func (d *Device) QuickLink() bool {
	host, _, err := net.SplitHostPort(d.transport)
	return err == nil && net.ParseIP(host).IsLoopback()
}

func (d *Device) input(ctx context.Context, doing, line string) error {
	a, err := d.shell(ctx, doing, "input "+line, quick)
	if err == nil && (a.code != 0 || strings.Contains(a.text(), "Exception")) {
		err = &phone.Refused{Doing: doing, Why: clip(a.text()), Remedy: "see whether the device allows input over USB (its developer options)"}
	}
	return err
}

// Tap touches a point.
func (d *Device) Tap(ctx context.Context, x, y int) error {
	return d.input(ctx, "tap", fmt.Sprintf("tap %d %d", x, y))
}

// Swipe moves a finger.
func (d *Device) Swipe(ctx context.Context, x1, y1, x2, y2 int, took time.Duration) error {
	return d.input(ctx, "swipe", fmt.Sprintf("swipe %d %d %d %d %d", x1, y1, x2, y2, took.Milliseconds()))
}

const maxText = 10_000

// Type enters text. The device's input command takes printable ASCII alone; a
// new line is typed as the Enter key.
func (d *Device) Type(ctx context.Context, text string) error {
	if len(text) > maxText {
		return fmt.Errorf("the text has %d bytes; %d can be typed at once", len(text), maxText)
	}
	for _, r := range text {
		if r != '\n' && (r < ' ' || r > '~') {
			return &phone.Untypable{Text: text, Rune: r}
		}
	}
	for i, line := range strings.Split(text, "\n") {
		if i > 0 {
			if err := d.Press(ctx, phone.Enter); err != nil {
				return err
			}
		}
		// The command takes %s for a blank, so a text that has %s in it is typed in two parts.
		parts := strings.SplitAfter(line, "%")
		for k := 0; k < len(parts); k++ {
			for k+1 < len(parts) && !strings.HasPrefix(parts[k+1], "s") {
				parts[k+1] = parts[k] + parts[k+1]
				k++
			}
			if parts[k] == "" {
				continue
			}
			if err := d.input(ctx, "type", "text "+quote(strings.ReplaceAll(parts[k], " ", "%s"))); err != nil {
				return err
			}
		}
	}
	return nil
}

var keyCodes = map[phone.Key]string{phone.Back: "BACK", phone.Home: "HOME", phone.Enter: "ENTER", phone.Delete: "DEL", phone.End: "MOVE_END", "tab": "TAB", "escape": "ESCAPE",
	"search": "SEARCH", "menu": "MENU", "volume_up": "VOLUME_UP", "volume_down": "VOLUME_DOWN", "up": "DPAD_UP", "down": "DPAD_DOWN", "left": "DPAD_LEFT", "right": "DPAD_RIGHT"}

// Press presses keys.
func (d *Device) Press(ctx context.Context, keys ...phone.Key) error {
	var codes []string
	for _, k := range keys {
		code := keyCodes[k]
		if code == "" {
			return fmt.Errorf("an Android device has no key %q", k)
		}
		codes = append(codes, "KEYCODE_"+code)
	}
	return d.input(ctx, "press a key", "keyevent "+strings.Join(codes, " "))
}

// Wake switches the screen on, and puts a lock screen away that has no secret.
func (d *Device) Wake(ctx context.Context) error {
	_, err := d.shell(ctx, "wake up", "input keyevent KEYCODE_WAKEUP; wm dismiss-keyguard", quick)
	return err
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
