package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"

	"tessellant/internal/store"
)

// Identity is who asks, and in which workspace.
type Identity = store.Identity

// KeyPrefix begins every key, so that a key that leaked can be known as one.
const KeyPrefix = "tsl_"

// NewKey makes a key.
func NewKey() string { return KeyPrefix + strings.ToLower(rand.Text()) }

// hashKey is what is kept of a key. Keys are long and random, so that a plain hash
// can't be reversed by guessing.
func hashKey(key string) []byte {
	h := sha256.Sum256([]byte(key))
	return h[:]
}

// FirstKey makes the workspace and its first key where there is no key yet. It
// answers the key that it made, "" when there was one. Given is the key to use; "" for a random one.
func (s *Service) FirstKey(ctx context.Context, workspace, given string) (string, error) {
	n, err := s.Store.CountKeys(ctx)
	if err != nil {
		return "", err
	}
	key := given
	if given != "" {
		if len(given) < 20 {
			return "", errors.New("the key given for the first start is shorter than 20 characters: anybody could guess it")
		}
		if _, err := s.Store.KeyByHash(ctx, hashKey(given)); err == nil {
			return "", nil
		}
	} else if n > 0 {
		return "", nil
	} else {
		key = NewKey()
	}
	if err := s.Store.AddKey(ctx, workspace, "owner", "first key", hashKey(key)); err != nil {
		return "", fmt.Errorf("make the first key: %w", err)
	}
	return key, nil
}

// Enter says who a key belongs to.
func (s *Service) Enter(ctx context.Context, key string) (Identity, error) {
	const title = "enter the workspace"
	if key == "" {
		return Identity{}, fail(Denied, title, "send Authorization: Bearer KEY; the command line reads TESSELLANT_KEY", "no key was given")
	}
	id, err := s.Store.KeyByHash(ctx, hashKey(key))
	if errors.Is(err, store.ErrNotFound) {
		return id, fail(Denied, title, "check the key; the first one was printed when the service started for the first time", "this key is not known")
	}
	return id, err
}
