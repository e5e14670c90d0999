package adb

// What the screen shows: as a tree, as a picture.

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"net"
	"strings"
	"time"

	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

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
