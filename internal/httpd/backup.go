package httpd

import (
	"context"
	"io"
	"time"

	"tessellant/api"
	"tessellant/internal/guard"
)

// GetBackup streams a backup. An error in the middle cuts the stream off, so that it has no end.
func (s *server) GetBackup(ctx context.Context, _ api.GetBackupRequestObject) (api.GetBackupResponseObject, error) {
	r, w := io.Pipe()
	ready := make(chan error, 1)
	first := &announcing{w: w, ready: ready}
	go func() {
		err := guard.Do(s.s.Log, guard.Request, func() error { return s.s.Backup(ctx, first) })
		first.announce(err)
		_ = w.CloseWithError(err)
	}()
	if err := <-ready; err != nil { // before anything was written it can still be a problem
		return nil, err
	}
	name := `attachment; filename="tessellant-` + time.Now().UTC().Format("2006-01-02") + `.tar"`
	return api.GetBackup200ApplicationxTarResponse{Body: r, Headers: api.GetBackup200ResponseHeaders{ContentDisposition: &name}}, nil
}

// announcing says when the first byte comes.
type announcing struct {
	w     io.Writer
	ready chan error
	said  bool
}

func (a *announcing) announce(err error) {
	if !a.said {
		a.said = true
		a.ready <- err
	}
}

func (a *announcing) Write(b []byte) (int, error) {
	a.announce(nil)
	return a.w.Write(b)
}
