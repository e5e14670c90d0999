package android

// The film that the device makes of its screen: screenrecord, whose encoder is the device's own. It writes a picture as soon as it is made, and none
// while nothing changes; after three minutes it ends.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"tessellant/internal/phone"
)

const (
	filmWait = 10 * time.Second // for its first bytes
	// filmEdge is by how many pixels an encoder wants both sides to be divisible; what the screen does not fill stays black.
	filmEdge = 16
)

// Film streams the screen as screenrecord gives it.
func (d *Device) Film(ctx context.Context, short, rate int) (io.ReadCloser, error) {
	const doing = "film its screen"
	if !d.features["shell_v2"] { // before Android 7 nothing ends on the device what it goes on writing
		return nil, &phone.Refused{Doing: doing, Why: "before Android 7 a film can't be ended from outside"}
	}
	line := "wm size"
	if d.api >= 29 {
		line += "; dumpsys display"
	}
	a, err := d.shell(ctx, doing, line, quick)
	if err != nil {
		return nil, err
	}
	w, h := filmSize(string(a.out), short)
	if w == 0 {
		return nil, &phone.Refused{Doing: doing, Why: "it does not say how large its screen is"}
	}
	line = fmt.Sprintf("screenrecord --output-format=h264 --size %dx%d --bit-rate %d", w, h, rate)
	if id, several := readDisplay(string(a.out)); several && id != "" {
		line += " --display-id " + id
	}
	s, err := d.stream(ctx, doing, line+" -")
	if err != nil {
		return nil, err
	}
	f := &filming{streaming: s}
	timeout := time.AfterFunc(filmWait, func() { _ = s.c.Close() })
	err = f.begin()
	if !timeout.Stop() {
		err = &phone.Refused{Doing: doing, Why: fmt.Sprintf("no picture came within %d s", int(filmWait.Seconds()))}
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// filming is a film that goes on. Its end ends screenrecord: adbd sends it SIGHUP then.
type filming struct {
	*streaming
	first []byte // read already
}

// begin reads up to the first start code; what comes instead is why there is no film.
func (f *filming) begin() error {
	buf := make([]byte, maxSaid)
	for n := 0; n < len(buf); {
		m, err := f.Read(buf[n:])
		n += m
		switch {
		case bytes.Contains(buf[:n], []byte{0, 0, 1}):
			f.first = buf[:n]
			return nil
		case errors.Is(err, io.EOF):
			return &phone.Refused{Doing: f.doing, Why: clip(string(buf[:n]) + " " + string(f.said))}
		case err != nil:
			return err
		}
	}
	return &phone.Refused{Doing: f.doing, Why: clip(string(buf))}
}

func (f *filming) Read(b []byte) (int, error) {
	if len(f.first) > 0 {
		n := copy(b, f.first)
		f.first = f.first[n:]
		return n, nil
	}
	return f.streaming.Read(b)
}

// filmSize is how large a film of the screen is, whose size `wm size` says.
func filmSize(out string, short int) (w, h int) {
	w, h = readSize(out)
	least := min(w, h)
	if least <= 0 || max(w, h) > 20_000 {
		return 0, 0
	}
	short = min(short, least)
	edge := func(n int) int { return max(1, (n*short/least+filmEdge/2)/filmEdge) * filmEdge }
	return edge(w), edge(h)
}
