package w3c

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/uitree"
)

// review is a screen with a group of two texts, a field, a switch and a button.
func review() *uitree.Screen {
	e := func(kind, id string) *uitree.Element {
		return &uitree.Element{Kind: kind, ID: id, Class: "android.widget." + kind, Enabled: true, Bounds: uitree.Rect{Right: 100, Bottom: 40}}
	}
	total := e("group", "total")
	label, sum := e("text", ""), e("text", "sum")
	label.Text, sum.Text = "Total cover", " 6.5 % "
	total.Children = []*uitree.Element{label, sum}
	note := e("field", "note")
	note.Hint, note.Value, note.Focused, note.Clickable = "Anything else", "kelp", true, true
	dark := e("switch", "dark")
	dark.Label, dark.Checked, dark.Enabled = "Dark", true, false
	send := e("button", "send")
	send.Text, send.Label, send.Selected, send.Scrollable, send.Password = "Send", "Send the survey", true, true, true
	return &uitree.Screen{Elements: []*uitree.Element{total, note, dark, send}}
}

func TestEachStrategyHasAMeaning(t *testing.T) {
	s := review()
	for using, of := range map[string]map[string]string{
		"css selector":      {"#send": "send", `field[value="kelp"]`: "note", "switch:not([enabled=true])": "dark", "group > text": " sum", "#none": "", "[": "!", "": "!"},
		"xpath":             {"//button": "send", "//text[@id='sum']": "sum", "//text[contains(@text, 'Total')]": "", "//nothing": "!none", "//[": "!"},
		"tag name":          {"field": "note", "text": " sum", "slider": "!none", "": "!"},
		"link text":         {"Send": "send", "6.5 %": "sum", "kelp": "note", "Sen": "!none", "Dark": "dark"},
		"partial link text": {"en": "send", "6.5": "sum", "Total": "", "nothing": "!none"},
		"name":              {"send": "!"},
	} {
		for value, want := range of {
			es, err := Locate(s, nil, using, value)
			switch {
			case want == "!":
				require.NotNil(t, err, "%s %q", using, value)
				assert.Equal(t, map[bool]Code{true: InvalidArgument, false: InvalidSelector}[using == "name"], err.Code, "%s %q", using, value)
				continue
			case want == "!none" || value == "#none":
				require.Nil(t, err, "%s %q", using, value)
				assert.Empty(t, es, "%s %q", using, value)
				continue
			}
			require.Nil(t, err, "%s %q", using, value)
			var ids []string
			for _, e := range es {
				ids = append(ids, e.ID)
			}
			assert.Equal(t, want, strings.Join(ids, " "), "%s %q", using, value)
		}
	}
	// What there is instead is said, so that it can be pasted.
	for using, of := range map[string]string{"id": "send", "name": "Send the survey", "class name": "android.widget.button"} {
		_, err := Locate(s, nil, using, of)
		require.NotNil(t, err)
		css := regexp.MustCompile(`css selector (.+) does the same`).FindStringSubmatch(err.Message)
		require.NotNil(t, css, err.Message)
		es, err := Locate(s, nil, "css selector", css[1])
		require.Nil(t, err)
		require.Len(t, es, 1)
		assert.Equal(t, "send", es[0].ID)
	}
	_, err := Locate(s, nil, "id", `a"b\`)
	_, bad := Locate(s, nil, "css selector", regexp.MustCompile(`\[.+\]`).FindString(err.Message))
	assert.Nil(t, bad, "a text with quotes is one still: %s", err.Message)
	_, err = Locate(s, nil, "touch of luck", "send")
	assert.Contains(t, err.Message, "there are css selector, link text, partial link text, tag name, xpath")
	// From an element, only what lies in it.
	es, err := Locate(s, s.Elements[0], "tag name", "text")
	require.Nil(t, err)
	assert.Len(t, es, 2)
	es, err = Locate(s, s.Elements[1], "css selector", "text")
	require.Nil(t, err)
	assert.Empty(t, es)
}

func TestAnElementSaysWhatItIs(t *testing.T) {
	s := review()
	total, note, dark, send := s.Elements[0], s.Elements[1], s.Elements[2], s.Elements[3]
	for e, want := range map[*uitree.Element][4]any{
		total: {"Total cover\n 6.5 % ", "group", "Total cover\n 6.5 % ", false},
		note:  {"kelp", "textbox", "Anything else", false},
		dark:  {"Dark", "switch", "Dark", true},
		send:  {"Send", "button", "Send the survey", true},
		{Kind: "slider", Children: []*uitree.Element{{Kind: "text", Text: "low"}, {Kind: "text"}}}: {"low", "none", "low", false},
	} {
		assert.Equal(t, want, [4]any{Text(e, true), Role(e), Label(e), Selected(e)}, e.Kind)
	}
	assert.Empty(t, Text(total, false), "a group has no text of its own")
	for name, want := range map[string]any{"enabled": true, "disabled": false, "checked": false, "selected": true, "focused": false, "scrollable": true, "clickable": false, "password": true,
		"text": "Send", "class": "android.widget.button", "colour": nil} {
		assert.Equal(t, want, Property(send, name), name)
	}
	assert.Equal(t, []any{true, false, "kelp"}, []any{Property(note, "focused"), Property(dark, "enabled"), Property(note, "value")})
	assert.Equal(t, []any{"true", nil, nil, "kelp"}, []any{Attribute(dark, "checked"), Attribute(dark, "enabled"), Attribute(note, "colour"), Attribute(note, "value")}, "what is false is not there")
}

func TestCapabilitiesOfTheStandardAreOfTheirKinds(t *testing.T) {
	for name, values := range map[string]map[string]bool{
		"acceptInsecureCerts":     {`true`: true, `"yes"`: false},
		"browserName":             {`""`: true, `7`: false},
		"proxy":                   {`{}`: true, `[]`: false},
		"pageLoadStrategy":        {`"eager"`: true, `"late"`: false, `1`: false},
		"timeouts":                {`{"implicit": 10}`: true, `{"implicit": -1}`: false, `7`: false},
		"unhandledPromptBehavior": {`"ignore"`: true, `"shout"`: false, `{"default": "accept"}`: true, `{"default": "shout"}`: false},
		"webSocketUrl":            {`false`: true, `"ws://x"`: false},
	} {
		for value, good := range values {
			sets, err := Process(object(t, `{"capabilities": {"firstMatch": [{"`+name+`": `+value+`}]}}`), nil)
			if good {
				require.Nil(t, err, "%s %s", name, value)
				assert.Len(t, sets, 1)
				continue
			}
			require.NotNil(t, err, "%s %s", name, value)
			assert.Equal(t, InvalidArgument, err.Code)
			assert.Contains(t, err.Message, "the capability "+name+" ")
		}
	}
	for body, said := range map[string]string{
		`{"capabilities": {"firstMatch": []}}`: "firstMatch", `{"capabilities": {"firstMatch": {}}}`: "firstMatch", `{"capabilities": {"firstMatch": [7]}}`: "firstMatch",
		`{"capabilities": {"alwaysMatch": []}}`: "alwaysMatch", `{"capabilities": []}`: "capabilities",
	} {
		_, err := Process(object(t, body), nil)
		require.NotNil(t, err, body)
		assert.Equal(t, InvalidArgument, err.Code)
		assert.Contains(t, err.Message, said)
	}
	// What is asked for and can be had is answered; the rest has the standard's defaults.
	c := Capabilities(object(t, `{"pageLoadStrategy": "none", "unhandledPromptBehavior": "ignore", "timeouts": {"implicit": 7}}`))
	timeouts, err := c.Timeouts()
	require.Nil(t, err)
	out := c.Answer("android", timeouts, map[string]any{"tessellant:session": "s"})
	assert.Equal(t, []any{"none", "ignore", "android", false, "", "s"}, []any{out["pageLoadStrategy"], out["unhandledPromptBehavior"], out["platformName"], out["setWindowRect"], out["browserName"], out["tessellant:session"]})
	assert.EqualValues(t, 7, out["timeouts"].(map[string]any)["implicit"])
	assert.EqualValues(t, 300_000, out["timeouts"].(map[string]any)["pageLoad"])
}

func TestEveryErrorHasTheStatusOfTheStandard(t *testing.T) {
	by := map[int]string{400: "element click intercepted, invalid argument, invalid selector", 404: "invalid session id, no such element, stale element reference, unknown command",
		405: "unknown method", 500: "session not created, timeout, unsupported operation, move target out of bounds, unable to capture screen, unknown error, something of nobody's"}
	for status, codes := range by {
		for _, code := range strings.Split(codes, ", ") {
			assert.Equal(t, status, Fail(Code(code), "x").Status(), code)
		}
	}
	e := Fail(NoSuchElement, "nothing is %s", "#send")
	assert.Equal(t, map[string]any{"value": map[string]any{"error": "no such element", "message": "nothing is #send", "stacktrace": ""}}, e.Body())
	e.Data = map[string]any{"text": "an alert"}
	assert.Equal(t, e.Data, e.Body()["value"].(map[string]any)["data"])
	assert.EqualError(t, e, "no such element: nothing is #send")
}
