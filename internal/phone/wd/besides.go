package wd

// What a device can do besides, by commands of its lab's own: its log, clock, keyboard, settings, files.

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/labfile"
	"tessellant/internal/phone"
)

type logger struct{ d *Device }

const (
	logEvery = time.Second
	maxLog   = 8 << 20         // bytes of one answer
	logAgain = 2 * time.Second // before its newest line: lines may come late
)

// Log implements phone.Logger: the lab is asked again and again. A lab that says from where to go on is asked that; of another's answers, the lines that came
// before are left out.
func (l logger) Log(ctx context.Context, since time.Time) (io.ReadCloser, error) {
	out, in := io.Pipe()
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		defer cancel()
		_ = in.CloseWithError(l.follow(ctx, since, in))
	}()
	return &stream{out, cancel}, nil
}

type stream struct {
	*io.PipeReader
	cancel context.CancelFunc
}

func (s *stream) Close() error {
	s.cancel()
	return s.PipeReader.Close()
}

// mark is a line that is to stand behind all that the device has logged so far.
type mark struct {
	text string
	done chan error
}

// follow writes lines until ctx ends. The newest are kept for a while: a lab may give them again.
func (l logger) follow(ctx context.Context, since time.Time, to io.Writer) error {
	var before []string
	var next any
	var last time.Time // of the newest line
	var wanted []mark
	for {
		v, cursor, err := l.d.ownNext(ctx, "give its log", "log", func(v *labfile.Values) { v.Since, v.Next = since, next })
		if ctx.Err() != nil {
			return io.EOF
		}
		if err != nil {
			return err
		}
		lines, err := logLines(v)
		if err != nil {
			return l.d.failed("give its log", err)
		}
		if cursor != nil {
			next, before = cursor, nil
		}
		for _, line := range lines[overlap(before, lines):] {
			if _, err := io.WriteString(to, line+"\n"); err != nil {
				return err
			}
		}
		before = lines
		if n := len(lines); n > 0 {
			if newest, ok := devicelog.Parse(lines[n-1], since.Year()); ok {
				if last = newest.At; last.Add(-logAgain).After(since) {
					since = last.Add(-logAgain)
				}
			}
		}
		for _, m := range wanted {
			m.done <- writeMark(to, last, m.text)
		}
		wanted = nil
		select {
		case <-time.After(logEvery):
		case m := <-l.d.marks:
			wanted = append(wanted, m)
		case <-ctx.Done():
			return io.EOF
		}
	}
}

// writeMark writes a line of ours as a device's log would have it, at the time of the newest line.
func writeMark(to io.Writer, at time.Time, text string) error {
	if at.IsZero() {
		return errNoLine
	}
	_, err := fmt.Fprintf(to, "%d.%03d     0     0 I Tessellant: %s\n", at.Unix(), at.Nanosecond()/1e6, text)
	return err
}

var errNoLine = &phone.Refused{Doing: "mark its log", Why: "it has no line yet", Remedy: "nothing has to be done"}

// Mark implements phone.Logger: the lab is asked at once, and the mark stands behind what it gives. The device's own log has none.
func (l logger) Mark(ctx context.Context, text string) error {
	m := mark{text, make(chan error, 1)}
	select {
	case l.d.marks <- m:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-m.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func logLines(v any) ([]string, error) {
	var lines []string
	switch x := v.(type) {
	case string:
		if len(x) > maxLog {
			x = x[len(x)-maxLog:]
		}
		lines = strings.Split(strings.TrimRight(x, "\n"), "\n")
	case []any:
		for _, one := range x {
			s, ok := one.(string)
			if !ok {
				return nil, &Garbage{"its log is no list of lines"}
			}
			lines = append(lines, s)
		}
	case nil:
	default:
		return nil, &Garbage{"its log is neither a text nor a list of lines"}
	}
	if len(lines) == 1 && lines[0] == "" {
		lines = nil
	}
	return lines, nil
}

// overlap is how many lines at the beginning of an answer were the end of the one before.
func overlap(before, now []string) int {
	for n := min(len(before), len(now)); n > 0; n-- {
		same := true
		for i := range n {
			if before[len(before)-n+i] != now[i] {
				same = false
				break
			}
		}
		if same {
			return n
		}
	}
	return 0
}

type clock struct{ d *Device }

// Now implements phone.Clock.
func (c clock) Now(ctx context.Context) (time.Time, error) {
	const doing = "tell its time"
	v, err := c.d.own(ctx, doing, "clock", nil)
	if err != nil {
		return time.Time{}, err
	}
	switch x := v.(type) {
	case float64:
		return time.UnixMilli(int64(x)).UTC(), nil
	case string:
		if t, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(x)); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, &phone.Refused{Doing: doing, Why: fmt.Sprintf("its lab tells it as %.60q", fmt.Sprint(v)), Remedy: "the command clock must answer an RFC 3339 text or milliseconds since 1970"}
}

type keyboard struct{ d *Device }

// KeyboardShown implements phone.Keyboard. On iOS the keyboard stands in the tree.
func (k keyboard) KeyboardShown(ctx context.Context) (bool, error) {
	if k.d.Lab.Commands["keyboard"] == nil {
		s, err := k.d.Tree(ctx)
		if err != nil {
			return false, err
		}
		for _, e := range s.All() {
			if strings.HasSuffix(strings.ToLower(e.Class), "keyboard") {
				return true, nil
			}
		}
		return false, nil
	}
	v, err := k.d.own(ctx, "say whether its keyboard is shown", "keyboard", nil)
	shown, _ := v.(bool)
	return shown, err
}

type settings struct{ d *Device }

// Rotate implements phone.Settings.
func (s settings) Rotate(ctx context.Context, landscape bool) error {
	to := "portrait"
	if landscape {
		to = "landscape"
	}
	s.changed()
	_, err := s.d.own(ctx, "turn the screen", "rotate", func(v *labfile.Values) { v.Orientation = to })
	return err
}

// Dark implements phone.Settings.
func (s settings) Dark(ctx context.Context, on bool) error {
	to := "off"
	if on {
		to = "on"
	}
	s.changed()
	_, err := s.d.own(ctx, "set dark mode", "dark", func(v *labfile.Values) { v.Dark = to })
	return err
}

// Condition implements phone.Conditioner: what the lab has a command for. All else it sets when the session is opened, or not at all.
func (s settings) Condition(ctx context.Context, _ string, set conditions.Set, _ bool) error {
	for _, name := range set.Sorted() {
		var err error
		switch name {
		case conditions.Orientation:
			err = s.Rotate(ctx, set[name] == "landscape")
		case conditions.Dark:
			err = s.Dark(ctx, set[name] == conditions.On)
		default:
			err = &phone.Refused{Doing: "be set to " + name, Why: "its lab " + s.d.Lab.Name + " has no command for it", Remedy: "have the capabilities in the lab file name it"}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (s settings) changed() {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	s.d.turned, s.d.fresh = true, false
}

// Restore implements phone.Settings.
func (s settings) Restore(ctx context.Context) error {
	s.d.mu.Lock()
	turned := s.d.turned
	s.d.turned = false
	s.d.mu.Unlock()
	if !turned {
		return nil
	}
	var errs []error
	if s.d.Lab.Commands["rotate"] != nil {
		errs = append(errs, s.Rotate(ctx, false))
	}
	if s.d.Lab.Commands["dark"] != nil {
		errs = append(errs, s.Dark(ctx, false))
	}
	s.d.mu.Lock()
	s.d.turned = false
	s.d.mu.Unlock()
	return errors.Join(errs...)
}

type files struct{ d *Device }

// maxPut is how many bytes a file may have that is put onto a device of a lab: it goes in one request.
const maxPut = 32 << 20

// Put implements phone.Files.
func (f files) Put(ctx context.Context, path string, r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, maxPut+1))
	if err != nil {
		return err
	}
	if len(raw) > maxPut {
		return &phone.Refused{Doing: "take the file " + path, Why: fmt.Sprintf("it has more than %d MB", maxPut>>20), Remedy: "make it smaller: it goes to the lab in one request"}
	}
	_, err = f.d.own(ctx, "take a file", "put_file", func(v *labfile.Values) { v.Path, v.Content = path, base64.StdEncoding.EncodeToString(raw) })
	return err
}

// Fetch implements phone.Files.
func (f files) Fetch(ctx context.Context, path string, limit int64) ([]byte, error) {
	const doing = "give a file"
	v, err := f.d.own(ctx, doing, "fetch_file", func(v *labfile.Values) { v.Path = path })
	if err != nil {
		return nil, err
	}
	text, _ := v.(string)
	raw, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, bytes.NewReader([]byte(text))))
	if err != nil {
		return nil, f.d.failed(doing, &Garbage{"the file is not base64"})
	}
	if int64(len(raw)) > limit {
		return nil, &phone.Refused{Doing: doing, Why: fmt.Sprintf("%s has %d bytes, more than %d", path, len(raw), limit), Remedy: "fetch a smaller one"}
	}
	return raw, nil
}

// Remove implements phone.Files.
func (f files) Remove(ctx context.Context, path string) error {
	if f.d.Lab.Commands["remove_file"] == nil {
		return nil // the lab cleans the device
	}
	_, err := f.d.own(ctx, "remove a file", "remove_file", func(v *labfile.Values) { v.Path = path })
	return err
}
