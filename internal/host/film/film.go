// Package film films the screen of a device, and makes a video of it.
//
// In: a device, a folder, a clock. Out: an H.264 video whose time is the clock's, and the newest picture for those who watch. Where the device films by itself
// (reel.go), the video is of that; else of single pictures (film.go). video.go puts the parts together at the end.
package film

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"path/filepath"
	"sync"
	"time"

	xdraw "golang.org/x/image/draw"

	"tessellant/internal/core/recording"
	"tessellant/internal/host/spool"
	"tessellant/internal/phone"
)

// Film films a screen, and makes a video of it at the end. Where the device films by itself, the video is of that. It takes pictures besides, after each command
// and now and then, on a stream of its own: for those who watch, and for the video while the device does not film. A command never waits for any of it.
type Film struct {
	dir    string
	phone  *phone.Unit
	at     func(time.Time) int64
	poked  chan struct{}
	fresh  chan picture  // taken, and not developed yet
	packed bool          // pictures only come as PNG
	first  chan struct{} // closed when the first was taken, or could not be
	share  *spool.Share
	reel   *reel // nil: the device does not film

	mu      sync.Mutex
	turned  chan struct{} // closed, and made anew, with each picture that is shown
	held    image.Point   // how large the screen is as it is held
	frames  []frame       // of the times at which the device did not film
	shown   []byte        // the newest picture
	shownAt int64
	last    []byte // as it came
	passed  bool   // it is none of the frames
	size    image.Point
	taken   int64 // bytes of the frames
	err     error
}

// picture is one that was taken.
type picture struct {
	at   int64
	raw  []byte // by which it is told apart
	open func() (image.Image, error)
}

type frame struct {
	at   int64 // ms on the attempt's clock
	file string
}

const (
	filmWidth = 540                    // pixels of a frame
	idleEvery = 1 * time.Second        // between pictures when nothing is commanded
	settle    = 250 * time.Millisecond // from a command to the second picture after it
	longTake  = 600 * time.Millisecond // more than a phone needs for a picture
	maxRest   = 5 * time.Second
	// firstPicture is how long work waits for the first one; installing takes longer, mostly.
	firstPicture = 2 * time.Second
	maxFrames    = 20_000
)

// New makes a film of a phone's screen, with moments on a clock of ms. Say is told why the device itself films no more.
func New(dir string, u *phone.Unit, at func(time.Time) int64, room *spool.Share, say func(why string)) (*Film, error) {
	dir = filepath.Join(dir, "frames")
	f := &Film{share: room, dir: dir, phone: u, at: at, poked: make(chan struct{}, 1), fresh: make(chan picture, 16), first: make(chan struct{}), turned: make(chan struct{})}
	if u != nil && u.Filmer != nil {
		f.reel = newReel(dir, u.Filmer, at, room, say)
	}
	return f, os.MkdirAll(dir, 0o700)
}

// Poke says that something may have changed.
func (f *Film) Poke() {
	select {
	case f.poked <- struct{}{}:
	default:
	}
}

// Begun waits until there is a picture, for a moment at most: what is over at once has a film, too.
func (f *Film) Begun(ctx context.Context) {
	wait := time.NewTimer(firstPicture)
	defer wait.Stop()
	all := []chan struct{}{f.first}
	if f.reel != nil {
		all = append(all, f.reel.begun)
	}
	for _, begun := range all {
		select {
		case <-begun:
		case <-wait.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

// Name is what it gathers, as core/recording calls it.
func (f *Film) Name() string { return recording.Video }

// Record films until ctx ends.
func (f *Film) Record(ctx context.Context) error {
	var others sync.WaitGroup
	defer others.Wait()
	others.Go(func() { f.develop(ctx) })
	if f.reel != nil {
		others.Go(func() { f.reel.roll(ctx) })
	}
	f.roll(ctx)
	return nil
}

// Close lets go of the film's files, and says why it is not whole.
func (f *Film) Close() error {
	f.rest()
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.reel != nil {
		f.reel.close()
	}
	return f.err
}

// Newest gives the newest frame, as JPEG, and its moment. A nil film has none.
func (f *Film) Newest() ([]byte, int64) {
	if f == nil {
		return nil, 0
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.shown, f.shownAt
}

// roll takes pictures until ctx ends.
func (f *Film) roll(ctx context.Context) {
	f.take(ctx)
	close(f.first)
	t := time.NewTimer(settle)
	defer t.Stop()
	poked := f.poked
	for {
		next := idleEvery
		select {
		case <-poked:
			next = settle
		case <-t.C:
		case <-ctx.Done():
			return
		}
		start := time.Now()
		f.take(ctx)
		poked = f.poked
		// Where pictures take long, the device or this host has too much to do: they are taken less often.
		if over := time.Since(start) - longTake; over > 0 {
			poked, next = nil, next+min(4*over, maxRest)
		}
		t.Reset(next)
	}
}

// take takes a picture: where the link is quick without packing it, which is
// what costs most.
func (f *Film) take(ctx context.Context) {
	start := time.Now()
	if p := f.phone.Pixels; p != nil && !f.packed && p.QuickLink() {
		img, err := p.Pixels(ctx)
		if err == nil {
			f.add(picture{f.at(start), img.Pix, func() (image.Image, error) { return img, nil }})
			return
		}
		var lost *phone.Lost
		if ctx.Err() != nil || errors.As(err, &lost) {
			return
		}
		f.packed = true // this device gives pictures in no other way
	}
	if raw, err := f.phone.Screenshot(ctx); err == nil {
		f.AddPNG(f.at(start), raw)
	}
}

// AddPNG adds a packed picture.
func (f *Film) AddPNG(at int64, raw []byte) {
	f.add(picture{at, raw, func() (image.Image, error) { return phone.Unpacked(raw) }})
}

// add hands a picture over for development, and never waits: when too many are
// waiting already, it is left out.
func (f *Film) add(p picture) {
	select {
	case f.fresh <- p:
	default:
	}
}

// develop makes frames of pictures until ctx ends.
func (f *Film) develop(ctx context.Context) {
	for {
		select {
		case p := <-f.fresh:
			f.frame(p)
		case <-ctx.Done():
			return
		}
	}
}

// rest develops what waits still.
func (f *Film) rest() {
	for {
		select {
		case p := <-f.fresh:
			f.frame(p)
		default:
			return
		}
	}
}

// frame makes a frame of a picture, unless it is as the one before.
func (f *Film) frame(p picture) {
	filmed := f.reel.filming()
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.last != nil && (p.at <= f.shownAt || bytes.Equal(p.raw, f.last) && (filmed || !f.passed)) || len(f.frames) >= maxFrames {
		return // an older picture that came later, or the same
	}
	f.last, f.shownAt = p.raw, p.at
	img, err := p.open()
	if err != nil {
		f.broke(err, filmed)
		return
	}
	if f.size == (image.Point{}) {
		b := img.Bounds()
		w := min(filmWidth, b.Dx()) &^ 1
		f.size = image.Pt(w, max(2, b.Dy()*w/b.Dx())&^1)
	}
	small := image.NewRGBA(image.Rectangle{Max: f.size})
	xdraw.ApproxBiLinear.Scale(small, fitted(img.Bounds().Size(), f.size), img, img.Bounds(), xdraw.Src, nil)
	var buf bytes.Buffer
	if err := jpeg.Encode(&buf, small, &jpeg.Options{Quality: 80}); err != nil {
		f.broke(err, filmed)
		return
	}
	f.shown, f.passed, f.held = buf.Bytes(), filmed, img.Bounds().Size()
	close(f.turned)
	f.turned = make(chan struct{})
	if filmed {
		return
	}
	name := fmt.Sprintf("%06d.jpg", len(f.frames)+1)
	if err = f.share.Room(int64(buf.Len())); err == nil {
		err = os.WriteFile(filepath.Join(f.dir, name), buf.Bytes(), 0o600)
	}
	if err != nil {
		f.err = err
		return
	}
	f.taken += int64(buf.Len())
	f.frames = append(f.frames, frame{p.at, name})
}

// broke notes, under mu, that a picture is missing from the video; one that only those who watch would have seen is not.
func (f *Film) broke(err error, filmed bool) {
	if !filmed {
		f.err = err
	}
}

// fitted is where a picture lies in a frame: all of it, as large as possible, in the middle. A
// screen that was turned leaves bars at two sides.
func fitted(picture, frame image.Point) image.Rectangle {
	w, h := frame.X, picture.Y*frame.X/max(picture.X, 1)
	if h > frame.Y+1 {
		w, h = picture.X*frame.Y/max(picture.Y, 1), frame.Y
	}
	h = min(h, frame.Y)
	if frame.Y-h <= 2 {
		h = frame.Y
	}
	return image.Rect(0, 0, w, h).Add(image.Pt((frame.X-w)/2, (frame.Y-h)/2))
}
