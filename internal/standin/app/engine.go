package app

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"tessellant/internal/standin/paint"
)

// Device is what an app can notice of the device it runs on.
type Device struct {
	IOS        bool // its system is iOS: its controls look otherwise, and API says nothing
	API        int
	DPI        int
	FontScale  float64 // by which the user wants texts larger; 0: 1
	Language   string
	MemoryMB   int
	ScreenW    int // pixels, as it is held now
	ScreenH    int
	StatusBarH int // pixels
	NavBarH    int
	Dark       bool
	HardKeys   bool // a keyboard is attached to it: none is shown
}

// dp turns pixels into density-independent pixels.
func (d Device) dp(px int) int { return px * 160 / d.DPI }

// px turns density-independent pixels into pixels: dp × dpi ÷ 160.
func (d Device) px(dp float64) float64 { return dp * float64(d.DPI) / 160 }

// text is by how much texts are larger than usual.
func (d Device) text() float64 {
	if d.FontScale == 0 {
		return 1
	}
	return d.FontScale
}

// Env is what the phone does for an app that runs on it. All functions of App
// must be called by one goroutine at a time; Later's f counts as one.
type Env struct {
	Died  func(error) // of a crash that no tap or key waits for
	Log   func(level byte, tag, text string)
	HTTP  func(method, url string, body []byte, pinned bool) (status int, answer []byte, err error) // may block; pinned: only the certificate that the app knows will do
	Later func(after time.Duration, f func())                                                       // runs f unless the app is gone
	Async func(work func(), then func())                                                            // runs work at once beside the app, then as Later does
	// Web opens a page in a part of the screen, so many pixels large; changed is called in the app when it was drawn. Nil: there are none.
	Web func(url string, w, h int, changed func()) Page
	// Memory says how long the app has to wait for memory now; 0: it has it.
	Memory func() time.Duration
	// May says whether the user allowed something; Ask asks, and calls then with the answer unless it is known.
	May func(permission string) bool
	Ask func(permission string, then func(granted bool)) (granted, known bool)
	// Block says that the app does not answer for so long.
	Block func(time.Duration)
}

// Crash is the death of the app: a stack trace as Android writes it, or a signal that native code got.
type Crash struct {
	Trace  []string
	Signal int // 0: an exception
}

func (c *Crash) Error() string {
	if c.Signal > 0 {
		return fmt.Sprintf("signal %d", c.Signal)
	}
	return c.Trace[0]
}

// killed is the death by a signal, on its way through the behaviour file.
type killed struct{ signal int }

func (k *killed) Error() string { return fmt.Sprintf("signal %d", k.signal) }

// App is one running app.
type App struct {
	ID, Label string
	Device    Device
	Version   int // grows with every change of what is on the screen

	env      Env
	thread   *starlark.Thread
	globals  starlark.StringDict
	state    *starlark.Dict
	args     *starlark.Dict // that it was started with
	screen   *widget
	focused  string // id of the field that has the keyboard
	webFocus string // id of the web view that was touched last
	scroll   float64
	nodes    []*Node
	beneath  []*Node // what lies under a dialog
	contentH float64
	title    string
	fonts    *paint.Fonts
	pages    map[string]Page // of web views, by id and address
}

const (
	maxSteps  = 2_000_000
	maxSource = 256 << 10
)

var dialect = &syntax.FileOptions{While: true, TopLevelControl: true, Set: true}

// Start runs the behaviour file's top level and shows its first screen. The
// error is a *Crash when the app dies of it, as it may later of any event.
func Start(id, label, source string, dev Device, args map[string]string, env Env) (*App, error) {
	if len(source) > maxSource {
		return nil, fmt.Errorf("the behaviour file is %d bytes long; %d is the most", len(source), maxSource)
	}
	a := &App{ID: id, Label: label, Device: dev, env: env, state: starlark.NewDict(8), args: starlark.NewDict(len(args))}
	a.SetArgs(args)
	a.thread = &starlark.Thread{Name: id}
	a.budget()
	pre := a.builtins()
	globals, err := starlark.ExecFileOptions(dialect, a.thread, "behaviour.star", source, pre)
	if err != nil {
		return a, a.died(err)
	}
	a.globals = globals
	if _, ok := globals["view"].(starlark.Callable); !ok {
		return nil, errors.New("the behaviour file defines no view()")
	}
	if f, ok := globals["start"].(starlark.Callable); ok {
		return a, a.call(f)
	}
	return a, a.show()
}

func (a *App) budget() {
	a.thread.Uncancel()
	a.thread.SetMaxExecutionSteps(a.thread.ExecutionSteps() + maxSteps)
}

// call runs a handler, then shows the screen that the new state calls for.
func (a *App) call(f starlark.Callable, args ...starlark.Value) error {
	if f == nil {
		return nil
	}
	a.budget()
	if _, err := starlark.Call(a.thread, f, args, nil); err != nil {
		return a.died(err)
	}
	return a.show()
}

func (a *App) show() error {
	a.budget()
	v, err := starlark.Call(a.thread, a.globals["view"], nil, nil)
	if err != nil {
		return a.died(err)
	}
	w, ok := v.(*widget)
	if !ok || w.kind != "screen" {
		return a.died(fmt.Errorf("view() returned a %s, not a screen", v.Type()))
	}
	if w.text != a.title {
		a.scroll, a.focused, a.title = 0, "", w.text
	}
	a.screen = w
	a.Version++
	a.layout()
	return nil
}

// SetArgs gives the app the arguments of a start.
func (a *App) SetArgs(args map[string]string) {
	_ = a.args.Clear()
	for n, v := range args {
		_ = a.args.SetKey(starlark.String(n), starlark.String(v))
	}
}

// Resumed tells the app that it is in front again.
func (a *App) Resumed() error { return a.hook("resumed") }

// Resize tells the app that the device is another now: turned, or dark. As on Android
// the screen is made anew: the keyboard goes, and what had been scrolled is at its top.
func (a *App) Resize(dev Device) error {
	turned := dev.ScreenW != a.Device.ScreenW || dev.DPI != a.Device.DPI || dev.text() != a.Device.text()
	a.Device, a.fonts = dev, nil
	if !turned {
		a.Version++
		return nil
	}
	a.focused, a.scroll = "", 0
	return a.hook("rotated")
}

// hook calls a function that the behaviour file may define.
func (a *App) hook(name string) error {
	if f, ok := a.globals[name].(starlark.Callable); ok {
		return a.call(f)
	}
	return a.show()
}

// Busy reports whether something on the screen moves by itself.
func (a *App) Busy() bool {
	for _, n := range a.nodes {
		if n.Kind == "spinner" {
			return true
		}
	}
	return false
}

// Keyboard reports whether the keyboard is up, and for numbers.
func (a *App) Keyboard() (up, numeric bool) {
	if a.Device.HardKeys {
		return false, false
	}
	for _, n := range a.nodes {
		if n.ID == a.focused && a.focused != "" {
			return true, n.w.numeric
		}
	}
	return false, false
}

// Focused reports whether a field has the focus of the keyboard, shown or not.
func (a *App) Focused() bool { return a.focused != "" }

// at gives the uppermost node at a point that something can be done with.
func (a *App) at(x, y int) (hit *Node) {
	for _, n := range a.nodes {
		if n.Visible.contains(x, y) && (n.w.onTap != nil || n.w.onLong != nil || n.Kind == "field") && n.w.enabled {
			hit = n
		}
	}
	return hit
}

// LongTap holds a finger on a point in pixels.
func (a *App) LongTap(x, y int) error {
	if hit := a.at(x, y); hit != nil && hit.w.onLong != nil {
		return a.call(hit.w.onLong)
	}
	return a.Tap(x, y)
}

// Tap touches the screen at a point in pixels.
func (a *App) Tap(x, y int) error {
	if n, p := a.webAt(func(n *Node) bool { return n.Visible.contains(x, y) }); p != nil {
		a.focused, a.webFocus = "", n.ID
		a.Version++
		p.Tap(x-n.Bounds.X1, y-n.Bounds.Y1)
		return nil
	}
	hit := a.at(x, y)
	if hit == nil {
		return nil
	}
	if hit.Kind == "field" {
		a.focused = hit.ID
		a.Version++
		a.layout()
		a.reveal(hit.ID)
		return nil
	}
	if hit.Kind == "switch" {
		return a.call(hit.w.onTap, starlark.Bool(!hit.w.checked))
	}
	if hit.Kind == "button" {
		a.focused = ""
	}
	return a.call(hit.w.onTap)
}

// reveal scrolls so that the focused field stands above the keyboard.
func (a *App) reveal(id string) {
	for _, n := range a.nodes {
		if n.ID != id || !a.screen.scroll {
			continue
		}
		if over := float64(n.Bounds.Y2) - (a.viewportBottom() - a.Device.px(8)); over > 0 {
			a.scroll += over
			a.layout()
		}
		return
	}
}

// Type enters text at the end of the focused field.
func (a *App) Type(s string) error {
	if p := a.focusedWeb(); p != nil {
		p.Type(s)
		return nil
	}
	return a.typed(s)
}

func (a *App) typed(s string) error { return a.edit(func(old string) string { return old + s }) }

// Backspace deletes the last character of the focused field.
func (a *App) Backspace() error {
	if p := a.focusedWeb(); p != nil {
		p.Backspace()
		return nil
	}
	return a.edit(func(old string) string {
		r := []rune(old)
		return string(r[:max(len(r)-1, 0)])
	})
}

func (a *App) edit(change func(string) string) error {
	for _, n := range a.nodes {
		if n.ID == a.focused && a.focused != "" {
			next := change(n.w.value)
			if n.w.numeric {
				next = strings.Map(func(r rune) rune {
					if strings.ContainsRune("0123456789.,-", r) {
						return r
					}
					return -1
				}, next)
			}
			if next == n.w.value {
				return nil
			}
			return a.call(n.w.onChange, starlark.String(next))
		}
	}
	return nil
}

// Back is the back key: it closes the keyboard, else does what the screen says.
// handled is false when the screen has no way back: the app leaves the front.
func (a *App) Back() (handled bool, err error) {
	if a.focused != "" && !a.Device.HardKeys {
		a.HideKeyboard()
		return true, nil
	}
	if a.screen == nil || a.screen.back == nil {
		return false, nil
	}
	return true, a.call(a.screen.back)
}

// HideKeyboard takes the keyboard away.
func (a *App) HideKeyboard() {
	if a.focused != "" {
		a.focused = ""
		a.Version++
		a.layout()
	}
}

// Swipe moves a finger from one point to another; a screen that scrolls follows it.
func (a *App) Swipe(x1, y1, x2, y2 int) {
	if _, p := a.webAt(func(n *Node) bool { return n.Visible.contains(x1, y1) }); p != nil {
		p.Scroll(y1 - y2)
		return
	}
	if a.screen == nil || !a.screen.scroll {
		return
	}
	before := a.scroll
	a.scroll += float64(y1 - y2)
	a.layout()
	if a.scroll != before {
		a.Version++
	}
}

// died turns an error of the behaviour file into what Android writes of it.
func (a *App) died(err error) error {
	var trace []string
	var missing *missingMethod
	var ee *starlark.EvalError
	var k *killed
	if errors.As(err, &k) {
		return &Crash{Signal: k.signal}
	}
	switch {
	case errors.As(err, &missing):
		trace = append(trace, fmt.Sprintf("java.lang.NoSuchMethodError: No virtual method %s in class L%s; or its super classes (declaration of '%s' appears in /system/framework/framework.jar)",
			missing.method, strings.ReplaceAll(missing.class, ".", "/"), missing.class))
	default:
		text := err.Error()
		if errors.As(err, &ee) {
			text = ee.Msg
		}
		trace = append(trace, "java.lang.IllegalStateException: "+text)
	}
	if errors.As(err, &ee) {
		for i := len(ee.CallStack) - 1; i >= 0; i-- {
			f := ee.CallStack[i]
			if f.Pos.Filename() == "<builtin>" || f.Name == "<toplevel>" {
				continue
			}
			class, method, ok := strings.Cut(f.Name, "_")
			if !ok || strings.ToUpper(class[:1]) != class[:1] {
				class, method = "MainActivity", f.Name
			}
			if f.Name == "lambda" {
				method = "onClick"
			}
			trace = append(trace, fmt.Sprintf("\tat %s.%s.%s(%s.java:%d)", a.ID, class, method, class, f.Pos.Line))
		}
	}
	trace = append(trace, "\tat android.os.Handler.dispatchMessage(Handler.java:106)", "\tat android.os.Looper.loop(Looper.java:223)",
		"\tat android.app.ActivityThread.main(ActivityThread.java:7656)", "\tat java.lang.reflect.Method.invoke(Native Method)",
		"\tat com.android.internal.os.ZygoteInit.main(ZygoteInit.java:947)")
	return &Crash{Trace: trace}
}

// settle passes on a crash that happened outside of a tap or a key.
func (a *App) settle(err error) {
	if err != nil {
		a.env.Died(err)
	}
}
