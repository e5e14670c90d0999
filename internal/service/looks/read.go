package looks

// How an attempt is read: once.

import (
	"context"
	"encoding/json"
	"errors"
	"io"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/answers"
	"tessellant/internal/store"
)

// stepSeen is a step of an attempt, as it is kept: of the last try of its case.
type stepSeen struct {
	Case    string          `json:"case"`
	Verdict verdict.Verdict `json:"verdict,omitempty"` // of the case
	steps.Step
	From   int64        `json:"from,omitempty"` // where its look lies in looks.jsonl, and how long it is; 0: it has none
	Length int64        `json:"length,omitempty"`
	Moved  *steps.Moved `json:"moved,omitempty"`
}

// remarkSeen is a remark, and where it was seen.
type remarkSeen struct {
	remarks.Remark
	Case string `json:"case"`
	Step string `json:"step,omitempty"`
	At   int64  `json:"at"`
	File string `json:"file,omitempty"`
}

const (
	maxSteps   = 2000 // of an attempt
	maxRemarks = 1000
)

// leg is a leg of a run with what its last attempt showed.
type leg struct {
	store.LegRow
	looked *store.Looked // nil: it goes on, never began, or could not be read
}

// unread says whether there is more to come of a leg: it goes on, or could not be read.
func (l leg) unread() bool { return l.looked == nil && l.AttemptID.Valid }

// rows gives the legs of a run, each with what was read of it. What was not read yet is read now.
func (s *Looks) rows(ctx context.Context, r store.Run, columns ...string) ([]leg, error) {
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	have, err := s.Store.LookedOf(ctx, r.ID, columns...)
	if err != nil {
		return nil, err
	}
	by := map[string]*store.Looked{}
	for i := range have {
		if have[i].Version == Version {
			by[have[i].AttemptID] = &have[i]
		}
	}
	out := make([]leg, len(legs))
	var subject []byte
	whole := r.Ended.Valid
	for i, l := range legs {
		out[i].LegRow = l
		if !l.AttemptID.Valid {
			continue
		}
		if out[i].looked = by[l.AttemptID.String]; out[i].looked != nil || l.Stage != "done" {
			continue
		}
		if subject == nil {
			if subject, err = s.subject(ctx, r); err != nil {
				return nil, err
			}
		}
		x, err := s.read(ctx, r, l, subject)
		if err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			s.Log.Warn("an attempt could not be read step by step", "attempt", l.AttemptID.String, "why", err)
			whole = false
			continue
		}
		if err := s.Store.PutLooked(ctx, x); err != nil {
			return nil, err
		}
		out[i].looked = &x
	}
	if r.Looked != Version && whole {
		return out, s.Store.SetLooked(ctx, r.ID, Version)
	}
	return out, nil
}

func (s *Looks) subject(ctx context.Context, r store.Run) ([]byte, error) {
	app, err := s.Store.AppOf(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.PackageByID(ctx, r.WorkspaceID, r.PackageID)
	if err != nil {
		return nil, err
	}
	out := answers.Subject(app, p.Name, "")
	return out[:], nil
}

// read reads the last attempt of a leg. Evidence that is gone tells nothing.
func (s *Looks) read(ctx context.Context, r store.Run, l store.LegRow, subject []byte) (out store.Looked, err error) {
	out = store.Looked{AttemptID: l.AttemptID.String, Version: Version, RunID: r.ID, WorkID: l.ID, DeviceID: l.OnDevice, BuildID: r.BuildID, Subject: subject, Conditions: l.Conditions}
	files, err := s.Store.Artifacts(ctx, out.AttemptID)
	if err != nil {
		return out, err
	}
	tries, err := s.tries(ctx, files)
	if err != nil {
		return out, err
	}
	var seen []stepSeen
	at := map[string]int{}      // steps, by their pictures
	named := map[StepName]int{} // and by what they are
	for _, t := range steps.Last(tries) {
		for _, st := range t.Steps {
			if len(seen) >= maxSteps {
				break
			}
			if st.File != "" {
				at[st.File] = len(seen)
			}
			named[StepName{t.Case, st.Name, st.Nth}] = len(seen)
			seen = append(seen, stepSeen{Case: t.Case, Verdict: t.Verdict, Step: st})
		}
	}
	ends := map[string]string{} // cases, by the picture at their end
	for _, t := range tries {
		if t.File != "" {
			ends[t.File] = t.Case
		}
	}
	found := []remarkSeen{}
	if err := s.each(ctx, files, tracks.Looks, func(in io.Reader) error {
		return steps.ReadLooks(in, func(k steps.Look, from, length int64) error {
			i, ok := at[k.File]
			if !ok || k.File == "" {
				i, ok = named[StepName{k.Case, k.Step, k.Nth}]
				ok = ok && k.Step != "" && seen[i].At == k.At
			}
			name := k.Case
			switch {
			case ok:
				name = seen[i].Case
				seen[i].From, seen[i].Length, seen[i].Moved = from, length, k.Moved
			case ends[k.File] != "":
				name = ends[k.File]
			}
			for _, x := range k.Remarks {
				if len(found) < maxRemarks {
					found = append(found, remarkSeen{Remark: x, Case: name, Step: k.Step, At: k.At, File: k.File})
				}
			}
			return nil
		})
	}); err != nil {
		return out, err
	}
	measured, err := s.measures(ctx, files, tries)
	if err != nil {
		return out, err
	}
	for _, x := range []struct {
		to *[]byte
		v  any
	}{{&out.Steps, full(seen)}, {&out.Remarks, found}, {&out.Measures, full(measured)}} {
		if *x.to, err = json.Marshal(x.v); err != nil {
			return out, err
		}
	}
	return out, nil
}

// tries reads an attempt's timeline.
func (s *Looks) tries(ctx context.Context, files []store.Artifact) ([]steps.Try, error) {
	var r steps.Reader
	err := s.each(ctx, files, tracks.Timeline, func(in io.Reader) error {
		return timeline.Read(in, func(e timeline.Event) error { r.Add(e); return nil })
	})
	return r.Tries(), err
}

func (s *Looks) measures(ctx context.Context, files []store.Artifact, tries []steps.Try) (out []steps.Measure, err error) {
	var at []int64
	var series []gauges.Series
	err = s.each(ctx, files, tracks.Gauges, func(in io.Reader) (err error) {
		at, series, err = gauges.Collect(in, 0, 0)
		return err
	})
	return steps.Measures(tries, at, series), err
}

// failing remembers why a file could not be read.
type failing struct {
	io.Reader
	err error
}

func (f *failing) Read(b []byte) (int, error) {
	n, err := f.Reader.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		f.err = err
	}
	return n, err
}

// each has a file of an attempt read, if it is there. What stands in it and can't be understood is left out, now and later.
func (s *Looks) each(ctx context.Context, files []store.Artifact, name string, f func(io.Reader) error) error {
	for _, a := range files {
		if a.Name != name {
			continue
		}
		in, err := s.Blobs.Read(ctx, a.BlobKey, 0, -1)
		if err != nil {
			return err
		}
		from := &failing{Reader: in}
		bad := f(from)
		if err := errors.Join(from.err, in.Close()); err != nil {
			return err
		}
		if bad != nil {
			s.Log.Debug("a file of an attempt can't be understood whole", "attempt", a.AttemptID, "file", name, "why", bad)
		}
		return nil
	}
	return nil
}

func full[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
