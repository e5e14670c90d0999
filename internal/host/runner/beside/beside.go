// Package beside is the people beside what goes on on a device: they watch it, and work on it where it is their turn.
//
// What they want comes as orders behind hostlink.HandsPath, between the orders of whoever commands the device from outside, if anybody does. On a device that a person
// holds it is always their turn; where something is tested, while the test is paused (host/turns). In: orders. Out: answers, and what was done, on the timeline.
package beside

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"net/http"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/host/hands"
	"tessellant/internal/host/record"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/turns"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
)

// People are the people beside one attempt.
type People struct {
	*runner.Kit
	Device *hands.Device
	turns  *turns.Turns

	end   *remoteend.Session // carries out what they command
	acts  sync.Mutex         // one thing after the other
	over  chan struct{}      // closed when the device is given back
	close func()
}

// AtTest makes them, for a test; they come until Close is called.
func AtTest(ctx context.Context, k *runner.Kit) *People {
	p := open(ctx, k, k.Turns)
	p.end = remoteend.New(k.RemoteEnd(k.Hold.WorkID, nil, w3c.DefaultTimeouts(), notes{record.Notes{R: k.Timeline, P: k.Unit}, k}))
	k.Turns.Watched, k.Turns.Changed = p.Device.Watched, p.Device.Stands
	return p
}

// AtHold makes them for a device that they hold; what they command goes to end, as does what a client of theirs does.
func AtHold(ctx context.Context, k *runner.Kit, end *remoteend.Session) *People {
	p := open(ctx, k, nil)
	p.end = end
	return p
}

func open(ctx context.Context, k *runner.Kit, t *turns.Turns) *People {
	p := &People{Kit: k, turns: t, over: make(chan struct{})}
	p.Device = &hands.Device{Phone: k.Unit.Unit, Size: image.Pt(k.Unit.Known.Width, k.Unit.Known.Height), Film: k.Film, Note: k.Timeline.Command, Log: k.Log, Turns: t, Routes: k.Routes}
	k.Routes.Changed = p.Device.Routed
	p.close = p.Device.Open(ctx)
	return p
}

// Close has everybody leave. A test that is paused has ended.
func (p *People) Close() {
	p.turns.Close()
	if p.turns != nil { // else it is the client's
		p.end.Close()
	}
	p.Routes.Close()
	close(p.over)
	p.close()
}

// gone says whether nobody may do anything any more.
func (p *People) gone() bool {
	select {
	case <-p.over:
		return true
	default:
		return p.end.Ended()
	}
}

// Carrier carries out what they want, and what a client commands of its session. It implements orders.Carrier and orders.Besider.
type Carrier struct {
	p      *People
	client *remoteend.Session // nil: there is none
}

// Carrier makes one; client may be nil.
func (p *People) Carrier(client *remoteend.Session) Carrier { return Carrier{p, client} }

// Of is what an order asks for, as "POST /hands/pause".
func Of(q remoteend.Request, id string) string {
	return q.Method + " " + strings.TrimPrefix(q.Path, "/session/"+id)
}

// ours says whether an order is one of people.
func ours(what string) bool {
	_, path, _ := strings.Cut(what, " ")
	return strings.HasPrefix(path, hostlink.HandsPath) || path == "/"+hostlink.AppsCommand
}

// Ended implements orders.Carrier.
func (c Carrier) Ended() bool { return c.client != nil && c.client.Ended() }

// Beside implements orders.Besider: people don't wait for the commands of a test. Where they hold the device, what they do is done in its order, and
// only who watches waits for nothing.
func (c Carrier) Beside(q remoteend.Request) bool {
	what := Of(q, c.p.Hold.WorkID)
	return what == "POST "+hostlink.WatchPath || strings.HasSuffix(what, " "+hostlink.RoutePath) || c.p.turns != nil && ours(what)
}

// Do implements orders.Carrier.
func (c Carrier) Do(ctx context.Context, q remoteend.Request) remoteend.Response {
	what := Of(q, c.p.Hold.WorkID)
	if !ours(what) {
		if c.client == nil {
			return remoteend.Answer(w3c.Fail(w3c.InvalidSessionID, "no session is open here"))
		}
		if c.p.turns == nil && q.Method != http.MethodGet {
			defer c.p.Device.Acted()
		}
		return c.client.Do(ctx, q)
	}
	return c.p.do(ctx, what, q.Body)
}

// do does what people want.
func (p *People) do(ctx context.Context, what string, body []byte) remoteend.Response {
	if p.gone() {
		return Refused("the device is being given back", "")
	}
	switch what {
	case "POST " + hostlink.WatchPath:
		return p.watch(body)
	case "POST " + hostlink.RoutePath, "GET " + hostlink.RoutePath:
		return p.route(ctx, what, body)
	case "POST " + hostlink.PausePath, "GET " + hostlink.PausePath, "POST " + hostlink.ResumePath:
		return p.pause(ctx, what, body)
	}
	p.acts.Lock()
	defer p.acts.Unlock()
	if what == "GET "+hostlink.ShotPath { // it takes nothing from the test
		return p.shot(ctx)
	}
	if err := p.turns.Acting(ctx); err != nil {
		return Refused(err.Error(), map[bool]string{true: "pause it first: tessellant device pause " + p.Hold.Serial}[errors.Is(err, turns.ErrRunning)])
	}
	switch what {
	case "GET " + hostlink.TreePath:
		return p.tree(ctx)
	case "GET /" + hostlink.AppsCommand:
		return plain(p.end.Do(ctx, remoteend.Request{Method: http.MethodGet, Path: "/session/" + p.end.ID + "/" + hostlink.AppsCommand}))
	case "POST " + hostlink.DoPath:
		return p.deed(ctx, body)
	case "POST " + hostlink.RunPath:
		return p.run(ctx, body)
	}
	return Refused("it can't be done here", "")
}

// pause has a test pause, or go on.
func (p *People) pause(ctx context.Context, what string, body []byte) remoteend.Response {
	if p.turns == nil {
		return Refused("nothing is tested on the device: it is held by a person", "")
	}
	var err error
	switch what {
	case "POST " + hostlink.PausePath:
		var q hostlink.Pause
		if json.Unmarshal(body, &q) != nil || q.By == "" {
			return Refused("who pauses the test can't be read", "")
		}
		if err = p.turns.Pause(ctx, q.By, p.Mask.Text(q.Why), q.For); errors.Is(err, turns.ErrBusy) {
			err = nil // it pauses behind its command, and says so
		}
	case "POST " + hostlink.ResumePath:
		var q hostlink.Resume
		if json.Unmarshal(body, &q) != nil || q.By == "" {
			return Refused("who resumes the test can't be read", "")
		}
		p.acts.Lock() // what is being done comes to its end
		err = p.turns.Resume(q.By)
		p.acts.Unlock()
	}
	if err != nil {
		return Refused(err.Error(), "")
	}
	return remoteend.Plain(http.StatusOK, p.turns.Standing())
}

// route opens ways from the device's apps to a person's own machine, or lists those that are open.
func (p *People) route(ctx context.Context, what string, body []byte) remoteend.Response {
	if what == "GET "+hostlink.RoutePath {
		return remoteend.Plain(http.StatusOK, p.Routes.List())
	}
	var q hostlink.Route
	if err := json.Unmarshal(body, &q); err != nil || q.Stream == "" || q.By == "" || len(q.At) == 0 {
		return Refused("the routes can't be read", "")
	}
	if err := p.Lead(ctx); err != nil {
		var no *phone.Refused
		if errors.As(err, &no) {
			return Refused("it could not "+no.Doing+": "+no.Why, no.Remedy)
		}
		return Refused(err.Error(), "")
	}
	c, err := p.Stream(q.Stream)
	if err == nil {
		if err = p.Routes.Open(c, q.By, q.At); err != nil {
			_ = c.CloseWith(err.Error())
		}
	}
	if err != nil {
		return Refused(err.Error(), "")
	}
	return remoteend.Plain(http.StatusOK, struct{}{})
}

// watch takes somebody in who watches, or has the device in hand.
func (p *People) watch(body []byte) remoteend.Response {
	var q hostlink.Watch
	if err := json.Unmarshal(body, &q); err != nil || q.Stream == "" {
		return Refused("who wants to watch can't be read", "")
	}
	q.Mine = q.Mine && p.turns == nil // a test's device is nobody's
	c, err := p.Stream(q.Stream)
	if err == nil {
		if err = p.Device.Sit(c, q); err != nil {
			_ = c.Close()
		}
	}
	if err != nil {
		return Refused(err.Error(), "")
	}
	return remoteend.Plain(http.StatusOK, struct{}{})
}

// notes take down what people do beside a test: on the timeline, and nowhere else.
type notes struct {
	record.Notes
	k *runner.Kit
}

var _ remoteend.Notes = notes{}

func (n notes) Command(c phone.Command)    { n.k.Timeline.Command(c) }
func (n notes) Log(string)                 {}
func (n notes) Secret(text string)         { n.k.Mask.Add(text) }
func (n notes) Mark(string, string)        {}
func (n notes) Console(level, text string) { n.k.Console(level, text) }

func (n notes) Step(ctx context.Context, name string) error {
	return n.Notes.Step(ctx, name, "", nil, false)
}

var errNoCases = errors.New("the cases are the test's")

func (n notes) BeginCase(context.Context, string) error       { return errNoCases }
func (n notes) EndCase(context.Context, string, string) error { return errNoCases }
func (n notes) DeviceLog(context.Context, int64) ([]string, int64, error) {
	return nil, 0, errors.New("the log is on the timeline")
}

// Serve has the people of a test come while it has no session that is commanded from outside. Stop is called when the test has ended. It answers when the routes
// are open that the test wants; the error says which are not.
func Serve(ctx context.Context, k *runner.Kit) (stop func(), err error) {
	p := AtTest(ctx, k)
	_, shut := k.Open(ctx, p.Carrier(nil))
	stop = func() {
		shut()
		p.Close()
	}
	wants := k.Hold.Spec.Routes
	if len(wants) == 0 {
		return stop, nil
	}
	if err := k.Routes.Await(ctx, wants, routesWait); err != nil {
		stop()
		if cause := context.Cause(ctx); cause != nil {
			return nil, cause
		}
		return nil, fmt.Errorf("%w: open them from your machine while the run goes on, with tessellant run start --route, or tessellant route open --run", err)
	}
	return stop, nil
}

// routesWait is how long a test waits for the routes that it wants.
const routesWait = 2 * time.Minute

// Refused is the answer to who wants what can't be done.
func Refused(why, remedy string) remoteend.Response {
	return remoteend.Plain(http.StatusConflict, hostlink.Unable{Why: why, Remedy: remedy})
}

// plain gives what a command of WebDriver answered as this host answers all else.
func plain(r remoteend.Response) remoteend.Response {
	var a struct{ Value json.RawMessage }
	if err := json.Unmarshal(r.Body, &a); err != nil {
		return Refused("the answer can't be read", "")
	}
	if r.Status < http.StatusBadRequest {
		return remoteend.Response{Status: r.Status, Body: a.Value}
	}
	var no struct{ Message string }
	_ = json.Unmarshal(a.Value, &no)
	return Refused(no.Message, "")
}
