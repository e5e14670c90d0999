// Package program is the runner of packages of the kind program: prepared and run in a sandbox, with a WebDriver URL that means this leg's device.
//
// Run is here; its way to the device is in door.go, its files in files.go, what it writes in output.go. The results of its cases are read from what it reported: results.go.
package program

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/runner/beside"
	"tessellant/internal/host/runner/listeners"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/sandbox"
)

const (
	urlName    = "TESSELLANT_WEBDRIVER_URL"
	maxResults = 100 // files
)

// program implements runner.Runner.
type program struct {
	*runner.Kit
	outside *runner.Outside
	spec    *testpkg.Program
	dir     sandbox.Folders
	out     *output
	began   time.Time
	door    *remoteend.Handler
	heard   *listeners.Listeners
	opened  int      // sessions; one at a time is
	excess  bool     // its reports have more cases than are read
	empty   []string // report files without a case, and what is in them
}

// New makes the runner.
func New(k *runner.Kit) (runner.Runner, error) {
	outside, err := runner.NewOutside(k, true)
	return &program{Kit: k, outside: outside, spec: k.Package.Program}, err
}

// Prepare implements runner.Runner: what the host can't do is said before anything is run.
func (p *program) Prepare(context.Context) error {
	about := p.About()
	if about.Isolation == "" {
		return fmt.Errorf("this host runs no programs: they can't be kept apart from it (%s); install bubblewrap there, or start it with --open-box if you trust all packages", about.Why)
	}
	if missing := testpkg.Missing(p.spec.Needs, about.Runtimes); len(missing) > 0 {
		return fmt.Errorf("this host lacks %s", strings.Join(missing, ", "))
	}
	return nil
}

// Judge implements runner.Runner.
func (p *program) Judge(err error) (verdict.Verdict, string) { return p.Book.Judge(err) }

// Close implements runner.Runner.
func (p *program) Close(*hostlink.Closing) { p.outside.Close() }

func unready(format string, args ...any) error {
	return &casebook.Unready{Err: fmt.Errorf(format, args...)}
}

// Run implements runner.Runner: it prepares and runs the program, and reads what it reports.
func (p *program) Run(ctx context.Context) error {
	ctx, cancel := p.Turns.Within(ctx, p.Hold.Spec.Limits.Whole.Duration(), casebook.ErrTime)
	defer cancel()
	dir, err := p.Box.Make()
	if err != nil {
		return unready("the host can't make a folder for the program: %w", err)
	}
	defer p.Box.Remove(dir)
	p.dir = dir
	if err := unpack(p.Package.Files, dir.Work); err != nil {
		return unready("the host can't unpack the package: %w", err)
	}
	if err := p.Box.Give(dir); err != nil {
		return &casebook.Unready{Err: err}
	}
	if p.out, err = newOutput(p.Kit); err != nil {
		return &casebook.Unready{Err: err}
	}
	defer p.out.close()
	stop, err := p.serve(ctx)
	if err != nil {
		return unready("the host can't open the program's way to the device: %w", err)
	}
	defer stop()
	if len(p.spec.Prepare) > 0 {
		if err := p.prepare(ctx); err != nil {
			return err
		}
	}
	p.Stage("running")
	stopPeople, err := beside.Serve(ctx, p.Kit)
	if err != nil {
		return err
	}
	defer stopPeople()
	var watch sync.WaitGroup
	watching, stopWatching := context.WithCancel(ctx)
	watch.Go(func() {
		_ = guard.Run(p.Log, guard.Hold, func() { p.outside.WatchCrashes(watching) })
	})
	p.began = time.Now()
	end, runErr := p.Box.Run(ctx, p.sandboxed(p.spec.Run))
	p.out.flush()
	p.DeviceLog.Settle(context.WithoutCancel(ctx), "end of the program")
	stopWatching()
	watch.Wait()
	p.outside.EndOpen(ctx)
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the program ended", Answer: howEnded(end, runErr)})
	p.keep()
	return p.results(ctx, end, runErr)
}

func howEnded(end sandbox.Ended, err error) string {
	switch {
	case end.Killed != "":
		return "it was ended: " + end.Killed
	case err != nil:
		return "it was ended: " + err.Error()
	}
	return fmt.Sprintf("with exit code %d", end.Code)
}

// sandboxed is what is needed to run a command of the package.
func (p *program) sandboxed(command []string) sandbox.Spec {
	l := p.spec.Limits
	return sandbox.Spec{Work: p.dir.Work, Keep: p.dir.Keep, Socket: p.socket(), URLName: urlName, Command: command, Env: p.env(), MemoryMB: l.MemoryMB, Processes: l.Processes, DiskMB: l.DiskMB,
		CPU: processors * p.Hold.Spec.Limits.Whole.Duration(), Network: p.Hold.Network, Output: p.out}
}

// processors are as many as a program may keep busy all the time that it has.
const processors = 4

// env is the program's environment, besides the URL.
func (p *program) env() map[string]string {
	f := p.Unit.Known
	facts, _ := json.Marshal(f.Traits())
	env := map[string]string{"TESSELLANT_DEVICE": string(facts), "TESSELLANT_DEVICE_SERIAL": f.Serial, "TESSELLANT_BUILD": p.Hold.Spec.App.Ref, "TESSELLANT_APP": p.Hold.Spec.App.ID, "TESSELLANT_PACKAGE": p.Hold.Spec.Content.Ref,
		"TESSELLANT_RUN": p.Hold.RunID, "TESSELLANT_LEG": p.Hold.WorkID, "TESSELLANT_KEEP": p.Box.KeepPath(p.dir)}
	for name, v := range p.Hold.Inputs() {
		env["TESSELLANT_INPUT_"+strings.ToUpper(strings.ReplaceAll(name, "-", "_"))] = v
	}
	return env
}

func (p *program) prepare(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, p.spec.Limits.Prepare, fmt.Errorf("preparing took longer than %s", p.spec.Limits.Prepare))
	defer cancel()
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "prepare"})
	s := p.sandboxed(p.spec.Prepare)
	s.Socket = "" // there is no test yet
	end, err := p.Box.Run(ctx, s)
	p.out.flush()
	var lost *casebook.Unready
	switch cause := context.Cause(ctx); {
	case err != nil && errors.Is(cause, casebook.ErrStopped), err != nil && errors.Is(cause, casebook.ErrTime), errors.As(cause, &lost):
		return cause
	case err != nil, end.Killed != "", end.Code != 0:
		return fmt.Errorf("the package could not be prepared: %s%s", howEnded(end, err), p.out.last())
	}
	return nil
}
