// Package zipdir tells where a zip file's directory lies and how large it is, before anything is allocated for it: a small file can claim millions of entries.
//
// In: an io.ReaderAt and its size. Out: a Directory.
package zipdir

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// ErrNone says that there is no directory at the file's end: it is no zip file, or it is cut off.
var ErrNone = errors.New("there is no zip directory at its end")

const (
	endSize     = 22 // end of central directory record, APPNOTE 4.3.16, without its comment
	locatorSize = 20 // zip64 end of central directory locator, 4.3.15
	maxComment  = 65535
	elsewhere   = 1<<32 - 1 // what the end record says where the zip64 record says it
)

// Directory is where a zip file's directory lies.
type Directory struct {
	Size  int64 // bytes; where a zip64 record (APPNOTE 4.3.14) says that it is larger, that
	Begin int64 // of it, by the end record; -1: it does not say, or what can't be
	End   int64 // where the end of central directory record begins
}

// Find finds the directory by the end of central directory record.
func Find(r io.ReaderAt, size int64) (d Directory, err error) {
	for _, n := range []int64{1 << 10, endSize + maxComment} { // mostly there is no comment behind it
		n = min(size, n)
		tail := make([]byte, n)
		if _, err := r.ReadAt(tail, size-n); err != nil && !errors.Is(err, io.EOF) {
			return d, fmt.Errorf("read the end of the file: %w", err)
		}
		i := bytes.LastIndex(tail, []byte("PK\x05\x06"))
		if i < 0 || i+endSize > len(tail) {
			continue
		}
		d.End = size - n + int64(i)
		said, begin := binary.LittleEndian.Uint32(tail[i+12:]), binary.LittleEndian.Uint32(tail[i+16:])
		if d.Begin = int64(begin); begin == elsewhere || d.Begin > d.End {
			d.Begin = -1
		}
		large, err := zip64(r, size, d.End)
		if said == elsewhere && large > 0 { // it stands in the other record
			said = 0
		}
		d.Size = max(int64(said), large)
		return d, err
	}
	return d, ErrNone
}

// zip64 gives the size by the zip64 record whose locator stands before the end record at end; 0: there is none.
func zip64(r io.ReaderAt, size, end int64) (int64, error) {
	if end < locatorSize {
		return 0, nil
	}
	locator := make([]byte, locatorSize)
	if _, err := r.ReadAt(locator, end-locatorSize); err != nil {
		return 0, fmt.Errorf("read the end of the file: %w", err)
	}
	if !bytes.HasPrefix(locator, []byte("PK\x06\x07")) {
		return 0, nil
	}
	record := make([]byte, 48)
	at := int64(binary.LittleEndian.Uint64(locator[8:]))
	if at < 0 || at > size-int64(len(record)) {
		return 0, ErrNone
	}
	if _, err := r.ReadAt(record, at); err != nil {
		return 0, fmt.Errorf("read the end of the file: %w", err)
	}
	n := int64(binary.LittleEndian.Uint64(record[40:]))
	if !bytes.HasPrefix(record, []byte("PK\x06\x06")) || n < 0 || n > size {
		return 0, ErrNone
	}
	return n, nil
}
