package har

// An index of a file: what a list shows of each entry, and where its line stands. Each line begins with that, so that the rest need not be read.

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"tessellant/internal/core/tracks"
)

// Row is what a list shows of an entry.
type Row struct {
	At       int64   `json:"at"`   // ms on the attempt's clock
	Took     float64 `json:"took"` // ms
	Kind     string  `json:"kind"`
	Method   string  `json:"method"`
	URL      string  `json:"url"`
	Status   int     `json:"status"`
	Type     string  `json:"type,omitempty"` // of what was answered
	Sent     int64   `json:"sent"`
	Received int64   `json:"received"`
	Error    string  `json:"error,omitempty"`
}

const (
	rowURL   = 2 << 10 // letters
	rowError = 300
	rowWord  = 100
)

// row is the row of an entry.
func (e Entry) row() *Row {
	kind, _, _ := strings.Cut(e.Response.Content.MimeType, ";")
	r := Row{At: e.At, Took: e.Time, Kind: e.Kind, Method: e.Request.Method, URL: e.Request.URL, Status: e.Response.Status,
		Type: strings.TrimSpace(kind), Sent: e.Sent, Received: e.Received, Error: e.Error}
	r.fit()
	return &r
}

// fit cuts off what is too long for a list: a file may have been written by anybody.
func (r *Row) fit() {
	for _, x := range []struct {
		s    *string
		most int
	}{{&r.URL, rowURL}, {&r.Error, rowError}, {&r.Kind, rowWord}, {&r.Method, rowWord}, {&r.Type, rowWord}} {
		if len(*x.s) > x.most {
			*x.s = fmt.Sprintf("%.*s", x.most, *x.s)
		}
	}
}

// Failed says whether the exchange went wrong.
func (r Row) Failed() bool { return r.Error != "" || r.Status >= 400 }

// Host is whom it was asked of.
func (r Row) Host() string {
	u, err := url.Parse(r.URL)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// Index is what a file holds.
type Index struct {
	Rows  []Row
	Bytes int64 // about what the index takes in memory
	spans []span
	size  int64 // of the file, as far as it was read
}

type span struct {
	at     int64
	length int32
}

// How much is indexed: entries, and bytes of the index.
const (
	maxIndexed = 250_000
	maxIndex   = 128 << 20
)

var rowHead = []byte(`{"_row":`)

// Scan makes the index of a file, or of what there is of one.
func Scan(r io.Reader) (*Index, error) {
	x := &Index{}
	br := bufio.NewReaderSize(r, 64<<10)
	for n := 0; len(x.Rows) < maxIndexed && x.Bytes < maxIndex; n++ {
		line, err := tracks.ReadLine(br, MaxLine)
		if errors.Is(err, io.EOF) {
			return x, nil
		}
		if err != nil {
			return nil, fmt.Errorf("line %d of the network log: %w", n+1, err)
		}
		at := x.size
		x.size += int64(len(line))
		if n == 0 || string(line) == Tail {
			continue
		}
		row, err := rowOf(line)
		if err != nil {
			return nil, fmt.Errorf("line %d of the network log: %w", n+1, err)
		}
		x.Bytes += 150 + int64(len(row.URL)+len(row.Error)+len(row.Type))
		x.Rows, x.spans = append(x.Rows, row), append(x.spans, span{at, int32(len(line))}) //nolint:gosec // MaxLine bounds it
	}
	return x, nil
}

func rowOf(line []byte) (r Row, err error) {
	rest, ok := bytes.CutPrefix(bytes.TrimPrefix(line, []byte(",")), rowHead)
	if ok {
		err = json.NewDecoder(bytes.NewReader(rest)).Decode(&r)
		r.fit()
		return r, err
	}
	e, err := ParseLine(line)
	return *e.row(), err
}

// Span says where the line of an entry stands.
func (x *Index) Span(n int) (at, length int64) { return x.spans[n].at, int64(x.spans[n].length) }

// Orders in which rows can be listed.
const (
	ByTime  = "time"
	ByWorst = "worst" // failed ones first, then those that took longest
	BySize  = "size"
)

// Choice says which rows are wanted.
type Choice struct {
	Text   string // in method, address, type or error, in capitals or small letters
	Failed bool   // only those
	From   int64  // ms; To 0: to the end
	To     int64
	Order  string
}

// Choose gives the numbers of the rows that are wanted, in their order.
func (x *Index) Choose(c Choice) (out []int) {
	text := strings.ToLower(c.Text)
	for n, r := range x.Rows {
		switch {
		case c.Failed && !r.Failed(), r.At < c.From, c.To > 0 && r.At > c.To:
			continue
		case text != "" && !strings.Contains(strings.ToLower(r.Method+" "+r.URL+" "+r.Type+" "+r.Error+" "+fmt.Sprint(r.Status)), text):
			continue
		}
		out = append(out, n)
	}
	switch c.Order {
	case ByWorst:
		slices.SortStableFunc(out, func(a, b int) int {
			p, q := x.Rows[a], x.Rows[b]
			if p.Failed() != q.Failed() {
				if p.Failed() {
					return -1
				}
				return 1
			}
			return cmp.Compare(q.Took, p.Took)
		})
	case BySize:
		slices.SortStableFunc(out, func(a, b int) int {
			return cmp.Compare(x.Rows[b].Sent+x.Rows[b].Received, x.Rows[a].Sent+x.Rows[a].Received)
		})
	default: // they were written when they ended
		slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(x.Rows[a].At, x.Rows[b].At) })
	}
	return out
}

// HostSum is what went to and from one host.
type HostSum struct {
	Name           string
	Count, Failed  int
	Sent, Received int64
}

// Overview is what a file holds, in short.
type Overview struct {
	Count, Failed     int
	Sent, Received    int64
	SliceMS           int64
	Density, Failures []int // exchanges that went on in each slice of time, and those that failed
	Hosts             []HostSum
}

const maxHosts = 100

// Overview sums up; time is divided into so many slices.
func (x *Index) Overview(parts int) (o Overview) {
	last := int64(1)
	for _, r := range x.Rows {
		last = max(last, r.At+int64(r.Took))
	}
	o.SliceMS = last/int64(parts) + 1
	o.Density, o.Failures = make([]int, parts), make([]int, parts)
	hosts := map[string]*HostSum{}
	for _, r := range x.Rows {
		o.Count++
		o.Sent, o.Received = o.Sent+r.Sent, o.Received+r.Received
		from, to := max(r.At, 0)/o.SliceMS, max(r.At+int64(r.Took), 0)/o.SliceMS
		if r.Failed() {
			o.Failed++
			o.Failures[to]++
		}
		for i := from; i <= to; i++ {
			o.Density[i]++
		}
		name := r.Host()
		h := hosts[name]
		if h == nil {
			h = &HostSum{Name: name}
			hosts[name] = h
		}
		h.Count, h.Sent, h.Received = h.Count+1, h.Sent+r.Sent, h.Received+r.Received
		if r.Failed() {
			h.Failed++
		}
	}
	for _, h := range hosts {
		o.Hosts = append(o.Hosts, *h)
	}
	slices.SortFunc(o.Hosts, func(a, b HostSum) int { return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Name, b.Name)) })
	o.Hosts = o.Hosts[:min(len(o.Hosts), maxHosts)]
	return o
}
