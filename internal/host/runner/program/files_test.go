package program

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestResultsAreFoundByTheirPatterns(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"r.xml", "out/a.xml", "out/deep/er/b.xml", "out/c.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "out", "link.xml")))
	assert.Equal(t, []string{"out/a.xml"}, files(dir, []string{"out/*.xml"}), "a star goes into no folder, and links are passed over")
	assert.Equal(t, []string{"out/a.xml", "out/deep/er/b.xml", "r.xml"}, files(dir, []string{"**/*.xml"}))
	assert.Equal(t, []string{"out/a.xml", "out/c.txt"}, files(dir, []string{"out/[a-c].{xml,txt}"}))
	assert.Len(t, files(dir, nil), 4)
}
