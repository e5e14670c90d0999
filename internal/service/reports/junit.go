package reports

// JUnit XML: a suite a device.

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/junit"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// RunReport gathers a run's results for JUnit XML: a suite a device.
func (s *Reports) RunReport(ctx context.Context, who store.Identity, ids ...string) (name string, suites []junit.Suite, err error) {
	all, err := s.chosen(ctx, who, ids)
	if err != nil {
		return "", nil, err
	}
	var names []string
	for _, v := range all {
		names = append(names, v.Request.V.Package+" on "+v.Request.V.Build)
		for _, l := range v.Legs {
			suite, err := s.suite(ctx, v, l, len(all) > 1)
			if err != nil {
				return "", nil, err
			}
			suites = append(suites, suite)
		}
	}
	return strings.Join(names, "; "), suites, nil
}

func (s *Reports) suite(ctx context.Context, v runs.RunView, l runs.LegView, several bool) (junit.Suite, error) {
	f := l.Facts.V
	name, set := strings.TrimSpace(l.Serial+" "+l.Variant), l.Set()
	if several {
		name = fmt.Sprintf("run %d: %s", v.Number, name)
	}
	suite := junit.Suite{Name: name, Properties: [][2]string{{"run", v.ID}, {"leg", l.ID}, {"build", v.Request.V.BuildFor(f.Platform)}, {"package", v.Request.V.Package}, {"maker", f.Maker}, {"model", f.Model}, {"os", f.OS}, {"language", cmp.Or(set[conditions.Language], f.Language)}}}
	for _, c := range set.Sorted() {
		if c != conditions.Language {
			suite.Properties = append(suite.Properties, [2]string{c, set[c]})
		}
	}
	if l.AttemptID.Valid {
		suite.Start = l.Started.Time
		cases, err := s.Store.Cases(ctx, l.AttemptID.String)
		if err != nil {
			return suite, err
		}
		for _, c := range cases {
			suite.Cases = append(suite.Cases, junit.Case{Class: name, Name: c.Name, File: c.Line, Verdict: c.Verdict, Message: c.Message, Trace: said(c), Took: time.Duration(c.TookMS) * time.Millisecond})
		}
	}
	if l.Verdict == verdict.Lost || l.Verdict == verdict.Invalid || (l.Verdict != "" && len(suite.Cases) == 0) {
		suite.Lost = string(l.Verdict) + ": " + l.Message
	}
	return suite, nil
}

// said is all that a case says of its failure.
func said(c store.Case) string {
	out := ""
	for _, x := range [][2]string{{"expected: ", c.Expected}, {"actual: ", c.Actual}, {"", c.Trace}} {
		if x[1] != "" {
			out += x[0] + x[1] + "\n"
		}
	}
	return out
}
