package spool

// The courier with a service that refuses for good, that has no room, and on a disk that has none.

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
)

// picky is a service that takes what it likes.
type picky struct {
	hostlink.Link
	refuse func(what string) error

	mu      sync.Mutex
	reports []hostlink.Progress
	files   []string
	closed  []hostlink.Closing
}

func (p *picky) Append(context.Context, hostlink.Hold, hostlink.Artifact, int64, []byte) error {
	return nil
}

func (p *picky) Report(_ context.Context, _ hostlink.Hold, ps []hostlink.Progress) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range ps {
		if err := p.refuse(fmt.Sprint("report ", x.Seq)); err != nil {
			return err
		}
	}
	p.reports = append(p.reports, ps...)
	return nil
}

func (p *picky) Keep(_ context.Context, _ hostlink.Hold, a hostlink.Artifact, r io.Reader) error {
	_, _ = io.Copy(io.Discard, r)
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := p.refuse(a.Name); err != nil {
		return err
	}
	p.files = append(p.files, a.Name)
	return nil
}

func (p *picky) Close(_ context.Context, _ hostlink.Hold, c hostlink.Closing) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := p.refuse("close " + c.Message); err != nil {
		return err
	}
	p.closed = append(p.closed, c)
	return nil
}

func carry(t *testing.T, p *picky) (*Courier, func()) {
	t.Helper()
	s := &Spool{dir: t.TempDir(), limit: 1 << 30}
	c, err := NewCourier(p, s, hostlink.Hold{AttemptID: "A"}, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "kept"), 0o700))
	return c, func() {
		require.NoError(t, c.Finish(hostlink.Closing{Verdict: verdict.Failed, Message: "no"}))
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		require.NoError(t, c.Deliver(ctx, func() hostlink.Closing { return hostlink.Closing{Verdict: verdict.Failed, Message: "no"} }))
	}
}

func TestWhatTheServiceNeverTakesIsLeftOutAndSaid(t *testing.T) {
	p := &picky{refuse: func(what string) error {
		if what == "report 3" || what == "kept/odd" {
			return fmt.Errorf("%w: too long", hostlink.ErrUnfit)
		}
		return nil
	}}
	c, deliver := carry(t, p)
	for seq := range int64(5) {
		require.NoError(t, c.Report(hostlink.Progress{Seq: seq + 1, Case: &hostlink.CaseResult{Name: fmt.Sprint("case ", seq+1)}}))
	}
	for _, name := range []string{"kept/odd", "kept/plain"} {
		require.NoError(t, WriteWhole(filepath.Join(c.dir, name), []byte("x")))
	}
	deliver()
	var seqs []int64
	for _, r := range p.reports {
		seqs = append(seqs, r.Seq)
	}
	assert.Equal(t, []int64{1, 2, 4, 5}, seqs, "one piece is left out, and no other")
	assert.Equal(t, []string{"kept/plain"}, p.files)
	require.Len(t, p.closed, 1)
	assert.Contains(t, p.closed[0].Message, "report 3 (case case 3)")
	assert.Contains(t, p.closed[0].Message, "kept/odd: the service can't take this: too long")
}

func TestAnEndThatCanNotBeSaidIsSaidOtherwise(t *testing.T) {
	p := &picky{refuse: func(what string) error {
		if strings.HasPrefix(what, "close no") {
			return hostlink.ErrUnfit
		}
		return nil
	}}
	_, deliver := carry(t, p)
	deliver()
	require.Len(t, p.closed, 1)
	assert.Equal(t, verdict.Failed, p.closed[0].Verdict)
	assert.Equal(t, "how it ended could not be kept", p.closed[0].Message)

	p = &picky{refuse: func(what string) error {
		if strings.HasPrefix(what, "close") {
			return hostlink.ErrUnfit
		}
		return nil
	}}
	_, deliver = carry(t, p)
	deliver() // it comes to an end: the hold is not renewed any more
}

func TestAPieceThatIsRefusedWhileOthersAreTakenIsLeftOutInTheEnd(t *testing.T) {
	p := &picky{refuse: func(string) error { return nil }}
	c, _ := carry(t, p)
	no := errors.New("a fault of the service")
	assert.Error(t, c.took("kept/a", no))
	c.failing["kept/a"] = time.Now().Add(-2 * stuckFor)
	assert.Error(t, c.took("kept/a", no), "the service takes nothing now")
	require.NoError(t, c.took("kept/b", nil))
	assert.NoError(t, c.took("kept/a", no))
	require.Len(t, c.missing, 1)
	assert.Contains(t, c.missing[0], "a fault of the service")
}

func TestAReportThatIsHalfWrittenSwallowsNobody(t *testing.T) {
	p := &picky{refuse: func(string) error { return nil }}
	c, deliver := carry(t, p)
	require.NoError(t, c.Report(hostlink.Progress{Seq: 1}))
	real := c.reports
	name := real.Name()
	// The disk is full: a file that can't be written stands for it.
	full, err := os.Open(name)
	require.NoError(t, err)
	c.reports = full
	assert.Error(t, c.Report(hostlink.Progress{Seq: 2}))
	// A part of a line came to the disk all the same.
	_, err = real.WriteString(`{"Seq":2,"Ca`)
	require.NoError(t, err)
	require.NoError(t, real.Truncate(c.written))
	assert.Error(t, c.Report(hostlink.Progress{Seq: 3}))
	_ = full.Close()
	c.reports = real
	require.NoError(t, c.Report(hostlink.Progress{Seq: 4}), "there is room again")
	deliver()
	var seqs []int64
	for _, r := range p.reports {
		seqs = append(seqs, r.Seq)
	}
	assert.Equal(t, []int64{1, 2, 3, 4}, seqs)

	// What another process left half-written is taken off.
	dir := t.TempDir()
	s := &Spool{dir: dir, limit: 1 << 30}
	require.NoError(t, os.MkdirAll(s.Path("B"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.Path("B"), reportsFile), []byte("{\"Seq\":1}\n{\"Seq\":2,\"St"), 0o600))
	again, err := NewCourier(p, s, hostlink.Hold{AttemptID: "B"}, slog.Default())
	require.NoError(t, err)
	require.NoError(t, again.Report(hostlink.Progress{Seq: 2}))
	raw, err := os.ReadFile(filepath.Join(s.Path("B"), reportsFile))
	require.NoError(t, err)
	assert.Equal(t, "{\"Seq\":1}\n{\"Seq\":2}\n", string(raw))
}

func TestReportsThatTheDiskNeverHadRoomForAreToldAllTheSame(t *testing.T) {
	p := &picky{refuse: func(string) error { return nil }}
	c, deliver := carry(t, p)
	require.NoError(t, c.Report(hostlink.Progress{Seq: 1}))
	full, err := os.Open(c.reports.Name())
	require.NoError(t, err)
	defer full.Close()
	c.reports = full
	for n := int64(2); n < maxUnwritten+7; n++ {
		assert.Error(t, c.Report(hostlink.Progress{Seq: n}))
	}
	deliver()
	seen := int64(0)
	for _, r := range p.reports {
		assert.LessOrEqual(t, r.Seq, seen+1, "in their order")
		seen = max(seen, r.Seq)
	}
	assert.EqualValues(t, maxUnwritten+1, seen)
	require.Len(t, p.closed, 1)
	assert.Equal(t, "no (not kept: 5 reports: the host's disk is full)", p.closed[0].Message)
}

func TestTheHostsFolderIsCountedWithoutDrift(t *testing.T) {
	s := &Spool{dir: t.TempDir(), limit: 1000}
	a, b := s.Of("a"), s.Of("b")
	require.NoError(t, a.Room(600))
	assert.ErrorIs(t, b.Room(500), ErrNoRoom)
	a.Back(100)
	require.NoError(t, b.Room(500))
	a.Back(10_000) // no more than was taken
	assert.EqualValues(t, 500, s.used)
	require.NoError(t, os.MkdirAll(s.Path("b"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.Path("b"), "x"), make([]byte, 77), 0o600))
	s.Remove("b")
	assert.Zero(t, s.used, "what was taken is given back, whatever lay there")
	require.NoError(t, os.MkdirAll(s.Path("left"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.Path("left"), "x"), make([]byte, 77), 0o600))
	s.measure()
	assert.EqualValues(t, 77, s.used)
	s.Remove("left")
	assert.Zero(t, s.used)
}
