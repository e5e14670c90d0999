package hands

// One who watches, or has the device in hand.

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"image"
	"sync"
	"time"

	"tessellant/internal/host/film"
	"tessellant/internal/hostlink"
)

const (
	// lookEvery is how long a picture is waited for before it is looked at what comes at all.
	lookEvery   = time.Second
	singleEvery = 250 * time.Millisecond // the same, of single pictures
	// writeTakes is how long somebody may take nothing before they are taken for gone.
	writeTakes = 30 * time.Second
	// Who was late with lateTimes pictures within lateWithin gets a smaller film, and after goodFor in time a larger one again.
	lateBy     = 300 * time.Millisecond
	lateTimes  = 3
	lateWithin = 10 * time.Second
	goodFor    = 30 * time.Second
	maxTold    = 64 // that wait to be told; later ones are left out
)

type seat struct {
	d    *Device
	c    hostlink.Stream
	who  hostlink.Watch
	told chan hostlink.Told
	gone chan struct{} // closed when they have left
	once sync.Once

	writing sync.Mutex // guards c's writing

	mu    sync.Mutex
	wants string        // film, single or none
	now   chan struct{} // closed, and made anew, when that changes

	late []time.Time
	good time.Time // since when pictures were in time
}

func newSeat(d *Device, c hostlink.Stream, who hostlink.Watch) *seat {
	return &seat{d: d, c: c, who: who, told: make(chan hostlink.Told, maxTold), gone: make(chan struct{}), wants: "film", now: make(chan struct{}), good: time.Now()}
}

// tell tells something, and never waits.
func (s *seat) tell(t hostlink.Told) {
	select {
	case s.told <- t:
	default:
	}
}

// leave ends it, once; why is told.
func (s *seat) leave(why string) {
	s.once.Do(func() {
		if s.d.ctx.Err() != nil {
			why = "the device is given back"
		}
		_ = s.c.CloseWith(why)
	})
}

// serve serves it until it leaves.
func (s *seat) serve(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer s.leave("")
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	all.Go(func() { s.telling(ctx) })
	all.Go(func() { s.picture(ctx) })
	s.hear()
}

// hear takes in what the person does until the stream ends.
func (s *seat) hear() {
	for {
		kind, body, err := hostlink.ReadFrame(s.c, hostlink.MaxDone)
		if err != nil {
			return
		}
		var done hostlink.Done
		if kind != hostlink.FrameText || json.Unmarshal(body, &done) != nil {
			s.tell(hostlink.Told{Problem: &hostlink.Problem{What: "read what was done", Why: "it can't be read", Remedy: "load the page anew"}})
			continue
		}
		if done.Picture != "" {
			s.mu.Lock()
			if s.wants != done.Picture {
				s.wants = done.Picture
				close(s.now)
				s.now = make(chan struct{})
			}
			s.mu.Unlock()
			continue
		}
		if done.Record != nil && s.who.Takes {
			s.d.mu.Lock()
			s.d.record = *done.Record
			s.d.mu.Unlock()
			continue
		}
		if !s.who.Takes {
			s.tell(hostlink.Told{Problem: &hostlink.Problem{What: "touch the device", Why: "your key may watch, and no more", Remedy: "ask an owner of the workspace for a key of an engineer"}})
			continue
		}
		if done.Take {
			s.d.take(s)
			continue
		}
		if !s.d.do(s, done) {
			s.leave("more was done than the device could follow")
			return
		}
	}
}

// write writes a frame.
func (s *seat) write(kind byte, parts ...[]byte) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	_ = s.c.SetWriteDeadline(time.Now().Add(writeTakes))
	return hostlink.WriteFrame(s.c, kind, parts...)
}

// telling tells what there is to tell, until ctx ends.
func (s *seat) telling(ctx context.Context) {
	defer s.leave("")
	for {
		select {
		case t := <-s.told:
			raw, err := json.Marshal(t)
			if err != nil || s.write(hostlink.FrameText, raw) != nil {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// picture shows what is on the screen until ctx ends.
func (s *seat) picture(ctx context.Context) {
	f := s.d.Film
	if f == nil {
		s.tell(hostlink.Told{Picture: "none"})
		<-ctx.Done()
		return
	}
	defer s.leave("")
	w := f.Watch()
	var record []byte
	var screen image.Point
	var shown string
	rate := 0
	for ctx.Err() == nil {
		s.mu.Lock()
		wants, now := s.wants, s.now
		s.mu.Unlock()
		if wants == "film" && !f.Films() {
			wants = "single"
		}
		if size := f.Held(); size != screen && size != (image.Point{}) {
			screen = size
			s.tell(hostlink.Told{Screen: []int{size.X, size.Y}})
		}
		if r := f.Rate(); wants != shown || wants == "film" && r != rate {
			if wants != shown {
				w, record = f.Watch(), nil
			}
			shown, rate = wants, r
			s.tell(hostlink.Told{Picture: shown, Rate: rate})
		}
		if wants != "film" && wants != "single" {
			select {
			case <-now:
			case <-ctx.Done():
			}
			continue
		}
		every := lookEvery
		if wants == "single" {
			f.Poke() // while somebody looks, pictures are taken as often as they may
			every = singleEvery
		}
		look, cancel := context.WithTimeout(ctx, every)
		var seen film.Seen
		var err error
		if wants == "film" {
			seen, err = w.Film(look)
		} else {
			seen, err = w.Single(look)
		}
		cancel()
		if err != nil {
			continue // nothing has changed
		}
		begun := time.Now()
		if err := s.show(seen, &record); err != nil {
			return
		}
		if wants == "film" {
			s.follow(time.Since(begun) + time.Duration(seen.Behind)*time.Millisecond)
		}
	}
}

// show shows one picture.
func (s *seat) show(seen film.Seen, record *[]byte) error {
	at := binary.BigEndian.AppendUint64(nil, uint64(seen.At))
	if seen.JPEG != nil {
		return s.write(hostlink.FrameSingle, at, seen.JPEG)
	}
	kind := byte(hostlink.FramePicture)
	if seen.Key {
		kind = hostlink.FrameKey
		if !bytes.Equal(*record, seen.Record) {
			*record = seen.Record
			if err := s.write(hostlink.FrameRecord, seen.Record); err != nil {
				return err
			}
		}
	}
	return s.write(kind, at, seen.Units)
}

// follow has the film as large as the way to who has the device in hand takes it.
func (s *seat) follow(late time.Duration) {
	s.d.mu.Lock()
	hand := s.d.hand == s
	s.d.mu.Unlock()
	now := time.Now()
	if late > lateBy {
		s.good = now
		s.late = append(s.late, now)
	}
	for len(s.late) > 0 && now.Sub(s.late[0]) > lateWithin {
		s.late = s.late[1:]
	}
	rate := s.d.Film.Rate()
	switch {
	case !hand:
	case len(s.late) >= lateTimes && rate > film.LeastRate:
		s.late, s.good = nil, now
		s.d.Film.Anew(rate / 2)
	case now.Sub(s.good) > goodFor && rate < film.FullRate:
		s.good = now
		s.d.Film.Anew(rate * 2)
	}
}
