// Package junit reads and writes JUnit XML, as test runners really write it.
//
// There is no standard for it. Read takes what is common to the runners: suites in suites or none, failures
// and errors, skipped cases, reruns, properties, output, times that are missing, odd or written with
// commas, characters that XML does not allow. It reads as a stream and keeps one case at a time. Write
// writes what all of them read. In: bytes. Out: cases; and back.
package junit

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding/unicode"

	"tessellant/internal/core/verdict"
)

// Case is one test case of a report.
type Case struct {
	Suite      string // the names of the suites it stands in, with " / " between
	Class      string
	Name       string
	File       string
	Verdict    verdict.Verdict // passed, failed, flaky or skipped
	Message    string          // of the failure, error or skip
	Trace      string
	Errored    bool // an error, not a failure: the test itself broke
	Reruns     int  // how often it was tried again
	Twin       int  // of the cases of one name, which one this is, from 2; 0: the first, or the only one
	Output     string
	Start      time.Time // zero: the report does not say
	Took       time.Duration
	Properties map[string]string
}

// FullName is what a case is called in a run: its class, or else its suite, and its name. What stands before the name is cut where it is
// very long.
func (c Case) FullName() string {
	if c.Twin > 0 {
		c.Name = fmt.Sprintf("%s (%d)", c.Name, c.Twin)
	}
	before, between := c.Suite, " / "
	if c.Class != "" && c.Class != "test" { // what Node's own runner calls them all
		before, between = c.Class, "."
	}
	if before == "" {
		return c.Name
	}
	return clip(before, maxFullName-len(c.Name)-len(between)) + between + c.Name
}

// Bounds of what is kept of a report.
const (
	maxText     = 64 << 10 // bytes of a text
	maxName     = 400      // of each name
	maxFullName = 500
	maxDepth    = 100
	maxCases    = 5_000_000 // they come one at a time; who keeps them has a bound of its own
	maxProps    = 50
)

// ErrMany says that a report has more cases than any that was ever meant.
var ErrMany = errors.New("there are too many test cases in it")

// ErrNone says that a report has no test case in it.
var ErrNone = errors.New("there is no test case in it")

// suite is one that is open.
type suite struct {
	name string
	full string    // with those above it
	next time.Time // when its next case began, as far as its times say
}

// reader is the state while a report is read: which suites are open, and the case that is.
type reader struct {
	*scanner
	suites []suite
	cases  int
	each   func(Case) error
}

// Read calls each with every case of a report, in its order. A report that is cut off, or is no JUnit XML,
// is an error that says where; the cases before it have been told.
func Read(r io.Reader, each func(Case) error) error {
	in, err := decoded(r)
	if err != nil {
		return err
	}
	head := &beginning{r: in}
	d := &reader{scanner: newScanner(head), each: each}
	known := false
	for {
		if err := d.next(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return d.fail(err)
		}
		if d.kind == endToken && d.name == "testsuite" && len(d.suites) > 0 {
			d.suites = d.suites[:len(d.suites)-1]
		}
		if d.kind != startToken && d.kind != emptyToken {
			continue
		}
		switch d.name {
		case "testsuites":
			known = true
		case "testsuite":
			known = true
			if len(d.suites) >= maxDepth {
				return d.fail(fmt.Errorf("suites are more than %d deep in each other", maxDepth))
			}
			if d.kind == startToken {
				d.suites = append(d.suites, d.suite())
			}
		case "testcase":
			known = true
			if err := d.testcase(); err != nil {
				return d.fail(err)
			}
		default:
			if !known {
				return d.fail(fmt.Errorf("it begins with <%s>, not with <testsuites> or <testsuite>", clip(d.name, 40)))
			}
			if _, err := d.content(0); err != nil {
				return d.fail(err)
			}
		}
	}
	if d.cases == 0 {
		return head.none(known)
	}
	if len(d.suites) > 0 {
		return d.fail(io.ErrUnexpectedEOF)
	}
	return nil
}

// attributes are those that are looked at.
type attributes struct {
	name, class, file, time, timestamp, status, result, message, kind, value string
}

// of gives the place of an attribute; nil: it is not looked at.
func (a *attributes) of(name []byte) *string {
	switch string(name) {
	case "name":
		return &a.name
	case "classname":
		return &a.class
	case "file":
		return &a.file
	case "time":
		return &a.time
	case "timestamp":
		return &a.timestamp
	case "status":
		return &a.status
	case "result":
		return &a.result
	case "message":
		return &a.message
	case "type":
		return &a.kind
	case "value":
		return &a.value
	}
	return nil
}

// decoded gives a report as UTF-8: as its first bytes, or its XML declaration, say it is written.
func decoded(r io.Reader) (io.Reader, error) {
	br := bufio.NewReaderSize(r, 64<<10)
	head, _ := br.Peek(200)
	if len(head) > 1 && (head[0] == 0xFF && head[1] == 0xFE || head[0] == 0xFE && head[1] == 0xFF) {
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(br), nil
	}
	declaration, _, _ := strings.Cut(string(head), "?>")
	m := encodingForm.FindStringSubmatch(declaration)
	if m == nil || strings.EqualFold(m[1], "utf-8") {
		return br, nil
	}
	label := m[1]
	in, err := charset.NewReaderLabel(label, br)
	if err != nil {
		return nil, fmt.Errorf("JUnit XML, line 1: its encoding %q is not known", clip(label, 40))
	}
	return in, nil
}

var encodingForm = regexp.MustCompile(`<\?xml[^>]*encoding=["']([^"']{1,40})["']`)

// beginning keeps the first bytes that are read.
type beginning struct {
	r    io.Reader
	kept []byte
}

func (b *beginning) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if len(b.kept) < 40 {
		b.kept = append(b.kept, p[:min(n, 40)]...)
	}
	return n, err
}

// none is ErrNone, with what is there in place of a report.
func (b *beginning) none(report bool) error {
	begins := strings.TrimSpace(strings.ToValidUTF8(string(b.kept), "\uFFFD"))
	switch {
	case report:
		return ErrNone
	case begins == "":
		return fmt.Errorf("%w: it is empty", ErrNone)
	}
	return fmt.Errorf("%w: it is no XML, but begins with %q", ErrNone, clip(begins, 40))
}

func (d *reader) fail(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = errors.New("it is cut off")
	}
	return fmt.Errorf("JUnit XML, line %d: %w", d.lines+1, err)
}

func (d *reader) suite() suite {
	s := suite{name: clip(d.attrs.name, maxName), next: stamp(d.attrs.timestamp)}
	s.full = s.name
	if n := len(d.suites); n > 0 {
		above := d.suites[n-1]
		if s.next.IsZero() {
			s.next = above.next
		}
		if s.full = above.full; s.name != "" {
			s.full = strings.TrimPrefix(above.full+" / "+s.name, " / ")
		}
	}
	return s
}

// testcase reads a case to its end.
func (d *reader) testcase() error {
	if d.cases++; d.cases > maxCases {
		return fmt.Errorf("%w: more than %d", ErrMany, maxCases)
	}
	c := Case{Class: clip(d.attrs.class, maxName), Name: clip(d.attrs.name, maxName), File: clip(d.attrs.file, maxName), Verdict: verdict.Passed, Took: seconds(d.attrs.time), Start: stamp(d.attrs.timestamp)}
	if n := len(d.suites); n > 0 {
		c.Suite = d.suites[n-1].full
	}
	if n := len(d.suites); n > 0 && !d.suites[n-1].next.IsZero() {
		if c.Start.IsZero() {
			c.Start = d.suites[n-1].next
		}
		d.suites[n-1].next = c.Start.Add(c.Took)
	}
	switch status := strings.ToLower(d.attrs.status + " " + d.attrs.result); { // of runners that write no element
	case strings.Contains(status, "skipped"), strings.Contains(status, "notrun"), strings.Contains(status, "suppressed"), strings.Contains(status, "disabled"):
		c.Verdict = verdict.Skipped
	}
	flaky := false
	for empty := d.kind == emptyToken; !empty; {
		if err := d.next(); err != nil {
			return err
		}
		if d.kind == endToken && d.name == "testcase" {
			break
		}
		if d.kind != startToken && d.kind != emptyToken {
			continue
		}
		name, message, kind := d.name, strings.TrimSpace(d.attrs.message), d.attrs.kind
		if name == "properties" {
			if err := d.properties(&c); err != nil {
				return err
			}
			continue
		}
		text, err := d.content(maxText)
		if err != nil {
			return err
		}
		switch name {
		case "failure", "error":
			if c.Verdict != verdict.Failed {
				c.Verdict, c.Message, c.Trace, c.Errored = verdict.Failed, said(message, text, kind), text, name == "error"
			}
		case "skipped":
			if c.Verdict == verdict.Passed {
				c.Verdict, c.Message = verdict.Skipped, said(message, text, kind)
			}
		case "flakyfailure", "flakyerror":
			flaky = true
			c.Reruns++
			if c.Message == "" {
				c.Message, c.Trace = said(message, text, kind), text
			}
		case "rerunfailure", "rerunerror":
			c.Reruns++
		case "system-out", "system-err":
			c.Output = clip(c.Output+text, maxText)
		}
	}
	if flaky && c.Verdict == verdict.Passed {
		c.Verdict = verdict.Flaky
	}
	return d.each(c)
}

// said is the message of a failure: its own, else the first line of its text, else its type.
func said(message, text, kind string) string {
	if message != "" {
		return clip(message, maxText)
	}
	if line, _, _ := strings.Cut(text, "\n"); line != "" {
		return strings.TrimSpace(line)
	}
	return clip(kind, maxName)
}

func (d *reader) properties(c *Case) error {
	for empty := d.kind == emptyToken; !empty; {
		if err := d.next(); err != nil {
			return err
		}
		switch {
		case d.kind == endToken && d.name == "properties":
			return nil
		case d.kind == endToken, d.name != "property", d.attrs.name == "", len(c.Properties) >= maxProps:
		case d.kind == startToken || d.kind == emptyToken:
			if c.Properties == nil {
				c.Properties = map[string]string{}
			}
			c.Properties[clip(d.attrs.name, maxName)] = clip(d.attrs.value, maxText)
		}
	}
	return nil
}

// content reads the element that has begun to its end, and gives the first bytes of all text in it.
func (d *reader) content(limit int) (string, error) {
	if d.kind == emptyToken {
		return "", nil
	}
	name := d.name
	var out strings.Builder
	defer func() { d.keep = 0 }()
	for depth := 1; depth > 0; {
		d.keep = limit - out.Len()
		if err := d.next(); err != nil {
			return "", err
		}
		switch {
		case d.kind == startToken && d.name == name:
			depth++
		case d.kind == endToken && d.name == name:
			depth--
		case d.kind == textToken && len(d.text) > 0:
			out.WriteString(plain(d.text, d.raw))
		}
	}
	return strings.TrimSpace(out.String()), nil
}

func clip(s string, limit int) string {
	if len(s) > limit {
		return strings.ToValidUTF8(s[:limit], "") + "…"
	}
	return s
}

// seconds reads a time: "0.25", "1,234.5", "0,25", "12.5s", "PT1.5S"; what can't be read, or is negative, is none.
func seconds(s string) time.Duration {
	s = strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(s)), "PT"), "S"))
	if strings.Contains(s, ".") {
		s = strings.ReplaceAll(s, ",", "")
	} else {
		s = strings.Replace(s, ",", ".", 1)
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsNaN(f) || f < 0 || f > 1e6 {
		return 0
	}
	return time.Duration(math.Round(f * float64(time.Second)))
}

// stamp reads a moment; without a zone it is UTC, as the runners' own descriptions have it.
func stamp(s string) time.Time {
	if s = strings.TrimSpace(s); s == "" {
		return time.Time{}
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999-0700", time.RFC1123, time.RFC1123Z} {
		if t, err := time.Parse(form, s); err == nil && t.Year() > 1980 {
			return t.UTC()
		}
	}
	return time.Time{}
}
