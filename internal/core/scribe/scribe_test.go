package scribe

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
)

func did(name string, pairs ...string) timeline.Event {
	e := timeline.Event{Kind: timeline.Command, Name: name, Args: map[string]string{}}
	for i := 0; i+1 < len(pairs); i += 2 {
		e.Args[pairs[i]] = pairs[i+1]
	}
	return e
}

func TestWhatWasDoneBecomesLines(t *testing.T) {
	ready := timeline.Event{Kind: timeline.Stage, Name: "running"}
	failed := did("tap", "element", "#nix")
	failed.Error = "no"
	ofScript := did("tap", "element", "#by-a-script")
	ofScript.Line = "lines.star:2"
	for name, c := range map[string]struct {
		events []timeline.Event
		want   string
	}{
		"nothing":                  {nil, ""},
		"what made it ready":       {[]timeline.Event{did("launch", "app", "a"), did("tap", "element", "#x")}, ""},
		"taps":                     {[]timeline.Event{ready, did("tap", "element", `text[text="it's"]`), did("long press", "element", "#row"), failed, ofScript}, `phone.tap('text[text="it\'s"]')` + "\nphone.long_press('#row')"},
		"what could not be read":   {[]timeline.Event{ready, did("tap", "x", "3", "y", "4"), did("fingers", "fingers", "2")}, "# a tap at 3,4: what is there could not be read\n# 2 fingers at once: no word of the script language does that"},
		"a text, letter by letter": {[]timeline.Event{ready, did("tap", "element", "#search"), did("type", "element", "#search", "text", "Te"), did("type", "element", "#search", "text", "rn")}, "phone.type('#search', 'Tern')"},
		"a text in two fields":     {[]timeline.Event{ready, did("type", "element", "#a", "text", "x"), did("type", "element", "#b", "text", "y")}, "phone.type('#a', 'x')\nphone.type('#b', 'y')"},
		"what was typed and deleted": {[]timeline.Event{ready, did("type", "element", "#a", "text", "Tü"), did("press", "key", "delete"), did("type", "element", "#a", "text", "o"), did("press", "key", "delete", "times", "3")},
			"phone.tap('#a')\nphone.press('delete')"},
		"a secret":       {[]timeline.Event{ready, did("type", "element", "#code", "text", "•"), did("type", "element", "#code", "text", "••")}, "# a secret was typed into #code: declare an input, and type inputs[NAME]"},
		"keys":           {[]timeline.Event{ready, did("press", "key", "back", "times", "2"), did("press key", "key", "enter")}, "phone.back()\nphone.back()\nphone.press('enter')"},
		"swipes":         {[]timeline.Event{ready, did("swipe", "from", "10,900", "to", "30,100"), did("swipe", "from", "10,9", "to", "300,10"), did("swipe", "from", "odd", "to", "")}, "phone.swipe('up')\nphone.swipe('right')"},
		"settings":       {[]timeline.Event{ready, did("set orientation", "to", "landscape"), did("set conditions", "font-scale", "1.3", "dark", "on"), did("set network", "to", "edge")}, "phone.rotate('landscape')\nphone.conditions('dark:on,font-scale:1.3')\nphone.network('edge')"},
		"the app":        {[]timeline.Event{ready, did("launch app", "app", "a"), did("stop app", "app", "a"), did("stop app", "app", "another")}, "phone.launch()\nphone.stop()"},
		"a named moment": {[]timeline.Event{ready, {Kind: timeline.Step, Name: "the tides"}}, "phone.step('the tides')"},
	} {
		var got []string
		for _, l := range Lines(c.events, "a") {
			got = append(got, l.Text)
		}
		assert.Equal(t, c.want, strings.Join(got, "\n"), name)
		if name == "nothing" {
			continue
		}
		_, err := testpkg.Read(fstest.MapFS{testpkg.Entry: {Data: []byte("name: recorded\nkind: script\n")}, "recorded.star": {Data: []byte(Source(got))}})
		require.NoError(t, err, "%s: %s", name, Source(got))
	}
	assert.Equal(t, "def test_recorded(phone):\n    phone.launch()\n    phone.back()\n", Source([]string{"phone.launch()", "phone.back()"}))
}

func FuzzAnyTextIsALineOfTheLanguage(f *testing.F) {
	f.Add("#search", "it's \\ a\nline\t•", "10,10", "delete")
	f.Fuzz(func(t *testing.T, element, text, place, key string) {
		var lines []string
		for _, l := range Lines([]timeline.Event{{Kind: timeline.Stage, Name: "running"}, did("tap", "element", element, "x", place), did("type", "element", element, "text", text), did("swipe", "from", place, "to", place), did("press", "key", key, "times", "2")}, "") {
			lines = append(lines, l.Text)
		}
		p, err := testpkg.Read(fstest.MapFS{testpkg.Entry: {Data: []byte("name: recorded\nkind: script\n")}, "recorded.star": {Data: []byte(Source(lines))}})
		if err != nil || len(p.Cases) != 1 {
			t.Fatalf("%v in %q", err, Source(lines))
		}
	})
}
