package film

// Those who watch a film as it is made: the device's own film, from the newest picture that needs none before it, or where it does not film, single pictures.

import (
	"context"
	"image"
	"slices"
	"time"

	"tessellant/internal/core/h264"
)

// Rates of a film, in bits a second: plenty for an app's screens, and the least that shows them.
const (
	FullRate  = 2_000_000
	LeastRate = 250_000
)

const (
	// A device writes a picture at once: what has not gone on for shortQuiet is whole. Where it was not, the way is slower, and quiet takes longer.
	shortQuiet = 12 * time.Millisecond
	longQuiet  = 200 * time.Millisecond
	// Who comes begins with the newest picture that needs none before it. Where more than longReplay have come since, the device is asked for a new one, and for
	// freshTakes that is waited for.
	longReplay = 60
	freshTakes = 1500 * time.Millisecond
	// maxBehind is how far behind the newest picture a watcher may be, in ms, before it leaves some out.
	maxBehind = 400
)

// Seen is what a watcher sees next: of a film a picture, or a single picture as JPEG.
type Seen struct {
	At     int64  // ms on the attempt's clock
	Key    bool   // it needs no picture before it
	Record []byte // of a key picture: what a decoder needs to know first (ISO/IEC 14496-15, 5.3.3.1)
	Units  []byte // each with its length before it
	JPEG   []byte
	Behind int64 // ms from its moment to that of the newest
}

// Watcher is one who watches.
type Watcher struct {
	f      *Film
	piece  int   // of the reel; -1: none yet
	kept   int   // its next picture that is not known to have been shown whole
	early  []int // bytes of those from there on that were shown before they were kept
	wait   bool  // for one that needs none before it
	from   int   // of the piece: until then, none before this one will do
	until  time.Time
	jpegAt int64
}

// Watch lets somebody watch.
func (f *Film) Watch() *Watcher {
	w := &Watcher{f: f, piece: -1, wait: true, jpegAt: -1}
	if r := f.reel; r != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		if last := len(r.pieces) - 1; last >= 0 && r.on && r.sinceKey() > longReplay {
			w.piece, w.kept, w.from, w.until = last, len(r.pieces[last].shots), len(r.pieces[last].shots), time.Now().Add(freshTakes)
			r.again()
		}
	}
	return w
}

// sinceKey is how many pictures have come, under mu, since the newest that needs none before it.
func (r *reel) sinceKey() int {
	shots := r.pieces[len(r.pieces)-1].shots
	for i := len(shots) - 1; i >= 0; i-- {
		if shots[i].key {
			return len(shots) - 1 - i
		}
	}
	return len(shots)
}

// Films says whether the device films itself at present.
func (f *Film) Films() bool { return f.reel.filming() }

// Held is how large the screen is as it is held, in pixels; (0, 0): not known yet.
func (f *Film) Held() image.Point {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.held
}

// Anew has the device begin another film, of at most so many bits a second: it begins with a picture that needs none before it.
func (f *Film) Anew(rate int) {
	if f.reel == nil {
		return
	}
	f.reel.mu.Lock()
	f.reel.rate = max(LeastRate, min(rate, FullRate))
	f.reel.mu.Unlock()
	f.reel.again()
}

// Rate is how many bits a second are wanted.
func (f *Film) Rate() int {
	if f.reel == nil {
		return 0
	}
	return f.reel.wanted()
}

func (r *reel) wanted() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.rate
}

func (r *reel) resting() time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.quiet
}

// show shows what has come of the newest pictures to those who watch.
func (r *reel) show(coming []h264.Picture) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.coming = coming
	r.tell()
}

// tell wakes, under mu, those who watch.
func (r *reel) tell() {
	close(r.changed)
	r.changed = make(chan struct{})
}

// Film gives the film's next picture; it waits for one until ctx ends.
func (w *Watcher) Film(ctx context.Context) (Seen, error) {
	r := w.f.reel
	for {
		r.mu.Lock()
		seen, ok, err := w.look()
		changed := r.changed
		r.mu.Unlock()
		if ok || err != nil {
			return seen, err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return seen, ctx.Err()
		}
	}
}

// look gives what comes next where it is there, under the reel's mu.
func (w *Watcher) look() (seen Seen, ok bool, err error) {
	r := w.f.reel
	if last := len(r.pieces) - 1; w.piece < last {
		w.piece, w.kept, w.early, w.wait = last, 0, nil, true
	}
	if w.piece < len(r.pieces) && w.piece >= 0 {
		p := r.pieces[w.piece]
		for len(w.early) > 0 && w.kept < len(p.shots) {
			s := p.shots[w.kept]
			if w.early[0] != int(s.size) {
				if w.early = nil; !s.key { // half of it was shown: what comes after it shows nothing
					r.quiet, w.wait = min(2*r.quiet, longQuiet), true
					r.again()
				}
				break
			}
			w.early = w.early[1:]
			w.kept++
		}
		if len(w.early) == 0 {
			if w.wait || w.kept < len(p.shots) && r.last-p.shots[w.kept].at > maxBehind {
				w.skip(p)
			}
			if !w.wait && w.kept < len(p.shots) {
				s := p.shots[w.kept]
				units := make([]byte, s.size)
				if _, err := p.file.ReadAt(units, s.from); err != nil {
					return seen, false, err
				}
				w.kept++
				return w.seen(h264.Picture{At: s.at, Key: s.key, Parameters: p.parameters, Units: units}), true, nil
			}
		}
	}
	if len(w.early) >= len(r.coming) {
		return seen, false, nil
	}
	c := r.coming[len(w.early)]
	if same := w.piece >= 0 && w.piece < len(r.pieces) && r.pieces[w.piece].parameters == c.Parameters; !same && len(w.early) == 0 {
		if !c.Key || !c.Parameters.Whole() {
			return seen, false, nil
		}
		w.piece, w.kept, w.wait = len(r.pieces), 0, false
	}
	if w.wait && !c.Key {
		return seen, false, nil
	}
	w.wait = false
	w.early = append(w.early, len(c.Units))
	c.Units = slices.Clone(c.Units)
	return w.seen(c), true, nil
}

// skip goes to the newest kept picture that needs none before it, where there is one ahead.
func (w *Watcher) skip(p *piece) {
	least := w.kept
	if w.wait && w.from > 0 && time.Now().After(w.until) { // none came: what there is must do
		least, w.from = 0, 0
	}
	for i := len(p.shots) - 1; i > least || w.wait && i == least; i-- {
		if p.shots[i].key {
			w.kept, w.wait = i, false
			return
		}
	}
	if w.wait {
		w.kept = len(p.shots)
	}
}

// again has the device begin another film.
func (r *reel) again() {
	select {
	case r.anew <- struct{}{}:
	default:
	}
}

func (w *Watcher) seen(p h264.Picture) Seen {
	s := Seen{At: p.At, Key: p.Key, Units: p.Units, Behind: max(0, w.f.reel.last-p.At)}
	if p.Key {
		s.Record = p.Parameters.Record()
	}
	return s
}

// Single gives the newest single picture, once it is another than the last; it waits for one until ctx ends.
func (w *Watcher) Single(ctx context.Context) (Seen, error) {
	for {
		w.f.mu.Lock()
		shown, at, turned := w.f.shown, w.f.shownAt, w.f.turned
		w.f.mu.Unlock()
		if shown != nil && at != w.jpegAt {
			w.jpegAt = at
			return Seen{At: at, Key: true, JPEG: shown}, nil
		}
		select {
		case <-turned:
		case <-ctx.Done():
			return Seen{}, ctx.Err()
		}
	}
}
