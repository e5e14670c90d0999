// Package shares gives links to runs, or to one leg, to people who have no key: they run out, can be withdrawn, and show nothing else of the workspace.
package shares

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"log/slog"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/report"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/reports"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// Shares is that room.
type Shares struct {
	Store   *store.Store
	Log     *slog.Logger
	Runs    *runs.Runs
	Reports *reports.Reports
}

// What a share may leave out.
const (
	Logs    = "logs"
	Network = "network"
)

const (
	title      = "share the run"
	maxLasts   = 90 * 24 * time.Hour
	usualLasts = 7 * 24 * time.Hour
	maxShares  = 200 // of a run
)

// Request asks for a share.
type Request struct {
	Leg     string        // an id, or run/serial; "": the whole run
	Lasts   time.Duration // 0: a week
	Without []string
}

// tokenForm is what stands in a link.
var tokenForm = regexp.MustCompile(`^[A-Z2-7]{26}$`)

func hashOf(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// AddShare makes a share; its token stands in the link and is told only now.
func (s *Shares) AddShare(ctx context.Context, who store.Identity, run string, q Request) (x store.Share, token string, err error) {
	r, err := s.Runs.FindRun(ctx, who, run)
	if err != nil {
		return x, "", err
	}
	if q.Lasts == 0 {
		q.Lasts = usualLasts
	}
	if q.Lasts < time.Minute || q.Lasts > maxLasts {
		return x, "", refuse.New(refuse.Invalid, title, "choose a minute to 90 days", "a share can't last %s", q.Lasts)
	}
	for _, w := range q.Without {
		if w != Logs && w != Network {
			return x, "", refuse.New(refuse.Invalid, title, "choose from logs, network", "there is no %.50q to leave out", w)
		}
	}
	leg := ""
	if q.Leg != "" {
		l, err := s.Runs.Leg(ctx, who, q.Leg)
		if err != nil {
			return x, "", err
		}
		if l.RunID != r.ID {
			return x, "", refuse.New(refuse.Invalid, title, "name one of its own legs", "the leg %s belongs to another run", l.ID)
		}
		leg = l.ID
	}
	have, err := s.Store.Shares(ctx, who.WorkspaceID, r.ID)
	if err != nil {
		return x, "", err
	}
	if len(have) >= maxShares {
		return x, "", refuse.New(refuse.Refused, title, "use one that is there", "run %d was shared %d times already", r.Number, len(have))
	}
	without := slices.Compact(slices.Sorted(slices.Values(q.Without)))
	now := time.Now().UTC().Truncate(time.Millisecond)
	token = rand.Text()
	x = store.Share{ID: store.NewID(), Hash: hashOf(token), WorkspaceID: who.WorkspaceID, RunID: r.ID, WorkID: leg, Without: strings.Join(without, ","), Expires: now.Add(q.Lasts), MadeBy: who.KeyName, Created: now}
	if err := s.Store.AddShare(ctx, x); err != nil {
		return x, "", err
	}
	s.Log.Info("a run is shared", "run", r.ID, "leg", leg, "share", x.ID, "until", x.Expires, "by", who.KeyName)
	return x, token, nil
}

// ListShares lists the shares of a run.
func (s *Shares) ListShares(ctx context.Context, who store.Identity, run string) ([]store.Share, error) {
	r, err := s.Runs.FindRun(ctx, who, run)
	if err != nil {
		return nil, err
	}
	return s.Store.Shares(ctx, who.WorkspaceID, r.ID)
}

// RemoveShare withdraws a share: its link ends at once.
func (s *Shares) RemoveShare(ctx context.Context, who store.Identity, id string) error {
	x, err := s.Store.ShareByID(ctx, who.WorkspaceID, id)
	if err != nil {
		return refuse.Missing(err, "share", id, "see the shares of a run with: tessellant run shares RUN")
	}
	s.Log.Info("a share is withdrawn", "share", x.ID, "by", who.KeyName)
	return s.Store.WithdrawShare(ctx, x.ID)
}

// errNone is the same for what never was, ran out, was withdrawn, or is not of the share.
var errNone = refuse.New(refuse.NotFound, "open the link", "ask who gave it to you for a new one", "this link is not known, has run out, or was withdrawn")

// OpenShare finds the share of a link.
func (s *Shares) OpenShare(ctx context.Context, token string) (store.Share, error) {
	if !tokenForm.MatchString(token) {
		return store.Share{}, errNone
	}
	x, err := s.Store.ShareByHash(ctx, hashOf(token))
	if errors.Is(err, store.ErrNotFound) {
		return x, errNone
	}
	return x, err
}

// as is who a share's visitor is: nobody, in its workspace.
func as(x store.Share) store.Identity { return store.Identity{WorkspaceID: x.WorkspaceID} }

// SharedRun gathers the page of a shared run, and counts that it was opened.
func (s *Shares) SharedRun(ctx context.Context, x store.Share) (p report.Page, err error) {
	if x.WorkID != "" {
		return p, errNone
	}
	if p, err = s.Reports.Page(ctx, as(x), []string{x.RunID}); err != nil {
		return p, err
	}
	p.Shared = true
	for i := range p.Runs {
		p.Runs[i].By = ""
		for j := range p.Runs[i].Legs {
			l := &p.Runs[i].Legs[j]
			l.Link = "legs/" + l.ID
		}
	}
	return p, s.Store.SawShare(ctx, x.ID)
}

// SharedLeg gathers the page of a shared leg. Of a share of one leg, it counts that it was opened.
func (s *Shares) SharedLeg(ctx context.Context, x store.Share, id string) (p report.LegPage, err error) {
	if x.WorkID != "" && id != x.WorkID {
		return p, errNone
	}
	l, err := s.Runs.Leg(ctx, as(x), id)
	if err != nil || l.RunID != x.RunID {
		return p, errNone
	}
	p = report.LegPage{Device: strings.TrimSuffix(l.Device.Serial+"/"+l.Variant, "/"), Model: strings.TrimSpace(l.Device.Facts.V.Maker + " " + l.Device.Facts.V.Model), System: l.Device.Facts.V.System(), Simulated: l.Device.Facts.V.Simulated, Verdict: l.Verdict, Message: l.Message,
		Build: l.Run.Request.V.BuildFor(l.Device.Facts.V.Platform), Package: l.Run.Request.V.Package, Whole: x.WorkID == ""}
	if len(l.Attempts) > 0 {
		a := l.Attempts[len(l.Attempts)-1]
		files := map[string]string{}
		for _, f := range a.Artifacts {
			if !shown(x, f) {
				continue
			}
			files[f.Name] = f.ID
			switch f.Kind {
			case "video":
				p.Video = f.ID
			case "screenshot":
				p.Shots = append(p.Shots, report.SharedFile{ID: f.ID, Name: f.Name, Size: f.Size})
			default:
				p.Files = append(p.Files, report.SharedFile{ID: f.ID, Name: f.Name, Size: f.Size})
			}
		}
		for _, c := range a.Cases {
			p.Cases = append(p.Cases, report.SharedCase{Name: c.Name, Verdict: c.Verdict, Message: c.Message, Expected: c.Expected, Actual: c.Actual, Place: c.Line, Shot: files[c.Shot], Took: time.Duration(c.TookMS) * time.Millisecond})
		}
	}
	if x.WorkID != "" {
		err = s.Store.SawShare(ctx, x.ID)
	} else {
		err = nil
	}
	return p, err
}

// shown says whether a share shows a file: pictures always; logs and what servers were asked, unless they are left out; else nothing, as inputs may stand in it.
func shown(x store.Share, f store.Artifact) bool {
	switch f.Kind {
	case "video", "screenshot", "gauges":
		return true
	case "device-log":
		return !x.Leaves(Logs)
	case "network":
		return !x.Leaves(Network)
	}
	return false
}

// SharedFile finds a file of a share.
func (s *Shares) SharedFile(ctx context.Context, x store.Share, id string) (store.Artifact, error) {
	f, err := s.Store.ArtifactByID(ctx, x.WorkspaceID, id)
	if err != nil {
		return f, errNone
	}
	run, leg, err := s.Store.WhoseAttempt(ctx, f.AttemptID)
	if err != nil || run != x.RunID || x.WorkID != "" && leg != x.WorkID || !shown(x, f) {
		return f, errNone
	}
	return f, nil
}
