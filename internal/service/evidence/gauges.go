package evidence

// The gauges of an attempt, as series: whole when it has ended, and as far as they have come while it goes on.

import (
	"context"
	"io"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/tracks"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// GaugesChoice says which part of the gauges is wanted: From and To in ms (To 0: to the end), in about so many Points at most.
type GaugesChoice struct {
	From, To int64
	Points   int
}

// GaugesView is what was read.
type GaugesView struct {
	Attempt int // 0: there is none yet
	Live    bool
	At      []int64 // ms on the attempt's clock
	Series  []gauges.Series
	Said    []gauges.Summary // of each series, before it was thinned
}

// Gauges reads the gauges of an attempt of a leg; attempt 0: of the last one. Where none were kept there are no series.
func (s *Evidence) Gauges(ctx context.Context, who store.Identity, leg string, attempt int, c GaugesChoice) (v GaugesView, err error) {
	if c.From < 0 || c.To < 0 || c.To > 0 && c.To < c.From {
		return v, refuse.New(refuse.Invalid, "read the gauges", "give from and to in ms, from first", "there is nothing from %d to %d ms", c.From, c.To)
	}
	a, l, err := s.attempt(ctx, who, leg, attempt)
	if err != nil || a == nil {
		return GaugesView{Live: l.Stage != "done"}, err
	}
	v.Attempt, v.Live = a.Number, !a.Ended.Valid
	r, err := s.track(ctx, store.Hold{WorkspaceID: l.WorkspaceID, AttemptID: a.ID}, a.Artifacts, tracks.Gauges)
	if err != nil || r == nil {
		return v, err
	}
	defer r.Close()
	if v.At, v.Series, err = gauges.Collect(r, c.From, c.To); err != nil {
		return v, err
	}
	for _, x := range v.Series {
		v.Said = append(v.Said, x.Summary())
	}
	v.At, v.Series = gauges.Thin(v.At, v.Series, c.Points)
	return v, nil
}

// track opens a track: whole, or what has come of it so far; nil: nothing has.
func (s *Evidence) track(ctx context.Context, h store.Hold, whole []store.Artifact, name string) (io.ReadCloser, error) {
	for _, f := range whole {
		if f.Name == name {
			return s.Open(ctx, f, 0, -1)
		}
	}
	parts, err := s.Blobs.List(ctx, partsOf(h, name))
	if err != nil || len(parts) == 0 {
		return nil, err
	}
	return io.NopCloser(s.joined(ctx, parts)), nil
}
