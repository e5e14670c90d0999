package ours_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/ours"
)

func TestTheDocumentedCommandsAreTheCommands(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/webdriver-commands.md")
	require.NoError(t, err)
	assert.Equal(t, ours.Reference(), string(raw), "make it anew with: tessellant session commands --markdown > docs/webdriver-commands.md")
}
