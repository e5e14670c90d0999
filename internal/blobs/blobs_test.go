package blobs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatGoesInComesOut(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := Open("file://" + dir)
	require.NoError(t, err)
	defer s.Close()
	data := bytes.Repeat([]byte("rock pool "), 200_000)
	size, sha, err := s.Put(ctx, "a/b", bytes.NewReader(data))
	require.NoError(t, err)
	want := sha256.Sum256(data)
	assert.Equal(t, int64(len(data)), size)
	assert.Equal(t, hex.EncodeToString(want[:]), sha)

	r, err := s.Read(ctx, "a/b", 5, 10)
	require.NoError(t, err)
	part, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.Equal(t, data[5:15], part)

	require.NoError(t, iotest.TestReader(io.NewSectionReader(s.At(ctx, "a/b", size), 0, size), data))
	require.NoError(t, s.Delete(ctx, "a/b"))
	require.NoError(t, s.Delete(ctx, "a/b"))
	_, err = s.Read(ctx, "a/b", 0, -1)
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestAnUploadThatBreaksOffLeavesNothing(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := OpenFolder(dir)
	require.NoError(t, err)
	broken := io.MultiReader(bytes.NewReader(make([]byte, 1<<20)), iotest.ErrReader(errors.New("cut off")))
	_, _, err = s.Put(ctx, "x", broken)
	require.ErrorContains(t, err, "cut off")
	var left []string
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if !d.IsDir() {
			left = append(left, p)
		}
		return err
	}))
	assert.Empty(t, left)
}

func TestOnlyFoldersAreKnown(t *testing.T) {
	for _, address := range []string{"s3://bucket", "https://store.example/x", "mem://"} {
		_, err := Open(address)
		assert.ErrorContains(t, err, "give a folder", address)
	}
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, s.Close())
}
