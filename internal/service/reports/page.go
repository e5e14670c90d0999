package reports

// A page of runs that stands alone.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	_ "image/png" // pictures may be either
	"io"
	"strings"
	"time"

	"golang.org/x/image/draw"

	"tessellant/internal/core/report"
	"tessellant/internal/core/triage"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

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
		x := report.PageLeg{ID: l.ID, Name: l.Label(), Model: strings.TrimSpace(l.Facts.V.Maker + " " + l.Facts.V.Model), System: l.Facts.V.System(), Simulated: l.Facts.V.Simulated, Message: cut(l.Message)}
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
		x.Cases = counts.String()
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
