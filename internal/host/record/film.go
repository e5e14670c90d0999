package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	xdraw "golang.org/x/image/draw"

	"tessellant/internal/core/recording"
	"tessellant/internal/host/spool"
	"tessellant/internal/phone"
)

// Film keeps the distinct pictures of a screen with their times, and makes a
// video of them at the end. It takes a picture after each command and now and
// then, on a stream of its own: a command never waits for it.
type Film struct {
	dir    string
	phone  *phone.Unit
	at     func(time.Time) int64
	poked  chan struct{}
	fresh  chan picture  // taken, and not developed yet
	packed bool          // pictures only come as PNG
	first  chan struct{} // closed when the first was taken, or could not be
	share  *spool.Share

	mu      sync.Mutex
	frames  []frame
	shown   []byte // the newest frame
	shownAt int64
	last    []byte // the newest picture, as it came
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

// NewFilm makes a film of a phone's screen: pictures that the timeline takes come onto it, too.
func NewFilm(dir string, u *phone.Unit, t *Timeline, room *spool.Share) (*Film, error) {
	f, err := newFilm(dir, u, t.At, room)
	t.film = f
	return f, err
}

func newFilm(dir string, u *phone.Unit, at func(time.Time) int64, room *spool.Share) (*Film, error) {
	dir = filepath.Join(dir, "frames")
	return &Film{share: room, dir: dir, phone: u, at: at, poked: make(chan struct{}, 1), fresh: make(chan picture, 16), first: make(chan struct{})}, os.MkdirAll(dir, 0o700)
}

// poke says that something may have changed.
func (f *Film) poke() {
	select {
	case f.poked <- struct{}{}:
	default:
	}
}

// Begun waits until there is a picture, for a moment at most: what is over at once has a film, too.
func (f *Film) Begun(ctx context.Context) {
	select {
	case <-f.first:
	case <-time.After(firstPicture):
	case <-ctx.Done():
	}
}

// Name implements Recorder.
func (f *Film) Name() string { return recording.Video }

// Record implements Recorder.
func (f *Film) Record(ctx context.Context) error {
	var develops sync.WaitGroup
	develops.Go(func() { f.develop(ctx) })
	defer develops.Wait()
	f.roll(ctx)
	return nil
}

// Close implements Recorder.
func (f *Film) Close() error {
	f.rest()
	f.mu.Lock()
	defer f.mu.Unlock()
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
		f.addPNG(f.at(start), raw)
	}
}

// addPNG adds a packed picture.
func (f *Film) addPNG(at int64, raw []byte) {
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
	f.mu.Lock()
	defer f.mu.Unlock()
	if bytes.Equal(p.raw, f.last) || len(f.frames) >= maxFrames {
		return
	}
	if n := len(f.frames); n > 0 && p.at <= f.frames[n-1].at {
		return // an older picture that came later
	}
	f.last = p.raw
	img, err := p.open()
	if err != nil {
		f.err = err
		return
	}
	if f.size == (image.Point{}) {
		b := img.Bounds()
		w := min(filmWidth, b.Dx()) &^ 1
		f.size = image.Pt(w, max(2, b.Dy()*w/b.Dx())&^1)
	}
	small := image.NewRGBA(image.Rectangle{Max: f.size})
	xdraw.ApproxBiLinear.Scale(small, fitted(img.Bounds().Size(), f.size), img, img.Bounds(), xdraw.Src, nil)
	name := fmt.Sprintf("%06d.jpg", len(f.frames)+1)
	var buf bytes.Buffer
	err = jpeg.Encode(&buf, small, &jpeg.Options{Quality: 80})
	if err == nil {
		err = f.share.Room(int64(buf.Len()))
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(f.dir, name), buf.Bytes(), 0o600)
	}
	if err != nil {
		f.err = err
		return
	}
	f.taken += int64(buf.Len())
	f.frames = append(f.frames, frame{p.at, name})
	f.shown, f.shownAt = buf.Bytes(), p.at
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

// Encode makes an H.264 video that lasts until end (ms on the attempt's clock)
// and starts at zero, so that its time is the attempt's. Times are exact to the millisecond: the list
// sets the frame rate of each picture's demuxer to 1000.
func (f *Film) Encode(ctx context.Context, target string, end int64) error {
	f.rest()
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.frames) == 0 {
		if f.err != nil {
			return f.err
		}
		return fmt.Errorf("no picture of the screen could be taken")
	}
	ffmpeg, err := exec.LookPath("ffmpeg")
	if err != nil {
		return fmt.Errorf("ffmpeg is not installed; on Debian: apt-get install ffmpeg")
	}
	var list strings.Builder
	list.WriteString("ffconcat version 1.0\n")
	for i, fr := range f.frames {
		from, to := fr.at, end
		if i == 0 {
			from = 0
		}
		if i+1 < len(f.frames) {
			to = f.frames[i+1].at
		}
		fmt.Fprintf(&list, "file %s\noption framerate 1000\nduration %.3f\n", fr.file, float64(max(to-from, 1))/1000)
	}
	// The last picture stands once more: its own duration counts only then.
	fmt.Fprintf(&list, "file %s\noption framerate 1000\n", f.frames[len(f.frames)-1].file)
	listFile := filepath.Join(f.dir, "list.ffconcat")
	if err := os.WriteFile(listFile, []byte(list.String()), 0o600); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, ffmpeg, "-nostdin", "-v", "error", "-y", "-threads", "1", "-f", "concat", "-safe", "0", "-i", listFile,
		"-vf", fmt.Sprintf("scale=%d:%d:flags=area:out_color_matrix=bt709:out_range=tv,format=yuv420p", f.size.X, f.size.Y),
		"-fps_mode", "vfr", "-c:v", "libx264", "-preset", "veryfast", "-bf", "0", "-crf", "28", "-g", "10", "-threads", "1",
		"-color_primaries", "bt709", "-color_trc", "bt709", "-colorspace", "bt709", "-color_range", "tv", "-movflags", "+faststart", target)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the video can't be encoded: %w: %s", err, strings.TrimSpace(string(out)))
	}
	if err := os.RemoveAll(f.dir); err != nil {
		return err
	}
	f.share.Back(f.taken)
	if i, err := os.Stat(target); err == nil {
		_ = f.share.Room(i.Size()) // it is smaller than its frames, mostly
	}
	return nil
}
