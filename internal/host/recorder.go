package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/uitree"
	"tessellant/internal/phone"
	"tessellant/internal/script"
)

// recorder takes down what happens in an attempt, on the attempt's clock, into
// files in dir. It is a phone's observer and a script's notes.
type recorder struct {
	dir   string
	zero  time.Time   // monotonic
	phone phone.Phone // unobserved, for pictures
	film  *film
	mask  *masking.Mask
	spool *share

	mu       sync.Mutex
	out      *os.File
	w        *timeline.Writer
	err      error
	testCase string
	line     string // of the script
	element  string // the locator in that line
	calls    []call // of this case
	shots    int
	fresh    []timeline.Event      // not told to those who watch
	freshly  int                   // bytes of them
	bytes    int64                 // of the timeline
	left     map[timeline.Kind]int // events that had no room in it
	reported []timeline.Span       // cases that are known from a report
}

const maxCalls = 2000 // of a case that are remembered: a crash concerns the newest

// Bounds of an attempt's timeline, in bytes. Past the first, what a test writes as often as it likes is left out; past the second, all but how cases came out.
const (
	maxTalk     = 48 << 20
	maxTimeline = 64 << 20
	maxFreshly  = 2 << 20

	maxEventName = 1 << 10
	maxEventText = 64 << 10
	maxEventArg  = 16 << 10
)

// call is a command's moment and its line in the script.
type call struct {
	at   int64
	line string
}

func newRecorder(dir string, p phone.Phone, mask *masking.Mask, room *share) (*recorder, error) {
	for _, d := range []string{dir, filepath.Join(dir, "screenshots"), filepath.Join(dir, "trees")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	f, err := os.Create(filepath.Join(dir, "timeline.jsonl"))
	if err != nil {
		return nil, err
	}
	return &recorder{dir: dir, zero: time.Now(), phone: p, out: f, w: timeline.NewWriter(f), mask: mask, spool: room}, nil
}

// at is a moment on the attempt's clock, in milliseconds.
func (r *recorder) at(t time.Time) int64 { return t.Sub(r.zero).Milliseconds() }

func (r *recorder) now() int64 { return r.at(time.Now()) }

// note writes an event; its time is now unless it has one.
func (r *recorder) note(e timeline.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.At == 0 {
		e.At = r.now()
	}
	if e.Case == "" {
		e.Case = r.testCase
	}
	r.fit(&e)
	n := int64(e.Bytes())
	if !r.fits(e.Kind, n) {
		return
	}
	r.bytes += n
	e, err := r.w.Append(e)
	r.failed(err)
	if len(r.fresh) < maxFresh && r.freshly < maxFreshly {
		r.fresh = append(r.fresh, e)
		r.freshly += e.Bytes()
	}
}

// fit hides secrets in an event, and cuts what is long in it.
func (r *recorder) fit(e *timeline.Event) {
	if len(e.Args) > 0 {
		args := make(map[string]string, len(e.Args))
		for k, v := range e.Args {
			args[foreign.Name(k, 100)] = foreign.Fit(r.mask.Text(v), maxEventArg)
		}
		e.Args = args
	}
	for _, s := range []*string{&e.Case, &e.Name, &e.Line} {
		*s = foreign.Fit(r.mask.Text(*s), maxEventName)
	}
	for _, s := range []*string{&e.Answer, &e.Error, &e.Expected, &e.Actual} {
		*s = foreign.Fit(r.mask.Text(*s), maxEventText)
	}
}

// fits says, under mu, whether there is room for an event, and counts it where there is none.
func (r *recorder) fits(kind timeline.Kind, n int64) bool {
	most := int64(maxTalk)
	switch kind {
	case timeline.Stage, timeline.Case, timeline.Crash:
		r.failed(r.spool.room(n)) // without them nothing would have a place: they are written all the same
		return true
	case timeline.Marker:
		most = maxTimeline
	}
	if r.bytes+n > most {
		r.leave(kind)
		return false
	}
	if err := r.spool.room(n); err != nil {
		r.failed(err)
		r.leave(kind)
		return false
	}
	return true
}

func (r *recorder) leave(kind timeline.Kind) {
	if r.left == nil {
		r.left = map[timeline.Kind]int{}
	}
	r.left[kind]++
}

// sayLeft writes, under mu, what the timeline had no room for.
func (r *recorder) sayLeft() {
	var said []string
	for _, k := range slices.Sorted(maps.Keys(r.left)) {
		said = append(said, fmt.Sprintf("%d × %s", r.left[k], k))
	}
	if len(said) > 0 {
		_, err := r.w.Append(timeline.Event{At: r.now(), Kind: timeline.Marker, Name: "the timeline is not whole", Error: "it holds as much as it may; left out: " + strings.Join(said, ", ")})
		r.failed(err)
	}
}

// failed notes, under mu, the first reason for which evidence is not whole.
func (r *recorder) failed(err error) {
	if err != nil && r.err == nil {
		r.err = err
	}
}

// whole says why evidence is not whole; nil: it is.
func (r *recorder) whole() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

func (r *recorder) inCase(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.testCase, r.line, r.element, r.calls = name, "", "", nil
}

func (r *recorder) atCall(line, element string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.line, r.element = line, element
}

// command is told of each command when it has ended.
func (r *recorder) command(c phone.Command) {
	r.took(c, c.Name != "tree" && c.Name != "screenshot" && c.Name != "keyboard") // these change nothing
}

// took notes a command; one that may have changed the screen is followed by a picture.
func (r *recorder) took(c phone.Command, changes bool) {
	r.mu.Lock()
	line, element := r.line, r.element
	if r.calls = append(r.calls, call{r.at(c.Start), line}); len(r.calls) > maxCalls {
		r.calls = append([]call(nil), r.calls[maxCalls/2:]...)
	}
	r.mu.Unlock()
	e := timeline.Event{Kind: timeline.Command, At: max(r.at(c.Start), 1), Name: c.Name, Args: c.Args, Took: c.Took.Milliseconds(), Answer: c.Answer, Line: line}
	if element != "" && e.Args["element"] == "" {
		e.Args = maps.Clone(c.Args)
		if e.Args == nil {
			e.Args = map[string]string{}
		}
		e.Args["element"] = element
	}
	if c.Err != nil {
		e.Error = c.Err.Error()
	}
	r.note(e)
	if r.film != nil && changes {
		r.film.poke()
	}
}

// lineAt is the script's line that had begun a command last at a moment of this case.
func (r *recorder) lineAt(at int64) (line string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.calls {
		if c.at <= at && c.line != "" {
			line = c.line
		}
	}
	return line
}

func (r *recorder) file(name string, data []byte) error {
	err := r.spool.room(int64(len(data)))
	if err == nil {
		err = writeWhole(filepath.Join(r.dir, filepath.FromSlash(name)), data) // the courier takes it as soon as it is there
	}
	if err != nil {
		err = fmt.Errorf("keep %s: %w", name, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.failed(err)
	return err
}

// shot takes a screenshot and keeps it under a name that says what it shows.
func (r *recorder) shot(ctx context.Context, p phone.Phone, what string) (name string, err error) {
	start := time.Now()
	png, err := p.Screenshot(ctx)
	if err != nil {
		return "", err
	}
	if r.film != nil {
		r.film.addPNG(r.at(start), png)
	}
	r.mu.Lock()
	r.shots++
	name = fmt.Sprintf("screenshots/%03d-%s.png", r.shots, slug(r.mask.Text(what)))
	r.mu.Unlock()
	return name, r.file(name, png)
}

// moment keeps the screen and its tree as they are now.
func (r *recorder) moment(ctx context.Context, p phone.Phone, what string) (shot, tree string, s *uitree.Screen, err error) {
	shot, err1 := r.shot(ctx, p, what)
	s, err2 := p.Tree(ctx)
	if err2 == nil {
		r.mu.Lock()
		tree = fmt.Sprintf("trees/%03d-%s.xml", r.shots, slug(r.mask.Text(what)))
		r.mu.Unlock()
		err2 = r.file(tree, []byte(r.mask.Text(s.XML())))
	}
	return shot, tree, s, errors.Join(err1, err2)
}

func slug(s string) string {
	var b bytes.Buffer
	for _, c := range strings.ToLower(s) {
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9':
			b.WriteRune(c)
		case b.Len() > 0 && b.Bytes()[b.Len()-1] != '-':
			b.WriteByte('-')
		}
		if b.Len() > 60 {
			break
		}
	}
	if out := strings.Trim(b.String(), "-"); out != "" {
		return out
	}
	return "shot"
}

// notes are a script's notes: they take pictures with the phone as it is observed.
type notes struct {
	r *recorder
	p phone.Phone
}

var _ script.Notes = notes{}

// Step keeps a named moment. A screen that may not be pictured has none; that is said, and fails no case.
func (n notes) Step(ctx context.Context, name, line string) error {
	at := n.r.now()
	file, err := n.r.shot(ctx, n.p, name)
	e := timeline.Event{Kind: timeline.Step, At: at, Name: name, Line: line, File: file}
	if err != nil {
		e.Error = err.Error()
	}
	n.r.note(e)
	var refused *phone.Refused
	if errors.As(err, &refused) {
		return nil
	}
	return err
}

// Check notes a check.
func (n notes) Check(about, expected, actual, line string, held bool) {
	e := timeline.Event{Kind: timeline.Check, Name: about, Line: line, Expected: expected, Actual: actual}
	if !held {
		e.Error = "the check failed"
	}
	n.r.note(e)
}

// Log notes a line of the script's own.
func (n notes) Log(text, line string) {
	n.r.note(timeline.Event{Kind: timeline.Log, Answer: text, Line: line})
}

// close ends the timeline.
func (r *recorder) close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sayLeft()
	r.failed(errors.Join(r.out.Sync(), r.out.Close()))
	if len(r.reported) > 0 {
		marrying.Lock() // it lies in memory whole
		defer marrying.Unlock()
		r.failed(r.marry())
	}
	return r.err
}

// marrying is held while one timeline is written anew: one at a time in the whole process.
var marrying sync.Mutex

// marry writes the timeline anew, with the cases of a report among the events of their time.
func (r *recorder) marry() error {
	name := filepath.Join(r.dir, "timeline.jsonl")
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	var events []timeline.Event
	if err := timeline.Read(f, func(e timeline.Event) error { events = append(events, e); return nil }); err != nil {
		return err
	}
	var out bytes.Buffer
	w := timeline.NewWriter(&out)
	for _, e := range timeline.Marry(events, r.reported) {
		if _, err := w.Append(e); err != nil {
			return err
		}
	}
	return writeWhole(name, out.Bytes())
}
