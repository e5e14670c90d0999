package phone

// Apps that run: they are started, take inputs, crash, do not respond, and end.

import (
	"context"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/standin/app"
)

type process struct {
	pid   int
	app   *app.App
	gone  context.Context
	end   context.CancelFunc
	since time.Time
	busy  time.Time // until then it does not answer
	late  bool      // somebody waits for it to answer
	load  appLoad
}

// launch starts an app or brings it to the front. It answers true for a cold start.
func (p *Phone) launch(id string, args map[string]string) (cold bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	if in == nil {
		return false, fmt.Errorf("Activity class {%s} does not exist", id) //nolint:staticcheck // as am words it
	}
	p.crashed, p.hangs = "", false
	defer p.changed()
	if in.proc != nil {
		behind := p.front != id
		p.front = id // its arguments are those that it was started with
		if behind {
			p.act(func(a *app.App) error { return a.Resumed() })
		}
		return false, nil
	}
	p.nextPID += 7
	gone, end := context.WithCancel(p.ctx)
	proc := &process{pid: p.nextPID, gone: gone, end: end, since: time.Now()}
	in.proc, p.front = proc, id
	p.log("system", 812, 'I', "ActivityManager", "Start proc %d:%s/u0a%d for activity {%s/%s}", proc.pid, id, 140+len(p.apps), id, in.facts.Activity)
	source := in.source
	if source == "" {
		source = "def view():\n    return screen(\"\")\n"
	}
	env := app.Env{
		Died: func(err error) { p.crash(id, proc, err) },
		Log:  func(level byte, tag, text string) { p.log("main", proc.pid, level, tag, "%s", text) },
		HTTP: func(method, url string, body []byte, pinned bool) (int, []byte, error) {
			return p.fetch(gone, id, method, url, body, pinned)
		},
		Later: func(after time.Duration, f func()) {
			p.running.Go(func() {
				wait(gone, after)
				p.inApp(proc, f)
			})
		},
		Web: func(address string, w, h int, changed func()) app.Page {
			return p.openWeb(proc, address, w, h, changed)
		},
		Memory: func() time.Duration {
			d := p.wantsMemory(in)
			p.count()
			proc.load.hungry = time.Now().Add(d)
			return d
		},
		May:   func(name string) bool { return p.may(in, name) },
		Ask:   func(name string, then func(bool)) (granted, known bool) { return p.ask(id, name, then) },
		Block: func(d time.Duration) { proc.busy = time.Now().Add(d) },
		Async: func(work, then func()) {
			p.running.Go(func() {
				p.take(gone, 80, 250)
				work()
				p.inApp(proc, then)
			})
		},
	}
	label := in.facts.Label
	a, err := app.Start(id, label, source, p.device(id), args, env)
	if a == nil {
		in.proc, p.front = nil, ""
		end()
		return true, err
	}
	proc.app = a
	if err != nil {
		p.crash(id, proc, err)
	}
	p.log("system", 812, 'I', "ActivityTaskManager", "Displayed %s/%s: +412ms", id, in.facts.Activity)
	return true, nil
}

// inApp runs f in an app's process, unless that is gone.
func (p *Phone) inApp(proc *process, f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if proc.gone.Err() == nil {
		f()
		p.drew(proc)
		p.changed()
	}
}

// crash writes, under mu, what Android writes when an app dies, and puts up the dialog.
func (p *Phone) crash(id string, proc *process, err error) {
	in := p.apps[id]
	c, ok := err.(*app.Crash)
	if !ok || in == nil || in.proc != proc {
		return
	}
	if c.Signal > 0 {
		p.logSignal(id, proc.pid, c.Signal)
	} else {
		p.log("crash", proc.pid, 'E', "AndroidRuntime", "FATAL EXCEPTION: main\nProcess: %s, PID: %d\n%s", id, proc.pid, strings.Join(c.Trace, "\n"))
	}
	p.log("system", 812, 'W', "ActivityTaskManager", "  Force finishing activity %s/%s", id, in.facts.Activity)
	p.log("system", 812, 'I', "ActivityManager", "Process %s (pid %d) has died: fg  TOP", id, proc.pid)
	proc.end()
	in.proc = nil
	p.crashed, p.front, p.asking = in.facts.Label, "", nil
	p.changed()
}

// anrAfter is how long Android waits for an app to take an input.
const anrAfter = 5 * time.Second

// judgeLate says that an app does not respond when it has not taken an input in time.
func (p *Phone) judgeLate(proc *process, id string, busyFor time.Duration) {
	wait(proc.gone, min(busyFor, anrAfter))
	p.mu.Lock()
	defer p.mu.Unlock()
	proc.late = false
	in := p.apps[id]
	if proc.gone.Err() != nil || in == nil || in.proc != proc || time.Now().After(proc.busy) {
		return
	}
	p.log("system", 812, 'E', "ActivityManager", "ANR in %s (%s/%s)\nPID: %d\nReason: Input dispatching timed out (%s/%s (server) is not responding. Waited 5003ms for MotionEvent)",
		id, id, in.facts.Activity, proc.pid, id, in.facts.Activity)
	p.log("events", 812, 'I', "am_anr", "[0,%d,%s,0,Input dispatching timed out]", proc.pid, id)
	p.crashed, p.hangs = in.facts.Label, true
	p.changed()
}

// closeDialog does what the button of the system's dialog does.
func (p *Phone) closeDialog() {
	if p.hangs {
		for id, in := range p.apps {
			if in.facts.Label == p.crashed {
				p.kill(id)
			}
		}
	}
	p.crashed, p.hangs = "", false
	p.changed()
}

// kill ends an app's process, under mu.
func (p *Phone) kill(id string) {
	in := p.apps[id]
	if in == nil || in.proc == nil {
		return
	}
	p.log("system", 812, 'I', "ActivityManager", "Killing %d:%s (adj 0): stop %s", in.proc.pid, id, id)
	in.proc.end()
	in.proc = nil
	if p.hangs && p.crashed == in.facts.Label {
		p.crashed, p.hangs = "", false // nothing is left that could answer
	}
	if p.asking != nil && p.asking.id == id {
		p.asking = nil
	}
	if p.front == id {
		p.front = ""
	}
	p.changed()
}

// act lets the app in front take an input, under mu.
func (p *Phone) act(f func(a *app.App) error) {
	id := p.front
	in := p.apps[id]
	if in == nil || in.proc == nil {
		return
	}
	proc := in.proc
	if wait := time.Until(proc.busy); wait > 0 { // it takes the input when it has time, or never
		if !proc.late {
			proc.late = true
			p.running.Go(func() { p.judgeLate(proc, id, wait) })
		}
		return
	}
	before := proc.app.Version
	if err := f(proc.app); err != nil {
		p.crash(id, proc, err)
	}
	if proc.app.Version != before {
		p.drew(proc)
		p.changed()
	}
}
