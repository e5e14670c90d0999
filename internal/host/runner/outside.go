package runner

// What is gathered where the device is commanded by somebody's own program: of a session, and of a package of the kind program.

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/record"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
)

const (
	maxRemoteLog  = 256 << 20 // bytes kept
	maxCases      = 10_000    // of a session
	maxLogLines   = 5000      // of the device's log in one answer
	maxLogAnswer  = 1 << 20   // bytes of them
	momentTakes   = time.Minute
	idleLookEvery = 250 * time.Millisecond
	logEvery      = 200 * time.Millisecond // the remote end's log is written
)

// Outside is what is taken down of a session, or of a program's, besides what a leg has. It is the remote end's notes.
type Outside struct {
	k *Kit

	mu      sync.Mutex
	own     bool
	log     *os.File
	lines   []byte // of the log, not written yet
	written int64
	ordinal int
	open    *hostlink.CaseResult
	crash   *devicelog.Crash // in the open case
	crashed string           // the first crash of all
	crashes []timeline.Event
	marks   []Mark // of a program: the cases that it ended itself
	marked  verdict.Verdict
	message string // that goes with it
}

// Mark is a case that a program began and ended itself.
type Mark struct {
	hostlink.CaseResult
	Until int64 // its end stands on the timeline then
}

var _ remoteend.Notes = (*Outside)(nil)

// NewOutside opens the remote end's log. Own says that cases which are marked count only where no report has them.
func NewOutside(k *Kit, own bool) (*Outside, error) {
	f, err := os.Create(filepath.Join(k.Dir, tracks.RemoteEnd))
	if err != nil {
		err = &casebook.Unready{Err: fmt.Errorf("the host can't keep evidence: %w", err)}
	}
	return &Outside{k: k, log: f, own: own}, err
}

// Command implements remoteend.Notes.
func (g *Outside) Command(c phone.Command) { g.k.Timeline.Command(c) }

// Log implements remoteend.Notes.
func (g *Outside) Log(line string) {
	line = fmt.Sprintf("%9.3f %s\n", float64(g.k.Timeline.Now())/1000, strings.ReplaceAll(g.k.Mask.Text(line), "\n", " "))
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.written += int64(len(line)); g.written > maxRemoteLog || g.k.Room.Room(int64(len(line))) != nil {
		return
	}
	if len(g.lines) == 0 {
		time.AfterFunc(logEvery, g.flush)
	}
	if g.lines = append(g.lines, line...); len(g.lines) > 64<<10 {
		g.write()
	}
}

// write writes the lines of the log that wait, under mu.
func (g *Outside) write() {
	_, _ = g.log.Write(g.lines)
	g.lines = g.lines[:0]
}

func (g *Outside) flush() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.lines) > 0 {
		g.write()
	}
}

// Close ends the log.
func (g *Outside) Close() {
	g.flush()
	_ = g.log.Close()
}

// Secret implements remoteend.Notes.
func (g *Outside) Secret(text string) { g.k.Mask.Add(text) }

// Step implements remoteend.Notes.
func (g *Outside) Step(ctx context.Context, name string) error {
	return record.Notes{R: g.k.Timeline, P: g.k.Unit}.Step(ctx, name, "", nil, false)
}

// Console implements remoteend.Notes.
func (g *Outside) Console(level, text string) { g.k.Console(level, text) }

// Console notes a line of a page's own console.
func (k *Kit) Console(level, text string) {
	e := timeline.Event{Kind: timeline.Log, Name: "console", Answer: text}
	if level == "error" {
		e.Error = text
	}
	k.Timeline.Note(e)
}

// BeginCase implements remoteend.Notes.
func (g *Outside) BeginCase(_ context.Context, name string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.ordinal >= maxCases {
		return fmt.Errorf("the session has %d cases already", g.ordinal)
	}
	name = foreign.Name(name, verdict.MaxCaseName)
	g.open, g.crash = &hostlink.CaseResult{Ordinal: g.ordinal, Name: name, Try: hostlink.Try{StartMS: g.k.Timeline.Now()}}, nil
	g.ordinal++
	g.k.Book.Begin(*g.open, "", 1)
	return nil
}

// CrashWithin gives the first death of the app between two moments on the attempt's clock.
func (g *Outside) CrashWithin(from, to int64) *timeline.Event {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, e := range g.crashes {
		if e.At >= from && e.At <= to {
			return &e
		}
	}
	return nil
}

// EndCase implements remoteend.Notes. A case in which the app died is crashed, whatever its client says.
func (g *Outside) EndCase(ctx context.Context, v, message string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.open
	if c == nil {
		return errors.New("no case is open; begin one with …/tessellant/case/begin")
	}
	g.open = nil
	c.Verdict, c.Message, c.TookMS = verdict.Verdict(v), foreign.Fit(message, verdict.MaxText), g.k.Timeline.Now()-c.StartMS
	if g.crash != nil {
		said := c.Message
		c.Verdict, c.Message, c.Trace = verdict.Crashed, g.crash.Problem, g.crash.Trace
		if said != "" {
			c.Message += " (the client says: " + said + ")"
		}
	}
	g.k.Book.Bound(&c.Try, g.k.Timeline.Now())
	ctx, cancel := context.WithTimeout(ctx, momentTakes)
	defer cancel()
	g.k.Book.Picture(ctx, g.k.Unit, c.Name, &c.Try)
	g.endCase(c)
	return nil
}

// EndOpen ends the case in which a program ended, or was ended.
func (g *Outside) EndOpen(ctx context.Context) {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.open
	if c == nil {
		return
	}
	g.open = nil
	c.Verdict, c.Message, c.TookMS = verdict.Failed, "the program ended while it ran", g.k.Timeline.Now()-c.StartMS
	if cause := context.Cause(ctx); cause != nil {
		c.Verdict, c.Message = verdict.Lost, cause.Error()
		switch {
		case errors.Is(cause, casebook.ErrTime):
			c.Verdict = verdict.Expired
		case errors.Is(cause, casebook.ErrStopped):
			c.Verdict = verdict.Stopped
		}
	}
	g.endCase(c)
}

// endCase ends a case, under mu.
func (g *Outside) endCase(c *hostlink.CaseResult) {
	g.k.Book.Ended(c.Name, c.Try, 0)
	if !g.own {
		g.k.Book.End(*c)
		return
	}
	g.k.Timeline.InCase("")
	g.k.Book.Result(*c) // a program's report has the last word
	g.marks = append(g.marks, Mark{*c, g.k.Timeline.Now()})
}

// Mark implements remoteend.Notes.
func (g *Outside) Mark(v, message string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.marked, g.message = verdict.Verdict(v), foreign.Fit(message, verdict.MaxText)
	g.k.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "marked " + v, Answer: message})
}

// DeviceLog implements remoteend.Notes.
func (g *Outside) DeviceLog(ctx context.Context, since int64) (lines []string, next int64, err error) {
	if !g.k.Hold.Spec.Recording.Log {
		return nil, 0, errors.New(`the session asked for no device log: leave log: off out of tessellant:recording`)
	}
	g.k.DeviceLog.Settle(ctx, fmt.Sprintf("log asked for at %d ms", g.k.Timeline.Now()))
	f, err := os.Open(filepath.Join(g.k.Dir, "device.log"))
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	if _, err := f.Seek(since, io.SeekStart); err != nil {
		return nil, 0, err
	}
	br := bufio.NewReader(f)
	for next = since; len(lines) < maxLogLines && next-since < maxLogAnswer; {
		line, err := br.ReadString('\n')
		if err != nil {
			break // a line without its end is still being written
		}
		next += int64(len(line))
		if !strings.Contains(line, "Tessellant: ") { // our own marks
			lines = append(lines, strings.TrimRight(line, "\r\n"))
		}
	}
	return lines, next, nil
}

// WatchCrashes notes each death of the app until ctx ends.
func (g *Outside) WatchCrashes(ctx context.Context) {
	for {
		c := g.k.DeviceLog.Crash(ctx)
		if c == nil {
			return
		}
		// The lines that say why come a moment after the first.
		g.k.DeviceLog.Settle(ctx, fmt.Sprintf("crash seen at %d ms", g.k.Timeline.Now()))
		full := g.k.DeviceLog.Trace(c)
		e := g.k.Book.Died(full)
		g.mu.Lock()
		g.crashes = append(g.crashes, e)
		if g.crashed == "" {
			g.crashed = full.Problem
		}
		if g.open != nil && g.crash == nil {
			g.crash = &full
		}
		g.mu.Unlock()
	}
}

// Crashed is the first crash of all; "": there was none.
func (g *Outside) Crashed() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.crashed
}

// Marks are the cases that a program ended itself.
func (g *Outside) Marks() []Mark {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.marks)
}

// Marked is what the client said of the session as a whole.
func (g *Outside) Marked() (verdict.Verdict, string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.marked, g.message
}
