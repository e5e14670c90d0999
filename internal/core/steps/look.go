package steps

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/likeness"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/uitree"
)

// Look is what a kept picture and a tree said: a line of the track looks.jsonl.
type Look struct {
	Case    string           `json:"case"`
	Try     int              `json:"try"`
	Step    string           `json:"step,omitempty"` // "": the end of a try that did not pass
	Nth     int              `json:"nth,omitempty"`
	At      int64            `json:"at"`
	File    string           `json:"file,omitempty"` // the picture
	Kind    string           `json:"kind,omitempty"` // of device, as KindOf says
	Print   *likeness.Print  `json:"print,omitempty"`
	Seen    *remarks.Seen    `json:"seen,omitempty"`
	Remarks []remarks.Remark `json:"remarks,omitempty"`
	Moved   *Moved           `json:"moved,omitempty"`
}

// Moved is how a step's picture differs from its reference.
type Moved struct {
	Reference string        `json:"reference"` // its id
	Share     float64       `json:"share"`     // of the picture
	Allowed   float64       `json:"allowed"`
	Regions   []uitree.Rect `json:"regions,omitempty"`
	Error     string        `json:"error,omitempty"` // why they could not be held against each other
}

// Too says whether more has moved than the reference allows.
func (m *Moved) Too() bool { return m != nil && (m.Error != "" || m.Share > m.Allowed) }

// Says says in a sentence how it differs.
func (m *Moved) Says() string {
	switch {
	case m.Error != "":
		return m.Error
	case m.Share == 0:
		return "like its reference"
	case m.Too():
		places := "1 place"
		if n := len(m.Regions); n != 1 {
			places = fmt.Sprintf("%d places", n)
		}
		return fmt.Sprintf("%s of the picture differs from its reference, in %s; %s is allowed", percent(m.Share), places, percent(m.Allowed))
	}
	return fmt.Sprintf("like its reference but for %s of the picture; %s is allowed", percent(m.Share), percent(m.Allowed))
}

func percent(share float64) string {
	if share < 0.0001 {
		return "less than 0.01 %"
	}
	return fmt.Sprintf("%.2g %%", 100*share)
}

const (
	maxLook    = 1 << 20 // bytes of a line
	maxText    = 600     // characters of a text in it
	maxRemarks = 40
	maxParts   = 120
	maxRegions = 40
	maxKind    = 400
)

// fit leaves out what no host of ours writes: looks come from elsewhere.
func (l *Look) fit() {
	if l.Print != nil {
		l.Print.Fit()
	}
	l.Kind = foreign.Name(l.Kind, maxKind)
	l.Remarks = l.Remarks[:min(len(l.Remarks), maxRemarks)]
	for i := range l.Remarks {
		r := &l.Remarks[i]
		r.Key, r.What, r.Says = foreign.Name(r.Key, maxText), foreign.Name(r.What, maxText), foreign.Name(r.Says, maxText)
	}
	if l.Seen != nil {
		l.Seen.Parts = l.Seen.Parts[:min(len(l.Seen.Parts), maxParts)]
		for i := range l.Seen.Parts {
			p := &l.Seen.Parts[i]
			p.Key, p.What, p.Text = foreign.Name(p.Key, maxText), foreign.Name(p.What, maxText), foreign.Name(p.Text, maxText)
		}
	}
	if m := l.Moved; m != nil {
		m.Reference, m.Error = foreign.Name(m.Reference, maxText), foreign.Name(m.Error, maxText)
		m.Regions = m.Regions[:min(len(m.Regions), maxRegions)]
	}
}

// ReadLooks calls f with each look of a track, and where its line begins and how long it is. A last line that was cut off is passed over.
func ReadLooks(r io.Reader, f func(l Look, from, length int64) error) error {
	br := bufio.NewReaderSize(r, 64<<10)
	from := int64(0)
	for n := 1; ; n++ {
		line, err := tracks.ReadLine(br, maxLook)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("line %d of the looks: %w", n, err)
		}
		var l Look
		if err := json.Unmarshal(line, &l); err != nil {
			return fmt.Errorf("line %d of the looks is none: %w", n, err)
		}
		l.fit()
		if err := f(l, from, int64(len(line))); err != nil {
			return err
		}
		from += int64(len(line))
	}
}
