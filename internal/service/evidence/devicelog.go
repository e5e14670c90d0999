package evidence

// The device's log of an attempt, read in windows by an index.

import (
	"context"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/blobs"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/guard"
	"tessellant/internal/service/refuse"
	"tessellant/internal/service/runs"
	"tessellant/internal/store"
)

// LogChoice says which rows of a log are wanted: From, or those about the moment Near.
type LogChoice struct {
	devicelog.Choice
	From, Limit int
	Near        *int64 // ms on the attempt's clock
}

// LogLine is one line of a log.
type LogLine struct {
	Row, Line int // from 0
	At        int64
	Level     string
	PID       int
	Tag, Text string
	Crash     bool
}

// LogWindow is some rows of a log.
type LogWindow struct {
	Rows, From int
	Near       *int // the row at the moment that was asked for; -1: before the first
	Lines      []LogLine
}

const maxLogLine = 16 << 10 // bytes of a line that are shown

// DeviceLog reads a window of the device's log.
func (s *Evidence) DeviceLog(ctx context.Context, who store.Identity, leg string, attempt int, c LogChoice) (w LogWindow, err error) {
	l, err := s.log(ctx, who, leg, attempt)
	if err != nil {
		return w, err
	}
	rows, err := l.choose(ctx, c.Choice)
	if err != nil {
		return w, err
	}
	w.Rows, w.From = l.index.Lines(), c.From
	if rows != nil {
		w.Rows = len(*rows)
	}
	line := func(row int) int {
		if rows != nil {
			return int((*rows)[row])
		}
		return row
	}
	if c.Near != nil {
		var in []uint32
		if rows != nil {
			in = *rows
			if in == nil {
				in = []uint32{}
			}
		}
		near := l.index.Near(*c.Near, in)
		w.Near, w.From = &near, max(near-c.Limit/2, 0)
	}
	to := min(w.From+c.Limit, w.Rows)
	if w.From >= to {
		return w, nil
	}
	at := l.at(ctx)
	buf := make([]byte, maxLogLine)
	for row := w.From; row < to; row++ {
		n := line(row)
		begin, end := l.index.Span(n)
		text := buf[:min(end-begin, maxLogLine)]
		if _, err := at.ReadAt(text, begin); err != nil {
			return w, err
		}
		x := LogLine{Row: row, Line: n, At: l.index.At(n), Text: strings.ToValidUTF8(strings.TrimRight(string(text), "\r\n"), "\uFFFD"), Crash: slices.Contains(l.index.Crashes, n)}
		if p, ok := devicelog.Parse(x.Text, l.year); ok {
			x.Level, x.PID, x.Tag, x.Text = string(p.Level), p.PID, p.Tag, p.Text
		}
		w.Lines = append(w.Lines, x)
	}
	return w, nil
}

// LogOverview is what a log holds.
type LogOverview struct {
	Lines             int
	Size              int64
	Aligned           bool
	SliceMS           int64
	Density, Warnings []int
	Tags              []devicelog.TagCount
	Crashes           []int64 // ms on the attempt's clock
}

// LogOverview says what the device's log holds.
func (s *Evidence) LogOverview(ctx context.Context, who store.Identity, leg string, attempt int) (o LogOverview, err error) {
	l, err := s.log(ctx, who, leg, attempt)
	if err != nil {
		return o, err
	}
	o = LogOverview{Lines: l.index.Lines(), Size: l.index.Size, Aligned: l.aligned, Tags: l.index.Common(200)}
	o.SliceMS, o.Density, o.Warnings = l.index.Density(240)
	for _, n := range l.index.Crashes {
		o.Crashes = append(o.Crashes, l.index.At(n))
	}
	return o, nil
}

// log gives the index of an attempt's log; of an attempt that goes on, of what has come so far.
func (s *Evidence) log(ctx context.Context, who store.Identity, leg string, attempt int) (*shelved, error) {
	a, d, err := s.attempt(ctx, who, leg, attempt)
	if err != nil {
		return nil, err
	}
	if a == nil {
		return nil, refuse.New(refuse.NotFound, "read the device's log", "wait until the leg has a device", "there is no log of this leg yet")
	}
	if f := artifact(a, "device-log"); f != nil {
		return s.wholeLog(ctx, a, f)
	}
	return s.logSoFar(ctx, a, store.Hold{WorkspaceID: d.WorkspaceID, AttemptID: a.ID})
}

// wholeLog is the log of an attempt that has ended.
func (s *Evidence) wholeLog(ctx context.Context, a *runs.AttemptDetail, f *store.Artifact) (*shelved, error) {
	l := s.logs.at(f.SHA256+a.ID, newShelved)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.index != nil {
		return l, nil
	}
	var events io.Reader = strings.NewReader("")
	if t := artifact(a, "timeline"); t != nil {
		r, err := s.Open(ctx, *t, 0, -1)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		events = r
	}
	l.read = func(ctx context.Context) (io.ReadCloser, error) { return s.Open(ctx, *f, 0, -1) }
	l.at = func(ctx context.Context) io.ReaderAt { return s.Blobs.At(ctx, f.BlobKey, f.Size) }
	return l, l.scan(ctx, events, a.Started.Year())
}

// soFarRests is how long what was read of a log that grows is taken for all of it, at least.
const soFarRests = 2 * time.Second

// logSoFar is the log of an attempt that goes on, as far as it was uploaded.
func (s *Evidence) logSoFar(ctx context.Context, a *runs.AttemptDetail, h store.Hold) (*shelved, error) {
	l := s.logs.at("so far "+a.ID, newShelved)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.index != nil && time.Since(l.when) < soFarRests {
		return l, nil
	}
	parts, err := s.Blobs.List(ctx, partsOf(h, tracks.DeviceLog))
	if err != nil {
		return nil, err
	}
	if len(parts) == 0 {
		return nil, refuse.New(refuse.NotFound, "read the device's log", "try again in a few seconds", "there is no log of this attempt yet")
	}
	events, err := s.Blobs.List(ctx, partsOf(h, tracks.Timeline))
	if err != nil {
		return nil, err
	}
	l.when, l.chosen = time.Now(), nil
	l.read = func(ctx context.Context) (io.ReadCloser, error) { return io.NopCloser(s.joined(ctx, parts)), nil }
	l.at = func(ctx context.Context) io.ReaderAt { return &partsAt{ctx, s.Blobs, parts} }
	return l, l.scan(ctx, s.joined(ctx, events), a.Started.Year())
}

// partsAt reads parts as one file.
type partsAt struct {
	ctx   context.Context
	blobs *blobs.Store
	parts []blobs.Part
}

// ReadAt implements io.ReaderAt.
func (p *partsAt) ReadAt(b []byte, off int64) (n int, err error) {
	for _, part := range p.parts {
		if off >= part.Size {
			off -= part.Size
			continue
		}
		if n == len(b) {
			return n, nil
		}
		r, err := p.blobs.Read(p.ctx, part.Key, off, min(part.Size-off, int64(len(b)-n)))
		if err != nil {
			return n, err
		}
		k, err := io.ReadFull(r, b[n:n+int(min(part.Size-off, int64(len(b)-n)))])
		_ = r.Close()
		if n, off = n+k, 0; err != nil {
			return n, err
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// scan makes the index, under mu; events say where the device's clock stands.
func (l *shelved) scan(ctx context.Context, events io.Reader, year int) error {
	var clock timeline.Clock
	l.year, l.aligned = year, false
	if err := timeline.Read(events, func(e timeline.Event) error { clock.Feed(e); return nil }); err != nil {
		return err
	}
	var place devicelog.Place
	if l.aligned = clock.Known(); l.aligned {
		place = func(line int, t time.Time) int64 { at, _ := clock.On(line, t); return at }
	}
	r, err := l.read(ctx)
	if err != nil {
		return err
	}
	defer r.Close()
	index, err := devicelog.Scan(r, place, year)
	if err == nil {
		l.index = index
	}
	return err
}

const keptRows = 4 // choices of a log

// shelved is a log on the shelf.
type shelved struct {
	mu      sync.Mutex // while the index is made, and over chosen
	read    func(context.Context) (io.ReadCloser, error)
	at      func(context.Context) io.ReaderAt
	when    time.Time // it was read, while it grows
	year    int
	aligned bool
	index   *devicelog.Index
	chosen  []chosenRows // the one used last comes last
}

type chosenRows struct {
	devicelog.Choice
	rows []uint32
}

func newShelved() *shelved { return &shelved{} }

func (l *shelved) bytes() int64 {
	if !l.mu.TryLock() {
		return 0 // it is being made
	}
	defer l.mu.Unlock()
	if l.index == nil {
		return 0
	}
	n := l.index.Bytes()
	for _, c := range l.chosen {
		n += int64(len(c.rows)) * 4
	}
	return n
}

// ended is where legs that have ended come from.
func (s *Evidence) ended() chan store.Hold {
	s.once.Do(func() { s.fresh = make(chan store.Hold, 64) })
	return s.fresh
}

// ReadAhead reads the logs of legs that have just ended, one after the other, until ctx ends:
// somebody may want to look at them soon, and reading a long one takes a while.
func (s *Evidence) ReadAhead(ctx context.Context) {
	for {
		select {
		case h := <-s.ended():
			err := guard.Do(s.Log, guard.Loop, func() error {
				_, err := s.log(ctx, store.Identity{WorkspaceID: h.WorkspaceID}, h.WorkID, 0)
				return err
			})
			if err != nil && ctx.Err() == nil {
				s.Log.Debug("a log was not read ahead", "leg", h.WorkID, "err", err)
			}
		case <-ctx.Done():
			return
		}
	}
}

// expect says that a leg has ended; when many wait already, it is read when it is asked for.
func (s *Evidence) expect(h store.Hold) {
	select {
	case s.ended() <- h:
	default:
	}
}

// choose gives the lines that c chooses; nil: all.
func (l *shelved) choose(ctx context.Context, c devicelog.Choice) (*[]uint32, error) {
	if c.Any() {
		return nil, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for i, k := range l.chosen {
		if k.Choice == c {
			l.chosen = append(slices.Delete(l.chosen, i, i+1), k)
			return &k.rows, nil
		}
	}
	r, err := l.read(ctx)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	rows, err := l.index.Choose(c, r)
	if err != nil {
		return nil, err
	}
	if l.chosen = append(l.chosen, chosenRows{c, rows}); len(l.chosen) > keptRows {
		l.chosen = slices.Delete(l.chosen, 0, 1)
	}
	return &rows, nil
}
