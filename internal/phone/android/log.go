package android

// The device's log, and marks in it.

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"strings"
	"time"

	"tessellant/internal/phone"
)

// Log streams the device's log.
func (d *Device) Log(ctx context.Context, since time.Time) (io.ReadCloser, error) {
	if err := d.findLevel(ctx); err != nil {
		return nil, err
	}
	if d.api < 23 { // its clock was read in whole seconds
		since = since.Add(-time.Second)
	}
	line := fmt.Sprintf("logcat -v epoch -b main,system,crash -T %d.%03d", since.Unix(), since.Nanosecond()/1e6)
	if !d.epoch { // such systems take and tell the time of a zone; and not all know the crash buffer's name
		line = "TZ=UTC0 logcat -v threadtime -b main -b system"
		if d.crashes {
			line += " -b crash"
		}
		line += " -T " + quote(since.UTC().Format("01-02 15:04:05.000"))
	}
	return d.stream(ctx, "send its log", line)
}

// Mark writes a line into the device's log.
func (d *Device) Mark(ctx context.Context, text string) error {
	d.mu.Lock()
	level := cmp.Or(d.markLevel, "i")
	d.mu.Unlock()
	_, err := d.shell(ctx, "write into its log", "log -p "+level+" -t Tessellant "+quote(text), quick)
	return err
}

// findLevel sees whether the device's log takes lines of the level info: some makers keep out what is less than an error.
func (d *Device) findLevel(ctx context.Context) error {
	d.mu.Lock()
	known := d.markLevel != ""
	d.mu.Unlock()
	if known {
		return nil
	}
	level, mark := "e", "marks are looked for "+rand.Text()
	for try := range 2 {
		a, err := d.shell(ctx, "say whether its log takes marks", "log -p i -t Tessellant "+quote(mark)+"; logcat -d -t 500", quick)
		if err != nil {
			return err
		}
		if strings.Contains(a.text(), mark) {
			level = "i"
			break
		}
		if try == 0 {
			if err := phone.Pause(ctx, 200*time.Millisecond); err != nil {
				return d.failed(ctx, "say whether its log takes marks", err)
			}
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.markLevel = level
	return nil
}
