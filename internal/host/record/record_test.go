package record

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/har"
	"tessellant/internal/phone"
)

// diary is a phone's log in the hands of the test.
type diary struct {
	mu     sync.Mutex
	opened int
	open   func(n int, since time.Time) (io.ReadCloser, error)
	marks  []string
	feed   *io.PipeWriter
}

func (d *diary) Log(_ context.Context, since time.Time) (io.ReadCloser, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.opened++
	return d.open(d.opened, since)
}

func (d *diary) Mark(_ context.Context, text string) error {
	d.mu.Lock()
	d.marks = append(d.marks, text)
	d.mu.Unlock()
	if d.feed != nil {
		_, _ = io.WriteString(d.feed, "1700000009.000  1  1 I Tessellant: "+text+"\n")
	}
	return nil
}

const death = `1700000001.000  7  7 E AndroidRuntime: FATAL EXCEPTION: main
1700000001.000  7  7 E AndroidRuntime: Process: org.kelpline.app, PID: 7
1700000001.000  7  7 E AndroidRuntime: java.lang.IllegalStateException: low tide
1700000001.000  7  7 E AndroidRuntime: 	at a.b.C.d(C.java:1)
`

func TestALogbookTellsOfADeathAtOnceAndOfAMarkWhenItHasCome(t *testing.T) {
	r, w := io.Pipe()
	d := &diary{feed: w, open: func(int, time.Time) (io.ReadCloser, error) { return r, nil }}
	b, err := NewDeviceLog(t.TempDir(), d, "org.kelpline.app", clockSince(1700000000), nil, nil)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- b.Record(ctx) }()
	assert.Nil(t, b.PastCrash())
	_, err = io.WriteString(w, strings.ReplaceAll(death, "org.kelpline.app", "somebody.else")+death)
	require.NoError(t, err)
	wait, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	c := b.Crash(wait)
	require.NotNil(t, c, "the death of the app, not of another")
	b.Settle(ctx, "here")
	assert.Contains(t, b.Trace(c).Trace, "C.java:1")
	assert.Nil(t, b.PastCrash(), "each death is told once")
	cancel()
	_ = w.Close()
	require.NoError(t, <-done)
	require.NoError(t, b.Close())
	raw, err := os.ReadFile(b.out.Name())
	require.NoError(t, err)
	assert.Contains(t, string(raw), "low tide")
	assert.Contains(t, string(raw), "Tessellant: here")
}

func TestALogThatBreaksOffIsOpenedAgainWhereItBroke(t *testing.T) {
	var since []time.Time
	d := &diary{open: func(n int, at time.Time) (io.ReadCloser, error) {
		since = append(since, at)
		if n == 1 {
			return io.NopCloser(strings.NewReader("1700000005.250  1  1 I A: one\n")), nil
		}
		return nil, &phone.Lost{Serial: "d", Doing: "send its log", Err: errors.New("unplugged")}
	}}
	b, err := NewDeviceLog(t.TempDir(), d, "a", clockSince(1700000000), nil, nil)
	require.NoError(t, err)
	var lost *phone.Lost
	require.ErrorAs(t, b.Record(context.Background()), &lost)
	require.Len(t, since, 2)
	assert.Equal(t, int64(1700000005250), since[1].UnixMilli())
	start := time.Now()
	b.Settle(context.Background(), "never")
	assert.Less(t, time.Since(start), time.Second, "of a lost device no mark is waited for")
}

func TestNamesOfFilesSayWhatTheyShow(t *testing.T) {
	for in, want := range map[string]string{"The list of shores!": "the-list-of-shores", "Küste / 1": "k-ste-1", "…": "shot", strings.Repeat("x", 90): strings.Repeat("x", 61)} {
		assert.Equal(t, want, Slug(in))
	}
}

func TestALogThatEndsEndsNoAttempt(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	d := &diary{open: func(n int, _ time.Time) (io.ReadCloser, error) {
		if n == 12 {
			cancel()
		}
		return io.NopCloser(strings.NewReader(fmt.Sprintf("17000000%02d.250  1  1 I A: line %d\n", n, n))), nil
	}}
	b, err := NewDeviceLog(t.TempDir(), d, "a", clockSince(1700000000), nil, nil)
	require.NoError(t, err)
	require.NoError(t, b.Record(ctx), "it is opened again and again")
	require.NoError(t, b.Close())
	raw, err := os.ReadFile(b.out.Name())
	require.NoError(t, err)
	assert.Contains(t, string(raw), "line 11\n")
	assert.Contains(t, string(raw), "ended 11 times")
}

func TestAnAppCanForgeNoMarkAndFillNoMemoryWithThem(t *testing.T) {
	r, w := io.Pipe()
	d := &diary{feed: w, open: func(int, time.Time) (io.ReadCloser, error) { return r, nil }}
	b, err := NewDeviceLog("", d, "a", clockSince(1700000000), nil, nil)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- b.Record(ctx) }()
	for i := range 2000 {
		_, err = io.WriteString(w, fmt.Sprintf("1700000001.000  7  7 I Tessellant: end of case %d, try 1\n", i))
		require.NoError(t, err)
	}
	_, err = io.WriteString(w, strings.Repeat("x", 1<<20)+"\n")
	require.NoError(t, err)
	b.Settle(ctx, "end of case 1, try 1")
	b.mu.Lock()
	assert.Empty(t, b.marks)
	b.mu.Unlock()
	require.Len(t, d.marks, 1)
	assert.NotEqual(t, "end of case 1, try 1", d.marks[0], "nobody can know it before")
	cancel()
	_ = w.Close()
	require.NoError(t, <-done)
}

// clockSince is the clock of a device that showed so many seconds first.
func clockSince(seconds int64) *Clock {
	c := NewClock(&Timeline{zero: time.Now()})
	c.first = time.Unix(seconds, 0)
	return c
}

func TestANetworkLogThatWasLeftIsEnded(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, CompleteNetwork(dir), "there is none")
	name := filepath.Join(dir, "network.har")
	line, err := har.Entry{Kind: har.HTTP}.Line(true)
	require.NoError(t, err)
	whole := har.Head("1") + string(line) + har.Tail
	for left, want := range map[string]string{har.Head("1") + string(line): whole, whole: whole, har.Head("1"): har.Head("1") + har.Tail, har.Head("1") + string(line) + "{cut": whole, "": "", "{": "{"} {
		require.NoError(t, os.WriteFile(name, []byte(left), 0o600))
		require.NoError(t, CompleteNetwork(dir))
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Equal(t, want, string(raw))
	}
}

// fullDisk has room for so many bytes.
type fullDisk struct {
	*os.File
	room int64
}

func (d fullDisk) WriteAt(p []byte, at int64) (int, error) {
	if fits := d.room - at; int64(len(p)) > fits {
		n, _ := d.File.WriteAt(p[:fits], at)
		return n, syscall.ENOSPC
	}
	return d.File.WriteAt(p, at)
}

func TestADiskThatIsFullWithinALineLeavesNoHalfOfIt(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "track"))
	require.NoError(t, err)
	defer f.Close()
	l := lines{out: fullDisk{f, 10}}
	require.NoError(t, l.add([]byte("1,64.1\n")))
	require.ErrorIs(t, l.add([]byte("2,64.2\n")), syscall.ENOSPC)
	raw, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	assert.Equal(t, "1,64.1\n", string(raw))
	l.out = fullDisk{f, 100}
	require.NoError(t, l.add([]byte("3,64.3\n")))
	raw, err = os.ReadFile(f.Name())
	require.NoError(t, err)
	assert.Equal(t, "1,64.1\n3,64.3\n", string(raw))
}

func TestACrashIsOfWhatActedUnlessALookWentOnForLong(t *testing.T) {
	tl := &Timeline{calls: []call{{100, "c.star:1", false}, {900, "c.star:2", true}, {1000, "c.star:3", false}, {1004, "c.star:4", true}, {5000, "", false}}}
	for at, want := range map[int64]string{40: "", 100: "c.star:1", 940: "c.star:1", 960: "c.star:3", 1001: "c.star:3", 1006: "c.star:3", 1200: "c.star:4", 6000: "c.star:4"} {
		assert.Equal(t, want, tl.LineAt(at), at)
	}
}
