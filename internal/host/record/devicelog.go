package record

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/sethvargo/go-retry"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/tracks"
	"tessellant/internal/host/spool"
	"tessellant/internal/phone"
)

// DeviceLog keeps the device's log in a file while it comes, and watches in it
// for the death of apps and for marks.
type DeviceLog struct {
	logger phone.Logger
	clock  *Clock
	out    *os.File
	year   int
	mask   *masking.Mask
	share  *spool.Share

	mu      sync.Mutex
	apps    []string // whose death is looked for
	finder  devicelog.Finder
	seen    int             // crashes that were looked at
	marks   map[string]bool // those that are waited for; true: it came
	changed chan struct{}   // closed when a crash or a mark has come
	lost    error           // the stream ended because the device went away
	last    time.Time       // of the newest line
	bytes   int64
	broke   int   // how often its stream ended
	err     error // why it could not be written down any more

	hear func(l devicelog.Line, at time.Time) // nil: nobody listens
}

const maxDeviceLog = 512 << 20 // bytes kept

// markTag is the tag of the marks that we write into the log.
const markTag = "Tessellant"

// NewDeviceLog keeps the log in dir; "": it is only watched. L is nil for a device that gives none: then nothing comes.
func NewDeviceLog(dir string, l phone.Logger, app string, clock *Clock, mask *masking.Mask, room *spool.Share) (*DeviceLog, error) {
	name := os.DevNull
	if dir != "" {
		name = filepath.Join(dir, tracks.DeviceLog)
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	since := clock.First()
	if since.IsZero() { // a device that tells no time
		since = time.Now()
	}
	return &DeviceLog{clock: clock, mask: mask, share: room, logger: l, out: f, apps: []string{app}, year: since.UTC().Year(), marks: map[string]bool{}, changed: make(chan struct{}), last: since}, nil
}

// reopening gives the pauses before a log that has ended without a word is opened again.
func reopening() retry.Backoff {
	return retry.WithCappedDuration(5*time.Second, retry.NewExponential(50*time.Millisecond))
}

// Name implements Recorder.
func (b *DeviceLog) Name() string { return recording.Log }

// Record implements Recorder: it reads the log until ctx ends or the device is lost. A stream that
// breaks while the device is there is opened again where it broke, however often that is: a device whose log ends can be tested all the same.
func (b *DeviceLog) Record(ctx context.Context) error {
	if b.logger == nil {
		return nil
	}
	pauses := reopening()
	for {
		b.mu.Lock()
		since := b.last
		before := b.bytes
		b.mu.Unlock()
		r, err := b.logger.Log(ctx, since)
		if err == nil {
			err = b.read(r)
			_ = r.Close()
		}
		if ctx.Err() != nil {
			return nil
		}
		var lost *phone.Lost
		if errors.As(err, &lost) {
			b.mu.Lock()
			b.lost = err
			b.news()
			b.mu.Unlock()
			return err
		}
		b.mu.Lock()
		pause := time.Duration(0) // a log that said something is opened again at once
		if b.bytes > before {
			pauses = reopening()
		} else {
			pause, _ = pauses.Next()
		}
		b.broke++
		b.mu.Unlock()
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil
		}
	}
}

// maxLogLine is how many bytes a line of the log may have; a longer one comes in pieces.
const maxLogLine = 64 << 10

func (b *DeviceLog) read(r io.Reader) error {
	br := bufio.NewReaderSize(r, maxLogLine)
	for {
		text, err := br.ReadSlice('\n')
		if len(text) > 0 {
			b.line(string(text))
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return err
		}
	}
}

// news wakes who waits, under mu.
func (b *DeviceLog) news() {
	close(b.changed)
	b.changed = make(chan struct{})
}

func (b *DeviceLog) line(text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bytes += int64(len(text)); b.bytes <= maxDeviceLog && b.err == nil {
		if b.err = b.share.Room(int64(len(text))); b.err == nil {
			_, b.err = b.out.WriteString(b.mask.Text(text))
		}
	}
	l, ok := devicelog.Parse(text, b.year)
	if !ok {
		return
	}
	b.last = l.At
	b.clock.line(l.At)
	before := len(b.finder.Crashes())
	b.finder.Feed(l)
	mark := false
	if _, awaited := b.marks[l.Text]; awaited && l.Tag == markTag { // any app may write under that tag
		b.marks[l.Text], mark = true, true
	}
	if b.hear != nil && !mark {
		l.Text = b.mask.Text(l.Text)
		b.hear(l, b.clock.Moment(l.At))
	}
	if mark || len(b.finder.Crashes()) != before {
		b.news()
	}
}

// Hear has f told of each line from now on, and of its moment on this machine's clock: secrets are hidden in it. It must not wait. Nil: nobody is told any more.
func (b *DeviceLog) Hear(f func(l devicelog.Line, at time.Time)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hear = f
}

// Watch looks for the death of an app from now on, too.
func (b *DeviceLog) Watch(app string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.apps = append(b.apps, app)
}

// Crash waits for an app's next death; nil when ctx ends first.
func (b *DeviceLog) Crash(ctx context.Context) *devicelog.Crash {
	for {
		b.mu.Lock()
		for _, c := range b.finder.Crashes()[b.seen:] {
			b.seen++
			if slices.ContainsFunc(b.apps, c.Of) {
				b.mu.Unlock()
				return c
			}
		}
		changed := b.changed
		b.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return nil
		}
	}
}

// Settle waits until all that the device has logged so far has come: it writes
// a mark that nobody can guess and waits for it, a few seconds at most.
func (b *DeviceLog) Settle(ctx context.Context, what string) {
	if b.logger == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	mark := what + " " + rand.Text()[:12]
	b.mu.Lock()
	b.marks[mark] = false
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.marks, mark)
	}()
	if err := b.logger.Mark(ctx, mark); err != nil {
		return
	}
	for {
		b.mu.Lock()
		done := b.marks[mark] || b.lost != nil
		if done {
			b.finder.Flush()
			b.news()
		}
		changed := b.changed
		b.mu.Unlock()
		if done {
			return
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// PastCrash looks for a death of an app that was not looked at, without waiting.
func (b *DeviceLog) PastCrash() *devicelog.Crash {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return b.Crash(ctx)
}

// Trace is all that is known of a crash by now.
func (b *DeviceLog) Trace(c *devicelog.Crash) devicelog.Crash {
	b.mu.Lock()
	defer b.mu.Unlock()
	return *c
}

func (b *DeviceLog) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bytes > maxDeviceLog {
		_, _ = fmt.Fprintf(b.out, "--------- %d bytes more were left out\n", b.bytes-maxDeviceLog)
	}
	if b.broke > 0 {
		_, _ = fmt.Fprintf(b.out, "--------- the log's stream ended %d times and was opened again; lines may be missing\n", b.broke)
	}
	if b.out.Name() == os.DevNull {
		return b.out.Close()
	}
	return errors.Join(b.err, b.out.Sync(), b.out.Close())
}
