package foreign

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestTextsAreFitted(t *testing.T) {
	for _, c := range []struct{ in, fit, name, shown string }{
		{"plain", "plain", "plain", "plain"},
		{"two\nlines\tand a tab", "two\nlines\tand a tab", "two lines and a tab", "two\nlines\tand a tab"},
		{"bad \xff\xfe bytes", "bad \uFFFD bytes", "bad \uFFFD bytes", `bad \xff\xfe bytes`},
		{"a\x00b", "a\uFFFDb", "a b", `a\x00b`},
		{"\x1b[2Jgone", "\x1b[2Jgone", " [2Jgone", `\x1b[2Jgone`},
		{"\u009b31mred", "\u009b31mred", " 31mred", `\u009b31mred`},
		{"abc\u202egnp.exe", "abc\u202egnp.exe", "abc\u202egnp.exe", `abc\u202egnp.exe`},
		{"Möwe 🦀", "Möwe 🦀", "Möwe 🦀", "Möwe 🦀"},
	} {
		assert.Equal(t, c.fit, Fit(c.in, 100))
		assert.Equal(t, c.name, Name(c.in, 100))
		assert.Equal(t, c.shown, Shown(c.in))
	}
	assert.Equal(t, "aaaa… (cut: it had 100 bytes)", Fit(strings.Repeat("a", 100), 31))
	assert.Equal(t, "ää… (cut: it had 80 bytes)", Fit(strings.Repeat("ä", 40), 31), "a character is not cut in two")
	assert.Equal(t, "aaaa", Fit(strings.Repeat("a", 10), 4), "there is no room for the mark")
	assert.Equal(t, "aa… (cut: it had 1000 bytes)", Fit(Fit(Fit(strings.Repeat("a", 1000), 200), 80), 30), "cut three times, it had what it had at first")
	assert.Equal(t, "aaaaaaa…", Name(strings.Repeat("a", 11), 10))
}

func FuzzFit(f *testing.F) {
	f.Add("a\xff\x1b\u202e", uint8(3))
	f.Fuzz(func(t *testing.T, s string, n uint8) {
		most := int(n) + 8
		assert.True(t, utf8.ValidString(Fit(s, most)))
		assert.LessOrEqual(t, len(Fit(s, most)), most)
		assert.Equal(t, Fit(s, most), Fit(Fit(s, most), most))
		assert.LessOrEqual(t, len(Name(s, most)), most)
		assert.True(t, utf8.ValidString(Name(s, most)))
		assert.False(t, strings.ContainsFunc(Shown(s), commands))
	})
}
