package record

import (
	"context"
	"errors"
	"fmt"

	"tessellant/internal/core/recording"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// Notes are a script's notes: they take pictures with the phone as it is observed.
type Notes struct {
	R *Timeline
	P phone.Phone
}

var _ script.Notes = Notes{}

// Step keeps a named moment. A screen that may not be pictured has none; that is said, and fails no case. Seen is the tree of the screen as it is now, where it is known.
// Like says that the picture is to be like its reference; a *script.Failure says that it is not.
func (n Notes) Step(ctx context.Context, name, line string, seen *uitree.Screen, like bool) error {
	e := timeline.Event{Kind: timeline.Step, At: n.R.Now(), Name: name, Line: line}
	var png []byte
	var err error
	if n.R.keeps.Keeps(recording.Screenshots, recording.Steps) {
		e.File, png, err = n.R.shot(ctx, n.P, name)
	} else if like {
		png, err = n.P.Screenshot(ctx)
	}
	if err == nil && n.R.keeps.Keeps(recording.Trees, recording.Steps) {
		if seen == nil {
			seen, err = n.P.Tree(ctx)
		}
		if err == nil {
			e.Tree, err = n.R.tree(seen, name)
		}
	}
	if err == nil && seen == nil && n.R.looks != nil && n.R.looks.All {
		var lost *phone.Lost
		if s, bad := n.P.Tree(ctx); bad == nil {
			seen = s
		} else if errors.As(bad, &lost) { // else a screen that moves all the time is not looked at
			err = bad
		}
	}
	if err != nil {
		e.Error = err.Error()
	}
	n.R.Note(e)
	n.R.fit(&e)
	n.R.mu.Lock()
	l := steps.Look{At: e.At, Step: e.Name, Nth: n.R.nth[e.Name], Case: n.R.testCase, Try: n.R.try, File: e.File}
	n.R.mu.Unlock()
	var unlike error
	if like && err == nil && n.R.looks != nil {
		l.Moved, unlike = n.like(l, png, line)
	}
	n.R.look(l, png, seen)
	var refused *phone.Refused
	if errors.As(err, &refused) {
		return nil
	}
	return errors.Join(err, unlike)
}

// like holds a step's picture against its reference, and notes it as a check. Where there is none that is said, and fails no case.
func (n Notes) like(l steps.Look, png []byte, line string) (*steps.Moved, error) {
	m := n.R.looks.against(l, png)
	if m == nil {
		n.Log("the step “"+l.Step+"” has no reference for this kind of device yet: keep one from the run's page, or with: tessellant reference keep RUN STEP", line)
		return nil, nil
	}
	about := "the step “" + l.Step + "” is like its reference"
	expected, actual := fmt.Sprintf("at most %.2g %% of the picture differs", 100*m.Allowed), m.Says()
	n.Check(about, expected, actual, line, !m.Too())
	if m.Too() {
		return m, &script.Failure{About: about, Expected: expected, Actual: actual, Line: line}
	}
	return m, nil
}

// Check notes a check.
func (n Notes) Check(about, expected, actual, line string, held bool) {
	e := timeline.Event{Kind: timeline.Check, Name: about, Line: line, Expected: expected, Actual: actual}
	if !held {
		e.Error = "the check failed"
	}
	n.R.Note(e)
}

// Log notes a line of the script's own.
func (n Notes) Log(text, line string) {
	n.R.Note(timeline.Event{Kind: timeline.Log, Answer: text, Line: line})
}
