package httpd

// Devices that people hold. What was gathered of a hold is asked for as of a leg.

import (
	"bytes"
	"context"
	"encoding/base64"
	"time"

	"tessellant/api"
	"tessellant/internal/core/locators"
	"tessellant/internal/core/uitree"
	"tessellant/internal/hostlink"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

func (s *server) HoldDevice(ctx context.Context, q api.HoldDeviceRequestObject) (api.HoldDeviceResponseObject, error) {
	b := q.Body
	r := service.HoldRequest{Device: text(b.Device), Where: listed(b.Where), Build: text(b.Build), Name: text(b.Name), Helpers: listed(b.Helpers), For: service.UsualHold, IdempotencyKey: text(q.Params.IdempotencyKey)}
	if b.Seconds != nil {
		r.For = time.Duration(*b.Seconds) * time.Second
	}
	v, made, err := s.s.Hold(ctx, identity(ctx), r)
	if err == nil && !made {
		return api.HoldDevice200JSONResponse(holdOut(v)), nil
	}
	return api.HoldDevice201JSONResponse(holdOut(v)), err
}

func (s *server) ListHolds(ctx context.Context, q api.ListHoldsRequestObject) (api.ListHoldsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.Holds(ctx, identity(ctx), q.Params.Going != nil && *q.Params.Going, text(q.Params.Device), text(q.Params.After), limit)
	return api.ListHolds200JSONResponse{Items: each(rows, holdOut), Next: some(next)}, err
}

func (s *server) GetHold(ctx context.Context, q api.GetHoldRequestObject) (api.GetHoldResponseObject, error) {
	v, err := s.s.HoldByID(ctx, identity(ctx), q.Id)
	return api.GetHold200JSONResponse(holdOut(v)), err
}

func (s *server) ProlongHold(ctx context.Context, q api.ProlongHoldRequestObject) (api.ProlongHoldResponseObject, error) {
	v, err := s.s.Prolong(ctx, identity(ctx), q.Id, time.Duration(q.Body.Seconds)*time.Second)
	return api.ProlongHold200JSONResponse(holdOut(v)), err
}

func (s *server) EndHold(ctx context.Context, q api.EndHoldRequestObject) (api.EndHoldResponseObject, error) {
	v, err := s.s.GiveBack(ctx, identity(ctx), q.Id)
	return api.EndHold200JSONResponse(holdOut(v)), err
}

func (s *server) GetHeldTree(ctx context.Context, q api.GetHeldTreeRequestObject) (api.GetHeldTreeResponseObject, error) {
	if find := text(q.Params.Find); find != "" {
		if err := uitree.CheckLocator(find); err != nil {
			return nil, refuse.New(refuse.Invalid, "find elements", `such as #send, button[text="Send"] or //text`, "%v", err)
		}
	}
	v, x, err := s.s.HeldScreen(ctx, identity(ctx), q.Id)
	if err != nil {
		return nil, err
	}
	screen := x.Screen
	o := api.GetHeldTree200JSONResponse{Hold: v.ID, Serial: v.Serial, Xml: screen.XML(), Elements: []api.HeldElement{}}
	at := map[*uitree.Element]int{}
	var walk func(es []*uitree.Element, depth int)
	walk = func(es []*uitree.Element, depth int) {
		for _, e := range es {
			at[e] = len(o.Elements)
			o.Elements = append(o.Elements, heldElement(e, depth, x.Of(e)))
			walk(e.Children, depth+1)
		}
	}
	walk(screen.Elements, 0)
	if find := text(q.Params.Find); find != "" {
		found, err := screen.Find(find)
		if err != nil {
			return nil, refuse.New(refuse.Invalid, "find elements", "make it more direct", "%v", err)
		}
		list := []int{}
		for _, e := range found {
			list = append(list, at[e])
		}
		o.Found = &list
	}
	return o, nil
}

func heldElement(e *uitree.Element, depth int, of []locators.Locator) api.HeldElement {
	o := api.HeldElement{Kind: e.Kind, Depth: depth, Id: some(e.ID), Text: some(e.Text), Label: some(e.Label), Value: some(e.Value), Hint: some(e.Hint), Class: some(e.Class), Enabled: e.Enabled,
		Bounds:   api.Region{Left: e.Bounds.Left, Top: e.Bounds.Top, Right: e.Bounds.Right, Bottom: e.Bounds.Bottom},
		Password: someTrue(e.Password), Checked: someTrue(e.Checked), Focused: someTrue(e.Focused), Selected: someTrue(e.Selected), Scrollable: someTrue(e.Scrollable), Clickable: someTrue(e.Clickable)}
	o.Locators = each(of, func(l locators.Locator) api.Locator {
		return api.Locator{By: api.LocatorBy(l.By), Css: l.CSS, Here: l.Here, Fickle: someTrue(l.Fickle)}
	})
	return o
}

func holdOut(v service.SessionView) api.Hold {
	s := sessionOut(v)
	o := api.Hold{Id: s.Id, Name: s.Name, By: v.AskedName.String, Stage: api.HoldStage(s.Stage), Verdict: s.Verdict, Message: s.Message, How: s.How, Build: s.Build, Where: s.Where, Place: s.Place, Device: s.Device, Stopping: s.Stopping,
		Created: s.Created, Started: s.Started, Ended: s.Ended, Seconds: int(s.LimitSeconds)}
	if v.HeldUntil.Valid && v.Stage != "done" {
		o.Until = &v.HeldUntil.Time
	}
	return o
}

func (s *server) GetElsewhere(ctx context.Context, q api.GetElsewhereRequestObject) (api.GetElsewhereResponseObject, error) {
	x, err := s.s.Elsewhere(ctx, identity(ctx), q.Id, q.Params.Css)
	o := api.GetElsewhere200JSONResponse{Devices: x.Devices, Trees: x.Trees, Locators: []api.Meant{}}
	for _, m := range x.Of {
		o.Locators = append(o.Locators, api.Meant{Css: m.CSS, Says: some(locators.Say(m.Counts)), Counts: each(m.Counts, func(c locators.Count) api.MeantOn { return api.MeantOn{Serial: c.Device, Count: c.N} })})
	}
	return o, err
}

// deed is what is to be done, as the host takes it.
func deed(b *api.Deed) (any, error) {
	given := map[string]any{}
	set := func(name string, v *string) {
		if v != nil {
			given[name] = *v
		}
	}
	switch b.Do {
	case api.DeedTap, api.DeedSwipe, api.DeedType:
		t := hostlink.Touch{Locator: text(b.Locator), X: number(b.X), Y: number(b.Y), ToX: number(b.ToX), ToY: number(b.ToY), Text: text(b.Text), Took: time.Duration(number(b.Ms)) * time.Millisecond}
		missing := map[bool]string{true: "x and y, or a locator"}[b.Do == api.DeedTap && t.Locator == "" && (b.X == nil || b.Y == nil)]
		switch {
		case b.Do == api.DeedSwipe && (t.Locator == "" && (b.X == nil || b.Y == nil) || b.ToX == nil || b.ToY == nil):
			missing = "x and y, or a locator, and to_x and to_y"
		case b.Do == api.DeedType && t.Text == "":
			missing = "a text"
		}
		if missing != "" {
			return nil, refuse.New(refuse.Invalid, string(b.Do)+" on the device", "give it", "it needs %s", missing)
		}
		if b.Do == api.DeedSwipe && t.Took == 0 {
			t.Took = 300 * time.Millisecond
		}
		if t.Locator != "" {
			if err := uitree.CheckLocator(t.Locator); err != nil {
				return nil, refuse.New(refuse.Invalid, "find the element", `such as #send, button[text="Send"] or //text`, "%v", err)
			}
		}
		return t, nil
	case api.DeedPress:
		set("key", b.Key)
	case api.DeedRotate:
		set("orientation", b.Orientation)
	case api.DeedSet:
		given["conditions"] = mapped(b.Conditions)
	case api.DeedInstall:
		set("build", b.Build)
	case api.DeedLaunch, api.DeedStop, api.DeedClear, api.DeedRemove:
		set("app", b.App)
	case api.DeedPut:
		set("path", b.Path)
		if b.Content != nil {
			given["content"] = base64.StdEncoding.EncodeToString(*b.Content)
		}
	case api.DeedKeep:
		set("name", b.Name)
	default:
		return nil, refuse.New(refuse.Invalid, "do it", "see the list in the API's description", "nothing is called %.50q that could be done", b.Do)
	}
	return given, nil
}

func number(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}

func (s *server) DoOnHeld(ctx context.Context, q api.DoOnHeldRequestObject) (api.DoOnHeldResponseObject, error) {
	with, err := deed(q.Body)
	if err != nil {
		return nil, err
	}
	return api.DoOnHeld204Response{}, s.s.DoOnHeld(ctx, identity(ctx), q.Id, string(q.Body.Do), with)
}

func (s *server) GetHeldApps(ctx context.Context, q api.GetHeldAppsRequestObject) (api.GetHeldAppsResponseObject, error) {
	all, err := s.s.HeldApps(ctx, identity(ctx), q.Id)
	return api.GetHeldApps200JSONResponse{Apps: each(all, func(a service.HeldApp) api.HeldApp { return api.HeldApp{App: a.App, Version: some(a.Version)} })}, err
}

func (s *server) GetHeldPicture(ctx context.Context, q api.GetHeldPictureRequestObject) (api.GetHeldPictureResponseObject, error) {
	png, err := s.s.HeldPicture(ctx, identity(ctx), q.Id)
	return api.GetHeldPicture200ImagepngResponse{Body: bytes.NewReader(png), ContentLength: int64(len(png))}, err
}

func standing(s hostlink.Standing) api.Standing {
	o := api.Standing{Paused: s.Paused, By: some(s.By), Why: some(s.Why), Line: some(s.Line), Last: some(s.Last), Waits: someTrue(s.Waits), Busy: someTrue(s.Busy)}
	if s.Paused {
		o.Seconds, o.Left = &s.Seconds, &s.Left
	}
	return o
}

func (s *server) GetTest(ctx context.Context, q api.GetTestRequestObject) (api.GetTestResponseObject, error) {
	st, err := s.s.TestStands(ctx, identity(ctx), q.Id)
	return api.GetTest200JSONResponse(standing(st)), err
}

func (s *server) PauseTest(ctx context.Context, q api.PauseTestRequestObject) (api.PauseTestResponseObject, error) {
	st, err := s.s.PauseTest(ctx, identity(ctx), q.Id, text(q.Body.Why), time.Duration(number(q.Body.Seconds))*time.Second)
	return api.PauseTest200JSONResponse(standing(st)), err
}

func (s *server) ResumeTest(ctx context.Context, q api.ResumeTestRequestObject) (api.ResumeTestResponseObject, error) {
	st, err := s.s.ResumeTest(ctx, identity(ctx), q.Id)
	return api.ResumeTest200JSONResponse(standing(st)), err
}

func (s *server) ListRoutes(ctx context.Context, q api.ListRoutesRequestObject) (api.ListRoutesResponseObject, error) {
	all, err := s.s.Routes(ctx, identity(ctx), q.Id)
	return api.ListRoutes200JSONResponse{Items: each(all, func(r hostlink.Routed) api.Routed { return api.Routed{At: r.At, By: r.By, Seconds: r.Seconds} })}, err
}
