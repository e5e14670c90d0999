package httpd

// Live events, as server-sent events (HTML standard, section 9.2).

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"tessellant/api"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

const (
	eventsBeat = 15 * time.Second // between signs of life
	// A stream ends after a while, and the client comes back: so does one whose way is gone without a word.
	eventsLast = 10 * time.Minute
)

func (s *server) GetEvents(ctx context.Context, q api.GetEventsRequestObject) (api.GetEventsResponseObject, error) {
	e := eventStream{ctx: ctx, s: s, leg: text(q.Params.Leg), place: text(q.Params.LastEventID)}
	if e.place == "" {
		e.place = text(q.Params.Since)
	}
	if q.Params.List != nil {
		e.lists = *q.Params.List
		for _, l := range e.lists {
			if !l.Valid() {
				return nil, refuse.New(refuse.Invalid, "follow events", "give some of: runs, sessions, devices, builds, packages", "there is no list %.100q", l)
			}
		}
	}
	if e.run = text(q.Params.Run); e.run != "" {
		if _, err := s.s.Run(ctx, identity(ctx), e.run); err != nil {
			return nil, err
		}
	}
	if e.leg != "" {
		if _, err := s.s.Leg(ctx, identity(ctx), e.leg); err != nil {
			return nil, err
		}
	}
	return e, nil
}

type eventStream struct {
	ctx      context.Context
	s        *server
	leg, run string
	lists    []api.GetEventsParamsList
	place    string
}

// wants says whether a change is one that was asked for; brief: only as it stands in a list.
func (e eventStream) wants(c service.Change) (wanted, brief bool) {
	if (e.run == "" && len(e.lists) == 0) || c.Kind == "timeline" || c.Kind == "screen" {
		return true, false
	}
	switch v := c.Value.(type) {
	case service.RunView:
		if v.ID == e.run {
			return true, false
		}
		return slices.Contains(e.lists, api.Runs), true
	case service.SessionView:
		return v.ID == e.leg || slices.Contains(e.lists, api.Sessions), false
	case []store.Device:
		return slices.Contains(e.lists, api.Devices), false
	case store.Build:
		return slices.Contains(e.lists, api.Builds), false
	case store.Package:
		return slices.Contains(e.lists, api.Packages), false
	}
	return true, false
}

func (e eventStream) VisitGetEventsResponse(w http.ResponseWriter) error {
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no") // a proxy in between must not wait for more
	rc := http.NewResponseController(w)
	send := func(text string) error {
		_ = rc.SetWriteDeadline(time.Now().Add(idleWrite))
		if _, err := w.Write([]byte(text)); err != nil {
			return err
		}
		return rc.Flush()
	}
	feed, workspace := e.s.s.Feed, identity(e.ctx).WorkspaceID
	said, err := json.Marshal(api.Hello{At: time.Now().UTC(), Version: e.s.s.Version})
	if err != nil {
		return err
	}
	place, hello := e.place, "retry: 1000\nevent: hello\ndata: "+string(said)+"\n\n"
	if place == "" {
		place = feed.Here()
		hello = "id: " + place + "\n" + hello
	}
	if err := send(hello); err != nil {
		return nil
	}
	beat := time.NewTicker(eventsBeat)
	defer beat.Stop()
	end := time.NewTimer(eventsLast)
	defer end.Stop()
	for {
		changes, now, news, ok := feed.After(place, workspace, e.leg)
		if !ok {
			if err := send("id: " + now + "\nevent: again\ndata: {}\n\n"); err != nil {
				return nil
			}
		}
		place = now
		for _, c := range changes {
			wanted, brief := e.wants(c)
			if !wanted {
				continue
			}
			if err := send(fmt.Sprintf("id: %s\nevent: %s\ndata: %s\n\n", c.ID, c.Kind, c.Encoded(brief, encodeChange))); err != nil {
				return nil
			}
		}
		select {
		case <-news:
		case <-beat.C:
			if err := send("id: " + place + "\nevent: here\ndata: {}\n\n"); err != nil {
				return nil
			}
		case <-end.C:
			return nil
		case <-e.ctx.Done():
			return nil
		case <-feed.Ended():
			return nil
		}
	}
}

// encodeChange writes a change as the contract says.
func encodeChange(c service.Change, brief bool) []byte {
	var v any
	switch x := c.Value.(type) {
	case service.RunView:
		if brief {
			x.Legs, x.CaseNames = nil, nil
		}
		o := api.RunChange{Run: runOut(x)}
		if !brief {
			legs := o.Run.Legs
			o.Legs = &legs
		}
		o.Run.Legs = []api.LegSummary{}
		v = o
	case service.SessionView:
		v = sessionOut(x)
	case []store.Device:
		v = api.DeviceChange{Items: each(x, deviceOut)}
	case store.Build:
		v = buildOut(x)
	case store.Package:
		v = packageOut(x)
	case service.AttemptEvents:
		v = api.TimelineChange{Leg: x.Leg, Attempt: x.Attempt, Events: x.Events}
	case service.AttemptScreen:
		v = api.ScreenChange{Leg: x.Leg, Attempt: x.Attempt, At: x.At}
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return []byte("{}") // our own types can be written
	}
	return raw
}
