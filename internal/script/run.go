package script

// The parent's side: starts the child, answers its calls, says how it ended.

import (
	"bufio"
	"bytes"
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

	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
)

// Limits of one case.
type Limits struct {
	Steps  uint64 // of Starlark's interpreter
	Memory uint64 // bytes
}

// DefaultLimits are generous for a test, and small for a host.
var DefaultLimits = Limits{Steps: 50_000_000, Memory: 256 << 20}

// Case is what is to be run.
type Case struct {
	Scripts map[string]string // file name → source
	File    string
	Func    string
	Facts   devices.Facts
	Limits  Limits
	// Command starts a child; empty: this binary with ChildArg.
	Command []string
}

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
	Verdict verdict.Verdict // passed, failed, expired or invalid
	Message string
	Line    string // of the script: file:line
	Trace   string // the script's calls, innermost last
	Err     error  // the error of the call that ended the case, where there was one
}

// Run runs the case. Handle does each call; its error ends the case. When ctx
// ends, the case does at once, with ctx's cause in Err.
func Run(ctx context.Context, c Case, handle func(context.Context, Call) (any, error)) Outcome {
	if c.Limits.Steps == 0 {
		c.Limits = DefaultLimits
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
	var stderr tail
	cmd.Stderr = &stderr
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2); err != nil {
		return Outcome{Verdict: verdict.Invalid, Message: "the script can't be started: " + err.Error(), Err: err}
	}
	if err := cmd.Start(); err != nil {
		return Outcome{Verdict: verdict.Invalid, Message: "the script can't be started: " + err.Error(), Err: err}
	}
	facts := map[string]any{"api": float64(c.Facts.API), "width": float64(c.Facts.WidthDP()), "language": c.Facts.Language, "os": c.Facts.OS,
		"maker": c.Facts.Maker, "model": c.Facts.Model, "form": c.Facts.Form, "serial": c.Facts.Serial, "memory_mb": float64(c.Facts.MemoryMB)}
	enc := json.NewEncoder(in)
	_ = enc.Encode(job{c.Scripts, c.File, c.Func, facts, c.Limits.Steps, c.Limits.Memory})
	end, callErr, callLine := converse(ctx, out, enc, handle)
	_ = in.Close()
	if end == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(out, maxLine))
	}
	_ = cmd.Wait()
	return outcome(ctx, c.Limits, end, callErr, callLine, stderr.String())
}

// converse answers calls until the child says how the case ended; nil: it died.
// It gives the line of the last call, and its error.
func converse(ctx context.Context, out io.Reader, enc *json.Encoder, handle func(context.Context, Call) (any, error)) (end *ending, callErr error, callLine string) {
	lines := bufio.NewScanner(out)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	for lines.Scan() {
		var m fromChild
		if err := json.Unmarshal(lines.Bytes(), &m); err != nil {
			return nil, fmt.Errorf("the script's process wrote what is no call: %w", err), ""
		}
		if m.End != nil {
			return m.End, callErr, callLine
		}
		if m.Call == nil {
			continue
		}
		var r reply
		callLine = m.Call.Line
		if r.Value, callErr = handle(ctx, *m.Call); callErr != nil {
			r = reply{Error: callErr.Error()}
		}
		if err := enc.Encode(r); err != nil {
			return nil, callErr, callLine
		}
	}
	if err := lines.Err(); err != nil && ctx.Err() == nil && !errors.Is(err, os.ErrClosed) {
		return nil, fmt.Errorf("the script's process: %w", err), ""
	}
	return nil, callErr, callLine
}

func outcome(ctx context.Context, l Limits, end *ending, callErr error, callLine, stderr string) Outcome {
	switch {
	case ctx.Err() != nil && (end == nil || end.Error != "") && (callErr == nil || errors.Is(callErr, ctx.Err())):
		return Outcome{Verdict: verdict.Expired, Message: context.Cause(ctx).Error(), Line: callLine, Err: context.Cause(ctx)}
	case callErr != nil && (end == nil || end.Error == callErr.Error()):
		o := Outcome{Verdict: verdict.Failed, Message: callErr.Error(), Line: callLine, Err: callErr}
		if end != nil {
			o.Trace = end.Trace
		}
		return o
	case end == nil && wantedMemory(stderr):
		return Outcome{Verdict: verdict.Failed, Message: fmt.Sprintf("the script needed more than %d MB of memory, so the case was ended", l.Memory>>20)}
	case end == nil:
		return Outcome{Verdict: verdict.Failed, Message: "the script's process died: " + firstLine(stderr)}
	case end.Error == "":
		return Outcome{Verdict: verdict.Passed}
	case end.Kind == "steps":
		return Outcome{Verdict: verdict.Expired, Line: end.Line, Trace: end.Trace,
			Message: fmt.Sprintf("the script had not come to an end after %d steps: is there an endless loop at %s?", l.Steps, end.Line)}
	case end.Kind == "load":
		return Outcome{Verdict: verdict.Invalid, Message: end.Error, Line: end.Line, Trace: end.Trace}
	}
	return Outcome{Verdict: verdict.Failed, Message: end.Error, Line: end.Line, Trace: end.Trace}
}

// wantedMemory says whether a process died because memory was refused to it.
// Go's runtime mostly says so; refused in the middle of a collection it runs into a nil pointer
// of its own instead, on its system stack (goroutine 0), where no script ever is.
func wantedMemory(stderr string) bool {
	return strings.Contains(stderr, "out of memory") || strings.Contains(stderr, "cannot allocate memory") ||
		(strings.HasPrefix(stderr, "SIGSEGV") && strings.Contains(stderr, "goroutine 0 "))
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	if s == "" {
		return "it gave no reason"
	}
	return s
}

// tail keeps the first 8 KiB written to it.
type tail struct{ bytes.Buffer }

func (t *tail) Write(b []byte) (int, error) {
	if room := 8<<10 - t.Len(); room > 0 {
		t.Buffer.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}
