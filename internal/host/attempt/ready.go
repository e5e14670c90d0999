package attempt

// Making ready for an attempt: the build and the package are fetched, the device is prepared, and the recorders are set going.

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/work"
	"tessellant/internal/guard"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/record"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
)

// leastFreeMB is how much storage a device needs besides what the build takes.
const leastFreeMB = 100

// prepare makes all ready: content, device, clock, recorders, app, conditions.
func (a *attempt) prepare(ctx context.Context, stop context.CancelCauseFunc, side *sync.WaitGroup) (err error) {
	spec := a.hold.Spec
	if spec.Content.SHA256 != "" {
		if err := a.readPackage(ctx); err != nil {
			return err
		}
	}
	newRunner := a.b.Runners[spec.Content.Kind]
	if newRunner == nil {
		return fmt.Errorf("this host does not know how to run a %s: run the same version of tessellant on both sides", spec.Content.Kind)
	}
	if a.runner, err = newRunner(a.kit); err != nil {
		return err
	}
	if err := a.fetchBuild(ctx); err != nil {
		return err
	}
	if err := a.borrow(ctx); err != nil {
		return err
	}
	if err := a.wake(ctx); err != nil {
		return err
	}
	if err := a.readClock(ctx, 3); err != nil {
		return err
	}
	if err := a.openRecorders(ctx); err != nil {
		return err
	}
	beside := func(f func() error) { // what goes on beside the test; its error ends the attempt
		side.Go(func() {
			if err := guard.Do(a.log, guard.Hold, f); err != nil {
				stop(err)
			}
		})
	}
	record := func(r record.Recorder) {
		side.Go(func() {
			err := guard.Do(a.log, guard.Record, func() error { return r.Record(ctx) })
			var lost *phone.Lost
			if errors.As(err, &lost) {
				stop(err)
			} else if err != nil {
				a.broke(r.Name(), err)
			}
		})
	}
	for _, r := range a.record {
		record(r)
	}
	beside(func() error { a.tellLive(ctx); return nil })
	beside(func() error { return a.keepInTouch(ctx) })
	beside(func() error { return a.followClock(ctx) })
	k := a.kit
	k.Lead = func(ctx context.Context) error { return a.leadLate(ctx, record) }
	k.Apps = &runner.Apps{Link: a.b.Link, Hold: a.hold, Dir: a.dir, Unit: a.unit, Phone: k.Phone, App: k.App, DeviceLog: k.DeviceLog, Journal: a.journal}
	if a.unit.Settler != nil {
		if err := a.journal.Settled(); err != nil {
			return err
		}
		if err := a.unit.Settler.Settle(ctx); err != nil {
			return err
		}
	}
	if err := a.openNetwork(ctx); err != nil {
		return err
	}
	if k.Network != nil {
		record(k.Network)
	}
	if k.App.ID != "" && !a.given.Installed {
		if err := k.Apps.Install(ctx); err != nil {
			return err
		}
	}
	if err := a.furnish(ctx); err != nil {
		return err
	}
	return a.runner.Prepare(ctx)
}

// openRecorders makes those that the work wants, in the order in which they are closed.
func (a *attempt) openRecorders(ctx context.Context) (err error) {
	k, spec := a.kit, a.hold.Spec
	logTo := a.dir
	if !spec.Recording.Log || a.unit.Logger == nil {
		logTo = "" // where there is one, it is watched for crashes all the same
	}
	if spec.Recording.Log && a.unit.Logger == nil {
		a.broke(recording.Log, errors.New("this device gives none"))
	}
	if k.DeviceLog, err = record.NewDeviceLog(logTo, a.unit.Logger, spec.App.ID, k.Book.Clock, a.mask, a.room); err != nil {
		return err
	}
	a.record = append(a.record, k.DeviceLog)
	if spec.Recording.Video {
		if a.film, err = a.timeline.Film(a.unit.Unit); err != nil {
			return err
		}
		a.record, k.Film = append(a.record, a.film), a.film
	}
	if spec.Recording.Keeps(recording.Screenshots, recording.Commands) {
		a.record = append(a.record, record.NewShots(a.timeline, a.unit.Unit))
	}
	if err := a.openLooks(ctx); err != nil {
		return err
	}
	if !spec.Recording.Gauges {
		return nil
	}
	if a.unit.Gauged == nil {
		a.broke(recording.Gauges, errors.New("this device does not let them be read"))
		return nil
	}
	if k.Gauges, err = record.NewGauges(a.dir, a.unit.Gauged.Meter(spec.App.ID), spec.Bounds, a.timeline, a.room); err != nil {
		return err
	}
	k.Book.Passed = k.Gauges.Passed
	a.record = append(a.record, k.Gauges)
	return nil
}

// openLooks has the pictures and the trees of steps looked at, where any are kept, or are to be like their references.
func (a *attempt) openLooks(ctx context.Context) error {
	k, spec := a.kit, a.hold.Spec
	refs, err := a.references(ctx)
	if err != nil {
		return err
	}
	if refs == nil && !spec.Recording.Keeps(recording.Screenshots, recording.Failures) && !spec.Recording.Keeps(recording.Trees, recording.Failures) {
		return nil
	}
	looks := record.NewLooks(a.dir, a.log, a.timeline, spec.App.ID, func() devices.Facts { return a.unit.Known }, spec.Conditions, refs, a.room)
	a.record = append(a.record, looks)
	if spec.Remarks == work.RemarksFail {
		k.Book.Remarks, looks.All = looks.Found, true
	}
	return nil
}

// references fetches the references of the package's steps, where a script wants a step to be like its reference.
func (a *attempt) references(ctx context.Context) (*steps.References, error) {
	p := a.kit.Package
	if p == nil || !slices.ContainsFunc(slices.Collect(maps.Values(p.Scripts)), func(source string) bool { return strings.Contains(source, "like_reference") }) {
		return nil, nil
	}
	path := filepath.Join(a.dir, "references")
	if err := a.fetch(ctx, hostlink.References, path, ""); err != nil {
		return nil, &casebook.Unready{Err: fmt.Errorf("the host could not fetch the references of the steps: %w", err)}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, &casebook.Unready{Err: err}
	}
	a.refs = f
	st, err := f.Stat()
	if err != nil {
		return nil, &casebook.Unready{Err: err}
	}
	return steps.ReadReferences(f, st.Size())
}

// broke says that a recording is not whole, and why. The test goes on.
func (a *attempt) broke(what string, why error) {
	a.log.Warn("evidence is not whole", "recording", what, "err", why)
	a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: what + " is not whole", Error: why.Error()})
}

// fetchBuild fetches the app under test, where there is one.
func (a *attempt) fetchBuild(ctx context.Context) error {
	app := a.hold.Spec.App
	if app.SHA256 == "" {
		return nil
	}
	file := filepath.Join(a.dir, "build")
	if err := a.fetch(ctx, hostlink.Build, file, app.SHA256); err != nil {
		return &casebook.Unready{Err: fmt.Errorf("the host could not fetch the build: %w", err)}
	}
	a.kit.App = phone.App{ID: app.ID, Activity: app.Activity, Page: app.Page, Size: app.Size, Open: func() (io.ReadCloser, error) { return os.Open(file) }}
	return nil
}

// wake wakes the device, and sees that it has room for the build.
func (a *attempt) wake(ctx context.Context) error {
	u := a.unit
	if u.Waker != nil {
		if err := u.Waker.Wake(ctx); err != nil {
			var no *phone.Refused
			if errors.As(err, &no) { // a person has to do something first; the list of devices says so from now on
				a.b.Lab(a.hold).Unfit(a.hold.Serial, no)
				return &casebook.Unready{Err: err}
			}
			return err
		}
	}
	facts, err := u.Facts(ctx) // a phone that folds may have another screen now
	if err != nil {
		return err
	}
	facts.Serial = u.Known.Serial
	u.Known = facts
	if u.Storage == nil {
		return nil
	}
	free, err := u.Storage.FreeMB(ctx)
	if err != nil {
		return err
	}
	if needs := int(a.hold.Spec.App.Size>>20)*3 + leastFreeMB; free < needs {
		return &casebook.Unready{Err: fmt.Errorf("the device %s has %d MB of storage left, and needs %d for this build: remove apps or files from it", a.hold.Serial, free, needs)}
	}
	return nil
}

// keepInTouch asks the device again and again whether it is there: one that freezes stays
// listed, and what is asked of it elsewhere may take long for good reasons.
func (a *attempt) keepInTouch(ctx context.Context) error {
	if a.unit.Heart == nil {
		return nil
	}
	for phone.Pause(ctx, a.b.Silence/4) == nil {
		if err := a.unit.Heart.Answers(ctx, a.b.Silence); err != nil && ctx.Err() == nil {
			return err
		}
	}
	return nil
}

// readClock reads the device's clock, several times where the way to it is to be known well.
func (a *attempt) readClock(ctx context.Context, times int) error {
	if a.unit.Clock == nil {
		return nil
	}
	zero := a.timeline.Zero()
	var samples []timeline.Sample
	for range times {
		before := time.Now()
		t, err := a.unit.Clock.Now(ctx)
		if err != nil {
			return err
		}
		samples = append(samples, timeline.Sample{Before: before.Sub(zero), After: time.Since(zero), Device: t})
	}
	a.kit.Book.Clock.Read(samples...)
	return nil
}

// clockEvery is between two readings of the device's clock.
const clockEvery = 10 * time.Second

// followClock reads the device's clock again and again; at once where its log seems to be misplaced, as after the clock was set.
func (a *attempt) followClock(ctx context.Context) error {
	for {
		select {
		case <-time.After(clockEvery):
		case <-a.kit.Book.Clock.Odd():
		case <-ctx.Done():
			return nil
		}
		var lost *phone.Lost
		if err := a.readClock(ctx, 1); errors.As(err, &lost) {
			return err
		}
		if phone.Pause(ctx, time.Second) != nil { // a log that is read anew has old lines
			return nil
		}
	}
}

func (a *attempt) readPackage(ctx context.Context) error {
	path := filepath.Join(a.dir, "package")
	if err := a.fetch(ctx, hostlink.Package, path, a.hold.Spec.Content.SHA256); err != nil {
		return &casebook.Unready{Err: fmt.Errorf("the host could not fetch the package: %w", err)}
	}
	file, err := os.Open(path)
	if err != nil {
		return &casebook.Unready{Err: err}
	}
	p := &runner.Package{Zip: file}
	a.kit.Package = p
	st, err := file.Stat()
	if err != nil {
		return &casebook.Unready{Err: err}
	}
	if p.Files, err = testpkg.Open(file, st.Size()); err != nil {
		return err
	}
	if p.Package, err = testpkg.Read(p.Files); err != nil {
		return err
	}
	if len(p.Blocked()) > 0 {
		return errors.New(p.Blocked()[0].What)
	}
	return nil
}

// fetch copies what the work needs into a file, and sees that it is whole: that it has this SHA-256, where that is known.
func (a *attempt) fetch(ctx context.Context, what hostlink.Content, target, want string) error {
	return spool.Persist(ctx, a.log, "fetch the "+string(what), func(ctx context.Context) error {
		r, err := a.b.Link.Fetch(ctx, a.hold, what)
		if err != nil {
			return err
		}
		defer r.Close()
		f, err := os.Create(target)
		if err != nil {
			return err
		}
		h := sha256.New()
		_, err = io.Copy(io.MultiWriter(f, h), r)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
		if sum := hex.EncodeToString(h.Sum(nil)); want != "" && sum != want {
			return fmt.Errorf("the %s came with SHA-256 %s, not %s", what, sum, want)
		}
		return nil
	})
}
