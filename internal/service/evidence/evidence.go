// Package evidence is what was gathered: taken in from hosts, whole or in parts (intake.go), and read: timelines, device logs in windows, files, reports.
package evidence

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/blobs"
	"tessellant/internal/core/timeline"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/runs"
	"tessellant/internal/service/sessions"
	"tessellant/internal/store"
)

// Evidence is that room.
type Evidence struct {
	Store    *store.Store
	Blobs    *blobs.Store
	Log      *slog.Logger
	Feed     *feed.Feed
	Runs     *runs.Runs
	Sessions *sessions.Sessions
	// MostBytes and MostPieces bound what a host may hand in of one attempt; 0: mostBytes and mostPieces.
	MostBytes  int64
	MostPieces int

	logs     shelf[*shelved]
	networks shelf[*networkLog]

	once  sync.Once
	fresh chan store.Hold // legs that have ended
}

// attempt finds an attempt of a leg by its number; 0: the last one. Without any it answers nil.
func (s *Evidence) attempt(ctx context.Context, who store.Identity, leg string, number int) (*runs.AttemptDetail, runs.LegDetail, error) {
	l, err := s.Runs.Leg(ctx, who, leg)
	if err != nil {
		return nil, l, err
	}
	if number == 0 && len(l.Attempts) == 0 {
		return nil, l, nil
	}
	if number == 0 {
		number = len(l.Attempts)
	}
	for i := range l.Attempts {
		if l.Attempts[i].Number == number {
			return &l.Attempts[i], l, nil
		}
	}
	return nil, l, refuse.New(refuse.NotFound, "find the attempt", "see the attempts with: tessellant leg show "+leg, "the leg has no attempt %d", number)
}

func artifact(a *runs.AttemptDetail, kind string) *store.Artifact {
	for i := range a.Artifacts {
		if a.Artifacts[i].Kind == kind {
			return &a.Artifacts[i]
		}
	}
	return nil
}

// TimelineView is what happened in an attempt.
type TimelineView struct {
	Attempt int  // 0: there is none yet
	Live    bool // it goes on
	Events  []timeline.Event
	Next    string // where the next window begins; "": this is the last

	bytes int // of the events
}

const (
	windowEvents = 20_000  // of a timeline, in one window
	windowBytes  = 4 << 20 // the same, in bytes
)

// mostWindows is how many windows of a timeline are read where all of it is wanted: more than one may have.
const mostWindows = 40

// WholeTimeline gives all that happened in the last attempt of a leg, so far.
func (s *Evidence) WholeTimeline(ctx context.Context, who store.Identity, leg string) (events []timeline.Event, err error) {
	place := ""
	for range mostWindows {
		v, err := s.Timeline(ctx, who, leg, 0, place)
		if err != nil {
			return nil, err
		}
		events = append(events, v.Events...)
		if place = v.Next; place == "" {
			break
		}
	}
	return events, nil
}

// Timeline gives a window of what happened in an attempt of a leg, so far; attempt 0: in the last one. Place is where the window begins, as the one before said; "": at the beginning.
func (s *Evidence) Timeline(ctx context.Context, who store.Identity, leg string, attempt int, place string) (v TimelineView, err error) {
	from, badPlace := int64(0), error(nil)
	if place != "" {
		if from, badPlace = strconv.ParseInt(place, 10, 64); badPlace != nil || from < 0 {
			return v, refuse.New(refuse.Invalid, "read the timeline", "set from to the next of the window before", "%.100q is no place in a timeline", place)
		}
	}
	a, l, err := s.attempt(ctx, who, leg, attempt)
	if err != nil {
		return v, err
	}
	if a == nil {
		return TimelineView{Live: l.Stage != "done"}, nil
	}
	v.Attempt = a.Number
	if !a.Ended.Valid {
		v.Live = true
		err = s.eventsSoFar(ctx, l, a.ID, from, &v)
		return v, err
	}
	f := artifact(a, "timeline")
	if f == nil {
		return v, nil
	}
	if from > f.Size {
		return v, refuse.New(refuse.Invalid, "read the timeline", "set from to the next of the window before", "the timeline ends before %d", from)
	}
	r, err := s.Open(ctx, *f, from, -1)
	if err != nil {
		return v, err
	}
	defer r.Close()
	err = timeline.ReadFrom(r, func(e timeline.Event, upTo int64) error { return v.add(e, from+upTo < f.Size, from+upTo) })
	return v, err
}

// add puts an event into the window; with the last that fits it says where the next one begins, if there is more.
func (v *TimelineView) add(e timeline.Event, more bool, next int64) error {
	v.Events = append(v.Events, e)
	v.bytes += e.Bytes()
	if more && (len(v.Events) >= windowEvents || v.bytes >= windowBytes) {
		v.Next = strconv.FormatInt(next, 10)
		return timeline.ErrEnough
	}
	return nil
}

// eventsSoFar gives the events of an attempt that goes on, behind the number from: what this process was told, and before that what was
// handed in to the one before it.
func (s *Evidence) eventsSoFar(ctx context.Context, l runs.LegDetail, attempt string, from int64, v *TimelineView) error {
	told, _, _ := s.Feed.Now(attempt)
	first := int64(1 << 62)
	if len(told) > 0 {
		first = int64(told[0].Seq)
	}
	if first > from+1 { // what comes before was handed in, in parts
		parts, err := s.Blobs.List(ctx, partsOf(store.Hold{WorkspaceID: l.WorkspaceID, AttemptID: attempt}, "timeline.jsonl"))
		if err != nil {
			return err
		}
		if err := timeline.Read(s.joined(ctx, parts), func(e timeline.Event) error {
			if n := int64(e.Seq); n > from && n < first {
				return v.add(e, true, n)
			}
			return nil
		}); err != nil || v.Next != "" {
			return err
		}
	}
	for i, e := range told {
		if int64(e.Seq) > from && v.add(e, i+1 < len(told), int64(e.Seq)) != nil {
			break
		}
	}
	return nil
}

// Screen gives the newest picture of a leg that runs, as JPEG.
func (s *Evidence) Screen(ctx context.Context, who store.Identity, leg string) ([]byte, error) {
	a, _, err := s.attempt(ctx, who, leg, 0)
	if err != nil {
		return nil, err
	}
	if a != nil {
		if _, frame, _ := s.Feed.Now(a.ID); frame != nil {
			return frame, nil
		}
	}
	return nil, refuse.New(refuse.NotFound, "show the screen", "watch its video after it has ended", "the leg is not running, or there is no picture yet")
}

// Pack is a zip that is written while it is sent. Of each file it remembers the SHA-256.
type Pack struct {
	s    *Evidence
	z    *zip.Writer
	sums []string
}

// Pack begins a zip.
func (s *Evidence) Pack(w io.Writer) *Pack { return &Pack{s: s, z: zip.NewWriter(w)} }

// Put writes a file that is at hand.
func (p *Pack) Put(name string, at time.Time, raw []byte) error {
	out, err := p.z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: at})
	if err != nil {
		return err
	}
	sum := sha256.Sum256(raw)
	p.sums = append(p.sums, fmt.Sprintf("%x  %s\n", sum, name))
	_, err = out.Write(raw)
	return err
}

// Leg writes all files of a leg into a folder ("": the top): about as leg.json, the last attempt's files beside it, earlier ones' in attempt-N/.
func (p *Pack) Leg(ctx context.Context, l runs.LegDetail, about []byte, folder string) error {
	if folder != "" {
		folder += "/"
	}
	if err := p.Put(folder+"leg.json", l.Created, about); err != nil {
		return err
	}
	for i, a := range l.Attempts {
		dir := folder
		if i < len(l.Attempts)-1 {
			dir += fmt.Sprintf("attempt-%d/", a.Number)
		}
		for _, f := range a.Artifacts {
			if err := p.artifact(ctx, dir+f.Name, f, a.Started); err != nil {
				return err
			}
		}
	}
	return nil
}

func (p *Pack) artifact(ctx context.Context, name string, f store.Artifact, at time.Time) error {
	h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: at}
	if f.Kind == "video" || f.Kind == "screenshot" {
		h.Method = zip.Store // they are packed already
	}
	out, err := p.z.CreateHeader(h)
	if err != nil {
		return err
	}
	r, err := p.s.Open(ctx, f, 0, -1)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, r)
	p.sums = append(p.sums, f.SHA256+"  "+name+"\n")
	return errors.Join(err, r.Close())
}

// Sums is the name of the list of all files of a zip with their SHA-256, as sha256sum(1) reads it.
const Sums = "SHA256SUMS"

// Close writes the list of the files, and ends the zip.
func (p *Pack) Close() error {
	out, err := p.z.Create(Sums)
	if err == nil {
		_, err = io.WriteString(out, strings.Join(p.sums, ""))
	}
	return errors.Join(err, p.z.Close())
}

// Artifact finds an artifact; Open reads it.
func (s *Evidence) Artifact(ctx context.Context, who store.Identity, id string) (store.Artifact, error) {
	a, err := s.Store.ArtifactByID(ctx, who.WorkspaceID, id)
	return a, refuse.Missing(err, "artifact", id, "see the artifacts of a leg with: tessellant leg show LEG")
}

// Open reads length bytes of an artifact from offset on; length -1: to its end.
func (s *Evidence) Open(ctx context.Context, a store.Artifact, offset, length int64) (io.ReadCloser, error) {
	return s.Blobs.Read(ctx, a.BlobKey, offset, length)
}
