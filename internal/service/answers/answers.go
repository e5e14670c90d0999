// Package answers is what runs say: families of failures, why they are on the devices on which they are, since when, in one sentence; and what people say of families.
//
// core/triage finds it; this room gives it what it needs and keeps what it finds. An answer of a run that is over is kept (find.go). It is found once:
// by whoever asks first, or by KeepTelling. With it each case's result is put where its history is read from (history.go). What people say of a family is a mark (marks.go).
package answers

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/guard"
	"tessellant/internal/service/chore"
	"tessellant/internal/service/feed"
	"tessellant/internal/store"
)

// Answers is that room.
type Answers struct {
	Store *store.Store
	Log   *slog.Logger
	Feed  *feed.Feed

	finding singleflight.Group // by runs

	mu     sync.Mutex
	recent map[string]recently // of runs that go on
}

// recently is what a run that goes on said a moment ago.
type recently struct {
	at time.Time
	Answer
}

const (
	recentFor  = time.Second // while somebody watches a run, it is worked out once in this time
	maxRecents = 200
	findLimit  = 5 * time.Minute // of all runs that an answer needs
)

// Version is of the way in which answers are found: with another one they are found anew.
const Version = 2

// Answer is what a run says.
type Answer struct {
	Sentence string    `json:"sentence"`
	LayBy    string    `json:"lay_by,omitempty"` // the trait by which the legs show why
	Families []Family  `json:"families"`
	Gone     []Gone    `json:"gone"`             // families of before that do not show
	Before   *Baseline `json:"before,omitempty"` // nil: nothing was there to be held against
	Over     bool      `json:"over"`
}

// Family is the failures that are the same fault.
type Family struct {
	ID       string          `json:"id"`
	Kind     verdict.Verdict `json:"kind"`
	Title    string          `json:"title"`
	Message  string          `json:"message"` // of the first of them, as it was
	Cause    string          `json:"cause,omitempty"`
	Frames   []string        `json:"frames,omitempty"`
	Pattern  string          `json:"pattern,omitempty"` // what of the message is the same in all
	On       int             `json:"on"`                // on so many legs
	Legs     []string        `json:"legs"`              // the first of them
	Devices  []string        `json:"devices"`           // serials, with the variant behind a slash; as the legs
	Cases    []string        `json:"cases"`
	Failures int             `json:"failures"`
	Joined   []Joined        `json:"joined,omitempty"`
	Rule     *Rule           `json:"rule,omitempty"`
	Hint     *Hint           `json:"hint,omitempty"`
	Standing triage.Standing `json:"standing,omitempty"`
	FirstBad *BuildRef       `json:"first_bad,omitempty"`
	LastGood *BuildRef       `json:"last_good,omitempty"`
	Rate     *Rate           `json:"rate,omitempty"`    // of one that is flaky
	Mark     *Mark           `json:"mark,omitempty"`    // what people say of it now
	Excused  string          `json:"excused,omitempty"` // why it did not count when the run ended: "as known (KELP-12)"
	Example  Example         `json:"example"`

	Signatures []string `json:"signatures"` // its own, and those that were taken into it
}

// Joined is a signature that was taken into a family, since it differs by one word.
type Joined struct {
	Pattern  string `json:"pattern"`
	Own      string `json:"own"`
	Other    string `json:"other"`
	Failures int    `json:"failures"`
}

// Rule sets the devices that fail apart.
type Rule struct {
	Sentence string           `json:"sentence"`
	Phrase   string           `json:"phrase"`
	Literals []triage.Literal `json:"literals"`
	FailIn   int              `json:"fail_in"`
	PassIn   int              `json:"pass_in"`
	FailOut  int              `json:"fail_out"`
	PassOut  int              `json:"pass_out"`
	Chance   float64          `json:"chance"`
	Also     []string         `json:"also,omitempty"` // what sets the same apart
}

// Hint is a device that would tell.
type Hint struct {
	Device   string `json:"device"`
	Sentence string `json:"sentence"`
}

// BuildRef is a build by its names.
type BuildRef struct {
	ID      string `json:"id"`
	Ref     string `json:"ref"`
	Version string `json:"version"`
}

// Rate is how often a case lately failed for no reason.
type Rate struct {
	Times int     `json:"times"`
	Of    int     `json:"of"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Runs  int     `json:"runs"`
}

// Example is one of a family's failures.
type Example struct {
	Leg     string `json:"leg"`
	Attempt string `json:"attempt"`
	Case    string `json:"case"`
	Shot    string `json:"shot,omitempty"` // the name of an artifact
	Picture string `json:"-"`              // its id; it may be gone by now
}

// Baseline is what a run is held against: for each device its last leg of the same app and package.
type Baseline struct {
	Run    string `json:"run"` // the newest of those runs
	Number int    `json:"number"`
	Build  string `json:"build"`
	Runs   int    `json:"runs"`
}

// Gone is a family of before that does not show.
type Gone struct {
	ID       string          `json:"id"`
	Kind     verdict.Verdict `json:"kind"`
	Title    string          `json:"title"`
	Devices  []string        `json:"devices"`
	Cases    []string        `json:"cases"`
	Standing triage.Standing `json:"standing"` // mended or not run
}

// Answer gives what a run says, with a picture of each family.
func (s *Answers) Answer(ctx context.Context, r store.Run) (Answer, error) {
	a, err := s.Of(ctx, r)
	if err == nil {
		a.Families = slices.Clone(a.Families) // others have them, too
		err = s.pictures(ctx, a)
	}
	return a, err
}

// pictures finds the pictures of families.
func (s *Answers) pictures(ctx context.Context, a Answer) error {
	for i := range a.Families {
		x := &a.Families[i].Example
		if x.Shot == "" {
			continue
		}
		f, err := s.Store.ArtifactByName(ctx, x.Attempt, x.Shot)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		x.Picture = f.ID
	}
	return nil
}

// Of gives what a run says. Of one that is over it is found once. Who asks while it is being found waits for that.
func (s *Answers) Of(ctx context.Context, r store.Run) (Answer, error) {
	find := s.lately
	if r.Ended.Valid {
		if a, ok, err := s.kept(ctx, r); ok || err != nil {
			return a, err
		}
		find = s.settle
	}
	found := s.finding.DoChan(r.ID+map[bool]string{true: " over"}[r.Ended.Valid], func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), findLimit) // also for those who came later
		defer cancel()
		var a Answer
		err := guard.Do(s.Log, guard.Answer, func() (err error) { a, err = find(ctx, r); return err })
		return a, err
	})
	select {
	case f := <-found:
		return f.Val.(Answer), f.Err
	case <-ctx.Done():
		return Answer{}, ctx.Err()
	}
}

// kept is the answer as it was kept.
func (s *Answers) kept(ctx context.Context, r store.Run) (a Answer, ok bool, err error) {
	if r.Told != Version {
		return a, false, nil
	}
	kept, err := s.Store.AnswerOf(ctx, r.ID)
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && kept.Version != Version:
		return a, false, nil
	case err != nil:
		return a, false, err
	}
	return a, true, json.Unmarshal(kept.Answer, &a)
}

// lately finds what a run that goes on says, unless it was found a moment ago.
func (s *Answers) lately(ctx context.Context, r store.Run) (Answer, error) {
	s.mu.Lock()
	have, ok := s.recent[r.ID]
	s.mu.Unlock()
	if ok && time.Since(have.at) < recentFor {
		return have.Answer, nil
	}
	f, err := s.find(ctx, r)
	if err != nil {
		return Answer{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recent == nil || len(s.recent) >= maxRecents {
		s.recent = map[string]recently{}
	}
	s.recent[r.ID] = recently{time.Now(), f.Answer}
	return f.Answer, nil
}

// settle finds what a run that is over says, and keeps it. Since when something shows is read from the runs before: they come first.
func (s *Answers) settle(ctx context.Context, r store.Run) (Answer, error) {
	r, err := s.Store.RunByID(ctx, r.WorkspaceID, r.ID) // it may have been found since it was read
	if err != nil {
		return Answer{}, err
	}
	if a, ok, err := s.kept(ctx, r); ok || err != nil {
		return a, err
	}
	app, err := s.Store.AppOf(ctx, r.ID)
	if err != nil {
		return Answer{}, err
	}
	p, err := s.Store.PackageByID(ctx, r.WorkspaceID, r.PackageID)
	if err != nil {
		return Answer{}, err
	}
	before, err := s.Store.UntoldBefore(ctx, app, p.Name, r.ID, Version)
	if err != nil {
		return Answer{}, err
	}
	var f found
	for _, x := range append(before, r) {
		if f, err = s.find(ctx, x); err != nil {
			return Answer{}, err
		}
		if err := s.keep(ctx, x, f); err != nil {
			return Answer{}, err
		}
	}
	return f.Answer, nil
}

// Sentence gives what a run that is over says in one sentence.
func (s *Answers) Sentence(ctx context.Context, r store.Run) (string, error) {
	said, err := s.Sentences(ctx, []store.Run{r})
	if err != nil || said[r.ID] != "" {
		return said[r.ID], err
	}
	a, err := s.Of(ctx, r)
	return a.Sentence, err
}

// Sentences gives what runs say in one sentence, where that is known.
func (s *Answers) Sentences(ctx context.Context, runs []store.Run) (map[string]string, error) {
	var ids []string
	for _, r := range runs {
		if r.Told == Version {
			ids = append(ids, r.ID)
		}
	}
	return s.Store.Sentences(ctx, ids)
}

const (
	tellEvery = 2 * time.Second
	tellLease = 5 * time.Minute
	tellBatch = 20
)

// KeepTelling finds the answers of runs that are over, also of those of before there were answers, until ctx ends. Of several processes one does it.
func (s *Answers) KeepTelling(ctx context.Context) {
	var failed chore.Failed
	chore.Chore{Name: "answers", Every: tellEvery, Lasts: tellLease, Fails: "what runs say could not be found"}.Keep(ctx, s.Store, s.Log, func() error { return s.tell(ctx, &failed) })
}

func (s *Answers) tell(ctx context.Context, failed *chore.Failed) error {
	runs, err := s.Store.Untold(ctx, Version, tellBatch+failed.Len())
	for _, r := range runs {
		if failed.Has(r.ID) {
			continue
		}
		if _, bad := s.Of(ctx, r); bad != nil && ctx.Err() == nil {
			failed.Add(r.ID)
			s.Log.Warn("what a run says could not be found", "run", r.ID, "why", bad)
			continue
		}
		s.Feed.RunChanged(r.WorkspaceID, r.ID, "")
	}
	return err
}

// Subject is of what a case's history is: the case by this name of a package, on an app.
func Subject(app store.App, pkg, name string) (out store.Subject) {
	sum := sha256.Sum256([]byte(strings.Join([]string{app.WorkspaceID, app.Slug, app.Platform, pkg, name}, "\x00")))
	copy(out[:], sum[:])
	return out
}
