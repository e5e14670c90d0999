package feed

// Between the processes of one service: what changed in one, and what happens there now, is told to the others over the bus. What gets lost on the
// way is found by looking around.

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
)

const (
	helloEvery = 2 * time.Second
	// othersLast is how long a process counts as there after it was last heard of.
	othersLast = 10 * time.Second
)

// notice is what one process tells the others.
type notice struct {
	From               string
	Kind               string        // here, run, session, devices, build, package, over, live
	Workspace, ID, Leg string        `json:",omitempty"`
	AttemptID          string        `json:",omitempty"`
	Now                *hostlink.Now `json:",omitempty"`
}

// Content is a build or a package that another process took in.
type Content struct{ Kind, Workspace, ID string }

// Share tells the others what changes here, and takes in what changes there, until ctx ends.
func (f *Feed) Share(ctx context.Context, log *slog.Logger) {
	f.mu.Lock()
	f.ready()
	f.mu.Unlock()
	messages, stop := f.Bus.Subscribe(bus.Changes)
	defer stop()
	hello := time.NewTicker(helloEvery)
	defer hello.Stop()
	f.send(notice{Kind: "here"})
	for {
		select {
		case m := <-messages:
			_ = guard.Run(log, guard.Loop, func() { f.hear(m) })
		case <-hello.C:
			f.send(notice{Kind: "here"})
		case <-ctx.Done():
			return
		}
	}
}

// tell tells the others, where there are any.
func (f *Feed) tell(n notice) {
	f.mu.Lock()
	maps.DeleteFunc(f.others, func(_ string, at time.Time) bool { return time.Since(at) > othersLast })
	any := len(f.others) > 0
	f.mu.Unlock()
	if any {
		f.send(n)
	}
}

func (f *Feed) send(n notice) {
	n.From = f.epoch
	if raw, err := json.Marshal(n); err == nil {
		f.Bus.Publish(bus.Changes, raw)
	}
}

// hear takes in what another process told.
func (f *Feed) hear(raw []byte) {
	var n notice
	if json.Unmarshal(raw, &n) != nil || n.From == f.epoch {
		return
	}
	f.mu.Lock()
	_, known := f.others[n.From]
	if f.others == nil {
		f.others = map[string]time.Time{}
	}
	f.others[n.From] = time.Now()
	f.mu.Unlock()
	if !known {
		f.send(notice{Kind: "here"}) // it knows of this one now, too
	}
	switch n.Kind {
	case "run":
		f.noteRun(n.Workspace, n.ID, n.Leg)
	case "session":
		f.noteSession(n.Workspace, n.ID)
	case "devices":
		f.noteDevices()
	case "build", "package":
		f.mu.Lock()
		f.content = append(f.content, Content{n.Kind, n.Workspace, n.ID})
		f.mu.Unlock()
		f.stir()
	case "over":
		f.forget(n.AttemptID)
	case "live":
		if n.Now != nil {
			f.noteLive(hostlink.Hold{WorkspaceID: n.Workspace, WorkID: n.Leg, AttemptID: n.AttemptID}, *n.Now)
		}
	}
}
