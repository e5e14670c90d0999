// Package reports writes what came of runs for people and tools elsewhere: a page that stands alone, rows of cases, JUnit XML.
//
// core/report and core/junit have the forms; this room gathers what they are filled with, leg by leg.
package reports

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	_ "image/png" // pictures may be either
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/image/draw"

	"tessellant/internal/blobs"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/junit"
	"tessellant/internal/core/report"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// Reports is that room.
type Reports struct {
	Store   *store.Store
	Blobs   *blobs.Store
	Runs    *runs.Runs
	Answers *answers.Answers
}

// maxTogether is how many runs one report may have.
const maxTogether = 50

// chosen finds the runs of a report, each once, in the order in which they are named.
func (s *Reports) chosen(ctx context.Context, who store.Identity, ids []string) (out []runs.RunView, err error) {
	if len(ids) > maxTogether {
		return nil, refuse.New(refuse.Invalid, "write the report", "name fewer", "%d runs are too many for one report; %d is the most", len(ids), maxTogether)
	}
	seen := map[string]bool{}
	for _, id := range ids {
		r, err := s.Runs.FindRun(ctx, who, id)
		if err != nil {
			return nil, err
		}
		if seen[r.ID] {
			continue
		}
		seen[r.ID] = true
		v, err := s.Runs.View(ctx, r, nil)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// EachRow gives every case of every leg of some runs.
func (s *Reports) EachRow(ctx context.Context, who store.Identity, ids []string, each func(report.Row) error) error {
	all, err := s.chosen(ctx, who, ids)
	if err != nil {
		return err
	}
	for _, v := range all {
		a, err := s.Answers.Of(ctx, v.Run)
		if err != nil {
			return err
		}
		of := map[string]answers.Family{} // by leg and case
		for _, f := range slices.Backward(a.Families) {
			for _, l := range f.Legs {
				for _, c := range f.Cases {
					of[l+"\x00"+c] = f
				}
			}
		}
		for _, l := range v.Legs {
			row := report.Row{Run: v.Number, RunID: v.ID, Build: v.Request.V.Build, Package: v.Request.V.Package, Leg: l.ID, Device: cmp.Or(l.RanOn.String, l.Serial), Model: strings.TrimSpace(l.Facts.V.Maker + " " + l.Facts.V.Model), OS: l.Facts.V.OS, Variant: l.Variant, Conditions: l.Conditions}
			n := 0
			if l.AttemptID.Valid {
				cases, err := s.Store.Cases(ctx, l.AttemptID.String)
				if err != nil {
					return err
				}
				for _, c := range cases {
					x := row
					x.Case, x.Verdict, x.TookMS, x.Message, x.Place = c.Name, c.Verdict, c.TookMS, c.Message, c.Line
					if c.Verdict == "" {
						continue // it still goes on
					}
					if f, ok := of[l.ID+"\x00"+c.Name]; ok && c.Verdict == f.Kind {
						x.Family, x.Excused = f.ID, f.Excused
					}
					n++
					if err := each(x); err != nil {
						return err
					}
				}
			}
			if n == 0 && l.Stage == "done" { // it says why there is nothing
				row.Case, row.Verdict, row.Message = "(no case)", l.Verdict, l.Message
				if err := each(row); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Page gathers a page of some runs.
func (s *Reports) Page(ctx context.Context, who store.Identity, ids []string) (p report.Page, err error) {
	all, err := s.chosen(ctx, who, ids)
	if err != nil {
		return p, err
	}
	p.Made = time.Now()
	for _, v := range all {
		r, err := s.onPage(ctx, v)
		if err != nil {
			return p, err
		}
		p.Runs = append(p.Runs, r)
	}
	return p, nil
}

const (
	pageOn       = 12  // devices that are named where a case did not pass
	pictureWide  = 240 // pixels of a family's picture
	pictureHigh  = 480
	pictureBytes = 20 << 20 // of the picture that is read
)

func (s *Reports) onPage(ctx context.Context, v runs.RunView) (r report.PageRun, err error) {
	a, err := s.Answers.Answer(ctx, v.Run)
	if err != nil {
		return r, err
	}
	r = report.PageRun{Number: v.Number, ID: v.ID, Name: v.Name, Build: v.Request.V.Build, Package: v.Request.V.Package, By: v.StartedBy, Verdict: v.Verdict, Sentence: v.Sentence, Started: v.Created, LayBy: a.LayBy}
	if v.Ended.Valid {
		r.Took = v.Ended.Time.Sub(v.Created)
	}
	groups := map[string]int{}
	cases := map[string]*report.PageCase{}
	for i, l := range v.Legs {
		x := report.PageLeg{ID: l.ID, Name: strings.TrimSuffix(cmp.Or(l.RanOn.String, l.Serial)+"/"+l.Variant, "/"), Model: strings.TrimSpace(l.Facts.V.Maker + " " + l.Facts.V.Model), OS: l.Facts.V.OS, Simulated: l.Facts.V.Simulated, Message: cut(l.Message)}
		if l.Stage == "done" {
			x.Verdict = l.Verdict
		}
		if l.Started.Valid && l.Ended.Valid {
			x.Took = l.Ended.Time.Sub(l.Started.Time)
		}
		counts := verdict.Counts{}
		names := v.CaseNames
		if l.Names != nil {
			names = l.Names
		}
		for _, c := range l.Cases {
			if c.Verdict == "" || c.Ordinal >= len(names) {
				continue
			}
			counts[c.Verdict]++
			name := names[c.Ordinal]
			if cases[name] == nil {
				cases[name] = &report.PageCase{Name: name, Counts: verdict.Counts{}}
			}
			cases[name].Counts[c.Verdict]++
			if c.Verdict != verdict.Passed && c.Verdict != verdict.Skipped {
				cases[name].On = append(cases[name].On, x.Name)
			}
		}
		x.Cases = countsText(counts)
		r.Legs = append(r.Legs, x)
		value := ""
		if a.LayBy != "" {
			value = valueText(a.LayBy, v.Legs[i].Set().Traits(l.Facts.V.Traits())[a.LayBy])
		}
		n, ok := groups[value]
		if !ok {
			n = len(r.Groups)
			groups[value] = n
			r.Groups = append(r.Groups, report.PageGroup{Value: value})
		}
		r.Groups[n].Legs = append(r.Groups[n].Legs, x)
	}
	for _, name := range v.CaseNames {
		if c := cases[name]; c != nil {
			if n := len(c.On) - pageOn; n > 0 {
				c.On = append(c.On[:pageOn:pageOn], fmt.Sprintf("%d more", n))
			}
			r.Cases = append(r.Cases, *c)
		}
	}
	for i, f := range a.Families {
		x := report.PageFamily{Kind: f.Kind, Head: f.Head(), Title: f.Title, Where: f.Where(), Says: f.Says(), Excused: f.Excused}
		if f.Example.Picture != "" && i < report.MaxPageFamilies {
			if x.Picture, err = s.picture(ctx, v.WorkspaceID, f.Example.Picture); err != nil {
				return r, err
			}
		}
		r.Families = append(r.Families, x)
	}
	for _, g := range a.Gone {
		r.Gone = append(r.Gone, g.Says(a.Before))
	}
	return r, nil
}

func cut(s string) string {
	if r := []rune(s); len(r) > 300 {
		return string(r[:299]) + "…"
	}
	return s
}

// valueText is a trait's value as people write it.
func valueText(trait, value string) string {
	if value == "" {
		return "not known"
	}
	return (&triage.Rule{Literals: []triage.Literal{{Trait: trait, Op: triage.Is, Value: value}}}).Phrase()
}

func countsText(c verdict.Counts) string {
	var parts []string
	for _, v := range verdict.Order {
		if c[v] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c[v], v))
		}
	}
	return strings.Join(parts, ", ")
}

// picture is an artifact's picture, made small. Nil: it is gone, or no picture.
func (s *Reports) picture(ctx context.Context, workspace, id string) ([]byte, error) {
	f, err := s.Store.ArtifactByID(ctx, workspace, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	in, err := s.Blobs.Read(ctx, f.BlobKey, 0, -1)
	if err != nil {
		return nil, nil //nolint:nilerr // evidence may have been cleared away meanwhile
	}
	defer in.Close()
	raw, err := io.ReadAll(io.LimitReader(in, pictureBytes))
	if err != nil {
		return nil, err
	}
	head, _, err := image.DecodeConfig(bytes.NewReader(raw))
	if err != nil || head.Width*head.Height > 12_000_000 {
		return nil, nil //nolint:nilerr // it came from elsewhere, and is none
	}
	img, _, err := image.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil, nil //nolint:nilerr // as above
	}
	w, h := pictureWide, img.Bounds().Dy()*pictureWide/max(1, img.Bounds().Dx())
	if h > pictureHigh {
		w, h = max(1, w*pictureHigh/h), pictureHigh
	}
	small := image.NewRGBA(image.Rect(0, 0, w, max(1, h)))
	draw.ApproxBiLinear.Scale(small, small.Rect, img, img.Bounds(), draw.Src, nil)
	var out bytes.Buffer
	err = jpeg.Encode(&out, small, &jpeg.Options{Quality: 70})
	return out.Bytes(), err
}

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
	suite := junit.Suite{Name: name, Properties: [][2]string{{"run", v.ID}, {"leg", l.ID}, {"build", v.Request.V.Build}, {"package", v.Request.V.Package}, {"maker", f.Maker}, {"model", f.Model}, {"os", f.OS}, {"language", cmp.Or(set[conditions.Language], f.Language)}}}
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
