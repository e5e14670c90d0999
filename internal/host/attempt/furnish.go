package attempt

// What the work wants of its device besides the build: other builds beside it, files, conditions; and the files that are kept afterwards.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/work"
	"tessellant/internal/host/record"
	"tessellant/internal/phone"
)

// maxFetched is how many bytes a file of the device may have that is kept.
const maxFetched = 64 << 20

// keepLimit is how long fetching the files of a device may take.
const keepLimit = 5 * time.Minute

// layKeyboard puts our keyboard onto the device. It goes with the apps, and the device's own comes back with its settings.
func (a *attempt) layKeyboard(ctx context.Context) error {
	t := a.unit.Typist
	if t == nil {
		a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "no keyboard helper: this device does not take one"})
		return nil
	}
	if err := a.journal.App(t.KeyboardApp()); err != nil {
		return err
	}
	if err := t.LayKeyboard(ctx); err != nil {
		return err
	}
	a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the keyboard helper is on the device"})
	return nil
}

// furnish installs builds beside, puts files onto the device, and sets it as the work wants it.
func (a *attempt) furnish(ctx context.Context) error {
	spec := a.hold.Spec
	for _, b := range spec.Beside {
		if err := a.beside(ctx, b.Build, b.Ref); err != nil {
			return err
		}
	}
	if slices.Contains(spec.Helpers, work.HelperKeyboard) {
		if err := a.layKeyboard(ctx); err != nil {
			return err
		}
	}
	for _, f := range spec.Put {
		if err := a.put(ctx, f.From, f.To); err != nil {
			return err
		}
	}
	left := maps.Clone(spec.Conditions)
	for name := range a.given.Set {
		delete(left, name)
	}
	switch c := a.kit.Phone.Conditioner; {
	case len(spec.Conditions) == 0:
		return nil
	case len(left) == 0:
		return a.learn(ctx)
	case c == nil:
		return fmt.Errorf("the device can't be set to %s: its lab does not let us change how it is set", left)
	default:
		if err := c.Condition(ctx, spec.App.ID, left, true); err != nil {
			return err
		}
		return a.learn(ctx)
	}
}

// learn asks the device what it is, set as it is: what the content is told of it.
func (a *attempt) learn(ctx context.Context) error {
	facts, err := a.unit.Facts(ctx)
	if err != nil {
		return err
	}
	facts.Serial, facts.Labels = a.unit.Known.Serial, a.unit.Known.Labels
	facts.Language = cmp.Or(a.hold.Spec.Conditions[conditions.Language], facts.Language)
	a.unit.Known = facts
	return nil
}

// beside installs a build beside the one under test.
func (a *attempt) beside(ctx context.Context, id, ref string) error {
	app, _, done, err := a.kit.Apps.AnyBuild(ctx, id)
	if err != nil {
		return fmt.Errorf("the build %s can't be installed beside: %w", ref, err)
	}
	defer done()
	if err := a.kit.Phone.Uninstall(ctx, app.ID); err != nil {
		return err
	}
	return a.kit.Phone.Install(ctx, app)
}

// put puts a file of the package onto the device. It is removed with the apps.
func (a *attempt) put(ctx context.Context, from, to string) error {
	files := a.kit.Phone.Files
	if files == nil || a.kit.Package == nil {
		return fmt.Errorf("%s can't be put onto the device: its lab takes no files", from)
	}
	f, err := a.kit.Package.Files.Open(from)
	if err != nil {
		return fmt.Errorf("the package has no file %s to put onto the device", from)
	}
	defer f.Close()
	if err := a.journal.File(to); err != nil {
		return err
	}
	return files.Put(ctx, to, f)
}

// keep fetches the files of the device that the work wants kept. One that is not there is noted.
func (a *attempt) keep(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, keepLimit)
	defer cancel()
	files := a.kit.Phone.Files
	for i, name := range a.hold.Spec.Fetch {
		if ctx.Err() != nil {
			return
		}
		err := errors.New("its lab gives no files")
		if files != nil {
			err = a.keepOne(ctx, i+1, name)
		}
		var lost *phone.Lost
		if errors.As(err, &lost) {
			return
		}
		if err != nil {
			a.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "file not kept", Args: map[string]string{"path": name}, Error: err.Error()})
		}
	}
}

func (a *attempt) keepOne(ctx context.Context, number int, name string) error {
	raw, err := a.kit.Phone.Files.Fetch(ctx, name, maxFetched)
	if err != nil {
		return err
	}
	if text := string(raw); a.mask.Text(text) != text {
		raw = []byte(a.mask.Text(text))
	}
	if err := a.room.Room(int64(len(raw))); err != nil {
		return err
	}
	kept := fmt.Sprintf("%s%02d-%s", tracks.Kept, number, record.Slug(strings.TrimSuffix(path.Base(name), path.Ext(name))))
	if ending := record.Slug(path.Ext(name)); ending != "" {
		kept += "." + ending
	}
	to := filepath.Join(a.dir, filepath.FromSlash(kept))
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return os.WriteFile(to, raw, 0o600)
}
