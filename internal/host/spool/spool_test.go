package spool

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/hostlink"
)

func TestWhatLiesInTheHostsFolderHoldsNoSecrets(t *testing.T) {
	s := New(t.TempDir(), 1<<20)
	hold := hostlink.Hold{ID: "h", AttemptID: "a", Serial: "d", WorkID: "w", Secrets: map[string]string{"code": "ebb-and-flow"}}
	hold.Spec.Inputs = map[string]string{"tide": "spring-tide"}
	c, err := NewCourier(nil, s, hold, nil)
	require.NoError(t, err)
	defer c.reports.Close()
	raw, err := os.ReadFile(filepath.Join(s.Path("a"), holdFile))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "ebb-and-flow")
	assert.NotContains(t, string(raw), "spring-tide")
	left := s.Leftovers()
	require.Len(t, left, 1)
	assert.Equal(t, "d", left[0].Serial)
	assert.Equal(t, "the host was started again while the leg ran", s.LeftClosing(left[0]).Message)
	assert.Equal(t, map[string]string{"code": "ebb-and-flow", "tide": "spring-tide"}, hold.Inputs(), "the work itself has them")
}

func TestWhatWasChangedOnADeviceIsKnownToTheNextProcess(t *testing.T) {
	s := New(t.TempDir(), 1<<20)
	require.NoError(t, os.MkdirAll(s.Path("a"), 0o700))
	j, err := s.Journal("a")
	require.NoError(t, err)
	assert.Equal(t, Changes{}, j.Changes())
	for _, app := range []string{"org.kelpline.app", "net.kelpline.app", "org.other", "net.kelpline.app"} {
		require.NoError(t, j.App(app))
	}
	require.NoError(t, j.Settled())
	want := Changes{Apps: []string{"org.kelpline.app", "net.kelpline.app", "org.other"}, Settled: true}
	assert.Equal(t, want, j.Changes())
	next, err := s.Journal("a")
	require.NoError(t, err)
	assert.Equal(t, want, next.Changes())
	require.NoError(t, os.RemoveAll(s.Path("a")))
	require.Error(t, j.App("org.third"), "nobody would clean up: it must not be installed")
	assert.Equal(t, want, j.Changes())
}
