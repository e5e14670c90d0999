package host

// What a host has to say of an attempt, kept in its folder until the service has it.
//
// An attempt's folder holds hold.json (what was to be done), reports.jsonl (what
// was said, in order), the evidence, and at the end closing.json (how it came
// out). All folders together have a bound in bytes.

import (
	"bytes"
	"encoding/json"
	"errors"
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
func writeHold(dir string, hold hostlink.Hold) error {
	hold.Spec.Inputs, hold.Secrets = nil, nil // who uploads later needs neither
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

// leftovers lists the attempts that an earlier process of this host left.
func (s *spool) leftovers() (out []hostlink.Hold) {
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

// leftClosing is how a left attempt came out: as was written down, or lost.
func (s *spool) leftClosing(h hostlink.Hold) hostlink.Closing {
	raw, err := os.ReadFile(filepath.Join(s.path(h.AttemptID), closingFile))
	var c hostlink.Closing
	if err == nil && json.Unmarshal(raw, &c) == nil && c.Verdict != "" {
		return c
	}
	return hostlink.Closing{Verdict: verdict.Lost, Message: "the host was started again while the leg ran"}
}
