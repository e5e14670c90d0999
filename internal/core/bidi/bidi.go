// Package bidi is what of W3C WebDriver BiDi needs no device: its messages, its commands, which events a client wants, and what events say.
//
// "The draft" is WebDriver BiDi, https://www.w3.org/TR/webdriver-bidi/, as it stood in June 2025; its sections are named where a rule comes from. In: texts as they come
// over a WebSocket, and what was seen on a device. Out: texts to send, or a *w3c.Error. Nothing here speaks to a client or a device.
package bidi

import (
	"bytes"
	"encoding/json"
	"math"
	"unicode/utf8"

	"tessellant/internal/core/w3c"
)

// Draft is the month in which the draft stood as it is kept to here.
const Draft = "2025-06"

const (
	// MaxCommand is how many bytes a client's message may have.
	MaxCommand = 1 << 20
	// MaxMessage is how many bytes one to a client may have: a picture as Base64.
	MaxMessage = 32 << 20
	maxID      = 1<<53 - 1 // js-uint
)

// Command is what a client asks for (section "Commands").
type Command struct {
	ID     int64
	Method string
	Params Params
}

// Read takes a client's message apart. Of one that can't be read, the id is known where it could be: an error is for that command.
func Read(raw []byte) (c Command, known bool, err *w3c.Error) {
	if !utf8.Valid(raw) {
		return c, false, w3c.Fail(w3c.InvalidArgument, "a message must be UTF-8")
	}
	m, err := w3c.Object(raw)
	if err != nil {
		return c, false, w3c.Fail(w3c.InvalidArgument, "the message can't be taken: %s", err.Message)
	}
	id, isNumber := m["id"].(float64)
	if !isNumber || id < 0 || id > maxID || id != math.Trunc(id) {
		return c, false, w3c.Fail(w3c.InvalidArgument, "id must be a whole number from 0 to %d", int64(maxID))
	}
	c.ID = int64(id)
	method, isText := m["method"].(string)
	if !isText {
		return c, true, w3c.Fail(w3c.InvalidArgument, "method must be a text, such as session.status")
	}
	params, isObject := m["params"].(map[string]any)
	if !isObject {
		return c, true, w3c.Fail(w3c.InvalidArgument, "params must be an object; {} where there are none")
	}
	c.Method, c.Params = method, params
	return c, true, nil
}

// codes are the error codes that the draft calls otherwise than WebDriver does; those that it does not have are unknown errors.
var codes = map[w3c.Code]w3c.Code{
	w3c.NoSuchWindow: w3c.NoSuchFrame, w3c.Timeout: w3c.UnknownError, w3c.ScriptTimeout: w3c.UnknownError, w3c.JavascriptError: w3c.UnknownError,
	w3c.UnexpectedAlertOpen: w3c.UnknownError, w3c.StaleElementReference: "no such node", w3c.UnknownMethod: w3c.UnknownCommand,
}

// Error codes that WebDriver does not have.
const (
	NoSuchHistoryEntry w3c.Code = "no such history entry"
	NoSuchUserContext  w3c.Code = "no such user context"
)

// Failed is the answer to a command that was not done; known: its id is.
func Failed(id int64, known bool, err *w3c.Error) []byte {
	m := struct {
		Type    string   `json:"type"`
		ID      *int64   `json:"id"`
		Error   w3c.Code `json:"error"`
		Message string   `json:"message"`
	}{"error", nil, err.Code, err.Message}
	if known {
		m.ID = &id
	}
	if code, other := codes[err.Code]; other {
		m.Error = code
	}
	return text(m)
}

// Done is the answer to a command that was done; nil: it has no result.
func Done(id int64, result any) []byte {
	if result == nil {
		result = struct{}{}
	}
	return text(struct {
		Type   string `json:"type"`
		ID     int64  `json:"id"`
		Result any    `json:"result"`
	}{"success", id, result})
}

// Happened is an event.
func Happened(e Event) []byte {
	return text(struct {
		Type   string `json:"type"`
		Method string `json:"method"`
		Params any    `json:"params"`
	}{"event", e.Name, e.Params})
}

func text(v any) []byte {
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return text(map[string]any{"type": "error", "id": nil, "error": w3c.UnknownError, "message": "the answer can't be written: " + err.Error()})
	}
	return bytes.TrimSpace(out.Bytes())
}

// Params are a command's.
type Params map[string]any

// Text reads one that must be there.
func (p Params) Text(name string) (string, *w3c.Error) {
	s, ok := p[name].(string)
	if !ok {
		return "", w3c.Fail(w3c.InvalidArgument, "%s must be a text", name)
	}
	return s, nil
}

// Whole reads a whole number between two; without it, what is usual.
func (p Params) Whole(name string, usual, least, most int) (int, *w3c.Error) {
	v, given := p[name]
	if !given {
		return usual, nil
	}
	f, ok := v.(float64)
	if !ok || f != math.Trunc(f) || f < float64(least) || f > float64(most) {
		return 0, w3c.Fail(w3c.InvalidArgument, "%s must be a whole number from %d to %d", name, least, most)
	}
	return int(f), nil
}

// Is reads one that is true or false; without it, what is usual.
func (p Params) Is(name string, usual bool) (bool, *w3c.Error) {
	v, given := p[name]
	if !given {
		return usual, nil
	}
	b, ok := v.(bool)
	if !ok {
		return false, w3c.Fail(w3c.InvalidArgument, "%s must be true or false", name)
	}
	return b, nil
}

// OneOf reads one that is one of some words; without it, the first of them.
func (p Params) OneOf(name string, words ...string) (string, *w3c.Error) {
	v, given := p[name]
	if !given {
		return words[0], nil
	}
	for _, w := range words {
		if v == w {
			return w, nil
		}
	}
	return "", w3c.Fail(w3c.InvalidArgument, "%s must be one of %q", name, words)
}

const maxTexts = 1000

// Texts reads a list of texts that has at least one; given says whether it is there.
func (p Params) Texts(name string) (out []string, given bool, err *w3c.Error) {
	v, given := p[name]
	if !given {
		return nil, false, nil
	}
	list, ok := v.([]any)
	ok = ok && len(list) > 0 && len(list) <= maxTexts
	for _, x := range list {
		s, isText := x.(string)
		if ok = ok && isText; ok {
			out = append(out, s)
		}
	}
	if !ok {
		return nil, true, w3c.Fail(w3c.InvalidArgument, "%s must be a list of texts, with 1 to %d of them", name, maxTexts)
	}
	return out, true, nil
}
