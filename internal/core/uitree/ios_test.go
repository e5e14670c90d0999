package uitree_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/uitree"
)

const larch = `<?xml version="1.0" encoding="UTF-8"?>
<XCUIElementTypeApplication bundleIdentifier="org.kelpline.app" label="Kelpline" frame="{{0, 0}, {390, 844}}">
  <XCUIElementTypeNavigationBar identifier="bar" frame="{{0, 47}, {390, 44}}">
    <XCUIElementTypeStaticText identifier="title" label="Shores" frame="{{150, 58}, {90, 22}}"/>
  </XCUIElementTypeNavigationBar>
  <XCUIElementTypeTextField identifier="search" value="Search shores" placeholderValue="Search shores" hasFocus="true" frame="{{16, 100}, {358, 40}}"/>
  <XCUIElementTypeSecureTextField identifier="code" value="••••" placeholderValue="Observer code" frame="{{16, 150}, {358, 40}}"/>
  <XCUIElementTypeSwitch identifier="feet" label="Heights in feet" value="1" frame="{{16, 200}, {358, 48}}"/>
  <XCUIElementTypeTable frame="{{0, 260}, {390, 584}}">
    <XCUIElementTypeCell identifier="shore_gull-ledge" frame="{{16, 270}, {358, 60}}">
      <XCUIElementTypeStaticText identifier="shore_gull-ledge_name" label="Gull Ledge" frame="{{16, 270}, {358, 30}}"/>
    </XCUIElementTypeCell>
    <XCUIElementTypeCell identifier="far" frame="{{16, 1200}, {358, 60}}"/>
    <XCUIElementTypeCell identifier="half" frame="{{16, 800}, {358, 88}}"/>
    <XCUIElementTypeButton identifier="hidden" label="Hidden" visible="false" frame="{{16, 300}, {358, 60}}"/>
  </XCUIElementTypeTable>
  <XCUIElementTypeButton name="Send" label="Send" isEnabled="false" x="16" y="700" width="358" height="48"/>
</XCUIElementTypeApplication>`

func TestASourceOfIOSBecomesOurTree(t *testing.T) {
	s, err := uitree.ParseIOS([]byte(larch), 3)
	require.NoError(t, err)
	one := func(locator string) *uitree.Element {
		t.Helper()
		es, err := s.Find(locator)
		require.NoError(t, err)
		require.Len(t, es, 1, "%s in\n%s", locator, s.XML())
		return es[0]
	}
	title := one("text[id=title]")
	assert.Equal(t, "Shores", title.Text)
	assert.Equal(t, "org.kelpline.app", title.App)
	assert.Equal(t, uitree.Rect{Left: 450, Top: 174, Right: 720, Bottom: 240}, title.Bounds, "points become pixels")
	search := one("field#search")
	assert.Empty(t, search.Text, "an empty field says its hint")
	assert.Equal(t, "Search shores", search.Hint)
	assert.True(t, search.Focused)
	assert.True(t, one("#code").Password)
	assert.True(t, one("switch#feet[checked]").Checked)
	assert.Equal(t, "Heights in feet", one("switch#feet").Text)
	assert.Equal(t, "Gull Ledge", one("group#shore_gull-ledge text").Text)
	assert.True(t, one("#shore_gull-ledge").Clickable)
	assert.Equal(t, 844*3, one("#half").Bounds.Bottom, "what hangs over the screen's end is cut there")
	send := one("button[text=Send]")
	assert.False(t, send.Enabled)
	assert.Empty(t, send.ID, "a name that is the label is no id")
	for _, gone := range []string{"#far", "#hidden"} {
		es, err := s.Find(gone)
		require.NoError(t, err)
		assert.Empty(t, es, "%s can't be seen", gone)
	}
	assert.Zero(t, s.Rotation)
}

func TestASourceOfIOSThatIsNoneIsSaidSo(t *testing.T) {
	for name, raw := range map[string]string{
		"half":     larch[:len(larch)/2],
		"too deep": strings.Repeat("<Other>", 600),
		"too many": "<Application>" + strings.Repeat("<Other/>", 60_000) + "</Application>",
		"html":     "<html><body><p>503 Service unavailable</p></body></html>",
	} {
		_, err := uitree.ParseIOS([]byte(raw), 3)
		assert.Error(t, err, name)
	}
}

func FuzzIOS(f *testing.F) {
	f.Add([]byte(larch), 3.0)
	f.Add([]byte(`<Button x="1e300" y="NaN" width="-4" height="9" frame="{{1,2},{3,4}}"/>`), 1.0)
	f.Fuzz(func(t *testing.T, raw []byte, scale float64) {
		s, err := uitree.ParseIOS(raw, scale)
		if err != nil {
			return
		}
		for _, e := range s.All() {
			if e.Kind == "" {
				t.Fatal("an element without a kind")
			}
		}
		_ = s.XML()
	})
}
