package w3c

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
)

func object(t testing.TB, text string) map[string]any {
	t.Helper()
	v, err := Object([]byte(text))
	require.Nil(t, err, "%v", err)
	return v
}

func TestEveryCommandIsFoundByItsOwnPath(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range append(append([]Command{}, Commands...), Extensions...) {
		assert.False(t, seen[c.Method+c.Path], "twice: %s %s", c.Method, c.Path)
		seen[c.Method+c.Path] = true
		path := strings.NewReplacer("{session id}", "s-1", "{element id}", "e-1", "{name}", "a%2Fb", "{property name}", "p", "{shadow id}", "r").Replace(c.Path)
		call, err := Route(c.Method, path)
		require.Nil(t, err)
		assert.Equal(t, c.Name, call.Name)
		if strings.Contains(c.Path, "{session id}") {
			assert.Equal(t, "s-1", call.Session)
		}
		if strings.Contains(c.Path, "{name}") {
			assert.Equal(t, "a/b", call.Param)
		}
		assert.Equal(t, c.Does(Native) == Senseless, c.Reason(Native) != "", "%s: what has no meaning says why", c.Name)
	}
	for path, want := range map[string]Code{"GET /session/s/nothing": UnknownCommand, "PATCH /session": UnknownMethod, "GET /": UnknownCommand, "GET /session//title": UnknownCommand, "GET /session/%zz/title": UnknownCommand} {
		method, rest, _ := strings.Cut(path, " ")
		_, err := Route(method, rest)
		assert.Equal(t, want, err.Code, path)
	}
}

func TestCapabilitiesAreValidatedMergedAndMatched(t *testing.T) {
	ext := func(name string, _ any) error {
		if name == "tessellant:wrong" {
			return errors.New("it is wrong")
		}
		return nil
	}
	for body, want := range map[string]string{
		`{"capabilities": {}}`: `[{}]`,
		`{"capabilities": {"alwaysMatch": {"platformName": "android", "browserName": null}, "firstMatch": [{"tessellant:build": "b"}, {}]}}`: `[{"platformName":"android","tessellant:build":"b"},{"platformName":"android"}]`,
		`{"capabilities": {"alwaysMatch": {"tessellant:wrong": 1}}}`:                                                                         "invalid argument: the capability tessellant:wrong: it is wrong",
		`{"capabilities": {"alwaysMatch": {"deviceName": "x"}}}`:                                                                             `invalid argument: there is no capability "deviceName" in the standard; ours begin with "tessellant:"`,
		`{"capabilities": {"alwaysMatch": {"timeouts": {"implicit": 1.5}}}}`:                                                                 "invalid argument: the capability timeouts does not do: the timeout implicit must be a whole number of milliseconds from 0 to 9007199254740991, not 1.5",
		`{"capabilities": {"alwaysMatch": {"platformName": "a"}, "firstMatch": [{"platformName": "a"}]}}`:                                    "invalid argument: the capability platformName is both in alwaysMatch and in firstMatch",
		`{}`: `invalid argument: the request has no "capabilities" object`,
	} {
		got, err := Process(object(t, body), ext)
		if err != nil {
			assert.Equal(t, want, err.Error())
			continue
		}
		raw, _ := json.Marshal(got)
		assert.Equal(t, want, string(raw), body)
	}
	for text, want := range map[string]string{
		`{"platformName": "ANDROID", "acceptInsecureCerts": false, "proxy": {}}`: "", `{"platformName": "other"}`: "platformName", `{"browserName": "any"}`: "browserName", `{"browserName": "", "browserVersion": ""}`: "",
		`{"proxy": {"proxyType": "direct"}}`: "proxy", `{"other:thing": 1}`: "other:thing", `{"tessellant:build": "b"}`: "", `{"acceptInsecureCerts": true}`: "acceptInsecureCerts",
	} {
		why := Capabilities(object(t, text)).Unmatched("android")
		if want == "" {
			assert.Empty(t, why, text)
		} else {
			assert.True(t, strings.HasPrefix(why, want), why)
		}
	}
	for text, want := range map[string]string{
		`{"platformName": "web", "browserName": "chrome"}`: "", `{"browserName": "Chromium"}`: "", `{"browserName": ""}`: "", `{"browserName": "other"}`: `browserName "other": the browsers here are chrome`,
		`{"browserName": "chrome", "browserVersion": "120"}`: `browserVersion "120": say it with tessellant:where, such as os>=120`,
	} {
		assert.Equal(t, want, Capabilities(object(t, text)).Unmatched(devices.Web), text)
	}
}

// screen makes a screen of lines "id text", in a group.
func screen(lines ...string) *uitree.Screen {
	g := &uitree.Element{Kind: "group", Bounds: uitree.Rect{Right: 100, Bottom: 1000}}
	for i, l := range lines {
		id, text, _ := strings.Cut(l, " ")
		g.Children = append(g.Children, &uitree.Element{Kind: "text", ID: strings.TrimPrefix(id, "-"), Text: text, Bounds: uitree.Rect{Top: i * 10, Right: 100, Bottom: i*10 + 10}})
	}
	return &uitree.Screen{Elements: []*uitree.Element{g}}
}

func TestAnElementIsKnownAgain(t *testing.T) {
	for name, c := range map[string]struct {
		before []string
		which  int
		after  []string
		want   int // -1: stale
	}{
		"nothing has changed":                     {[]string{"title Shores", "row Gull"}, 1, []string{"title Shores", "row Gull"}, 1},
		"its text has changed, its id is its own": {[]string{"total 3"}, 0, []string{"total 4"}, 0},
		"it has moved":                            {[]string{"row Gull", "row Slip"}, 1, []string{"row Slip", "row Gull"}, 0},
		"the list was scrolled on by one row":     {[]string{"row Gull", "row Slip"}, 0, []string{"row Slip", "row Weir"}, -1},
		"the list was scrolled back by one row":   {[]string{"row Slip", "row Weir"}, 1, []string{"row Gull", "row Slip"}, -1},
		"it says now what another says, too":      {[]string{"- 0", "- 1", "- 2"}, 0, []string{"- 1", "- 1", "- 2"}, 0},
		"all of them say something else":          {[]string{"- 0", "- 1"}, 0, []string{"- 2", "- 3"}, 0},
		"it says nothing any more":                {[]string{"- 0", "- ", "- 2"}, 0, []string{"- ", "- 1", "- 2"}, 0},
		"it is gone":                              {[]string{"title Shores", "row Gull"}, 1, []string{"title Shores"}, -1},
		"without an id, its text has changed":     {[]string{"- 3", "- shells"}, 0, []string{"- 4", "- shells"}, 0},
		"without an id, it has moved":             {[]string{"- 3", "- shells"}, 1, []string{"- shells"}, 0},
		"without an id, it is gone":               {[]string{"- 3", "- shells"}, 1, []string{"- 3"}, -1},
	} {
		t.Run(name, func(t *testing.T) {
			before, after := screen(c.before...), screen(c.after...)
			at := Places(before)
			k := Remember(at, before.Elements[0].Children[c.which])
			got := k.Again(after, k.Others(at))
			if c.want < 0 {
				assert.Nil(t, got)
				return
			}
			assert.Same(t, after.Elements[0].Children[c.want], got)
		})
	}
}

func TestActionsBecomeStrokesAndKeys(t *testing.T) {
	area := uitree.Rect{Right: 400, Bottom: 800}
	perform := func(in *Input, body string) string {
		acts, took, err := in.Perform(object(t, body), area, func(string) (uitree.Rect, *Error) {
			return uitree.Rect{Left: 100, Top: 100, Right: 200, Bottom: 140}, nil
		})
		if err != nil {
			return err.Error()
		}
		var out []string
		for _, a := range acts {
			s := fmt.Sprintf("@%d", a.At.Milliseconds())
			if a.Key != "" {
				s += " key " + a.Key
			}
			for _, st := range a.Strokes {
				s += " finger"
				for _, x := range st {
					s += fmt.Sprintf(" %d,%d@%d", x.X, x.Y, x.At.Milliseconds())
				}
			}
			out = append(out, s)
		}
		return strings.Join(out, "; ") + fmt.Sprintf(" in %d", took.Milliseconds())
	}
	finger := func(id, items string) string {
		return `{"type": "pointer", "id": "` + id + `", "parameters": {"pointerType": "touch"}, "actions": [` + items + `]}`
	}
	const down, up = `{"type": "pointerDown", "button": 0}`, `{"type": "pointerUp", "button": 0}`
	for name, c := range map[string]struct{ body, want string }{
		"a tap on an element": {`{"actions": [` + finger("a", `{"type": "pointerMove", "x": 5, "y": -5, "origin": {"element-6066-11e4-a52e-4f735466cecf": "e"}}, `+down+`, {"type": "pause", "duration": 50}, `+up) + `]}`,
			"@0 finger 155,115@0 155,115@50 in 50"},
		"a drag after a rest": {`{"actions": [` + finger("a", `{"type": "pointerMove", "x": 10, "y": 10}, `+down+`, {"type": "pause", "duration": 500}, {"type": "pointerMove", "x": 100, "y": 0, "origin": "pointer", "duration": 200}, `+up) + `]}`,
			"@0 finger 10,10@0 10,10@500 110,10@700 110,10@700 in 700"},
		"two fingers at once": {`{"actions": [` + finger("a", `{"type": "pointerMove", "x": 1, "y": 1}, `+down+`, {"type": "pause", "duration": 100}, `+up) + `, ` + finger("b", `{"type": "pointerMove", "x": 2, "y": 2}, `+down+`, {"type": "pointerMove", "x": 9, "y": 9}, `+up) + `]}`,
			"@0 finger 1,1@0 1,1@100 finger 2,2@0 9,9@100 9,9@100 in 100"},
		"one after the other, with a key between": {`{"actions": [` + finger("a", `{"type": "pointerMove", "x": 1, "y": 1}, `+down+`, `+up+`, {"type": "pause", "duration": 10}, `+down+`, `+up) + `, {"type": "key", "id": "k", "actions": [{"type": "pause"}, {"type": "pause"}, {"type": "pause"}, {"type": "keyDown", "value": "x"}]}]}`,
			"@0 key x; @0 finger 1,1@0 1,1@0; @10 finger 1,1@10 1,1@10 in 10"},
		"off the screen": {`{"actions": [` + finger("a", `{"type": "pointerMove", "x": 400, "y": 1}`) + `]}`, "move target out of bounds: 400,1 does not lie on the screen, which is 400 wide and 800 high"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, perform(&Input{}, c.body)) })
	}
	in := &Input{}
	assert.Equal(t, " in 30", perform(in, `{"actions": [`+finger("a", `{"type": "pointerMove", "x": 1, "y": 1}, `+down+`, {"type": "pause", "duration": 30}`)+`]}`))
	assert.Equal(t, "@-30 finger 1,1@-30 1,1@0 in 0", perform(in, `{"actions": [`+finger("a", up)+`]}`), "it stayed down between two calls")
	perform(in, `{"actions": [`+finger("a", down)+`]}`)
	assert.Len(t, in.Release(), 1)
	assert.Empty(t, in.Release())
}

func TestTimeoutsAreSetWholeOrNotAtAll(t *testing.T) {
	x := DefaultTimeouts()
	require.NotNil(t, x.Set(object(t, `{"implicit": 5, "script": "soon"}`)))
	assert.Zero(t, x.Implicit)
	require.Nil(t, x.Set(object(t, `{"implicit": 5, "script": null, "other": 1}`)))
	assert.Equal(t, 5*time.Millisecond, x.Implicit)
	assert.Nil(t, x.JSON()["script"])
}

func TestABodyThatIsExcessiveIsNotMadeInto(t *testing.T) {
	for says, body := range map[string]string{
		"nested more than 64 deep": `{"a":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + `}`,
		"more than 100000 values":  `{"a":[` + strings.Repeat("[],", 100_001) + `1]}`,
	} {
		_, err := Object([]byte(body))
		require.NotNil(t, err)
		assert.Contains(t, err.Message, says)
	}
	_, err := Object([]byte(`{"a": "` + strings.Repeat(`[\"{,`, 200_000) + `"}`))
	assert.Nil(t, err, "what stands in a text does not count")
	_, err = Process(map[string]any{"capabilities": map[string]any{"firstMatch": make([]any, 101)}}, nil)
	require.NotNil(t, err)
	assert.Contains(t, err.Message, "100 is the most")
}

func TestWhatTheStandardSaysOfProxiesTimeoutsAndPointers(t *testing.T) {
	for _, bad := range []string{`{"proxyType": "nope"}`, `{"proxyType": "SYSTEM"}`, `{"proxyType": 1}`, `{"httpProxy": 1}`, `{"socksVersion": 256}`, `{"socksVersion": 1.5}`, `{"noProxy": "x"}`, `{"noProxy": [1]}`, `[]`, `"direct"`} {
		var v any
		require.NoError(t, json.Unmarshal([]byte(bad), &v))
		_, err := Process(map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"proxy": v}}}, nil)
		require.NotNil(t, err, bad)
		assert.Equal(t, InvalidArgument, err.Code, bad)
	}
	_, err := Process(map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"proxy": map[string]any{"proxyType": "manual", "httpProxy": "a:1", "noProxy": []any{"b"}, "socksVersion": 5.0}}}}, nil)
	assert.Nil(t, err)

	to := DefaultTimeouts()
	require.Nil(t, to.Set(map[string]any{"pageLoad": float64(maxSafe), "script": float64(maxSafe)}))
	assert.Equal(t, int64(maxSafe), to.JSON()["pageLoad"])
	assert.Equal(t, int64(maxSafe), to.JSON()["script"])
	require.Nil(t, to.Set(map[string]any{"script": nil, "implicit": 5.0}))
	assert.Nil(t, to.JSON()["script"])
	assert.Equal(t, int64(5), to.JSON()["implicit"])

	for _, p := range []any{"x", 5.0, true, nil} {
		_, _, err := (&Input{}).Perform(map[string]any{"actions": []any{map[string]any{"type": "pointer", "id": "a", "parameters": p, "actions": []any{}}}}, uitree.Rect{Right: 9, Bottom: 9}, nil)
		require.NotNil(t, err, "%v", p)
		assert.Equal(t, InvalidArgument, err.Code)
	}
}

func FuzzRequests(f *testing.F) {
	for _, s := range []string{`{"capabilities": {"firstMatch": [{}]}}`, `{"actions": [{"type": "pointer", "id": "a", "actions": [{"type": "pointerMove", "x": 1, "y": 2, "duration": 3}, {"type": "pointerDown", "button": 0}]}]}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		v, err := Object(body)
		if err != nil {
			return
		}
		_, _ = Process(v, func(string, any) error { return nil })
		_, took, err := (&Input{}).Perform(v, uitree.Rect{Right: 100, Bottom: 100}, func(string) (uitree.Rect, *Error) { return uitree.Rect{}, nil })
		if err == nil && took > maxTook {
			t.Fatalf("it takes %s", took)
		}
	})
}

func TestWhatLooksAndWhatActs(t *testing.T) {
	known := map[string]Effect{}
	for _, c := range append(append([]Command(nil), Commands...), Extensions...) {
		known[c.Name] = c.Effect()
	}
	for name := range effects {
		assert.Contains(t, known, name, "a command that there is")
	}
	for name, want := range map[string]Effect{"Find Element": Looks, "Get Page Source": Looks, "Take Screenshot": Looks, "Is Element Enabled": Looks, "Element Click": Acts, "Perform Actions": Acts, "Launch App": Acts, "Set Orientation": Acts, "Back": Acts, "Step": Marks, "Get Device Log": Looks} {
		assert.Equal(t, want, known[name], name)
	}
}

func TestACommandIsRefusedForWhatItsContextLacks(t *testing.T) {
	page := Context{Has: Elements | Hands | Picture | Page, Without: map[Need]string{Phone: "a page reaches no phone"}}
	does := func(name string, in Context) Does {
		for _, c := range slices.Concat(Commands, Extensions) {
			if c.Name == name {
				return c.Does(in)
			}
		}
		t.Fatal(name)
		return 0
	}
	assert.Equal(t, []Does{Senseless, Works}, []Does{does("Execute Script", Native), does("Execute Script", page)})
	assert.Equal(t, []Does{Works, Senseless}, []Does{does("Install App", Native), does("Install App", page)})
	assert.Equal(t, []Does{Senseless, Senseless}, []Does{does("New Window", Native), does("New Window", page)})
	assert.Equal(t, []Does{Differs, Differs}, []Does{does("Element Click", Native), does("Element Click", page)})
	c := Command{Name: "X", Needs: Phone | Dialogs}
	assert.Equal(t, "X has no meaning here: a page reaches no phone", c.Refusal(page).Message)
	assert.Equal(t, Need(0), page.Lacks(Elements|Page))
	assert.Nil(t, Command{Needs: 0}.Refusal(Context{}))
}
