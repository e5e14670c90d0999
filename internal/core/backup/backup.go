// Package backup is the form of a backup: a tar with the database's dump and all blobs, and an end by which one that was cut off is known.
package backup

import (
	"archive/tar"
	"fmt"
	"io"
)

// Entries of a backup; blobs follow under Blobs.
const (
	About = "backup.json"
	Dump  = "database.sql"
	Blobs = "blobs/"
	End   = "end.json"
)

// Ending is the last entry of a backup: one without it was cut off.
type Ending struct {
	Blobs      int    `json:"blobs"`
	Bytes      int64  `json:"bytes"`
	DumpSHA256 string `json:"dump_sha256"`
}

// Whole says why a backup is not whole; nil: it has its end.
func Whole(f io.ReadSeeker) error {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	for t := tar.NewReader(f); ; {
		h, err := t.Next()
		if err != nil {
			return fmt.Errorf("it was cut off: see the service's log (%w)", err)
		}
		if h.Name == End {
			return nil
		}
	}
}
