package host

// What a host has to say of an attempt, kept in its folder until the service has it.
//
// An attempt's folder holds hold.json (what was to be done), reports.jsonl (what
// was said, in order), the evidence, and at the end closing.json (how it came
// out). A courier takes it to the service while the attempt goes on, and may
// start anew at any time, also in another process: everything it says can be said twice.

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/verdict"
)

const (
	holdFile    = "hold.json"
	reportsFile = "reports.jsonl"
	closingFile = "closing.json"
	// partEvery is how often the parts of what grows are handed in: what a host that dies for good takes with it.
	partEvery = 3 * time.Second
	maxPart   = 1 << 20   // bytes
	maxBatch  = 256 << 10 // bytes of reports that are told at once
	// fullFor is how long a service without room for evidence is asked again before the leg is closed without it.
	fullFor = 10 * time.Minute
)

// growing are the artifacts that are handed in part by part.
var growing = []string{"timeline.jsonl", "device.log", remoteLog, outputLog}

// Growing lists the artifacts that come in parts while an attempt goes on.
func Growing() (out []Artifact) {
	for _, name := range growing {
		a, _ := ArtifactNamed(name)
		out = append(out, a)
	}
	return out
}

// spool is the folder of all attempts, with a bound on what may lie in it.
type spool struct {
	dir   string
	limit int64 // bytes

	mu     sync.Mutex
	used   int64            // by all shares
	shares map[string]int64 // what each attempt has taken of the bound
}

// errNoRoom says that the bound is reached.
var errNoRoom = errors.New("the host's folder holds as much as it may")

// share is what one attempt takes of the bound. Whatever it has taken is given back when the attempt's folder is removed, no more and no less. The nil share has no bound.
type share struct {
	s       *spool
	attempt string
}

func (s *spool) of(attempt string) *share { return &share{s, attempt} }

// room takes n bytes of the bound.
func (h *share) room(n int64) error {
	if h == nil || h.s == nil {
		return nil
	}
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	if h.s.used+n > h.s.limit {
		return errNoRoom
	}
	h.s.take(h.attempt, n)
	return nil
}

// back gives n bytes back, of a file that was removed, or that is shorter than it was taken for.
func (h *share) back(n int64) {
	if h == nil || h.s == nil {
		return
	}
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	h.s.take(h.attempt, -min(n, h.s.shares[h.attempt]))
}

// take changes what an attempt has taken, under mu.
func (s *spool) take(attempt string, n int64) {
	if s.shares == nil {
		s.shares = map[string]int64{}
	}
	s.used += n
	s.shares[attempt] += n
}

func (s *spool) path(attempt string) string { return filepath.Join(s.dir, attempt) }

// measure counts what lies there, of attempts that an earlier process left.
func (s *spool) measure() {
	dirs, _ := os.ReadDir(s.dir)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, d := range dirs {
		s.take(d.Name(), folderSize(s.path(d.Name())))
	}
}

func folderSize(dir string) (n int64) {
	_ = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if i, err := d.Info(); err == nil {
				n += i.Size()
			}
		}
		return nil
	})
	return n
}

// remove throws an attempt's folder away.
func (s *spool) remove(attempt string) {
	_ = os.RemoveAll(s.path(attempt))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used -= s.shares[attempt]
	delete(s.shares, attempt)
}

// courier takes one attempt's reports and evidence to the service.
type courier struct {
	link Link
	hold Hold
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
	missing   []string // what could not be handed in, and why
}

// maxUnwritten is how many reports wait in memory for room on the disk.
const maxUnwritten = 10_000

// newCourier opens, or opens again, the attempt's folder.
func newCourier(link Link, s *spool, hold Hold, log *slog.Logger) (*courier, error) {
	c := &courier{link: link, hold: hold, dir: s.path(hold.AttemptID), log: log, news: make(chan struct{}, 1), sent: map[string]bool{}, offset: map[string]int64{},
		failing: map[string]time.Time{}, ready: make(chan struct{})}
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return nil, err
	}
	if err := writeHold(c.dir, hold); err != nil {
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

// wholeLines is how many bytes of a file stand up to its last line end.
func wholeLines(name string) (int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	whole, n := int64(0), int64(0)
	buf := make([]byte, 64<<10)
	for {
		k, err := f.Read(buf)
		if i := bytes.LastIndexByte(buf[:k], '\n'); i >= 0 {
			whole = n + int64(i) + 1
		}
		n += int64(k)
		if errors.Is(err, io.EOF) {
			return whole, nil
		}
		if err != nil {
			return whole, err
		}
	}
}

// writeHold writes down what is to be done.
func writeHold(dir string, hold Hold) error {
	hold.Inputs, hold.Secrets = nil, nil // what hands in later needs neither
	raw, err := json.Marshal(hold)
	if err != nil {
		return err
	}
	return writeWhole(filepath.Join(dir, holdFile), raw)
}

// writeWhole writes a file so that it is there whole or not at all.
func writeWhole(path string, raw []byte) error {
	return fillWhole(path, func(w io.Writer) error {
		_, err := w.Write(raw)
		return err
	})
}

// fillWhole lets fill write a file, which is there whole then, or not at all.
func fillWhole(path string, fill func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if err = errors.Join(fill(f), f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// report adds a report.
func (c *courier) report(p Progress) error {
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	c.mu.Lock()
	if len(c.unwritten) < maxUnwritten {
		c.unwritten = append(c.unwritten, append(raw, '\n'))
	}
	err = c.writeReports()
	c.mu.Unlock()
	c.tell()
	return err
}

// writeReports writes the reports that are not in the file yet, in their order, under mu. One that the disk has no room for is taken out of the
// file again, and waits: half a line would swallow the next.
func (c *courier) writeReports() error {
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

func (c *courier) tell() {
	select {
	case c.news <- struct{}{}:
	default:
	}
}

// finish says how the attempt came out; all its files are written.
func (c *courier) finish(end Closing) error {
	raw, err := json.Marshal(end)
	if err == nil {
		err = writeWhole(filepath.Join(c.dir, closingFile), raw)
	}
	c.closeIt.Do(func() { close(c.ready) })
	c.tell()
	return err
}

// deliver hands everything in until the hold is closed, or ctx ends. End says how the attempt came
// out where that could not be written down.
func (c *courier) deliver(ctx context.Context, end func() Closing) error {
	defer c.reports.Close()
	tick := time.NewTicker(partEvery / 6) // it may be due a little after a tick
	defer tick.Stop()
	for wait := 100 * time.Millisecond; ; {
		err := c.round(ctx, end)
		switch {
		case errors.Is(err, errDone):
			return nil
		case errors.Is(err, ErrOver):
			c.log.Warn("the service has no use for this attempt any more")
			return nil
		case err != nil && ctx.Err() == nil:
			c.log.Debug("not handed in yet", "err", err)
			select {
			case <-time.After(wait):
			case <-ctx.Done():
				return ctx.Err()
			}
			wait = min(wait*2, 5*time.Second)
			continue
		}
		wait = 100 * time.Millisecond
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
func (c *courier) round(ctx context.Context, end func() Closing) error {
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
	if errors.Is(untold, ErrOver) {
		return untold
	}
	if !over {
		if time.Since(c.partAt) < partEvery {
			return untold
		}
		c.partAt = time.Now()
		parts := growing
		if c.link.Beside(c.dir) {
			parts = nil
		}
		for _, name := range parts {
			if err := c.sendPart(ctx, name); err != nil {
				return errors.Join(untold, err)
			}
		}
	}
	if err := errors.Join(untold, c.sendFiles(ctx, over)); err != nil || !over {
		return err
	}
	e := end()
	if n := len(c.missing); n > 0 {
		more := ""
		if n > maxNamed {
			more = fmt.Sprintf(" and %d more", n-maxNamed)
		}
		e.Message = strings.TrimSpace(foreign.Fit(e.Message, maxClosing) + " (not kept: " + strings.Join(c.missing[:min(n, maxNamed)], "; ") + more + ")")
	}
	err = c.close(ctx, e)
	if errors.Is(err, ErrUnfit) { // nothing that is said may keep the device
		c.log.Error("the service does not take what is said of an attempt's end", "err", err)
		err = c.close(ctx, Closing{Verdict: e.Verdict, How: e.How, Message: "how it ended could not be kept"})
	}
	if err != nil && !errors.Is(err, ErrUnfit) {
		return fmt.Errorf("close the hold: %w", err)
	}
	return errDone // one that could not even be closed so runs out, since it is not renewed any more
}

const (
	maxNamed   = 5       // of what is missing, in a message
	maxClosing = 4 << 10 // bytes of a message besides
)

// leave notes that a piece is left out, for good.
func (c *courier) leave(what string, why error) {
	c.log.Warn("a piece of evidence is left out", "what", what, "err", why)
	c.missing = append(c.missing, foreign.Name(what, 100)+": "+foreign.Name(why.Error(), 200))
}

// stuckFor is how long a piece may be refused while the service takes others.
const stuckFor = 10 * time.Minute

// took judges what came of handing in a piece: nil where it is done with, handed in or left out for good.
func (c *courier) took(what string, err error) error {
	switch {
	case err == nil:
		delete(c.failing, what)
		c.goodAt = time.Now()
		return nil
	case errors.Is(err, ErrUnfit):
		c.leave(what, err)
		return nil
	case errors.Is(err, ErrOver):
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

// sendReports tells all reports that are in the file.
func (c *courier) sendReports(ctx context.Context) error {
	for {
		if err := c.sendSomeReports(ctx); errors.Is(err, errNoMore) {
			return nil
		} else if err != nil {
			return err
		}
	}
}

func (c *courier) sendSomeReports(ctx context.Context) error {
	f, err := os.Open(filepath.Join(c.dir, reportsFile))
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Seek(c.readTo, io.SeekStart); err != nil {
		return err
	}
	br := bufio.NewReader(f)
	var batch []Progress
	read := c.readTo
	for len(batch) < 200 && read-c.readTo < maxBatch {
		line, err := br.ReadBytes('\n')
		if err != nil {
			break // a line without an end is still being written
		}
		read += int64(len(line))
		var p Progress
		if json.Unmarshal(line, &p) == nil {
			batch = append(batch, p)
		}
	}
	if len(batch) == 0 {
		c.readTo = read
		return errNoMore
	}
	err = c.told(ctx, batch)
	if errors.Is(err, ErrUnfit) && len(batch) > 1 { // which of them is it?
		for _, p := range batch {
			if err := c.took(nameOf(p), c.told(ctx, []Progress{p})); err != nil {
				return fmt.Errorf("report: %w", err)
			}
		}
		err = nil
	}
	if err := c.took(nameOf(batch[0]), err); err != nil {
		return fmt.Errorf("report: %w", err)
	}
	c.readTo = read
	return nil
}

// pieceTakes is how long one call for a piece may take: a call that hangs is made again.
const pieceTakes = time.Minute

// told tells the service of progress.
func (c *courier) told(ctx context.Context, p []Progress) error {
	ctx, cancel := context.WithTimeout(ctx, pieceTakes)
	defer cancel()
	return c.link.Report(ctx, c.hold, p)
}

// close ends the hold.
func (c *courier) close(ctx context.Context, end Closing) error {
	ctx, cancel := context.WithTimeout(ctx, pieceTakes)
	defer cancel()
	return c.link.Close(ctx, c.hold, end)
}

// errNoMore says that there is no report that was not told.
var errNoMore = errors.New("no more reports")

// nameOf says what a report is about.
func nameOf(p Progress) string {
	switch {
	case p.Case != nil:
		return fmt.Sprintf("report %d (case %s)", p.Seq, foreign.Name(p.Case.Name, 60))
	case p.Stage != "":
		return fmt.Sprintf("report %d (stage %s)", p.Seq, foreign.Name(p.Stage, 20))
	}
	return fmt.Sprintf("report %d", p.Seq)
}

func (c *courier) sendPart(ctx context.Context, name string) error {
	f, err := os.Open(filepath.Join(c.dir, name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	a, _ := ArtifactNamed(name)
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
		if errors.Is(appended, ErrUnfit) {
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
func (c *courier) sendFiles(ctx context.Context, over bool) error {
	var names []string
	_ = filepath.WalkDir(c.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		name, err := filepath.Rel(c.dir, path)
		name = filepath.ToSlash(name)
		if _, ok := ArtifactNamed(name); err == nil && ok && !c.sent[name] && (over || strings.Contains(name, "/")) {
			names = append(names, name)
		}
		return nil
	})
	for _, name := range names {
		err := c.sendFile(ctx, name)
		if errors.Is(err, ErrFull) {
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

func (c *courier) sendFile(ctx context.Context, name string) error {
	f, err := os.Open(filepath.Join(c.dir, filepath.FromSlash(name)))
	if err != nil {
		return err
	}
	defer f.Close()
	a, _ := ArtifactNamed(name)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	return c.link.Keep(ctx, c.hold, a, f)
}

// ArtifactNamed says what an artifact is, by its name; false: it is none.
func ArtifactNamed(name string) (Artifact, bool) {
	switch {
	case name == "timeline.jsonl":
		return Artifact{name, "timeline", "application/jsonl"}, true
	case name == "device.log":
		return Artifact{name, "device-log", "text/plain; charset=utf-8"}, true
	case name == remoteLog:
		return Artifact{name, "remote-end-log", "text/plain; charset=utf-8"}, true
	case name == outputLog:
		return Artifact{name, "output", "text/plain; charset=utf-8"}, true
	case strings.HasPrefix(name, "results/") && strings.HasSuffix(name, ".xml"):
		return Artifact{name, "results", "application/xml"}, true
	case strings.HasPrefix(name, "kept/") && len(name) <= maxKeptName && name == foreign.Name(name, maxKeptName):
		return Artifact{name, "kept", "application/octet-stream"}, true
	case name == "video.mp4":
		return Artifact{name, "video", "video/mp4"}, true
	case strings.HasPrefix(name, "screenshots/") && strings.HasSuffix(name, ".png"):
		return Artifact{name, "screenshot", "image/png"}, true
	case strings.HasPrefix(name, "trees/") && strings.HasSuffix(name, ".xml"):
		return Artifact{name, "tree", "application/xml"}, true
	}
	return Artifact{}, false
}

// leftovers lists the attempts that an earlier process of this host left.
func (s *spool) leftovers() (out []Hold) {
	dirs, _ := os.ReadDir(s.dir)
	for _, d := range dirs {
		raw, err := os.ReadFile(filepath.Join(s.dir, d.Name(), holdFile))
		var h Hold
		if err == nil && json.Unmarshal(raw, &h) == nil && h.AttemptID == d.Name() {
			out = append(out, h)
			continue
		}
		_ = os.RemoveAll(filepath.Join(s.dir, d.Name())) // nothing had begun
	}
	return out
}

// leftClosing is how a left attempt came out: as was written down, or lost.
func (s *spool) leftClosing(h Hold) Closing {
	raw, err := os.ReadFile(filepath.Join(s.path(h.AttemptID), closingFile))
	var c Closing
	if err == nil && json.Unmarshal(raw, &c) == nil && c.Verdict != "" {
		return c
	}
	return Closing{Verdict: verdict.Lost, Message: "the host was started again while the leg ran"}
}
