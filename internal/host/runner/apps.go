package runner

// The apps on a device: the work's build, what a session installs besides it or over it, and that none of them stays.

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"
	"time"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/w3c"
	"tessellant/internal/host/record"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
)

// Apps are the apps that an attempt installs.
type Apps struct {
	Link      hostlink.Work
	Hold      hostlink.Hold
	Dir       string
	Unit      *lab.Unit
	Phone     phone.Phone // its commands are noted
	App       phone.App   // the work's build
	DeviceLog *record.DeviceLog
	Gauges    *record.Gauges // nil: they are not read
	Journal   *spool.Journal

	mu       sync.Mutex
	replaced bool // another build may stand where the work's own was
}

// fetchTakes is how long the fetching of a build may take.
const fetchTakes = 10 * time.Minute

// Install puts the work's build in the place of whatever there is of its app.
func (a *Apps) Install(ctx context.Context) error {
	if err := a.Journal.App(a.App.ID); err != nil {
		return err
	}
	if err := a.Phone.Uninstall(ctx, a.App.ID); err != nil {
		return err
	}
	return a.Phone.Install(ctx, a.App)
}

// Besides notes that an app is going to be installed besides the work's own, or over it: its death is one of the session's, and who
// cleans up after this process must know of it.
func (a *Apps) Besides(app string) error {
	if err := a.Journal.App(app); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.replaced = a.replaced || app == a.App.ID
	if app != a.App.ID {
		a.DeviceLog.Watch(app)
	}
	return nil
}

// Puts notes that a file is going to be put onto the device: it is removed with the apps. It implements remoteend.Config's Puts.
func (a *Apps) Puts(path string) error { return a.Journal.File(path) }

// Reaches says why an app is none of the work's; nil: it may be stopped, and its data cleared. It implements remoteend.Config's Reaches.
func (a *Apps) Reaches(app string) error {
	if a.Hold.OtherApps || app == a.App.ID || slices.Contains(a.Journal.Changes().Apps, app) {
		return nil
	}
	return fmt.Errorf("%s was not installed for this session; an owner of the workspace can allow it with: tessellant workspace set --other-apps on", app)
}

// Restore puts the work's build into the state in which it was installed, also where another has taken its place.
func (a *Apps) Restore(ctx context.Context) error {
	a.mu.Lock()
	replaced := a.replaced
	a.mu.Unlock()
	if !replaced {
		return a.Phone.Clear(ctx, a.App.ID)
	}
	if err := a.Install(ctx); err != nil {
		return err
	}
	a.mu.Lock()
	a.replaced = false
	a.mu.Unlock()
	return nil
}

// AnyBuild fetches a build of the workspace, to be installed besides the work's own, or over it. It implements remoteend.Builds.
func (a *Apps) AnyBuild(ctx context.Context, ref string) (app phone.App, what string, done func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, fetchTakes)
	defer cancel()
	r, err := a.Link.FetchBuild(ctx, a.Hold, ref)
	if err != nil {
		return app, "", nil, w3c.Fail(w3c.InvalidArgument, "the build %s is not available: %v", ref, err)
	}
	defer r.Close()
	f, err := os.CreateTemp(a.Dir, ".build-*")
	if err != nil {
		return app, "", nil, err
	}
	done = func() { _ = f.Close(); _ = os.Remove(f.Name()) }
	defer func() {
		if err != nil {
			done()
		}
	}()
	size, err := io.Copy(f, r)
	if err != nil {
		return app, "", nil, fmt.Errorf("fetch the build %s: %w", ref, err)
	}
	facts, err := appfile.Read(f, size)
	if err != nil {
		return app, "", nil, err
	}
	if no := planning.Unfit(facts, devices.Filter{}, planning.Device{Facts: a.Unit.Known}); no != nil {
		return app, "", nil, w3c.Fail(w3c.InvalidArgument, "the build %s can't run here: %s; %s", ref, no.What, no.Remedy)
	}
	if err = a.Besides(facts.AppID); err != nil {
		return app, "", nil, err
	}
	return phone.App{ID: facts.AppID, Activity: facts.Activity, Page: facts.Page, Size: size, Open: func() (io.ReadCloser, error) { return os.Open(f.Name()) }},
		fmt.Sprintf("%s %s (%d)", facts.AppID, facts.VersionName, facts.VersionCode), done, nil
}
