package recording

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsUsualIsKept(t *testing.T) {
	s := Usual()
	assert.Equal(t, Set{Video: true, Screenshots: Steps, Log: true, Gauges: true, Network: On, Trees: Failures}, s)
	assert.Empty(t, s.String())
	assert.Nil(t, s.Changed())
	assert.True(t, s.Keeps(Screenshots, Failures))
	assert.True(t, s.Keeps(Screenshots, Steps))
	assert.False(t, s.Keeps(Screenshots, Commands))
	assert.False(t, s.Keeps(Trees, Steps))
	assert.False(t, s.Keeps("sound", On))
}

func TestAPersonChangesIt(t *testing.T) {
	s, err := Usual().Parse("video:off, Screenshots:commands")
	require.NoError(t, err)
	assert.Equal(t, "video:off,screenshots:commands", s.String())
	assert.Equal(t, map[string]string{"video": "off", "screenshots": "commands"}, s.Changed())
	same, err := Usual().FromMap(map[string]any{"video": false, "screenshots": "commands"})
	require.NoError(t, err)
	assert.Equal(t, s, same)
	back, err := Usual().Parse(s.String())
	require.NoError(t, err)
	assert.Equal(t, s, back)
	all := map[string]any{}
	for k, v := range s.Map() {
		all[k] = v
	}
	same, err = Set{}.FromMap(all)
	require.NoError(t, err)
	assert.Equal(t, s, same, "a map says all of it")
}

func TestAMistakeIsSaid(t *testing.T) {
	for line, why := range map[string]string{
		"vidoe:off":          `there is no recording "vidoe"; was video meant? The recordings are video, screenshots, log, gauges, network, trees`,
		"video":              `in "video", "video" has no value; write name:value, such as video:off, with commas between`,
		"":                   `in "", "" has no value; write name:value, such as video:off, with commas between`,
		"screenshots:always": `screenshots is off or failures or steps or commands, not "always"`,
		"video:steps":        `video is off or on, not "steps"`,
	} {
		_, err := Usual().Parse(line)
		assert.ErrorContains(t, err, why, line)
	}
	_, err := Usual().FromMap(map[string]any{"video": 1})
	assert.EqualError(t, err, "video must be a text, or true or false, not 1")
	assert.EqualError(t, Set{Trees: "x"}.Check(), "trees is off or failures or steps")
	assert.NoError(t, Usual().Check())
}

func TestWhatWasPlannedBeforeMeansWhatItMeant(t *testing.T) {
	var s Set
	require.NoError(t, json.Unmarshal([]byte(`{"video": true, "log": false}`), &s))
	assert.Equal(t, map[string]string{"video": "on", "screenshots": "steps", "log": "off", "gauges": "off", "network": "off", "trees": "failures"}, s.Map())
}
