package android

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Android's own tools read the keyboard as what it is.
func TestTheKeyboardIsAGenuineInputMethod(t *testing.T) {
	badging, err := exec.Command("aapt", "dump", "badging", "built/keyboard.apk").CombinedOutput()
	require.NoError(t, err, string(badging))
	assert.Contains(t, string(badging), "package: name='"+keyboardApp+"'")
	assert.Contains(t, string(badging), "provides-component:'ime'")
	assert.NotContains(t, string(badging), "uses-permission", "it asks for nothing")
	signed, err := exec.Command("apksigner", "verify", "--verbose", "--min-sdk-version", "21", "built/keyboard.apk").CombinedOutput()
	require.NoError(t, err, string(signed))
	for _, scheme := range []string{"v1 scheme (JAR signing): true", "v2 scheme (APK Signature Scheme v2): true"} {
		assert.Contains(t, string(signed), scheme)
	}
}
