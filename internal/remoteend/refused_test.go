package remoteend_test

// What a device says no to, in the standard's words: on a phone of paper that can do no more than every phone must.

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
	"tessellant/internal/remoteend"
)

// paper is a phone that shows one screen, and refuses what it was told to.
type paper struct {
	phone.Phone
	shows    *uitree.Screen // nil: a field to search in
	moves    int            // how often its tree can't be read yet
	before   *uitree.Screen // what it showed before it moved
	refuses  error
	launched []string
}

func (p *paper) Tree(context.Context) (*uitree.Screen, error) {
	if p.moves > 0 {
		p.moves--
		return nil, &phone.Restless{For: 12 * time.Second, Last: p.before, Seen: time.Now().Add(-14 * time.Second)}
	}
	if p.shows != nil {
		return p.shows, nil
	}
	return &uitree.Screen{Elements: []*uitree.Element{{Kind: "field", ID: "search", Enabled: true, Focused: true, Bounds: uitree.Rect{Right: 400, Bottom: 100}}}}, nil
}
func (p *paper) Screenshot(context.Context) ([]byte, error) { return []byte("no picture"), p.refuses }
func (p *paper) Type(context.Context, string) error         { return p.refuses }
func (p *paper) Press(context.Context, ...phone.Key) error  { return p.refuses }
func (p *paper) Tap(context.Context, int, int) error        { return p.refuses }
func (p *paper) Install(context.Context, phone.App) error   { return p.refuses }
func (p *paper) Launch(_ context.Context, app phone.App) error {
	p.launched = append(p.launched, app.ID+"/"+app.Activity)
	return p.refuses
}

// onPaper opens a session on a phone of paper; do gives the value and the error's code.
func onPaper(t *testing.T, p *paper, builds remoteend.Builds) (do func(method, path, body string) (any, string), notes *kept) {
	t.Helper()
	notes = &kept{}
	s := remoteend.New(remoteend.Config{ID: "s", Phone: p, App: phone.App{ID: "org.kelpline.app", Activity: "Old"}, Builds: builds, Facts: devices.Facts{Width: 400, Height: 800}, Notes: notes, Timeouts: w3c.DefaultTimeouts()})
	return func(method, path, body string) (any, string) {
		t.Helper()
		out := s.Do(t.Context(), remoteend.Request{Method: method, Path: "/session/s" + path, Body: []byte(body)})
		var a struct{ Value any }
		require.NoError(t, json.Unmarshal(out.Body, &a))
		if e, bad := a.Value.(map[string]any); bad && out.Status != 200 {
			assert.NotContains(t, e, "data")
			return e["message"], e["error"].(string)
		}
		return a.Value, ""
	}, notes
}

func TestAScreenThatMovesIsWaitedForAsLongAsTheImplicitTimeout(t *testing.T) {
	const search = `{"using": "css selector", "value": "#search"}`
	p := &paper{moves: 1}
	do, _ := onPaper(t, p, nil)
	message, code := do("POST", "/element", search)
	assert.Equal(t, "no such element", code)
	assert.Contains(t, message, "has not come to rest for 12 s")
	p.moves = 1
	message, code = do("POST", "/elements", search)
	assert.Equal(t, "unknown error", code, "whether there are any is not known")
	assert.Contains(t, message, "has not come to rest for 12 s")
	p.moves = 3
	_, code = do("POST", "/timeouts", `{"implicit": 20000}`)
	require.Empty(t, code)
	begin := time.Now()
	v, code := do("POST", "/element", search)
	require.Empty(t, code)
	assert.NotEmpty(t, v)
	assert.Less(t, time.Since(begin), 15*time.Second, "no longer than it moves")
	p.moves = 1
	_, code = do("GET", "/source", "")
	assert.Equal(t, "unknown error", code)
}

func TestWhatADeviceRefusesIsSaidInTheStandardsWords(t *testing.T) {
	p := &paper{}
	do, _ := onPaper(t, p, nil)
	v, code := do("POST", "/element", `{"using": "tag name", "value": "field"}`)
	require.Empty(t, code)
	on := "/element/" + v.(map[string]any)[w3c.ElementKey].(string)
	refused := &phone.Refused{Doing: "do it", Why: "the phone is locked", Remedy: "unlock it"}
	two := `{"actions": [{"type": "pointer", "id": "a", "actions": [{"type": "pointerDown", "button": 0}, {"type": "pause", "duration": 50}, {"type": "pointerUp", "button": 0}]}, {"type": "pointer", "id": "b", "actions": [{"type": "pointerDown", "button": 0}, {"type": "pause", "duration": 50}, {"type": "pointerUp", "button": 0}]}]}`
	for name, c := range map[string]struct {
		err          error
		method, path string
		body         string
		code, said   string
	}{
		"a tap":                   {refused, "POST", on + "/click", "{}", "unknown error", "the phone is locked"},
		"a key":                   {refused, "POST", "/back", "{}", "unknown error", "unlock it"},
		"a text that has no keys": {&phone.Untypable{Text: "ü"}, "POST", on + "/value", `{"text": "ü"}`, "unsupported operation", "ü"},
		"a picture":               {refused, "GET", "/screenshot", "", "unable to capture screen", "the phone is locked"},
		"a picture that is none":  {nil, "GET", on + "/screenshot", "", "unable to capture screen", "can't be read"},
		"what takes too long":     {context.DeadlineExceeded, "POST", "/back", "{}", "timeout", "took too long"},
		"a fault of ours":         {errors.New("no such thing"), "POST", "/back", "{}", "unknown error", "no such thing"},
		"two fingers":             {nil, "POST", "/actions", two, "unsupported operation", "one finger alone"},
		"to be turned":            {nil, "POST", "/tessellant/orientation", `{"orientation": "landscape"}`, "unsupported operation", "can't be turned"},
		"a file":                  {nil, "POST", "/tessellant/file/fetch", `{"path": "/sdcard/x"}`, "unsupported operation", "takes and gives no files"},
	} {
		p.refuses = c.err
		message, code := do(c.method, c.path, c.body)
		assert.Equal(t, c.code, code, name)
		assert.Contains(t, message, c.said, name)
	}
	p.refuses = nil
	_, code = do("POST", "/tessellant/keyboard/hide", "{}")
	assert.Empty(t, code, "a device that does not tell of its keyboard has none to hide")
}

func TestABuildThatIsInstalledIsTheOneThatIsLaunched(t *testing.T) {
	p := &paper{}
	open, let := 0, 0
	do, notes := onPaper(t, p, func(_ context.Context, ref string) (app phone.App, what string, done func(), err error) {
		if ref == "none" {
			return app, "", nil, w3c.Fail(w3c.InvalidArgument, "there is no build %q", ref)
		}
		open++
		id, activity, _ := strings.Cut(ref, "/")
		return phone.App{ID: id, Activity: activity, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("x")), nil }}, id + " 2", func() { let++ }, nil
	})
	launch := func(body string) string {
		_, code := do("POST", "/tessellant/app/launch", body)
		require.Empty(t, code)
		return p.launched[len(p.launched)-1]
	}
	install := func(body string) (any, string) { return do("POST", "/tessellant/app/install", body) }
	assert.Equal(t, "org.kelpline.app/Old", launch("{}"))
	_, code := install(`{"build": "net.other/Main"}`)
	require.Empty(t, code)
	assert.Equal(t, "org.kelpline.app/Old", launch("{}"), "another app is not the session's")
	_, code = install(`{"build": "org.kelpline.app/New"}`)
	require.Empty(t, code)
	assert.Equal(t, "org.kelpline.app/New", launch("{}"))
	assert.Equal(t, "net.other/", launch(`{"app": "net.other"}`), "the device is asked what to launch")
	p.refuses = &phone.Refused{Doing: "install the app", Why: "INSTALL_FAILED_UPDATE_INCOMPATIBLE"}
	message, code := install(`{"build": "org.kelpline.app/Newer"}`)
	assert.Equal(t, "unknown error", code)
	assert.Contains(t, message, "INSTALL_FAILED_UPDATE_INCOMPATIBLE")
	p.refuses = nil
	assert.Equal(t, "org.kelpline.app/New", launch("{}"), "what was not installed is not launched")
	message, code = install(`{"build": "none"}`)
	assert.Equal(t, "invalid argument", code)
	assert.Equal(t, `there is no build "none"`, message)
	message, code = install("{}")
	assert.Equal(t, "invalid argument", code, "this session's own has no file")
	assert.Contains(t, message, "say which is meant")
	assert.Equal(t, []int{3, 3}, []int{open, let}, "what was fetched is let go of")
	var told []string
	for _, c := range notes.commands {
		if c.Name == "install app" && c.Err == nil {
			told = append(told, c.Args["build"]+" "+c.Args["app"]+" → "+c.Answer)
		}
	}
	assert.Equal(t, []string{"net.other/Main net.other → net.other 2", "org.kelpline.app/New org.kelpline.app → org.kelpline.app 2"}, told)
}

func TestTheScreenIsNoWiderForADialogThatIs(t *testing.T) {
	dialog := &uitree.Element{Kind: "group", Enabled: true, Bounds: uitree.Rect{Left: 20, Top: 500, Right: 380, Bottom: 700}}
	dialog.Children = []*uitree.Element{{Kind: "button", ID: "close", Enabled: true, Bounds: uitree.Rect{Left: 20, Top: 600, Right: 380, Bottom: 700}}}
	p := &paper{shows: &uitree.Screen{Elements: []*uitree.Element{dialog}}}
	do, _ := onPaper(t, p, nil)
	look := func() (width, height any, held any) {
		r, code := do("GET", "/window/rect", "")
		require.Empty(t, code)
		held, code = do("GET", "/tessellant/orientation", "")
		require.Empty(t, code)
		return r.(map[string]any)["width"], r.(map[string]any)["height"], held
	}
	w, h, held := look()
	assert.Equal(t, []any{400.0, 800.0, "portrait"}, []any{w, h, held})
	v, code := do("POST", "/element", `{"using": "css selector", "value": "#close"}`)
	require.Empty(t, code)
	_, code = do("POST", "/element/"+v.(map[string]any)[w3c.ElementKey].(string)+"/click", "{}")
	assert.Empty(t, code, "it lies on the screen")
	p.shows = &uitree.Screen{Elements: []*uitree.Element{dialog}, Rotation: 3}
	_, _ = do("POST", "/back", "{}") // what was seen is not so any more
	w, h, held = look()
	assert.Equal(t, []any{800.0, 400.0, "landscape"}, []any{w, h, held})
}

func TestAScreenThatNeverRestsIsUsedAsItWasLast(t *testing.T) {
	p := &paper{moves: 1 << 30}
	p.before = &uitree.Screen{Elements: []*uitree.Element{{Kind: "field", ID: "search", Enabled: true, Bounds: uitree.Rect{Right: 400, Bottom: 100}}}}
	do, notes := onPaper(t, p, nil)
	_, code := do("POST", "/element", `{"using": "css selector", "value": "#search"}`)
	require.Empty(t, code)
	last := notes.commands[len(notes.commands)-1]
	assert.Contains(t, last.Args["screen"], "as it was 14 s ago")
}
