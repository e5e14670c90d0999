package runs

// A leg with its attempts, their cases and their artifacts.

import (
	"context"
	"slices"
	"strings"

	"tessellant/internal/core/work"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/sessions"
	"tessellant/internal/store"
)

// LegDetail is a leg with all that is known of it.
type LegDetail struct {
	store.Work
	Run      store.Run
	Session  *sessions.SessionView // where it is one, and no run's
	Device   store.Device          // without a serial: there is none yet
	Place    int                   // of one that waits: in the queue for its device, from 1
	Attempts []AttemptDetail
}

// AttemptDetail is an attempt with its cases and artifacts.
type AttemptDetail struct {
	store.Attempt
	Cases     []store.Case
	Artifacts []store.Artifact
}

// Leg finds a leg by its id, or by its run and device: newest/orr-01, and where there are variants newest/orr-01/de. A session's id gives what was gathered of it.
func (s *Runs) Leg(ctx context.Context, who store.Identity, id string) (l LegDetail, err error) {
	if run, rest, ok := strings.Cut(id, "/"); ok {
		v, err := s.Run(ctx, who, run)
		if err != nil {
			return l, err
		}
		serial, variant, _ := strings.Cut(rest, "/")
		for _, leg := range slices.Backward(v.Legs) { // the first counts
			if leg.Serial == serial && (variant == "" || leg.Variant == variant) {
				id = leg.ID
			}
		}
	}
	if l.Work, err = s.Store.WorkByID(ctx, who.WorkspaceID, id); err != nil {
		return l, refuse.Missing(err, "leg", id, "see the legs of a run with: tessellant run show RUN")
	}
	if l.Kind == work.Session {
		x, err := s.Sessions.Session(ctx, who, id)
		if err != nil {
			return l, err
		}
		l.Session = &x
	} else if l.Run, err = s.Store.RunByID(ctx, who.WorkspaceID, l.RunID); err != nil {
		return l, err
	}
	if l.DeviceID != "" {
		if l.Device, err = s.Store.DeviceByID(ctx, l.DeviceID); err != nil {
			return l, err
		}
	}
	if l.Place, err = s.Queue.Place(ctx, l.Work); err != nil {
		return l, err
	}
	attempts, err := s.Store.Attempts(ctx, id)
	if err != nil {
		return l, err
	}
	for _, a := range attempts {
		d := AttemptDetail{Attempt: a}
		if d.Cases, err = s.Store.Cases(ctx, a.ID); err != nil {
			return l, err
		}
		if d.Artifacts, err = s.Store.Artifacts(ctx, a.ID); err != nil {
			return l, err
		}
		l.Attempts = append(l.Attempts, d)
		if l.Stage == "done" && l.CasesTotal < len(d.Cases) { // of a program or a session: those that were seen
			l.CasesTotal = len(d.Cases)
		}
	}
	return l, nil
}
