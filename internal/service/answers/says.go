package answers

// What is said of a family, in sentences: everywhere the same.

import (
	"fmt"
	"strings"
	"time"

	"tessellant/internal/core/report"
	"tessellant/internal/core/triage"
)

// Head says what happened, and on how many: "crashed on 3 devices".
func (f Family) Head() string {
	what := "device"
	for _, d := range f.Devices {
		if strings.Contains(d, "/") {
			what = "leg"
		}
	}
	return string(f.Kind) + " on " + report.Many(f.On, what)
}

// Says are the sentences: why these devices, which would tell, since when, how often, what people say.
func (f Family) Says() (out []string) {
	if f.Rule != nil {
		s := f.Rule.Sentence
		if also := f.Rule.Also; len(also) > 0 {
			s += " The same devices are those " + strings.Join(also[:min(len(also), 3)], ", and those ") + "."
		}
		out = append(out, s)
	}
	if f.Hint != nil {
		out = append(out, f.Hint.Sentence)
	}
	if s := f.since(); s != "" {
		out = append(out, s)
	}
	if r := f.Rate; r != nil {
		in := "this run"
		if r.Runs > 1 {
			in = fmt.Sprintf("the last %d runs", r.Runs)
		}
		out = append(out, fmt.Sprintf("Failed and then passed %d of %d times in %s: %.0f %% (%.0f to %.0f %%).", r.Times, r.Of, in, 100*float64(r.Times)/float64(r.Of), 100*r.Low, 100*r.High))
	}
	if f.Mark != nil {
		out = append(out, f.Mark.says())
	}
	return out
}

// Where says in which cases it shows, and on which devices.
func (f Family) Where() string {
	var cases []string
	for _, n := range f.Cases {
		cases = append(cases, "“"+report.CaseTitle(n)+"”")
	}
	return "In " + report.Few(cases, len(cases), 4) + " on " + report.Few(f.Devices, f.On, 8) + "."
}

// since says how it stands against what was before.
func (f Family) since() string {
	switch {
	case f.Standing == triage.New && f.LastGood != nil:
		return fmt.Sprintf("New: with %s it did not show.", f.LastGood.Version)
	case f.Standing == triage.New:
		return "New: it did not show before."
	case f.FirstBad != nil && f.LastGood != nil:
		return fmt.Sprintf("Since %s; with %s it did not show.", f.FirstBad.Version, f.LastGood.Version)
	case f.FirstBad != nil && f.Standing == triage.Still:
		return fmt.Sprintf("At least since %s.", f.FirstBad.Version)
	}
	return ""
}

// Says is the sentence about a family of before.
func (g Gone) Says(before *Baseline) string {
	what := "Not run now; it showed"
	if g.Standing == triage.Mended {
		what = "Mended; it showed"
	}
	if before != nil {
		what += " with " + before.Build
	}
	return fmt.Sprintf("%s: %s, on %s.", what, g.Title, report.Few(g.Devices, len(g.Devices), 8))
}

func (m Mark) says() string {
	s := map[string]string{Known: "Known", NotApp: "Not the app's fault", WrongTest: "A wrong test"}[m.Kind]
	if m.Reference != "" {
		s += " (" + m.Reference + ")"
	}
	if m.Until != nil {
		s += " until " + m.Until.Add(-time.Second).Format(time.DateOnly)
	}
	s += ", says " + m.By
	if m.Note != "" {
		s += ": " + m.Note
	}
	return s + "."
}
