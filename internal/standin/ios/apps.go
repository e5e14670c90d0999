package ios

// The apps of a phone: installed as a device takes or refuses them, started, ended, dead.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/appfile"
	"tessellant/internal/standin/app"
)

type installed struct {
	facts   appfile.Facts
	source  string
	icon    image.Image
	proc    *process
	allowed map[string]bool // what its user has answered
}

type process struct {
	pid  int
	app  *app.App
	gone context.Context
	end  context.CancelFunc
}

// Add installs a build, as a device refuses or takes it.
func (p *Phone) Add(raw []byte) error {
	p.take(1000, 2000)
	f, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return fmt.Errorf("ApplicationVerificationFailed: %w", err)
	}
	facts, err := f.Facts()
	switch {
	case err != nil:
		return fmt.Errorf("ApplicationVerificationFailed: %w", err)
	case facts.IOS == nil:
		return errors.New("PackageInspectionFailed: this is no app of iOS")
	case facts.IOS.Simulator:
		return errors.New("ApplicationVerificationFailed: the app is built for another platform")
	case facts.IOS.Profile == nil:
		return errors.New("ApplicationVerificationFailed: no valid provisioning profile for this executable was found (0xe8008015)")
	case time.Now().After(facts.IOS.Profile.Expires):
		return errors.New("ApplicationVerificationFailed: the provisioning profile has expired (0xe8008011)")
	case facts.IOS.Profile.Kind != appfile.Enterprise && !slices.Contains(facts.IOS.Profile.Devices, p.traits.UDID):
		return errors.New("ApplicationVerificationFailed: this app cannot be installed because its integrity could not be verified: the device is not in its profile (0xe8008012)")
	}
	in := &installed{facts: facts, allowed: map[string]bool{}}
	dir := facts.IconPath[:strings.LastIndex(facts.IconPath, "/")+1]
	if src, err := f.Entry(dir+"behaviour.star", 256<<10); err == nil {
		in.source = string(src)
	}
	if icon := f.Icon(facts.IconPath); icon != nil {
		in.icon, _ = png.Decode(bytes.NewReader(icon))
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kill(facts.AppID)
	p.apps[facts.AppID] = in
	p.log("installd", 71, "(MobileInstallation) installed "+facts.AppID+" "+facts.IOS.Version)
	p.changed()
	return nil
}

// Remove removes an app; no error where there is none.
func (p *Phone) Remove(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kill(id)
	delete(p.apps, id)
	p.changed()
}

// Open starts an app, anew where arguments are given.
func (p *Phone) Open(id string, args map[string]string) error {
	p.take(400, 800)
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	if in == nil {
		return fmt.Errorf("no app with the bundle identifier %s is installed", id)
	}
	defer p.changed()
	if in.proc != nil && len(args) > 0 {
		p.kill(id)
	}
	if in.proc != nil {
		behind := p.front != id
		p.front = id
		if behind {
			p.act(func(a *app.App) error { return a.Resumed() })
		}
		return nil
	}
	p.nextPID += 3
	gone, end := context.WithCancel(p.ctx)
	proc := &process{pid: p.nextPID, gone: gone, end: end}
	in.proc, p.front = proc, id
	p.log("SpringBoard", 58, fmt.Sprintf("(FrontBoard) [app<%s>:%d] launched", id, proc.pid))
	name := in.facts.Label
	env := app.Env{
		Died: func(err error) { p.died(id, proc, err) },
		Log:  func(_ byte, tag, text string) { p.log(name, proc.pid, "("+tag+") "+text) },
		HTTP: func(method, url string, body []byte, _ bool) (int, []byte, error) {
			return p.traits.Network.fetch(gone, method, url, body)
		},
		Later: func(after time.Duration, f func()) {
			p.running.Go(func() {
				p.wait(gone, after)
				p.inApp(proc, f)
			})
		},
		Async: func(work, then func()) {
			p.running.Go(func() {
				if !p.traits.Instant {
					p.wait(gone, 150*time.Millisecond)
				}
				work()
				p.inApp(proc, then)
			})
		},
		May: func(name string) bool { return in.allowed[name] },
		Ask: func(name string, then func(bool)) (granted, known bool) {
			if granted, known = in.allowed[name]; !known {
				p.alert = &alert{id, name, then}
			}
			return granted, known
		},
	}
	a, err := app.Start(id, name, in.source, p.device(), args, env)
	if a == nil {
		in.proc, p.front = nil, ""
		end()
		return err
	}
	proc.app = a
	if err != nil {
		p.died(id, proc, err)
	}
	return nil
}

func (p *Phone) inApp(proc *process, f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if proc.gone.Err() == nil {
		f()
		p.changed()
	}
}

// died ends an app that has died, under mu: iOS shows its home screen and says nothing.
func (p *Phone) died(id string, proc *process, err error) {
	in := p.apps[id]
	if in == nil || in.proc != proc {
		return
	}
	p.log(in.facts.Label, proc.pid, "*** Terminating app due to uncaught exception 'NSInternalInconsistencyException', reason: '"+err.Error()+"'")
	p.log("SpringBoard", 58, fmt.Sprintf("(FrontBoard) [app<%s>:%d] process exited: <RBSProcessExitContext| specific, status:<RBSProcessExitStatus| domain:signal(2) code:SIGABRT(6)>>", id, proc.pid))
	proc.end()
	in.proc, p.front, p.alert = nil, "", nil
	p.changed()
}

// kill ends an app's process, under mu.
func (p *Phone) kill(id string) {
	in := p.apps[id]
	if in == nil || in.proc == nil {
		return
	}
	in.proc.end()
	in.proc = nil
	if p.front == id {
		p.front = ""
	}
	if p.alert != nil && p.alert.id == id {
		p.alert = nil
	}
	p.changed()
}

// Quit ends an app.
func (p *Phone) Quit(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.kill(id)
}

// Wipe ends an app and deletes its data.
func (p *Phone) Wipe(id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.apps[id]
	if in == nil {
		return fmt.Errorf("no app with the bundle identifier %s is installed", id)
	}
	p.kill(id)
	in.allowed = map[string]bool{}
	return nil
}

// act lets the app in front take an input, under mu.
func (p *Phone) act(f func(*app.App) error) {
	in := p.apps[p.front]
	if in == nil || in.proc == nil || in.proc.app == nil {
		return
	}
	proc := in.proc
	before := proc.app.Version
	if err := f(proc.app); err != nil {
		p.died(p.front, proc, err)
		return
	}
	if proc.app.Version != before {
		p.changed()
	}
}
