package report

import (
	_ "embed"
	"html/template"
	"io"
	"time"

	"tessellant/internal/core/verdict"
)

// LegPage is one leg on a page of its own, for somebody who was given a link.
type LegPage struct {
	Device, Model, System string
	Simulated             bool
	Verdict               verdict.Verdict
	Message               string
	Build, Package        string
	Whole                 bool // the link is of its whole run
	Cases                 []SharedCase
	Shots                 []SharedFile
	Files                 []SharedFile
	Video                 string // a file's id
}

// SharedCase is a case on it.
type SharedCase struct {
	Name                             string
	Verdict                          verdict.Verdict
	Message, Expected, Actual, Place string
	Shot                             string // a file's id
	Took                             time.Duration
}

// SharedFile is a file on it.
type SharedFile struct {
	ID, Name string
	Size     int64
}

const (
	maxSharedCases = 2000
	maxSharedShots = 200
)

//go:embed leg.html
var legText string

var legTemplate = template.Must(template.Must(pageTemplate.Clone()).New("leg").Parse(legText))

// Write writes the page.
func (p LegPage) Write(w io.Writer) error {
	p.Cases, p.Shots = p.Cases[:min(len(p.Cases), maxSharedCases)], p.Shots[:min(len(p.Shots), maxSharedShots)]
	return legTemplate.ExecuteTemplate(w, "leg", p)
}
