package cli

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/foreign"
)

func TestNoTextFromTheServiceCommandsTheTerminal(t *testing.T) {
	for _, text := range []string{"plain", "\x1b[2J\x1b]0;title\x07", "abc\u202egnp.exe", "\u009b31m", "line\nand\ttab", `back\slash \u001b literal`, "Möwe 🦀 水", "\b\f\r", "\u2066x\u2069", `"quoted"`, "\u2028"} {
		for _, escaped := range []bool{true, false} {
			raw, err := json.Marshal(map[string]string{"text": text})
			require.NoError(t, err)
			if !escaped { // as other writers of JSON have it: only what must be is escaped
				raw = []byte(`{"text":` + quote(text) + `}`)
			}
			var got map[string]string
			require.NoError(t, json.Unmarshal(plainJSON(raw), &got), "%q", text)
			assert.Equal(t, foreign.Shown(text), got["text"])
		}
	}
}

// quote writes a text as JSON with as few escapes as there may be.
func quote(s string) string {
	out := `"`
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			out += `\` + string(r)
		case r < 0x20:
			raw, _ := json.Marshal(string(r))
			out += string(raw[1 : len(raw)-1])
		default:
			out += string(r)
		}
	}
	return out + `"`
}
