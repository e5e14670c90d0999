package host

// The apps on a device: the hold's build, what a session installs besides it or over it, and that none of them stays.

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/w3c"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
)

// fetchTakes is how long the fetching of a build may take.
const fetchTakes = 10 * time.Minute

// reinstall puts the hold's build in the place of whatever there is of its app.
func (a *attempt) reinstall(ctx context.Context) error {
	if err := a.phone.Uninstall(ctx, a.app.ID); err != nil {
		return err
	}
	return a.phone.Install(ctx, a.app)
}

// asHeld is the hold with what was installed besides its build.
func (a *attempt) asHeld() hostlink.Hold {
	a.installing.Lock()
	defer a.installing.Unlock()
	hold := a.hold
	hold.Besides = a.besides
	return hold
}

// noteBesides notes that an app is going to be installed besides the hold's own, or over it: its death is one of the session's, and who
// cleans up after this process must know of it.
func (a *attempt) noteBesides(app string) error {
	a.installing.Lock()
	defer a.installing.Unlock()
	a.replaced = a.replaced || app == a.hold.Spec.App.ID
	if app == a.hold.Spec.App.ID || slices.Contains(a.besides, app) {
		return nil
	}
	hold := a.hold
	hold.Besides = append(slices.Clone(a.besides), app)
	if err := writeHold(a.dir, hold); err != nil {
		return err
	}
	a.besides = hold.Besides
	a.book.watch(app)
	return nil
}

// restore puts the hold's build into the state in which it was installed, also where another has taken its place.
func (a *attempt) restore(ctx context.Context) error {
	a.installing.Lock()
	replaced := a.replaced
	a.installing.Unlock()
	if !replaced {
		return a.phone.Clear(ctx, a.app.ID)
	}
	if err := a.reinstall(ctx); err != nil {
		return err
	}
	a.installing.Lock()
	a.replaced = false
	a.installing.Unlock()
	return nil
}

// anyBuild fetches a build of the workspace, to be installed besides the hold's own, or over it. It implements remoteend.Builds.
func (a *attempt) anyBuild(ctx context.Context, ref string) (app phone.App, what string, done func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, fetchTakes)
	defer cancel()
	r, err := a.h.Link.FetchBuild(ctx, a.hold, ref)
	if err != nil {
		return app, "", nil, w3c.Fail(w3c.InvalidArgument, "the build %s can't be had: %v", ref, err)
	}
	defer r.Close()
	f, err := os.CreateTemp(a.dir, ".build-*")
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
	if no := planning.Unfit(facts, planning.Device{Facts: a.unit.facts}); no != nil {
		return app, "", nil, w3c.Fail(w3c.InvalidArgument, "the build %s can't run here: %s; %s", ref, no.What, no.Remedy)
	}
	if err = a.noteBesides(facts.AppID); err != nil {
		return app, "", nil, err
	}
	return phone.App{ID: facts.AppID, Activity: facts.Activity, Size: size, Open: func() (io.ReadCloser, error) { return os.Open(f.Name()) }},
		fmt.Sprintf("%s %s (%d)", facts.AppID, facts.VersionName, facts.VersionCode), done, nil
}

// clean leaves the device as it should be found: its settings back, without the apps, at home.
func clean(ctx context.Context, d *android.Device, hold hostlink.Hold) {
	_ = d.Unsettle(ctx)
	for _, app := range append([]string{hold.Spec.App.ID}, hold.Besides...) {
		if app != "" {
			_ = d.Uninstall(ctx, app)
		}
	}
	_ = d.Press(ctx, phone.Home)
}
