// Package spool keeps what a host has to tell about its attempts until the service has it.
//
// The folder of an attempt has hold.json (what to do), journal.json (what was changed on the device), reports.jsonl (what was reported,
// in order), the evidence, and at the end closing.json (the result). All folders together have a limit in bytes. A Courier uploads the
// folder of one attempt; it can start again at any time, also in another process.
package spool

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
)

const (
	holdFile    = "hold.json"
	reportsFile = "reports.jsonl"
	closingFile = "closing.json"
)

// Spool is the folder of all attempts, with a bound on what may lie in it.
type Spool struct {
	dir   string
	limit int64 // bytes

	mu     sync.Mutex
	used   int64            // by all shares
	shares map[string]int64 // what each attempt has taken of the bound
}

// ErrNoRoom says that the bound is reached.
var ErrNoRoom = errors.New("the host's folder holds as much as it may")

// Share is what one attempt takes of the bound. Whatever it has taken is given back when the attempt's folder is removed, no more and no less. The nil Share has no bound.
type Share struct {
	s       *Spool
	attempt string
}

// New makes a spool in a folder, for so many bytes.
func New(dir string, limit int64) *Spool { return &Spool{dir: dir, limit: limit} }

// Begin makes the folder, and counts what an earlier process left there.
func (s *Spool) Begin() error {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return fmt.Errorf("make the host's folder: %w", err)
	}
	s.measure()
	return nil
}

// Of is what an attempt takes of the bound.
func (s *Spool) Of(attempt string) *Share { return &Share{s, attempt} }

// Room takes n bytes of the bound.
func (h *Share) Room(n int64) error {
	if h == nil || h.s == nil {
		return nil
	}
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	if h.s.used+n > h.s.limit {
		return ErrNoRoom
	}
	h.s.take(h.attempt, n)
	return nil
}

// Back gives n bytes back, of a file that was removed, or that is shorter than it was taken for.
func (h *Share) Back(n int64) {
	if h == nil || h.s == nil {
		return
	}
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	h.s.take(h.attempt, -min(n, h.s.shares[h.attempt]))
}

// take changes what an attempt has taken, under mu.
func (s *Spool) take(attempt string, n int64) {
	if s.shares == nil {
		s.shares = map[string]int64{}
	}
	s.used += n
	s.shares[attempt] += n
}

// Path is an attempt's folder.
func (s *Spool) Path(attempt string) string { return filepath.Join(s.dir, attempt) }

// measure counts what lies there, of attempts that an earlier process left.
func (s *Spool) measure() {
	dirs, _ := os.ReadDir(s.dir)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, d := range dirs {
		s.take(d.Name(), folderSize(s.Path(d.Name())))
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

// Remove throws an attempt's folder away.
func (s *Spool) Remove(attempt string) {
	_ = os.RemoveAll(s.Path(attempt))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used -= s.shares[attempt]
	delete(s.shares, attempt)
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

// WriteHold writes down what is to be done.
func WriteHold(dir string, hold hostlink.Hold) error {
	hold.Spec.Inputs, hold.Secrets = nil, nil // who uploads later needs neither
	raw, err := json.Marshal(hold)
	if err != nil {
		return err
	}
	return WriteWhole(filepath.Join(dir, holdFile), raw)
}

// WriteWhole writes a file so that it is there whole or not at all.
func WriteWhole(path string, raw []byte) error {
	return FillWhole(path, func(w io.Writer) error {
		_, err := w.Write(raw)
		return err
	})
}

// FillWhole lets fill write a file, which is there whole then, or not at all.
func FillWhole(path string, fill func(io.Writer) error) error {
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

// Leftovers lists the attempts that an earlier process of this host left.
func (s *Spool) Leftovers() (out []hostlink.Hold) {
	dirs, _ := os.ReadDir(s.dir)
	for _, d := range dirs {
		raw, err := os.ReadFile(filepath.Join(s.dir, d.Name(), holdFile))
		if err == nil {
			if h, err := hostlink.ReadHold(raw); err == nil && h.AttemptID == d.Name() {
				out = append(out, h)
				continue
			}
		}
		_ = os.RemoveAll(filepath.Join(s.dir, d.Name())) // nothing had begun
	}
	return out
}

// LeftClosing is how a left attempt came out: as was written down, or lost.
func (s *Spool) LeftClosing(h hostlink.Hold) hostlink.Closing {
	raw, err := os.ReadFile(filepath.Join(s.Path(h.AttemptID), closingFile))
	var c hostlink.Closing
	if err == nil && json.Unmarshal(raw, &c) == nil && c.Verdict != "" {
		return c
	}
	return hostlink.Closing{Verdict: verdict.Lost, Message: "the host was started again while the leg ran"}
}
