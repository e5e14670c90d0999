// Package record takes down what happens in an attempt, on the attempt's clock.
//
// The Timeline is the spine: each recorder, and whoever carries the work out, notes events on it. A Recorder gathers one kind of
// evidence in a track of its own (core/tracks) while the attempt goes on: DeviceLog the device's log, host/film the screen. A
// new kind is a file here, its track's name in core/tracks, and a line in host/attempt/ready.go.
package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/uitree"
	"tessellant/internal/host/film"
	"tessellant/internal/host/spool"
	"tessellant/internal/phone"
)

// Timeline takes down what happens in an attempt into files in dir. It is a phone's observer.
type Timeline struct {
	dir     string
	zero    time.Time   // monotonic
	phone   phone.Phone // unobserved, for pictures
	film    *film.Film
	shooter *Shots
	looks   *Looks
	keeps   recording.Set
	mask    *masking.Mask
	spool   *spool.Share

	mu       sync.Mutex
	out      *os.File
	w        *timeline.Writer
	err      error
	testCase string
	line     string         // of the script
	element  string         // the locator in that line
	calls    []call         // of this case
	try      int            // of this case
	nth      map[string]int // how often each step came in it
	shots    int
	fresh    []timeline.Event      // not told to those who watch
	freshly  int                   // bytes of them
	bytes    int64                 // of the timeline
	left     map[timeline.Kind]int // events that had no room in it
	spans    []timeline.Span       // cases that are known from a report
}

const (
	maxCalls = 2000 // of a case that are remembered: a crash concerns the newest
	maxFresh = 2000 // events that wait for those who watch
)

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
	at    int64
	line  string
	looks bool
}

func NewTimeline(dir string, p phone.Phone, keeps recording.Set, mask *masking.Mask, room *spool.Share) (*Timeline, error) {
	for _, d := range []string{dir, filepath.Join(dir, "screenshots"), filepath.Join(dir, "trees")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	f, err := os.Create(filepath.Join(dir, "timeline.jsonl"))
	if err != nil {
		return nil, err
	}
	return &Timeline{dir: dir, zero: time.Now(), phone: p, keeps: keeps, out: f, w: timeline.NewWriter(f), mask: mask, spool: room}, nil
}

// Film makes a film of the phone's screen beside the timeline: what is done is told it, and the pictures that are taken come onto it, too.
func (r *Timeline) Film(u *phone.Unit) (*film.Film, error) {
	f, err := film.New(r.dir, u, r.At, r.spool, func(why string) {
		r.Note(timeline.Event{Kind: timeline.Marker, Name: "the video is of single pictures from here on", Answer: why})
	})
	r.film = f
	return f, err
}

// At is a moment on the attempt's clock, in milliseconds.
func (r *Timeline) At(t time.Time) int64 { return t.Sub(r.zero).Milliseconds() }

// Now is this moment on the attempt's clock.
func (r *Timeline) Now() int64 { return r.At(time.Now()) }

// Note writes an event; its time is now unless it has one.
func (r *Timeline) Note(e timeline.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.At == 0 {
		e.At = r.Now()
	}
	if e.Case == "" {
		e.Case = r.testCase
	}
	r.fit(&e)
	switch {
	case e.Kind == timeline.Case && e.Verdict == "":
		number, _ := strconv.Atoi(e.Args["try"])
		r.try, r.nth = max(number, 1), map[string]int{}
	case e.Kind == timeline.Step && r.nth != nil:
		r.nth[e.Name]++
	}
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
func (r *Timeline) fit(e *timeline.Event) {
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
func (r *Timeline) fits(kind timeline.Kind, n int64) bool {
	most := int64(maxTalk)
	switch kind {
	case timeline.Stage, timeline.Case, timeline.Crash:
		r.failed(r.spool.Room(n)) // without them nothing would have a place: they are written all the same
		return true
	case timeline.Marker:
		most = maxTimeline
	}
	if r.bytes+n > most {
		r.leave(kind)
		return false
	}
	if err := r.spool.Room(n); err != nil {
		r.failed(err)
		r.leave(kind)
		return false
	}
	return true
}

func (r *Timeline) leave(kind timeline.Kind) {
	if r.left == nil {
		r.left = map[timeline.Kind]int{}
	}
	r.left[kind]++
}

// sayLeft writes, under mu, what the timeline had no room for.
func (r *Timeline) sayLeft() {
	var said []string
	for _, k := range slices.Sorted(maps.Keys(r.left)) {
		said = append(said, fmt.Sprintf("%d × %s", r.left[k], k))
	}
	if len(said) > 0 {
		_, err := r.w.Append(timeline.Event{At: r.Now(), Kind: timeline.Marker, Name: "the timeline is not whole", Error: "it holds as much as it may; left out: " + strings.Join(said, ", ")})
		r.failed(err)
	}
}

// failed notes, under mu, the first reason for which evidence is not whole.
func (r *Timeline) failed(err error) {
	if err != nil && r.err == nil {
		r.err = err
	}
}

// Whole says why evidence is not whole; nil: it is.
func (r *Timeline) Whole() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

func (r *Timeline) InCase(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.testCase, r.line, r.element, r.calls = name, "", "", nil
}

func (r *Timeline) AtCall(line, element string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.line, r.element = line, element
}

// Command notes a command that has ended; one that may have changed the screen is followed by a picture.
func (r *Timeline) Command(c phone.Command) {
	if c.Marks && c.Err == nil {
		return // it stands there as the moment that it marks
	}
	r.mu.Lock()
	line, element := r.line, r.element
	if r.calls = append(r.calls, call{r.At(c.Start), line, c.Looks}); len(r.calls) > maxCalls {
		r.calls = append([]call(nil), r.calls[maxCalls/2:]...)
	}
	r.mu.Unlock()
	e := timeline.Event{Kind: timeline.Command, At: max(r.At(c.Start), 1), Name: c.Name, Args: c.Args, Took: c.Took.Milliseconds(), Answer: c.Answer, Line: line}
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
	r.Note(e)
	if c.Looks {
		return
	}
	if r.film != nil {
		r.film.Poke()
	}
	if r.shooter != nil {
		r.shooter.poke(c.Name)
	}
}

const (
	// tooSoon is how many ms a look must have gone on before it is told as what led somewhere: an app takes longer than that to die of what acted on it before.
	tooSoon = 100
	// misplaced is by how many ms the device's clock may place a moment too early.
	misplaced = 50
)

// LineAt is the script's line that had begun a command last at a moment of this case; a look that had only just begun led nowhere.
func (r *Timeline) LineAt(at int64) (line string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.calls {
		if c.looks && c.at > at-tooSoon {
			continue
		}
		if c.at <= at+misplaced && c.line != "" {
			line = c.line
		}
	}
	return line
}

func (r *Timeline) File(name string, data []byte) error {
	err := r.spool.Room(int64(len(data)))
	if err == nil {
		err = spool.WriteWhole(filepath.Join(r.dir, filepath.FromSlash(name)), data) // the courier takes it as soon as it is there
	}
	if err != nil {
		err = fmt.Errorf("keep %s: %w", name, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.failed(err)
	return err
}

// Shot takes a screenshot and keeps it under a name that says what it shows.
func (r *Timeline) Shot(ctx context.Context, p phone.Phone, what string) (name string, err error) {
	name, _, err = r.shot(ctx, p, what)
	return name, err
}

func (r *Timeline) shot(ctx context.Context, p phone.Phone, what string) (name string, png []byte, err error) {
	start := time.Now()
	png, err = p.Screenshot(ctx)
	if err != nil {
		return "", nil, err
	}
	if r.film != nil {
		r.film.AddPNG(r.At(start), png)
	}
	r.mu.Lock()
	r.shots++
	name = fmt.Sprintf("screenshots/%03d-%s.png", r.shots, Slug(r.mask.Text(what)))
	r.mu.Unlock()
	return name, png, r.File(name, png)
}

// Moment keeps the screen and its tree as they are now.
func (r *Timeline) Moment(ctx context.Context, p phone.Phone, what string) (shot, tree string, s *uitree.Screen, err error) {
	var err1, err2 error
	var png []byte
	at := r.Now()
	if r.keeps.Keeps(recording.Screenshots, recording.Failures) {
		shot, png, err1 = r.shot(ctx, p, what)
	}
	if s, err2 = p.Tree(ctx); err2 == nil && r.keeps.Keeps(recording.Trees, recording.Failures) {
		tree, err2 = r.tree(s, what)
	}
	r.look(steps.Look{At: at, File: shot}, png, s)
	return shot, tree, s, errors.Join(err1, err2)
}

// look hands a moment of the case that goes on to who looks at pictures and trees.
func (r *Timeline) look(l steps.Look, png []byte, s *uitree.Screen) {
	if r.looks == nil {
		return
	}
	r.mu.Lock()
	l.Case, l.Try = r.testCase, r.try
	r.mu.Unlock()
	if l.Case != "" {
		r.looks.take(l, png, s)
	}
}

// tree keeps a tree beside the newest picture.
func (r *Timeline) tree(s *uitree.Screen, what string) (name string, err error) {
	r.mu.Lock()
	name = fmt.Sprintf("trees/%03d-%s.xml", r.shots, Slug(r.mask.Text(what)))
	r.mu.Unlock()
	return name, r.File(name, []byte(r.mask.Text(s.XML())))
}

// Slug makes of a text what can stand in a file's name.
func Slug(s string) string {
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

// Zero is where the attempt's clock begins.
func (r *Timeline) Zero() time.Time { return r.zero }

// Span puts a case among the events of its time, when the timeline is closed.
func (r *Timeline) Span(s timeline.Span) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.spans = append(r.spans, s)
}

// Fresh gives the events since it was last asked.
func (r *Timeline) Fresh() []timeline.Event {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := r.fresh
	r.fresh, r.freshly = nil, 0
	return out
}

// Close ends the timeline.
func (r *Timeline) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sayLeft()
	r.failed(errors.Join(r.out.Sync(), r.out.Close()))
	if len(r.spans) > 0 {
		marrying.Lock() // it lies in memory whole
		defer marrying.Unlock()
		r.failed(r.marry())
	}
	return r.err
}

// marrying is held while one timeline is written anew: one at a time in the whole process.
var marrying sync.Mutex

// marry writes the timeline anew, with the cases of a report among the events of their time.
func (r *Timeline) marry() error {
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
	for _, e := range timeline.Marry(events, r.spans) {
		if _, err := w.Append(e); err != nil {
			return err
		}
	}
	return spool.WriteWhole(name, out.Bytes())
}
