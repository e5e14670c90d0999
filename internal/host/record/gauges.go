package record

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/gauges"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/tracks"
	"tessellant/internal/host/spool"
	"tessellant/internal/phone"
)

// Gauges reads the gauges of a device and of the app once a second, and keeps them as a track.
type Gauges struct {
	meter phone.Meter
	out   *os.File
	at    func(time.Time) int64
	rows  lines
	asked chan struct{} // somebody wants a reading now

	mu     sync.Mutex
	watch  gauges.Watch
	newest map[string]float64 // as they were read last
	count  int
	failed int
	why    error         // of the last failure
	fresh  chan struct{} // closed by the next reading
	over   bool
	err    error
}

const gaugeEvery = time.Second

// NewGauges opens the track of an attempt's gauges in dir.
func NewGauges(dir string, meter phone.Meter, bounds []gauges.Bound, t *Timeline, room *spool.Share) (*Gauges, error) {
	f, err := os.OpenFile(filepath.Join(dir, tracks.Gauges), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.WriteString(gauges.Head())
	return &Gauges{meter: meter, out: f, at: t.At, rows: lines{out: f, share: room, size: int64(len(gauges.Head()))}, asked: make(chan struct{}, 1), watch: gauges.Watch{Bounds: bounds}, newest: map[string]float64{}, fresh: make(chan struct{})}, err
}

// Name implements Recorder.
func (g *Gauges) Name() string { return recording.Gauges }

// Record implements Recorder. A device that is away for a moment is asked again: whether it is lost, others say.
func (g *Gauges) Record(ctx context.Context) error {
	defer g.meter.Close()
	defer g.end()
	tick := time.NewTicker(gaugeEvery)
	defer tick.Stop()
	for all := true; ; {
		start := time.Now()
		values, err := g.meter.Read(ctx, all)
		if ctx.Err() != nil {
			return nil
		}
		g.take(gauges.Sample{At: max(g.at(start.Add(time.Since(start)/2)), 1), Values: values}, err)
		select {
		case <-tick.C:
			all = false
		case <-g.asked:
			all = true
		case <-ctx.Done():
			return nil
		}
	}
}

// end tells who waits for a reading that there will be none.
func (g *Gauges) end() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.over = true
	close(g.fresh)
}

// take takes a reading in.
func (g *Gauges) take(s gauges.Sample, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	defer func() {
		close(g.fresh)
		g.fresh = make(chan struct{})
	}()
	if err != nil {
		g.failed++
		g.why = err
	}
	if len(s.Values) == 0 {
		return
	}
	g.count++
	maps.Copy(g.newest, s.Values)
	g.watch.Feed(s)
	row := s.Row()
	if g.err == nil {
		g.err = g.rows.add([]byte(row))
	}
}

// Now reads a gauge, for a script: all are read once more for it.
func (g *Gauges) Now(ctx context.Context, name string) (float64, error) {
	if _, err := gauges.Of(name); err != nil {
		return 0, err
	}
	g.mu.Lock()
	fresh := g.fresh
	g.mu.Unlock()
	// One reading may be under way; the one behind it began after this moment.
	for range 2 {
		select {
		case g.asked <- struct{}{}:
		default:
		}
		select {
		case <-fresh:
		case <-ctx.Done():
			return 0, context.Cause(ctx)
		}
		g.mu.Lock()
		over := g.over
		fresh = g.fresh
		g.mu.Unlock()
		if over {
			break
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if v, ok := g.newest[name]; ok {
		return v, nil
	}
	if g.why != nil && g.count == 0 {
		return 0, fmt.Errorf("the gauge %s can't be read: %w", name, g.why)
	}
	return 0, fmt.Errorf("the device does not say the gauge %s, or the app does not run", name)
}

// Passed says which bounds were passed from one moment to another (ms). Without gauges none was.
func (g *Gauges) Passed(from, to int64) []gauges.Passed {
	if g == nil {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.watch.Within(from, to)
}

// Close implements Recorder.
func (g *Gauges) Close() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	errs := []error{g.err, g.out.Sync(), g.out.Close()}
	if g.failed > 0 {
		errs = append(errs, fmt.Errorf("%d readings failed; the last: %w", g.failed, g.why))
	}
	for _, b := range g.watch.Bounds {
		if _, ok := g.newest[b.Gauge]; !ok {
			errs = append(errs, fmt.Errorf("the bound %s was not checked: no %s was read", b, b.Gauge))
		}
	}
	var odd []string
	unread := g.meter.Unread()
	for _, what := range slices.Sorted(maps.Keys(unread)) {
		odd = append(odd, fmt.Sprintf("%s %d times", what, unread[what]))
	}
	if len(odd) > 0 {
		errs = append(errs, fmt.Errorf("the device said something that is not understood of: %s", strings.Join(odd, ", ")))
	}
	return errors.Join(errs...)
}
