package hands

// What was done by hand as lines of a script, and lines that are run on a held device.

import (
	"context"
	"net/http"
	"strings"
	"time"

	"tessellant/internal/core/scribe"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/hostlink"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Timelines reads what happened in an attempt.
type Timelines func(ctx context.Context, who store.Identity, leg string) ([]timeline.Event, error)

// HeldScript gives what was done by hand, also when the hold is over.
func (s *Hands) HeldScript(ctx context.Context, who store.Identity, id string) ([]scribe.Line, error) {
	at, err := s.At(ctx, who, id)
	if err != nil || at.AttemptID == "" {
		return []scribe.Line{}, err
	}
	events, err := s.Timelines(ctx, who, at.ID)
	if err != nil {
		return nil, err
	}
	spec, err := s.Store.Spec(ctx, at.ID)
	if err != nil {
		return nil, err
	}
	return scribe.Lines(events, spec.App.ID), nil
}

const (
	// linesTake is how long lines may take unless said; answering takes a little longer.
	linesTake = 2 * time.Minute
	maxLines  = 500 << 10 // bytes
)

// RunOnHeld runs lines on a held device, from one of them on. Line of the answer is counted as these are; -1: none.
func (s *Hands) RunOnHeld(ctx context.Context, who store.Identity, id string, lines []string, from int, inputs map[string]string, within time.Duration) (r hostlink.Ran, err error) {
	const title = "run the lines"
	at, err := s.At(ctx, who, id)
	if err != nil {
		return r, err
	}
	if within == 0 {
		within = linesTake
	}
	if from >= len(lines) {
		return r, refuse.New(refuse.Invalid, title, "lines are counted from 0", "there are %d lines, and none is number %d", len(lines), from)
	}
	var b strings.Builder
	b.WriteString("def " + scribe.Case + "(phone):\n    pass\n" + strings.Repeat("\n", from)) // so that lines keep their numbers
	for _, l := range lines[from:] {
		b.WriteString("    " + strings.ReplaceAll(l, "\n", " ") + "\n")
	}
	source := b.String()
	if len(source) > maxLines {
		return r, refuse.New(refuse.TooLarge, title, "run fewer at once", "the lines have %d bytes; %d are the most", len(source), maxLines)
	}
	if err := s.checkLines(title, source); err != nil {
		return r, err
	}
	ctx, cancel := context.WithTimeout(ctx, within+askTakes)
	defer cancel()
	err = s.askWithin(ctx, at, title, http.MethodPost, hostlink.RunPath, hostlink.Script{Source: source, Func: scribe.Case, Inputs: inputs, Within: within}, &r)
	r.Line -= linesBefore
	return r, err
}

// linesBefore are the lines of a source before the first of a case, counted from 1.
const linesBefore = 3

// checkLines says what is wrong with lines before any device hears of them.
func (s *Hands) checkLines(title, source string) error {
	p, err := testpkg.ReadSingle("lines", "lines.star", source)
	if err != nil {
		return refuse.New(refuse.Invalid, title, "see the words with: tessellant script words", "%v", err)
	}
	no := p.Blocked()
	if len(no) == 0 {
		return nil
	}
	for i := range no {
		no[i].File, no[i].Line = "", no[i].Line-linesBefore+1 // people count from 1
	}
	e := refuse.New(refuse.Invalid, title, no[0].Remedy, "line %d: %s", no[0].Line, no[0].What)
	e.Findings = refuse.PackageFindings(no)
	return e
}
