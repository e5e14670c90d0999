package browserbox

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestABrowserSeesOnlyWhatItIsGiven(t *testing.T) {
	b := Here(t.Context())
	require.Empty(t, b.Why)
	given, kept := t.TempDir(), t.TempDir()
	for _, dir := range []string{given, kept} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "page.html"), []byte("<p>a page of ours"), 0o644))
	}
	shows := func(url string) string {
		out, err := b.Command(t.Context(), [][2]string{{given, Home + "/given"}}, "chromium", append([]string{"--headless=new", "--disable-dev-shm-usage", "--dump-dom", url}, b.Flags...)...).Output()
		require.NoError(t, err)
		return string(out)
	}
	assert.Contains(t, shows("file://"+Home+"/given/page.html"), "a page of ours")
	assert.NotContains(t, shows("file://"+kept+"/page.html"), "a page of ours")
	assert.NotContains(t, shows("file:///etc/passwd"), "root:")
	assert.Equal(t, []string{"chromium", "--version"}, Box{}.Command(t.Context(), nil, "chromium", "--version").Args, "without a box, as it is")
}
