package record

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/likeness"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/remarks"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/uitree"
	"tessellant/internal/guard"
	"tessellant/internal/host/spool"
)

// Looks looks at the pictures and the trees of steps and of failures, beside the test: what they show in short, and what is wrong with them. It writes a track.
type Looks struct {
	log      *slog.Logger
	timeline *Timeline
	name     string   // of its file
	out      *os.File // nil: there was no look yet
	rows     lines
	app      string
	facts    func() devices.Facts // of the device as it is set
	set      conditions.Set
	refs     *steps.References // nil: there are none
	All      bool              // each step needs its tree

	mu      sync.Mutex
	waiting []moment
	bytes   int           // of their pictures
	left    int           // for which there was no room
	busy    bool          // one is looked at
	idle    chan struct{} // closed when nothing waits any more; nil: nothing does
	woken   chan struct{}
	found   map[ofTry][]remarks.Remark
	err     error
}

// moment is what waits to be looked at.
type moment struct {
	steps.Look
	png    []byte
	screen *uitree.Screen
}

type ofTry struct {
	name string
	try  int
}

const (
	maxMoments     = 64        // that wait
	maxMomentBytes = 16 << 20  // of their pictures
	maxAllBytes    = 256 << 20 // of those of all attempts in this process
)

// allBytes are the bytes of all pictures that wait.
var allBytes atomic.Int64

// looking is held while one picture is looked at: one at a time in the whole process, so that the devices' commands are not delayed.
var looking sync.Mutex

// NewLooks makes the track's recorder; the file comes into dir with the first look.
func NewLooks(dir string, log *slog.Logger, t *Timeline, app string, facts func() devices.Facts, set conditions.Set, refs *steps.References, room *spool.Share) *Looks {
	l := &Looks{log: log, timeline: t, name: filepath.Join(dir, tracks.Looks), rows: lines{share: room}, app: app, facts: facts, set: set, refs: refs, woken: make(chan struct{}, 1), found: map[ofTry][]remarks.Remark{}}
	t.looks = l
	return l
}

// Name implements Recorder.
func (l *Looks) Name() string { return recording.Screenshots }

// take takes a moment in. Where too many wait it is left out, and that is said at the end.
func (l *Looks) take(at steps.Look, png []byte, screen *uitree.Screen) {
	if png == nil && screen == nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.waiting) >= maxMoments || l.bytes+len(png) > maxMomentBytes || allBytes.Load() > maxAllBytes {
		l.left++
		return
	}
	allBytes.Add(int64(len(png)))
	l.waiting = append(l.waiting, moment{at, png, screen})
	l.bytes += len(png)
	if l.idle == nil {
		l.idle = make(chan struct{})
	}
	select {
	case l.woken <- struct{}{}:
	default:
	}
}

// Record implements Recorder.
func (l *Looks) Record(ctx context.Context) error {
	for {
		for ctx.Err() == nil && l.next() {
		}
		select {
		case <-l.woken:
		case <-ctx.Done():
			return nil // Close looks at the rest
		}
	}
}

// next looks at what has waited longest; false: nothing waits.
func (l *Looks) next() bool {
	l.mu.Lock()
	if len(l.waiting) == 0 || l.busy {
		l.mu.Unlock()
		return false
	}
	m := l.waiting[0]
	l.waiting, l.busy = l.waiting[1:], true
	l.bytes -= len(m.png)
	allBytes.Add(-int64(len(m.png)))
	l.mu.Unlock()
	err := l.look(m)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.busy = false
	if err != nil && l.err == nil {
		l.err = err
	}
	if len(l.waiting) == 0 && l.idle != nil {
		close(l.idle)
		l.idle = nil
	}
	return true
}

// look looks at one moment, and writes what it found.
func (l *Looks) look(m moment) (err error) {
	looking.Lock()
	defer looking.Unlock()
	return guard.Do(l.log, guard.Record, func() error {
		scale := l.scale()
		var img image.Image
		if m.png != nil {
			if img, err = likeness.Decode(m.png); err != nil {
				return err
			}
			p := likeness.Of(img, scale, l.front(m.screen))
			m.Print = &p
			m.Kind = l.kind(img)
		}
		if m.screen != nil {
			font, _ := strconv.ParseFloat(l.set[conditions.FontScale], 64)
			s := remarks.Screen{Tree: m.screen, Picture: img, Scale: scale, App: l.app, Font: font, IOS: l.facts().Platform == "ios"}
			seen := remarks.See(s)
			m.Seen, m.Remarks = &seen, remarks.Find(s)
			if m.Print != nil {
				m.Print.More = seen.Scrolls
			}
			l.hide(m.Look)
		}
		line, err := json.Marshal(m.Look)
		if err != nil {
			return err
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.found[ofTry{m.Case, m.Try}] = append(l.found[ofTry{m.Case, m.Try}], m.Remarks...)
		if l.out == nil {
			if l.out, err = os.OpenFile(l.name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
				return err
			}
			l.rows.out = l.out
		}
		return l.rows.add(append(line, '\n'))
	})
}

// hide hides secrets in what is told of a screen.
func (l *Looks) hide(x steps.Look) {
	text := l.timeline.mask.Text
	for i := range x.Seen.Parts {
		p := &x.Seen.Parts[i]
		p.Key, p.What, p.Text = text(p.Key), text(p.What), text(p.Text)
	}
	for i := range x.Remarks {
		r := &x.Remarks[i]
		r.Key, r.What, r.Says = text(r.Key), text(r.What), text(r.Says)
	}
}

// front is where the app's elements lie; empty: that is not known.
func (l *Looks) front(s *uitree.Screen) (r image.Rectangle) {
	if s == nil {
		return r
	}
	for _, e := range s.All() {
		if len(e.Children) == 0 && (l.app == "" || e.App == l.app) {
			r = r.Union(image.Rect(e.Bounds.Left, e.Bounds.Top, e.Bounds.Right, e.Bounds.Bottom))
		}
	}
	return r
}

func (l *Looks) scale() float64 {
	if d := l.facts().Density; d > 0 {
		return float64(d) / 160
	}
	return 1
}

func (l *Looks) kind(img image.Image) string {
	return steps.KindOf(l.facts(), l.set, img.Bounds().Dx(), img.Bounds().Dy())
}

// against holds a step's picture against its reference; nil: there is none.
func (l *Looks) against(at steps.Look, png []byte) *steps.Moved {
	img, err := likeness.Decode(png)
	if err != nil {
		return &steps.Moved{Error: err.Error()}
	}
	return l.refs.Against(steps.Spot{Case: at.Case, Step: at.Step, Nth: at.Nth, Kind: l.kind(img)}, img, l.scale())
}

// Found gives the remarks on the screens of a try, once all that was kept of it was looked at.
func (l *Looks) Found(name string, try int, within time.Duration) []remarks.Remark {
	l.mu.Lock()
	idle := l.idle
	l.mu.Unlock()
	if idle != nil {
		select {
		case <-idle:
		case <-time.After(within):
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	out := slices.Clone(l.found[ofTry{name, try}])
	remarks.Sort(out)
	return out
}

// Close implements Recorder.
func (l *Looks) Close() error {
	for l.next() {
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.left > 0 {
		l.timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "not all screens were looked at", Answer: fmt.Sprintf("%d steps came faster than their pictures could be read", l.left)})
	}
	if l.out == nil {
		return l.err
	}
	return errors.Join(l.err, l.out.Close())
}
