package child

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAChildKnowsNoSecretsOfThisProcess(t *testing.T) {
	t.Setenv("TESSELLANT_KEY", "tsl_secret")
	t.Setenv("TESSELLANT_DATABASE", "user:secret@tcp(x)/y")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "secret")
	t.Setenv("ADB_VENDOR_KEYS", "/keys")
	assert.NotContains(t, Environment(nil), "ADB_VENDOR_KEYS=/keys")
	got := Environment([]string{"ADB_", "ANDROID_"}, "HOME=/elsewhere")
	assert.Contains(t, got, "ADB_VENDOR_KEYS=/keys")
	assert.Contains(t, got, "PATH="+os.Getenv("PATH"))
	assert.Equal(t, "HOME=/elsewhere", got[len(got)-1], "what is added counts")
	for _, v := range got {
		assert.NotContains(t, v, "secret")
	}
}
