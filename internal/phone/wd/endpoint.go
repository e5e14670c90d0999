package wd

// Requests to a lab: with its headers, bounded, within a time, and without its secrets in what is said of them.

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/masking"
)

// maxAnswer is how many bytes an answer of a lab may have: a picture or a file in base64.
const maxAnswer = 96 << 20

// Endpoint is a lab's WebDriver endpoint.
type Endpoint struct {
	Base    string // what comes before /session
	HTTP    *http.Client
	Headers []labfile.Field
	Secrets map[string]string // by name
	Mask    *masking.Mask     // of the secrets
}

// Answered is an answer of a lab that says no.
type Answered struct {
	Status  int
	Code    string // of a WebDriver error; "": it is none
	Message string
}

func (a *Answered) Error() string {
	if a.Code != "" {
		return fmt.Sprintf("the lab answers %d, %s: %s", a.Status, a.Code, a.Message)
	}
	return fmt.Sprintf("the lab answers %d: %s", a.Status, a.Message)
}

// Garbage is an answer that is none of what was asked for.
type Garbage struct{ What string }

func (g *Garbage) Error() string { return "the lab's answer can't be used: " + g.What }

// values are those of a request, with the lab's secrets.
func (e *Endpoint) values(v labfile.Values) labfile.Values {
	v.Secret = e.Secrets
	return v
}

// send sends a request with the lab's headers, and gives the answer's status and body.
func (e *Endpoint) send(ctx context.Context, method, address string, more []labfile.Field, v labfile.Values, body io.Reader, kind string) (int, []byte, error) {
	r, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return 0, nil, e.masked(err)
	}
	for _, f := range append(append([]labfile.Field(nil), e.Headers...), more...) {
		value, err := f.Value.Make(v)
		if err != nil {
			return 0, nil, e.masked(err)
		}
		r.Header.Set(f.Name, strings.TrimSpace(value))
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	answer, err := e.HTTP.Do(r)
	if err != nil {
		return 0, nil, e.masked(err)
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer+1))
	if err != nil {
		return 0, nil, e.masked(err)
	}
	if len(raw) > maxAnswer {
		return 0, nil, &Garbage{fmt.Sprintf("it has more than %d MB", maxAnswer>>20)}
	}
	return answer.StatusCode, raw, nil
}

// masked is an error without the lab's secrets.
func (e *Endpoint) masked(err error) error {
	text := err.Error()
	if hidden := e.Mask.Text(text); hidden != text {
		return errors.New(hidden)
	}
	return err
}

// Command makes one of the standard's requests, and gives the value of its answer.
func (e *Endpoint) Command(ctx context.Context, method, path string, body any, within time.Duration) (any, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var in io.Reader
	kind := ""
	if method == http.MethodPost {
		if body == nil {
			body = struct{}{}
		}
		raw, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		in, kind = bytes.NewReader(raw), "application/json; charset=utf-8"
	}
	status, raw, err := e.send(ctx, method, e.Base+path, nil, e.values(labfile.Values{}), in, kind)
	if err != nil {
		return nil, err
	}
	return e.value(status, raw)
}

// value takes an answer of the standard's apart (WebDriver, section 6.3, "Processing model": an object with a value).
func (e *Endpoint) value(status int, raw []byte) (any, error) {
	var answer map[string]any
	err := json.Unmarshal(raw, &answer)
	value, there := answer["value"]
	if status >= 200 && status < 300 && err == nil && there {
		return value, nil
	}
	if m, ok := value.(map[string]any); ok {
		if code, ok := m["error"].(string); ok && code != "" {
			message, _ := m["message"].(string)
			return nil, &Answered{status, foreign.Name(code, 60), e.said(message)}
		}
	}
	if status >= 200 && status < 300 {
		return nil, &Garbage{fmt.Sprintf("it is no WebDriver answer: %s", e.said(string(raw)))}
	}
	return nil, &Answered{Status: status, Message: e.said(string(raw))}
}

// said is what a lab says, as it may be shown.
func (e *Endpoint) said(text string) string {
	text = foreign.Name(strings.Join(strings.Fields(e.Mask.Text(text[:min(len(text), 4096)])), " "), 400)
	if text == "" {
		return "(nothing)"
	}
	return text
}

// Do makes a request of the lab's own, and gives what its answer has there where the request says, and from where the next is to go on; nil: it does not
// say. Session is the address of the session that the request belongs to; "": it belongs to the lab.
func (e *Endpoint) Do(ctx context.Context, q *labfile.Request, session string, v labfile.Values) (value, next any, err error) {
	ctx, cancel := context.WithTimeout(ctx, q.Within)
	defer cancel()
	v = e.values(v)
	address, err := e.Address(q.Address, session, v)
	if err != nil {
		return nil, nil, err
	}
	var in io.Reader
	kind := ""
	switch {
	case q.Body != nil:
		raw, err := q.Body.Make(v)
		if err != nil {
			return nil, nil, e.masked(err)
		}
		in, kind = bytes.NewReader(raw), "application/json; charset=utf-8"
	case q.Method == http.MethodPost && session != "":
		in, kind = strings.NewReader("{}"), "application/json; charset=utf-8"
	}
	status, raw, err := e.send(ctx, q.Method, address, q.Headers, v, in, kind)
	if err != nil {
		return nil, nil, err
	}
	if value, err = e.Picked(q, session != "", status, raw); err != nil || q.Next == "" {
		return value, nil, err
	}
	var whole any
	if err := json.Unmarshal(raw, &whole); err != nil {
		return nil, nil, &Garbage{"it is not JSON: " + e.said(string(raw))}
	}
	next, _ = labfile.At(whole, q.Next)
	return value, next, nil
}

// Address puts an address together: one that does not begin with http:// or https:// stands behind the session's, or the lab's.
func (e *Endpoint) Address(t *labfile.Text, session string, v labfile.Values) (string, error) {
	address, err := t.Make(v)
	if err != nil {
		return "", e.masked(err)
	}
	if strings.HasPrefix(address, "http://") || strings.HasPrefix(address, "https://") {
		return address, nil
	}
	base := e.Base
	if session != "" {
		base += "/session/" + session
	}
	return base + "/" + strings.TrimPrefix(address, "/"), nil
}

// Picked takes from an answer what a request wants of it: what its pointer leads to, or the value of an answer of the standard's.
func (e *Endpoint) Picked(q *labfile.Request, standard bool, status int, raw []byte) (any, error) {
	if q.Answer == "" {
		if standard {
			return e.value(status, raw)
		}
		if status < 200 || status >= 300 {
			return nil, &Answered{Status: status, Message: e.said(string(raw))}
		}
		return string(raw), nil
	}
	if status < 200 || status >= 300 {
		_, err := e.value(status, raw)
		return nil, err
	}
	var whole any
	if err := json.Unmarshal(raw, &whole); err != nil {
		return nil, &Garbage{"it is not JSON: " + e.said(string(raw))}
	}
	at, there := labfile.At(whole, q.Answer)
	if !there {
		return nil, &Garbage{fmt.Sprintf("it has nothing at %s: %s", q.Answer, e.said(string(raw)))}
	}
	return at, nil
}

// Raw gives the body of an answer that is not taken apart.
func (e *Endpoint) Raw(ctx context.Context, q *labfile.Request, v labfile.Values) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, q.Within)
	defer cancel()
	v = e.values(v)
	address, err := e.Address(q.Address, "", v)
	if err != nil {
		return nil, err
	}
	status, raw, err := e.send(ctx, q.Method, address, q.Headers, v, nil, "")
	if err == nil && (status < 200 || status >= 300) {
		err = &Answered{Status: status, Message: e.said(string(raw))}
	}
	return raw, err
}

// Upload sends a build, and gives the lab's reference for it.
func (e *Endpoint) Upload(ctx context.Context, u *labfile.Upload, v labfile.Values, open func() (io.ReadCloser, error)) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, u.Within)
	defer cancel()
	v = e.values(v)
	address, err := e.Address(u.Address, "", v)
	if err != nil {
		return "", err
	}
	file, err := open()
	if err != nil {
		return "", err
	}
	defer file.Close()
	body, kind, err := e.form(u, v, file)
	if err != nil {
		return "", err
	}
	status, raw, err := e.send(ctx, u.Method, address, u.Headers, v, body, kind)
	if closer, ok := body.(io.Closer); ok {
		_ = closer.Close() // whoever still writes into it stops
	}
	if err != nil {
		return "", err
	}
	ref, err := e.Picked(&u.Request, false, status, raw)
	if err != nil {
		return "", err
	}
	switch x := ref.(type) {
	case string:
		if x != "" {
			return x, nil
		}
	case float64:
		return fmt.Sprintf("%.0f", x), nil
	}
	return "", &Garbage{fmt.Sprintf("its reference for the build is %s", e.said(fmt.Sprint(ref)))}
}
