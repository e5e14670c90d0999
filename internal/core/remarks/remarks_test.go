package remarks

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/uitree"
)

// screen reads a tree of 360 × 640 dp at 160 dpi, whose app ends above the system's bar; nodes stand for its elements.
func screen(t *testing.T, scrolls bool, nodes ...string) *uitree.Screen {
	t.Helper()
	s, err := uitree.ParseAndroid([]byte(fmt.Sprintf(`<hierarchy rotation="0"><node class="android.widget.FrameLayout" package="org.kelpline.app" bounds="[0,0][360,640]">
<node class="android.view.ViewGroup" scrollable="%v" package="org.kelpline.app" bounds="[0,80][360,592]">%s</node></node></hierarchy>`, scrolls, strings.Join(nodes, "\n"))))
	require.NoError(t, err)
	return s
}

func node(class, id, text, bounds string, more ...string) string {
	click := class == "Button" || class == "ImageButton" || class == "EditText"
	return fmt.Sprintf(`<node class="android.widget.%s" resource-id="org.kelpline.app:id/%s" text="%s" package="org.kelpline.app" clickable="%v" enabled="true" bounds="%s" %s/>`, class, id, text, click, bounds, strings.Join(more, " "))
}

func kinds(rs []Remark) (out []string) {
	for _, r := range rs {
		out = append(out, string(r.Kind)+" "+r.Key)
	}
	return out
}

func TestWhatIsWrongWithAScreenIsFound(t *testing.T) {
	for name, c := range map[string]struct {
		scrolls bool
		nodes   []string
		want    []string
		says    string
	}{
		"all is well":                    {false, []string{node("Button", "send", "Send", "[16,500][344,548]"), node("TextView", "t", "Tides", "[16,100][344,120]")}, nil, ""},
		"a target that is too small":     {false, []string{node("Button", "x", "Close", "[16,100][48,132]")}, []string{"small-target #x"}, "the button “Close” is 32 × 32 dp; a finger needs 48 × 48"},
		"a dp that was rounded away":     {false, []string{node("Button", "x", "Close", "[16,100][64,147]")}, nil, ""},
		"a control at the edge":          {false, []string{node("Button", "send", "Send", "[16,580][344,592]")}, []string{"cut-off #send"}, "the button “Send” is cut off by the edge of the screen: 328 × 12 dp of it can be seen, and the screen does not scroll"},
		"one that can be scrolled to":    {true, []string{node("Button", "send", "Send", "[16,580][344,592]")}, nil, ""},
		"a text at the edge":             {false, []string{node("TextView", "total", "Total: 6.5 %", "[16,586][344,592]")}, []string{"text-cut #total"}, "the text “Total: 6.5 %” is cut by the edge of the screen: 6 dp of its height can be seen, and the screen does not scroll"},
		"a control without a name":       {false, []string{node("ImageButton", "pin", "", "[16,100][64,148]")}, []string{"no-label #pin"}, "the button #pin has no label: a screen reader can't name it"},
		"one with a label":               {false, []string{node("ImageButton", "pin", "", "[16,100][64,148]", `content-desc="Pin"`)}, nil, ""},
		"a field that says what it is":   {false, []string{node("EditText", "note", "", "[16,100][344,156]", `hint="Note"`)}, nil, ""},
		"a control under another":        {false, []string{node("Button", "a", "Review", "[16,500][344,548]"), node("Button", "b", "Help", "[100,490][340,560]")}, []string{"covered #a"}, "the button “Review” lies under the button “Help”: a tap on its middle goes there"},
		"two that touch":                 {false, []string{node("Button", "a", "Review", "[16,500][180,548]"), node("Button", "b", "Help", "[170,500][344,548]")}, nil, ""},
		"what is switched off":           {false, []string{strings.Replace(node("Button", "x", "Close", "[16,100][48,132]"), `enabled="true"`, `enabled="false"`, 1)}, nil, ""},
		"nothing of it is on the screen": {false, []string{node("Button", "x", "", "[0,0][0,0]")}, nil, ""},
	} {
		got := Find(Screen{Tree: screen(t, c.scrolls, c.nodes...), Scale: 1, App: "org.kelpline.app"})
		assert.Equal(t, c.want, kinds(got), name)
		if c.says != "" && len(got) > 0 {
			assert.Equal(t, c.says, got[0].Says, name)
		}
	}
	lower := screen(t, false, node("Button", "x", "Close", "[16,100][112,144]"))
	assert.Len(t, Find(Screen{Tree: lower, Scale: 1}), 1)
	assert.Empty(t, Find(Screen{Tree: lower, Scale: 1, IOS: true}), "on iOS a finger needs 44 points")
	assert.Empty(t, Find(Screen{Tree: screen(t, false, node("Button", "x", "Close", "[16,100][48,132]")), Scale: 1, App: "com.android.systemui"}), "what is not the app's is not looked at")
	assert.Empty(t, Find(Screen{}), "without a tree there is nothing to say")
}

// picture is a plate with bars in place of letters: each is from, in a colour.
func picture(ground color.RGBA, bars map[image.Rectangle]color.RGBA) *image.RGBA {
	m := image.NewRGBA(image.Rect(0, 0, 360, 640))
	draw.Draw(m, m.Bounds(), image.NewUniform(ground), image.Point{}, draw.Src)
	for r, c := range bars {
		draw.Draw(m, r, image.NewUniform(c), image.Point{}, draw.Src)
	}
	return m
}

// letters are bars from y0 to y1.
func letters(y0, y1 int, c color.RGBA) map[image.Rectangle]color.RGBA {
	out := map[image.Rectangle]color.RGBA{}
	for x := 20; x < 120; x += 6 {
		out[image.Rect(x, y0, x+3, y1)] = c
	}
	return out
}

func TestContrastIsThatOfWCAG(t *testing.T) {
	white := luminance([3]float64{255, 255, 255})
	assert.InDelta(t, 21, ratio(white, luminance([3]float64{})), 0.001)
	assert.InDelta(t, 4.54, ratio(luminance([3]float64{0x76, 0x76, 0x76}), white), 0.005, "#767676 on white is the faintest grey that passes")

	text := node("TextView", "t", "Low water", "[16,100][344,124]")
	of := func(grey uint8, y0, y1 int, nodes ...string) []string {
		s := Screen{Tree: screen(t, false, append(nodes, text)...), Scale: 1, Picture: picture(color.RGBA{255, 255, 255, 255}, letters(y0, y1, color.RGBA{grey, grey, grey, 255}))}
		return kinds(Find(s))
	}
	assert.Empty(t, of(0x40, 105, 117))
	assert.Empty(t, of(0x76, 105, 117))
	assert.Equal(t, []string{"low-contrast #t"}, of(0x7A, 105, 117))
	assert.Equal(t, []string{"low-contrast #t"}, of(0x98, 105, 117))
	assert.Empty(t, of(0x88, 103, 121), "large text needs 3:1")
	assert.Empty(t, of(0xFF, 105, 117), "nothing is drawn there")
	assert.Equal(t, []string{"text-cut #t"}, of(0x40, 110, 130), "letters that go on below the box")
}

func TestTheSameMomentElsewhereTells(t *testing.T) {
	whole := []string{node("TextView", "title", "Review", "[16,90][344,110]"), node("TextView", "total", "Total: 6.5 %", "[16,440][344,460]"), node("Button", "send", "Send", "[16,500][344,548]")}
	place := func(scrolls bool, nodes ...string) Place {
		return Place{Seen: See(Screen{Tree: screen(t, scrolls, nodes...), Scale: 1})}
	}
	rs := Across([]Place{place(false, whole...), place(false, whole[:2]...), place(false, whole...), place(true, whole[:2]...), {}, place(false, node("TextView", "sorry", "Kelpline has stopped", "[16,90][344,110]"))})
	assert.Equal(t, []string{"missing #send"}, kinds(rs[1]))
	assert.Contains(t, rs[1][0].Says, "the button “Send” is not on the screen, and the screen does not scroll; 2 of 2 others show it")
	for _, i := range []int{0, 2, 3, 4, 5} {
		assert.Empty(t, rs[i], "place %d: it is there, can be scrolled to, is not known, or is another page", i)
	}
	assert.Empty(t, Across([]Place{place(false, whole...), place(false, whole[:2]...)})[1], "one other device is no rule")
	assert.Empty(t, Across(nil))
}

func TestATextThatDoesNotGrowIsFoundByTheSameDevice(t *testing.T) {
	text := node("TextView", "t", "Low water", "[16,100][344,124]")
	place := func(device string, font float64, high int) Place {
		return Place{Device: device, Seen: See(Screen{Tree: screen(t, false, text), Scale: 1, Font: font, Picture: picture(color.RGBA{255, 255, 255, 255}, letters(102, 102+high, color.RGBA{A: 255}))})}
	}
	rs := Across([]Place{place("a", 1, 12), place("a", 1.3, 12), place("b", 1, 12), place("b", 1.3, 15), place("c", 1.3, 12)})
	require.Equal(t, []string{"fixed-text #t"}, kinds(rs[1]))
	assert.Equal(t, "the text “Low water” does not grow with the font size: its letters are 12 dp high with font scale 1, and 12 dp with 1.3", rs[1][0].Says)
	for _, i := range []int{0, 2, 3, 4} {
		assert.Empty(t, rs[i])
	}
}

func TestTheGravestComeFirstAndThereAreNotTooMany(t *testing.T) {
	var nodes []string
	for i := range 100 {
		nodes = append(nodes, node("Button", fmt.Sprint("b", i), "x", fmt.Sprintf("[%d,%d][%d,%d]", i%10*30, 100+i/10*30, i%10*30+20, 120+i/10*30)))
	}
	nodes = append(nodes, node("Button", "last", "Send", "[16,580][344,592]"))
	rs := Find(Screen{Tree: screen(t, false, nodes...), Scale: 1})
	assert.Len(t, rs, maxRemarks)
	assert.Equal(t, CutOff, rs[0].Kind)
}
