package wdlab

// Borrowing a device: a place, the build at the lab, a session on the device that was asked for; and giving it back.

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"net/http"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/w3c"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
	"tessellant/internal/phone/wd"
)

const (
	// endTakes is how long the lab may take to end a session.
	endTakes = 20 * time.Second
	// askAgain is between two tries to get a session from a lab that has no place: at first, and at most.
	askAgain, askAtMost = time.Second, 10 * time.Second
	// otherTries is how often a session is asked for that was not created for a reason that may pass.
	otherTries = 3
)

// loan implements lab.Loan.
type loan struct {
	lab    *Lab
	device *wd.Device
	wants  catalogue.Device

	mu     sync.Mutex
	want   lab.Want
	values labfile.Values
	given  lab.Given
	placed bool
	since  time.Time // when the session that is open began; zero: none is
	before time.Duration
}

// lasted is how long sessions of the loan were open that the ledger does not know of yet.
func (x *loan) lasted() time.Duration {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.since.IsZero() {
		return 0
	}
	return time.Since(x.since)
}

const doing = "be lent"

func (x *loan) lost(err error) error {
	return &phone.Lost{Serial: x.wants.ID, Doing: doing, Err: err}
}

// Begin implements lab.Loan.
func (x *loan) Begin(ctx context.Context, want lab.Want, waiting func(string)) (given lab.Given, err error) {
	l := x.lab
	l.mu.Lock()
	out := l.out
	if out == "" {
		out = l.spent()
	}
	taken := l.lent[x.wants.ID]
	if out == "" && taken == nil {
		l.lent[x.wants.ID] = x
	}
	l.mu.Unlock()
	switch {
	case out != "":
		return given, x.lost(errors.New(out))
	case taken != nil:
		return given, x.lost(errors.New("other work of this host has it"))
	}
	defer func() {
		if err != nil {
			_ = x.End(context.WithoutCancel(ctx))
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, l.Lab.Session.Within)
	defer cancel()
	err = l.places.take(ctx, func(taken, limit int) {
		waiting(fmt.Sprintf("%d of the %d sessions that may be open at the lab %s at a time are open", taken, limit, l.Lab.Name))
	})
	if err != nil {
		return given, x.lost(fmt.Errorf("no place at the lab %s became free within %s", l.Lab.Name, l.Lab.Session.Within))
	}
	x.mu.Lock()
	x.placed, x.want, x.values = true, want, valuesFor(x.wants, want)
	x.mu.Unlock()
	if given, err = x.open(ctx, waiting); err != nil {
		return given, err
	}
	return given, nil
}

// open gets the build to the lab and opens a session.
func (x *loan) open(ctx context.Context, waiting func(string)) (lab.Given, error) {
	l := x.lab
	v, cached := x.values, false
	page := x.want.App.Page != ""
	if page || x.wants.Platform == devices.Web {
		if l.Lab.Session.Pages == nil {
			return lab.Given{}, &phone.Refused{Doing: doing, Why: "the build is a page, and the lab " + l.Lab.Name + " has no browser that can be driven", Remedy: "write session.pages into the lab file, or choose other devices"}
		}
		if page {
			if err := l.leads(x.want.App.Page); err != nil {
				return lab.Given{}, err
			}
		}
	} else if l.Lab.Build != nil && x.want.App.ID != "" {
		var err error
		if v.Build, cached, err = l.upload(ctx, x.want.App, x.want.SHA256, v); err != nil {
			return lab.Given{}, x.refused("the build could not be brought to the lab", err)
		}
	}
	o, capabilities, err := x.session(ctx, v, waiting)
	if err != nil && cached && forgot(err) { // the lab may not have it any more
		l.forget(x.want.SHA256)
		if v.Build, _, err = l.upload(ctx, x.want.App, x.want.SHA256, v); err != nil {
			return lab.Given{}, x.refused("the build could not be brought to the lab again", err)
		}
		o, capabilities, err = x.session(ctx, v, waiting)
	}
	if err != nil {
		return lab.Given{}, x.refused("the lab gives no session", err)
	}
	x.mu.Lock()
	x.values, x.since = v, time.Now()
	x.given = lab.Given{Ref: o.ID, Installed: page || v.Build != "" && l.installs(), Set: seenTo(l.asks(page || x.wants.Platform == devices.Web), x.want.Conditions)}
	x.mu.Unlock()
	if other := x.other(capabilities); other != "" {
		return lab.Given{}, x.lost(fmt.Errorf("the lab %s gave another device than was asked for: %s", l.Lab.Name, other))
	}
	o.Build, o.Page = v.Build, page || x.wants.Platform == devices.Web
	if o.Scale = v.Screen.Scale; !o.Page {
		if o.Scale, err = x.scale(ctx, o.ID); err != nil {
			return lab.Given{}, x.refused("the session can't be used", err)
		}
	}
	x.device.Values = v
	x.device.Use(o)
	x.mu.Lock()
	defer x.mu.Unlock()
	x.given.Shown = o.ID
	if v, ok := labfile.At(capabilities, l.Lab.Session.Told.Reference); ok && l.Lab.Session.Told.Reference != "" {
		x.given.Shown = foreign.Name(fmt.Sprint(v), 200)
	}
	x.given.Page = x.page(capabilities, o.ID)
	return x.given, nil
}

// page is the address of the lab's own page about the session; "": it has none. Only addresses that a browser may be led to are taken.
func (x *loan) page(capabilities any, session string) string {
	address := ""
	if at := x.lab.Lab.Session.Told.Page; at != "" {
		v, _ := labfile.At(capabilities, at)
		address, _ = v.(string)
	} else if t := x.lab.Lab.Session.Page; t != nil {
		v := x.values
		v.Session, v.Reference = session, x.given.Shown
		address, _ = t.Make(v)
	}
	if !strings.HasPrefix(address, "https://") && !strings.HasPrefix(address, "http://") || len(address) > 2000 {
		return ""
	}
	return foreign.Name(x.lab.end.Mask.Text(address), 2000)
}

// forgot says whether an error may mean that the lab does not know a build any more.
func forgot(err error) bool {
	var said *wd.Answered
	return errors.As(err, &said) && (said.Code == string(w3c.SessionNotCreated) || said.Code == string(w3c.InvalidArgument) || said.Code == string(w3c.UnknownError) || said.Status == http.StatusNotFound)
}

// refused says what an error at the beginning of a loan is to the work.
func (x *loan) refused(what string, err error) error {
	l := x.lab
	var gone *phone.Lost
	var no *phone.Refused
	if errors.As(err, &gone) || errors.As(err, &no) {
		return err
	}
	if denied(err) {
		l.mu.Lock()
		l.blame(err)
		why := l.out
		l.mu.Unlock()
		l.hurry()
		return x.lost(errors.New(why))
	}
	var said *wd.Answered
	if errors.As(err, &said) && !l.busy(err) {
		switch {
		case said.Code == string(w3c.SessionNotCreated), said.Code == string(w3c.InvalidArgument), said.Code == "" && said.Status >= 400 && said.Status < 500 && said.Status != http.StatusRequestTimeout && said.Status != http.StatusTooManyRequests:
			return &phone.Refused{Doing: doing, Code: said.Code, Why: what + ": " + said.Message, Remedy: "see the lab's own log; on its host, one session is opened by: tessellant lab try LABFILE --lab " + l.Lab.Name}
		}
	}
	return x.lost(fmt.Errorf("%s: %s", what, Plain(err)))
}

// busy says whether a lab's answer means that it has no place for now.
func (l *Lab) busy(err error) bool {
	var said *wd.Answered
	return errors.As(err, &said) && (said.Status == http.StatusTooManyRequests || l.Lab.Session.Busy != "" && strings.Contains(said.Message, l.Lab.Session.Busy))
}

// session asks for a session until the lab has a place for it, as long as ctx lasts.
func (x *loan) session(ctx context.Context, v labfile.Values, waiting func(string)) (o wd.Opened, capabilities any, err error) {
	l := x.lab
	v.Secret, v.Own = l.end.Secrets, l.Own
	wanted, err := l.asks(v.Page != "" || x.wants.Platform == devices.Web).Make(v)
	if err != nil {
		return o, nil, err
	}
	told := ""
	for try := 0; ; try++ {
		var answer any
		answer, err = l.end.Command(ctx, http.MethodPost, "/session", map[string]any{"capabilities": json.RawMessage(wanted)}, l.Lab.Session.Within)
		if err == nil {
			m, _ := answer.(map[string]any)
			id, _ := m["sessionId"].(string)
			if id == "" || len(id) > 200 || strings.ContainsAny(id, "/?# ") {
				return o, nil, &wd.Garbage{What: "it says of no session that was opened"}
			}
			return wd.Opened{ID: id, Scale: 1}, m["capabilities"], nil
		}
		full := l.busy(err)
		var said *wd.Answered
		passing := !errors.As(err, &said) || said.Status >= 500 && said.Code != string(w3c.SessionNotCreated)
		if ctx.Err() != nil || !full && (!passing || try >= otherTries) {
			return o, nil, err
		}
		if text := err.Error(); text != told {
			waiting(text)
			told = text
		}
		if phone.Pause(ctx, min(askAgain<<min(try, 10), askAtMost)) != nil {
			return o, nil, err
		}
	}
}

// other says which device came where it is not the one that was asked for; "": it is, as far as the lab says.
func (x *loan) other(capabilities any) string {
	t := x.lab.Lab.Session.Told
	for _, p := range []struct{ at, what, want string }{{t.Device, "device", x.wants.ID}, {t.Model, "model", x.wants.Model}, {t.OS, "system", x.wants.OS}} {
		if p.at == "" {
			continue
		}
		v, there := labfile.At(capabilities, p.at)
		if got := fmt.Sprint(v); there && !same(p.what, got, p.want) {
			return fmt.Sprintf("the %s %s instead of %s", p.what, foreign.Name(got, 60), p.want)
		}
	}
	return ""
}

// same says whether a lab says what was asked for. A system may be told more exactly: 14.1 for 14.
func same(what, got, want string) bool {
	return strings.EqualFold(got, want) || what == "system" && strings.HasPrefix(got, want+".")
}

// scale finds how many pixels of a picture stand for one unit of the session's coordinates: a picture is held against the screen's size.
func (x *loan) scale(ctx context.Context, session string) (float64, error) {
	shot, err := x.lab.end.Command(ctx, http.MethodGet, "/session/"+session+"/screenshot", nil, time.Minute)
	if err != nil {
		return 0, err
	}
	raw, err := wd.Picture(shot)
	if err != nil {
		return 0, err
	}
	size, err := png.DecodeConfig(bytes.NewReader(raw))
	if err != nil {
		return 0, err
	}
	rect, err := x.lab.end.Command(ctx, http.MethodGet, "/session/"+session+"/window/rect", nil, time.Minute)
	if err != nil {
		var said *wd.Answered
		if errors.As(err, &said) && said.Code != string(w3c.InvalidSessionID) {
			return 1, nil // it does not say: the picture's pixels are taken for them
		}
		return 0, err
	}
	m, _ := rect.(map[string]any)
	width, _ := m["width"].(float64)
	if width < 1 {
		return 1, nil
	}
	return float64(size.Width) / width, nil
}

// anew closes the session and opens another on the same device.
func (x *loan) anew(ctx context.Context) (wd.Opened, error) {
	ctx, cancel := context.WithTimeout(ctx, x.lab.Lab.Session.Within)
	defer cancel()
	x.close(ctx)
	given, err := x.open(ctx, func(string) {})
	if err != nil {
		return wd.Opened{}, err
	}
	if x.want.Again != nil {
		x.want.Again(given)
	}
	return x.device.Now(), nil
}

// close ends the session that is open. The lab is asked again later where it can't be told now.
func (x *loan) close(ctx context.Context) error {
	x.mu.Lock()
	ref, since := x.given.Ref, x.since
	x.since = time.Time{}
	x.mu.Unlock()
	if since.IsZero() {
		return nil
	}
	x.lab.ledger.spend(time.Since(since))
	return x.lab.quit(ctx, ref)
}

// quit ends a session.
func (l *Lab) quit(ctx context.Context, session string) error {
	_, err := l.end.Command(ctx, http.MethodDelete, "/session/"+session, nil, endTakes)
	var said *wd.Answered
	if errors.As(err, &said) && said.Code == string(w3c.InvalidSessionID) { // it is over
		err = nil
	}
	if err != nil {
		l.ledger.owe(session)
		return err
	}
	return nil
}

// End implements lab.Loan.
func (x *loan) End(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, endTakes)
	defer cancel()
	err := x.close(ctx)
	l := x.lab
	l.mu.Lock()
	if l.lent[x.wants.ID] == x {
		delete(l.lent, x.wants.ID)
	}
	l.mu.Unlock()
	x.mu.Lock()
	placed := x.placed
	x.placed = false
	x.mu.Unlock()
	if placed {
		l.places.free()
	}
	l.hurry()
	return err
}

// Reclaim implements lab.Lender.
func (l *Lab) Reclaim(ctx context.Context, _, ref string) error { return l.quit(ctx, ref) }

// settle ends sessions that could not be ended before.
func (l *Lab) settle(ctx context.Context) {
	for _, session := range l.ledger.owing() {
		ctx, cancel := context.WithTimeout(ctx, endTakes)
		err := l.quit(ctx, session)
		cancel()
		if err != nil {
			return // the lab can't be told now, either
		}
		l.ledger.paid(session)
	}
}

// upload is one build on its way: who wants it at the same time waits for it.
type upload struct {
	mu sync.Mutex
}

// upload brings a build to the lab once, and gives the lab's reference. Cached says that the lab had it from before.
func (l *Lab) upload(ctx context.Context, app phone.App, sha string, v labfile.Values) (ref string, cached bool, err error) {
	if sha == "" { // not the work's own: it is not known again
		ref, err = l.end.Upload(ctx, l.Lab.Build, v, app.Open)
		return ref, false, err
	}
	one, _ := l.uploads.LoadOrStore(sha, &upload{})
	u := one.(*upload)
	u.mu.Lock()
	defer u.mu.Unlock()
	if ref = l.ledger.ref(sha); ref != "" {
		return ref, true, nil
	}
	if ref, err = l.end.Upload(ctx, l.Lab.Build, v, app.Open); err != nil {
		return "", false, err
	}
	l.ledger.keep(sha, ref)
	return ref, false, nil
}

// forget says that the lab does not know a build any more.
func (l *Lab) forget(sha string) { l.ledger.keep(sha, "") }
