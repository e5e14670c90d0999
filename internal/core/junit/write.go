package junit

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"tessellant/internal/core/verdict"
)

// Suite is what is written as one test suite.
type Suite struct {
	Name       string
	Start      time.Time
	Properties [][2]string
	Cases      []Case
	// Lost says why what was to be tested could not be; a case that says so is added.
	Lost string
}

// Verdicts that a report can't say are written with what comes nearest: crashed, lost and invalid as errors, expired as a failure, stopped as skipped.
func element(v verdict.Verdict) string {
	switch v {
	case verdict.Failed, verdict.Expired:
		return "failure"
	case verdict.Crashed, verdict.Lost, verdict.Invalid:
		return "error"
	case verdict.Skipped, verdict.Stopped, "":
		return "skipped"
	case verdict.Flaky:
		return "flakyFailure"
	}
	return ""
}

type xmlCase struct {
	XMLName    xml.Name    `xml:"testcase"`
	Name       string      `xml:"name,attr"`
	Class      string      `xml:"classname,attr"`
	File       string      `xml:"file,attr,omitempty"`
	Time       string      `xml:"time,attr"`
	Properties *xmlProps   `xml:"properties"`
	Outcome    *xmlOutcome `xml:",omitempty"`
	Output     string      `xml:"system-out,omitempty"`
}

type xmlOutcome struct {
	XMLName xml.Name
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr,omitempty"`
	Text    string `xml:",innerxml"`
}

type xmlProps struct {
	Items []xmlProp `xml:"property"`
}

type xmlProp struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

type xmlSuite struct {
	XMLName    xml.Name  `xml:"testsuite"`
	Name       string    `xml:"name,attr"`
	Timestamp  string    `xml:"timestamp,attr,omitempty"`
	Tests      int       `xml:"tests,attr"`
	Failures   int       `xml:"failures,attr"`
	Errors     int       `xml:"errors,attr"`
	Skipped    int       `xml:"skipped,attr"`
	Time       string    `xml:"time,attr"`
	Properties *xmlProps `xml:"properties"`
	Cases      []xmlCase
}

// Write writes suites as one report.
func Write(w io.Writer, name string, suites []Suite) error {
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", "  ")
	root := xml.StartElement{Name: xml.Name{Local: "testsuites"}, Attr: []xml.Attr{{Name: xml.Name{Local: "name"}, Value: clean(name)}}}
	if err := enc.EncodeToken(root); err != nil {
		return err
	}
	for _, s := range suites {
		if err := enc.Encode(suiteOut(s)); err != nil {
			return err
		}
	}
	if err := enc.EncodeToken(root.End()); err != nil {
		return err
	}
	if err := enc.Close(); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

func suiteOut(s Suite) xmlSuite {
	x := xmlSuite{Name: clean(s.Name)}
	if !s.Start.IsZero() {
		x.Timestamp = s.Start.UTC().Format("2006-01-02T15:04:05")
	}
	if len(s.Properties) > 0 {
		x.Properties = &xmlProps{}
		for _, p := range s.Properties {
			x.Properties.Items = append(x.Properties.Items, xmlProp{clean(p[0]), clean(p[1])})
		}
	}
	cases := s.Cases
	if s.Lost != "" {
		cases = append(cases[:len(cases):len(cases)], Case{Name: "the device", Verdict: verdict.Lost, Message: s.Lost})
	}
	total := time.Duration(0)
	for _, c := range cases {
		total += c.Took
		class := c.Class
		if class == "" {
			class = s.Name
		}
		o := xmlCase{Name: clean(c.Name), Class: clean(class), File: clean(c.File), Time: inSeconds(c.Took), Output: clean(c.Output)}
		kind := element(c.Verdict)
		switch kind {
		case "failure":
			x.Failures++
		case "error":
			x.Errors++
		case "skipped":
			x.Skipped++
		}
		if kind != "" {
			o.Outcome = &xmlOutcome{XMLName: xml.Name{Local: kind}, Message: clean(c.Message), Text: escape(clean(c.Trace))}
			if kind != "skipped" {
				o.Outcome.Type = string(c.Verdict)
			}
		}
		x.Tests++
		x.Cases = append(x.Cases, o)
	}
	x.Time = inSeconds(total)
	return x
}

// escape writes a text so that it can stand in an element, lines as lines.
func escape(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(s)
}

func inSeconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// clean leaves out what XML does not allow.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if !isChar(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}
