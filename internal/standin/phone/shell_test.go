package phone

import (
	"bytes"
	"encoding/xml"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALineOfOneCallNeedsNoInterpreter(t *testing.T) {
	call := func(args ...string) simple { return simple{args: args} }
	for line, want := range map[string][]simple{
		"uiautomator dump /dev/tty": {call("uiautomator", "dump", "/dev/tty")}, "input text 'low water  2'": {call("input", "text", "low water  2")}, "getprop ro.'serial'no": {call("getprop", "ro.serialno")},
		"cat a; cat b": {call("cat", "a"), call("cat", "b")}, "echo a": {call("echo", "a")}, "echo a$?": {call("echo", "a"+lastCode)},
		"{ cat a\n} </dev/null; echo b >&2": {{args: []string{"cat", "a"}, noInput: true}, {args: []string{"echo", "b"}, toErr: true}},
		"":                                  nil, "nothing here": nil, "cat a | cat": nil, "cat a && cat b": nil, "cat < a": nil, "cat *.xml": nil, "cat ~/a": nil, "cat $x": nil, "x=1 cat a": nil, "x=1": nil, "cat \"a\"": nil, `cat a\ b`: nil,
		"! cat a": nil, "cat a &": nil, "cat $'a'": nil, "cat {a,b}": nil, "cat `id`": nil, "echo -n a": nil, `echo 'a\n'`: nil, "cat a; x=1": nil, "cat a >b": nil, "cat a 1>&2": nil, "cat a >&1": nil, "(cat a)": nil,
	} {
		s, err := parse(newParser(), line)
		require.NoError(t, err, line)
		assert.Equal(t, want, s.calls, line)
	}
	for _, s := range []string{"", "Gull Ledge", `<a & "b" 'c'>`, "line\nline\t", "low\x01", "bad\xff", "Ebbe – 🌊", "\ufffd"} {
		var b bytes.Buffer
		require.NoError(t, xml.EscapeText(&b, []byte(s)))
		assert.Equal(t, "x"+b.String(), string(appendEscaped([]byte("x"), s)), "%q", s)
	}
}
