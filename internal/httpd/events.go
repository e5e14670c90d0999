package httpd

// Live events, as server-sent events (HTML standard, section 9.2).

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"tessellant/api"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

const (
	eventsBeat = 15 * time.Second // between signs of life
	// A stream ends after a while, and the client comes back: so a key or a sign-in that is over is noticed.
	eventsLast = 10 * time.Minute
)

func (s *server) GetEvents(ctx context.Context, q api.GetEventsRequestObject) (api.GetEventsResponseObject, error) {
	e := eventStream{ctx: ctx, s: s, leg: text(q.Params.Leg), place: text(q.Params.LastEventID)}
	if e.place == "" {
		e.place = text(q.Params.Since)
	}
	if e.leg != "" {
		if _, err := s.s.Leg(ctx, identity(ctx), e.leg); err != nil {
			return nil, err
		}
	}
	return e, nil
}

type eventStream struct {
	ctx        context.Context
	s          *server
	leg, place string
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
	place, hello := e.place, "retry: 1000\nevent: hello\ndata: {}\n\n"
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
			if err := send(fmt.Sprintf("id: %s\nevent: %s\ndata: %s\n\n", c.ID, c.Kind, c.Encoded(encodeChange))); err != nil {
				return nil
			}
		}
		select {
		case <-news:
		case <-beat.C:
			if err := send(": still here\n\n"); err != nil {
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
func encodeChange(c service.Change) []byte {
	var v any
	switch x := c.Value.(type) {
	case service.RunView:
		o := api.RunChange{Run: runOut(x)}
		o.Legs, o.Run.Legs = o.Run.Legs, []api.LegSummary{}
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
