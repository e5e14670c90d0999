package phone

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
)

// Command is one call that was made to a phone.
type Command struct {
	Name   string
	Args   map[string]string
	Start  time.Time
	Took   time.Duration
	Answer string
	Err    error
	Looks  bool // it changes nothing on the screen
	Marks  bool // it marks a moment, which stands on the timeline by itself
}

func observe(p Phone, see func(Command)) Phone { return &observed{p, see} }

type observed struct {
	p   Phone
	see func(Command)
}

type args = map[string]string

func (o *observed) tell(name string, a args, call func() (string, error)) error {
	return o.told(Command{Name: name, Args: a}, call)
}

// looks tells of a command that changes nothing on the screen.
func (o *observed) looks(name string, a args, call func() (string, error)) error {
	return o.told(Command{Name: name, Args: a, Looks: true}, call)
}

func (o *observed) told(c Command, call func() (string, error)) error {
	c.Start = time.Now()
	c.Answer, c.Err = call()
	c.Took = time.Since(c.Start)
	o.see(c)
	return c.Err
}

func (o *observed) plain(name string, a args, call func() error) error {
	return o.tell(name, a, func() (string, error) { return "", call() })
}

func (o *observed) Facts(ctx context.Context) (f devices.Facts, err error) {
	err = o.looks("facts", nil, func() (string, error) {
		f, err = o.p.Facts(ctx)
		return f.Maker + " " + f.Model, err
	})
	return f, err
}

func (o *observed) Install(ctx context.Context, app App) error {
	return o.plain("install", args{"app": app.ID, "bytes": fmt.Sprint(app.Size)}, func() error { return o.p.Install(ctx, app) })
}

func (o *observed) Uninstall(ctx context.Context, id string) error {
	return o.plain("uninstall", args{"app": id}, func() error { return o.p.Uninstall(ctx, id) })
}

func (o *observed) Launch(ctx context.Context, app App) error {
	a := args{"app": app.ID}
	for n, v := range app.Args {
		a["with "+n] = v
	}
	return o.tell("launch", a, func() (string, error) {
		err := o.p.Launch(ctx, app)
		if s, ok := o.p.(Starter); ok && err == nil {
			return s.Start(app.ID), nil
		}
		return "", err
	})
}

func (o *observed) Stop(ctx context.Context, id string) error {
	return o.plain("stop", args{"app": id}, func() error { return o.p.Stop(ctx, id) })
}

func (o *observed) Clear(ctx context.Context, id string) error {
	return o.plain("clear", args{"app": id}, func() error { return o.p.Clear(ctx, id) })
}

func (o *observed) Tree(ctx context.Context) (s *uitree.Screen, err error) {
	err = o.looks("tree", nil, func() (string, error) {
		if s, err = o.p.Tree(ctx); err != nil {
			return "", err
		}
		return fmt.Sprintf("%d elements", len(s.All())), nil
	})
	return s, err
}

func (o *observed) Screenshot(ctx context.Context) (png []byte, err error) {
	err = o.looks("screenshot", nil, func() (string, error) {
		png, err = o.p.Screenshot(ctx)
		return fmt.Sprintf("%d bytes", len(png)), err
	})
	return png, err
}

func (o *observed) Tap(ctx context.Context, x, y int) error {
	return o.plain("tap", args{"x": fmt.Sprint(x), "y": fmt.Sprint(y)}, func() error { return o.p.Tap(ctx, x, y) })
}

func (o *observed) Swipe(ctx context.Context, x1, y1, x2, y2 int, took time.Duration) error {
	if x1 == x2 && y1 == y2 { // a finger that stays where it is
		return o.plain("long press", args{"x": fmt.Sprint(x1), "y": fmt.Sprint(y1), "ms": fmt.Sprint(took.Milliseconds())}, func() error { return o.p.Swipe(ctx, x1, y1, x2, y2, took) })
	}
	return o.plain("swipe", args{"from": fmt.Sprintf("%d,%d", x1, y1), "to": fmt.Sprintf("%d,%d", x2, y2), "ms": fmt.Sprint(took.Milliseconds())},
		func() error { return o.p.Swipe(ctx, x1, y1, x2, y2, took) })
}

func (o *observed) Type(ctx context.Context, text string) error {
	return o.plain("type", args{"text": text}, func() error { return o.p.Type(ctx, text) })
}

func (o *observed) Press(ctx context.Context, keys ...Key) error {
	a := args{"key": string(keys[0])}
	if len(keys) > 1 {
		a["times"] = fmt.Sprint(len(keys))
	}
	return o.plain("press", a, func() error { return o.p.Press(ctx, keys...) })
}

type observedKeyboard struct {
	k Keyboard
	o *observed
}

func (o observedKeyboard) KeyboardShown(ctx context.Context) (up bool, err error) {
	err = o.o.looks("keyboard", nil, func() (string, error) {
		if up, err = o.k.KeyboardShown(ctx); up {
			return "shown", err
		}
		return "hidden", err
	})
	return up, err
}

type observedSettings struct {
	s Settings
	o *observed
}

func (o observedSettings) Rotate(ctx context.Context, landscape bool) error {
	to := "portrait"
	if landscape {
		to = "landscape"
	}
	return o.o.plain("rotate", args{"to": to}, func() error { return o.s.Rotate(ctx, landscape) })
}

func (o observedSettings) Dark(ctx context.Context, on bool) error {
	return o.o.plain("dark", args{"on": fmt.Sprint(on)}, func() error { return o.s.Dark(ctx, on) })
}

func (o observedSettings) Restore(ctx context.Context) error {
	return o.o.plain("restore settings", nil, func() error { return o.s.Restore(ctx) })
}

type observedConditioner struct {
	c Conditioner
	o *observed
}

func (o observedConditioner) Condition(ctx context.Context, app string, set conditions.Set, whole bool) error {
	return o.o.plain("set conditions", args{"to": set.String()}, func() error { return o.c.Condition(ctx, app, set, whole) })
}

type observedFingers struct {
	f Fingers
	o *observed
}

func (o observedFingers) Touch(ctx context.Context, strokes []Stroke) error {
	var ways []string
	for _, s := range strokes {
		first, last := s[0], s[len(s)-1]
		ways = append(ways, fmt.Sprintf("%d,%d to %d,%d in %d ms", first.X, first.Y, last.X, last.Y, (last.At-first.At).Milliseconds()))
	}
	return o.o.plain("touch", args{"fingers": strings.Join(ways, "; ")}, func() error { return o.f.Touch(ctx, strokes) })
}

type observedFiles struct {
	f Files
	o *observed
}

func (o observedFiles) Put(ctx context.Context, path string, r io.Reader) error {
	return o.o.plain("put file", args{"path": path}, func() error { return o.f.Put(ctx, path, r) })
}

func (o observedFiles) Fetch(ctx context.Context, path string, limit int64) (raw []byte, err error) {
	err = o.o.looks("fetch file", args{"path": path}, func() (string, error) {
		raw, err = o.f.Fetch(ctx, path, limit)
		return fmt.Sprintf("%d bytes", len(raw)), err
	})
	return raw, err
}

func (o observedFiles) Remove(ctx context.Context, path string) error { // putting a device back is not told
	return o.f.Remove(ctx, path)
}

type observedPermissions struct {
	Permissions // what an app may do is looked at again and again: that is not told
	o           *observed
}

func (o observedPermissions) AsNew(ctx context.Context, id string) error {
	return o.o.plain("ask permissions", args{"app": id}, func() error { return o.Permissions.AsNew(ctx, id) })
}

func (o observedPermissions) Answer(ctx context.Context, permission string, allow bool) (was bool, err error) {
	start := time.Now()
	if was, err = o.Permissions.Answer(ctx, permission, allow); was || err != nil {
		o.o.see(Command{Name: map[bool]string{true: "allow", false: "deny"}[allow], Args: args{"permission": permission}, Start: start, Took: time.Since(start), Err: err})
	}
	return was, err
}

func (o *observed) Close() error { return o.p.Close() }
