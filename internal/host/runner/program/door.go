package program

// The program's way to the device: a remote end of W3C WebDriver behind a socket, one session at a time.

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/w3c"
	"tessellant/internal/host/runner/listeners"
	"tessellant/internal/remoteend"
)

func (p *program) socket() string { return filepath.Join(p.dir.Run, "webdriver.sock") }

// serve opens the remote end for the program, behind a socket.
func (p *program) serve(ctx context.Context) (stop func(), err error) {
	l, err := net.Listen("unix", p.socket())
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(p.socket(), 0o666); err != nil { // the folder above is the program's alone
		return nil, err
	}
	p.door, p.heard = &remoteend.Handler{Open: p.open, Waits: p.waits}, listeners.New(ctx, p.Kit)
	web := &http.Server{Handler: p.door, BaseContext: func(net.Listener) context.Context { return ctx }, ReadHeaderTimeout: time.Minute}
	var served sync.WaitGroup
	served.Go(func() { _ = web.Serve(l) })
	return func() { _ = web.Close(); served.Wait(); p.door.End(); p.heard.Close() }, nil
}

// open gives the program a session on its leg's device. The run has chosen device and build: what the suite asks for of them when it runs
// from outside does not count here, but of several sets the one that fits is taken.
func (p *program) open(ctx context.Context, sets []w3c.Capabilities) (*remoteend.Session, *w3c.Error) {
	f := p.Unit.Known
	var why []string
	var wanted *ours.Wanted
	fits := false
	for _, c := range sets {
		if no := c.Unmatched(f.Platform); no != "" {
			why = append(why, no)
			continue
		}
		w, err := ours.Read(c)
		if err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		if fits = w.Filter.Match(f); fits || wanted == nil {
			wanted = &w
		}
		if fits {
			break
		}
	}
	if wanted == nil {
		return nil, w3c.Fail(w3c.SessionNotCreated, "%s", strings.Join(why, "; or "))
	}
	if !fits {
		p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the suite asked for another device", Answer: fmt.Sprintf("%s; the run has chosen %s", devices.Filter{Where: wanted.Filter.Where}, f.Serial)})
	}
	timeouts, bad := wanted.Standard.Timeouts()
	if bad != nil {
		return nil, bad
	}
	if err := p.fresh(ctx); err != nil {
		return nil, w3c.Fail(w3c.SessionNotCreated, "the app could not be restarted: %v", err)
	}
	p.opened++
	answer := wanted.Standard.Answer(f.Platform, timeouts, ours.Told(p.Hold.WorkID, p.Hold.Spec.App.Ref, f))
	config := p.RemoteEnd(fmt.Sprintf("%s-%d", strings.ToLower(p.Hold.AttemptID), p.opened), answer, timeouts, p.outside)
	config.Idle, config.Turns = wanted.Idle, p.Turns
	if wanted.Standard[w3c.WebSocketURL] != true {
		return remoteend.New(config), nil
	}
	return p.listened(config), nil
}

// listened makes a session that its client listens to.
func (p *program) listened(config remoteend.Config) *remoteend.Session {
	var end *remoteend.Session
	s := p.heard.Of(config.ID, maxSessions, listeners.Client{Used: func() { end.Used() }, Changed: func() { end.Changed() }, Wire: p.outside.Log, Enter: p.Turns.Enter, Ends: func(ctx context.Context) {
		end.Do(ctx, remoteend.Request{Method: http.MethodDelete, Path: "/session/" + end.ID})
		p.door.Over(end)
	}})
	if s != nil {
		config.Listen, config.Closed = s, func() { p.heard.Leave(config.ID) }
	}
	end = remoteend.New(config)
	return end
}

// maxSessions are at work at once: one, and those before it that are being closed.
const maxSessions = 8

// waits notes that the suite asks for a session while it has one.
func (p *program) waits(id string) {
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "a session waits for the one before", Answer: id + " has not been ended yet; a device has one at a time"})
}

// fresh starts the run's build from a clean state, as it is at the beginning of a session from outside.
func (p *program) fresh(ctx context.Context) error {
	if err := p.Apps.Restore(ctx); err != nil {
		return err
	}
	return p.Phone.Launch(ctx, p.App)
}
