package android

// Files to and from a device (SYNC.TXT of the adb sources).

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"tessellant/internal/phone"
)

var _ phone.Files = (*Device)(nil)

// fileLimit is how long a file may take.
const fileLimit = 5 * time.Minute

// Put implements phone.Files.
func (d *Device) Put(ctx context.Context, path string, r io.Reader) error {
	ctx, cancel := d.with(ctx, fileLimit)
	defer cancel()
	return d.push(ctx, "take a file", r, path)
}

// Remove implements phone.Files. Where the shell may not write, it has put nothing.
func (d *Device) Remove(ctx context.Context, path string) error {
	const doing = "remove a file"
	a, err := d.shell(ctx, doing, "rm -f "+quote(path), fileLimit)
	if err != nil || a.code == 0 {
		return err
	}
	said := string(a.out) + string(a.err)
	for _, none := range []string{"Permission denied", "Read-only file system", "Not a directory", "s a directory", "No such file", "Operation not permitted"} {
		if strings.Contains(said, none) {
			return nil
		}
	}
	return fmt.Errorf("%s: %s: %s", doing, path, strings.TrimSpace(said))
}

// Fetch implements phone.Files.
func (d *Device) Fetch(ctx context.Context, path string, limit int64) ([]byte, error) {
	const doing = "give a file"
	ctx, cancel := d.with(ctx, fileLimit)
	defer cancel()
	c, err := d.server.Open(ctx, d.transport, "sync:")
	if err != nil {
		return nil, d.failed(ctx, doing, err)
	}
	defer c.Close()
	le := binary.LittleEndian
	if _, err := c.Write(append(le.AppendUint32([]byte("RECV"), uint32(len(path))), path...)); err != nil {
		return nil, d.failed(ctx, doing, err)
	}
	var out bytes.Buffer
	head := make([]byte, 8)
	for {
		if _, err := io.ReadFull(c, head); err != nil {
			return nil, d.failed(ctx, doing, errCut)
		}
		n := int64(le.Uint32(head[4:]))
		switch string(head[:4]) {
		case "DONE":
			return out.Bytes(), nil
		case "DATA":
			if int64(out.Len())+n > limit {
				return nil, &phone.Refused{Doing: doing, Why: fmt.Sprintf("%s is longer than %d bytes", path, limit)}
			}
			if _, err := io.CopyN(&out, c, n); err != nil {
				return nil, d.failed(ctx, doing, errCut)
			}
		case "FAIL":
			why, _ := io.ReadAll(io.LimitReader(c, min(n, 1<<10)))
			return nil, &phone.Refused{Doing: doing, Why: path + ": " + string(why), Remedy: "see whether it is there, and whether the shell may read it"}
		default:
			return nil, d.failed(ctx, doing, errors.New("it sent something that is no file"))
		}
	}
}
