package android

// The shell that is kept on a device: commands follow each other on its
// standard input, so that none needs a connection to the adb server and a new
// shell on the device.
//
// adbd starts the shell when the service's command is empty (SERVICES.TXT; `raw`:
// without a terminal). Behind each command it writes a mark, on both of its outputs,
// since what comes on one says nothing of the other.

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"syscall"
	"tessellant/internal/adb"
	"time"
)

const (
	keptIdle   = time.Minute     // a shell that is not used for so long is closed
	helloLimit = 5 * time.Second // for a new one to answer
)

var errNoShell = errors.New("its shell takes no commands from its input")

// keeping is the device's kept shell; all of it is under the device's mu.
type keeping struct {
	shell *kept
	busy  bool // somebody's command is running there, or it is being opened
	never bool // this device has no such shell
	idle  *time.Timer
}

// inKept runs a line in the kept shell. When ok is false it did not: the shell is in use, or can't be had.
func (d *Device) inKept(ctx context.Context, doing, line string) (a answer, ok bool, err error) {
	d.mu.Lock()
	if d.keeps.busy || d.keeps.never {
		d.mu.Unlock()
		return a, false, nil
	}
	k := d.keeps.shell
	d.keeps.busy, d.keeps.shell = true, nil
	if d.keeps.idle != nil {
		d.keeps.idle.Stop()
	}
	d.mu.Unlock()
	defer func() { d.putBack(k) }()

	if k != nil && !k.alive() { // the device went away and came back, or the adb server did
		k.close()
		k = nil
	}
	if k == nil {
		if k, err = d.openKept(ctx); err != nil {
			if errors.Is(err, errNoShell) {
				d.mu.Lock()
				d.keeps.never = true
				d.mu.Unlock()
			}
			return a, false, nil
		}
	}
	if a, err = k.run(ctx, line); err != nil {
		return a, true, d.failed(ctx, doing, err)
	}
	return a, true, nil
}

// putBack gives the shell back, for the next command.
func (d *Device) putBack(k *kept) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.keeps.busy = false
	if k == nil || k.ended || d.closed {
		k.close()
		return
	}
	d.keeps.shell = k
	if d.keeps.idle == nil {
		d.keeps.idle = time.AfterFunc(keptIdle, d.letGo)
		return
	}
	d.keeps.idle.Reset(keptIdle)
}

// letGo closes the kept shell, unless it is in use.
func (d *Device) letGo() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.keeps.shell.close()
	d.keeps.shell = nil
}

func (d *Device) openKept(ctx context.Context) (*kept, error) {
	hello, cancel := context.WithTimeout(ctx, helloLimit)
	defer cancel()
	c, err := d.server.Open(hello, d.transport, "shell,v2,TERM=dumb,raw:")
	if err != nil {
		return nil, err
	}
	c.Keep() // from here on it lives longer than the command that it was opened for
	k := &kept{c: c, in: bufio.NewReaderSize(c, 4<<10), mark: "tessellant-" + rand.Text() + "-"}
	// What the shell says by itself when it begins is before this one's mark.
	if _, err = k.run(hello, ":"); err == nil && k.ended {
		err = errNoShell
	}
	if err != nil {
		k.close()
		if hello.Err() != nil && ctx.Err() == nil {
			err = errNoShell
		}
		return nil, err
	}
	return k, nil
}

// kept is a shell on a device that reads its commands from its input.
type kept struct {
	c     *adb.Conn
	in    *bufio.Reader
	mark  string
	count int
	ended bool // it takes no more commands
}

func (k *kept) close() {
	if k != nil {
		_ = k.c.Close()
	}
}

// alive reports whether the connection stands, as far as is known here, and
// nothing came on it that nobody asked for.
func (k *kept) alive() bool {
	raw, err := k.c.Conn.(syscall.Conn).SyscallConn()
	if err != nil || k.in.Buffered() > 0 {
		return false
	}
	var peeked error
	err = raw.Read(func(fd uintptr) bool {
		_, _, peeked = syscall.Recvfrom(int(fd), make([]byte, 1), syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		return true
	})
	return err == nil && errors.Is(peeked, syscall.EAGAIN)
}

// run runs a line and reads what it says until its end marks. The line gets nothing to read. When ctx
// ends before the line does, the shell is closed, and the line with it.
func (k *kept) run(ctx context.Context, line string) (answer, error) {
	var a answer
	k.ended = true // unless it comes to its end
	k.count++
	end := k.mark + strconv.Itoa(k.count) + ":"
	frame := fmt.Sprintf("{ %s\n} </dev/null; echo %s$?; echo %s >&2\n", line, end, end)
	stop := context.AfterFunc(ctx, k.close)
	defer stop()
	if _, err := k.c.Write(append(binary.LittleEndian.AppendUint32([]byte{packetIn}, uint32(len(frame))), frame...)); err != nil {
		return a, errCut
	}
	var outDone, errDone bool
	for !outDone || !errDone {
		kind, err := a.read(k.in)
		if err != nil {
			return a, err
		}
		switch kind {
		case packetOut:
			if out, code, ok := cutMark(a.out, end); ok {
				a.out, outDone = out, true
				a.code, _ = strconv.Atoi(code)
			}
		case packetErr:
			if out, _, ok := cutMark(a.err, end); ok {
				a.err, errDone = out, true
			}
		case packetExit: // the line ended the shell: its exit code is the shell's
			return a, nil
		}
	}
	if !stop() {
		return a, nil // ctx ended just now, and the shell is being closed
	}
	k.ended = false
	return a, nil
}

// cutMark takes the end mark, and what stands between it and the line's end, off the end of what came.
func cutMark(b []byte, end string) (rest []byte, behind string, ok bool) {
	if len(b) == 0 || b[len(b)-1] != '\n' {
		return b, "", false
	}
	from := max(0, len(b)-len(end)-len("255\n"))
	i := bytes.LastIndex(b[from:], []byte(end))
	if i < 0 {
		return b, "", false
	}
	return b[:from+i], string(b[from+i+len(end) : len(b)-1]), true
}
