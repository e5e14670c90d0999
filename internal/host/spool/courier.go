package spool

// A courier takes one attempt's reports and evidence from its folder to the service while the attempt goes on: everything it says can be said twice.

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
)

const (
	// partEvery is how often the parts of what grows are handed in: what a host that dies for good takes with it.
	partEvery = 3 * time.Second
	maxPart   = 1 << 20   // bytes
	maxBatch  = 256 << 10 // bytes of reports that are told at once
	maxTold   = 200       // of them
	// fullFor is how long a service without room for evidence is asked again before the leg is closed without it.
	fullFor = 10 * time.Minute
)

// Courier takes one attempt's reports and evidence to the service.
type Courier struct {
	link hostlink.Link
	hold hostlink.Hold
	dir  string
	log  *slog.Logger

	news    chan struct{} // something was added
	sent    map[string]bool
	offset  map[string]int64 // of the growing ones, handed in
	partAt  time.Time
	readTo  int64 // of reports.jsonl
	fullAt  time.Time
	ready   chan struct{} // closed when the attempt is over and all its files are written
	closeIt sync.Once

	failing map[string]time.Time // pieces that can't be handed in, since when
	goodAt  time.Time            // when the service last took something

	mu        sync.Mutex
	reports   *os.File
	written   int64    // bytes of reports that are whole in the file
	unwritten [][]byte // reports that the disk had no room for
	forgotten int      // reports that there was no room for in memory either
	missing   []string // what could not be handed in, and why
}

// maxUnwritten is how many reports wait in memory for room on the disk.
const maxUnwritten = 10_000

// NewCourier opens, or opens again, the attempt's folder.
func NewCourier(link hostlink.Link, s *Spool, hold hostlink.Hold, log *slog.Logger) (*Courier, error) {
	c := &Courier{link: link, hold: hold, dir: s.Path(hold.AttemptID), log: log, news: make(chan struct{}, 1), sent: map[string]bool{}, offset: map[string]int64{},
		failing: map[string]time.Time{}, ready: make(chan struct{})}
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return nil, err
	}
	if err := WriteHold(c.dir, hold); err != nil {
		return nil, err
	}
	var err error
	if c.reports, err = os.OpenFile(filepath.Join(c.dir, reportsFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
		return nil, err
	}
	c.written, err = wholeLines(filepath.Join(c.dir, reportsFile))
	if err == nil { // a line that a process left half-written has no end that could come
		err = c.reports.Truncate(c.written)
	}
	return c, err
}

// Report adds a report.
func (c *Courier) Report(p hostlink.Progress) error {
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	c.mu.Lock()
	if len(c.unwritten) < maxUnwritten {
		c.unwritten = append(c.unwritten, append(raw, '\n'))
	} else {
		c.forgotten++
	}
	err = c.writeReports()
	c.mu.Unlock()
	c.tell()
	return err
}

// writeReports writes the reports that are not in the file yet, in their order, under mu. One that the disk has no room for is taken out of the
// file again, and waits: half a line would swallow the next.
func (c *Courier) writeReports() error {
	for len(c.unwritten) > 0 {
		line := c.unwritten[0]
		if _, err := c.reports.Write(line); err != nil {
			return errors.Join(err, c.reports.Truncate(c.written))
		}
		c.written += int64(len(line))
		c.unwritten = c.unwritten[1:]
	}
	return nil
}

func (c *Courier) tell() {
	select {
	case c.news <- struct{}{}:
	default:
	}
}

// Finish says how the attempt came out; all its files are written.
func (c *Courier) Finish(end hostlink.Closing) error {
	raw, err := json.Marshal(end)
	if err == nil {
		err = WriteWhole(filepath.Join(c.dir, closingFile), raw)
	}
	c.closeIt.Do(func() { close(c.ready) })
	c.tell()
	return err
}

// Deliver hands everything in until the hold is closed, or ctx ends. End says how the attempt came
// out where that could not be written down.
func (c *Courier) Deliver(ctx context.Context, end func() hostlink.Closing) error {
	defer c.reports.Close()
	tick := time.NewTicker(partEvery / 6) // it may be due a little after a tick
	defer tick.Stop()
	for pauses := patience(); ; {
		err := c.round(ctx, end)
		switch {
		case errors.Is(err, errDone):
			return nil
		case errors.Is(err, hostlink.ErrOver):
			c.log.Warn("the service has no use for this attempt any more")
			return nil
		case err != nil && ctx.Err() == nil:
			c.log.Debug("not handed in yet", "err", err)
			pause, _ := pauses.Next()
			select {
			case <-time.After(pause):
			case <-ctx.Done():
				return ctx.Err()
			}
			continue
		}
		pauses = patience()
		select {
		case <-c.news:
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// errDone says that all was handed in and the hold is closed.
var errDone = errors.New("all is handed in")

// round hands in what there is now.
func (c *Courier) round(ctx context.Context, end func() hostlink.Closing) error {
	over := false
	select {
	case <-c.ready:
		over = true
	default:
	}
	c.mu.Lock()
	err := c.writeReports()
	c.mu.Unlock()
	if err != nil {
		c.log.Debug("reports wait for room on the disk", "err", err)
	}
	// Reports take another way than files: where the one is blocked, the other may be open.
	untold := c.sendReports(ctx)
	if errors.Is(untold, hostlink.ErrOver) {
		return untold
	}
	if !over {
		if time.Since(c.partAt) < partEvery {
			return untold
		}
		c.partAt = time.Now()
		for _, a := range tracks.Growing() {
			if err := c.sendPart(ctx, a); err != nil {
				return errors.Join(untold, err)
			}
		}
	}
	if err := errors.Join(untold, c.sendFiles(ctx, over)); err != nil || !over {
		return err
	}
	e := end()
	c.mu.Lock()
	if c.forgotten > 0 {
		c.missing, c.forgotten = append(c.missing, fmt.Sprintf("%d reports: the host's disk is full", c.forgotten)), 0
	}
	c.mu.Unlock()
	if n := len(c.missing); n > 0 {
		more := ""
		if n > maxNamed {
			more = fmt.Sprintf(" and %d more", n-maxNamed)
		}
		e.Message = strings.TrimSpace(foreign.Fit(e.Message, verdict.MaxMessage-maxNotKept) + " (not kept: " + strings.Join(c.missing[:min(n, maxNamed)], "; ") + more + ")")
	}
	err = c.close(ctx, e)
	if errors.Is(err, hostlink.ErrUnfit) { // nothing that is said may keep the device
		c.log.Error("the service does not take what is said of an attempt's end", "err", err)
		err = c.close(ctx, hostlink.Closing{Verdict: e.Verdict, How: e.How, Message: "how it ended could not be kept"})
	}
	if err != nil && !errors.Is(err, hostlink.ErrUnfit) {
		return fmt.Errorf("close the hold: %w", err)
	}
	return errDone // one that could not even be closed so runs out, since it is not renewed any more
}

const (
	maxNamed   = 5       // of what is missing, in a message
	maxNotKept = 2 << 10 // bytes of it there
)

// leave notes that a piece is left out, for good.
func (c *Courier) leave(what string, why error) {
	c.log.Warn("a piece of evidence is left out", "what", what, "err", why)
	c.missing = append(c.missing, foreign.Name(what, 100)+": "+foreign.Name(why.Error(), 200))
}

// stuckFor is how long a piece may be refused while the service takes others.
const stuckFor = 10 * time.Minute

// took judges what came of handing in a piece: nil where it is done with, handed in or left out for good.
func (c *Courier) took(what string, err error) error {
	switch {
	case err == nil:
		delete(c.failing, what)
		c.goodAt = time.Now()
		return nil
	case errors.Is(err, hostlink.ErrUnfit):
		c.leave(what, err)
		return nil
	case errors.Is(err, hostlink.ErrOver):
		return err
	}
	since, before := c.failing[what]
	if !before {
		c.failing[what] = time.Now()
		return err
	}
	if time.Since(since) > stuckFor && time.Since(c.goodAt) < time.Minute {
		c.leave(what, err)
		return nil
	}
	return err
}

// sendReports tells all reports that are in the file, and those that wait for room in it: they can be told again.
func (c *Courier) sendReports(ctx context.Context) error {
	for {
		if err := c.sendSomeReports(ctx); errors.Is(err, errNoMore) {
			break
		} else if err != nil {
			return err
		}
	}
	c.mu.Lock()
	lines := c.unwritten
	c.mu.Unlock()
	for batch := range slices.Chunk(lines, maxTold) {
		if err := c.tellBatch(ctx, decoded(batch)); err != nil {
			return err
		}
	}
	return nil
}

func decoded(lines [][]byte) (out []hostlink.Progress) {
	for _, line := range lines {
		var p hostlink.Progress
		if json.Unmarshal(line, &p) == nil {
			out = append(out, p)
		}
	}
	return out
}

func (c *Courier) sendSomeReports(ctx context.Context) error {
	f, err := os.Open(filepath.Join(c.dir, reportsFile))
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Seek(c.readTo, io.SeekStart); err != nil {
		return err
	}
	br := bufio.NewReader(f)
	var lines [][]byte
	read := c.readTo
	for len(lines) < maxTold && read-c.readTo < maxBatch {
		line, err := br.ReadBytes('\n')
		if err != nil {
			break // a line without an end is still being written
		}
		read += int64(len(line))
		lines = append(lines, line)
	}
	if len(lines) == 0 {
		return errNoMore
	}
	if err := c.tellBatch(ctx, decoded(lines)); err != nil {
		return err
	}
	c.readTo = read
	return nil
}

// tellBatch tells some reports, and leaves those out that the service will never take.
func (c *Courier) tellBatch(ctx context.Context, batch []hostlink.Progress) error {
	if len(batch) == 0 {
		return nil
	}
	err := c.told(ctx, batch)
	if errors.Is(err, hostlink.ErrUnfit) && len(batch) > 1 { // which of them is it?
		for _, p := range batch {
			if err := c.took(nameOf(p), c.told(ctx, []hostlink.Progress{p})); err != nil {
				return fmt.Errorf("report: %w", err)
			}
		}
		err = nil
	}
	if err := c.took(nameOf(batch[0]), err); err != nil {
		return fmt.Errorf("report: %w", err)
	}
	return nil
}

// pieceTakes is how long one call for a piece may take: a call that hangs is made again.
const pieceTakes = time.Minute

// told tells the service of progress.
func (c *Courier) told(ctx context.Context, p []hostlink.Progress) error {
	ctx, cancel := context.WithTimeout(ctx, pieceTakes)
	defer cancel()
	return c.link.Report(ctx, c.hold, p)
}

// close ends the hold.
func (c *Courier) close(ctx context.Context, end hostlink.Closing) error {
	ctx, cancel := context.WithTimeout(ctx, pieceTakes)
	defer cancel()
	return c.link.Close(ctx, c.hold, end)
}

// errNoMore says that there is no report that was not told.
var errNoMore = errors.New("no more reports")

// nameOf says what a report is about.
func nameOf(p hostlink.Progress) string {
	switch {
	case p.Case != nil:
		return fmt.Sprintf("report %d (case %s)", p.Seq, foreign.Name(p.Case.Name, 60))
	case p.Stage != "":
		return fmt.Sprintf("report %d (stage %s)", p.Seq, foreign.Name(p.Stage, 20))
	}
	return fmt.Sprintf("report %d", p.Seq)
}

func (c *Courier) sendPart(ctx context.Context, a tracks.Artifact) error {
	name := a.Name
	f, err := os.Open(filepath.Join(c.dir, name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	for {
		i, err := f.Stat()
		if err != nil {
			return err
		}
		buf := make([]byte, max(0, min(i.Size()-c.offset[name], maxPart)))
		n, err := f.ReadAt(buf, c.offset[name])
		if n == 0 {
			return nil
		}
		piece, cancel := context.WithTimeout(ctx, pieceTakes)
		appended := c.link.Append(piece, c.hold, a, c.offset[name], buf[:n])
		cancel()
		if errors.Is(appended, hostlink.ErrUnfit) {
			c.log.Warn("parts of a file are not taken; it is handed in at the end", "file", name, "err", appended)
		} else if appended != nil {
			return fmt.Errorf("hand in a part of %s: %w", name, appended)
		}
		c.offset[name] += int64(n)
		if err != nil {
			return nil
		}
	}
}

// sendFiles hands in the files that are whole: pictures and trees at once, the rest when the attempt is over.
func (c *Courier) sendFiles(ctx context.Context, over bool) error {
	var names []string
	_ = filepath.WalkDir(c.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		name, err := filepath.Rel(c.dir, path)
		name = filepath.ToSlash(name)
		if _, ok := tracks.Named(name); err == nil && ok && !c.sent[name] && (over || strings.Contains(name, "/")) {
			names = append(names, name)
		}
		return nil
	})
	for _, name := range names {
		err := c.sendFile(ctx, name)
		if errors.Is(err, hostlink.ErrFull) {
			if c.fullAt.IsZero() {
				c.fullAt = time.Now()
				c.log.Warn("the service has no room for evidence; it is kept here until there is", "file", name)
			}
			if time.Since(c.fullAt) < fullFor {
				return err
			}
			c.leave(name, err)
			err = nil
		}
		if err = c.took(name, err); err != nil {
			return fmt.Errorf("hand in %s: %w", name, err)
		}
		c.sent[name] = true
	}
	return nil
}

func (c *Courier) sendFile(ctx context.Context, name string) error {
	f, err := os.Open(filepath.Join(c.dir, filepath.FromSlash(name)))
	if err != nil {
		return err
	}
	defer f.Close()
	a, _ := tracks.Named(name)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	return c.link.Keep(ctx, c.hold, a, f)
}
