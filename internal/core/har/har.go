// Package har writes and reads what went over the network as HAR 1.2 (http://www.softwareishard.com/blog/har-12-spec/), the format that general viewers open.
//
// A file is written while it grows, an entry a line, so that it can be read in windows before it is whole: the first line opens it, the last one closes it.
// What the format has no place for stands in fields that begin with an underscore, as it allows. In: entries. Out: lines; and back.
package har

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Kinds of entries.
const (
	HTTP       = "http"       // plain, or HTTPS that was opened: all is known
	WebSocket  = "websocket"  // what was asked for it, and how many bytes went over it
	Connection = "connection" // that was not opened: the host's name, bytes and times
)

// Entry is one exchange, or one connection.
type Entry struct {
	Row      *Row      `json:"_row,omitempty"` // comes first, see Scan
	Started  time.Time `json:"startedDateTime"`
	Time     float64   `json:"time"` // ms
	Request  Request   `json:"request"`
	Response Response  `json:"response"`
	Cache    struct{}  `json:"cache"`
	Timings  Timings   `json:"timings"`
	Server   string    `json:"serverIPAddress,omitempty"`

	At       int64  `json:"_at"` // ms on the attempt's clock
	Kind     string `json:"_kind"`
	Error    string `json:"_error,omitempty"`
	TLS      string `json:"_tls,omitempty"`  // its version
	Note     string `json:"_note,omitempty"` // why it was not opened, or what else is to be said
	Sent     int64  `json:"_sent"`           // bytes of bodies, or of the connection
	Received int64  `json:"_received"`

	Number int64 `json:"-"` // of the exchange, among those of its proxy
}

// Request is what was asked.
type Request struct {
	Method      string   `json:"method"`
	URL         string   `json:"url"`
	HTTPVersion string   `json:"httpVersion"`
	Cookies     []Pair   `json:"cookies"`
	Headers     []Pair   `json:"headers"`
	Query       []Pair   `json:"queryString"`
	Post        *Content `json:"postData,omitempty"`
	HeadersSize int      `json:"headersSize"`
	BodySize    int64    `json:"bodySize"`
}

// Response is what was answered. Status 0: nothing was.
type Response struct {
	Status      int     `json:"status"`
	StatusText  string  `json:"statusText"`
	HTTPVersion string  `json:"httpVersion"`
	Cookies     []Pair  `json:"cookies"`
	Headers     []Pair  `json:"headers"`
	Content     Content `json:"content"`
	RedirectURL string  `json:"redirectURL"`
	HeadersSize int     `json:"headersSize"`
	BodySize    int64   `json:"bodySize"`
}

// Pair is a header, or a part of a query.
type Pair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Content is a body. Text is empty where it is none, was too long, or is no text; Comment says so.
type Content struct {
	Size     int64  `json:"size"`
	MimeType string `json:"mimeType"`
	Text     string `json:"text,omitempty"`
	Comment  string `json:"comment,omitempty"`
}

// Timings are how long each part took, in ms; -1: there was none.
type Timings struct {
	Blocked float64 `json:"blocked"`
	DNS     float64 `json:"dns"`
	Connect float64 `json:"connect"`
	Send    float64 `json:"send"`
	Wait    float64 `json:"wait"`
	Receive float64 `json:"receive"`
	SSL     float64 `json:"ssl"`
}

// Failed says whether the exchange went wrong: no answer, or one that says so.
func (e Entry) Failed() bool { return e.Error != "" || e.Response.Status >= 400 }

// Text calls f with every text of the entry that a secret may stand in.
func (e *Entry) Text(f func(string) string) {
	for _, s := range []*string{&e.Request.URL, &e.Response.RedirectURL, &e.Response.StatusText, &e.Response.Content.Text, &e.Error, &e.Note} {
		*s = f(*s)
	}
	if e.Request.Post != nil {
		p := *e.Request.Post
		p.Text = f(p.Text)
		e.Request.Post = &p
	}
	for _, list := range []*[]Pair{&e.Request.Headers, &e.Request.Query, &e.Response.Headers} {
		*list = slices.Clone(*list)
		for i := range *list {
			(*list)[i].Value = f((*list)[i].Value)
		}
	}
}

// secret are the headers whose values let somebody in.
var secret = []string{"authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "x-auth-token", "x-csrf-token"}

// Hidden stands in the place of a value that lets somebody in.
const Hidden = "•••"

// Hide takes the values of headers that let somebody in out of the entry: only that they were there stays.
func (e *Entry) Hide() {
	for _, list := range []*[]Pair{&e.Request.Headers, &e.Response.Headers} {
		for i := range *list {
			if slices.Contains(secret, strings.ToLower((*list)[i].Name)) {
				(*list)[i].Value = Hidden
			}
		}
	}
}

// complete puts what the format wants where there is nothing.
func (e *Entry) complete() {
	for _, list := range []*[]Pair{&e.Request.Cookies, &e.Request.Headers, &e.Request.Query, &e.Response.Cookies, &e.Response.Headers} {
		if *list == nil {
			*list = []Pair{}
		}
	}
}

// Head is the first line of a file.
func Head(version string) string {
	creator, _ := json.Marshal(map[string]string{"name": "Tessellant", "version": version})
	return fmt.Sprintf(`{"log":{"version":"1.2","creator":%s,"entries":[`+"\n", creator)
}

// Tail is the last line.
const Tail = "]}}\n"

// Line is an entry as a line. First: it is the first one of its file.
func (e Entry) Line(first bool) ([]byte, error) {
	e.complete()
	e.Row = e.row()
	var b bytes.Buffer
	if !first {
		b.WriteByte(',')
	}
	enc := json.NewEncoder(&b) // it ends the line
	enc.SetEscapeHTML(false)
	err := enc.Encode(e)
	return b.Bytes(), err
}

// MaxLine is how long the line of an entry may be.
const MaxLine = 2 << 20

// ParseLine reads the line of one entry.
func ParseLine(line []byte) (e Entry, err error) {
	err = json.Unmarshal(bytes.TrimPrefix(bytes.TrimSpace(line), []byte(",")), &e)
	e.Row = nil
	return e, err
}
