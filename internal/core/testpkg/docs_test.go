package testpkg

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheReferenceSaysWhatTheVocabularySays(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/script-words.md")
	require.NoError(t, err)
	assert.Equal(t, Reference(), string(raw), "make it anew with: tessellant script words --markdown > docs/script-words.md")
}

func TestParametersComeFromTheCall(t *testing.T) {
	assert.Equal(t, []string{"target", "text", "within?"}, byName["phone"]["type"].Params())
	assert.Equal(t, []string{"condition", "about?", "within?"}, byName["phone"]["wait_until"].Params())
	assert.Empty(t, byName["phone"]["stop"].Params())
	assert.Empty(t, byName["phone"]["facts"].Params())
}
