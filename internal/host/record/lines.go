package record

import (
	"errors"
	"io"

	"tessellant/internal/host/spool"
)

// lines is a track that grows by whole lines: a disk that is full in the middle of one leaves no half of it, which a reader would take for another value.
type lines struct {
	out interface {
		io.WriterAt
		Truncate(size int64) error
	}
	share *spool.Share // nil: no bound
	size  int64        // bytes of whole lines
}

// add adds a line, which has its end.
func (l *lines) add(line []byte) error {
	n := int64(len(line))
	if err := l.share.Room(n); err != nil {
		return err
	}
	if _, err := l.out.WriteAt(line, l.size); err != nil {
		l.share.Back(n)
		return errors.Join(err, l.out.Truncate(l.size))
	}
	l.size += n
	return nil
}
