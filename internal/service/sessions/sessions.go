// Package sessions is what is driven from outside: W3C WebDriver sessions, opened, commanded, marked and ended; and clients that work on a device which a person holds.
//
// A session waits in the same queue as the legs of runs (opening.go); its commands go on to its host (door.go). Who names a hold works on its device (joining.go).
package sessions

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"unicode/utf8"

	"tessellant/internal/bus"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/dispatch"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/snippet"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/service/content"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/pools"
	"tessellant/internal/service/queue"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Sessions is that room.
type Sessions struct {
	Store   *store.Store
	Bus     bus.Bus
	Log     *slog.Logger
	Feed    *feed.Feed
	Content *content.Content
	Queue   *queue.Queue
	Orders  *orders.Orders
	Pools   *pools.Pools

	door door
}

// New makes the room of what is given.
func New(of Sessions) *Sessions {
	of.door = newDoor()
	return &of
}

// SessionView is a session with how it stands.
type SessionView struct {
	store.SessionRow
	Place int // of one that waits: in the queue, from 1
	Cases []store.CaseVerdict
}

// Views puts to sessions their cases, and to those that wait their places.
func (s *Sessions) Views(ctx context.Context, rows []store.SessionRow) ([]SessionView, error) {
	var attempts []string
	waits := false
	for _, r := range rows {
		if r.AttemptID.Valid {
			attempts = append(attempts, r.AttemptID.String)
		}
		waits = waits || r.Stage == "waiting"
	}
	cases, err := s.Store.CaseVerdicts(ctx, attempts)
	if err != nil {
		return nil, err
	}
	places := map[string]int{}
	if waits {
		if places, err = s.Queue.Places(ctx); err != nil {
			return nil, err
		}
	}
	out := make([]SessionView, 0, len(rows))
	for _, r := range rows {
		v := SessionView{SessionRow: r, Cases: cases[r.AttemptID.String]}
		if r.Stage == "waiting" {
			v.Place = places[r.ID]
		}
		out = append(out, v)
	}
	return out, nil
}

// ListSessions lists the sessions that a filter chooses, the newest first. Open and waiting are how many of the workspace have a device, and wait
// for one.
func (s *Sessions) ListSessions(ctx context.Context, who store.Identity, f store.SessionFilter, after string, limit int) (views []SessionView, next string, open, waiting int, err error) {
	if err := paging.Check(after); err != nil {
		return nil, "", 0, 0, err
	}
	rows, err := s.Store.Sessions(ctx, who.WorkspaceID, f, after, limit+1)
	rows, next, err = paging.Cut(rows, limit, err, func(r store.SessionRow) string { return r.ID })
	if err != nil {
		return nil, "", 0, 0, err
	}
	if views, err = s.Views(ctx, rows); err != nil {
		return nil, "", 0, 0, err
	}
	open, waiting, err = s.Store.CountSessions(ctx, who.WorkspaceID)
	return views, next, open, waiting, err
}

// newest finds the one that was asked for last.
func (s *Sessions) newest(ctx context.Context, who store.Identity, of store.SessionFilter) (store.SessionRow, error) {
	rows, err := s.Store.Sessions(ctx, who.WorkspaceID, of, "", 1)
	if err == nil && len(rows) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return store.SessionRow{}, err
	}
	return rows[0], nil
}

// Session finds a session by its id; "newest" is the one opened last.
func (s *Sessions) Session(ctx context.Context, who store.Identity, id string) (v SessionView, err error) {
	var r store.SessionRow
	if id == "newest" {
		r, err = s.newest(ctx, who, store.SessionFilter{})
	} else {
		r, err = s.Store.SessionByID(ctx, who.WorkspaceID, id)
	}
	if err != nil {
		return v, refuse.Missing(err, "session", id, "see the sessions with: tessellant session list")
	}
	vs, err := s.Views(ctx, []store.SessionRow{r})
	if err != nil {
		return v, err
	}
	return vs[0], nil
}

// StopSession ends a session.
func (s *Sessions) StopSession(ctx context.Context, who store.Identity, id string) (SessionView, error) {
	v, err := s.Session(ctx, who, id)
	if err != nil {
		return v, err
	}
	if v.Stage == "done" {
		return v, refuse.New(refuse.Refused, "stop the session", "open a new one", "it has already finished: %s", v.Verdict)
	}
	if err := s.End(ctx, v.ID, v.WorkspaceID, "stopped", "it was stopped before it got a device"); err != nil {
		return v, err
	}
	return s.Session(ctx, who, v.ID)
}

// End ends a session that waits, with a message, or has its host end it.
func (s *Sessions) End(ctx context.Context, id, workspace, how, message string) error {
	waited, err := s.Store.StopWork(ctx, id, store.Closing{Verdict: verdict.Stopped, How: how, Message: message})
	if err != nil {
		return err
	}
	s.Log.Info("session is ended", "session", id, "how", how, "waited", waited)
	s.Feed.SessionChanged(workspace, id)
	if waited {
		return nil
	}
	return s.Orders.WakeHolding(ctx, func(h store.Hold) bool { return h.WorkID == id })
}

// MarkSession says how a session, or a case of it, came out.
func (s *Sessions) MarkSession(ctx context.Context, who store.Identity, id, caseName string, v verdict.Verdict, message string) (SessionView, error) {
	const title = "mark the session"
	x, err := s.Session(ctx, who, id)
	if err != nil {
		return x, err
	}
	if v != verdict.Passed && v != verdict.Failed && (v != verdict.Skipped || caseName == "") {
		return x, refuse.New(refuse.Invalid, title, "use passed or failed; for a case also skipped", "%q is not a verdict you can set", v)
	}
	if len(caseName) > verdict.MaxCaseName || len(message) > verdict.MaxText || !utf8.ValidString(caseName+message) {
		return x, refuse.New(refuse.Invalid, title, fmt.Sprintf("keep the name within %d bytes and the message within %d, as UTF-8", verdict.MaxCaseName, verdict.MaxText), "the name or the message is too long, or is not text")
	}
	if caseName == "" {
		err = s.Store.MarkSession(ctx, x.ID, v, message)
	} else if !x.AttemptID.Valid {
		err = refuse.New(refuse.Refused, title, "", "the session never had a device, so it has no cases")
	} else {
		err = s.markCase(ctx, x, store.Case{Ordinal: store.NewCase, Name: caseName, Verdict: v, Message: message})
	}
	if err != nil {
		return x, err
	}
	s.Feed.SessionChanged(x.WorkspaceID, x.ID)
	return s.Session(ctx, who, x.ID)
}

// markCase gives the newest case of a name its verdict, or a new one where there is none.
func (s *Sessions) markCase(ctx context.Context, x SessionView, c store.Case) error {
	have, err := s.Store.Cases(ctx, x.AttemptID.String)
	if err != nil {
		return err
	}
	for _, h := range have {
		if h.Name == c.Name {
			c.Ordinal = h.Ordinal
		}
	}
	return s.Store.PutCases(ctx, x.ID, x.AttemptID.String, "marked", []store.Case{c})
}

// Snippet writes a program that opens a session, and says on how many of the devices it could.
func (s *Sessions) Snippet(ctx context.Context, who store.Identity, language string, c snippet.Choice) (l snippet.Language, program string, fit int, err error) {
	const title = "write the snippet"
	wants := work.Wants{Where: c.Where}
	filter, err := devices.ParseFilter(c.Where, nil)
	if err != nil {
		return l, "", 0, refuse.New(refuse.Invalid, title, "see the traits with: tessellant device list --help", "%v", err)
	}
	if err = s.Pools.LookUp(ctx, who, filter); err != nil {
		return l, "", 0, err
	}
	if c.Build != "" {
		b, err := s.Content.Build(ctx, who, c.Build)
		if err != nil {
			return l, "", 0, err
		}
		needs := planning.NeedsOf(b.Facts.V)
		wants.Needs = &needs
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return l, "", 0, err
	}
	if len(filter.Pools()) > 0 {
		wants.Where, wants.Units = narrowed(filter, nil, false, all)
	}
	l, program, err = snippet.Write(language, c)
	if err != nil {
		return l, "", 0, refuse.New(refuse.Invalid, title, "choose one of those", "%v", err)
	}
	fits, _ := dispatch.Candidates(wants, nil, queue.Units(all))
	return l, program, len(fits), nil
}

// ErrNoHold says that a session has no device any more.
var ErrNoHold = errors.New("the session has no device any more")

// ActiveHold finds the hold of a session's device.
func (s *Sessions) ActiveHold(ctx context.Context, r store.SessionRow) (store.Hold, error) {
	h, err := s.Store.HoldOfAttempt(ctx, r.AttemptID.String)
	if errors.Is(err, store.ErrNotFound) {
		err = ErrNoHold
	}
	return h, err
}
