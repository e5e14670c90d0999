// Package zipdir tells how large a zip file's directory is, before anything is allocated for it: a small file can claim millions of entries.
//
// In: an io.ReaderAt and its size. Out: bytes.
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
)

// Size finds the end of central directory record and gives the directory's size by it, in bytes; where a zip64 record (APPNOTE
// 4.3.14) says that it is larger, that.
func Size(r io.ReaderAt, size int64) (int64, error) {
	for _, n := range []int64{1 << 10, endSize + maxComment} { // mostly there is no comment behind it
		n = min(size, n)
		tail := make([]byte, n)
		if _, err := r.ReadAt(tail, size-n); err != nil && !errors.Is(err, io.EOF) {
			return 0, fmt.Errorf("read the end of the file: %w", err)
		}
		if i := bytes.LastIndex(tail, []byte("PK\x05\x06")); i >= 0 && i+endSize <= len(tail) {
			large, err := zip64(r, size, size-n+int64(i))
			said := binary.LittleEndian.Uint32(tail[i+12:])
			if said == 1<<32-1 && large > 0 { // it stands in the other record
				said = 0
			}
			return max(int64(said), large), err
		}
	}
	return 0, ErrNone
}

// End gives where the end of central directory record begins.
func End(r io.ReaderAt, size int64) (int64, error) {
	n := min(size, int64(endSize+maxComment))
	tail := make([]byte, n)
	if _, err := r.ReadAt(tail, size-n); err != nil && !errors.Is(err, io.EOF) {
		return 0, fmt.Errorf("read the end of the file: %w", err)
	}
	i := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if i < 0 || i+endSize > len(tail) {
		return 0, ErrNone
	}
	return size - n + int64(i), nil
}

// Begin gives where the directory begins, by the end record; a file with a zip64 record has ErrNone.
func Begin(r io.ReaderAt, size int64) (int64, error) {
	end, err := End(r, size)
	if err != nil {
		return 0, err
	}
	record := make([]byte, endSize)
	if _, err := r.ReadAt(record, end); err != nil {
		return 0, fmt.Errorf("read the end of the file: %w", err)
	}
	at := binary.LittleEndian.Uint32(record[16:])
	if at == 1<<32-1 || int64(at) > end {
		return 0, ErrNone
	}
	return int64(at), nil
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
