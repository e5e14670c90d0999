package phone

import (
	"bytes"
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mvdan.cc/sh/v3/syntax"
)

func TestALineOfOneCallNeedsNoInterpreter(t *testing.T) {
	for line, want := range map[string][]string{
		"uiautomator dump /dev/tty": {"uiautomator", "dump", "/dev/tty"}, "input text 'low water  2'": {"input", "text", "low water  2"}, "getprop ro.'serial'no": {"getprop", "ro.serialno"},
		"": nil, "nothing here": nil, "cat a | cat": nil, "cat a; cat b": nil, "cat < a": nil, "cat *.xml": nil, "cat ~/a": nil, "cat $x": nil, "x=1 cat a": nil, "x=1": nil, "cat \"a\"": nil, `cat a\ b`: nil,
		"! cat a": nil, "cat a &": nil, "cat $'a'": nil, "echo a": nil, "cat {a,b}": nil, "cat `id`": nil,
	} {
		prog, err := syntax.NewParser(syntax.Variant(syntax.LangMirBSDKorn)).Parse(strings.NewReader(line), "")
		require.NoError(t, err, line)
		assert.Equal(t, want, plain(prog), line)
	}
	for _, s := range []string{"", "Gull Ledge", `<a & "b" 'c'>`, "line\nline\t", "low\x01", "bad\xff", "Ebbe – 🌊", "\ufffd"} {
		var b bytes.Buffer
		require.NoError(t, xml.EscapeText(&b, []byte(s)))
		assert.Equal(t, "x"+b.String(), string(appendEscaped([]byte("x"), s)), "%q", s)
	}
}
