package service

// Sessions: opening, listing, marking and ending what is driven from outside.

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tessellant/internal/bus"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/snippet"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/w3c"
	"tessellant/internal/host"
	"tessellant/internal/remoteend"
	"tessellant/internal/store"
)

// maxWaiting is how many sessions of a workspace may wait for a device at once.
const maxWaiting = 300

// prepareLimit is how long the device of a session may take to be made ready.
const prepareLimit = 10 * time.Minute

// SessionView is a session with how it stands.
type SessionView struct {
	store.SessionRow
	Place int // of one that waits: in the queue, from 1
	Cases []store.CaseVerdict
}

// sessionViews puts to sessions their cases, and to those that wait their places.
func (s *Service) sessionViews(ctx context.Context, rows []store.SessionRow) ([]SessionView, error) {
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
		if places, err = s.places(ctx); err != nil {
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

// places gives each session that waits its place: how many asked before it for one of the devices that would do for it, and one.
func (s *Service) places(ctx context.Context) (map[string]int, error) {
	legs, err := s.Store.WaitingLegs(ctx, 5000)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return nil, err
	}
	wishes, err := s.wishes(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	before := []map[string]bool{}
	for _, l := range legs {
		wants := map[string]bool{}
		if l.RunID != "" {
			wants[l.DeviceID] = true
		} else {
			for _, id := range wishes[l.ID].devices(all) {
				wants[id] = true
			}
			n := 1
			for _, b := range before {
				if slices.ContainsFunc(all, func(d store.Device) bool { return wants[d.ID] && b[d.ID] }) {
					n++
				}
			}
			out[l.ID] = n
		}
		before = append(before, wants)
	}
	return out, nil
}

// wish is what a session that waits wants of a device.
type wish struct {
	filter devices.Filter
	app    *appfile.Facts // nil: no build
}

// devices lists those that will do, by id, the ones that are ready first.
func (w wish) devices(all []store.Device) (ids []string) {
	var later []string
	for _, d := range all {
		if d.Facts.V.Platform == "" || !w.filter.Match(d.Facts.V) || (w.app != nil && planning.Unfit(*w.app, planning.Device{ID: d.ID, Facts: d.Facts.V}) != nil) {
			continue
		}
		if d.State == "ready" && !d.Quarantined.Valid {
			ids = append(ids, d.ID)
		} else {
			later = append(later, d.ID)
		}
	}
	return append(ids, later...)
}

// wishes gives what each session that waits wants.
func (s *Service) wishes(ctx context.Context) (map[string]wish, error) {
	rows, err := s.Store.SessionsGoing(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]wish{}
	builds := map[string]*appfile.Facts{}
	for _, r := range rows {
		if r.Stage != "waiting" {
			continue
		}
		w := wish{}
		if w.filter, err = devices.ParseFilter(r.Request.V.Where, nil); err != nil {
			return nil, err
		}
		if r.BuildID.Valid {
			f := builds[r.BuildID.String]
			if f == nil {
				b, err := s.Store.BuildByID(ctx, r.WorkspaceID, r.BuildID.String)
				if err != nil {
					return nil, err
				}
				f = &b.Facts.V
				builds[r.BuildID.String] = f
			}
			w.app = f
		}
		out[r.ID] = w
	}
	return out, nil
}

// Sessions lists the sessions that a filter chooses, the newest first. Open and waiting are how many of the workspace have a device, and wait
// for one.
func (s *Service) Sessions(ctx context.Context, who Identity, f store.SessionFilter, after string, limit int) (views []SessionView, next string, open, waiting int, err error) {
	if err := checkAfter(after); err != nil {
		return nil, "", 0, 0, err
	}
	rows, err := s.Store.Sessions(ctx, who.WorkspaceID, f, after, limit+1)
	rows, next, err = page(rows, limit, err, func(r store.SessionRow) string { return r.ID })
	if err != nil {
		return nil, "", 0, 0, err
	}
	if views, err = s.sessionViews(ctx, rows); err != nil {
		return nil, "", 0, 0, err
	}
	open, waiting, err = s.Store.CountSessions(ctx, who.WorkspaceID)
	return views, next, open, waiting, err
}

// Session finds a session by its id; "newest" is the one opened last.
func (s *Service) Session(ctx context.Context, who Identity, id string) (v SessionView, err error) {
	var r store.SessionRow
	if id == "newest" {
		var rows []store.SessionRow
		if rows, err = s.Store.Sessions(ctx, who.WorkspaceID, store.SessionFilter{}, "", 1); err == nil && len(rows) == 0 {
			err = store.ErrNotFound
		} else if err == nil {
			r = rows[0]
		}
	} else {
		r, err = s.Store.SessionByID(ctx, who.WorkspaceID, id)
	}
	if err != nil {
		return v, notFound(err, "session", id, "see the sessions with: tessellant session list")
	}
	vs, err := s.sessionViews(ctx, []store.SessionRow{r})
	if err != nil {
		return v, err
	}
	return vs[0], nil
}

// StopSession ends a session.
func (s *Service) StopSession(ctx context.Context, who Identity, id string) (SessionView, error) {
	v, err := s.Session(ctx, who, id)
	if err != nil {
		return v, err
	}
	if v.Stage == "done" {
		return v, fail(Refused, "stop the session", "open another", "it is over already: %s", v.Verdict)
	}
	if err := s.endSession(ctx, v.ID, v.WorkspaceID, "stopped", "it was stopped before it got a device"); err != nil {
		return v, err
	}
	return s.Session(ctx, who, v.ID)
}

// endSession ends a session that waits, with a message, or has its host end it.
func (s *Service) endSession(ctx context.Context, id, workspace, how, message string) error {
	waited, err := s.Store.StopSession(ctx, id, verdict.Stopped, how, message)
	if err != nil {
		return err
	}
	s.Log.Info("session is ended", "session", id, "how", how, "waited", waited)
	s.sessionChanged(workspace, id)
	if waited {
		return nil
	}
	holds, err := s.Store.ActiveHolds(ctx, "")
	if err != nil {
		return err
	}
	for _, h := range holds {
		if h.LegID == id {
			if name, err := s.Store.HostName(ctx, h.HostID); err == nil {
				s.Bus.Publish(bus.Host(name), nil)
			}
		}
	}
	return nil
}

// sessionChanged tells those who wait for a session, and those who watch.
func (s *Service) sessionChanged(workspace, id string) {
	s.Bus.Publish(bus.Session(id), nil)
	s.Feed.sessionChanged(workspace, id)
}

// MarkSession says how a session, or a case of it, came out.
func (s *Service) MarkSession(ctx context.Context, who Identity, id, caseName string, v verdict.Verdict, message string) (SessionView, error) {
	const title = "mark the session"
	x, err := s.Session(ctx, who, id)
	if err != nil {
		return x, err
	}
	if v != verdict.Passed && v != verdict.Failed && (v != verdict.Skipped || caseName == "") {
		return x, fail(Invalid, title, "a session is passed or failed, a case also skipped", "%q is no verdict that can be given", v)
	}
	if len(caseName) > host.MaxCaseName || len(message) > host.MaxText || !utf8.ValidString(caseName+message) {
		return x, fail(Invalid, title, fmt.Sprintf("keep the name within %d bytes and the message within %d, as UTF-8", host.MaxCaseName, host.MaxText), "the name or the message is too long, or is no text")
	}
	if caseName == "" {
		err = s.Store.MarkSession(ctx, x.ID, v, message)
	} else if !x.AttemptID.Valid {
		err = fail(Refused, title, "", "the session never had a device, and so no cases")
	} else {
		err = s.markCase(ctx, x, store.Case{Ordinal: store.NewCase, Name: caseName, Verdict: v, Message: message})
	}
	if err != nil {
		return x, err
	}
	s.sessionChanged(x.WorkspaceID, x.ID)
	return s.Session(ctx, who, x.ID)
}

// markCase gives the newest case of a name its verdict, or a new one where there is none.
func (s *Service) markCase(ctx context.Context, x SessionView, c store.Case) error {
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

// choose finds the first set of capabilities that a device here has, and the build that goes with it.
func (s *Service) choose(ctx context.Context, who Identity, wanted []w3c.Capabilities) (w remoteend.Wanted, b *store.Build, werr *w3c.Error) {
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return w, nil, s.serviceFailed("open a session", err)
	}
	var why []string
	for _, c := range wanted {
		if no := c.Unmatched("android"); no != "" {
			why = append(why, no)
			continue
		}
		if w, err = remoteend.Read(c); err != nil {
			return w, nil, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		plan := wish{filter: w.Filter}
		b = nil
		if w.Build != "" {
			found, err := s.Build(ctx, who, w.Build)
			var no *Error
			if errors.As(err, &no) {
				why = append(why, "tessellant:build: "+no.Error())
				continue
			}
			if err != nil {
				return w, nil, s.serviceFailed("find the build", err)
			}
			b, plan.app = &found, &found.Facts.V
		}
		if len(plan.devices(all)) > 0 {
			return w, b, nil
		}
		why = append(why, s.noDevice(plan, all))
	}
	return w, nil, w3c.Fail(w3c.SessionNotCreated, "no device here will do: %s", strings.Join(why, "; or "))
}

// noDevice says why no device will do.
func (s *Service) noDevice(w wish, all []store.Device) string {
	var there []planning.Device
	for _, d := range all {
		if d.Facts.V.Platform != "" {
			there = append(there, planning.Device{ID: d.ID, Facts: d.Facts.V})
		}
	}
	app := appfile.Facts{Platform: "android"}
	if w.app != nil {
		app = *w.app
	}
	var why []string
	for _, f := range planning.Make(app, 1, there, w.filter).Findings {
		if len(why) < 4 {
			why = append(why, strings.TrimSpace(f.Device+" "+f.What))
		}
	}
	return strings.Join(why, "; ")
}

// serviceFailed says in the standard's words that it is the service's fault.
func (s *Service) serviceFailed(doing string, err error) *w3c.Error {
	s.Log.Error("the door failed", "doing", doing, "err", err)
	return w3c.Fail(w3c.UnknownError, "the service could not %s; try again in a while", doing)
}

func tokenHash(wire string) []byte {
	h := sha256.Sum256([]byte(wire))
	return h[:]
}

// OpenSession answers a New Session request: it waits for a device, and until that is ready. When ctx ends before, nobody wants the session any more.
func (s *Service) OpenSession(ctx context.Context, who Identity, request []byte) remoteend.Response {
	body, werr := w3c.Object(request)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	wanted, werr := w3c.Process(body, remoteend.CheckExtension)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	w, build, werr := s.choose(ctx, who, wanted)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	_, waiting, err := s.Store.CountSessions(ctx, who.WorkspaceID)
	if err != nil {
		return remoteend.Answer(s.serviceFailed("open a session", err))
	}
	if waiting >= maxWaiting {
		return remoteend.Answer(w3c.Fail(w3c.SessionNotCreated, "%d sessions of this workspace wait for a device already, and no more may; open fewer at once", waiting))
	}
	wire := strings.ToLower(rand.Text())
	q := store.SessionRequest{Where: w.Where, Patience: w.Patience.Seconds(), Limit: w.Limit.Seconds(), Idle: w.Idle.Seconds(), Recording: w.Recording, Dark: w.Conditions.Dark, Standard: w.Standard}
	if o := w.Conditions.Orientation; o != "" {
		landscape := o == "landscape"
		q.Landscape = &landscape
	}
	x := store.Session{ID: store.NewID(), WorkspaceID: who.WorkspaceID, Token: tokenHash(wire), Label: w.Group, Name: w.Name, Created: time.Now().UTC().Truncate(time.Millisecond)}
	if build != nil {
		x.BuildID.String, x.BuildID.Valid, q.Build = build.ID, true, BuildRef(*build)
	}
	x.Request.V = q
	changed, stop := s.Bus.Subscribe(bus.Session(x.ID))
	defer stop()
	if err := s.Store.AddSession(ctx, x, awaitedFor); err != nil {
		return remoteend.Answer(s.serviceFailed("open a session", err))
	}
	s.Log.Info("session waits", "session", x.ID, "build", q.Build, "where", q.Where)
	s.Bus.Publish(bus.Work, nil)
	s.sessionChanged(x.WorkspaceID, x.ID)
	r, werr := s.awaitSession(ctx, x, w, changed)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	h, err := s.activeHold(ctx, r)
	if err != nil {
		return remoteend.Answer(s.serviceFailed("find the session's device", err))
	}
	if _, err := s.keepPassage(ctx, wire, h); err != nil {
		return remoteend.Answer(s.serviceFailed("find the session's host", err))
	}
	// The host has it as it stands now.
	return remoteend.NewAnswer(wire, s.answered(r))
}

// answered gives the capabilities that are answered.
func (s *Service) answered(r store.SessionRow) w3c.Capabilities {
	standard := w3c.Capabilities(r.Request.V.Standard)
	timeouts, _ := standard.Timeouts() // they were seen to be right
	return standard.Answer(r.Facts.V.Platform, timeouts, remoteend.Told(r.ID, r.Request.V.Build, r.Facts.V))
}

// awaitSession waits until a session can be commanded.
func (s *Service) awaitSession(ctx context.Context, x store.Session, w remoteend.Wanted, changed <-chan []byte) (r store.SessionRow, werr *w3c.Error) {
	patience := time.NewTimer(w.Patience)
	defer patience.Stop()
	prepared := time.NewTimer(w.Patience + prepareLimit)
	defer prepared.Stop()
	look := time.NewTicker(2 * time.Second)
	defer look.Stop()
	asked, cancel := context.WithTimeout(context.WithoutCancel(ctx), w.Patience+prepareLimit+time.Minute)
	defer cancel()
	impatient := false
	told := time.Now()
	for {
		now, over := context.WithTimeout(asked, 10*time.Second)
		if time.Since(told) > awaitedFor/4 {
			if err := s.Store.AwaitSession(now, x.ID, awaitedFor); err == nil {
				told = time.Now()
			}
		}
		r, err := s.Store.SessionByID(now, x.WorkspaceID, x.ID)
		over()
		switch {
		case err != nil: // the database may be away for a while; the session stands in it
			s.Log.Warn("how a session stands can't be seen now", "session", x.ID, "err", err)
		case r.Stage == "running":
			return r, nil
		case r.Stage == "done":
			return r, w3c.Fail(w3c.SessionNotCreated, "%s", notOpened(r))
		case r.Stage == "waiting" && impatient:
			place := 0
			if places, err := s.places(asked); err == nil {
				place = places[r.ID]
			}
			message := fmt.Sprintf("no device came free within %s; the session was number %d in the queue", w.Patience, place)
			if err := s.endSession(asked, x.ID, x.WorkspaceID, "never", message); err != nil {
				return r, s.serviceFailed("end the session", err)
			}
			continue
		}
		select {
		case <-changed:
		case <-look.C:
		case <-patience.C:
			impatient = true
		case <-prepared.C:
			if err := s.endSession(asked, x.ID, x.WorkspaceID, "never", "its device was not ready in time"); err != nil {
				s.Log.Warn("a session that did not begin could not be ended", "session", x.ID, "err", err)
			}
			return r, w3c.Fail(w3c.SessionNotCreated, "the device was not ready within %s", prepareLimit)
		case <-ctx.Done():
			if err := s.endSession(asked, x.ID, x.WorkspaceID, "never", "its client went away while it waited"); err != nil {
				s.Log.Warn("a session that nobody waits for could not be ended", "session", x.ID, "err", err)
			}
			return r, w3c.Fail(w3c.SessionNotCreated, "the client went away")
		}
	}
}

// awaitedFor is how long a session waits after the process that its client talks to was last heard of.
const awaitedFor = 20 * time.Second

// endUnawaited ends the sessions that wait while nobody can be told of it: the process that their client talked to is gone.
func (s *Service) endUnawaited(ctx context.Context) error {
	rows, err := s.Store.Unawaited(ctx, remoteend.MaxPatience)
	for _, r := range rows {
		err = errors.Join(err, s.endSession(ctx, r.ID, r.WorkspaceID, "never", "the service was started anew while it waited for a device, so its client has heard nothing of it"))
	}
	return err
}

// notOpened says why a session did not come to be.
func notOpened(r store.SessionRow) string {
	if r.Message != "" {
		return r.Message
	}
	return "it ended before it began: " + string(r.Verdict)
}

// Snippet writes a program that opens a session, and says on how many of the devices it could.
func (s *Service) Snippet(ctx context.Context, who Identity, language string, c snippet.Choice) (l snippet.Language, program string, fit int, err error) {
	const title = "write the snippet"
	w := wish{}
	if w.filter, err = devices.ParseFilter(c.Where, nil); err != nil {
		return l, "", 0, fail(Invalid, title, "see the traits with: tessellant device list --help", "%v", err)
	}
	if c.Build != "" {
		b, err := s.Build(ctx, who, c.Build)
		if err != nil {
			return l, "", 0, err
		}
		w.app = &b.Facts.V
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return l, "", 0, err
	}
	l, program, err = snippet.Write(language, c)
	if err != nil {
		return l, "", 0, fail(Invalid, title, "choose one of those", "%v", err)
	}
	return l, program, len(w.devices(all)), nil
}

var errNoHold = errors.New("the session has no device any more")

func (s *Service) activeHold(ctx context.Context, r store.SessionRow) (store.Hold, error) {
	h, err := s.Store.HoldOfAttempt(ctx, r.AttemptID.String)
	if errors.Is(err, store.ErrNotFound) {
		err = errNoHold
	}
	return h, err
}

// sessionHold is what a host needs for a session.
func (l *link) sessionHold(ctx context.Context, h store.Hold) (host.Hold, error) {
	r, err := l.Store.SessionByID(ctx, h.WorkspaceID, h.LegID)
	if err != nil {
		return host.Hold{}, err
	}
	d, err := l.Store.DeviceByID(ctx, h.DeviceID)
	if err != nil {
		return host.Hold{}, err
	}
	q := r.Request.V
	seconds := func(f float64) time.Duration { return time.Duration(f * float64(time.Second)) }
	out := host.Hold{ID: h.ID, LegID: h.LegID, AttemptID: h.AttemptID, WorkspaceID: h.WorkspaceID, Epoch: h.Epoch, Serial: d.Serial, Stop: h.Stop, Begun: h.Begun,
		Session: &host.Session{Limit: seconds(q.Limit), Idle: seconds(q.Idle), Video: q.Recording["video"], Log: q.Recording["log"], Landscape: q.Landscape, Dark: q.Dark, Capabilities: q.Standard, Answer: remoteend.Told(r.ID, q.Build, d.Facts.V)}}
	if r.BuildID.Valid {
		b, err := l.Store.BuildByID(ctx, h.WorkspaceID, r.BuildID.String)
		if err != nil {
			return out, err
		}
		out.AppID, out.Activity, out.BuildSize, out.BuildSHA = b.AppID, b.Facts.V.Activity, b.Size, b.SHA256
	}
	return out, nil
}
