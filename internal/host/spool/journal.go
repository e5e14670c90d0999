package spool

// The journal of what an attempt changed on its device: whoever cleans up, in this process or the next, reads it.

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"
)

const journalFile = "journal.json"

// Journal is what was changed on a device. Each change is written down before it is made.
type Journal struct {
	dir string

	mu      sync.Mutex
	changes Changes
}

// Changes are those that have to be undone.
type Changes struct {
	Apps    []string `json:"apps,omitempty"` // by id: installed, or going to be
	Settled bool     `json:"settled,omitempty"`
}

// Journal opens an attempt's journal.
func (s *Spool) Journal(attempt string) (*Journal, error) {
	j := &Journal{dir: s.Path(attempt)}
	raw, err := os.ReadFile(filepath.Join(j.dir, journalFile))
	if errors.Is(err, os.ErrNotExist) {
		return j, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &j.changes)
	}
	return j, err
}

// App notes that an app is going to be installed.
func (j *Journal) App(id string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if slices.Contains(j.changes.Apps, id) {
		return nil
	}
	next := j.changes
	next.Apps = append(slices.Clone(next.Apps), id)
	return j.write(next)
}

// Settled notes that the device's settings are going to be changed.
func (j *Journal) Settled() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	next := j.changes
	next.Settled = true
	return j.write(next)
}

// write takes over the changes, under mu, once they are on the disk.
func (j *Journal) write(next Changes) error {
	raw, err := json.Marshal(next)
	if err == nil {
		err = WriteWhole(filepath.Join(j.dir, journalFile), raw)
	}
	if err == nil {
		j.changes = next
	}
	return err
}

// Changes gives what has to be undone.
func (j *Journal) Changes() Changes {
	j.mu.Lock()
	defer j.mu.Unlock()
	return Changes{Apps: slices.Clone(j.changes.Apps), Settled: j.changes.Settled}
}
