package bidi

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/har"
	"tessellant/internal/core/w3c"
)

func TestAMessageIsTakenApart(t *testing.T) {
	c, known, err := Read([]byte(`{"id": 7, "method": "session.status", "params": {"more": 1}, "extra": true}`))
	require.Nil(t, err)
	assert.True(t, known)
	assert.Equal(t, Command{7, "session.status", Params{"more": 1.0}}, c)
	for text, known := range map[string]bool{``: false, `7`: false, `{"id": "7"}`: false, `{"id": 9007199254740992, "method": "a.b", "params": {}}`: false, `{"id": 7, "method": 1, "params": {}}`: true,
		`{"id": 7, "method": "a.b", "params": []}`: true, `{"id": 7, "method": "a.b"}`: true, `{"id": 7} {}`: false, "{\"id\": 7, \"method\": \"\xff\", \"params\": {}}": false} {
		_, k, err := Read([]byte(text))
		require.NotNil(t, err, text)
		assert.Equal(t, w3c.InvalidArgument, err.Code, text)
		assert.Equal(t, known, k, text)
	}
}

func TestAnswersAreAsTheDraftHasThem(t *testing.T) {
	assert.JSONEq(t, `{"type": "success", "id": 7, "result": {}}`, string(Done(7, nil)))
	assert.JSONEq(t, `{"type": "error", "id": null, "error": "invalid argument", "message": "no <json>"}`, string(Failed(0, false, w3c.Fail(w3c.InvalidArgument, "no <json>"))))
	assert.JSONEq(t, `{"type": "error", "id": 0, "error": "no such frame", "message": "gone"}`, string(Failed(0, true, w3c.Fail(w3c.NoSuchWindow, "gone"))), "a window is a context there")
	assert.JSONEq(t, `{"type": "event", "method": "a.b", "params": {"x": 1}}`, string(Happened(Event{Name: "a.b", Context: "c", Params: map[string]int{"x": 1}})))
	assert.Contains(t, string(Done(1, make(chan int))), "can't be written")
	for _, v := range Verbs {
		err := Refusal(v.Name)
		assert.Equal(t, v.Not == "", err == nil, v.Name)
		assert.True(t, (v.About == "") != (v.Not == ""), "%s is done, or it is said why not", v.Name)
	}
	assert.Equal(t, w3c.UnknownCommand, Refusal("session.begin").Code)
	assert.Equal(t, w3c.UnsupportedOperation, Refusal("script.evaluate").Code)
}

func TestWhatIsSubscribedToIsTold(t *testing.T) {
	var s Subscriptions
	one, fresh, err := s.Add([]string{"log", "network.fetchError"}, nil)
	require.Nil(t, err)
	assert.Equal(t, []string{LogEntry, FetchError}, fresh)
	assert.True(t, s.Want(LogEntry, "") && s.Want(LogEntry, "page") && s.Want(FetchError, ""))
	assert.False(t, s.Want(ResponseWhole, ""))
	two, fresh, err := s.Add([]string{"log.entryAdded", "browsingContext.load"}, []string{"page"})
	require.Nil(t, err)
	assert.Equal(t, []string{Loaded}, fresh, "the log was wanted already")
	assert.NotEqual(t, one, two)
	assert.True(t, s.Want(Loaded, "page"))
	assert.False(t, s.Want(Loaded, "other") || s.Want(Loaded, ""))
	_, fresh, err = s.Add([]string{"browsingContext.load"}, nil)
	require.Nil(t, err)
	assert.Equal(t, []string{Loaded}, fresh, "for all contexts it is new")
	_, _, err = s.Add([]string{"log", "lag"}, nil)
	assert.Equal(t, w3c.InvalidArgument, err.Code)

	assert.Equal(t, w3c.InvalidArgument, s.RemoveIDs([]string{one, "nothing"}).Code)
	assert.True(t, s.Want(FetchError, ""), "all, or none")
	require.Nil(t, s.RemoveIDs([]string{one}))
	assert.False(t, s.Want(FetchError, "") || s.Want(LogEntry, ""))
	assert.True(t, s.Want(LogEntry, "page"))
	assert.NotNil(t, s.RemoveNames([]string{"log"}), "it is for one context alone")
	require.Nil(t, s.RemoveNames([]string{"browsingContext.load"}))
	assert.True(t, s.Want(Loaded, "page") && !s.Want(Loaded, "other"))
	assert.True(t, s.Any(func(e string) bool { return e == Loaded }))
	for range MaxSubscriptions {
		_, _, err = s.Add([]string{"log"}, nil)
	}
	assert.NotNil(t, err)
}

func TestAnExchangeIsToldInTheDraftsWords(t *testing.T) {
	began := time.UnixMilli(1_800_000_000_000).UTC()
	e := har.Entry{Started: began, Time: 100, Kind: har.HTTP, Request: har.Request{Method: "POST", URL: "https://a.example/x", Headers: []har.Pair{{Name: "A", Value: "b"}}, BodySize: 12},
		Response: har.Response{Status: 200, StatusText: "OK", HTTPVersion: "HTTP/2.0", Headers: []har.Pair{{Name: "content-type", Value: "text/plain"}}, BodySize: 40},
		Timings:  har.Timings{Blocked: 1, DNS: 2, Connect: 30, SSL: 20, Send: 3, Wait: 40, Receive: 24}}
	object := func(x Event) (m map[string]any) {
		raw, err := json.Marshal(x.Params)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &m))
		return m
	}
	asked := Asked("7", e)
	require.Len(t, asked, 1)
	x := object(asked[0])
	assert.Equal(t, RequestSent, asked[0].Name)
	assert.EqualValues(t, began.UnixMilli(), x["timestamp"])
	for _, key := range []string{"context", "navigation"} {
		assert.Contains(t, x, key, "null where it is not known")
		assert.Nil(t, x[key])
	}
	q := x["request"].(map[string]any)
	assert.Equal(t, []any{"7", "https://a.example/x", "POST", []any{}, nil}, []any{q["request"], q["url"], q["method"], q["cookies"], q["bodySize"]})
	assert.Equal(t, []any{map[string]any{"name": "A", "value": map[string]any{"type": "string", "value": "b"}}}, q["headers"])

	ended := Answered("7", e)
	require.Len(t, ended, 2)
	assert.Equal(t, []string{ResponseStarted, ResponseWhole}, []string{ended[0].Name, ended[1].Name})
	x = object(ended[1])
	r := x["response"].(map[string]any)
	assert.Equal(t, []any{200.0, "h2", "text/plain", 40.0}, []any{r["status"], r["protocol"], r["mimeType"], r["bodySize"]})
	assert.Equal(t, 40+float64(len("content-type: text/plain\r\n")), r["bytesReceived"])
	q = x["request"].(map[string]any)
	assert.Equal(t, 12.0, q["bodySize"])
	times := q["timings"].(map[string]any)
	assert.Equal(t, []any{1.0, 3.0, 13.0, 33.0, 33.0, 76.0, 100.0}, []any{times["dnsStart"], times["connectStart"], times["tlsStart"], times["connectEnd"], times["requestStart"], times["responseStart"], times["responseEnd"]})
	assert.EqualValues(t, began.UnixMilli()+100, x["timestamp"])
	assert.EqualValues(t, began.UnixMilli()+76, object(ended[0])["timestamp"])
	assert.Nil(t, object(ended[0])["response"].(map[string]any)["bodySize"])

	e.Error = "cut off"
	broke := Answered("7", e)
	assert.Equal(t, []string{ResponseStarted, FetchError}, []string{broke[0].Name, broke[1].Name})
	assert.Equal(t, "cut off", object(broke[1])["errorText"])
	e.Response = har.Response{}
	none := Answered("7", e)
	require.Len(t, none, 1)
	assert.Equal(t, FetchError, none[0].Name)
	e.Kind = har.Connection
	assert.Empty(t, append(Asked("7", e), Answered("7", e)...), "nothing of a request is known of a connection that was not opened")
}

func TestOtherEntriesAreAsTheDraftHasThem(t *testing.T) {
	e := DeviceEntry(devicelog.Line{Level: 'W', Tag: "Tides", PID: 12, Text: "late"}, time.UnixMilli(5))
	assert.JSONEq(t, `{"type": "event", "method": "log.entryAdded", "params": {"type": "tessellant:device", "level": "warn", "source": {"realm": "device", "context": "native"}, "text": "late", "timestamp": 5, "tessellant:tag": "Tides", "tessellant:pid": 12}}`, string(Happened(e)))
	raw, err := json.Marshal(Entry{Type: "console", Args: []Value{}, Stack: &Stack{Frames: []Frame{}}})
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"args":[]`)
	raw, err = json.Marshal([]Value{{"string", ""}, {"number", 0.0}, {"boolean", false}, {"undefined", nil}})
	require.NoError(t, err)
	assert.JSONEq(t, `[{"type": "string", "value": ""}, {"type": "number", "value": 0}, {"type": "boolean", "value": false}, {"type": "undefined"}]`, string(raw))
	i := NewInfo("a", "u")
	raw, err = json.Marshal(i.Outermost(""))
	require.NoError(t, err)
	assert.JSONEq(t, `{"context": "a", "url": "u", "children": null, "parent": null, "originalOpener": null, "userContext": "default", "clientWindow": "screen"}`, string(raw))
	raw, err = json.Marshal(i)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "parent", "of one within another")
}

func TestParamsAreRead(t *testing.T) {
	p := Params{"n": 3.0, "half": 1.5, "s": "x", "b": true, "list": []any{"a"}, "none": []any{}}
	n, err := p.Whole("n", 0, 0, 3)
	assert.Equal(t, 3, n)
	assert.Nil(t, err)
	n, _ = p.Whole("missing", 9, 0, 3)
	assert.Equal(t, 9, n)
	for _, bad := range []func() *w3c.Error{
		func() *w3c.Error { _, err := p.Whole("half", 0, 0, 9); return err }, func() *w3c.Error { _, err := p.Whole("n", 0, 0, 2); return err },
		func() *w3c.Error { _, err := p.Text("n"); return err }, func() *w3c.Error { _, err := p.Is("s", false); return err },
		func() *w3c.Error { _, err := p.OneOf("s", "a", "b"); return err }, func() *w3c.Error { _, _, err := p.Texts("none"); return err },
		func() *w3c.Error { _, _, err := p.Texts("s"); return err }} {
		require.NotNil(t, bad())
		assert.Equal(t, w3c.InvalidArgument, bad().Code)
	}
	s, err := p.OneOf("missing", "a", "b")
	assert.Equal(t, "a", s)
	assert.Nil(t, err)
}

func FuzzMessages(f *testing.F) {
	f.Add(`{"id": 1, "method": "session.subscribe", "params": {"events": ["log"], "contexts": ["native"]}}`)
	f.Add(strings.Repeat("[", 200))
	f.Fuzz(func(t *testing.T, text string) {
		c, known, err := Read([]byte(text))
		if err != nil {
			if !json.Valid(Failed(c.ID, known, err)) {
				t.Fatal("the answer is no JSON")
			}
			return
		}
		events, _, _ := c.Params.Texts("events")
		var s Subscriptions
		if id, _, err := s.Add(events, nil); err == nil {
			if err := s.RemoveIDs([]string{id}); err != nil {
				t.Fatal(err)
			}
		}
	})
}
