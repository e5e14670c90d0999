package session

// A device that a person holds. Nobody's silence ends it: it ends when the person gives it back, or when its time is over, which may be prolonged.

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"sync/atomic"
	"time"

	"tessellant/internal/core/verdict"
	"tessellant/internal/host/orders"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/runner/beside"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
)

var errTimeOver = errors.New("the time for which the device was held is over")

// hands implements runner.Runner.
type hands struct {
	*session
	until atomic.Int64 // ns since 1970
}

// NewHands makes the runner.
func NewHands(k *runner.Kit) (runner.Runner, error) {
	s, err := newSession(k)
	return &hands{session: s}, err
}

// Run implements runner.Runner: it waits until the device is given back.
func (h *hands) Run(ctx context.Context) error {
	whole := h.Hold.Spec.Limits.Whole.Duration()
	return h.serve(ctx, min(idleLookEvery, whole/4), func(end *remoteend.Session) (orders.Carrier, func()) {
		people := beside.AtHold(ctx, h.Kit, end)
		return &held{people.Carrier(end), h}, people.Close
	}, func(*orders.Served) error {
		h.until.CompareAndSwap(0, time.Now().Add(whole).UnixNano())
		if h.left() <= 0 {
			return errTimeOver
		}
		return nil
	})
}

func (h *hands) left() time.Duration { return time.Until(time.Unix(0, h.until.Load())) }

// Judge implements runner.Runner. What a person does by hand is no test: it can't fail.
func (h *hands) Judge(err error) (v verdict.Verdict, message string) {
	crashed := h.outside.Crashed()
	switch {
	case errors.Is(err, errTimeOver), errors.Is(err, errClientEnded):
		h.how = map[bool]string{true: "limit", false: "client"}[errors.Is(err, errTimeOver)]
		if crashed != "" {
			return verdict.Crashed, crashed
		}
		return verdict.Passed, ""
	}
	return h.session.Judge(err)
}

// held carries out what a person, or a client that names the hold, commands; and that the hold is prolonged.
type held struct {
	beside.Carrier
	h *hands
}

func (x *held) prolongs(q remoteend.Request) bool {
	return beside.Of(q, x.h.Hold.WorkID) == "POST "+hostlink.ProlongPath
}

// Beside implements orders.Besider: the end of the hold waits for no command.
func (x *held) Beside(q remoteend.Request) bool { return x.prolongs(q) || x.Carrier.Beside(q) }

// Do implements orders.Carrier.
func (x *held) Do(ctx context.Context, q remoteend.Request) remoteend.Response {
	switch {
	case x.Ended() && beside.Of(q, x.h.Hold.WorkID) == "DELETE ": // given back twice
		return remoteend.Done()
	case x.prolongs(q) && x.Ended():
		return beside.Refused("the device is being given back", "")
	case x.prolongs(q):
		return x.h.prolong(q.Body)
	}
	return x.Carrier.Do(ctx, q)
}

// prolong moves the end: by so much, but not further from now than is allowed.
func (h *hands) prolong(body []byte) remoteend.Response {
	var p hostlink.Prolong
	if err := json.Unmarshal(body, &p); err != nil || p.By <= 0 || p.Most <= 0 {
		return beside.Refused("the time to prolong by can't be read", "")
	}
	for {
		was := h.until.Load()
		to := min(was+p.By.Nanoseconds(), time.Now().Add(p.Most).UnixNano())
		if h.until.CompareAndSwap(was, to) {
			return remoteend.Plain(http.StatusOK, hostlink.Held{Left: h.left()})
		}
	}
}
