package wd

// An app on a device of a lab: installed, launched and cleared by the lab's own commands, or by a new session where it has none.

import (
	"context"
	"maps"
	"net/http"

	"tessellant/internal/core/labfile"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
)

// apps implements content.
type apps struct{ *Device }

// install implements content.
func (d apps) install(ctx context.Context, app phone.App) error {
	if d.Lab.Commands["install"] == nil || d.Lab.Build == nil {
		_, err := d.own(ctx, "install a build", "install", nil)
		return err
	}
	ref, err := d.Upload(ctx, app)
	if err != nil {
		return err
	}
	d.touched()
	_, err = d.own(ctx, "install the build", "install", func(v *labfile.Values) { v.Build, v.App = ref, about(app, v.App) })
	return err
}

// about is an app as templates have it; of one that was known before, with what only that knows.
func about(app phone.App, before labfile.App) labfile.App {
	out := labfile.App{ID: app.ID, Activity: app.Activity, Size: app.Size}
	if before.ID == app.ID {
		out.File = before.File
	}
	return out
}

// uninstall implements content.
func (d apps) uninstall(ctx context.Context, id string) error {
	d.touched()
	_, err := d.own(ctx, "remove the app", "uninstall", func(v *labfile.Values) { v.App.ID = id })
	return err
}

// launch implements content. Where the lab has no command for it, a new session brings the build to the front.
func (d apps) launch(ctx context.Context, app phone.App) error {
	if d.Lab.Commands["launch"] == nil {
		d.mu.Lock()
		there := d.fresh
		d.fresh = false
		d.mu.Unlock()
		switch {
		case len(app.Args) > 0 || app.ID != d.Values.App.ID || d.Anew == nil:
			_, err := d.own(ctx, "launch the app with arguments", "launch", nil)
			return err
		case there:
			return nil
		}
		err := d.anew(ctx)
		d.touched()
		return err
	}
	d.touched()
	_, err := d.own(ctx, "launch the app", "launch", func(v *labfile.Values) { v.App, v.Args = about(app, v.App), maps.Clone(app.Args) })
	return err
}

// stop implements content.
func (d apps) stop(ctx context.Context, id string) error {
	d.touched()
	_, err := d.own(ctx, "stop the app", "stop", func(v *labfile.Values) { v.App.ID = id })
	return err
}

// clear implements content. Where the lab has no command for it, a new session begins with the build as new.
func (d apps) clear(ctx context.Context, id string) error {
	if d.Lab.Commands["clear"] == nil && id == d.Values.App.ID && d.Anew != nil {
		d.mu.Lock()
		there := d.fresh
		d.mu.Unlock()
		if there {
			return nil
		}
		return d.anew(ctx)
	}
	d.touched()
	_, err := d.own(ctx, "clear the app", "clear", func(v *labfile.Values) { v.App.ID = id })
	return err
}

// tree implements content.
func (d apps) tree(ctx context.Context) (*uitree.Screen, error) {
	const doing = "read the screen"
	v, err := d.command(ctx, doing, http.MethodGet, "/source", nil)
	if err != nil {
		return nil, err
	}
	source, ok := v.(string)
	if !ok {
		return nil, d.failed(doing, &Garbage{"the source of the screen is no text"})
	}
	var s *uitree.Screen
	switch {
	case uitree.IsOurs(source): // another Tessellant's
		s, err = uitree.ParseOurs([]byte(source))
	case d.Facts0().Platform == "ios":
		s, err = uitree.ParseIOS([]byte(source), d.opened().Scale)
	default:
		s, err = uitree.ParseAndroid([]byte(source))
	}
	if err != nil {
		return nil, d.failed(doing, &Garbage{err.Error()})
	}
	return s, nil
}
