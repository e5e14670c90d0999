package appfile

// The build as a zip file, opened once and read in place.

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"

	"tessellant/internal/core/zipdir"
)

// File is a build that is open. Its zip directory has been read, once.
type File struct {
	r     io.ReaderAt
	size  int64
	dir   zipdir.Directory
	all   []*zip.File // in the directory's order
	named map[string]*zip.File
	app   *string // see bundle; nil: not looked for yet
	page  *Page   // in place of an app; nil: it is a zip file
}

// Open opens the build of size bytes behind r. What no device would take for an app is refused.
func Open(r io.ReaderAt, size int64) (*File, error) {
	if size == 0 {
		return nil, refuse("upload the APK or the IPA that your build made", "the file is empty")
	}
	head := make([]byte, 4)
	if _, err := r.ReadAt(head[:1], 0); err == nil && head[0] == '{' {
		p, err := readPage(r, size)
		if err != nil {
			return nil, err
		}
		return &File{r: r, size: size, page: p}, nil
	}
	if n, _ := r.ReadAt(head, 0); n < 4 || !bytes.HasPrefix(head, []byte("PK")) {
		return nil, refuse("upload the APK or the IPA that your build made", "this is neither an APK nor an IPA: it does not begin as a zip file does")
	}
	dir, err := zipdir.Find(r, size)
	if errors.Is(err, zipdir.ErrNone) {
		return nil, refuse("upload it again from the start, as the build made it", "it begins as a zip file but has no zip directory at its end: it is cut off, or something was put behind it")
	}
	if err != nil {
		return nil, err
	}
	if dir.Size > maxDirectory {
		return nil, refuse(rebuild, "its zip directory is %d bytes long, more than the %d that are read", dir.Size, maxDirectory)
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, refuse("upload it again from the start", "its zip directory is damaged: %v", err)
	}
	if len(z.File) > maxEntries {
		return nil, refuse(rebuild, "it holds %d files, more than the %d that are read", len(z.File), maxEntries)
	}
	named := make(map[string]*zip.File, len(z.File))
	for _, f := range z.File {
		if named[f.Name] != nil {
			return nil, refuse(rebuild, "it holds two files named %q; devices refuse such an app", clip(f.Name))
		}
		named[f.Name] = f
		if f.Flags&1 != 0 { // APPNOTE 4.4.4, bit 0
			return nil, refuse("pack it without a password", "%q inside is encrypted", clip(f.Name))
		}
	}
	for _, f := range z.File[:min(3, len(z.File))] { // each costs a read
		if off, err := f.DataOffset(); err != nil || off < 0 || off > size {
			return nil, refuse("upload it again from the start", "it is damaged: the file %q inside has no beginning", clip(f.Name))
		}
	}
	return &File{r: r, size: size, dir: dir, all: z.File, named: named}, nil
}

// Entry reads one file out of the build, of at most max bytes.
func (f *File) Entry(name string, max int64) ([]byte, error) {
	packed := f.named[name]
	if packed == nil {
		return nil, fmt.Errorf("the build has no file %s", name)
	}
	return unpack(packed, max)
}

func unpack(f *zip.File, max int64) ([]byte, error) {
	if f.UncompressedSize64 > uint64(max) {
		return nil, refuse(rebuild, "%s inside is %d bytes long, more than the %d that are read", clip(f.Name), f.UncompressedSize64, max)
	}
	rc, err := f.Open()
	if err != nil {
		return nil, refuse("upload it again from the start", "%s inside can't be opened: %v", clip(f.Name), err)
	}
	defer rc.Close()
	// Read what is really there: the size that the directory tells may be a lie.
	raw, err := io.ReadAll(io.LimitReader(rc, max+1))
	if err != nil {
		return nil, refuse("upload it again from the start", "%s inside is damaged: %v", clip(f.Name), err)
	}
	if int64(len(raw)) > max {
		return nil, refuse(rebuild, "%s inside unpacks to more than the %d bytes that are read", clip(f.Name), max)
	}
	return raw, nil
}
