package cloudlab

// What goes wrong when it is asked for.

import (
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// Faults are those of a cloud. All are off at first.
type Faults struct {
	Errors  atomic.Int64 // so many of the next requests are answered 500
	Hangs   atomic.Int64 // so many of the next are not answered, until their client leaves
	HTML    atomic.Int64 // so many of the next are answered by a page, with status 200
	Dies    atomic.Bool  // the next command ends its session
	Drops   atomic.Bool  // the next picture that is asked for ends its session, and the connection
	Other   atomic.Bool  // the next session is on another phone than was asked for
	Garbage atomic.Bool  // the catalogue is cut off
	Skew    atomic.Int64 // by so many ms its clock goes wrong
	Only    atomic.Value // a text: faults are of requests alone whose path has it
}

// less takes one from a number; false: there was none.
func less(n *atomic.Int64) bool {
	for {
		v := n.Load()
		if v <= 0 {
			return false
		}
		if n.CompareAndSwap(v, v-1) {
			return true
		}
	}
}

// broken answers a request by a fault.
func (s *Cloud) broken(w http.ResponseWriter, r *http.Request) bool {
	if only, _ := s.Only.Load().(string); only != "" && !strings.Contains(r.URL.Path, only) {
		return false
	}
	switch {
	case less(&s.Hangs):
		_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, maxBuild)) // the server notices that the client leaves when nothing is left to read
		select {
		case <-r.Context().Done():
		case <-s.ctx.Done():
		}
		return true
	case less(&s.Errors):
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = io.WriteString(w, "an error of the lab")
		return true
	case less(&s.HTML):
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<html><body><h1>We are back soon</h1></body></html>")
		return true
	}
	return false
}

// clock is the time of a phone as the cloud tells it.
func (s *Cloud) clock(x *session) time.Time {
	return x.rig.Time().Add(time.Duration(s.Skew.Load()) * time.Millisecond)
}
