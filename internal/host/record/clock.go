package record

import (
	"sync"
	"time"

	"tessellant/internal/core/timeline"
)

// Clock follows a device's clock: how it stands to the attempt's, as it drifts and is set.
//
// It is read now and then. Between two readings the lines of the device's log say more: each comes within a moment of when it was written, so that the first
// line after the clock was set is known, too.
type Clock struct {
	timeline *Timeline

	mu     sync.Mutex
	clock  timeline.Clock
	first  time.Time // what it showed first
	last   time.Time // its zero, as it was read last
	lines  int       // of the log by now
	recent []arrival // since the last reading, the newest last
	odd    chan struct{}
}

// arrival is a line of the log: by how much its time seemed to go before the moment at which it came.
type arrival struct {
	line  int
	ahead time.Duration
}

const (
	// setBy is more than a clock drifts between two readings: it was set.
	setBy = 60 * time.Millisecond
	// oddBy is by how much a line must seem to be misplaced for the clock to be read at once.
	oddBy     = 500 * time.Millisecond
	maxRecent = 8192
)

// NewClock follows a clock that has not been read yet.
func NewClock(t *Timeline) *Clock { return &Clock{timeline: t, odd: make(chan struct{}, 1)} }

// Read takes readings in that were made one after the other; the one with the shortest way counts, as in RFC 5905, section 10. It is noted on the timeline.
func (c *Clock) Read(samples ...timeline.Sample) {
	zero, doubt, err := timeline.Align(samples...)
	if err != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	at := samples[len(samples)-1].After.Milliseconds()
	if c.first.IsZero() {
		c.first = samples[0].Device
	} else if by := zero.Sub(c.last); by > setBy+doubt || by < -setBy-doubt {
		line, sure := c.setAt(by)
		if !sure {
			doubt = max(doubt, by.Abs())
		}
		c.note(at, zero, doubt, true, line)
		return
	} else if by.Abs() <= doubt { // as well as could be told, it goes as it should
		c.recent = c.recent[:0]
		return
	} else {
		doubt = max(doubt, by.Abs()/2)
	}
	c.note(at, zero, doubt, false, 0)
}

// note takes a reading over, under mu.
func (c *Clock) note(at int64, zero time.Time, doubt time.Duration, set bool, line int) {
	e := timeline.Note(at, zero, doubt, set, line)
	c.clock.Feed(e)
	c.last, c.recent = zero, c.recent[:0]
	c.timeline.Note(e)
}

// setAt finds, under mu, the first line that was written after the clock was set by so much: from it on, lines seem to come that much too early. It is not sure
// where too many have come since the last reading.
func (c *Clock) setAt(by time.Duration) (line int, sure bool) {
	line = c.lines
	for i := len(c.recent) - 1; i >= 0; i-- {
		a := c.recent[i]
		if (a.ahead - by).Abs() > a.ahead.Abs() {
			break
		}
		line = a.line
	}
	return max(line, 1), len(c.recent) < maxRecent
}

// line takes in that a line of the log has come.
func (c *Clock) line(device time.Time) {
	now := c.timeline.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lines++
	if !c.clock.Known() {
		return
	}
	at, _ := c.clock.Newest(device)
	ahead := time.Duration(at-now) * time.Millisecond
	if len(c.recent) < maxRecent {
		c.recent = append(c.recent, arrival{c.lines - 1, ahead})
	}
	if ahead > oddBy || ahead < -oddBy {
		select {
		case c.odd <- struct{}{}:
		default:
		}
	}
}

// Odd says that the clock is better read now: lines of the log seem to be misplaced.
func (c *Clock) Odd() <-chan struct{} { return c.odd }

// First is what the device's clock showed first.
func (c *Clock) First() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.first
}

// On gives the moment, in ms on the attempt's clock, of a line that came just now.
func (c *Clock) On(device time.Time) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.clock.Known() {
		return c.timeline.Now()
	}
	at, _ := c.clock.Newest(device)
	return max(at, 1)
}

// Moment gives it on this machine's own clock.
func (c *Clock) Moment(device time.Time) time.Time {
	return c.timeline.zero.Add(time.Duration(c.On(device)) * time.Millisecond)
}

// Doubt is the most by which any moment of the device may be misplaced; false: its clock was never read.
func (c *Clock) Doubt() (time.Duration, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.clock.Doubt(), c.clock.Known()
}
