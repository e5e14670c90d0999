package program

// What the program writes.

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host/runner"
)

const (
	maxOutput    = 64 << 20 // bytes kept
	maxSaidLines = 5000     // of the output that stand on the timeline
	lastOutput   = 2000     // bytes of it that are said when it ends without results
)

// output keeps what a program writes: in a file, and line by line on the timeline.
type output struct {
	k     *runner.Kit
	mu    sync.Mutex
	file  *os.File
	bytes int64
	lines int
	part  []byte // a line without its end
	tail  []byte
}

func newOutput(k *runner.Kit) (*output, error) {
	f, err := os.Create(filepath.Join(k.Dir, tracks.Output))
	return &output{k: k, file: f}, err
}

// Write implements io.Writer.
func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.part = append(o.part, b...)
	for {
		i := bytes.IndexByte(o.part, '\n')
		if i < 0 && len(o.part) < verdict.MaxText {
			break
		}
		if i < 0 {
			i = len(o.part) - 1
		}
		o.line(string(o.part[:i+1]))
		o.part = append([]byte(nil), o.part[i+1:]...)
	}
	return len(b), nil
}

// line takes one line, under mu. Secrets are hidden line by line.
func (o *output) line(text string) {
	text = o.k.Mask.Text(strings.ToValidUTF8(text, "\uFFFD"))
	if o.tail = append(o.tail, text...); len(o.tail) > 2*lastOutput {
		o.tail = append([]byte(nil), o.tail[len(o.tail)-lastOutput:]...)
	}
	if o.bytes += int64(len(text)); o.bytes <= maxOutput && o.k.Room.Room(int64(len(text))) == nil {
		_, _ = o.file.WriteString(text)
	}
	if o.lines++; o.lines <= maxSaidLines && strings.TrimSpace(text) != "" {
		o.k.Timeline.Note(timeline.Event{Kind: timeline.Log, Name: "output", Answer: strings.TrimRight(text, "\r\n")})
	}
}

func (o *output) flush() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.part) > 0 {
		o.line(string(o.part) + "\n")
		o.part = nil
	}
}

// last gives the last that was written, to be said after a sentence.
func (o *output) last() string {
	o.flush()
	o.mu.Lock()
	defer o.mu.Unlock()
	tail := strings.TrimSpace(strings.ToValidUTF8(string(o.tail[max(0, len(o.tail)-lastOutput):]), ""))
	if tail == "" {
		return "; it wrote nothing"
	}
	return "; its last output:\n" + tail
}

func (o *output) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.bytes > maxOutput {
		_, _ = fmt.Fprintf(o.file, "… %d bytes more were left out\n", o.bytes-maxOutput)
	}
	_ = o.file.Close()
}
