package host

// Making ready for an attempt: the build and the package are fetched, the device is prepared, and what records is set going.

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/work"
	"tessellant/internal/guard"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// prepare makes the device ready: clock, log, film, a clean app.
func (a *attempt) prepare(ctx context.Context, stop context.CancelCauseFunc, side *sync.WaitGroup) error {
	spec := a.hold.Spec
	if spec.Content.SHA256 != "" {
		if err := a.readPackage(ctx); err != nil {
			return err
		}
	}
	build := filepath.Join(a.dir, "build")
	if a.hold.Spec.App.SHA256 != "" {
		if err := a.fetch(ctx, hostlink.Build, build, a.hold.Spec.App.SHA256); err != nil {
			return &unready{fmt.Errorf("the host could not fetch the build: %w", err)}
		}
	}
	a.app = phone.App{ID: a.hold.Spec.App.ID, Activity: a.hold.Spec.App.Activity, Size: a.hold.Spec.App.Size, Open: func() (io.ReadCloser, error) { return os.Open(build) }}
	if a.hold.Spec.App.SHA256 == "" {
		a.app = phone.App{}
	}
	d := a.unit.device
	if err := d.Wake(ctx); err != nil {
		var no *phone.Refused
		if errors.As(err, &no) { // a person has to do something first; the list of devices says so from now on
			a.h.unfit(a.hold.Serial, no)
			return &unready{err}
		}
		return err
	}
	facts, err := d.Facts(ctx) // a phone that folds may have another screen now
	if err != nil {
		return err
	}
	facts.Serial = a.unit.facts.Serial
	a.unit = &unit{d, facts, a.unit.told}
	free, err := d.FreeMB(ctx)
	if err != nil {
		return err
	}
	if needs := int(a.hold.Spec.App.Size>>20)*3 + leastFreeMB; free < needs {
		return &unready{fmt.Errorf("the device %s has %d MB of storage left, and needs %d for this build: remove apps or files from it", a.hold.Serial, free, needs)}
	}
	since := time.Time{}
	for range 3 {
		if err := a.sample(ctx, d); err != nil {
			return err
		}
		since = a.samples[0].Device
	}
	logTo := a.dir
	if !spec.Recording.Log {
		logTo = "" // it is watched for crashes all the same
	}
	if a.book, err = newLogbook(logTo, d, a.hold.Spec.App.ID, since, a.mask, a.share()); err != nil {
		return err
	}
	beside := func(f func() error) { // what goes on beside the test; its error ends the attempt
		side.Go(func() {
			if err := guard.Do(a.log, guard.Hold, f); err != nil {
				stop(err)
			}
		})
	}
	beside(func() error { return a.book.follow(ctx) }) // a log that ends is the first sign that the device went away
	if spec.Recording.Video {
		if a.film, err = newFilm(a.dir, d, a.rec.at, a.share()); err != nil {
			return err
		}
		a.rec.film = a.film
		beside(func() error { a.film.roll(ctx); return nil })
		beside(func() error { a.film.develop(ctx); return nil })
	}
	beside(func() error { a.tellLive(ctx); return nil })
	beside(func() error { return a.keepInTouch(ctx) })
	if err := d.Settle(ctx); err != nil {
		return err
	}
	if a.app.ID != "" {
		if err := a.reinstall(ctx); err != nil {
			return err
		}
	}
	if err := a.setConditions(ctx); err != nil {
		return err
	}
	if a.kind() == work.Commands {
		if a.app.ID == "" {
			return nil
		}
		return a.phone.Launch(ctx, a.app)
	}
	a.hands = &script.Hands{Phone: a.phone, Keyboard: phone.ObservedKeyboard(d, a.rec.command), Settings: phone.ObservedSettings(d, a.rec.command), Permissions: phone.ObservedPermissions(d, a.rec.command), App: a.app, Facts: a.unit.facts,
		Data: a.pkg, Notes: notes{a.rec, a.phone}, Calls: a.rec.atCall}
	return nil
}

// keepInTouch asks the device again and again whether it is there: one that freezes stays
// listed, and what is asked of it elsewhere may take long for good reasons.
func (a *attempt) keepInTouch(ctx context.Context) error {
	for {
		select {
		case <-time.After(a.h.Silence / 4):
		case <-ctx.Done():
			return nil
		}
		if err := a.unit.device.Answers(ctx, a.h.Silence); err != nil && ctx.Err() == nil {
			return err
		}
	}
}

// sample reads the device's clock.
func (a *attempt) sample(ctx context.Context, c phone.Clock) error {
	before := time.Since(a.rec.zero)
	t, err := c.Now(ctx)
	if err != nil {
		return err
	}
	a.samples = append(a.samples, timeline.Sample{Before: before, After: time.Since(a.rec.zero), Device: t})
	return nil
}

func (a *attempt) readPackage(ctx context.Context) error {
	path := filepath.Join(a.dir, "package")
	if err := a.fetch(ctx, hostlink.Package, path, a.hold.Spec.Content.SHA256); err != nil {
		return &unready{fmt.Errorf("the host could not fetch the package: %w", err)}
	}
	file, err := os.Open(path)
	if err != nil {
		return &unready{err}
	}
	a.zip = file
	st, err := file.Stat()
	if err != nil {
		return &unready{err}
	}
	f, err := testpkg.Open(file, st.Size())
	if err != nil {
		return err
	}
	a.files = f
	if a.pkg, err = testpkg.Read(f); err != nil {
		return err
	}
	if len(a.pkg.Blocked()) > 0 {
		return errors.New(a.pkg.Blocked()[0].What)
	}
	for _, c := range a.pkg.Cases {
		if slices.Contains(a.hold.Spec.Cases, c.Name) {
			a.chosen = append(a.chosen, c)
		}
	}
	return nil
}

// fetch copies what the hold needs into a file, and sees that it is whole: that it has this SHA-256.
func (a *attempt) fetch(ctx context.Context, what hostlink.Content, target, want string) error {
	return persist(ctx, a.log, "fetch the "+string(what), func(ctx context.Context) error {
		r, err := a.h.Link.Fetch(ctx, a.hold, what)
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
