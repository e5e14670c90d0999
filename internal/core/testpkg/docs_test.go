package testpkg

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheReferenceSaysWhatTheVocabularySays(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/3-packages.md")
	require.NoError(t, err)
	page := strings.ReplaceAll(string(raw), "`", "")
	for word, line := range PhoneWords {
		call, means, ok := strings.Cut(line, ": ")
		require.True(t, ok, word)
		if word == "facts" {
			means, _, _ = strings.Cut(means, ":")
		}
		assert.Contains(t, page, "| "+call+" | "+means)
	}
	for word, line := range CheckWords {
		call, means, _ := strings.Cut(line, ": ")
		assert.Contains(t, page, "| check."+call+" | "+means, word)
	}
	assert.Contains(t, page, "| log(text) | writes a line into the timeline")
}
