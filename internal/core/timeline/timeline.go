// Package timeline is everything that happened in an attempt, on one clock.
//
// The clock starts at zero when the attempt does and counts milliseconds,
// monotonically. A timeline is JSON Lines, one event a line, in the order of
// their sequence numbers. Times that a device tells are brought onto the clock by
// a Clock, which is made of readings. In: events. Out: lines; and back.
package timeline

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"tessellant/internal/core/tracks"
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
		line, err := tracks.ReadLine(br, maxLine)
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
