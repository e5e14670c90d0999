package script

// The parent's side: starts the child, answers its calls, says how it ended.

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"tessellant/internal/confine"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
)

// Limits of one case.
type Limits struct {
	Steps  uint64 // of Starlark's interpreter
	Memory uint64 // bytes
	CPU    uint64 // seconds of processor time
}

// DefaultLimits are generous for a test, and small for a host.
var DefaultLimits = Limits{Steps: 50_000_000, Memory: 256 << 20, CPU: 60}

// Case is what is to be run.
type Case struct {
	Scripts       map[string]string // file name → source
	File          string
	Func          string
	Before, After bool           // the file defines before_case, after_case, and they are to be called
	Row           map[string]any // of the table that the function has, if any
	Inputs        map[string]string
	Prepared      any // what before_file returned
	Facts         devices.Facts
	Limits        Limits
	Stood         func() time.Duration // for how long people have had the case stand still, in all; nil: nobody can
	// Command starts a child; empty: this binary with ChildArg.
	Command []string
}

// endWait is how long a script's process may take to end once it has nothing more to say.
const endWait = 2 * time.Second

// Failure is a check that did not hold, or something that did not come.
type Failure struct {
	About    string // what was checked, in the script's words
	Expected string
	Actual   string
	Line     string
}

func (f *Failure) Error() string {
	s := "expected " + f.Expected + ", but there was " + f.Actual
	if f.About != "" {
		s = f.About + ": " + s
	}
	return s
}

// Outcome is how a case came out.
type Outcome struct {
	Verdict verdict.Verdict // passed, failed, expired, skipped or invalid
	Message string
	Line    string // of the script: file:line
	Trace   string // the script's calls, innermost last
	Err     error  // the error of the call that ended the case, where there was one
	Value   any    // what the function returned, where that is plain values
}

// Run runs the case. Handle does each call; its error ends the case. When ctx
// ends, the case does at once, with ctx's cause in Err.
func Run(ctx context.Context, c Case, handle func(context.Context, Call) (any, error)) Outcome {
	if c.Limits.Steps == 0 {
		c.Limits = DefaultLimits
	}
	if c.Limits.CPU == 0 {
		c.Limits.CPU = DefaultLimits.CPU
	}
	command := c.Command
	if len(command) == 0 {
		self, err := os.Executable()
		if err != nil {
			return Outcome{Verdict: verdict.Invalid, Message: "the script can't be started: " + err.Error(), Err: err}
		}
		command = []string{self, ChildArg}
	}
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Env = []string{"GOMAXPROCS=1"}
	cmd.Dir = "/"
	cmd.WaitDelay = 2 * time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if confine.Apart() {
		confine.Namespaces(cmd.SysProcAttr)
	}
	var stderr tail
	cmd.Stderr = &stderr
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2); err != nil {
		return Outcome{Verdict: verdict.Invalid, Message: "the script can't be started: " + err.Error(), Err: err}
	}
	if err := cmd.Start(); ctx.Err() != nil { // it was too late to begin
		if err == nil {
			_ = cmd.Wait()
		}
		return Outcome{Verdict: verdict.Expired, Message: context.Cause(ctx).Error(), Err: context.Cause(ctx)}
	} else if err != nil {
		return Outcome{Verdict: verdict.Invalid, Message: "the script can't be started: " + err.Error(), Err: err}
	}
	facts := map[string]any{"api": float64(c.Facts.API), "width": float64(c.Facts.WidthDP()), "height": float64(c.Facts.HeightDP()), "language": c.Facts.Language, "os": c.Facts.OS,
		"maker": c.Facts.Maker, "model": c.Facts.Model, "form": c.Facts.Form, "serial": c.Facts.Serial, "memory_mb": float64(c.Facts.MemoryMB)}
	enc := json.NewEncoder(in)
	_ = enc.Encode(job{Scripts: c.Scripts, File: c.File, Func: c.Func, Before: c.Before, After: c.After, Row: c.Row, Inputs: c.Inputs, Prepared: c.Prepared,
		Facts: facts, Steps: c.Limits.Steps, Memory: c.Limits.Memory, CPU: c.Limits.CPU})
	t := &talk{handle: handle, stood: c.Stood, failed: map[string]failedCall{}}
	end := t.converse(ctx, out, enc)
	_ = in.Close()
	// It has said all, or what can't be understood: it ends by itself, at once, or is ended.
	ending := time.AfterFunc(endWait, func() { _ = cmd.Process.Kill() })
	if end == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(out, maxLine))
	}
	_ = cmd.Wait()
	ending.Stop()
	return t.soften(end, t.outcome(ctx, c.Limits, end, stderr.String(), cmd.ProcessState.String()))
}

// talk is a conversation with a child.
type talk struct {
	handle func(context.Context, Call) (any, error)
	stood  func() time.Duration
	failed map[string]failedCall // the calls that failed, by what they said
	last   failedCall            // the last call, failed or not
	soft   *Failure              // the first check that did not hold, after which the case went on
	softs  int                   // how many such
}

type failedCall struct {
	err  error
	line string
}

// converse answers calls until the child says how the case ended; nil: it died.
func (t *talk) converse(ctx context.Context, out io.Reader, enc *json.Encoder) *ending {
	lines := bufio.NewScanner(out)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	for lines.Scan() {
		var m fromChild
		if err := json.Unmarshal(lines.Bytes(), &m); err != nil {
			t.last = failedCall{fmt.Errorf("the script's process wrote what is no call: %w", err), ""}
			return nil
		}
		if m.End != nil {
			return m.End
		}
		if m.Call == nil {
			continue
		}
		var r reply
		t.last = failedCall{line: m.Call.Line}
		r.Value, t.last.err = t.handle(ctx, *m.Call)
		var f *Failure
		if goesOn, _ := m.Call.Args["go_on"].(bool); goesOn && errors.As(t.last.err, &f) {
			if t.softs++; t.soft == nil {
				t.soft = f
			}
			t.last.err = nil
		}
		if t.last.err != nil {
			r = reply{Error: t.last.err.Error()}
			t.failed[r.Error] = t.last
		}
		if t.stood != nil {
			r.Stood = t.stood().Milliseconds()
		}
		if err := enc.Encode(r); err != nil {
			return nil
		}
	}
	if err := lines.Err(); err != nil && ctx.Err() == nil && !errors.Is(err, os.ErrClosed) {
		t.last = failedCall{fmt.Errorf("the script's process: %w", err), ""}
	}
	return nil
}

// outcome says how a case came out, but for soft checks and expected failures.
func (t *talk) outcome(ctx context.Context, l Limits, end *ending, stderr, died string) Outcome {
	call := t.last
	if end != nil && end.Error != "" {
		call = t.failed[end.Error]
	}
	switch {
	case ctx.Err() != nil && (end == nil || end.Error != "") && (call.err == nil || errors.Is(call.err, ctx.Err())):
		return Outcome{Verdict: verdict.Expired, Message: context.Cause(ctx).Error(), Line: t.last.line, Err: context.Cause(ctx)}
	case call.err != nil && (end == nil || end.Error != ""):
		o := Outcome{Verdict: verdict.Failed, Message: call.err.Error(), Line: call.line, Err: call.err}
		if end != nil {
			o.Trace, o.Message = end.Trace, around(end)
		}
		return o
	case end == nil && wantedMemory(stderr):
		return Outcome{Verdict: verdict.Failed, Message: fmt.Sprintf("the script needed more than %d MB of memory, so the case was ended", l.Memory>>20)}
	case end == nil && strings.Contains(stderr, computedAll):
		return Outcome{Verdict: verdict.Expired, Line: t.last.line, Message: fmt.Sprintf("the script had computed for %d s of processor time and was ended: are its numbers or texts very large?", l.CPU)}
	case end == nil && strings.Contains(stderr, "goroutine stack exceeds"):
		return Outcome{Verdict: verdict.Failed, Line: t.last.line, Message: "the script's data, or its calls, are nested too deep; make them flatter"}
	case end == nil:
		return Outcome{Verdict: verdict.Failed, Message: "the script's process died: " + firstLine(stderr, died)}
	case end.Error == "":
		return Outcome{Verdict: verdict.Passed, Value: end.Value}
	case end.Kind == "steps":
		return Outcome{Verdict: verdict.Expired, Line: end.Line, Trace: end.Trace,
			Message: fmt.Sprintf("the script had not come to an end after %d steps: is there an endless loop at %s?", l.Steps, end.Line)}
	case end.Kind == "load":
		return Outcome{Verdict: verdict.Invalid, Message: end.Error, Line: end.Line, Trace: end.Trace}
	case end.Kind == "skip":
		return Outcome{Verdict: verdict.Skipped, Message: end.Error, Line: end.Line}
	}
	return Outcome{Verdict: verdict.Failed, Message: around(end), Line: end.Line, Trace: end.Trace}
}

// around is what an ending says, with the function around the case in which it came.
func around(end *ending) string {
	if end.In == "" {
		return end.Error
	}
	return end.In + ": " + end.Error
}

// soften counts the checks after which the case went on, and turns an expected failure round.
func (t *talk) soften(end *ending, o Outcome) Outcome {
	if f := t.soft; f != nil && (o.Verdict == verdict.Passed || o.Verdict == verdict.Skipped) {
		o = Outcome{Verdict: verdict.Failed, Message: f.Error(), Line: f.Line, Err: f}
		if t.softs > 1 {
			o.Message += fmt.Sprintf(" (and %d more checks did not hold: see the timeline)", t.softs-1)
		}
	}
	if end == nil || end.Expected == "" {
		return o
	}
	switch o.Verdict {
	case verdict.Failed:
		return Outcome{Verdict: verdict.Passed, Message: "failed as expected (" + end.Expected + "): " + o.Message, Line: o.Line}
	case verdict.Passed:
		return Outcome{Verdict: verdict.Failed, Message: "passed, though it was known to fail (" + end.Expected + "): take expect_failure away"}
	}
	return o
}

// wantedMemory says whether a process died because memory was refused to it.
// Go's runtime mostly says so; refused in the middle of a collection it runs into a nil pointer
// of its own instead, on its system stack (goroutine 0), where no script ever is. A new thread whose stack is refused has a message of the C library's.
func wantedMemory(stderr string) bool {
	return strings.Contains(stderr, "out of memory") || strings.Contains(stderr, "cannot allocate memory") || strings.Contains(stderr, "pthread_create failed: Resource temporarily unavailable") ||
		(strings.HasPrefix(stderr, "SIGSEGV") && strings.Contains(stderr, "goroutine 0 "))
}

// firstLine is what a process said, or else how it died.
func firstLine(s, died string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return cmp.Or(s, died)
}

// tail keeps the first 8 KiB written to it.
type tail struct{ bytes.Buffer }

func (t *tail) Write(b []byte) (int, error) {
	if room := 8<<10 - t.Len(); room > 0 {
		t.Buffer.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}
