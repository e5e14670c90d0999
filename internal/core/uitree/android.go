package uitree

import (
	"bytes"
	"encoding/xml"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"tessellant/internal/core/foreign"
)

const (
	maxDump  = 16 << 20
	maxNodes = 50_000
	maxDepth = 500
)

// ParseAndroid reads what `uiautomator dump` writes, with whatever stands
// around the XML. Characters that XML does not allow, which real devices do
// write, are dropped.
func ParseAndroid(raw []byte) (*Screen, error) {
	return grammar{root: "hierarchy", at: func(s *Screen, attrs []xml.Attr) {
		for _, a := range attrs {
			if a.Name.Local == "rotation" {
				s.Rotation, _ = strconv.Atoi(a.Value)
			}
		}
	}, each: func(t xml.StartElement) *Element { return androidElement(t.Attr) }}.read(raw)
}

func androidElement(attrs []xml.Attr) *Element {
	e := &Element{Enabled: true}
	for _, a := range attrs {
		yes := a.Value == "true"
		switch a.Name.Local {
		case "text":
			e.Text = a.Value
		case "resource-id":
			_, e.ID, _ = strings.Cut(a.Value, ":id/")
			if e.ID == "" {
				e.ID = a.Value
			}
		case "class":
			e.Class = a.Value
		case "package":
			e.App = a.Value
		case "content-desc":
			e.Label = a.Value
		case "hint":
			e.Hint = a.Value
		case "checked":
			e.Checked = yes
		case "enabled":
			e.Enabled = yes
		case "focused":
			e.Focused = yes
		case "selected":
			e.Selected = yes
		case "scrollable":
			e.Scrollable = yes
		case "clickable":
			e.Clickable = yes
		case "password":
			e.Password = yes
		case "bounds":
			e.Bounds = androidBounds(a.Value)
		}
	}
	e.Kind = androidKind(e.Class)
	if e.Kind == "field" {
		if e.Hint != "" && e.Text == e.Hint { // an empty field says its hint
			e.Text = ""
		}
		e.Value = e.Text
	}
	return e
}

// Compiled when first needed: this package is part of every start of the program.
var boundsForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\[(-?\d+),(-?\d+)\]\[(-?\d+),(-?\d+)\]$`) })

func androidBounds(s string) Rect {
	m := boundsForm().FindStringSubmatch(s)
	if m == nil {
		return Rect{}
	}
	n := make([]int, 4)
	for i := range n {
		n[i], _ = strconv.Atoi(m[i+1])
	}
	return Rect{n[0], n[1], n[2], n[3]}
}

func androidKind(class string) string {
	name := class[strings.LastIndex(class, ".")+1:]
	for _, k := range []struct{ ending, kind string }{
		{"CheckBox", "checkbox"}, {"RadioButton", "checkbox"}, {"Switch", "switch"}, {"SwitchCompat", "switch"}, {"ToggleButton", "switch"},
		{"Button", "button"}, {"EditText", "field"}, {"AutoCompleteTextView", "field"}, {"TextView", "text"}, {"ImageView", "image"},
		{"ListView", "list"}, {"RecyclerView", "list"}, {"GridView", "list"}, {"ScrollView", "scroll"}, {"ProgressBar", "progress"}, {"SeekBar", "progress"},
	} {
		if strings.HasSuffix(name, k.ending) {
			return k.kind
		}
	}
	return "group"
}

var charRef = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`&#(x[0-9A-Fa-f]+|[0-9]+);`) })

// allowed drops what XML 1.0 section 2.2 (Char) does not allow, written plainly
// or as a reference.
func allowed(b []byte) []byte {
	ok := func(r rune) bool {
		return r == '\t' || r == '\n' || r == '\r' || (r >= 0x20 && r <= 0xD7FF) || (r >= 0xE000 && r <= 0xFFFD) || (r >= 0x10000 && r <= 0x10FFFF)
	}
	b = bytes.Map(func(r rune) rune {
		if !ok(r) || r == utf8.RuneError {
			return -1
		}
		return r
	}, b)
	return charRef().ReplaceAllFunc(b, func(ref []byte) []byte {
		digits, base := string(ref[2:len(ref)-1]), 10
		if digits[0] == 'x' {
			digits, base = digits[1:], 16
		}
		n, err := strconv.ParseInt(digits, base, 32)
		if err != nil || !ok(rune(n)) {
			return nil
		}
		return ref
	})
}

func short(b []byte) string {
	return foreign.Name(strings.TrimSpace(string(b)), 120)
}
