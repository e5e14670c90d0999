package answers

// Two runs, held against each other.

import (
	"context"
	"fmt"
	"strings"

	"tessellant/internal/core/report"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/store"
)

// Compared is two runs, held against each other.
type Compared struct {
	Before, Now store.Run
	Sentence    string
	triage.Comparison
	LegOf    func(now bool, leg int) store.LegRow
	Families []ComparedFamily
}

// ComparedFamily is a family of either run.
type ComparedFamily struct {
	ID, Title   string
	Kind        verdict.Verdict
	Before, Now int // legs on which it shows
}

// Compare holds a run against one before it.
func (s *Answers) Compare(ctx context.Context, before, now store.Run) (c Compared, err error) {
	c.Before, c.Now = before, now
	rows := map[bool][]store.LegRow{}
	var placed [2][]triage.Placed
	for i, r := range []store.Run{before, now} {
		legs, err := s.Store.Legs(ctx, r.ID)
		if err != nil {
			return c, err
		}
		rows[i == 1] = legs
		placed[i] = make([]triage.Placed, len(legs))
		attempts, at := attemptsOf(legs)
		for j, l := range legs {
			placed[i][j].Place = l.OnDevice + "\x00" + l.Conditions
		}
		if err := s.Store.EachOutcome(ctx, attempts, func(o store.Outcome) error {
			p := &placed[i][at[o.AttemptID]]
			p.Cases = append(p.Cases, triage.Judged{Case: o.Name, Verdict: o.Verdict})
			return nil
		}); err != nil {
			return c, err
		}
	}
	c.LegOf = func(now bool, leg int) store.LegRow { return rows[now][leg] }
	c.Comparison = triage.Compare(placed[0], placed[1])
	if err := s.bothFamilies(ctx, &c); err != nil {
		return c, err
	}
	c.Sentence = comparedSentence(c)
	return c, nil
}

// bothFamilies lays the families of both runs side by side: those of now first.
func (s *Answers) bothFamilies(ctx context.Context, c *Compared) error {
	now, err := s.Of(ctx, c.Now)
	if err != nil {
		return err
	}
	before, err := s.Of(ctx, c.Before)
	if err != nil {
		return err
	}
	at := map[string]int{} // now's families, by their signatures
	for i, f := range now.Families {
		for _, id := range f.Signatures {
			at[id] = i
		}
		c.Families = append(c.Families, ComparedFamily{ID: f.ID, Title: f.Title, Kind: f.Kind, Now: f.On})
	}
	for _, f := range before.Families {
		if i, ok := at[f.ID]; ok {
			c.Families[i].Before += f.On
			continue
		}
		c.Families = append(c.Families, ComparedFamily{ID: f.ID, Title: f.Title, Kind: f.Kind, Before: f.On})
	}
	return nil
}

// comparedSentence says what became of it: "Against run 41: 3 cases are worse on 2 devices, 1 is better; 280 are alike."
func comparedSentence(c Compared) string {
	on := map[string]bool{}
	for _, d := range c.Differences {
		if d.Worse {
			on[c.LegOf(true, d.Now).Serial] = true
		}
	}
	var parts []string
	if c.Worse > 0 {
		parts = append(parts, fmt.Sprintf("%s worse on %s", are(c.Worse), report.Many(len(on), "device")))
	}
	if c.Better > 0 {
		parts = append(parts, are(c.Better)+" better")
	}
	if c.NewFlaky > 0 {
		parts = append(parts, are(c.NewFlaky)+" flaky now")
	}
	if other := len(c.Differences) - c.Worse - c.Better - c.NewFlaky; other > 0 {
		parts = append(parts, fmt.Sprintf("%d came out otherwise", other))
	}
	s := fmt.Sprintf("Against run %d: ", c.Before.Number)
	switch {
	case len(parts) == 0 && c.Alike == 0:
		return s + "nothing ran in both."
	case len(parts) == 0:
		s += "all " + report.Many(c.Alike, "case") + " came out alike"
	default:
		s += strings.Join(parts, ", ") + "; " + are(c.Alike) + " alike"
	}
	if n := c.OnlyNow + c.OnlyBefore; n > 0 {
		s += fmt.Sprintf("; %d ran in one alone", n)
	}
	if n := c.LegsNow + c.LegsBefore; n > 0 {
		s += fmt.Sprintf("; %s in one alone", report.Many(n, "leg"))
	}
	return s + "."
}

func are(n int) string {
	if n == 1 {
		return "1 case is"
	}
	return fmt.Sprintf("%d cases are", n)
}
