package android

// Starting apps, and seeing what is in front.

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/phone"
)

const launcher = " -a android.intent.action.MAIN -c android.intent.category.LAUNCHER"

// Launch starts the app as its icon does. Arguments reach an app at its start alone: with some, it is stopped before.
func (d *Device) Launch(ctx context.Context, app phone.App) error {
	doing := "start the app " + app.ID
	component := app.ID + "/" + app.Activity
	if app.Activity == "" {
		var err error
		if component, err = d.firstScreen(ctx, app.ID); err != nil {
			return err
		}
	}
	if component == "" {
		return d.byIcon(ctx, app)
	}
	line := "am start -W" + d.forUser() + launcher
	if len(app.Args) > 0 {
		line += " -S"
	}
	line += " -n " + quote(component)
	for _, n := range slices.Sorted(maps.Keys(app.Args)) {
		line += " --es " + quote(n) + " " + quote(app.Args[n])
	}
	a, err := d.shell(ctx, "start the app", line, launchLimit)
	d.came(app.ID, string(a.out))
	switch said := a.text(); { // the exit code says nothing
	case err != nil:
		return err
	case strings.Contains(said, "Status: ok"):
		return nil
	case strings.Contains(said, "Status: timeout"):
		return d.slowStart(ctx, app.ID)
	case strings.Contains(said, "does not exist") && app.Activity != "" && len(app.Args) == 0:
		// The manifest's first activity may be switched off for another one while the app runs.
		if there, err := d.installed(ctx, app.ID); err != nil || there {
			if err != nil {
				return err
			}
			return d.byIcon(ctx, app)
		}
		fallthrough
	default:
		if lock := d.lockedFor(ctx, doing); lock != nil {
			return lock
		}
		return &phone.Refused{Doing: doing, Why: clip(said), Remedy: "see whether it is installed"}
	}
}

var (
	tookForm = regexp.MustCompile(`(?m)^TotalTime: ([1-9]\d{0,6})\s*$`) // 0: am has not seen it come up
	howForm  = regexp.MustCompile(`(?m)^LaunchState: (COLD|WARM|HOT)\b`)
)

// came notes how an app came up, as am said it.
func (d *Device) came(id, said string) {
	how := ""
	if m := tookForm.FindStringSubmatch(strings.ReplaceAll(said, "\r", "")); m != nil {
		state := "start"
		if h := howForm.FindStringSubmatch(said); h != nil {
			state = strings.ToLower(h[1]) + " start"
		}
		how = state + ", " + m[1] + " ms"
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.starts == nil {
		d.starts = map[string]string{}
	}
	d.starts[id] = how
}

// Start implements phone.Starter.
func (d *Device) Start(id string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.starts[id]
}

// firstScreen asks for the activity that a launcher starts; empty: there are several, or this system can't say.
func (d *Device) firstScreen(ctx context.Context, id string) (string, error) {
	if !d.features["cmd"] {
		return "", nil
	}
	const doing = "find the app's first screen"
	a, err := d.shell(ctx, doing, "cmd package resolve-activity --brief"+d.forUser()+launcher+" "+quote(id), quick)
	if err != nil {
		return "", err
	}
	lines := strings.Split(strings.TrimSpace(string(a.out)), "\n")
	component := strings.TrimSpace(lines[len(lines)-1])
	if strings.HasPrefix(component, id+"/") {
		return component, nil
	}
	if strings.Contains(component, "ResolverActivity") {
		return "", nil
	}
	if lock := d.lockedFor(ctx, doing); lock != nil {
		return "", lock
	}
	return "", &phone.Refused{Doing: "start the app " + id, Why: "it is not installed, or has no screen that a launcher starts"}
}

// byIcon starts what a launcher's icon starts, whichever activity that is.
func (d *Device) byIcon(ctx context.Context, app phone.App) error {
	doing := "start the app " + app.ID
	if len(app.Args) > 0 {
		return &phone.Refused{Doing: doing, Why: "it has several first screens, or none that is known, and arguments need to be told which", Remedy: "name its activity"}
	}
	a, err := d.shell(ctx, doing, "monkey -p "+quote(app.ID)+" -c android.intent.category.LAUNCHER 1", launchLimit)
	if err != nil {
		return err
	}
	if strings.Contains(a.text(), "No activities found") {
		return &phone.Refused{Doing: doing, Why: "it is not installed, or has no screen that a launcher starts"}
	}
	return d.slowStart(ctx, app.ID)
}

// slowStart waits until the app is in front: am stops waiting after some seconds, and a slow start is no failure.
func (d *Device) slowStart(ctx context.Context, id string) error {
	doing := "start the app " + id
	ctx, cancel := d.with(ctx, launchLimit)
	defer cancel()
	for end := time.Now().Add(launchLimit - 5*time.Second); ; {
		front, err := d.InFront(ctx)
		switch {
		case err != nil:
			return err
		case strings.HasPrefix(front, id+"/"), strings.HasPrefix(front, "Application "), strings.Contains(front, "GrantPermissionsActivity"):
			return nil // in front, or behind a dialog of the system that speaks of it
		}
		if lock := d.lockedFor(ctx, doing); lock != nil {
			return lock
		}
		if on, err := d.awake(ctx); err == nil && !on { // it draws nothing while the screen is off
			if err := d.Wake(ctx); err != nil {
				return err
			}
		}
		if time.Now().After(end) {
			return &phone.Refused{Doing: doing, Code: "slow", Why: fmt.Sprintf("it did not come to the front within %d s; there is %s", int(launchLimit.Seconds())-5, clip(front)), Remedy: "look at its screen"}
		}
		if err := phone.Pause(ctx, 200*time.Millisecond); err != nil {
			return d.failed(ctx, doing, err)
		}
	}
}

// lockedFor gives the refusal when a lock with a secret is before the screen.
func (d *Device) lockedFor(ctx context.Context, doing string) error {
	shown, secure, err := d.lock(ctx)
	if err == nil && shown && secure {
		return locked(doing)
	}
	return nil
}

var focusForm = regexp.MustCompile(`mCurrentFocus=Window\{\S+ (?:u\d+ )?(.*?)\}`)

// InFront gives the window that is in front: app/activity, or the title of one that is not an app's. Empty: none, as while the screen is off.
func (d *Device) InFront(ctx context.Context) (string, error) {
	a, err := d.shell(ctx, "say what is in front", "dumpsys window", quick)
	return readFocus(string(a.out)), err
}

func readFocus(out string) string {
	if m := focusForm.FindStringSubmatch(out); m != nil {
		return m[1]
	}
	return ""
}
