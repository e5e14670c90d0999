package httpd

// What comes in as a body: of which media type, how long, how slowly. Nothing of a body is looked at that its operation
// does not want, and nothing is put onto the disk here.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"tessellant/api"
	"tessellant/internal/core/nearest"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

const (
	maxJSON   = 1 << 20   // bytes of a JSON body
	maxSignIn = 16 << 10  // bytes of a sign-in, which anybody may send
	maxKept   = 8 << 30   // bytes of an artifact that a host hands in
	maxReport = 256 << 20 // bytes of a test runner's report
	maxFrame  = 2 << 20   // bytes of a picture
	maxPart   = 4 << 20   // bytes of a part of an artifact
	maxCall   = 8 << 20   // bytes of a host's call

	slowBody = 1 << 10 // bytes a second of a body are the least, once the first minute is over
)

// Variables for tests alone.
var (
	idleBody  = 60 * time.Second // without a byte of a body
	idleWrite = 60 * time.Second // without a part of an answer being taken
)

// body is what an operation takes that does not take JSON.
type body struct {
	media string
	most  int64 // bytes; 0: as many as a build may have
}

// bodies are the operations of api/openapi.yaml whose body is not JSON, by their routes.
var bodies = map[string]body{
	"POST /builds":             {"application/octet-stream", 0},
	"POST /packages":           {"application/zip", testpkg.MaxZip},
	"POST /pools/shares":       {"text/csv", pools.MaxSharesBytes},
	"POST /hosts/call":         {"application/octet-stream", maxCall},
	"PUT /holds/:id/artifacts": {"application/octet-stream", maxKept},
	"PUT /holds/:id/parts":     {"application/octet-stream", maxPart},
	"PUT /holds/:id/screen":    {"image/jpeg", maxFrame},
	"PUT /sessions/:id/report": {"application/xml", maxReport},
}

// bounds holds every body to the media type and the size that its operation takes, and its sender to a pace.
func bounds(s *service.Service) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			if r.Body == nil || r.Body == http.NoBody || r.Method == http.MethodGet || r.Method == http.MethodDelete { // these read none
				return next(c)
			}
			route := strings.TrimPrefix(c.Path(), api.Prefix)
			b, other := bodies[r.Method+" "+route]
			switch {
			case !other && route == "/signin":
				b = body{"application/json", maxSignIn}
			case !other:
				b = body{"application/json", maxJSON}
			case b.most == 0:
				b.most = s.LongestBuild()
			}
			if err := mediaType(r, b.media, other); err != nil {
				return err
			}
			if other { // an operation that has words of its own for what is too long finds it so
				b.most++
			}
			r.Body = http.MaxBytesReader(c.Response(), newPatientBody(r.Context(), r.Body, http.NewResponseController(c.Response())), b.most)
			return next(c)
		}
	}
}

// mediaType refuses a body of another type than wanted. Bytes may come without a type (RFC 9110 section 8.3), JSON may not.
func mediaType(r *http.Request, want string, bytes bool) error {
	said := r.Header.Get("Content-Type")
	is, _, err := mime.ParseMediaType(said)
	if err == nil && strings.EqualFold(is, want) || said == "" && bytes {
		return nil
	}
	if said == "" {
		said = "nothing of its type"
	}
	return &refuse.Error{Kind: refuse.Unsupported, Title: "read the request", Why: fmt.Sprintf("its body says %.100q; %s is what is taken here", said, want), Remedy: "send the header Content-Type: " + want}
}

// patientBody reads a body that must keep coming.
type patientBody struct {
	io.ReadCloser
	ctx   context.Context // of the request: one that has ended reads no more
	rc    *http.ResponseController
	began time.Time
	n     int64
}

func newPatientBody(ctx context.Context, b io.ReadCloser, rc *http.ResponseController) *patientBody {
	return &patientBody{ReadCloser: b, ctx: ctx, rc: rc, began: time.Now()}
}

func (p *patientBody) Read(b []byte) (int, error) {
	if cause := context.Cause(p.ctx); errors.Is(cause, errEnded) {
		return 0, cause
	}
	deadline := p.began.Add(idleBody + time.Duration(p.n/slowBody)*time.Second)
	if idle := time.Now().Add(idleBody); idle.Before(deadline) {
		deadline = idle
	}
	_ = p.rc.SetReadDeadline(deadline)
	n, err := p.ReadCloser.Read(b)
	p.n += int64(n)
	if err != nil { // the request goes on for as long as it wants
		_ = p.rc.SetReadDeadline(time.Time{})
	}
	return n, err
}

// patientWriter writes answers in pieces, each of which must be taken in time.
type patientWriter struct {
	http.ResponseWriter
	ctx context.Context // of the request: one that has ended writes no more
	rc  *http.ResponseController

	began bool
}

const writePiece = 64 << 10

func newPatientWriter(ctx context.Context, w http.ResponseWriter) *patientWriter {
	return &patientWriter{ResponseWriter: w, ctx: ctx, rc: http.NewResponseController(w)}
}

// Unwrap is for http.ResponseController.
func (p *patientWriter) Unwrap() http.ResponseWriter { return p.ResponseWriter }

func (p *patientWriter) Write(b []byte) (n int, err error) {
	for {
		if cause := context.Cause(p.ctx); errors.Is(cause, errEnded) && p.began {
			return n, cause
		}
		p.began = true
		piece := b[n:min(len(b), n+writePiece)]
		_ = p.rc.SetWriteDeadline(time.Now().Add(idleWrite))
		k, err := p.ResponseWriter.Write(piece)
		if n += k; err != nil || n >= len(b) {
			return n, err
		}
	}
}

// jsonBody is how Echo reads the bodies of JSON operations: whole, and nothing in it that the operation does not know.
type jsonBody struct{}

// Bind implements echo.Binder.
func (jsonBody) Bind(c *echo.Context, target any) error {
	raw, err := io.ReadAll(c.Request().Body)
	var tooBig *http.MaxBytesError
	switch {
	case errors.As(err, &tooBig):
		return err
	case err != nil:
		return &refuse.Error{Kind: refuse.CutOff, Title: "read the request", Why: "its body did not come whole: " + err.Error(), Remedy: "upload it again"}
	case len(raw) == 0:
		return io.EOF
	case strings.TrimSpace(string(raw)) == "null":
		return badJSON("its body must be an object, not null")
	}
	dec := json.NewDecoder(strings.NewReader(string(raw)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(target); err != nil {
		return unreadable(err, target)
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return badJSON("there is more text after the end of the object")
	}
	if lacks := required(raw, reflect.TypeOf(target)); lacks != "" {
		return badJSON("its body lacks the field %q", lacks)
	}
	return nil
}

// required finds a field that an object must have and lacks; "": there is none, or it is no object at all. The generated types have a field that may be left out as a
// pointer, or as omitempty.
func required(raw []byte, t reflect.Type) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	var have map[string]json.RawMessage
	if t.Kind() != reflect.Struct || json.Unmarshal(raw, &have) != nil {
		return ""
	}
	for i := range t.NumField() {
		f := t.Field(i)
		name, more, _ := strings.Cut(f.Tag.Get("json"), ",")
		v, given := have[name]
		if name != "" && name != "-" && more == "" && f.Type.Kind() != reflect.Pointer && (!given || string(v) == "null") {
			return name
		}
	}
	return ""
}

func badJSON(why string, args ...any) error {
	return &refuse.Error{Kind: refuse.Invalid, Title: "read the request", Why: fmt.Sprintf(why, args...), Remedy: "send JSON as the API's description has it"}
}

// unreadable says in words what is wrong with a body.
func unreadable(err error, target any) error {
	var wrong *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	field, unknown := strings.CutPrefix(err.Error(), "json: unknown field ")
	switch {
	case unknown:
		field = strings.Trim(field, `"`)
		why := fmt.Sprintf("its body has a field %.100q, which is not known here", field)
		if near := nearest.Word(field, slices.DeleteFunc(fieldsOf(reflect.TypeOf(target), 0), func(known string) bool { return known == field })); near != "" {
			why += fmt.Sprintf("; was %q meant?", near)
		}
		return badJSON("%s", why)
	case errors.As(err, &wrong) && wrong.Field == "":
		return badJSON("its body must be %s, not %s", called(wrong.Type), wrong.Value)
	case errors.As(err, &wrong):
		return badJSON("its field %.100q must be %s, not %s", wrong.Field, called(wrong.Type), wrong.Value)
	case errors.As(err, &syntax):
		return badJSON("its body is not JSON at byte %d: %v", syntax.Offset, syntax)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return badJSON("its body is JSON that is cut off")
	}
	return badJSON("its body can't be read: %.200s", strings.TrimPrefix(err.Error(), "json: "))
}

// called is what a Go type is called in JSON.
func called(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return called(t.Elem())
	case reflect.Bool:
		return "true or false"
	case reflect.String:
		return "a text"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Struct, reflect.Map:
		return "an object"
	case reflect.Int, reflect.Int32, reflect.Int64:
		return "a whole number"
	}
	return "a number"
}

func fieldsOf(t reflect.Type, depth int) (out []string) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || depth > 4 {
		return nil
	}
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		if name != "" && name != "-" {
			out = append(out, name)
		}
		out = append(out, fieldsOf(t.Field(i).Type, depth+1)...)
	}
	return slices.Compact(out)
}
