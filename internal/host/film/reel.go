package film

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"tessellant/internal/core/h264"
	"tessellant/internal/host/spool"
	"tessellant/internal/phone"
)

// reel keeps the film that a device makes of its own screen: its pictures as they come, each with the moment at which its first byte came. A device ends its
// film after three minutes: the next one begins before that, and takes over with its first picture.
type reel struct {
	dir    string
	phone  phone.Filmer
	at     func(time.Time) int64
	share  *spool.Share
	failed func(why string) // told when there is no film any more
	every  time.Duration    // how long one goes on before the next begins
	begun  chan struct{}    // closed when the first picture has come, or none will
	once   sync.Once
	films  sync.WaitGroup
	anew   chan struct{} // another film is wanted now, with the rate as it is

	mu     sync.Mutex
	on     bool
	pieces []*piece
	taken  int64 // bytes
	shots  int
	last   int64 // when the newest picture came

	// For those who watch.
	rate    int            // bits a second that are wanted
	coming  []h264.Picture // behind those that are kept: what has come of the newest, which is whole unless more follows
	quiet   time.Duration  // how long nothing must come for that to be shown
	changed chan struct{}  // closed, and made anew, with each picture
}

// piece is a part of the film whose pictures need the same parameters.
type piece struct {
	file       *os.File
	parameters h264.Parameters
	shots      []shot
	size       int64
}

type shot struct {
	at   int64 // ms on the attempt's clock
	from int64 // where it lies in the file
	size int32
	key  bool
}

const (
	filmFor   = 170 * time.Second
	shortFilm = 10 * time.Second // one that ends before did not end as it should
	maxShort  = 3                // in a row
	shortRest = 500 * time.Millisecond
	// A film that ends is read until nothing has come for filmRest, for filmRests at most: what came last is whole then.
	filmRest  = 100 * time.Millisecond
	filmRests = 500 * time.Millisecond
	maxReel   = 1 << 30 // bytes
	maxShots  = 1_000_000
)

var errReelFull = errors.New("the film has as many pictures as it may have")

func newReel(dir string, p phone.Filmer, at func(time.Time) int64, room *spool.Share, failed func(string)) *reel {
	return &reel{dir: dir, phone: p, at: at, share: room, failed: failed, every: filmFor, begun: make(chan struct{}), last: -1,
		anew: make(chan struct{}, 1), rate: FullRate, quiet: shortQuiet, changed: make(chan struct{})}
}

// camera is one film that the device makes.
type camera struct {
	chunks chan chunk // closed when it has ended
	err    error      // why; to be read then
	cancel context.CancelFunc
	split  h264.Splitter
	since  time.Time
	came   time.Time // when something came last
}

type chunk struct {
	came time.Time
	raw  []byte
}

// film begins a film.
func (r *reel) film(ctx context.Context) *camera {
	ctx, cancel := context.WithCancel(ctx)
	c := &camera{chunks: make(chan chunk, 16), cancel: cancel, since: time.Now()}
	r.films.Go(func() {
		defer close(c.chunks)
		s, err := r.phone.Film(ctx, filmWidth, r.wanted())
		if err != nil {
			c.err = err
			return
		}
		defer s.Close()
		defer context.AfterFunc(ctx, func() { _ = s.Close() })()
		for buf := make([]byte, 64<<10); ; {
			n, err := s.Read(buf)
			if n > 0 {
				select {
				case c.chunks <- chunk{time.Now(), append([]byte(nil), buf[:n]...)}:
				case <-ctx.Done():
					return
				}
			}
			if err != nil {
				if c.err = err; errors.Is(err, io.EOF) {
					c.err = errors.New("it ended by itself")
				}
				return
			}
		}
	})
	return c
}

// roll films until ctx ends, or until the device films no more.
func (r *reel) roll(ctx context.Context) {
	defer r.films.Wait()
	defer r.once.Do(func() { close(r.begun) })
	filming, stop := context.WithCancel(context.WithoutCancel(ctx)) // it goes on a little longer
	defer stop()
	now := r.film(filming)
	var next *camera
	alone, ever, short := false, false, 0
	over := time.NewTimer(r.every)
	defer over.Stop()
	rest := time.NewTimer(time.Hour)
	defer rest.Stop()
	for {
		var others chan chunk
		if next != nil {
			others = next.chunks
		}
		select {
		case <-ctx.Done():
			r.end(now)
			return
		case <-over.C:
			if !alone && next == nil {
				next = r.film(filming)
			}
		case <-r.anew:
			if !alone && next == nil {
				next = r.film(filming)
			}
		case <-rest.C:
			r.show(now.split.Pending())
		case k, ok := <-others:
			if !ok { // it makes one film at a time
				alone, next = true, nil
				continue
			}
			whole, err := next.feed(k, r)
			if next.split.Begun() {
				now.cancel()
				r.finish(now, true)
				now, next = next, nil
				over.Reset(r.every)
				rest.Reset(r.resting())
			}
			if err = errors.Join(err, r.keep(whole)); err != nil {
				r.set(false)
				r.failed(err.Error())
				return
			}
		case k, ok := <-now.chunks:
			if ok {
				whole, err := now.feed(k, r)
				if err = errors.Join(err, r.keep(whole)); err != nil {
					r.set(false)
					r.failed(err.Error())
					return
				}
				ever = ever || now.split.Begun()
				rest.Reset(r.resting())
				continue
			}
			away := now.away()
			r.finish(now, away)
			if next != nil {
				now, next = next, nil
				over.Reset(r.every)
				continue
			}
			if short++; time.Since(now.since) > min(shortFilm, r.every/2) {
				short = 0
			}
			if away {
				return
			}
			r.set(false)
			if !ever || short >= maxShort {
				r.failed(now.err.Error())
				return
			}
			if phone.Pause(ctx, time.Duration(short)*shortRest) != nil {
				return
			}
			now = r.film(filming)
			over.Reset(r.every)
		}
	}
}

// away says, of a film that has ended, that the device went away.
func (c *camera) away() bool {
	var lost *phone.Lost
	return errors.As(c.err, &lost)
}

// end ends the film when the attempt does: with all that the device has made by then.
func (r *reel) end(c *camera) {
	defer c.cancel()
	rest := time.NewTimer(filmRests)
	defer rest.Stop()
	for cut := false; ; {
		select {
		case k, ok := <-c.chunks:
			if ok {
				whole, err := c.feed(k, r)
				if errors.Join(err, r.keep(whole)) == nil {
					continue
				}
			}
			cut = !ok && c.away()
		case <-time.After(filmRest):
		case <-rest.C:
			cut = true
		}
		r.finish(c, cut)
		return
	}
}

// finish takes in what a film ends with; where it was cut, the newest picture may be half there.
func (r *reel) finish(c *camera, cut bool) {
	_ = r.keep(c.split.End(cut && time.Since(c.came) < filmRest))
	r.show(nil)
}

// feed takes in what came, and gives the pictures that are whole by it.
func (c *camera) feed(k chunk, r *reel) ([]h264.Picture, error) {
	c.came = k.came
	whole, err := c.split.Feed(k.raw, r.at(k.came))
	if c.split.Begun() {
		r.set(true)
	}
	return whole, err
}

func (r *reel) set(on bool) {
	r.mu.Lock()
	r.on = on
	r.mu.Unlock()
	if on {
		r.once.Do(func() { close(r.begun) })
	}
}

// filming says whether the device films its screen; also when the attempt has ended, of what was pictured until then. A nil reel does not.
func (r *reel) filming() bool {
	if r == nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.on
}

// keep writes pictures.
func (r *reel) keep(pictures []h264.Picture) error {
	if len(pictures) == 0 {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	defer r.tell()
	r.coming = nil
	for _, p := range pictures {
		if err := r.write(p); err != nil {
			return err
		}
	}
	return nil
}

// write writes a picture, under mu.
func (r *reel) write(p h264.Picture) error {
	var now *piece
	if n := len(r.pieces); n > 0 {
		now = r.pieces[n-1]
	}
	if !p.Parameters.Whole() || !p.Key && (now == nil || now.parameters != p.Parameters) {
		return nil // it needs one before it, which is not there
	}
	size := int64(len(p.Units))
	if r.shots >= maxShots || r.taken+size > maxReel {
		return errReelFull
	}
	if err := r.share.Room(size); err != nil {
		return err
	}
	if now == nil || now.parameters != p.Parameters {
		f, err := os.OpenFile(filepath.Join(r.dir, strconv.Itoa(len(r.pieces))+".reel"), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if err != nil {
			return err
		}
		now = &piece{file: f, parameters: p.Parameters}
		r.pieces = append(r.pieces, now)
	}
	if _, err := now.file.WriteAt(p.Units, now.size); err != nil {
		return err
	}
	r.shots++
	r.taken += size
	r.last = max(p.At, r.last+1)
	now.shots = append(now.shots, shot{r.last, now.size, int32(size), p.Key})
	now.size += size
	return nil
}

// close closes the files of the film.
func (r *reel) close() {
	for _, p := range r.pieces {
		_ = p.file.Close()
	}
}
