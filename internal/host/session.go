package host

// A session: the device is commanded from outside, and what happens is gathered as of a leg.

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
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/w3c"
	"tessellant/internal/core/work"
	"tessellant/internal/guard"
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

// Why a session ends.
var (
	errClientEnded  = errors.New("the client ended the session")
	errClientGone   = errors.New("the client sent no command any more")
	errSessionLimit = errors.New("the session's time limit was reached")
)

// gathering is what is taken down of a session, or of a program's, besides what a leg has. It is the remote end's notes.
type gathering struct {
	a *attempt

	mu      sync.Mutex
	log     *os.File
	lines   []byte // of the log, not written yet
	written int64
	ordinal int
	open    *hostlink.CaseResult
	crash   *devicelog.Crash // in the open case
	crashed string           // the first crash of all
	crashes []timeline.Event
	marks   []mark // of a program: the cases that it ended itself
	marked  verdict.Verdict
	message string // that goes with it
}

// mark is a case that a program began and ended itself.
type mark struct {
	hostlink.CaseResult
	until int64 // its end stands on the timeline then
}

var _ remoteend.Notes = (*gathering)(nil)

func newGathering(a *attempt) (*gathering, error) {
	f, err := os.Create(filepath.Join(a.dir, tracks.RemoteEnd))
	return &gathering{a: a, log: f}, err
}

// Command implements remoteend.Notes. What marks a moment stands on the timeline as that moment.
func (g *gathering) Command(c phone.Command) {
	if marks := []string{"begin case", "end case", "step", "mark session", "hide next text"}; c.Err == nil && slices.Contains(marks, c.Name) {
		return
	}
	looks := strings.HasPrefix(c.Name, "get ") || strings.HasPrefix(c.Name, "find ") || strings.HasPrefix(c.Name, "is ") || strings.HasPrefix(c.Name, "take ") || c.Name == "set timeouts"
	g.a.rec.took(c, !looks)
}

// Log implements remoteend.Notes.
func (g *gathering) Log(line string) {
	line = fmt.Sprintf("%9.3f %s\n", float64(g.a.rec.now())/1000, strings.ReplaceAll(g.a.mask.Text(line), "\n", " "))
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.written += int64(len(line)); g.written > maxRemoteLog || g.a.share().room(int64(len(line))) != nil {
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
func (g *gathering) write() {
	_, _ = g.log.Write(g.lines)
	g.lines = g.lines[:0]
}

func (g *gathering) flush() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.lines) > 0 {
		g.write()
	}
}

// close ends the log.
func (g *gathering) close() {
	g.flush()
	_ = g.log.Close()
}

// Secret implements remoteend.Notes.
func (g *gathering) Secret(text string) { g.a.mask.Add(text) }

// Step implements remoteend.Notes.
func (g *gathering) Step(ctx context.Context, name string) error {
	return notes{g.a.rec, g.a.unit.device}.Step(ctx, name, "")
}

// BeginCase implements remoteend.Notes.
func (g *gathering) BeginCase(_ context.Context, name string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.ordinal >= maxCases {
		return fmt.Errorf("the session has %d cases already", g.ordinal)
	}
	name = foreign.Name(name, hostlink.MaxCaseName)
	g.a.rec.inCase(name)
	g.open, g.crash = &hostlink.CaseResult{Ordinal: g.ordinal, Name: name, Try: hostlink.Try{StartMS: g.a.rec.now()}}, nil
	g.ordinal++
	g.a.rec.note(timeline.Event{Kind: timeline.Case, At: max(g.open.StartMS, 1), Name: name})
	g.a.report(hostlink.Progress{Case: g.a.masked(*g.open)})
	return nil
}

// crashWithin gives the first death of the app between two moments on the attempt's clock.
func (g *gathering) crashWithin(from, to int64) *timeline.Event {
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
func (g *gathering) EndCase(ctx context.Context, v, message string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.open
	if c == nil {
		return errors.New("no case is open; begin one with …/tessellant/case/begin")
	}
	g.open = nil
	c.Verdict, c.Message, c.TookMS = verdict.Verdict(v), foreign.Fit(message, hostlink.MaxText), g.a.rec.now()-c.StartMS
	if g.crash != nil {
		said := c.Message
		c.Verdict, c.Message, c.Trace = verdict.Crashed, g.crash.Problem, g.crash.Trace
		if said != "" {
			c.Message += " (the client says: " + said + ")"
		}
	}
	if c.Verdict != verdict.Passed && c.Verdict != verdict.Skipped {
		ctx, cancel := context.WithTimeout(ctx, momentTakes)
		var screen *uitree.Screen
		c.Shot, c.Tree, screen, _ = g.a.rec.moment(ctx, g.a.unit.device, c.Name+" "+string(c.Verdict))
		if g.crash != nil && screen != nil {
			closeCrashDialog(ctx, g.a.phone, screen)
		}
		cancel()
	}
	g.endCase(c)
	g.a.report(hostlink.Progress{Case: g.a.masked(*c)})
	return nil
}

// endOpen ends the case in which a program ended, or was ended.
func (g *gathering) endOpen(ctx context.Context) {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.open
	if c == nil {
		return
	}
	g.open = nil
	c.Verdict, c.Message, c.TookMS = verdict.Failed, "the program ended while it ran", g.a.rec.now()-c.StartMS
	if cause := context.Cause(ctx); cause != nil {
		c.Verdict, c.Message = verdict.Lost, cause.Error()
		switch {
		case errors.Is(cause, errLegTime):
			c.Verdict = verdict.Expired
		case errors.Is(cause, errStopped):
			c.Verdict = verdict.Stopped
		}
	}
	g.endCase(c)
	g.a.report(hostlink.Progress{Case: g.a.masked(*c)})
}

// endCase puts a case's end onto the timeline, under mu.
func (g *gathering) endCase(c *hostlink.CaseResult) {
	end := g.a.rec.now()
	g.a.rec.note(timeline.Event{Kind: timeline.Case, At: end, Name: c.Name, Verdict: string(c.Verdict), Error: c.Message, File: c.Shot, Tree: c.Tree, Took: c.TookMS})
	g.a.rec.inCase("")
	if g.a.kind() == work.Programs { // its report has the last word
		g.marks = append(g.marks, mark{*c, end})
	}
}

// Mark implements remoteend.Notes.
func (g *gathering) Mark(v, message string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.marked, g.message = verdict.Verdict(v), foreign.Fit(message, hostlink.MaxText)
	g.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "marked " + v, Answer: message})
}

// DeviceLog implements remoteend.Notes.
func (g *gathering) DeviceLog(ctx context.Context, since int64) (lines []string, next int64, err error) {
	if !g.a.hold.Spec.Recording.Log {
		return nil, 0, errors.New(`the session asked for no device log: leave "log": false out of tessellant:recording`)
	}
	g.a.book.settle(ctx, fmt.Sprintf("log asked for at %d ms", g.a.rec.now()))
	f, err := os.Open(filepath.Join(g.a.dir, "device.log"))
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

// watchCrashes notes each death of the app until ctx ends.
func (g *gathering) watchCrashes(ctx context.Context) {
	for {
		c := g.a.book.crash(ctx)
		if c == nil {
			return
		}
		// The lines that say why come a moment after the first.
		g.a.book.settle(ctx, fmt.Sprintf("crash seen at %d ms", g.a.rec.now()))
		full := g.a.book.trace(c)
		at := g.a.rec.now()
		if o, _, err := timeline.Align(g.a.samples...); err == nil {
			at = max(o.On(full.At).Milliseconds(), 1)
		}
		e := timeline.Event{Kind: timeline.Crash, At: at, Name: full.Problem, Answer: full.Trace}
		g.a.rec.note(e)
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

// serve opens the session, and waits for its end. The error says why it ended.
func (a *attempt) serve(ctx context.Context) error {
	q := a.hold.Spec
	standard := w3c.Capabilities(q.Content.Capabilities)
	timeouts, bad := standard.Timeouts()
	if bad != nil {
		return bad
	}
	commands, stop := context.WithCancel(ctx)
	defer stop()
	end := remoteend.New(remoteend.Config{ID: a.hold.WorkID, Answer: standard.Answer(a.unit.facts.Platform, timeouts, remoteend.Told(a.hold.WorkID, q.App.Ref, a.unit.facts)), Timeouts: timeouts,
		Phone: a.unit.device, App: a.app, Builds: a.anyBuild, Facts: a.unit.facts, Notes: a.outside})
	s := newServed(commands, a.log, end)
	a.h.open(a.hold.ID, s)
	defer a.h.shut(a.hold.ID)
	defer func() { a.standing = end.Standing() }()
	var watch sync.WaitGroup
	defer watch.Wait()
	watching, stopWatching := context.WithCancel(ctx)
	defer func() {
		a.book.settle(context.WithoutCancel(ctx), "end of the session") // what the log still holds back belongs to it
		stopWatching()
	}()
	watch.Go(func() {
		_ = guard.Run(a.log, guard.Hold, func() { a.outside.watchCrashes(watching) })
	})
	a.stage("running")
	limit := time.NewTimer(q.Limits.Whole.Duration())
	defer limit.Stop()
	mostIdle := q.Limits.Idle.Duration()
	idle := time.NewTicker(min(idleLookEvery, mostIdle/4+time.Millisecond))
	defer idle.Stop()
	for {
		select {
		case <-s.over:
			return errClientEnded
		case <-limit.C:
			return errSessionLimit
		case <-idle.C:
			if s.idle() > mostIdle {
				return errClientGone
			}
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// judgeSession gives the verdict of a session by what was seen, and says how it ended.
func (a *attempt) judgeSession(err error) (v verdict.Verdict, message, how string) {
	var lost *phone.Lost
	var notReady *unready
	g := a.outside
	switch {
	case a.ours:
		return verdict.Lost, err.Error(), "lost"
	case errors.Is(err, errStopped):
		return verdict.Stopped, "it was stopped", "stopped"
	case errors.As(err, &lost), errors.Is(err, errHoldOver):
		return verdict.Lost, err.Error(), "lost"
	case errors.As(err, &notReady):
		return verdict.Lost, err.Error(), "never"
	case !errors.Is(err, errClientEnded) && !errors.Is(err, errClientGone) && !errors.Is(err, errSessionLimit):
		return verdict.Invalid, err.Error(), "never"
	}
	how = map[error]string{errClientEnded: "client", errClientGone: "idle", errSessionLimit: "limit"}[err]
	switch {
	case g.crashed != "":
		return verdict.Crashed, g.crashed, how
	case how == "idle":
		return verdict.Expired, fmt.Sprintf("%v for %s", errClientGone, a.hold.Spec.Limits.Idle.Duration()), how
	case how == "limit":
		return verdict.Expired, fmt.Sprintf("%v (%s)", errSessionLimit, a.hold.Spec.Limits.Whole.Duration()), how
	case a.standing != nil:
		return verdict.Failed, "its client ended it after an error: " + a.standing.Error(), how
	}
	return verdict.Passed, "", how
}
