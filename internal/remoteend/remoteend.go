// Package remoteend serves W3C WebDriver over one phone.
//
// A Session is what the standard calls one: commands come in as method, path and
// body, one at a time, and answers go out with the standard's status and
// words. Handler puts it behind HTTP. What happens is told to Notes, as the client
// said it; what that took on the device goes to the remote end's own log. core/w3c has
// the rules; here they meet a phone.
package remoteend

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/netprofile"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

// Request is one command as it came.
type Request struct {
	Method, Path string // the path from /session on
	Body         []byte
}

// Response is what goes back: JSON.
type Response struct {
	Status int
	Body   []byte
}

// Notes is told what happens in a session.
type Notes interface {
	// Command is told of each command as the client sent it, when it has ended.
	Command(c phone.Command)
	// Log takes a line of the remote end's own log.
	Log(line string)
	// Secret hides a text in all that is kept from now on.
	Secret(text string)
	// Step keeps a named moment, with a screenshot.
	Step(ctx context.Context, name string) error
	// BeginCase begins a case; one that is open ends without a verdict.
	BeginCase(ctx context.Context, name string) error
	// EndCase ends the open case; an error where there is none.
	EndCase(ctx context.Context, verdict, message string) error
	// Mark says how the session came out as a whole.
	Mark(verdict, message string)
	// Console is told of a line of a page's own console, or of a fault of its scripts: level is log, warning or error.
	Console(level, text string)
	// DeviceLog gives the device's log from a place on, and the place behind it.
	DeviceLog(ctx context.Context, since int64) (lines []string, next int64, err error)
}

// Builds finds a build by its reference. What says which version of which app it is; done is called when it was installed.
type Builds func(ctx context.Context, ref string) (app phone.App, what string, done func(), err error)

// Config is what a session is made of.
type Config struct {
	ID       string // as the wire has it
	Answer   w3c.Capabilities
	Timeouts w3c.Timeouts
	Idle     time.Duration // without a command, after which Handler gives the device to the next; ours.DefaultIdle, unless said
	Phone    phone.Phone   // a *phone.Unit, or what one is made of
	App      phone.App     // the session's build; without an id: none
	Builds   Builds        // others that can be installed; nil: there are none
	Facts    devices.Facts
	Notes    Notes
	// Puts is told of each file before it is put onto the device. Reaches says why an app may not be stopped and cleared. Nil: nobody minds.
	Puts, Reaches func(what string) error
	// Network sets how good the network is; nil: it can't be set.
	Network func(netprofile.Profile)
	// Turns are asked before each command; nil: it is always the client's turn.
	Turns Turns
	// Listen serves a WebSocket to the session behind Handler (WebDriver BiDi); nil: it is not listened to. Closed is called when the session is closed.
	Listen http.Handler
	Closed func()
}

// Turns say when a command may be done, in words of what it is; changed: people may have changed the screen since the one before.
type Turns interface {
	Enter(ctx context.Context, what string) (leave func(), changed bool, err error)
}

// Session is one WebDriver session. It is safe for use by several goroutines; commands wait for each other.
type Session struct {
	Config
	phone *phone.Unit // observed

	turn chan struct{} // whose turn it is to command
	used atomic.Int64  // when the last command came or ended, in ns since 1970
	past atomic.Bool   // the screen may have been changed past its commands

	timeouts w3c.Timeouts
	hidden   bool // the next text is secret
	screen   *native
	on       surface // what commands work on now

	mu       sync.Mutex // guards those below, which are asked for while a command is at work
	ended    bool
	standing *w3c.Error // what the last command failed with
}

// New makes a session over a phone.
func New(c Config) *Session {
	see := func(x phone.Command) { c.Notes.Log(deviceLine(x)) }
	if c.Idle == 0 {
		c.Idle = ours.DefaultIdle
	}
	s := &Session{Config: c, phone: phone.Of(c.Phone).Observed(see), turn: make(chan struct{}, 1), timeouts: c.Timeouts, screen: newNative()}
	s.on = s.screen
	if s.phone.Passage != nil {
		s.on = &through{s.phone.Passage}
	}
	s.use()
	return s
}

func deviceLine(x phone.Command) string {
	line := "device: " + x.Name
	for k, v := range x.Args {
		line += fmt.Sprintf(" %s=%q", k, v)
	}
	line += fmt.Sprintf(" (%d ms)", x.Took.Milliseconds())
	if x.Err != nil {
		return line + ": " + x.Err.Error()
	}
	if x.Answer != "" {
		line += ": " + x.Answer
	}
	return line
}

// Ended says whether the client has deleted the session. It does not wait for the command that is at work.
func (s *Session) Ended() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ended
}

// Close lets go of what it holds open: no command comes any more.
func (s *Session) Close() {
	if s.Closed != nil {
		defer s.Closed()
	}
	select {
	case s.turn <- struct{}{}:
		defer func() { <-s.turn }()
		s.leaveWeb()
	case <-time.After(closeTakes): // a command is at work still, and ends with its device
	}
}

const closeTakes = 5 * time.Second

// Standing is the error of the last command that has ended and was not one to end with; nil: it did not fail.
func (s *Session) Standing() *w3c.Error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.standing
}

func (s *Session) stand(err *w3c.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.standing = err
}

func (s *Session) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
}

// Used says that it is commanded by another way.
func (s *Session) Used() { s.use() }

// Changed says that the screen may have been changed past the session's commands.
func (s *Session) Changed() { s.past.Store(true) }

func (s *Session) use() { s.used.Store(time.Now().UnixNano()) }

// unused is for how long nothing was commanded.
func (s *Session) unused() time.Duration {
	select {
	case s.turn <- struct{}{}:
		defer func() { <-s.turn }()
		return time.Since(time.Unix(0, s.used.Load()))
	default:
		return 0 // a command is at work
	}
}

const maxLogged = 4 << 10 // bytes of a body in the remote end's log

// Do carries out one command. It ends by the context's deadline.
func (s *Session) Do(ctx context.Context, r Request) Response {
	select {
	case s.turn <- struct{}{}:
		defer func() { s.use(); <-s.turn }()
	case <-ctx.Done():
		return answer(nil, w3c.Fail(w3c.Timeout, "the command before has not ended yet"))
	}
	call, werr := w3c.Route(r.Method, r.Path)
	if s.past.Swap(false) {
		s.touched()
	}
	if s.Turns != nil && werr == nil {
		leave, changed, err := s.Turns.Enter(ctx, strings.ToLower(call.Name)+told(r.Body))
		if err != nil {
			return answer(nil, w3c.Fail(w3c.Timeout, "the test is paused: %v", err))
		}
		defer leave()
		if changed {
			s.touched()
		}
	}
	if werr == nil && (call.Session != s.ID || s.Ended()) {
		werr = w3c.Fail(w3c.InvalidSessionID, "there is no session %q", call.Session)
	}
	if werr != nil {
		return answer(nil, werr)
	}
	var body map[string]any
	if r.Method == "POST" {
		if body, werr = w3c.Object(r.Body); werr != nil {
			s.Notes.Command(phone.Command{Name: strings.ToLower(call.Name), Start: time.Now(), Err: werr, Looks: call.Effect() == w3c.Looks})
			s.stand(werr)
			return answer(nil, werr)
		}
	}
	args, sent, texts := map[string]string{}, string(r.Body), []string{textOf(body)}
	if call.Name == "Perform Actions" {
		sent, texts = acted(body)
		args["actions"] = short(sent)
	}
	if s.hides(call, body, texts) {
		for _, text := range texts {
			s.Notes.Secret(text)
		}
	}
	s.Notes.Log("client: " + r.Method + " " + strings.Replace(r.Path, s.ID, "…", 1) + " " + clip(sent))
	start := time.Now()
	c := &command{Session: s, ctx: ctx, call: call, body: body, args: args}
	value, werr := c.do()
	cmd := phone.Command{Name: strings.ToLower(call.Name), Args: c.args, Start: start, Took: time.Since(start), Answer: c.answer, Looks: call.Effect() == w3c.Looks, Marks: call.Effect() == w3c.Marks}
	if werr != nil {
		cmd.Err = werr
	}
	s.Notes.Command(cmd)
	if call.Name != "Delete Session" && !strings.HasPrefix(call.Path, "/session/{session id}/tessellant/") {
		s.stand(werr)
	}
	out := answer(value, werr)
	s.Notes.Log(fmt.Sprintf("answer: %d after %d ms %s", out.Status, cmd.Took.Milliseconds(), clip(string(out.Body))))
	return out
}

const maxTold = 200 // bytes

// told is what a command is about, for people: its body, where that is short and has nothing to hide.
func told(body []byte) string {
	if len(body) < 3 || len(body) > maxTold || bytes.Contains(body, []byte(`"text"`)) || bytes.Contains(body, []byte(`"keyDown"`)) || !utf8.Valid(body) {
		return ""
	}
	return " " + string(body)
}

// hides says whether a command's texts are secrets.
func (s *Session) hides(call w3c.Call, body map[string]any, texts []string) bool {
	if call.Name != "Element Send Keys" && (call.Name != "Perform Actions" || len(texts) == 0) {
		return false
	}
	hidden := s.hidden || body["tessellant:secret"] == true
	s.hidden = false
	return hidden
}

func textOf(body map[string]any) string { t, _ := body["text"].(string); return t }

func clip(s string) string {
	if len(s) > maxLogged {
		return strings.ToValidUTF8(s[:maxLogged], "") + fmt.Sprintf("… (%d bytes)", len(s))
	}
	return s
}

func answer(value any, err *w3c.Error) Response {
	status, body := 200, map[string]any{"value": value}
	if err != nil {
		status, body = err.Status(), err.Body()
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false) // people read it, too
	if bad := enc.Encode(body); bad != nil {
		return answer(nil, w3c.Fail(w3c.UnknownError, "the answer can't be written: %v", bad))
	}
	return Response{status, out.Bytes()}
}

// Answer gives an error as a response.
func Answer(err *w3c.Error) Response { return answer(nil, err) }

// NewAnswer is the answer to the New Session command (section 8.1, step 12).
func NewAnswer(id string, capabilities w3c.Capabilities) Response {
	return answer(map[string]any{"sessionId": id, "capabilities": capabilities}, nil)
}

// Done is the answer of a command that answers nothing.
func Done() Response { return answer(nil, nil) }

// asError says a phone's error in the standard's words.
func asError(doing string, err error) *w3c.Error {
	var werr *w3c.Error
	var lost *phone.Lost
	var untypable *phone.Untypable
	switch {
	case err == nil:
		return nil
	case errors.As(err, &werr):
		return werr
	case errors.As(err, &lost):
		return w3c.Fail(w3c.UnknownError, "%s: %v; the session has ended", doing, err)
	case errors.As(err, &untypable):
		return w3c.Fail(w3c.UnsupportedOperation, "%s: %v", doing, err)
	case errors.Is(err, context.DeadlineExceeded):
		return w3c.Fail(w3c.Timeout, "%s: the device took too long", doing)
	}
	return w3c.Fail(w3c.UnknownError, "%s: %v", doing, err)
}

// touched says that something was done on the device: what was seen may not be so any more.
func (s *Session) touched() {
	s.screen.anew()
	if s.on != s.screen {
		s.on.anew()
	}
}

// surface is what commands work on: the screen of a native app, or the session of a lab. It gets only commands that its context has all for.
type surface interface {
	context() w3c.Context
	do(*command) (any, *w3c.Error)
	anew() // something was done on the device: what was seen may not be so any more
}
