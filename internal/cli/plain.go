package cli

// What the service says is shown, and not obeyed: apps, scripts and people elsewhere write texts that a terminal would take for its own commands.

import (
	"bytes"
	"io"
	"mime"
	"net/http"
	"strconv"
	"unicode/utf8"

	"tessellant/internal/core/foreign"
)

// plainly is the way of a client whose answers people read: what a terminal would obey in them is written out.
type plainly struct{ http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (p plainly) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := p.RoundTripper.RoundTrip(r)
	if err != nil {
		return resp, err
	}
	if kind, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type")); kind != "application/json" && kind != "application/problem+json" {
		return resp, nil
	}
	raw, err := io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	if err != nil {
		return resp, err
	}
	raw = plainJSON(raw)
	resp.Body, resp.ContentLength = io.NopCloser(bytes.NewReader(raw)), int64(len(raw))
	return resp, nil
}

// plainJSON writes out, in the texts of a JSON value, what a terminal would obey.
func plainJSON(raw []byte) []byte {
	out := make([]byte, 0, len(raw))
	write := func(r rune) {
		for _, c := range []byte(foreign.Shown(string(r))) {
			if c == '\\' {
				out = append(out, '\\')
			}
			out = append(out, c)
		}
	}
	for i := 0; i < len(raw); {
		c := raw[i]
		switch {
		case c == '\\' && i+5 < len(raw) && raw[i+1] == 'u':
			n, err := strconv.ParseUint(string(raw[i+2:i+6]), 16, 32)
			if r := rune(n); err == nil && foreign.Shown(string(r)) != string(r) && !surrogate(r) {
				write(r)
			} else {
				out = append(out, raw[i:i+6]...)
			}
			i += 6
		case c == '\\' && i+1 < len(raw):
			if at := bytes.IndexByte([]byte("bfr"), raw[i+1]); at >= 0 {
				write(rune("\b\f\r"[at]))
			} else {
				out = append(out, c, raw[i+1])
			}
			i += 2
		case c < utf8.RuneSelf:
			out = append(out, c)
			i++
		default:
			r, n := utf8.DecodeRune(raw[i:])
			if foreign.Shown(string(r)) != string(r) {
				write(r)
			} else {
				out = append(out, raw[i:i+n]...)
			}
			i += n
		}
	}
	return out
}

func surrogate(r rune) bool { return r >= 0xD800 && r <= 0xDFFF }
