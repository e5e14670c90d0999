package app

import (
	"errors"
	"image"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/standin/paint"
)

// stage is a device whose network and time are in the test's hands.
type stage struct {
	*App
	log   []string
	later []func()
	died  error
}

func device(api int, language string) Device {
	return Device{API: api, DPI: 160, Language: language, ScreenW: 360, ScreenH: 640, StatusBarH: 24, NavBarH: 48}
}

func play(t *testing.T, dev Device, source string) (*stage, error) {
	t.Helper()
	s := &stage{}
	a, err := Start("org.kelpline.app", "Kelpline", source, dev, nil, Env{
		Died: func(err error) { s.died = err },
		Log:  func(level byte, tag, text string) { s.log = append(s.log, string(level)+" "+tag+": "+text) },
		HTTP: func(method, url string, body []byte, _ bool) (int, []byte, error) {
			if strings.HasSuffix(url, "/down") {
				return 0, nil, errors.New("refused")
			}
			return 200, []byte(`{"n": 3}`), nil
		},
		Later: func(_ time.Duration, f func()) { s.later = append(s.later, f) },
		Async: func(work, then func()) { s.later = append(s.later, func() { work(); then() }) },
	})
	s.App = a
	return s, err
}

// pass lets all that waits happen.
func (s *stage) pass() {
	todo := s.later
	s.later = nil
	for _, f := range todo {
		f()
	}
}

func (s *stage) node(t *testing.T, id string) *Node {
	t.Helper()
	for _, n := range s.Nodes() {
		if n.ID == id {
			return n
		}
	}
	require.Failf(t, "no such node", id)
	return nil
}

func (s *stage) tap(t *testing.T, id string) error {
	t.Helper()
	b := s.node(t, id).Visible
	return s.Tap((b.X1+b.X2)/2, (b.Y1+b.Y2)/2)
}

const counter = `
def start():
    state["n"], state["text"], state["on"] = 0, "", False
def add():
    state["n"] += 1
def set_text(v):
    state["text"] = v
def set_on(on):
    state["on"] = on
def view():
    return screen("Count", back = add, body = [
        text("n is %d" % state["n"], id = "n"),
        button("Add", id = "add", on_tap = add),
        button("Off", id = "off", on_tap = add, enabled = False),
        field(id = "f", hint = "Text", value = state["text"], on_change = set_text),
        field(id = "num", hint = "Number", value = state["text"], on_change = set_text, numeric = True),
        switch("On", id = "on", checked = state["on"], on_tap = set_on),
    ])
`

func TestTapsTypingAndKeysChangeTheStateAndTheScreen(t *testing.T) {
	s, err := play(t, device(30, "en"), counter)
	require.NoError(t, err)
	before := s.Version
	require.NoError(t, s.tap(t, "add"))
	assert.Equal(t, "n is 1", s.node(t, "n").Text)
	assert.Greater(t, s.Version, before)
	require.NoError(t, s.tap(t, "off"))
	require.NoError(t, s.tap(t, "n"))
	require.NoError(t, s.Tap(-5, 9999))
	assert.Equal(t, "n is 1", s.node(t, "n").Text, "what is disabled, or no button, does nothing")

	require.NoError(t, s.Type("nobody listens"))
	require.NoError(t, s.tap(t, "f"))
	up, numeric := s.Keyboard()
	assert.True(t, up)
	assert.False(t, numeric)
	require.NoError(t, s.Type("ab"))
	require.NoError(t, s.Type("c"))
	require.NoError(t, s.Backspace())
	assert.Equal(t, "ab", s.node(t, "f").Text)
	assert.True(t, s.node(t, "f").Focused)
	handled, err := s.Back()
	require.NoError(t, err)
	assert.True(t, handled, "the first Back puts the keyboard away")
	up, _ = s.Keyboard()
	assert.False(t, up)
	_, err = s.Back()
	require.NoError(t, err)
	assert.Equal(t, "n is 2", s.node(t, "n").Text, "the second goes back")

	require.NoError(t, s.tap(t, "num"))
	require.NoError(t, s.Type("x7,5y"))
	assert.Equal(t, "7,5", s.node(t, "num").Text, "a field for numbers takes no letters")
	s.HideKeyboard()
	require.NoError(t, s.tap(t, "on"))
	assert.True(t, s.node(t, "on").Checked)
}

func TestACallThatTheSystemLacksEndsTheAppWithAStackTrace(t *testing.T) {
	const source = `
def view():
    return screen("S", body = [button("Draw", id = "draw", on_tap = lambda: Chart_draw())])
def Chart_draw():
    platform_call("android.graphics.Canvas", "drawX()V", since = 29)
`
	s, err := play(t, device(29, "en"), source)
	require.NoError(t, err)
	require.NoError(t, s.tap(t, "draw"))
	s, err = play(t, device(28, "en"), source)
	require.NoError(t, err)
	var c *Crash
	require.ErrorAs(t, s.tap(t, "draw"), &c)
	assert.Contains(t, c.Trace[0], "java.lang.NoSuchMethodError: No virtual method drawX()V in class Landroid/graphics/Canvas;")
	assert.Contains(t, c.Trace[1], "at org.kelpline.app.Chart.draw(Chart.java:5)")
}

func TestOtherErrorsOfTheBehaviourFileAreCrashesToo(t *testing.T) {
	for name, source := range map[string]string{
		"a division by zero":    "def view():\n    return screen(\"%d\" % (1 // 0))",
		"an endless loop":       "def view():\n    while True:\n        pass",
		"no screen":             "def view():\n    return text(\"x\")",
		"a body of the wrong":   "def view():\n    return screen(\"x\", body = [1])",
		"a key that is missing": "def view():\n    return screen(state[\"x\"])",
	} {
		t.Run(name, func(t *testing.T) {
			_, err := play(t, device(30, "en"), source)
			var c *Crash
			assert.ErrorAs(t, err, &c)
		})
	}
	_, err := play(t, device(30, "en"), "x = 1")
	assert.ErrorContains(t, err, "defines no view()")
}

func TestNumbersAreWrittenInTheDevicesLanguageAndReadAsIfItWereEnglish(t *testing.T) {
	const source = `
def view():
    return screen("S", body = [text(format_number(6.5), id = "out"), text(str(parse_number("2,5")), id = "comma"), text(str(parse_number("2.5")), id = "dot"), text(str(parse_number("x")), id = "none")])
`
	for language, want := range map[string]string{"en": "6.5", "de": "6,5"} {
		s, err := play(t, device(30, language), source)
		require.NoError(t, err)
		assert.Equal(t, want, s.node(t, "out").Text)
		assert.Equal(t, "25.0", s.node(t, "comma").Text)
		assert.Equal(t, "2.5", s.node(t, "dot").Text)
		assert.Equal(t, "0.0", s.node(t, "none").Text)
	}
}

func TestTheNetworkAnswersLater(t *testing.T) {
	s, err := play(t, device(30, "en"), `
def start():
    state["got"] = "waiting"
    http("GET", "http://x.example/up", None, done)
    http("POST", "http://x.example/down", {"a": 1}, done)
    after(50, lambda: write_log("Timer", "rang"))
def done(status, answer):
    state["got"] += " %d:%s" % (status, answer)
def view():
    return screen("S", body = [spinner(id = "spin"), text(state["got"], id = "got")] if "200" not in state["got"] else [text(state["got"], id = "got")])
`)
	require.NoError(t, err)
	assert.True(t, s.Busy(), "a spinner moves")
	s.pass()
	assert.False(t, s.Busy())
	assert.Equal(t, `waiting 200:{"n": 3} 0:refused`, s.node(t, "got").Text)
	assert.Contains(t, s.log, "D Timer: rang")
	assert.Contains(t, s.log, "I Tides: GET http://x.example/up 200, 8 bytes")
	assert.NoError(t, s.died)
}

func TestACrashInAnAnswerIsTold(t *testing.T) {
	s, err := play(t, device(30, "en"), "def start():\n    after(1, lambda: 1 // 0)\ndef view():\n    return screen(\"S\")")
	require.NoError(t, err)
	s.pass()
	var c *Crash
	require.ErrorAs(t, s.died, &c)
	assert.Contains(t, c.Trace[0], "division by zero")
}

const tall = `
def view():
    return screen("S", scroll = %s, body = [text("line %%d" %% i, id = "t%%d" %% i) for i in range(40)] + [field(id = "f", hint = "h", on_change = lambda v: None)])
`

func TestAScreenScrollsAsFarAsItsContentGoes(t *testing.T) {
	s, err := play(t, device(30, "en"), strings.Replace(strings.ReplaceAll(tall, "%%", "%"), "%s", "True", 1))
	require.NoError(t, err)
	assert.True(t, s.node(t, "content").Scrollable)
	assert.True(t, s.node(t, "f").Visible.Empty(), "below the fold")
	s.Swipe(180, 500, 180, 100)
	assert.Less(t, s.node(t, "t0").Bounds.Y2, 80, "the first line went up")
	for range 20 {
		s.Swipe(180, 500, 180, 100)
	}
	f := s.node(t, "f")
	assert.False(t, f.Visible.Empty())
	assert.Equal(t, 640-48-16, f.Bounds.Y2, "it ends with its margin at the bottom")
	require.NoError(t, s.tap(t, "f"))
	assert.LessOrEqual(t, s.node(t, "f").Bounds.Y2, 640-48-252, "the focused field stands above the keyboard")
	s.HideKeyboard()
	for range 30 {
		s.Swipe(180, 100, 180, 500)
	}
	assert.Equal(t, 24+56+16, s.node(t, "t0").Bounds.Y1)

	s, err = play(t, device(30, "en"), strings.Replace(strings.ReplaceAll(tall, "%%", "%"), "%s", "False", 1))
	require.NoError(t, err)
	before := s.node(t, "t0").Bounds
	s.Swipe(180, 500, 180, 100)
	assert.Equal(t, before, s.node(t, "t0").Bounds, "a screen that does not scroll stays")
	assert.True(t, s.node(t, "f").Visible.Empty())
}

func TestADialogLiesOverTheScreenAndKeepsItOutOfReach(t *testing.T) {
	s, err := play(t, device(30, "en"), `
def start():
    state["up"], state["n"] = True, 0
def close():
    state["up"] = False
def add():
    state["n"] += 1
def view():
    return screen("S", body = [button("Add", id = "add", on_tap = add)] + [space(height = 10), text(str(state["n"]), id = "n")],
        dialog = dialog("Sure?", detail = "Think it over.", body = [button("Yes", id = "yes", on_tap = close)]) if state["up"] else None)
`)
	require.NoError(t, err)
	for _, n := range s.Nodes() {
		assert.NotEqual(t, "add", n.ID)
	}
	assert.Equal(t, "Sure?", s.node(t, "dialog_title").Text)
	plate := s.Nodes()[0].Bounds
	assert.InDelta(t, 640-plate.Y2, plate.Y1, 2, "in the middle")
	require.NoError(t, s.Tap(180, 24+56+16+20)) // where Add lies beneath
	require.NoError(t, s.tap(t, "yes"))
	assert.Equal(t, "0", s.node(t, "n").Text)
	require.NoError(t, s.tap(t, "add"))
	assert.Equal(t, "1", s.node(t, "n").Text)
}

func TestAGridHasAsManyColumnsAsFit(t *testing.T) {
	const source = `
def view():
    return screen("S", body = [grid(min_cell = 160, body = [pair("a", id = "a", detail = "1"), pair("b", id = "b", detail = "2")])])
`
	for width, columns := range map[int]int{360: 2, 359: 1, 320: 1, 800: 2} {
		dev := device(30, "en")
		dev.ScreenW = width
		s, err := play(t, dev, source)
		require.NoError(t, err)
		beside := s.node(t, "a").Bounds.Y1 == s.node(t, "b").Bounds.Y1
		assert.Equal(t, columns == 2, beside, "at %d dp", width)
	}
}

func TestEveryWidgetIsDrawn(t *testing.T) {
	s, err := play(t, device(30, "en"), `
def view():
    return screen("S", back = lambda: None, body = [text("a", size = "title"), button("b", on_tap = lambda: None), button("c", style = "plain"), button("d", enabled = False),
        field(id = "f", hint = "h", value = "v"), row("r", detail = "more", on_tap = lambda: None), row("r2"), switch("s", checked = True), pair("p", detail = "q"),
        card(body = [text("in a card")]), chart(points = [1, 3, 2]), line(), space(height = 4), spinner()])
`)
	require.NoError(t, err)
	c := paint.NewCanvas(360, 640, paint.NewFonts(160, 1), paint.Hex(0))
	s.Draw(c)
	img := c.Picture()
	for _, n := range s.Nodes() {
		if n.Visible.Empty() || n.Kind == "viewport" || n.Kind == "line" || n.Kind == "text" {
			continue
		}
		colours := map[[3]byte]bool{}
		r := image.Rect(n.Visible.X1, n.Visible.Y1, n.Visible.X2, n.Visible.Y2)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				i := img.PixOffset(x, y)
				colours[[3]byte(img.Pix[i:i+3])] = true
			}
		}
		assert.Greater(t, len(colours), 1, "%s shows nothing", n.Kind)
	}
}
