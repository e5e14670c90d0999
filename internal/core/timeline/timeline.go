// Package timeline is everything that happened in an attempt, on one clock.
//
// The clock starts at zero when the attempt does and counts milliseconds,
// monotonically. A timeline is JSON Lines, one event a line, in the order of
// their sequence numbers. Times that a device tells are brought onto the clock by
// an Offset, measured at the start and the end of the attempt. In: events.
// Out: lines; and back.
package timeline

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
)

// Kind says what an event is.
type Kind string

const (
	Stage   Kind = "stage"   // the attempt goes into the stage Name
	Case    Kind = "case"    // a case begins (no verdict) or ends (Verdict)
	Step    Kind = "step"    // a named moment, with its screenshot in File
	Command Kind = "command" // one call to the device
	Check   Kind = "check"   // a check that held, or one that failed (Error)
	Log     Kind = "log"     // a line that the script wrote
	Crash   Kind = "crash"   // the app died; Answer has the stack trace
	Marker  Kind = "marker"  // anything else worth a place on the clock
)

// Event is one thing that happened.
type Event struct {
	Seq      int               `json:"seq"`
	At       int64             `json:"at"` // ms; of a command: its start
	Kind     Kind              `json:"kind"`
	Case     string            `json:"case,omitempty"`
	Name     string            `json:"name,omitempty"` // of the command, step, stage, check…
	Args     map[string]string `json:"args,omitempty"`
	Answer   string            `json:"answer,omitempty"`
	Took     int64             `json:"took,omitempty"` // ms
	Error    string            `json:"error,omitempty"`
	Expected string            `json:"expected,omitempty"`
	Actual   string            `json:"actual,omitempty"`
	Line     string            `json:"line,omitempty"` // of the script: file:line
	Verdict  string            `json:"verdict,omitempty"`
	File     string            `json:"file,omitempty"` // artifact: the screenshot
	Tree     string            `json:"tree,omitempty"` // artifact: the screen's tree
}

// Bytes is about what an event takes in memory.
func (e Event) Bytes() int {
	n := 200 + len(e.Case) + len(e.Name) + len(e.Answer) + len(e.Error) + len(e.Expected) + len(e.Actual) + len(e.Line) + len(e.File) + len(e.Tree)
	for k, v := range e.Args {
		n += 50 + len(k) + len(v)
	}
	return n
}

// Writer numbers events and writes them. It is not safe for use by several
// goroutines.
type Writer struct {
	w   io.Writer
	seq int
}

// NewWriter returns a Writer whose first event gets number 1.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w} }

// Append gives e its number and writes it as one line.
func (w *Writer) Append(e Event) (Event, error) {
	w.seq++
	e.Seq = w.seq
	line, err := json.Marshal(e)
	if err != nil {
		return e, err
	}
	_, err = w.w.Write(append(line, '\n'))
	return e, err
}

const maxLine = 4 << 20

// Read calls f with each event in r. A last line that was cut off, as a killed
// writer leaves it, is passed over; any other line that is no event is an error.
func Read(r io.Reader, f func(Event) error) error {
	return ReadFrom(r, func(e Event, _ int64) error { return f(e) })
}

// ErrEnough ends a reading before the end, without an error.
var ErrEnough = errors.New("enough was read")

// ReadFrom is Read for r that begins with an event; f is also told how many bytes have been read with it, and may answer ErrEnough.
func ReadFrom(r io.Reader, f func(e Event, upTo int64) error) error {
	br := bufio.NewReaderSize(r, 64<<10)
	upTo := int64(0)
	for n := 1; ; n++ {
		line, err := readLine(br)
		upTo += int64(len(line))
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("timeline line %d: %w", n, err)
		}
		var e Event
		if err := json.Unmarshal(line, &e); err != nil {
			return fmt.Errorf("timeline line %d is no event: %w", n, err)
		}
		if err := f(e, upTo); errors.Is(err, ErrEnough) {
			return nil
		} else if err != nil {
			return err
		}
	}
}

func readLine(br *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := br.ReadSlice('\n')
		line = append(line, part...)
		if len(line) > maxLine {
			return nil, fmt.Errorf("it is longer than %d bytes", maxLine)
		}
		switch {
		case err == nil:
			return line, nil
		case errors.Is(err, bufio.ErrBufferFull):
		default:
			return nil, err // io.EOF too: a line without its end was cut off
		}
	}
}

// Sample is one reading of a device's clock: asked at Before, answered at
// After, both on the attempt's clock.
type Sample struct {
	Before, After time.Duration
	Device        time.Time
}

// Offset turns times of a device's clock into the attempt's.
type Offset struct{ zero time.Time }

// Align estimates the offset from samples. Of each sample the middle of the
// round trip is taken, and the sample with the shortest round trip counts, as
// in RFC 5905 section 10 (the clock filter's choice of the least delay). The
// doubt is at most half of that round trip.
func Align(samples ...Sample) (o Offset, doubt time.Duration, err error) {
	if len(samples) == 0 {
		return o, 0, errors.New("the device's clock was never read")
	}
	best := samples[0]
	for _, s := range samples[1:] {
		if s.After-s.Before < best.After-best.Before {
			best = s
		}
	}
	mid := best.Before + (best.After-best.Before)/2
	return Offset{best.Device.Add(-mid)}, (best.After - best.Before) / 2, nil
}

// On gives the moment on the attempt's clock at which the device's clock showed t.
func (o Offset) On(t time.Time) time.Duration { return t.Sub(o.zero) }

// Zero is what the device's clock showed when the attempt's clock stood at zero.
func (o Offset) Zero() time.Time { return o.zero }
