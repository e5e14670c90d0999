package timeline

// A device's clock, brought onto the attempt's: it goes too fast or too slow, and is set now and then.

import (
	"cmp"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Sample is one reading of a device's clock: asked at Before, answered at After, both on the attempt's clock.
type Sample struct {
	Before, After time.Duration
	Device        time.Time
}

// Align says from samples what the device's clock showed when the attempt's stood at zero. Of each sample the middle of the round trip is taken, and the sample
// with the shortest round trip counts, as in RFC 5905, section 10 (the clock filter's choice of the least delay). The doubt is at most half of that round trip.
func Align(samples ...Sample) (zero time.Time, doubt time.Duration, err error) {
	if len(samples) == 0 {
		return zero, 0, errors.New("the device's clock was never read")
	}
	best := slices.MinFunc(samples, func(a, b Sample) int { return cmp.Compare(a.After-a.Before, b.After-b.Before) })
	mid := best.Before + (best.After-best.Before)/2
	return best.Device.Add(-mid), (best.After - best.Before) / 2, nil
}

// Clock says where on the attempt's clock a moment of the device's clock lies. It is made of readings, each of which says what the device's clock showed when
// the attempt's stood at zero, as it seemed at that moment. Between two readings that drifts evenly. Where the clock was set, a new segment begins, with the
// first line of the device's log that was written afterwards: one time of the device may lie in several segments.
type Clock struct{ segments []segment }

type segment struct {
	line  int // of the log, from 0: the first that it holds for
	knots []knot
}

type knot struct {
	at    int64 // ms on the attempt's clock
	zero  time.Time
	doubt time.Duration
}

// ClockNote is the name of the markers from which a Clock is made.
const ClockNote = "clock"

// Note is a reading as an event. Set says that the clock was set before it; line is the first line of the log since then.
func Note(at int64, zero time.Time, doubt time.Duration, set bool, line int) Event {
	args := map[string]string{"device_zero_ms": strconv.FormatFloat(float64(zero.UnixMicro())/1000, 'f', -1, 64), "doubt_ms": strconv.FormatInt(doubt.Milliseconds(), 10)}
	if set {
		args["set_before_line"] = strconv.Itoa(line)
	}
	return Event{Kind: Marker, At: max(at, 1), Name: ClockNote, Args: args}
}

// Feed takes an event in; those that are no notes of a clock are passed over.
func (c *Clock) Feed(e Event) {
	if e.Kind != Marker || e.Name != ClockNote {
		return
	}
	whole, part, _ := strings.Cut(e.Args["device_zero_ms"], ".")
	ms, err := strconv.ParseInt(whole, 10, 64)
	if err != nil {
		return
	}
	us, _ := strconv.ParseInt((part + "000")[:3], 10, 64)
	doubt, _ := strconv.Atoi(e.Args["doubt_ms"])
	line := 0
	if said, set := e.Args["set_before_line"]; set {
		if line, err = strconv.Atoi(said); err != nil {
			return
		}
	}
	c.Add(e.At, time.UnixMilli(ms).Add(time.Duration(us)*time.Microsecond).UTC(), time.Duration(doubt)*time.Millisecond, line)
}

// Add takes a reading in, at a moment (ms) behind those before. Line above 0: the clock was set before this line of the log.
func (c *Clock) Add(at int64, zero time.Time, doubt time.Duration, line int) {
	if len(c.segments) == 0 || line > 0 {
		c.segments = append(c.segments, segment{line: line})
	}
	s := &c.segments[len(c.segments)-1]
	s.knots = append(s.knots, knot{at, zero, doubt})
}

// Known says whether there is any reading.
func (c *Clock) Known() bool { return len(c.segments) > 0 }

// On gives the moment, in ms on the attempt's clock, at which the device's clock showed t in a line of its log; and by how much that may be wrong.
func (c *Clock) On(line int, t time.Time) (at int64, doubt time.Duration) {
	if len(c.segments) == 0 {
		return 0, 0
	}
	s := &c.segments[0]
	for i := range c.segments[1:] {
		if c.segments[i+1].line <= line {
			s = &c.segments[i+1]
		}
	}
	zero, doubt := s.zero(t.Sub(s.knots[0].zero).Milliseconds())
	// Once more, from where that is: what drifts, drifts little.
	if len(s.knots) > 1 {
		zero, doubt = s.zero(t.Sub(zero).Milliseconds())
	}
	return t.Sub(zero).Milliseconds(), doubt // the log cuts its times off, too
}

// Newest is On for what was written last.
func (c *Clock) Newest(t time.Time) (at int64, doubt time.Duration) { return c.On(1<<62, t) }

// zero is what the device's clock showed at zero, as it seemed at a moment.
func (s *segment) zero(at int64) (time.Time, time.Duration) {
	k := s.knots
	if at <= k[0].at || len(k) == 1 {
		return k[0].zero, k[0].doubt
	}
	for i := 1; i < len(k); i++ {
		if at > k[i].at {
			continue
		}
		a, b := k[i-1], k[i]
		part := float64(at-a.at) / float64(max(b.at-a.at, 1))
		return a.zero.Add(time.Duration(float64(b.zero.Sub(a.zero)) * part)), max(a.doubt, b.doubt)
	}
	last := k[len(k)-1]
	return last.zero, last.doubt
}

// Doubt is the most by which any moment may be misplaced.
func (c *Clock) Doubt() (d time.Duration) {
	for _, s := range c.segments {
		for _, k := range s.knots {
			d = max(d, k.doubt)
		}
	}
	return d
}
