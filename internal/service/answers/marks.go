package answers

// What people say of families: a mark. It stays with the family's signatures, for the whole app, and does not count from then on.

import (
	"context"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// The kinds of marks.
const (
	Known     = "known"      // a fault that somebody has in hand
	NotApp    = "not_app"    // it is not the app's fault
	WrongTest = "wrong_test" // the test is wrong
)

// Mark is what a person says of a family.
type Mark struct {
	Kind      string     `json:"kind"`
	Reference string     `json:"reference,omitempty"`
	Note      string     `json:"note,omitempty"`
	Until     *time.Time `json:"until,omitempty"`
	By        string     `json:"by"`
	Created   time.Time  `json:"created"`
}

// Phrase follows "3 fail".
func (m *Mark) Phrase() string {
	s := map[string]string{Known: "as known", NotApp: "by no fault of the app", WrongTest: "by a wrong test"}[m.Kind]
	if m.Reference != "" {
		s += " (" + m.Reference + ")"
	}
	return s
}

// heldAt says whether a mark was in force.
func heldAt(m store.Mark, at time.Time) bool {
	return !m.Created.After(at) && (!m.Ended.Valid || m.Ended.Time.After(at)) && (!m.Until.Valid || m.Until.Time.After(at))
}

func markOf(m store.Mark) Mark {
	out := Mark{Kind: m.Kind, Reference: m.Reference, Note: m.Note, By: m.MadeBy, Created: m.Created}
	if m.Until.Valid {
		out.Until = &m.Until.Time
	}
	return out
}

// MarkRequest is what a person says.
type MarkRequest struct {
	Kind, Reference, Note string
	Until                 time.Time // zero: for good
}

const (
	maxReference = 300
	maxNote      = 1000
)

// Mark says something of one of a run's families.
func (s *Answers) Mark(ctx context.Context, who store.Identity, r store.Run, family string, q MarkRequest) (Answer, error) {
	const title = "mark the family"
	q.Reference, q.Note = strings.TrimSpace(q.Reference), strings.TrimSpace(q.Note)
	switch {
	case !slices.Contains([]string{Known, NotApp, WrongTest}, q.Kind):
		return Answer{}, refuse.New(refuse.Invalid, title, "choose one of known, not_app, wrong_test", "there is no mark %.50q", q.Kind)
	case len([]rune(q.Reference)) > maxReference || len([]rune(q.Note)) > maxNote:
		return Answer{}, refuse.New(refuse.Invalid, title, "write less", "a reference may have %d characters, a note %d", maxReference, maxNote)
	case strings.ContainsFunc(q.Reference, func(c rune) bool { return c < ' ' }):
		return Answer{}, refuse.New(refuse.Invalid, title, "write it in one line", "the reference has a control character")
	case !q.Until.IsZero() && !q.Until.After(time.Now()):
		return Answer{}, refuse.New(refuse.Invalid, title, "give a day that is still to come", "%s is over", q.Until.Add(-time.Second).Format(time.DateOnly))
	}
	x, app, err := s.family(ctx, r, family)
	if err != nil {
		return Answer{}, err
	}
	m := store.Mark{App: app, Family: x.ID, Kind: q.Kind, Reference: q.Reference, Note: q.Note, Title: x.Title, MadeBy: who.KeyName, Created: time.Now().UTC().Truncate(time.Millisecond)}
	if !q.Until.IsZero() {
		m.Until.Time, m.Until.Valid = q.Until.UTC(), true
	}
	m.Signatures.V, m.Likes.V = x.Signatures, x.likes()
	if err := s.Store.PutMark(ctx, m); err != nil {
		return Answer{}, err
	}
	s.Log.Info("a family is marked", "app", app.Slug, "family", x.ID, "as", q.Kind, "by", who.KeyName)
	return s.anew(ctx, app, r, m.Signatures.V)
}

// Unmark takes a mark away.
func (s *Answers) Unmark(ctx context.Context, who store.Identity, r store.Run, family string) (Answer, error) {
	const title = "take the mark away"
	x, app, err := s.family(ctx, r, family)
	if err != nil {
		return Answer{}, err
	}
	marks, err := s.Store.Marks(ctx, app)
	if err != nil {
		return Answer{}, err
	}
	gone, signatures := false, slices.Clone(x.Signatures)
	for _, m := range marks {
		if !m.Ended.Valid && (m.Family == x.ID || shares(m.Signatures.V, signatures)) {
			if err := s.Store.EndMark(ctx, app, m.Family); err != nil {
				return Answer{}, err
			}
			gone, signatures = true, append(signatures, m.Signatures.V...)
		}
	}
	if !gone {
		return Answer{}, refuse.New(refuse.NotFound, title, "see the families of a run with: tessellant run why RUN", "the family %s has no mark", x.ID)
	}
	s.Log.Info("a family's mark is taken away", "app", app.Slug, "family", x.ID, "by", who.KeyName)
	return s.anew(ctx, app, r, signatures)
}

const anewRuns = 50 // whose answers are found anew when a mark changes

// anew makes the answers that a mark changes be found anew.
func (s *Answers) anew(ctx context.Context, app store.App, r store.Run, signatures []string) (Answer, error) {
	if err := s.Store.Forget(ctx, app, signatures, anewRuns); err != nil {
		return Answer{}, err
	}
	r.Told = 0
	a, err := s.Answer(ctx, r)
	s.Feed.RunChanged(r.WorkspaceID, r.ID, "")
	return a, err
}

// family finds a family of a run, by its id or the beginning of it.
func (s *Answers) family(ctx context.Context, r store.Run, id string) (x Family, app store.App, err error) {
	a, err := s.Of(ctx, r)
	if err != nil {
		return x, app, err
	}
	if app, err = s.Store.AppOf(ctx, r.ID); err != nil {
		return x, app, err
	}
	var fit []Family
	for _, f := range a.Families {
		if strings.HasPrefix(f.ID, id) && len(id) >= leastOfID {
			fit = append(fit, f)
		}
	}
	switch len(fit) {
	case 0:
		return x, app, refuse.New(refuse.NotFound, "find the family", "see the families of a run with: tessellant run why "+r.ID, "the run has no family %.50q", id)
	case 1:
		return fit[0], app, nil
	}
	return x, app, refuse.New(refuse.Invalid, "find the family", "write more of its id", "the ids of %d families begin with %q", len(fit), id)
}

// FamilyOf finds a family of a run, by its id or the beginning of it.
func (s *Answers) FamilyOf(ctx context.Context, r store.Run, id string) (Family, error) {
	x, _, err := s.family(ctx, r, id)
	return x, err
}

// Places gives by legs the cases in which some of a run's families showed.
func (s *Answers) Places(ctx context.Context, r store.Run, families []string) (map[string][]string, error) {
	wanted := map[string]bool{}
	for _, id := range families {
		x, err := s.FamilyOf(ctx, r, id)
		if err != nil {
			return nil, err
		}
		for _, signature := range x.Signatures {
			wanted[signature] = true
		}
	}
	rows, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	attempts, at := attemptsOf(rows)
	return out, s.Store.EachBad(ctx, attempts, func(b store.Bad) error {
		if leg := at[b.AttemptID]; wanted[triage.Of(failureOf(leg, b)).ID()] {
			out[rows[leg].ID] = append(out[rows[leg].ID], b.Name)
		}
		return nil
	})
}

const leastOfID = 4 // characters of a family's id that must be given

// marked puts to families what people say of them, and which of it was in force when the run ended.
func (s *Answers) marked(ctx context.Context, r store.Run, f *found) error {
	marks, err := s.Store.Marks(ctx, f.app)
	at := time.Now()
	if r.Ended.Valid {
		at = r.Ended.Time
	}
	for i := range f.Families {
		x := &f.Families[i]
		for _, m := range marks {
			if m.Family != x.ID && !shares(m.Signatures.V, x.Signatures) && !alike(m, x.likes()[0]) {
				continue
			}
			one := markOf(m)
			if !m.Ended.Valid {
				x.Mark = &one
			}
			if heldAt(m, at) {
				x.Excused = one.Phrase()
			}
		}
	}
	return err
}

// Counting says what of the verdict of an attempt that ends counts for its run: without the cases that fail as it is known. "": all of it.
func (s *Answers) Counting(ctx context.Context, h store.Hold, v verdict.Verdict) (verdict.Verdict, error) {
	if !v.Bad() || h.RunID == "" {
		return "", nil
	}
	app, err := s.Store.AppOf(ctx, h.RunID)
	if err != nil {
		return "", err
	}
	marks, err := s.Store.Marks(ctx, app)
	if err != nil {
		return "", err
	}
	holds := map[string]bool{}
	var held []store.Mark
	for _, m := range marks {
		if !heldAt(m, time.Now()) {
			continue
		}
		held = append(held, m)
		for _, id := range append(m.Signatures.V, m.Family) {
			holds[id] = true
		}
	}
	if len(holds) == 0 {
		return "", nil
	}
	excused := map[string]bool{}
	err = s.Store.EachBad(ctx, []string{h.AttemptID}, func(b store.Bad) error {
		signature := triage.Of(failureOf(0, b))
		if holds[signature.ID()] || slices.ContainsFunc(held, func(m store.Mark) bool { return alike(m, signature) }) {
			excused[b.Name] = true
		}
		return nil
	})
	if err != nil || len(excused) == 0 {
		return "", err
	}
	var all, rest []verdict.Verdict
	err = s.Store.EachOutcome(ctx, []string{h.AttemptID}, func(o store.Outcome) error {
		all = append(all, o.Verdict)
		if !excused[o.Name] {
			rest = append(rest, o.Verdict)
		}
		return nil
	})
	if verdict.Roll(all...) != v { // something beside the cases decided
		rest = append(rest, v)
	}
	out := verdict.Roll(append(rest, verdict.Passed)...)
	if out == v {
		return "", err
	}
	return out, err
}

// likes are the signatures of a family, as they are kept with an answer: its own first.
func (f Family) likes() []triage.Signature {
	own := triage.Signature{Kind: f.Kind, Message: f.Pattern, Cause: f.Cause, Frames: f.Frames}
	out := []triage.Signature{own}
	for _, j := range f.Joined {
		x := own
		x.Message = j.Pattern
		out = append(out, x)
	}
	return out
}

// alike says whether a signature is nearly one that was marked.
func alike(m store.Mark, s triage.Signature) bool {
	return slices.ContainsFunc(m.Likes.V, func(x triage.Signature) bool { return triage.Alike(x, s) })
}

func shares(a, b []string) bool {
	return slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) })
}
