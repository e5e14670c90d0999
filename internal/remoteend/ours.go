package remoteend

// Our own commands, below …/tessellant/ (section 6.8 of the standard, "Protocol extensions").

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/netprofile"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

const maxFile = 32 << 20 // bytes of a file that is put or fetched

func (c *command) ours() (any, *w3c.Error) {
	switch c.call.Name {
	case "Install App":
		return nil, c.install()
	case "Launch App", "Stop App", "Clear App", "Remove App":
		return nil, c.app()
	case "Get Apps":
		return c.apps()
	case "Get Contexts":
		return c.contexts()
	case "Get Context":
		return c.contextNow(), nil
	case "Switch Context":
		return nil, c.switchContext()
	case "Set Conditions":
		return nil, c.setConditions()
	case "Get Orientation":
		r, err := c.onScreen().area()
		return orientation(r.Right > r.Bottom), err
	case "Set Orientation":
		return nil, c.turnTo()
	case "Set Network":
		return nil, c.setNetwork()
	case "Hide Keyboard":
		return nil, c.hideKeyboard()
	case "Is Keyboard Shown":
		return c.keyboardShown()
	case "Press Key":
		return nil, c.pressKey()
	case "Get Device Time":
		return c.deviceTime()
	case "Ask Permissions":
		return nil, c.askPermissions()
	case "Answer Permission":
		return nil, c.answerPermission()
	case "Get Device Log":
		return c.deviceLog()
	case "Put File":
		return nil, c.putFile()
	case "Fetch File":
		return c.fetchFile()
	case "Begin Case":
		name, err := c.nameOf("name")
		if err != nil {
			return nil, err
		}
		c.args["name"] = name
		return nil, asError("begin a case", c.Notes.BeginCase(c.ctx, name))
	case "End Case":
		verdict, message, err := c.verdict("passed", "failed", "skipped")
		if err != nil {
			return nil, err
		}
		if err := c.Notes.EndCase(c.ctx, verdict, message); err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		return nil, nil
	case "Step":
		name, err := c.nameOf("name")
		if err != nil {
			return nil, err
		}
		c.args["name"] = name
		return nil, asError("keep the moment", c.Notes.Step(c.ctx, name))
	case "Mark Session":
		verdict, message, err := c.verdict("passed", "failed")
		if err == nil {
			c.Notes.Mark(verdict, message)
		}
		return nil, err
	case "Hide Next Text":
		c.hidden = true
		return nil, nil
	}
	return nil, w3c.Fail(w3c.UnknownCommand, "nothing here does %s", c.call.Name)
}

func orientation(landscape bool) string {
	if landscape {
		return "landscape"
	}
	return "portrait"
}

// install puts a build over what is there. Of the session's own app it is launched from then on.
func (c *command) install() *w3c.Error {
	app, done := c.App, func() {}
	if given, ok := c.body["build"]; ok {
		ref, _ := given.(string)
		if ref == "" {
			return w3c.Fail(w3c.InvalidArgument, `build must be a build's reference, such as "kelpline/android@newest"`)
		}
		if c.Builds == nil {
			return w3c.Fail(w3c.UnsupportedOperation, "there are no builds here besides the session's own")
		}
		c.args["build"] = short(ref)
		var err error
		if app, c.answer, done, err = c.Builds(c.ctx, ref); err != nil {
			return asError("find the build", err)
		}
	}
	defer done()
	if app.Open == nil {
		return w3c.Fail(w3c.InvalidArgument, "the session has no build; say which is meant: {\"build\": reference}")
	}
	c.args["app"] = app.ID
	defer c.touched()
	if err := c.phone.Install(c.ctx, app); err != nil {
		return asError("install the app", err)
	}
	if app.ID == c.App.ID {
		c.App.Activity = app.Activity
	}
	return nil
}

// meant is the app that a command is for: the session's own, unless its body names another.
func (c *command) meant() (phone.App, *w3c.Error) {
	app := c.App
	if id, given := c.body["app"]; given {
		s, ok := id.(string)
		if !ok || s == "" {
			return app, w3c.Fail(w3c.InvalidArgument, "app must be an app's id, such as org.example.app")
		}
		if s != app.ID {
			app = phone.App{ID: s}
		}
	}
	if app.ID == "" {
		return app, w3c.Fail(w3c.InvalidArgument, "the session has no build; say which app is meant")
	}
	c.args["app"] = app.ID
	return app, nil
}

func (c *command) app() *w3c.Error {
	app, werr := c.meant()
	if werr != nil {
		return werr
	}
	if c.Reaches != nil && c.call.Name != "Launch App" {
		if err := c.Reaches(app.ID); err != nil {
			return w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
	}
	defer c.touched()
	switch c.call.Name {
	case "Stop App":
		return asError("stop the app", c.phone.Stop(c.ctx, app.ID))
	case "Clear App":
		return asError("clear the app's data", c.phone.Clear(c.ctx, app.ID))
	case "Remove App":
		return asError("remove the app", c.phone.Uninstall(c.ctx, app.ID))
	}
	if given, ok := c.body["args"]; ok {
		m, ok := given.(map[string]any)
		if !ok {
			return w3c.Fail(w3c.InvalidArgument, `args must be an object, such as {"shore": "gull-ledge"}`)
		}
		app.Args = map[string]string{}
		for k, v := range m {
			app.Args[k] = fmt.Sprint(v)
		}
	}
	return asError("launch the app", c.phone.Launch(c.ctx, app))
}

// apps lists what is on the device besides its system.
func (c *command) apps() (any, *w3c.Error) {
	if c.phone.Drawer == nil {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "this device does not tell which apps are on it")
	}
	all, err := c.phone.Drawer.Installed(c.ctx)
	if err != nil {
		return nil, asError("list the apps", err)
	}
	out := []map[string]string{}
	for _, a := range all {
		out = append(out, map[string]string{"app": a.ID, "version": a.Version})
	}
	c.answer = fmt.Sprintf("%d apps", len(all))
	return out, nil
}

// setConditions sets the device as a run's conditions do.
func (c *command) setConditions() *w3c.Error {
	given, ok := c.body["conditions"].(map[string]any)
	if !ok || len(given) == 0 {
		return w3c.Fail(w3c.InvalidArgument, `the body must be such as {"conditions": {"dark": "on"}}; the conditions are %s`, strings.Join(conditions.Names(), ", "))
	}
	var set conditions.Set
	for _, name := range slices.Sorted(maps.Keys(given)) {
		value, ok := given[name].(string)
		if !ok {
			return w3c.Fail(w3c.InvalidArgument, "%s must be a text, not %v", short(name), given[name])
		}
		var err error
		if set, err = set.With(name, value); err != nil {
			return w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
	}
	for name, value := range set {
		c.args[name] = value
	}
	if n, ok := set[conditions.Network]; ok {
		p, err := netprofile.Parse(n)
		if err != nil {
			return w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		if c.Network == nil {
			return w3c.Fail(w3c.UnsupportedOperation, "the network of this device can't be set: its apps do not go through the host's proxy")
		}
		c.Network(p)
		delete(set, conditions.Network)
	}
	if len(set) == 0 {
		return nil
	}
	if c.phone.Conditioner == nil {
		return w3c.Fail(w3c.UnsupportedOperation, "this device can't be set: its lab does not let us change how it is")
	}
	defer c.touched()
	return asError("set the device", c.phone.Conditioner.Condition(c.ctx, c.App.ID, set, true))
}

func (c *command) turnTo() *w3c.Error {
	to, _ := c.body["orientation"].(string)
	if to != "portrait" && to != "landscape" {
		return w3c.Fail(w3c.InvalidArgument, "an orientation is portrait or landscape, not %v", c.body["orientation"])
	}
	if c.phone.Settings == nil {
		return w3c.Fail(w3c.UnsupportedOperation, "this device's screen can't be turned")
	}
	c.args["to"] = to
	defer c.touched()
	return asError("turn the screen", c.phone.Settings.Rotate(c.ctx, to == "landscape"))
}

func (c *command) setNetwork() *w3c.Error {
	to, ok := c.body["network"].(string)
	if !ok {
		return w3c.Fail(w3c.InvalidArgument, "a network is a text, such as edge or offline, not %v", c.body["network"])
	}
	p, err := netprofile.Parse(to)
	if err != nil {
		return w3c.Fail(w3c.InvalidArgument, "%v", err)
	}
	if c.Network == nil {
		return w3c.Fail(w3c.UnsupportedOperation, "the network of this device can't be set: its apps do not go through the host's proxy; leave network: off out of tessellant:recording")
	}
	c.args["to"] = p.Name
	c.Network(p)
	return nil
}

func (c *command) hideKeyboard() *w3c.Error {
	if c.phone.Keyboard == nil {
		return nil
	}
	up, err := c.phone.Keyboard.KeyboardShown(c.ctx)
	if err != nil || !up {
		return asError("hide the keyboard", err)
	}
	return c.onScreen().press("hide the keyboard", phone.Back)
}

func (c *command) keyboardShown() (any, *w3c.Error) {
	if c.phone.Keyboard == nil {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "this device does not say whether its keyboard is shown")
	}
	up, err := c.phone.Keyboard.KeyboardShown(c.ctx)
	return up, asError("see whether the keyboard is shown", err)
}

func (c *command) pressKey() *w3c.Error {
	name, werr := c.nameOf("key")
	if werr != nil {
		return werr
	}
	if !slices.Contains(phone.Keys, phone.Key(name)) {
		return w3c.Fail(w3c.InvalidArgument, "there is no key %s; there are %v", short(name), phone.Keys)
	}
	c.args["key"] = name
	defer c.touched()
	return asError("press the key", c.phone.Press(c.ctx, phone.Key(name)))
}

func (c *command) deviceTime() (any, *w3c.Error) {
	if c.phone.Clock == nil {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "this device does not tell its time")
	}
	now, err := c.phone.Clock.Now(c.ctx)
	if err != nil {
		return nil, asError("ask for the device's time", err)
	}
	return now.UTC().Format(time.RFC3339Nano), nil
}

func (c *command) askPermissions() *w3c.Error {
	app, werr := c.meant()
	if werr != nil {
		return werr
	}
	if c.phone.Permissions == nil {
		return w3c.Fail(w3c.UnsupportedOperation, "this device knows no permissions")
	}
	defer c.touched()
	return asError("take the app's permissions back", c.phone.Permissions.AsNew(c.ctx, app.ID))
}

// dialogWithin is how long the system's dialog may take to come.
const dialogWithin = 10 * time.Second

func (c *command) answerPermission() *w3c.Error {
	app, werr := c.meant()
	if werr != nil {
		return werr
	}
	permission, ok := c.body["permission"].(string)
	allow, said := c.body["allow"].(bool)
	if !ok || permission == "" || !said {
		return w3c.Fail(w3c.InvalidArgument, `the body must be such as {"permission": "location", "allow": true}; the permissions are %s, and the system's own names`, strings.Join(phone.PermissionWords, ", "))
	}
	if c.phone.Permissions == nil {
		return w3c.Fail(w3c.UnsupportedOperation, "this device knows no permissions")
	}
	if c.phone.Permissions.Named(permission) == nil {
		return w3c.Fail(w3c.InvalidArgument, "no permission is called %s; there are %s, and the system's own names", short(permission), strings.Join(phone.PermissionWords, ", "))
	}
	c.args["permission"], c.args["allow"] = short(permission), fmt.Sprint(allow)
	defer c.touched()
	return asError("answer the system's dialog", phone.Decide(c.ctx, c.phone.Permissions, app.ID, permission, allow, dialogWithin))
}

func (c *command) deviceLog() (any, *w3c.Error) {
	since, ok := c.body["since"].(float64)
	if v, given := c.body["since"]; given && (!ok || since < 0 || since != float64(int64(since))) {
		return nil, w3c.Fail(w3c.InvalidArgument, "since must be the next of an answer before, or 0, not %v", v)
	}
	lines, next, err := c.Notes.DeviceLog(c.ctx, int64(since))
	if err != nil {
		return nil, w3c.Fail(w3c.UnsupportedOperation, "%v", err)
	}
	if lines == nil {
		lines = []string{}
	}
	c.answer = fmt.Sprintf("%d lines", len(lines))
	return map[string]any{"lines": lines, "next": next}, nil
}

func (c *command) path() (string, *w3c.Error) {
	p, err := c.nameOf("path")
	if err == nil && c.phone.Files == nil {
		err = w3c.Fail(w3c.UnsupportedOperation, "this device takes and gives no files")
	}
	c.args["path"] = p
	return p, err
}

// fileError says why a file can't be put or fetched.
func fileError(doing string, err error) *w3c.Error {
	var refused *phone.Refused
	if errors.As(err, &refused) {
		return w3c.Fail(w3c.InvalidArgument, "%s: %v", doing, err)
	}
	return asError(doing, err)
}

func (c *command) putFile() *w3c.Error {
	path, werr := c.path()
	if werr != nil {
		return werr
	}
	content, ok := c.body["content"].(string)
	raw, err := base64.StdEncoding.DecodeString(content)
	if !ok || err != nil {
		return w3c.Fail(w3c.InvalidArgument, "content must be the file in Base64")
	}
	if len(raw) > maxFile {
		return w3c.Fail(w3c.InvalidArgument, "the file has %d bytes; %d is the most", len(raw), maxFile)
	}
	if c.Puts != nil {
		if err := c.Puts(path); err != nil {
			return w3c.Fail(w3c.UnknownError, "put the file: %v", err)
		}
	}
	c.answer = fmt.Sprintf("%d bytes", len(raw))
	return fileError("put the file", c.phone.Files.Put(c.ctx, path, bytes.NewReader(raw)))
}

func (c *command) fetchFile() (any, *w3c.Error) {
	path, werr := c.path()
	if werr != nil {
		return nil, werr
	}
	raw, err := c.phone.Files.Fetch(c.ctx, path, maxFile)
	if err != nil {
		return nil, fileError("fetch the file", err)
	}
	c.answer = fmt.Sprintf("%d bytes", len(raw))
	return base64.StdEncoding.EncodeToString(raw), nil
}

func (c *command) verdict(allowed ...string) (verdict, message string, err *w3c.Error) {
	verdict, _ = c.body["verdict"].(string)
	message, isText := c.body["message"].(string)
	if _, given := c.body["message"]; given && !isText {
		return "", "", w3c.Fail(w3c.InvalidArgument, "message must be a text")
	}
	for _, v := range allowed {
		if v == verdict {
			c.args["verdict"] = verdict
			if message != "" {
				c.args["message"] = short(message)
			}
			return verdict, message, nil
		}
	}
	return "", "", w3c.Fail(w3c.InvalidArgument, "a verdict is one of %v, not %v", allowed, c.body["verdict"])
}
