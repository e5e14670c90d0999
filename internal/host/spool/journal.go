package spool

// The journal of what an attempt changed on its device: whoever cleans up, in this process or the next, reads it.

import (
	"encoding/json"
	"errors"
	"fmt"
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
	Files   []string `json:"files,omitempty"` // by their paths: put there, or going to be
	Loan    string   `json:"loan,omitempty"`  // by which the lab knows that it lent the device; its lab cleans it
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

// Lent notes that the device is lent by its lab, which knows the loan by ref.
func (j *Journal) Lent(ref string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	next := j.changes
	next.Loan = ref
	return j.write(next)
}

// maxFiles is how many files an attempt may put onto its device.
const maxFiles = 1000

// File notes that a file is going to be put onto the device.
func (j *Journal) File(path string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if slices.Contains(j.changes.Files, path) {
		return nil
	}
	if len(j.changes.Files) >= maxFiles {
		return fmt.Errorf("%d files were put onto the device already, and no more may be", maxFiles)
	}
	next := j.changes
	next.Files = append(slices.Clone(next.Files), path)
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
	return Changes{Apps: slices.Clone(j.changes.Apps), Settled: j.changes.Settled, Files: slices.Clone(j.changes.Files), Loan: j.changes.Loan}
}
