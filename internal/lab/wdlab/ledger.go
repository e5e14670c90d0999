package wdlab

// What of a lab must outlive the process: how long it was used today, by what it knows builds, and sessions that are still to be ended.

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"
)

const (
	maxBuilds = 200
	maxOwed   = 200
	// owedFor is how long the lab is asked to end a session. By then it has ended it by itself.
	owedFor = time.Hour
)

type ledger struct {
	path string
	now  func() time.Time

	mu sync.Mutex
	page
}

type page struct {
	Day    string  `json:"day"` // UTC
	Millis int64   `json:"used_ms"`
	Builds []build `json:"builds,omitempty"` // the newest last
	Owed   []owed  `json:"owed,omitempty"`
}

type build struct {
	SHA256 string `json:"sha256"`
	Ref    string `json:"ref"`
}

type owed struct {
	Session string    `json:"session"`
	Since   time.Time `json:"since"`
}

func openLedger(path string) (*ledger, error) {
	l := &ledger{path: path, now: time.Now}
	raw, err := os.ReadFile(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return l, os.MkdirAll(filepath.Dir(path), 0o700)
	case err != nil:
		return nil, err
	}
	if json.Unmarshal(raw, &l.page) != nil {
		l.page = page{} // it was cut off: what it said is not known
	}
	return l, nil
}

// write writes the page, under mu. A disk that is full costs what is written here, and nothing else.
func (l *ledger) write() {
	raw, err := json.Marshal(l.page)
	if err != nil {
		return
	}
	next := l.path + ".new"
	if os.WriteFile(next, raw, 0o600) == nil {
		_ = os.Rename(next, l.path)
	}
}

// turn begins, under mu, a new day.
func (l *ledger) turn() {
	if day := l.now().UTC().Format(time.DateOnly); day != l.Day {
		l.Day, l.Millis = day, 0
	}
}

func (l *ledger) used() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.turn()
	return time.Duration(l.Millis) * time.Millisecond
}

// spend notes that a session was open for so long.
func (l *ledger) spend(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.turn()
	l.Millis += d.Milliseconds()
	l.write()
}

// ref is by what the lab knows a build; "": it does not.
func (l *ledger) ref(sha string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, b := range l.Builds {
		if b.SHA256 == sha {
			return b.Ref
		}
	}
	return ""
}

// keep notes by what the lab knows a build; "": it forgot it.
func (l *ledger) keep(sha, ref string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.Builds = slices.DeleteFunc(l.Builds, func(b build) bool { return b.SHA256 == sha })
	if ref != "" {
		l.Builds = append(l.Builds, build{sha, ref})
	}
	if n := len(l.Builds); n > maxBuilds {
		l.Builds = l.Builds[n-maxBuilds:]
	}
	l.write()
}

// owe notes a session that could not be ended.
func (l *ledger) owe(session string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if slices.ContainsFunc(l.Owed, func(o owed) bool { return o.Session == session }) || len(l.Owed) >= maxOwed {
		return
	}
	l.Owed = append(l.Owed, owed{session, l.now().UTC()})
	l.write()
}

// owing lists the sessions that are still to be ended. Those of long ago are dropped.
func (l *ledger) owing() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	had := len(l.Owed)
	l.Owed = slices.DeleteFunc(l.Owed, func(o owed) bool { return l.now().Sub(o.Since) > owedFor })
	if len(l.Owed) != had {
		l.write()
	}
	var out []string
	for _, o := range l.Owed {
		out = append(out, o.Session)
	}
	return out
}

func (l *ledger) paid(session string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.Owed = slices.DeleteFunc(l.Owed, func(o owed) bool { return o.Session == session })
	l.write()
}
