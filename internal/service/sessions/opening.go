package sessions

// Opening a session: what was wanted is matched, and its client waits until a device is there.

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/access"
	"tessellant/internal/core/appfile"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/dispatch"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/planning"
	"tessellant/internal/core/w3c"
	"tessellant/internal/core/work"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/pools"
	"tessellant/internal/service/queue"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/specs"
	"tessellant/internal/store"
)

// maxWaiting is how many sessions of a workspace may wait for a device at once.
const maxWaiting = 300

// prepareLimit is how long the device of a session may take to be made ready.
const prepareLimit = 10 * time.Minute

// choose finds the first set of capabilities that a device here has, and the build that goes with it.
func (s *Sessions) choose(ctx context.Context, who store.Identity, wanted []w3c.Capabilities) (w ours.Wanted, b *store.Build, wants work.Wants, werr *w3c.Error) {
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return w, nil, wants, s.serviceFailed("open a session", err)
	}
	lends, err := s.lent(ctx, who)
	if err != nil {
		return w, nil, wants, s.serviceFailed("open a session", err)
	}
	if lends != nil {
		if all = lends.Devices; len(all) == 0 {
			return w, nil, wants, w3c.Fail(w3c.SessionNotCreated, "the workspace %s lends no devices; its installation's operator says which with: tessellant lab lend --pool POOL", who.Workspace)
		}
	}
	var why []string
	for _, c := range wanted {
		platform := named(c)
		if no := c.Unmatched(cmp.Or(platform, "android")); no != "" {
			why = append(why, no)
			continue
		}
		if w, err = ours.Read(c); err != nil {
			return w, nil, wants, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		wants = work.Wants{Where: w.Where}
		if platform == "" && w.Build == "" && len(w.Where) == 0 {
			platform = "android"
		}
		if platform != "" {
			wants.Where = append(slices.Clone(wants.Where), "platform="+platform)
			w.Filter, err = devices.ParseFilter(wants.Where, nil)
			if err != nil {
				return w, nil, wants, w3c.Fail(w3c.InvalidArgument, "%v", err)
			}
		}
		app := appfile.Facts{Platform: platform}
		b = nil
		if w.Build != "" {
			found, err := s.Content.Build(ctx, who, w.Build)
			var no *refuse.Error
			if errors.As(err, &no) {
				why = append(why, "tessellant:build: "+no.Error())
				continue
			}
			if err != nil {
				return w, nil, wants, s.serviceFailed("find the build", err)
			}
			b, app = &found, found.Facts.V
			needs := planning.NeedsOf(app)
			wants.Needs = &needs
		}
		if err := s.Pools.LookUp(ctx, who, w.Filter); err != nil {
			why = append(why, "tessellant:where: "+err.Error())
			continue
		}
		no := ""
		if wants, no = Fitting(wants, w, app, b != nil, all, lends != nil); no == "" {
			return w, b, wants, nil
		}
		why = append(why, no)
	}
	return w, nil, wants, w3c.Fail(w3c.SessionNotCreated, "no device here will do: %s", strings.Join(why, "; or "))
}

// Fitting completes what is wanted of a device, and says why none will do; "": some will. Named says that only these devices may be taken.
func Fitting(wants work.Wants, w ours.Wanted, app appfile.Facts, built bool, all []store.Device, named bool) (work.Wants, string) {
	if len(w.Filter.Pools())+len(w.Conditions) > 0 || named {
		wants.Where, wants.Units = narrowed(w.Filter, w.Conditions, built, all)
	}
	if fit, _ := dispatch.Candidates(wants, nil, queue.Units(all)); len(fit) > 0 {
		return wants, ""
	}
	return wants, noDevice(app, w.Filter, w.Conditions, built, all)
}

// lent is what the workspace lends, for a borrower; nil: who asks may have any device.
func (s *Sessions) lent(ctx context.Context, who store.Identity) (*pools.Lent, error) {
	if access.May(who.Role, access.Test) {
		return nil, nil
	}
	l, err := s.Pools.Lending(ctx, store.Workspace{ID: who.WorkspaceID, Name: who.Workspace})
	return &l, err
}

// atMost ends a borrower's new session where as many are open as may be.
func (s *Sessions) atMost(ctx context.Context, who store.Identity, session string) *w3c.Error {
	lends, err := s.lent(ctx, who)
	if err != nil || lends == nil {
		if err != nil {
			return s.serviceFailed("count the sessions of the key", err)
		}
		return nil
	}
	n, err := s.Store.OtherSessions(ctx, who.KeyID, session)
	if err != nil {
		return s.serviceFailed("count the sessions of the key", err)
	}
	if n < lends.Most() {
		return nil
	}
	message := fmt.Sprintf("%s: this key has %d sessions open, and no more are lent to it at a time", labfile.NoDevice, n)
	if err := s.End(ctx, session, who.WorkspaceID, "never", message); err != nil {
		return s.serviceFailed("end the session", err)
	}
	return w3c.Fail(w3c.SessionNotCreated, "%s", message)
}

// named is the platform that capabilities name, as devices have it; "": none, or one that no device here could have. Who names a browser alone wants a page.
func named(c w3c.Capabilities) string {
	name, _ := c["platformName"].(string)
	if name == "" && w3c.IsBrowser(c["browserName"]) {
		return devices.Web
	}
	if name = strings.ToLower(name); devices.Platforms[name] == "" {
		return ""
	}
	return name
}

// nobody is a serial that no device has.
const nobody = "\x00"

// narrowed gives a filter without its pools, and the devices that are in them and can be set so.
func narrowed(filter devices.Filter, set conditions.Set, app bool, all []store.Device) (where, units []string) {
	for _, p := range filter.Where {
		if p.Trait != devices.OfPool {
			where = append(where, p.String())
		}
	}
	for _, d := range all {
		if filter.Match(d.Facts.V) && len(set.Lacks(d.Facts.V, app)) == 0 {
			units = append(units, d.Serial)
		}
	}
	if len(units) == 0 {
		units = []string{nobody}
	}
	return where, units
}

// noDevice says why no device will do.
func noDevice(app appfile.Facts, filter devices.Filter, set conditions.Set, built bool, all []store.Device) string {
	var there []planning.Device
	for _, d := range all {
		if d.Facts.V.Platform != "" {
			there = append(there, planning.Device{ID: d.ID, Facts: d.Facts.V})
		}
	}
	var why []string
	for _, d := range there {
		if lacks := set.Lacks(d.Facts, built); len(lacks) > 0 && filter.Match(d.Facts) && len(why) < 4 {
			why = append(why, d.Facts.Serial+" "+lacks[0].Why)
		}
	}
	for _, f := range planning.Make(planning.Request{App: app, Program: true, Targets: []planning.Target{{Filter: filter}}, Devices: there}).Findings {
		if len(why) < 4 {
			why = append(why, strings.TrimSpace(f.Device+" "+f.What))
		}
	}
	return strings.Join(why, "; ")
}

// serviceFailed says in the standard's words that it is the service's fault.
func (s *Sessions) serviceFailed(doing string, err error) *w3c.Error {
	s.Log.Error("the door failed", "doing", doing, "err", err)
	return w3c.Fail(w3c.UnknownError, "the service could not %s; try again in a while", doing)
}

func tokenHash(wire string) []byte {
	h := sha256.Sum256([]byte(wire))
	return h[:]
}

// OpenSession answers a New Session request: it waits for a device, and until that is ready. When ctx ends before, nobody wants the session any more.
// Door is where WebSockets are opened, such as ws://HOST/webdriver.
func (s *Sessions) OpenSession(ctx context.Context, who store.Identity, request []byte, door string) remoteend.Response {
	body, werr := w3c.Object(request)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	wanted, werr := w3c.Process(body, ours.CheckExtension)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	if i := slices.IndexFunc(wanted, func(c w3c.Capabilities) bool { return c[joins] != nil }); i >= 0 {
		return s.join(ctx, who, wanted[i], door)
	}
	w, build, wants, werr := s.choose(ctx, who, wanted)
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
	q := store.SessionRequest{Where: w.Where, Patience: w.Patience.Seconds(), Limit: w.Limit.Seconds(), Idle: w.Idle.Seconds(), Recording: w.Recording, Conditions: w.Conditions, Helpers: w.Helpers, Standard: w.Standard}
	x := store.Session{ID: store.NewID(), WorkspaceID: who.WorkspaceID, Token: tokenHash(wire), Group: w.Group, Name: w.Name, Created: time.Now().UTC().Truncate(time.Millisecond)}
	if build != nil {
		x.BuildID.String, x.BuildID.Valid, q.Build = build.ID, true, build.Ref()
	}
	x.Request.V = q
	changed, stop := s.Bus.Subscribe(bus.Session(x.ID))
	defer stop()
	if err := s.Store.AddSession(ctx, x, specs.Session(q, build), wants, who.KeyID, AwaitedFor); err != nil {
		return remoteend.Answer(s.serviceFailed("open a session", err))
	}
	if werr := s.atMost(ctx, who, x.ID); werr != nil {
		return remoteend.Answer(werr)
	}
	s.Log.Info("session waits", "session", x.ID, "build", q.Build, "where", q.Where)
	s.Bus.Publish(bus.Work, nil)
	s.Feed.SessionChanged(x.WorkspaceID, x.ID)
	r, werr := s.awaitSession(ctx, x, w, changed)
	if werr != nil {
		return remoteend.Answer(werr)
	}
	h, err := s.ActiveHold(ctx, r)
	if err != nil {
		return remoteend.Answer(s.serviceFailed("find the session's device", err))
	}
	if _, err := s.keepPassage(ctx, wire, h, false); err != nil {
		return remoteend.Answer(s.serviceFailed("find the session's host", err))
	}
	// The host has it as it stands now.
	return remoteend.NewAnswer(wire, s.answered(r, door, wire))
}

// answered gives the capabilities that are answered: with the address at which the session is listened to, where that was asked for (WebDriver BiDi, "Establishing a Connection").
func (s *Sessions) answered(r store.SessionRow, door, wire string) w3c.Capabilities {
	standard := w3c.Capabilities(r.Request.V.Standard)
	timeouts, _ := standard.Timeouts() // they were seen to be right
	more := ours.Told(r.ID, r.Request.V.Build, r.Facts.V)
	if standard[w3c.WebSocketURL] == true {
		more[w3c.WebSocketURL] = door + "/session/" + wire
	}
	return standard.Answer(r.Facts.V.Platform, timeouts, more)
}

// awaitSession waits until a session can be commanded.
func (s *Sessions) awaitSession(ctx context.Context, x store.Session, w ours.Wanted, changed <-chan []byte) (r store.SessionRow, werr *w3c.Error) {
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
		if time.Since(told) > AwaitedFor/4 {
			if err := s.Store.AwaitSession(now, x.ID, AwaitedFor); err == nil {
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
			places, _ := s.Queue.Places(asked)
			place := places[r.ID]
			message := fmt.Sprintf(labfile.NoDevice+" within %s; the session was number %d in the queue", w.Patience, place)
			if err := s.End(asked, x.ID, x.WorkspaceID, "never", message); err != nil {
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
			if err := s.End(asked, x.ID, x.WorkspaceID, "never", "its device was not ready in time"); err != nil {
				s.Log.Warn("a session that did not begin could not be ended", "session", x.ID, "err", err)
			}
			return r, w3c.Fail(w3c.SessionNotCreated, "the device was not ready within %s", prepareLimit)
		case <-ctx.Done():
			if err := s.End(asked, x.ID, x.WorkspaceID, "never", "its client went away while it waited"); err != nil {
				s.Log.Warn("a session that nobody waits for could not be ended", "session", x.ID, "err", err)
			}
			return r, w3c.Fail(w3c.SessionNotCreated, "the client went away")
		}
	}
}

// AwaitedFor is how long a session waits after the process that its client talks to was last heard of.
const AwaitedFor = 20 * time.Second

// EndUnawaited ends the sessions that wait while nobody can be told of it: the process that their client talked to is gone. Persons wait for so long alone.
func (s *Sessions) EndUnawaited(ctx context.Context) error {
	rows, err := s.Store.Unawaited(ctx, ours.MaxPatience)
	for _, r := range rows {
		if r.ByHand {
			err = errors.Join(err, s.End(ctx, r.ID, r.WorkspaceID, "never", fmt.Sprintf("no device became free within %s", time.Duration(r.Request.V.Patience*float64(time.Second)))))
			continue
		}
		err = errors.Join(err, s.End(ctx, r.ID, r.WorkspaceID, "never", "the service restarted while the session waited for a device, so its client never got an answer"))
	}
	return err
}

// EndOfKeys ends the sessions whose key was withdrawn, or ran out.
func (s *Sessions) EndOfKeys(ctx context.Context) error {
	rows, err := s.Store.OfEndedKeys(ctx)
	for _, r := range rows {
		err = errors.Join(err, s.End(ctx, r.ID, r.WorkspaceID, "stopped", "the key that opened the session has ended"))
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
