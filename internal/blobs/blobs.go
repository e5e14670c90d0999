// Package blobs stores large files: builds, packages, artifacts.
//
// They are in a bucket of gocloud.dev/blob, by default a folder (file://). Bytes are streamed, and hashed on the way in. In: a key and a
// reader. Out: size and SHA-256; and the bytes again, whole, in part, or at an offset.
package blobs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"

	lru "github.com/hashicorp/golang-lru/v2"
	"gocloud.dev/blob"
	"gocloud.dev/blob/fileblob"
	"gocloud.dev/gcerrors"
)

// ErrNotFound says that there is no blob with the key.
var ErrNotFound = errors.New("no such blob")

// ErrFull says that the disk on which the blobs lie is full but for its reserve.
var ErrFull = errors.New("the disk is full")

// Reserve is how many bytes of a folder's disk are left to others: a database that finds no room stops altogether.
const Reserve = 256 << 20

// Store is an open bucket.
type Store struct {
	bucket *blob.Bucket
	dir    string // "": not a folder
	// Reserve is how many bytes of the disk are left free.
	Reserve atomic.Int64
}

// Free is how many bytes there are for blobs; -1: nobody knows.
func (s *Store) Free() int64 {
	var st syscall.Statfs_t
	if s.dir == "" || syscall.Statfs(s.dir, &st) != nil {
		return -1
	}
	return max(int64(st.Bavail)*st.Bsize-s.Reserve.Load(), 0)
}

// room says whether there is any.
func (s *Store) room() error {
	if s.Free() == 0 {
		return fmt.Errorf("%w: less than %d MB are left at %s", ErrFull, s.Reserve.Load()>>20, s.dir)
	}
	return nil
}

// OpenFolder keeps blobs in a folder, which is made.
func OpenFolder(dir string) (*Store, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the folder for blobs: %w", err)
	}
	b, err := fileblob.OpenBucket(dir, &fileblob.Options{NoTempDir: true, Metadata: fileblob.MetadataDontWrite})
	if err != nil {
		return nil, fmt.Errorf("open the folder for blobs: %w", err)
	}
	s := &Store{bucket: b, dir: dir}
	s.Reserve.Store(Reserve)
	return s, nil
}

// Open opens a folder by its path, or by its URL: file:///var/lib/tessellant/blobs. Nothing else is known yet.
func Open(address string) (*Store, error) {
	u, err := url.Parse(address)
	if err == nil && u.Scheme == "file" {
		return OpenFolder(u.Path)
	}
	if err == nil && u.Scheme != "" {
		return nil, fmt.Errorf("builds and evidence can't be kept at %s: give a folder, which may be on a disk of its own or on a network", u.Redacted())
	}
	return OpenFolder(address)
}

// Close closes the bucket.
func (s *Store) Close() error { return s.bucket.Close() }

// Put streams r into a blob. When r fails, or ctx ends, nothing is kept.
func (s *Store) Put(ctx context.Context, key string, r io.Reader) (size int64, sha string, err error) {
	if err := s.room(); err != nil {
		return 0, "", err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // before Close, it throws away what was written
	w, err := s.bucket.NewWriter(ctx, key, &blob.WriterOptions{DisableContentTypeDetection: true, ContentType: "application/octet-stream"})
	if err != nil {
		return 0, "", fmt.Errorf("keep %s: %w", key, err)
	}
	h := sha256.New()
	size, err = io.Copy(io.MultiWriter(w, h), &bounded{s, r, 0})
	if err != nil {
		cancel()
		_ = w.Close()
		return 0, "", err
	}
	if err := w.Close(); err != nil {
		return 0, "", fmt.Errorf("keep %s: %w", key, err)
	}
	return size, hex.EncodeToString(h.Sum(nil)), nil
}

// bounded looks now and then whether there is still room while r is read.
type bounded struct {
	s *Store
	r io.Reader
	n int64
}

func (b *bounded) Read(p []byte) (int, error) {
	const every = 16 << 20
	n, err := b.r.Read(p)
	if b.n%every+int64(n) >= every {
		if full := b.s.room(); full != nil {
			return 0, full
		}
	}
	b.n += int64(n)
	return n, err
}

// Read gives length bytes of a blob from offset on; length -1: to its end.
func (s *Store) Read(ctx context.Context, key string, offset, length int64) (io.ReadCloser, error) {
	r, err := s.bucket.NewRangeReader(ctx, key, offset, length, nil)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil, fmt.Errorf("%s: %w", key, ErrNotFound)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", key, err)
	}
	return r, nil
}

// Delete removes a blob. It is no error when there is none.
func (s *Store) Delete(ctx context.Context, key string) error {
	err := s.bucket.Delete(ctx, key)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil
	}
	return err
}

// Part is a blob among others.
type Part struct {
	Key  string
	Size int64 // bytes
}

// List gives the blobs whose keys begin with prefix, in the keys' order.
func (s *Store) List(ctx context.Context, prefix string) (parts []Part, err error) {
	it := s.bucket.List(&blob.ListOptions{Prefix: prefix})
	for {
		o, err := it.Next(ctx)
		if errors.Is(err, io.EOF) {
			return parts, nil
		}
		if err != nil {
			return nil, fmt.Errorf("list %s: %w", prefix, err)
		}
		parts = append(parts, Part{o.Key, o.Size})
	}
}

// Each calls f with every blob, until it gives an error.
func (s *Store) Each(ctx context.Context, f func(key string, size int64, open func() (io.ReadCloser, error)) error) error {
	it := s.bucket.List(nil)
	for {
		o, err := it.Next(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("list the blobs: %w", err)
		}
		if err := f(o.Key, o.Size, func() (io.ReadCloser, error) { return s.Read(ctx, o.Key, 0, o.Size) }); err != nil {
			return err
		}
	}
}

const (
	pageSize = 256 << 10
	maxPages = 16
)

// At gives a blob as an io.ReaderAt, for readers that jump about. It keeps the
// last pages it has read.
func (s *Store) At(ctx context.Context, key string, size int64) io.ReaderAt {
	kept, _ := lru.New[int64, []byte](maxPages) // it fails for no size alone
	return &pages{ctx: ctx, s: s, key: key, size: size, kept: kept}
}

type pages struct {
	ctx  context.Context
	s    *Store
	key  string
	size int64

	kept *lru.Cache[int64, []byte]
}

func (p *pages) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	for n < len(b) {
		if off >= p.size {
			return n, io.EOF
		}
		page, err := p.page(off / pageSize)
		if err != nil {
			return n, err
		}
		in := int(off % pageSize)
		if in >= len(page) {
			return n, io.ErrUnexpectedEOF
		}
		k := copy(b[n:], page[in:])
		n, off = n+k, off+int64(k)
	}
	return n, nil
}

func (p *pages) page(i int64) ([]byte, error) {
	if page, ok := p.kept.Get(i); ok {
		return page, nil
	}
	r, err := p.s.Read(p.ctx, p.key, i*pageSize, pageSize)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	page, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	p.kept.Add(i, page)
	return page, nil
}
