package listening_test

// What goes wrong: clients that take nothing, pages that go, sessions that end in the middle.

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/har"
	"tessellant/internal/host/listening"
	"tessellant/internal/hostlink"
	"tessellant/internal/housetest"
	"tessellant/internal/phone"
)

func TestMain(m *testing.M) { housetest.Main(m) }

// quiet is a session without pages.
func quiet(t *testing.T, change func(*listening.Config)) *listening.Session {
	c := listening.Config{Log: housetest.Log(), Screenshot: func(context.Context) ([]byte, error) { return nil, errors.New("the screen is secure") },
		Enter: func(context.Context, string) (func(), error) { return func() {}, nil }, Command: func(phone.Command) {}, Used: func() {}, Wire: func(string) {}, Mask: func(s string) string { return s }, End: func(context.Context) {}}
	if change != nil {
		change(&c)
	}
	s := listening.New(t.Context(), c)
	t.Cleanup(s.Close)
	return s
}

func line(text string) devicelog.Line { return devicelog.Line{Level: 'I', Tag: "Tides", Text: text} }

func TestAClientThatTakesNothingIsCutOffAndTheOthersGoOn(t *testing.T) {
	s := quiet(t, nil)
	a, deaf := net.Pipe()
	require.NoError(t, s.Listen(stream{a}))
	hears := connect(t, s)
	hears.ask("session.subscribe", `{"events": ["log"]}`)
	for i := range 5000 {
		s.Line(line(strings.Repeat("x", 1000)), time.UnixMilli(int64(i)))
		if i%500 == 0 { // a client that reads is given the time to
			housetest.Eventually(t, "the other has heard it", func() bool { return len(hears.heard()) == i+1 })
		}
	}
	housetest.Eventually(t, "the other has heard all", func() bool { return len(hears.heard()) == 5000 })
	housetest.Eventually(t, "it is cut off", func() bool {
		_ = deaf.SetReadDeadline(time.Now().Add(time.Second))
		for {
			if _, _, err := hostlink.ReadFrame(deaf, 1<<20); err != nil {
				return !errors.Is(err, context.DeadlineExceeded) && !strings.Contains(err.Error(), "timeout")
			}
		}
	})
	for range 3 {
		connect(t, s).ask("session.status", `{}`)
	}
	b, _ := net.Pipe()
	assert.ErrorIs(t, s.Listen(stream{b}), listening.ErrFull)
}

func TestWhoSubscribesLaterHearsTheNewestOfWhatWasBefore(t *testing.T) {
	s := quiet(t, nil)
	for i := range 3000 {
		s.Line(line("line"), time.UnixMilli(int64(i)))
	}
	x := connect(t, s)
	x.ask("session.subscribe", `{"events": ["log"]}`)
	before := x.heard()
	require.Len(t, before, 500)
	assert.EqualValues(t, 2999, before[499]["params"].(m)["timestamp"])
	x.ask("session.subscribe", `{"events": ["log"]}`)
	assert.Len(t, x.heard(), 500, "once")
	s.Line(line(strings.Repeat("x", 1<<20)), time.UnixMilli(1))
	y := connect(t, s)
	y.ask("session.unsubscribe", `{"events": ["log"]}`)
	y.ask("session.unsubscribe", `{"events": ["log"]}`)
	y.ask("session.subscribe", `{"events": ["log"]}`)
	assert.Empty(t, y.heard(), "no more is kept than there is room for")
}

func TestEventsAreOfThoseThatAreWanted(t *testing.T) {
	s := quiet(t, nil)
	x := connect(t, s)
	e := har.Entry{Kind: har.HTTP, Number: 7, Request: har.Request{Method: "GET", URL: "http://a.example/"}, Response: har.Response{Status: 200}}
	s.Asked(e)
	x.ask("session.subscribe", `{"events": ["network.responseCompleted"]}`)
	s.Asked(e)
	s.Answered(e)
	x.ask("session.status", `{}`)
	require.Len(t, x.heard(), 1)
	assert.Equal(t, "7", x.heard()[0]["params"].(m)["request"].(m)["request"])
}

func TestASessionThatEndsClosesItsConnections(t *testing.T) {
	paused := make(chan struct{})
	s := quiet(t, func(c *listening.Config) {
		c.Enter = func(ctx context.Context, _ string) (func(), error) {
			close(paused)
			<-ctx.Done()
			return nil, ctx.Err()
		}
	})
	x := connect(t, s)
	x.n++
	x.write(`{"id": 1, "method": "browsingContext.reload", "params": {"context": "native"}}`)
	<-paused
	y := connect(t, s)
	assert.Equal(t, "unable to capture screen", y.ask("browsingContext.captureScreenshot", `{"context": "native"}`)["error"])
	s.Close()
	a, _ := net.Pipe()
	assert.ErrorIs(t, s.Listen(stream{a}), listening.ErrOver)
}

func TestPagesThatAreGoneAreToldOfAndCommandedNoMore(t *testing.T) {
	base := pages(t)
	x, w := ourSide(t, base+"/asks")
	x.ask("session.subscribe", `{"events": ["browsingContext"]}`)
	// Behind a dialog a page answers nothing; what answers the dialog goes on.
	x.ask("browsingContext.reload", `{"context": "PAGE"}`)
	asks := func(n int) {
		housetest.Eventually(t, "the page asks", func() bool {
			opened := 0
			for _, e := range x.heard() {
				if e["method"] == "browsingContext.userPromptOpened" {
					opened++
				}
			}
			return opened >= n
		})
	}
	asks(1)
	x.write(`{"id": 900, "method": "browsingContext.captureScreenshot", "params": {"context": "` + x.page + `"}}`)
	assert.Equal(t, "success", x.ask("browsingContext.handleUserPrompt", `{"context": "PAGE", "accept": false}`)["type"])
	x.answered("900")
	w.Chromium.Stop(0)
	housetest.Eventually(t, "the page is gone", func() bool {
		for _, e := range x.heard() {
			if e["method"] == "browsingContext.contextDestroyed" && e["params"].(m)["context"] == x.page {
				return true
			}
		}
		return false
	})
	assert.Equal(t, "no such frame", x.ask("browsingContext.reload", `{"context": "PAGE"}`)["error"])
	assert.Equal(t, "no such frame", x.ask("session.subscribe", `{"events": ["log"], "contexts": ["PAGE"]}`)["error"])
}

func TestAPageIsToldOfBeforeWhatItSays(t *testing.T) {
	base := pages(t)
	x, w := ourSide(t, base+"/")
	x.ask("session.subscribe", `{"events": ["log", "browsingContext"]}`)
	w.Open(t, base+"/says")
	w.Open(t, base+"/long")
	told := func(x *side) map[string][]string { // of each context, in their order
		kinds := map[string][]string{}
		for _, e := range x.heard() {
			p := e["params"].(m)
			context, _ := p["context"].(string)
			if source, is := p["source"].(m); is {
				context = source["context"].(string)
			}
			kinds[context] = append(kinds[context], e["method"].(string))
		}
		return kinds
	}
	whole := func(x *side) (args []any) {
		housetest.Eventually(t, "both pages have spoken", func() bool {
			said := 0
			for _, e := range x.heard() {
				if e["method"] == "log.entryAdded" {
					said++
					if a, is := e["params"].(m)["args"].([]any); is && len(a) == 50 {
						args = a
					}
				}
			}
			return args != nil && said >= 11
		})
		for context, all := range told(x) {
			assert.Equal(t, "browsingContext.contextCreated", all[0], "%s: %v", context, all)
		}
		return args
	}
	bytes := 0
	for _, a := range whole(x) {
		bytes += len(a.(m)["value"].(string))
	}
	assert.LessOrEqual(t, bytes, 16<<10, "what an entry holds has a size in bytes")
	// Who comes later is told in the same order.
	x.ask("session.unsubscribe", `{"events": ["log", "browsingContext"]}`)
	x.mu.Lock()
	x.events = nil
	x.mu.Unlock()
	x.ask("session.subscribe", `{"events": ["log", "browsingContext"]}`)
	whole(x)
}

func TestTheAddressOfAFrameHasASize(t *testing.T) {
	base := pages(t)
	x, _ := ourSide(t, base+"/")
	x.ask("browsingContext.navigate", fmt.Sprintf(`{"context": "PAGE", "url": "%s/#%s", "wait": "none"}`, base, strings.Repeat("a", 200_000)))
	long := ""
	housetest.Eventually(t, "the page is there", func() bool {
		for _, c := range x.ask("browsingContext.getTree", `{}`)["result"].(m)["contexts"].([]any) {
			if c.(m)["context"] == x.page {
				long = c.(m)["url"].(string)
			}
		}
		return len(long) > 1000
	})
	assert.LessOrEqual(t, len(long), 32<<10)
	assert.True(t, strings.HasPrefix(long, base+"/#aaa"), "its beginning is kept")
}
