package proxy

// What goes through is counted, and its beginning kept.

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"

	"tessellant/internal/core/har"
)

const (
	maxBody    = 64 << 10  // bytes of a body that are kept, as it came
	maxDecoded = 256 << 10 // and when it is unpacked
	maxHeader  = 4 << 10   // of one header
	maxHeaders = 100
	maxURL     = 8 << 10
)

// tap is a body that is counted on its way.
type tap struct {
	io.ReadCloser

	mu   sync.Mutex
	n    int64
	kept []byte
	err  error
}

func (t *tap) Read(b []byte) (int, error) {
	n, err := t.ReadCloser.Read(b)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.n += int64(n)
	if room := maxBody - len(t.kept); room > 0 {
		t.kept = append(t.kept, b[:min(room, n)]...)
	}
	if err != nil && err != io.EOF && t.err == nil {
		t.err = err
	}
	return n, err
}

// failed says why the body was cut off; nil: it was not.
func (t *tap) failed() error {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.err
}

// seen is what went by.
func (t *tap) seen() (n int64, kept []byte) {
	if t == nil {
		return 0, nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.n, slices.Clone(t.kept)
}

// duplex is the body of an answer that switches protocols: both directions are counted.
type duplex struct {
	*tap
	w  io.Writer
	mu sync.Mutex
	n  int64
}

func (d *duplex) Write(b []byte) (int, error) {
	n, err := d.w.Write(b)
	d.mu.Lock()
	d.n += int64(n)
	d.mu.Unlock()
	return n, err
}

func (d *duplex) wrote() int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.n
}

// content is a body as it is kept: unpacked, and only where it is text.
func content(h http.Header, n int64, kept []byte) har.Content {
	c := har.Content{Size: n, MimeType: fmt.Sprintf("%.200s", h.Get("Content-Type"))}
	if n == 0 {
		return c
	}
	if !isText(c.MimeType) && (c.MimeType != "" || !utf8.Valid(kept[:min(len(kept), 512)])) {
		c.Comment = "no text, so not kept"
		return c
	}
	raw, why := decoded(h.Get("Content-Encoding"), kept)
	cut := n > int64(len(kept)) || len(raw) > maxDecoded
	raw = raw[:min(len(raw), maxDecoded)]
	for range utf8.UTFMax { // it may have been cut in the middle of a letter
		if len(raw) == 0 || !cut || utf8.Valid(raw[max(0, len(raw)-utf8.UTFMax):]) {
			break
		}
		raw = raw[:len(raw)-1]
	}
	c.Text = strings.ToValidUTF8(string(raw), "\uFFFD")
	switch {
	case why != "":
		c.Comment = why
	case cut:
		c.Comment = "only its beginning was kept"
	}
	return c
}

func isText(contentType string) bool {
	t, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		t = strings.ToLower(contentType)
	}
	return strings.HasPrefix(t, "text/") || strings.HasSuffix(t, "+json") || strings.HasSuffix(t, "+xml") ||
		slices.Contains([]string{"application/json", "application/xml", "application/javascript", "application/x-www-form-urlencoded", "application/graphql", "application/x-ndjson", "application/yaml"}, t)
}

// decoded unpacks what it can of a body, up to a bound.
func decoded(encoding string, raw []byte) (out []byte, why string) {
	var r io.Reader
	var err error
	switch e := strings.ToLower(strings.TrimSpace(encoding)); e {
	case "", "identity":
		return raw, ""
	case "gzip", "x-gzip":
		r, err = gzip.NewReader(bytes.NewReader(raw))
	case "deflate":
		r, err = zlib.NewReader(bytes.NewReader(raw))
	case "br":
		r = brotli.NewReader(bytes.NewReader(raw))
	case "zstd":
		var z *zstd.Decoder
		if z, err = zstd.NewReader(bytes.NewReader(raw), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20), zstd.WithDecoderMaxWindow(8<<20)); err == nil {
			defer z.Close()
			r = z
		}
	default:
		return nil, fmt.Sprintf("packed in a way that is not known here (%.40q)", e)
	}
	if err != nil {
		return nil, "it could not be unpacked"
	}
	out, err = io.ReadAll(io.LimitReader(r, maxDecoded+1))
	if err != nil && len(out) == 0 {
		return nil, "it could not be unpacked"
	}
	return out, "" // what was cut off has no end: what came before it is kept
}

// pairs are headers, or the values of a query, in the order of their names.
func pairs(h map[string][]string) (out []har.Pair) {
	names := make([]string, 0, len(h))
	for n := range h {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		for _, v := range h[n] {
			if len(out) == maxHeaders {
				return out
			}
			out = append(out, har.Pair{Name: fmt.Sprintf("%.200s", n), Value: strings.ToValidUTF8(fmt.Sprintf("%.*s", maxHeader, v), "\uFFFD")})
		}
	}
	return out
}
