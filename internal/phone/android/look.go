package android

// What the screen shows: as a tree, as a picture.

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"net"
	"regexp"
	"strings"
	"time"

	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// dumpFile takes the tree: the shell's own folder is there before the first unlock, too, and a
// terminal, which some systems write to instead, is not.
const dumpFile = "/data/local/tmp/tessellant-tree.xml"

// A fresh file each time: an old one must not be taken for what is on the screen now, and none is left.
const dumpLine = "rm -f " + dumpFile + "; uiautomator dump " + dumpFile + "; cat " + dumpFile + "; rm -f " + dumpFile

// restLimit is how long the screen is waited for that moves all the time. The command gives up by itself after 10 s, and takes 1 or 2 more to begin.
const restLimit = 10 * time.Second

// maxAllowed is how many dialogs in a row are answered for an app that is not to ask.
const maxAllowed = 5

// Tree reads what is on the screen. While something moves, or the accessibility service has
// nothing to give, it asks again. A screen that does not come to rest is *phone.Restless.
func (d *Device) Tree(ctx context.Context) (*uitree.Screen, error) {
	const doing = "read the screen's tree"
	ctx, cancel := d.with(ctx, treeLimit)
	defer cancel()
	began := time.Now()
	var last error
	for odd, allowed := 0, 0; odd < 5; {
		a, err := d.dumpOnce(ctx, doing)
		if err != nil {
			return nil, err
		}
		s, err := d.parse(a.out)
		if err == nil {
			if allow := d.asked(s); allow != nil && allowed < maxAllowed {
				allowed++
				x, y := allow.Bounds.Center()
				if err := d.Tap(ctx, x, y); err != nil {
					return nil, err
				}
				continue
			}
			return s, nil
		}
		said := a.text()
		last = &phone.Refused{Doing: doing, Why: clip(said), Remedy: "see the device's log"}
		switch {
		case strings.Contains(said, "could not get idle state"):
			if waited := time.Since(began); waited >= restLimit {
				d.mu.Lock()
				defer d.mu.Unlock()
				return nil, &phone.Restless{For: waited, Last: d.screen, Seen: d.seen}
			}
		case strings.Contains(said, "already registered"): // somebody else is reading
			if time.Since(began) > treeLimit/2 {
				return nil, &phone.Refused{Doing: doing, Code: "in use", Why: "another program reads its screen all the time", Remedy: "end the other tool that tests on it, or restart the device"}
			}
		case strings.Contains(said, "null root node"):
			odd++
			on, err := d.awake(ctx)
			if err == nil && !on {
				err = d.Wake(ctx)
			}
			if err != nil {
				return nil, err
			}
		default:
			odd++
		}
		if err := phone.Pause(ctx, time.Duration(50*(odd+1))*time.Millisecond); err != nil {
			return nil, d.failed(ctx, doing, err)
		}
	}
	return nil, last
}

// dumpOnce runs one dump. There is one at a time, and it is never cut off: one that is goes on by itself, and the next dies of it.
// Who does not wait for its end leaves it to the next, who does.
func (d *Device) dumpOnce(ctx context.Context, doing string) (answer, error) {
	select {
	case d.looking <- struct{}{}:
	case <-ctx.Done():
		return answer{}, d.failed(ctx, doing, ctx.Err())
	}
	type result struct {
		a   answer
		err error
	}
	came := make(chan result, 1)
	go func() {
		defer func() { <-d.looking }()
		a, err := d.shell(context.WithoutCancel(ctx), doing, dumpLine, treeLimit)
		came <- result{a, err}
	}()
	select {
	case r := <-came:
		return r.a, r.err
	case <-ctx.Done():
		return answer{}, d.failed(ctx, doing, ctx.Err())
	}
}

// parse reads a dump. One that is the same as the last is the same screen: those who wait look again and again.
func (d *Device) parse(dump []byte) (*uitree.Screen, error) {
	d.mu.Lock()
	if d.screen != nil && bytes.Equal(dump, d.dump) {
		defer d.mu.Unlock()
		d.seen = time.Now()
		return d.screen, nil
	}
	d.mu.Unlock()
	s, err := uitree.ParseAndroid(dump)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.dump, d.screen, d.seen = dump, s, time.Now()
	return s, nil
}

var pngStart, pngEnd = []byte("\x89PNG\r\n\x1a\n"), []byte("IEND\xaeB`\x82")

// Screenshot gives the screen as a PNG. What some devices print before and behind it is cut off.
func (d *Device) Screenshot(ctx context.Context) ([]byte, error) {
	const doing = "take a screenshot"
	ctx, cancel := d.with(ctx, shotLimit)
	defer cancel()
	raw, err := d.screencap(ctx, doing, "-p")
	if err != nil {
		return nil, err
	}
	begin, end := bytes.Index(raw, pngStart), bytes.LastIndex(raw, pngEnd)
	switch {
	case begin >= 0 && end > begin:
		return raw[begin : end+len(pngEnd)], nil
	case begin < 0:
		return nil, d.noPicture(ctx, doing, raw)
	}
	return nil, d.failed(ctx, doing, errCut) // it broke off: exec says nothing of how a command ended
}

// noPicture says why there is none: a text says why not, nothing at all is a screen that may not be pictured, when the device still answers.
func (d *Device) noPicture(ctx context.Context, doing string, raw []byte) error {
	if len(bytes.TrimSpace(raw)) > 0 {
		return &phone.Refused{Doing: doing, Why: clip(string(raw))}
	}
	if err := d.Answers(ctx, 5*time.Second); err != nil {
		return err
	}
	return &phone.Refused{Doing: doing, Code: "secure", Why: "the app in front does not let its screen be pictured (FLAG_SECURE)", Remedy: "test a build that leaves the flag out"}
}

var manyDisplays = []byte("Multiple displays were found")

// screencap pictures the display that is in use: on a device that folds, the first may be the dark one.
func (d *Device) screencap(ctx context.Context, doing, options string) ([]byte, error) {
	line := "exec:" + strings.TrimSpace("screencap "+options)
	d.mu.Lock()
	several := d.several
	d.mu.Unlock()
	if several == nil || *several {
		if several == nil {
			raw, err := d.exec(ctx, doing, line, nil)
			if err != nil || !bytes.Contains(raw[:min(len(raw), 400)], manyDisplays) {
				return raw, err
			}
		}
		a, err := d.shell(ctx, "say which of its displays is on", "dumpsys display", quick)
		if err != nil {
			return nil, err
		}
		id, many := readDisplay(string(a.out))
		d.mu.Lock()
		d.several = &many
		d.mu.Unlock()
		if id != "" && many {
			line += " -d " + id
		}
	}
	return d.exec(ctx, doing, line, nil)
}

var displayForm = regexp.MustCompile(`DisplayDeviceInfo\{.*uniqueId="local:(\d+)".*\bstate (ON|OFF)`)

// readDisplay reads from `dumpsys display` the number of the built-in display that is on, and whether there are several.
func readDisplay(out string) (id string, several bool) {
	seen := map[string]bool{}
	for _, m := range displayForm.FindAllStringSubmatch(out, -1) {
		seen[m[1]] = true
		if m[2] == "ON" && id == "" {
			id = m[1]
		}
	}
	return id, len(seen) > 1
}

// Pixels gives the screen as screencap writes it: width, height, format and,
// since Android 9, colour space, four bytes each, then the pixels.
func (d *Device) Pixels(ctx context.Context) (*image.RGBA, error) {
	const doing = "give its pixels"
	ctx, cancel := d.with(ctx, shotLimit)
	defer cancel()
	raw, err := d.screencap(ctx, doing, "")
	if err != nil {
		return nil, err
	}
	if len(raw) < 12 {
		return nil, d.noPicture(ctx, doing, raw)
	}
	le := binary.LittleEndian
	w, h, format := int(le.Uint32(raw)), int(le.Uint32(raw[4:])), le.Uint32(raw[8:])
	const rgba8888 = 1
	if w <= 0 || h <= 0 || w > 20_000 || h > 20_000 || format != rgba8888 {
		return nil, &phone.Refused{Doing: doing, Why: fmt.Sprintf("it gave %d×%d pixels of format %d", w, h, format)}
	}
	size := w * h * 4
	head := 12
	if d.api >= 28 || d.api == 0 && len(raw)-size >= 16 {
		head = 16
	}
	if len(raw) == 12+size {
		head = 12
	}
	const trailing = 64 // bytes that some devices write behind it
	if rest := len(raw) - head - size; rest < 0 || rest > trailing {
		return nil, d.failed(ctx, doing, errCut)
	}
	return &image.RGBA{Pix: raw[head : head+size], Stride: w * 4, Rect: image.Rect(0, 0, w, h)}, nil
}

// QuickLink reports whether the device is reached over loopback.
func (d *Device) QuickLink() bool {
	host, _, err := net.SplitHostPort(d.transport)
	return err == nil && net.ParseIP(host).IsLoopback()
}
