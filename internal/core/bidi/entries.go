package bidi

// What events say.

import (
	"strings"
	"time"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/har"
)

// Event is something that happened. Context is the outermost browsing context that it is of; "": none.
type Event struct {
	Name, Context string
	Params        any
}

// Contexts and other things of which a device has one.
const (
	Screen      = "native"  // the context of the screen
	device      = "device"  // the realm of the device's log
	UserContext = "default" // the user context
	Window      = "screen"  // the client window
)

// Info is a context (section "The browsingContext.Info Type").
type Info struct {
	Context        string  `json:"context"`
	URL            string  `json:"url"`
	Children       []Info  `json:"children"` // nil: they were not asked for
	Parent         *string `json:"parent,omitempty"`
	OriginalOpener *string `json:"originalOpener"`
	UserContext    string  `json:"userContext"`
	ClientWindow   string  `json:"clientWindow"`
}

// NewInfo makes one without children.
func NewInfo(context, url string) Info {
	return Info{Context: context, URL: url, UserContext: UserContext, ClientWindow: Window}
}

// Outermost is an Info as it stands at the top of a list, or in an event: parent is named, null where there is none.
func (i Info) Outermost(parent string) any {
	var p *string
	if parent != "" {
		p = &parent
	}
	return struct {
		Info
		Parent *string `json:"parent"` // hides that of Info, which is left out when there is none
	}{i, p}
}

// Navigation is what events of a navigation say (section "The browsingContext.NavigationInfo Type").
type Navigation struct {
	Context    string  `json:"context"`
	Navigation *string `json:"navigation,omitempty"` // nil: the event has none
	Timestamp  int64   `json:"timestamp"`
	URL        string  `json:"url"`
	User       string  `json:"userContext"`
}

// Updated is what is said of it where only the history was changed.
func (n Navigation) Updated() Navigation {
	n.Navigation = nil
	return n
}

// Source says where a log entry comes from.
type Source struct {
	Realm   string `json:"realm"`
	Context string `json:"context,omitempty"`
}

// Frame is one of a stack (section "The script.StackFrame type").
type Frame struct {
	URL      string `json:"url"`
	Function string `json:"functionName"`
	Line     int    `json:"lineNumber"`
	Column   int    `json:"columnNumber"`
}

// Stack is a stack trace.
type Stack struct {
	Frames []Frame `json:"callFrames"`
}

// Entry is an entry of a log (section "The log.LogEntry type"): of a page's console, of a fault of its script, or, with a type of ours, of the device's log.
type Entry struct {
	Type   string  `json:"type"`
	Level  string  `json:"level"`
	Source Source  `json:"source"`
	Text   string  `json:"text"`
	At     int64   `json:"timestamp"` // ms since 1970
	Stack  *Stack  `json:"stackTrace,omitempty"`
	Method string  `json:"method,omitempty"` // of console
	Args   []Value `json:"args,omitzero"`
	// Of the device's log.
	Tag string `json:"tessellant:tag,omitempty"`
	PID int    `json:"tessellant:pid,omitempty"`
}

// DeviceType is the type of the entries of the device's log.
const DeviceType = "tessellant:device"

// Value is a value of a script, as far as a log shows it (section "The script.RemoteValue type").
type Value struct {
	Type  string
	Value any // nil: it has none, or it is not shown
}

// MarshalJSON writes an empty text, zero and false, too.
func (v Value) MarshalJSON() ([]byte, error) {
	m := map[string]any{"type": v.Type}
	if v.Value != nil {
		m["value"] = v.Value
	}
	return text(m), nil
}

// DeviceEntry is a line of the device's log, at a moment of ours.
func DeviceEntry(l devicelog.Line, at time.Time) Event {
	level := "info"
	switch l.Level {
	case 'V', 'D':
		level = "debug"
	case 'W':
		level = "warn"
	case 'E', 'F', 'A':
		level = "error"
	}
	return Event{LogEntry, Screen, Entry{Type: DeviceType, Level: level, Source: Source{device, Screen}, Text: l.Text, At: at.UnixMilli(), Tag: l.Tag, PID: l.PID}}
}

// Header is one of a request or a response.
type Header struct {
	Name  string `json:"name"`
	Value Value  `json:"value"`
}

func headers(in []har.Pair) (out []Header, size int) {
	out = make([]Header, len(in))
	for i, p := range in {
		out[i] = Header{p.Name, Value{"string", p.Value}}
		size += len(p.Name) + len(p.Value) + len(": \r\n")
	}
	return out, size
}

// Requested is what events of the network say of a request (section "The network.BaseParameters Type").
type Requested struct {
	Context       *string   `json:"context"` // null: the device's proxy can't tell
	IsBlocked     bool      `json:"isBlocked"`
	Navigation    *string   `json:"navigation"`
	RedirectCount int       `json:"redirectCount"`
	Request       Request   `json:"request"`
	Timestamp     int64     `json:"timestamp"`
	Initiator     *Starter  `json:"initiator,omitempty"`
	Response      *Response `json:"response,omitempty"`
	ErrorText     string    `json:"errorText,omitempty"`
}

// Starter says what began a request.
type Starter struct {
	Type string `json:"type"`
}

// Request is a request.
type Request struct {
	Request     string     `json:"request"` // its id
	URL         string     `json:"url"`
	Method      string     `json:"method"`
	Headers     []Header   `json:"headers"`
	Cookies     []struct{} `json:"cookies"` // their values are hidden
	HeadersSize int        `json:"headersSize"`
	BodySize    *int64     `json:"bodySize"`
	Destination string     `json:"destination"`
	Initiator   *string    `json:"initiatorType"`
	Timings     Timings    `json:"timings"`
}

// Timings are in ms since the request began (section "The network.FetchTimingInfo Type").
type Timings struct {
	Origin        float64 `json:"timeOrigin"` // ms since 1970
	Request       float64 `json:"requestTime"`
	RedirectStart float64 `json:"redirectStart"`
	RedirectEnd   float64 `json:"redirectEnd"`
	Fetch         float64 `json:"fetchStart"`
	DNSStart      float64 `json:"dnsStart"`
	DNSEnd        float64 `json:"dnsEnd"`
	ConnectStart  float64 `json:"connectStart"`
	ConnectEnd    float64 `json:"connectEnd"`
	TLSStart      float64 `json:"tlsStart"`
	RequestStart  float64 `json:"requestStart"`
	ResponseStart float64 `json:"responseStart"`
	ResponseEnd   float64 `json:"responseEnd"`
}

// Response is what was answered.
type Response struct {
	URL           string   `json:"url"`
	Protocol      string   `json:"protocol"`
	Status        int      `json:"status"`
	StatusText    string   `json:"statusText"`
	FromCache     bool     `json:"fromCache"`
	Headers       []Header `json:"headers"`
	MimeType      string   `json:"mimeType"`
	BytesReceived int64    `json:"bytesReceived"`
	HeadersSize   *int     `json:"headersSize"`
	BodySize      *int64   `json:"bodySize"`
	Content       struct {
		Size int64 `json:"size"`
	} `json:"content"`
}

// requested is what an exchange's request says. A connection that was not opened has none.
func requested(id string, e har.Entry) (r Requested, ok bool) {
	if e.Kind == har.Connection {
		return r, false
	}
	list, size := headers(e.Request.Headers)
	r.Request = Request{Request: id, URL: e.Request.URL, Method: e.Request.Method, Headers: list, Cookies: []struct{}{}, HeadersSize: size, Timings: Timings{Origin: float64(e.Started.UnixMicro()) / 1000}}
	if sent := e.Request.BodySize; sent >= 0 {
		r.Request.BodySize = &sent
	}
	r.Timestamp = e.Started.UnixMilli()
	return r, true
}

// Asked is the event of a request that is being sent. Id is the same for all events of one exchange.
func Asked(id string, e har.Entry) []Event {
	r, ok := requested(id, e)
	if !ok {
		return nil
	}
	r.Request.BodySize = nil // how long it is, is not known yet
	r.Initiator = &Starter{"other"}
	return []Event{{Name: RequestSent, Params: r}}
}

// Answered are the events of an exchange that has ended: its answer, or why there is none.
func Answered(id string, e har.Entry) []Event {
	r, ok := requested(id, e)
	if !ok {
		return nil
	}
	end := e.Started.Add(time.Duration(e.Time * float64(time.Millisecond)))
	r.Timestamp = end.UnixMilli()
	timed(&r.Request.Timings, e.Timings, e.Time)
	if e.Response.Status == 0 {
		r.ErrorText = e.Error
		if r.ErrorText == "" {
			r.ErrorText = "no answer came"
		}
		return []Event{{Name: FetchError, Params: r}}
	}
	list, size := headers(e.Response.Headers)
	mime := e.Response.Content.MimeType
	if mime == "" {
		for _, h := range e.Response.Headers {
			if strings.EqualFold(h.Name, "content-type") {
				mime = h.Value
			}
		}
	}
	body := max(e.Response.BodySize, 0)
	a := &Response{URL: e.Request.URL, Protocol: strings.ToLower(e.Response.HTTPVersion), Status: e.Response.Status, StatusText: e.Response.StatusText, Headers: list, MimeType: mime, HeadersSize: &size,
		BodySize: &body, BytesReceived: body + int64(size)}
	if a.Protocol == "http/2.0" {
		a.Protocol = "h2"
	}
	a.Content.Size = body
	r.Response = a
	began := r
	began.Timestamp = e.Started.Add(time.Duration(r.Request.Timings.ResponseStart * float64(time.Millisecond))).UnixMilli()
	begun := *a
	begun.BodySize, begun.BytesReceived, begun.Content.Size = nil, int64(size), 0
	began.Response = &begun
	out := []Event{{Name: ResponseStarted, Params: began}}
	if e.Error != "" { // it broke off
		r.Response, r.ErrorText = nil, e.Error
		return append(out, Event{Name: FetchError, Params: r})
	}
	return append(out, Event{Name: ResponseWhole, Params: r})
}

// timed fills in when each part of an exchange began and ended, from how long each took.
func timed(t *Timings, h har.Timings, whole float64) {
	at := max(h.Blocked, 0)
	t.DNSStart = at
	at += max(h.DNS, 0)
	t.DNSEnd, t.ConnectStart = at, at
	at += max(h.Connect, 0) // TLS is counted there
	t.ConnectEnd = at
	if h.SSL >= 0 {
		t.TLSStart = at - h.SSL
	}
	t.RequestStart = at
	t.ResponseStart = min(at+max(h.Send, 0)+max(h.Wait, 0), whole)
	t.ResponseEnd = whole
}
