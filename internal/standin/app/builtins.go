package app

// What a behaviour file can call: the platform, numbers, the network, the clock, the log.

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	starjson "go.starlark.net/lib/json"
	"go.starlark.net/starlark"
)

type missingMethod struct{ class, method string }

func (m *missingMethod) Error() string { return m.class + " has no " + m.method }

type goFunc = func(*starlark.Thread, *starlark.Builtin, starlark.Tuple, []starlark.Tuple) (starlark.Value, error)

func (a *App) builtins() starlark.StringDict {
	d := starlark.StringDict{"state": a.state, "start_args": a.args, "json": starjson.Module, "language": starlark.String(a.Device.Language)}
	for name, f := range map[string]goFunc{
		"platform_call": a.platformCall, "parse_number": a.parseNumber, "format_number": a.formatNumber,
		"http": a.http, "after": a.after, "write_log": a.writeLog,
		"width_dp": a.widthDP, "smallest_dp": a.smallestDP, "wait_for_memory": a.waitForMemory, "block": a.block, "crash": a.crash, "signal": a.signal,
		"may": a.may, "ask_permission": a.askPermission,
	} {
		d[name] = starlark.NewBuiltin(name, f)
	}
	for _, kind := range kinds {
		d[kind] = starlark.NewBuiltin(kind, newWidget)
	}
	return d
}

// platform_call(class, method, since): calls a method of the system that came
// with the API level since.
func (a *App) platformCall(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var class, method string
	var since int
	if err := starlark.UnpackArgs(b.Name(), args, kw, "class", &class, "method", &method, "since", &since); err != nil {
		return nil, err
	}
	if a.Device.API < since && !a.Device.IOS {
		return nil, &missingMethod{class, method}
	}
	return starlark.None, nil
}

// parse_number(text): as java.text.NumberFormat of Locale.US reads it: a comma
// groups thousands, whatever the device's language.
func (a *App) parseNumber(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var text string
	if err := starlark.UnpackArgs(b.Name(), args, kw, "text", &text); err != nil {
		return nil, err
	}
	f, err := strconv.ParseFloat(strings.ReplaceAll(strings.TrimSpace(text), ",", ""), 64)
	if err != nil {
		return starlark.Float(0), nil
	}
	return starlark.Float(f), nil
}

// format_number(x, digits): in the device's language.
func (a *App) formatNumber(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var x starlark.Value
	digits := 1
	if err := starlark.UnpackArgs(b.Name(), args, kw, "x", &x, "digits?", &digits); err != nil {
		return nil, err
	}
	f, ok := starlark.AsFloat(x)
	if !ok {
		return nil, fmt.Errorf("format_number: %s is no number", x)
	}
	s := strconv.FormatFloat(f, 'f', digits, 64)
	if a.Device.Language == "de" {
		s = strings.ReplaceAll(s, ".", ",")
	}
	return starlark.String(s), nil
}

// width_dp(): how wide the screen is now, in dp.
func (a *App) widthDP(*starlark.Thread, *starlark.Builtin, starlark.Tuple, []starlark.Tuple) (starlark.Value, error) {
	return starlark.MakeInt(a.Device.dp(a.Device.ScreenW)), nil
}

// smallest_dp(): its smaller side, however it is held; 600 and more is a tablet.
func (a *App) smallestDP(*starlark.Thread, *starlark.Builtin, starlark.Tuple, []starlark.Tuple) (starlark.Value, error) {
	return starlark.MakeInt(a.Device.dp(min(a.Device.ScreenW, a.Device.ScreenH))), nil
}

// wait_for_memory(then): calls then when the system has memory for the app.
func (a *App) waitForMemory(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var then starlark.Callable
	if err := starlark.UnpackArgs(b.Name(), args, kw, "then", &then); err != nil {
		return nil, err
	}
	wait := time.Duration(0)
	if a.env.Memory != nil {
		wait = a.env.Memory()
	}
	if wait == 0 {
		return starlark.Call(a.thread, then, nil, nil)
	}
	a.env.Log('W', "Sync", fmt.Sprintf("low memory, waiting (%d MB in all)", a.Device.MemoryMB))
	a.env.Later(wait, func() { a.settle(a.call(then)) })
	return starlark.None, nil
}

// may(permission): whether the app has a permission, such as CAMERA.
func (a *App) may(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name string
	if err := starlark.UnpackArgs(b.Name(), args, kw, "permission", &name); err != nil {
		return nil, err
	}
	return starlark.Bool(a.env.May != nil && a.env.May(name)), nil
}

// ask_permission(permission, then): asks the user for a permission, unless that is settled; then(granted).
func (a *App) askPermission(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name string
	var then starlark.Callable
	if err := starlark.UnpackArgs(b.Name(), args, kw, "permission", &name, "then", &then); err != nil {
		return nil, err
	}
	granted, known := false, true
	if a.env.Ask != nil {
		granted, known = a.env.Ask(name, func(granted bool) { a.settle(a.call(then, starlark.Bool(granted))) })
	}
	if !known {
		return starlark.None, nil
	}
	return starlark.Call(a.thread, then, starlark.Tuple{starlark.Bool(granted)}, nil)
}

// block(ms): does something that takes so long, on the thread that should answer the user.
func (a *App) block(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var ms int
	if err := starlark.UnpackArgs(b.Name(), args, kw, "ms", &ms); err != nil {
		return nil, err
	}
	if a.env.Block != nil {
		a.env.Block(time.Duration(ms) * time.Millisecond)
	}
	return starlark.None, nil
}

// crash(text): an exception that nobody catches.
func (a *App) crash(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var text string
	if err := starlark.UnpackArgs(b.Name(), args, kw, "text", &text); err != nil {
		return nil, err
	}
	return nil, errors.New(text)
}

// signal(n): native code gets a signal, such as 11, and dies of it.
func (a *App) signal(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var n int
	if err := starlark.UnpackArgs(b.Name(), args, kw, "n", &n); err != nil {
		return nil, err
	}
	return nil, &killed{n}
}

// http(method, url, body, done): asks a server; done(status, answer) is called
// when it has answered, with status 0 and the reason when it has not.
func (a *App) http(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var method, url string
	var body starlark.Value
	var done starlark.Callable
	var pinned bool
	if err := starlark.UnpackArgs(b.Name(), args, kw, "method", &method, "url", &url, "body", &body, "done", &done, "pinned?", &pinned); err != nil {
		return nil, err
	}
	var raw []byte
	if body != starlark.None {
		text, err := starlark.Call(a.thread, starjson.Module.Members["encode"], starlark.Tuple{body}, nil)
		if err != nil {
			return nil, err
		}
		raw = []byte(string(text.(starlark.String)))
	}
	var status int
	var answer []byte
	var failed error
	a.env.Async(func() { status, answer, failed = a.env.HTTP(method, url, raw, pinned) }, func() {
		value := starlark.Value(starlark.None)
		switch {
		case failed != nil:
			status, value = 0, starlark.String(failed.Error())
			a.env.Log('W', "Tides", method+" "+url+": "+failed.Error())
		case json.Valid(answer):
			a.env.Log('I', "Tides", fmt.Sprintf("%s %s %d, %d bytes", method, url, status, len(answer)))
			if v, err := starlark.Call(a.thread, starjson.Module.Members["decode"], starlark.Tuple{starlark.String(answer)}, nil); err == nil {
				value = v
			}
		}
		a.settle(a.call(done, starlark.MakeInt(status), value))
	})
	return starlark.None, nil
}

// after(ms, f): calls f later.
func (a *App) after(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var ms int
	var f starlark.Callable
	if err := starlark.UnpackArgs(b.Name(), args, kw, "ms", &ms, "f", &f); err != nil {
		return nil, err
	}
	a.env.Later(time.Duration(ms)*time.Millisecond, func() { a.settle(a.call(f)) })
	return starlark.None, nil
}

func (a *App) writeLog(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var tag, text string
	if err := starlark.UnpackArgs(b.Name(), args, kw, "tag", &tag, "text", &text); err != nil {
		return nil, err
	}
	a.env.Log('D', tag, text)
	return starlark.None, nil
}
