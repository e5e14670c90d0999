// Package session is the runner of what is commanded from outside: W3C WebDriver sessions, by their clients, and devices that persons hold (hands.go).
package session

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/w3c"
	"tessellant/internal/core/work"
	"tessellant/internal/guard"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/runner/beside"
	"tessellant/internal/host/runner/listeners"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
)

const idleLookEvery = 250 * time.Millisecond

// Why a session ends.
var (
	errClientEnded  = errors.New("the client ended the session")
	errClientGone   = errors.New("the client sent no command any more")
	errSessionLimit = errors.New("the session's time limit was reached")
)

// session implements runner.Runner.
type session struct {
	*runner.Kit
	outside  *runner.Outside
	standing *w3c.Error           // that its last command failed with
	how      string               // it ended
	heard    *listeners.Listeners // nil: nobody listens
}

// New makes the runner.
func New(k *runner.Kit) (runner.Runner, error) { return newSession(k) }

func newSession(k *runner.Kit) (*session, error) {
	outside, err := runner.NewOutside(k, false)
	return &session{Kit: k, outside: outside}, err
}

// Prepare implements runner.Runner: the app is brought to the front.
func (s *session) Prepare(ctx context.Context) error {
	if s.wantsListening() {
		s.heard = listeners.New(context.WithoutCancel(ctx), s.Kit) // also to what is said while the app begins; it ends with Run
	}
	if s.App.ID == "" {
		return nil
	}
	return s.Phone.Launch(ctx, s.App)
}

// Run implements runner.Runner: it waits for the end of the session. The error says why it ended.
func (s *session) Run(ctx context.Context) error {
	limits := s.Hold.Spec.Limits
	var begun time.Time
	return s.serve(ctx, min(idleLookEvery, limits.Idle.Duration()/4, limits.Whole.Duration()/4), func(end *remoteend.Session) (orders.Carrier, func()) {
		people := beside.AtTest(ctx, s.Kit)
		return people.Carrier(end), people.Close
	}, func(served *orders.Served) error {
		if begun.IsZero() {
			begun = time.Now()
		}
		switch {
		case time.Since(begun)-s.Turns.Stood() > limits.Whole.Duration():
			return errSessionLimit
		case s.Turns.Quiet(served.Idle()) > limits.Idle.Duration():
			return errClientGone
		}
		return nil
	})
}

// serve has the device commanded through what carries makes of its remote end, until the client ends it, or over gives an error; it is asked at once, and then so often.
func (s *session) serve(ctx context.Context, every time.Duration, carries func(*remoteend.Session) (end orders.Carrier, shut func()), over func(*orders.Served) error) error {
	q := s.Hold.Spec
	standard := w3c.Capabilities(q.Content.Capabilities)
	timeouts, bad := standard.Timeouts()
	if bad != nil {
		return bad
	}
	commands, stop := context.WithCancel(ctx)
	defer stop()
	config := s.RemoteEnd(s.Hold.WorkID, standard.Answer(s.Unit.Known.Platform, timeouts, ours.Told(s.Hold.WorkID, q.App.Ref, s.Unit.Known)), timeouts, s.outside)
	if p := s.Unit.Passage; p != nil { // the time-outs are those of the lab's own session
		raw, err := json.Marshal(timeouts.JSON())
		if err != nil {
			return err
		}
		var lost *phone.Lost
		if _, err := p.Pass(ctx, http.MethodPost, "/timeouts", raw); errors.As(err, &lost) {
			return err
		}
	}
	if q.Content.Kind != work.Hands {
		config.Turns = s.Turns
	}
	end := remoteend.New(config)
	defer end.Close()
	inner, leave := carries(end)
	defer leave()
	var served *orders.Served
	var shut func()
	using := make(chan struct{})
	listens := s.listened(ctx, end, func() {
		<-using
		served.Used()
	})
	defer listens.Close()
	served, shut = s.Open(commands, carrier{inner, listens})
	close(using)
	defer shut()
	defer func() { s.standing = end.Standing() }()
	var watch sync.WaitGroup
	defer watch.Wait()
	watching, stopWatching := context.WithCancel(ctx)
	defer func() {
		s.DeviceLog.Settle(context.WithoutCancel(ctx), "end of the session") // what the log still holds back belongs to it
		stopWatching()
	}()
	watch.Go(func() {
		_ = guard.Run(s.Log, guard.Hold, func() { s.outside.WatchCrashes(watching) })
	})
	s.Stage("running")
	look := time.NewTicker(max(every, time.Millisecond))
	defer look.Stop()
	for {
		if err := over(served); err != nil {
			return err
		}
		select {
		case <-served.Over():
			return errClientEnded
		case <-listens.ended:
			return errClientEnded
		case <-look.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// Judge implements runner.Runner: the verdict is by what was seen.
func (s *session) Judge(err error) (v verdict.Verdict, message string) {
	v, message, s.how = s.judge(err)
	return v, message
}

// Close implements runner.Runner.
func (s *session) Close(end *hostlink.Closing) {
	s.outside.Close()
	end.How = s.how
	if end.Verdict == verdict.Lost && end.How != "never" {
		end.How = "lost"
	}
	v, message := s.outside.Marked()
	end.Marked, end.MarkedMessage = v, foreign.Fit(s.Mask.Text(message), verdict.MaxMessage)
}

// judge gives the verdict, and says how it ended.
func (s *session) judge(err error) (v verdict.Verdict, message, how string) {
	var lost *phone.Lost
	var notReady *casebook.Unready
	crashed := s.outside.Crashed()
	switch {
	case errors.Is(err, casebook.ErrStopped):
		return verdict.Stopped, "it was stopped", "stopped"
	case errors.As(err, &lost), errors.Is(err, casebook.ErrHoldOver):
		return verdict.Lost, err.Error(), "lost"
	case errors.As(err, &notReady):
		return verdict.Lost, err.Error(), "never"
	case !errors.Is(err, errClientEnded) && !errors.Is(err, errClientGone) && !errors.Is(err, errSessionLimit):
		return verdict.Invalid, err.Error(), "never"
	}
	how = map[error]string{errClientEnded: "client", errClientGone: "idle", errSessionLimit: "limit"}[err]
	switch {
	case crashed != "":
		return verdict.Crashed, crashed, how
	case how == "idle":
		return verdict.Expired, fmt.Sprintf("%v for %s", errClientGone, s.Hold.Spec.Limits.Idle.Duration()), how
	case how == "limit":
		return verdict.Expired, fmt.Sprintf("%v (%s)", errSessionLimit, s.Hold.Spec.Limits.Whole.Duration()), how
	case s.standing != nil:
		return verdict.Failed, "its client ended it after an error: " + s.standing.Error(), how
	}
	return verdict.Passed, "", how
}
