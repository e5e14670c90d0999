// Package hands is a device that people hold: several may watch its screen, and one has it in hand.
//
// Each comes by a stream (seat.go). The picture goes out as it is made. What fingers and keyboard do comes in and is done in its order, by one worker
// (doing.go), and stands on the timeline. In: the device, its film, streams. Out: frames as hostlink/live.go has them.
package hands

import (
	"context"
	"errors"
	"image"
	"log/slog"
	"sync"
	"time"

	"tessellant/internal/core/locators"
	"tessellant/internal/guard"
	"tessellant/internal/host/film"
	"tessellant/internal/host/routes"
	"tessellant/internal/host/turns"
	"tessellant/internal/hostlink"
	"tessellant/internal/phone"
)

// Device is a device that is held.
type Device struct {
	Phone  *phone.Unit
	Size   image.Point         // of its upright screen
	Film   *film.Film          // nil: there is no picture
	Note   func(phone.Command) // what was done
	Log    *slog.Logger
	Routes *routes.Routes // nil: there are none
	Turns  *turns.Turns   // where something is tested on it; nil: a person holds it, and there is no test

	ctx  context.Context
	todo chan struct{} // something waits

	mu      sync.Mutex
	seats   map[*seat]bool
	hand    *seat // who has it in hand; nil: nobody
	waiting []doing

	seen   *locators.Index // the screen as it was read last; nil: never
	seenAt time.Time
	acted  time.Time // when something was done last that may have changed it
	focus  string    // the locator of the field that was touched last
	secret bool      // what is typed into it is one
	record bool      // what is touched is to be known: the screen is read before, where something was done since
}

const (
	// maxSeats is how many may be there at once.
	maxSeats = 20
	// maxWaiting is how much may wait to be done: moves of fingers that wait are one.
	maxWaiting = 256
)

// Open makes the device ready, until ctx ends. Done is called then, and waits for its end.
func (d *Device) Open(ctx context.Context) (done func()) {
	ctx, cancel := context.WithCancel(ctx)
	d.ctx, d.todo, d.seats = ctx, make(chan struct{}, 1), map[*seat]bool{}
	var all sync.WaitGroup
	all.Go(func() { d.work(ctx) })
	return func() {
		cancel() // nobody comes from here on
		d.mu.Lock()
		var leaving []*seat
		for s := range d.seats {
			leaving = append(leaving, s)
		}
		d.mu.Unlock()
		for _, s := range leaving {
			<-s.gone
		}
		all.Wait()
	}
}

// Sit lets somebody watch, by a stream, until they leave or the device is given back.
func (d *Device) Sit(c hostlink.Stream, who hostlink.Watch) error {
	s := newSeat(d, c, who)
	d.mu.Lock()
	switch {
	case d.ctx.Err() != nil:
		d.mu.Unlock()
		return errors.New("the device is being given back")
	case len(d.seats) >= maxSeats:
		d.mu.Unlock()
		return errors.New("as many people watch as may; close a page of one of them")
	}
	d.seats[s] = true
	if who.Takes && who.Mine && (d.hand == nil || d.hand.who.Mine) { // whose way was cut comes again before the old one is known to be gone
		d.give(s)
	}
	d.mu.Unlock()
	go func() {
		defer close(s.gone)
		_ = guard.Run(d.Log, guard.Hold, func() { s.serve(d.ctx) })
		d.left(s)
	}()
	d.tellAll()
	return nil
}

// left notes that somebody has left: their fingers lift.
func (d *Device) left(s *seat) {
	d.mu.Lock()
	delete(d.seats, s)
	if d.hand == s {
		d.hand = nil
		d.lift()
		for other := range d.seats { // it comes back to whose hold it is
			if other.who.Takes && other.who.Mine {
				d.give(other)
				break
			}
		}
	}
	d.mu.Unlock()
	d.tellAll()
}

// give gives the device, under mu, into somebody's hand. Fingers of who had it lift.
func (d *Device) give(s *seat) {
	d.hand = s
	d.lift()
	d.queue(doing{}) // that it is ready when the first finger comes
}

// take is somebody who takes the device in hand.
func (d *Device) take(s *seat) {
	if d.Turns != nil && !d.Turns.Standing().Paused {
		s.tell(hostlink.Told{Problem: running("take the device in hand")})
		return
	}
	d.mu.Lock()
	if d.hand != s {
		d.give(s)
	}
	d.mu.Unlock()
	d.tellAll()
}

// tellAll tells everybody who has it in hand.
func (d *Device) tellAll() {
	d.mu.Lock()
	defer d.mu.Unlock()
	h := hostlink.Hand{}
	if d.hand != nil {
		h.Name = d.hand.who.Name
	}
	var test *hostlink.Standing
	if d.Turns != nil {
		stands := d.Turns.Standing()
		test = &stands
	}
	var open *[]hostlink.Routed
	if d.Routes != nil {
		list := d.Routes.List()
		open = &list
	}
	for s := range d.seats {
		mine := h
		mine.Mine = d.hand == s
		s.tell(hostlink.Told{Hand: &mine, Watch: len(d.seats), Test: test, Routes: open})
	}
}

// Routed notes that other ways are open from its apps to people's own machines.
func (d *Device) Routed() { d.tellAll() }

// Stands notes that the test has paused, or goes on: then nobody has the device in hand any more.
func (d *Device) Stands() {
	if !d.Turns.Standing().Paused {
		d.mu.Lock()
		if d.hand != nil {
			d.hand = nil
			d.lift()
			d.put(doing{away: true})
		}
		d.mu.Unlock()
	}
	d.tellAll()
}

// Watched says whether somebody is there who may touch the device.
func (d *Device) Watched() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for s := range d.seats {
		if s.who.Takes {
			return true
		}
	}
	return false
}

// running says that something can't be done while the test runs.
func running(what string) *hostlink.Problem {
	return &hostlink.Problem{What: what, Why: turns.ErrRunning.Error(), Remedy: "pause the test first"}
}

// tellHand tells who has it in hand of a problem.
func (d *Device) tellHand(p hostlink.Problem) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.hand != nil {
		d.hand.tell(hostlink.Told{Problem: &p})
	}
}
