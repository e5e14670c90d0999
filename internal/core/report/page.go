package report

import (
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/verdict"
)

// Page is one or several runs as one page that stands alone: without a script, and with nothing from elsewhere.
type Page struct {
	Made   time.Time
	Runs   []PageRun
	Shared bool // it is seen through a link, and its legs have pages
}

// PageRun is a run on a page.
type PageRun struct {
	Number                         int
	ID, Name, Build, Package, By   string
	Verdict                        verdict.Verdict
	Sentence                       string
	Started                        time.Time
	Took                           time.Duration
	LayBy                          string // the trait by which Groups are laid; "": none
	Groups                         []PageGroup
	Families                       []PageFamily
	Gone                           []string
	Legs                           []PageLeg
	Cases                          []PageCase
	MoreFamilies, MoreLegs, MoreCs int // that are left out
}

// PageGroup is a patch of the mosaic.
type PageGroup struct {
	Value string
	Legs  []PageLeg
}

// PageLeg is a leg on a page.
type PageLeg struct {
	ID                  string
	Name, Model, System string
	Simulated           bool
	Verdict             verdict.Verdict // "": it is still going
	Cases               string
	Took                time.Duration
	Message             string
	Link                string // to its own page; "": it has none
}

// PageFamily is a family on a page.
type PageFamily struct {
	Kind               verdict.Verdict
	Head, Title, Where string
	Says               []string
	Excused            string
	Picture            []byte // a JPEG; nil: none
}

// PageCase is a case on a page: how often each verdict came.
type PageCase struct {
	Name   string
	Counts verdict.Counts
	On     []string // where it did not pass
}

// Bounds of a page. What is beyond is counted.
const (
	MaxPageFamilies = 40
	MaxPageLegs     = 2000
	MaxPageCases    = 1000
	MaxPictures     = 3 << 20 // bytes of pictures in all, before they are written as text
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"lines": func(name string) []string { return strings.SplitN(name, "/", 2) }, // a device, and how it was set
	"took":  tookText,
	"when":  func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
	"picture": func(raw []byte) template.URL {
		return template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(raw))
	}, //nolint:gosec // it is ours, and a picture
	"what": func(v verdict.Verdict) string {
		if v == "" {
			return "running"
		}
		return string(v)
	},
	"good": func(v verdict.Verdict) bool { return v == verdict.Passed || v == verdict.Flaky },
}).Parse(pageText))

// tookText is a duration as people say it: "45 s", "3:10 min", "1 h 5 min".
func tookText(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	switch {
	case s < 60:
		return fmt.Sprintf("%d s", s)
	case s < 3600:
		return fmt.Sprintf("%d:%02d min", s/60, s%60)
	}
	return fmt.Sprintf("%d h %d min", s/3600, s/60%60)
}

// Write writes the page. It cuts what is beyond its bounds.
func (p Page) Write(w io.Writer) error {
	left := MaxPictures
	p.Runs = slices.Clone(p.Runs)
	for i := range p.Runs {
		r := &p.Runs[i]
		r.MoreFamilies, r.MoreLegs, r.MoreCs = max(0, len(r.Families)-MaxPageFamilies), max(0, len(r.Legs)-MaxPageLegs), max(0, len(r.Cases)-MaxPageCases)
		r.Families, r.Legs, r.Cases = slices.Clone(r.Families[:len(r.Families)-r.MoreFamilies]), r.Legs[:len(r.Legs)-r.MoreLegs], r.Cases[:len(r.Cases)-r.MoreCs]
		for j := range r.Families {
			f := &r.Families[j]
			if left -= len(f.Picture); left < 0 {
				f.Picture = nil
			}
		}
	}
	return pageTemplate.Execute(w, p)
}
