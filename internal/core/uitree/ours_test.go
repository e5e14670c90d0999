package uitree

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOurOwnTreeReadsBackAsItWas(t *testing.T) {
	s, err := ParseAndroid([]byte(dump))
	require.NoError(t, err)
	require.True(t, IsOurs(s.XML()))
	again, err := ParseOurs([]byte(s.XML()))
	require.NoError(t, err)
	assert.Equal(t, s.XML(), again.XML())
	assert.Equal(t, s.All()[2].Bounds, again.All()[2].Bounds)
	empty, err := ParseOurs([]byte((&Screen{}).XML()))
	require.NoError(t, err)
	assert.Empty(t, empty.All())
	for source, ours := range map[string]bool{"<screen><text/></screen>": true, " <screen/>": true, "<screening/>": false, "<hierarchy/>": false, "": false, "<screen": false} {
		assert.Equal(t, ours, IsOurs(source), source)
	}
	_, err = ParseOurs([]byte("<screen><text></screen>"))
	assert.ErrorContains(t, err, "not XML")
	s, err = ParseOurs([]byte(`<screen><wobble id="a" bounds="x"/></screen>`))
	require.NoError(t, err)
	assert.Equal(t, "group", s.All()[0].Kind, "a word that we do not have")
}

const document = `{"scale": 2, "host": "tides.example", "top": {"t": "html", "b": [0, 0, 320, 568], "f": "o", "c": [{"t": "body", "b": [0, 0, 320, 900], "c": [
	{"t": "h1", "b": [16, 20, 304, 55], "i": "title", "x": "Tides"},
	{"t": "div", "b": [0, 60, 320, 300], "c": [{"t": "a", "b": [16, 70, 100, 90], "x": "All shores", "f": "k"}]},
	{"t": "input", "y": "checkbox", "b": [16, 100, 29, 113], "i": "feet", "l": "Heights in feet", "v": "on", "f": "ck"},
	{"t": "input", "y": "password", "b": [16, 120, 300, 140], "i": "code", "f": "pkf"},
	{"t": "input", "b": [16, 150, 300, 170], "i": "name", "v": "Ada", "h": "Your name", "f": "k"},
	{"t": "div", "r": "switch", "b": [16, 180, 60, 200], "x": "Dark", "f": "k"},
	{"t": "ul", "b": [0, 210, 320, 400], "i": "list", "f": "o", "c": [{"t": "li", "b": [0, 210, 320, 230], "x": "a\u0000b"}]},
	{"t": "p", "b": [0, 0, 0, 0], "i": "hidden"}, {"t": "p", "b": [0, 500, 320, 520], "i": "invisible", "x": "x", "f": "h"},
	{"t": "progress", "b": [0, 530, 320, 540], "i": "p"}, {"t": "img", "b": [0, 540, 32, 560], "l": "A gull"}]}]}}`

func TestADocumentBecomesOurTree(t *testing.T) {
	s, err := ParseHTML([]byte(document))
	require.NoError(t, err)
	for locator, want := range map[string]string{"#title": "text", "button[text='All shores']": "button", "#feet": "checkbox", "#code": "field", "#name": "field", "switch": "switch", "#list": "list", "#list text": "text", "#p": "progress", "image[label='A gull']": "image"} {
		es, err := s.Find(locator)
		require.NoError(t, err, locator)
		if assert.Len(t, es, 1, locator) {
			assert.Equal(t, want, es[0].Kind, locator)
			assert.Equal(t, "tides.example", es[0].App)
		}
	}
	one := func(locator string) *Element {
		es, err := s.Find(locator)
		require.NoError(t, err)
		require.Len(t, es, 1)
		return es[0]
	}
	assert.Equal(t, Rect{32, 40, 608, 110}, one("#title").Bounds, "in pixels")
	assert.True(t, one("#feet").Checked)
	assert.Equal(t, []any{"Ada", "Your name", true}, []any{one("#name").Value, one("#name").Hint, one("#name").Clickable})
	assert.Equal(t, []any{"", true, true}, []any{one("#code").Value, one("#code").Password, one("#code").Focused})
	assert.Equal(t, "ab", one("#list text").Text, "characters that XML forbids are dropped")
	assert.True(t, one("#list").Scrollable)
	for _, gone := range []string{"#hidden", "#invisible"} {
		es, err := s.Find(gone)
		require.NoError(t, err)
		assert.Empty(t, es, gone)
	}
	for raw, says := range map[string]string{"": "not JSON", "[]": "not JSON", "{}": "no document", `{"top": null}`: "no document"} {
		_, err := ParseHTML([]byte(raw))
		assert.ErrorContains(t, err, says)
	}
}

func FuzzHTML(f *testing.F) {
	f.Add(document)
	f.Add(`{"scale": 1e300, "top": {"b": [1e308, -1e308, 1e9, 1e9], "c": [null, {"c": [{}]}]}}`)
	f.Fuzz(func(t *testing.T, raw string) {
		s, err := ParseHTML([]byte(raw))
		if err != nil {
			return
		}
		again, err := ParseOurs([]byte(s.XML()))
		if err != nil {
			t.Fatalf("what was read can't be read back: %v", err)
		}
		if len(again.All()) != len(s.All()) {
			t.Fatalf("%d elements became %d", len(s.All()), len(again.All()))
		}
	})
}

func FuzzOurs(f *testing.F) {
	f.Add(`<screen><text id="a" bounds="1,2,3,4"><button/></text></screen>`)
	f.Fuzz(func(t *testing.T, raw string) {
		if s, err := ParseOurs([]byte(raw)); err == nil {
			_ = s.XML()
		}
	})
}
