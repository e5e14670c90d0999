// Package secrets seals the secret inputs of runs before they are kept, and opens them for the hosts that work with them.
//
// The key lies in a file that only the service's user may read, or in the environment. It is made when there is none, and changed by a command:
// what is sealed is sealed anew, and the key before stays for what another process sealed with it meanwhile. In: values. Out: what is kept.
package secrets

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tessellant/internal/core/envelope"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Secrets is that room.
type Secrets struct {
	Store *store.Store
	Log   *slog.Logger
	// File has the keys, one a line in Base64, the one that seals first. Given are keys from the environment, in place of a file.
	File  string
	Given string

	mu      sync.Mutex
	ring    envelope.Ring
	changed time.Time // when the file did, that the ring was read from
}

// New makes the room, and the key where there is none.
func New(st *store.Store, log *slog.Logger, file, given string) (*Secrets, error) {
	s := &Secrets{Store: st, Log: log, File: file, Given: given}
	if given == "" && file != "" {
		if err := makeKey(file); err != nil {
			return nil, fmt.Errorf("make the key for secrets: %w", err)
		}
	}
	_, err := s.keys()
	return s, err
}

// Agree sees that all processes of the service seal with one key. Anew: a key that is lost is given up, with what it sealed.
func (s *Secrets) Agree(ctx context.Context, anew bool) error {
	ring, err := s.keys()
	if err != nil {
		return err
	}
	id, err := s.Store.SecretKey(ctx, ring[0].ID)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(ring, func(k envelope.Key) bool { return k.ID == id }) {
		if !anew {
			return fmt.Errorf("the secret inputs in this database are sealed with another key (%s) than the one here (%s): copy secrets.key from the data folder of the service that made it, or give all services the same TESSELLANT_SECRETS_KEY; if that key is lost, start once with --new-secrets-key: running runs with secret inputs end as invalid then", id, ring[0].ID)
		}
		s.Log.Warn("secret inputs are sealed with a new key; what the one before sealed is lost", "before", id, "now", ring[0].ID)
	}
	if err := s.Store.SetSecretKey(ctx, ring[0].ID); err != nil {
		return err
	}
	_, err = s.SealAll(ctx) // also what an earlier version kept as it was
	return err
}

// makeKey makes a file with a key, unless there is one. Of several processes that do so at once, one's counts.
func makeKey(file string) error {
	if _, err := os.Stat(file); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	tmp, err := writeKeys(file, [][]byte{envelope.NewKey()})
	if err != nil {
		return err
	}
	defer os.Remove(tmp)
	if err := os.Link(tmp, file); !errors.Is(err, os.ErrExist) {
		return err
	}
	return nil
}

// writeKeys writes keys to a file beside another, which only the service's user may read.
func writeKeys(file string, keys [][]byte) (tmp string, err error) {
	f, err := os.CreateTemp(filepath.Dir(file), ".key-*") // of mode 0600
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		_, werr := fmt.Fprintln(f, base64.StdEncoding.EncodeToString(k))
		err = errors.Join(err, werr)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		_ = os.Remove(f.Name())
	}
	return f.Name(), err
}

// readKeys reads keys as they stand in a file, or in the environment, where commas are between.
func readKeys(text string) (keys [][]byte, err error) {
	for _, line := range strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == ',' || r == ' ' || r == '\r' }) {
		raw, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(raw) != envelope.KeySize {
			return nil, fmt.Errorf("the key for secrets can't be read: it must be %d bytes in Base64; make one with: openssl rand -base64 %d", envelope.KeySize, envelope.KeySize)
		}
		keys = append(keys, raw)
	}
	return keys, nil
}

// keys gives the ring, as the file has it now.
func (s *Secrets) keys() (envelope.Ring, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	text := s.Given
	var changed time.Time
	if text == "" {
		if s.File == "" {
			return nil, errors.New("this service keeps no secrets")
		}
		st, err := os.Stat(s.File)
		if err != nil {
			return nil, fmt.Errorf("the key for secrets is gone: %w", err)
		}
		if changed = st.ModTime(); s.ring != nil && changed.Equal(s.changed) {
			return s.ring, nil
		}
		if st.Mode().Perm()&0o077 != 0 {
			return nil, fmt.Errorf("the key for secrets in %s can be read by others: chmod 600 it", s.File)
		}
		raw, err := os.ReadFile(s.File)
		if err != nil {
			return nil, fmt.Errorf("the key for secrets can't be read: %w", err)
		}
		text = string(raw)
	} else if s.ring != nil {
		return s.ring, nil
	}
	keys, err := readKeys(text)
	if err != nil {
		return nil, err
	}
	ring, err := envelope.NewRing(keys...)
	if err != nil {
		return nil, err
	}
	s.ring, s.changed = ring, changed
	return ring, nil
}

func about(run, name string) string { return "run " + run + ", input " + name }

// Seal seals the secret inputs of a run.
func (s *Secrets) Seal(run string, values map[string]string) (map[string]string, error) {
	if len(values) == 0 {
		return nil, nil //nolint:nilnil // there are none
	}
	ring, err := s.keys()
	if err != nil {
		return nil, err
	}
	out := make(map[string]string, len(values))
	for name, v := range values {
		out[name] = ring.Seal([]byte(v), about(run, name))
	}
	return out, nil
}

// ErrLost says that secrets can't be opened any more.
var ErrLost = errors.New("its secret inputs can't be opened")

// Of gives the secret inputs of a run that goes on. ErrLost: they can't be opened.
func (s *Secrets) Of(ctx context.Context, run string) (map[string]string, error) {
	kept, err := s.Store.Secrets(ctx, run)
	if err != nil {
		return nil, err
	}
	ring, err := s.keys()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrLost, err)
	}
	for name, v := range kept {
		if !envelope.Sealed(v) {
			continue // an earlier version wrote it
		}
		plain, err := ring.Open(v, about(run, name))
		if errors.Is(err, envelope.ErrKey) { // another process has just changed it
			s.forget()
			if ring, err = s.keys(); err == nil {
				plain, err = ring.Open(v, about(run, name))
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrLost, err)
		}
		kept[name] = string(plain)
	}
	return kept, nil
}

// Rotated says what changing the key did.
type Rotated struct {
	Key     string // the id of the one that seals now
	Secrets int    // so many were sealed anew
}

// Rotate makes a new key, and seals with it what is kept. A key from the environment is changed there: what is kept is sealed with the first of them.
func (s *Secrets) Rotate(ctx context.Context) (r Rotated, err error) {
	if s.Given == "" {
		if _, err := s.SealAll(ctx); err != nil { // of the key before the last, which is lost now
			return r, err
		}
		if err := s.newKey(); err != nil {
			return r, refuse.New(refuse.Refused, "change the key for secrets", "see to the file "+s.File, "%v", err)
		}
	}
	if r, err = s.SealAll(ctx); err == nil {
		err = s.Store.SetSecretKey(ctx, r.Key)
	}
	return r, err
}

// newKey puts a new key before those in the file. Of the others, the one that sealed until now stays.
func (s *Secrets) newKey() error {
	raw, err := os.ReadFile(s.File)
	if err != nil {
		return err
	}
	keys, err := readKeys(string(raw))
	if err != nil {
		return err
	}
	next := append([][]byte{envelope.NewKey()}, keys[:min(len(keys), 1)]...)
	tmp, err := writeKeys(s.File, next)
	if err != nil {
		return err
	}
	defer os.Remove(tmp)
	defer s.forget()
	return os.Rename(tmp, s.File)
}

// forget has the keys read anew: a file's time of change is too coarse to tell two changes apart that come at once.
func (s *Secrets) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ring = nil
}

// SealAll seals anew what is kept and was not sealed with the key that seals now, also what an earlier version kept as it was.
func (s *Secrets) SealAll(ctx context.Context) (r Rotated, err error) {
	ring, err := s.keys()
	if err != nil {
		return r, err
	}
	r.Key = ring[0].ID
	all, err := s.Store.AllSecrets(ctx)
	if err != nil {
		return r, err
	}
	for _, x := range all {
		sealed, changed := "", true
		if envelope.Sealed(x.Value) {
			sealed, changed, err = ring.Rewrap(x.Value, about(x.Run, x.Name))
		} else {
			sealed = ring.Seal([]byte(x.Value), about(x.Run, x.Name))
		}
		if err != nil {
			s.Log.Warn("a secret input can't be sealed anew", "run", x.Run, "input", x.Name, "err", err)
			err = nil
			continue
		}
		if !changed {
			continue
		}
		if err := s.Store.ReplaceSecret(ctx, x, sealed); err != nil {
			return r, err
		}
		r.Secrets++
	}
	if r.Secrets > 0 {
		s.Log.Info("secret inputs were sealed anew", "key", r.Key, "secrets", r.Secrets)
	}
	return r, nil
}
