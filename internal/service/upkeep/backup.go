package upkeep

// A backup of everything: a tar with the database's dump and all blobs, made while the service runs.

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"tessellant/internal/blobs"
	"tessellant/internal/core/backup"
)

// Backup writes everything but sign-ins and the secrets of runs that go on. The dump is made first, as
// of one moment; what was removed from the blobs since is passed over.
func (s *Upkeep) Backup(ctx context.Context, w io.Writer) error {
	dump, err := os.CreateTemp("", "tessellant-dump-*")
	if err != nil {
		return err
	}
	defer func() { _ = dump.Close(); _ = os.Remove(dump.Name()) }()
	h := sha256.New()
	if err := s.dump(ctx, io.MultiWriter(dump, h)); err != nil {
		return err
	}
	size, err := dump.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	if _, err := dump.Seek(0, io.SeekStart); err != nil {
		return err
	}
	now := time.Now().UTC().Truncate(time.Second)
	t := tar.NewWriter(w)
	entry := func(name string, size int64, r io.Reader) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Size: size, Mode: 0o600, ModTime: now, Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := io.Copy(t, r)
		return err
	}
	about, _ := json.Marshal(map[string]any{"program": "tessellant", "version": s.Version, "made": now})
	if err := errors.Join(entry(backup.About, int64(len(about)), bytes.NewReader(about)), entry(backup.Dump, size, dump)); err != nil {
		return err
	}
	end := backup.Ending{DumpSHA256: hex.EncodeToString(h.Sum(nil))}
	err = s.Blobs.Each(ctx, func(key string, size int64, open func() (io.ReadCloser, error)) error {
		r, err := open()
		if errors.Is(err, blobs.ErrNotFound) {
			return nil // removed since it was listed
		}
		if err != nil {
			return fmt.Errorf("the file %s can't be backed up: %w", key, err)
		}
		defer r.Close()
		end.Blobs++
		end.Bytes += size
		if err := entry(backup.Blobs+key, size, r); err != nil {
			return fmt.Errorf("the file %s can't be backed up: %w", key, err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	last, _ := json.Marshal(end)
	return errors.Join(entry(backup.End, int64(len(last)), bytes.NewReader(last)), t.Close())
}

// dump writes the database as SQL, by MariaDB's own means.
func (s *Upkeep) dump(ctx context.Context, w io.Writer) error {
	db := s.Store.Name()
	args := []string{"--single-transaction", "--skip-lock-tables", "--no-tablespaces", "--hex-blob", "--skip-dump-date"}
	for _, t := range []string{"signins", "run_secrets", "secret_keys", "leases"} {
		args = append(args, "--ignore-table-data="+db+"."+t)
	}
	cmd, cleanup, err := s.Store.Client(ctx, "mariadb-dump", append(args, db)...)
	if err != nil {
		return err
	}
	defer cleanup()
	var stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = w, &stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("the database could not be dumped: %w: %s", err, strings.TrimSpace(stderr.String()))
	}
	return nil
}

// Restore fills an empty service from a backup.
func (s *Upkeep) Restore(ctx context.Context, r io.Reader) (backup.Ending, error) {
	var got, end backup.Ending
	t := tar.NewReader(r)
	whole := false
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return got, fmt.Errorf("the backup can't be read: %w", err)
		}
		switch {
		case h.Name == backup.Dump:
			sum := sha256.New()
			cmd, cleanup, err := s.Store.Client(ctx, "mariadb", "--binary-mode", s.Store.Name())
			if err != nil {
				return got, err
			}
			var stderr bytes.Buffer
			cmd.Stdin, cmd.Stderr = io.TeeReader(t, sum), &stderr
			err = cmd.Run()
			cleanup()
			if err != nil {
				return got, fmt.Errorf("the database could not be filled: %w: %s", err, strings.TrimSpace(stderr.String()))
			}
			got.DumpSHA256 = hex.EncodeToString(sum.Sum(nil))
		case strings.HasPrefix(h.Name, backup.Blobs):
			n, _, err := s.Blobs.Put(ctx, strings.TrimPrefix(h.Name, backup.Blobs), t)
			if err != nil {
				return got, err
			}
			got.Blobs++
			got.Bytes += n
		case h.Name == backup.End:
			if err := json.NewDecoder(t).Decode(&end); err != nil {
				return got, fmt.Errorf("the backup's end can't be read: %w", err)
			}
			whole = true
		}
	}
	if !whole || got != end {
		return got, errors.New("the backup is not whole: it was cut off, or changed; what came of it has been restored, and should not be used")
	}
	return got, nil
}
