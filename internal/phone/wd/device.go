// Package wd drives a device of somebody else's lab: over W3C WebDriver, and by commands of the lab's own where its file (core/labfile) has them.
//
// The tree comes from the page source, touches go by Perform Actions, text by Send Keys. What the lab has no command for is absent: Unit leaves out
// the interface, and Limits says it. A question that only looks is asked again where the answer was lost; nothing else is done twice. In: an open
// session. Out: a phone.Unit.
package wd

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

// commandTakes is how long a command of the standard's may take.
const commandTakes = time.Minute

// looksAgain is how often a question is asked again that only looks.
const looksAgain = 2

// Opened is a session at a lab.
type Opened struct {
	ID    string  // the lab's own
	Scale float64 // pixels of a picture for each unit of the session's coordinates
	Build string  // the lab's reference of the build that it was opened with
	Page  bool    // it is one in the phone's browser
}

// Config is what a device needs of its lab.
type Config struct {
	Lab      *labfile.Lab
	Endpoint *Endpoint
	Facts    devices.Facts
	Values   labfile.Values // for the templates: the device, the build, how it is set
	// Anew closes the session and opens another on the same device: where the lab has no command that clears an app, and none that starts one.
	Anew func(ctx context.Context) (Opened, error)
	// Upload brings a build to the lab.
	Upload func(ctx context.Context, app phone.App) (ref string, err error)
	// Leads says why a page may not be opened; nil: all may.
	Leads func(address string) error
}

// Device is a device of a lab. It implements phone.Phone; Unit says what it can do besides.
type Device struct {
	Config

	marks    chan mark    // that are to stand in the log
	renewing sync.RWMutex // held by each request within the session; for itself by who renews it

	mu     sync.Mutex
	now    Opened
	fresh  bool      // the session has just been opened: the build is in front
	heard  time.Time // when the lab last answered in this session
	closed bool
	ended  error // the lab has ended the session: what it said
	turned bool  // it was turned or darkened, and is to be put back
}

// New makes a device. Nothing can be asked of it before Use.
func New(c Config) *Device { return &Device{Config: c, marks: make(chan mark)} }

// Use has the device work with a session.
func (d *Device) Use(o Opened) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.now, d.fresh, d.heard, d.ended = o, true, time.Now(), nil
}

// Now is the session that the device works with.
func (d *Device) Now() Opened { return d.opened() }

func (d *Device) opened() Opened {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.now
}

// Unit is the device with what its lab lets it do.
func (d *Device) Unit() *phone.Unit {
	has := func(names ...string) bool {
		return !slices.ContainsFunc(names, func(n string) bool { return d.Lab.Commands[n] == nil })
	}
	u := &phone.Unit{Phone: d, Heart: d, Fingers: d, Limited: d, Passage: d}
	if has("log") {
		u.Logger = logger{d}
	}
	if has("clock") {
		u.Clock = clock{d}
	}
	if has("keyboard") || d.Facts0().Platform == "ios" {
		u.Keyboard = keyboard{d}
	}
	if has("rotate") || has("dark") {
		u.Settings = settings{d}
	}
	if has("rotate") || has("dark") {
		u.Conditioner = settings{d}
	}
	if has("put_file", "fetch_file") {
		u.Files = files{d}
	}
	return u
}

// Facts0 are the device's facts as its lab told them.
func (d *Device) Facts0() devices.Facts { return d.Config.Facts }

// Limits implements phone.Limited: what the lab does not give.
func (d *Device) Limits() []string { return Lacks(d.Lab, d.Facts0().Platform) }

// Lacks says what of a device a lab does not give, in words.
func Lacks(l *labfile.Lab, platform string) (out []string) {
	if platform == devices.Web {
		return []string{"a browser gives no device log, no gauges, no network log, and no film: the video is of single pictures"}
	}
	for _, x := range []struct{ command, what string }{
		{"log", "the lab gives no device log: an app that dies is seen by its screen alone"},
		{"clear", "the lab can't clear an app: each case begins with a new session instead"},
		{"launch", "the lab can't start an app with arguments"},
		{"put_file", "the lab takes no files"},
		{"fetch_file", "the lab gives no files"},
		{"rotate", "the lab can't turn the screen"},
	} {
		if l.Commands[x.command] == nil {
			out = append(out, x.what)
		}
	}
	return append(out, "the lab gives no gauges, no network log, and no film: the video is of single pictures")
}

// failed says what an error of a lab is to who works with the device.
func (d *Device) failed(doing string, err error) error {
	var said *Answered
	if errors.As(err, &said) {
		switch w3c.Code(said.Code) {
		case w3c.InvalidSessionID:
			d.over(err)
			return &phone.Lost{Serial: d.Facts0().Serial, Doing: doing, Err: fmt.Errorf("the lab has ended the session: %w", err)}
		case w3c.UnknownCommand, w3c.UnknownMethod, w3c.UnsupportedOperation:
			return &phone.Refused{Doing: doing, Code: said.Code, Why: said.Message, Remedy: "see whether the lab has a command of its own for it, and write it into the lab file"}
		case w3c.InvalidArgument, w3c.MoveTargetOutOfBounds, w3c.NoSuchElement, w3c.ElementNotInteractable, w3c.InvalidElementState, w3c.StaleElementReference, w3c.UnexpectedAlertOpen, w3c.NoSuchAlert, w3c.SessionNotCreated:
			return &phone.Refused{Doing: doing, Code: said.Code, Why: said.Message, Remedy: "see the lab's own log"}
		}
		if said.Code == "" && said.Status >= 400 && said.Status < 500 && said.Status != http.StatusRequestTimeout && said.Status != http.StatusTooManyRequests {
			return &phone.Refused{Doing: doing, Code: fmt.Sprint(said.Status), Why: said.Message, Remedy: "see the lab's own log, and the request in the lab file"}
		}
	}
	return &phone.Lost{Serial: d.Facts0().Serial, Doing: doing, Err: err}
}

// command makes a request of the standard's within the session.
func (d *Device) command(ctx context.Context, doing, method, path string, body any) (any, error) {
	if err := d.live(); err != nil {
		return nil, err
	}
	d.renewing.RLock()
	defer d.renewing.RUnlock()
	v, err := d.Endpoint.Command(ctx, method, "/session/"+d.opened().ID+path, body, commandTakes)
	for range looksAgain {
		if err == nil || method != http.MethodGet || !passing(err) || phone.Pause(ctx, 300*time.Millisecond) != nil {
			break
		}
		v, err = d.Endpoint.Command(ctx, method, "/session/"+d.opened().ID+path, body, commandTakes)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, d.failed(doing, err)
	}
	d.hears()
	return v, nil
}

// over notes that the lab has ended the session.
func (d *Device) over(why error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ended = why
}

// Pass implements phone.Passage.
func (d *Device) Pass(ctx context.Context, method, path string, body []byte) (any, error) {
	const doing = "carry out the command"
	if err := d.live(); err != nil {
		return nil, err
	}
	if err := d.mayPass(path, body); err != nil {
		return nil, err
	}
	d.renewing.RLock()
	defer d.renewing.RUnlock()
	d.touched()
	var in any
	if body != nil {
		in = json.RawMessage(body)
	}
	v, err := d.Endpoint.Command(ctx, method, "/session/"+d.opened().ID+path, in, passTakes)
	var said *Answered
	switch {
	case err == nil:
		d.hears()
		return v, nil
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &said) && said.Code != "" && said.Code != string(w3c.InvalidSessionID):
		d.hears()
		return nil, &w3c.Error{Code: w3c.Code(said.Code), Message: said.Message}
	}
	return nil, d.failed(doing, err)
}

// mayPass says why a command may not be passed on: it opens a page that may not be.
func (d *Device) mayPass(path string, body []byte) error {
	if d.Leads == nil || path != "/url" || body == nil {
		return nil
	}
	var to struct{ URL string }
	if err := json.Unmarshal(body, &to); err != nil {
		return &w3c.Error{Code: w3c.InvalidArgument, Message: "the url is no text"}
	}
	return d.Leads(to.URL)
}

// passTakes is how long a command may take that is passed on: a lab's own time-outs come first.
const passTakes = 10 * time.Minute

// hears notes that the lab has answered.
func (d *Device) hears() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.heard = time.Now()
}

// passing says whether an error may be gone in a moment.
func passing(err error) bool {
	var said *Answered
	var garbage *Garbage
	switch {
	case errors.As(err, &said):
		return said.Code == string(w3c.UnknownError) || said.Code == "" && (said.Status >= 500 || said.Status == http.StatusTooManyRequests)
	case errors.As(err, &garbage):
		return true
	}
	return !errors.Is(err, context.DeadlineExceeded) // the way there broke
}

// own makes a request of the lab's own. A lab without it refuses.
func (d *Device) own(ctx context.Context, doing, name string, change func(*labfile.Values)) (any, error) {
	v, _, err := d.ownNext(ctx, doing, name, change)
	return v, err
}

// ownNext is own, with from where the next such request is to go on.
func (d *Device) ownNext(ctx context.Context, doing, name string, change func(*labfile.Values)) (value, next any, err error) {
	if err := d.live(); err != nil {
		return nil, nil, err
	}
	q := d.Lab.Commands[name]
	if q == nil {
		return nil, nil, &phone.Refused{Doing: doing, Why: "its lab " + d.Lab.Name + " has no command for it", Remedy: "write the command " + name + " into the lab file, where the lab has one"}
	}
	d.renewing.RLock()
	defer d.renewing.RUnlock()
	v := d.Values
	v.Session = d.opened().ID
	if v.Build == "" {
		v.Build = d.opened().Build
	}
	if change != nil {
		change(&v)
	}
	value, next, err = d.Endpoint.Do(ctx, q, v.Session, v)
	if err != nil {
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		return nil, nil, d.failed(doing, err)
	}
	d.hears()
	return value, next, nil
}

// Facts implements phone.Phone: as the lab told them.
func (d *Device) Facts(context.Context) (devices.Facts, error) {
	f := d.Facts0()
	f.Limits = d.Limits()
	return f, nil
}

func (d *Device) touched() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fresh = false
}

// content is what is tested on the device: an app, or a page in its browser.
type content interface {
	install(ctx context.Context, app phone.App) error
	uninstall(ctx context.Context, id string) error
	launch(ctx context.Context, app phone.App) error
	stop(ctx context.Context, id string) error
	clear(ctx context.Context, id string) error
	tree(ctx context.Context) (*uitree.Screen, error)
}

func (d *Device) content() content {
	if d.opened().Page {
		return pages{d}
	}
	return apps{d}
}

// Install implements phone.Phone.
func (d *Device) Install(ctx context.Context, app phone.App) error {
	return d.content().install(ctx, app)
}

// Uninstall implements phone.Phone.
func (d *Device) Uninstall(ctx context.Context, id string) error {
	return d.content().uninstall(ctx, id)
}

// Launch implements phone.Phone.
func (d *Device) Launch(ctx context.Context, app phone.App) error {
	return d.content().launch(ctx, app)
}

// Stop implements phone.Phone.
func (d *Device) Stop(ctx context.Context, id string) error { return d.content().stop(ctx, id) }

// Clear implements phone.Phone.
func (d *Device) Clear(ctx context.Context, id string) error { return d.content().clear(ctx, id) }

// Tree implements phone.Phone.
func (d *Device) Tree(ctx context.Context) (*uitree.Screen, error) { return d.content().tree(ctx) }

func (d *Device) anew(ctx context.Context) error {
	d.renewing.Lock() // nobody asks a session that is just being ended
	defer d.renewing.Unlock()
	o, err := d.Anew(ctx)
	if err != nil {
		return err
	}
	d.Use(o)
	return nil
}

// Screenshot implements phone.Phone.
func (d *Device) Screenshot(ctx context.Context) ([]byte, error) {
	const doing = "take a picture"
	v, err := d.command(ctx, doing, http.MethodGet, "/screenshot", nil)
	if err != nil {
		return nil, err
	}
	raw, err := Picture(v)
	if err != nil {
		return nil, d.failed(doing, err)
	}
	return raw, nil
}

// Picture decodes the answer of Take Screenshot: a PNG in base64 (WebDriver, section 17).
func Picture(v any) ([]byte, error) {
	text, _ := v.(string)
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(raw) == 0 {
		return nil, &Garbage{"the picture is not base64"}
	}
	if _, err := png.DecodeConfig(bytes.NewReader(raw)); err != nil {
		return nil, &Garbage{"the picture is no PNG"}
	}
	return raw, nil
}

// keepAlive is how long a session is left alone where the lab file says nothing else.
const keepAlive = 30 * time.Second

// Answers implements phone.Heart. The lab is asked where it has not answered for a while: that also tells it that the session is in use.
func (d *Device) Answers(ctx context.Context, within time.Duration) error {
	if !d.renewing.TryRLock() {
		return nil
	}
	defer d.renewing.RUnlock()
	d.mu.Lock()
	quiet, over := time.Since(d.heard), d.ended
	d.mu.Unlock()
	if over != nil {
		return &phone.Lost{Serial: d.Facts0().Serial, Doing: "answer", Err: fmt.Errorf("the lab has ended the session: %w", over)}
	}
	if quiet < cmp.Or(d.Lab.Session.KeepAlive, keepAlive) {
		return nil
	}
	_, err := d.Endpoint.Command(ctx, http.MethodGet, "/session/"+d.opened().ID+"/timeouts", nil, within)
	var said *Answered
	var garbage *Garbage
	switch {
	case err == nil:
		d.hears()
		return nil
	case ctx.Err() != nil:
		return nil
	case errors.As(err, &said) && said.Code == string(w3c.InvalidSessionID):
		return d.failed("answer", err)
	case errors.As(err, &said), errors.As(err, &garbage): // it is there
		return nil
	}
	return d.failed("answer", err)
}

// Close implements phone.Phone. The loan ends the session.
func (d *Device) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	return nil
}

var errClosed = errors.New("the device was let go of")

// live says that the device was let go of.
func (d *Device) live() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return errClosed
	}
	return nil
}
