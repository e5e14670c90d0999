package uitree

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const dump = `<?xml version='1.0' encoding='UTF-8' standalone='yes' ?><hierarchy rotation="1">
<node index="0" text="" resource-id="" class="android.widget.FrameLayout" package="org.kelpline.app" content-desc="" checkable="false" checked="false" clickable="false" enabled="true" focusable="false" focused="false" scrollable="false" long-clickable="false" password="false" selected="false" bounds="[0,0][720,1600]">
<node index="0" text="Gull Ledge" resource-id="org.kelpline.app:id/title" class="android.widget.TextView" package="org.kelpline.app" content-desc="" enabled="true" bounds="[0,48][720,160]"/>
<node index="1" text="2.5" resource-id="org.kelpline.app:id/cover_wrack" class="android.widget.EditText" content-desc="Bladder wrack" enabled="true" focused="true" bounds="[32,200][688,280]"/>
<node index="2" text="Send&#0;&amp;&#x1f;go" resource-id="org.kelpline.app:id/send" class="android.widget.Button" content-desc="" enabled="false" clickable="true" bounds="[32,1400][688,1500]"/>
<node index="3" text="" class="androidx.recyclerview.widget.RecyclerView" scrollable="true" enabled="true" bounds="[0,300][720,900]"/>
</node></hierarchy>UI hierchary dumped to: /dev/tty`

func TestParseAndroidAndFind(t *testing.T) {
	s, err := ParseAndroid([]byte("WARNING: linker\n" + dump))
	require.NoError(t, err)
	assert.Equal(t, 1, s.Rotation)
	assert.Len(t, s.All(), 5)
	for locator, id := range map[string]string{
		"#title":                        "title",
		`field[label="Bladder wrack"]`:  "cover_wrack",
		"button[enabled=false]":         "send",
		`//text[@text="Gull Ledge"]`:    "title",
		`//button[contains(@text,"&")]`: "send",
		"(//field)[1]":                  "cover_wrack",
		"text + field":                  "cover_wrack",
		"field[focused]":                "cover_wrack",
	} {
		es, err := s.Find(locator)
		require.NoError(t, err, locator)
		require.Len(t, es, 1, locator)
		assert.Equal(t, id, es[0].ID, locator)
	}
	send, _ := s.Find("#send")
	assert.Equal(t, "Send&go", send[0].Text, "characters that XML forbids are dropped")
	x, y := send[0].Bounds.Center()
	assert.Equal(t, [2]int{360, 1450}, [2]int{x, y})
	field, _ := s.Find("field")
	assert.Equal(t, "2.5", field[0].Value)
	list, err := s.Find("list[scrollable]")
	require.NoError(t, err)
	assert.Len(t, list, 1)
	none, err := s.Find("#nowhere")
	require.NoError(t, err)
	assert.Empty(t, none)
	out := s.XML()
	assert.Contains(t, out, `<text id="title" text="Gull Ledge" bounds="0,48,720,160"`)
}

func TestBadLocatorsSayWhy(t *testing.T) {
	s, err := ParseAndroid([]byte(dump))
	require.NoError(t, err)
	for _, l := range []string{"", "button[", "//text[", "text[a=b c]", strings.Repeat("a", 5000)} {
		_, err := s.Find(l)
		var bad *BadLocator
		assert.True(t, errors.As(err, &bad), l)
	}
}

func TestParseAndroidRefuses(t *testing.T) {
	for in, why := range map[string]string{
		"ERROR: could not get idle state.": "there is no tree",
		"":                                 "there is no tree",
		"<hierarchy rotation='0'><node></hierarchy>":                   "not XML",
		"<hierarchy>" + strings.Repeat("<node>", 600) + "</hierarchy>": "deep",
	} {
		_, err := ParseAndroid([]byte(in))
		assert.ErrorContains(t, err, why)
	}
}

func FuzzParseAndroid(f *testing.F) {
	f.Add([]byte(dump))
	f.Add([]byte("<hierarchy><node text='&#5;'/></hierarchy>"))
	f.Fuzz(func(t *testing.T, in []byte) {
		s, err := ParseAndroid(in)
		if err != nil {
			return
		}
		for _, e := range s.All() {
			if e.Kind == "" {
				t.Fatal("an element without a kind")
			}
		}
		if _, err := s.Find("//*"); err != nil {
			t.Fatal(err)
		}
	})
}
