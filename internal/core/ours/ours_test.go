package ours_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/w3c"
)

func capabilities(t *testing.T, text string) w3c.Capabilities {
	t.Helper()
	var c w3c.Capabilities
	require.NoError(t, json.Unmarshal([]byte(text), &c), text)
	return c
}

func TestWhatIsNotSaidHasItsDefault(t *testing.T) {
	w, err := ours.Read(capabilities(t, `{"platformName": "android", "timeouts": {"implicit": 100}}`))
	require.NoError(t, err)
	assert.Equal(t, []time.Duration{2 * time.Minute, time.Hour, 2 * time.Minute}, []time.Duration{w.Patience, w.Limit, w.Idle})
	assert.Equal(t, recording.Usual(), w.Recording)
	assert.Equal(t, w3c.Capabilities{"platformName": "android", "timeouts": map[string]any{"implicit": 100.0}}, w.Standard, "the standard's are kept apart")
	assert.Empty(t, w.Build+w.Group+w.Name+w.Key)
}

func TestWhatIsSaidIsTaken(t *testing.T) {
	w, err := ours.Read(capabilities(t, `{"tessellant:build": "kelpline/android@newest", "tessellant:where": "os>=12", "tessellant:group": "nightly", "tessellant:name": "send a survey", "tessellant:patience": 0,
		"tessellant:limit": 1.5, "tessellant:idle": 3600, "tessellant:recording": {"video": false}, "tessellant:conditions": {"orientation": "landscape", "dark": false}, "tessellant:key": "tsl_x"}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"kelpline/android@newest", "nightly", "send a survey", "tsl_x"}, []string{w.Build, w.Group, w.Name, w.Key})
	assert.Equal(t, []string{"os>=12"}, w.Where, "one filter needs no list")
	assert.Equal(t, []time.Duration{0, 1500 * time.Millisecond, time.Hour}, []time.Duration{w.Patience, w.Limit, w.Idle})
	assert.Equal(t, "video:off", w.Recording.String())
	assert.Equal(t, conditions.Set{"orientation": "landscape", "dark": "off"}, w.Conditions)
	assert.Empty(t, w.Standard)
}

func TestWhatCanNotBeMeantIsRefusedWithItsName(t *testing.T) {
	for text, want := range map[string]string{
		`{"tessellant:wobble": 1}`:                                          "tessellant:wobble: there is none of this name; there are build, where, group",
		`{"tessellant:build": 7}`:                                           "tessellant:build: it must be a text, not 7",
		`{"tessellant:name": "` + strings.Repeat("n", 201) + `"}`:           "tessellant:name: it has 201 bytes; 200 is the most",
		`{"tessellant:where": {"os": 12}}`:                                  `tessellant:where: it must be a list of device filters, such as ["os>=12"], not {"os":12}`,
		`{"tessellant:where": ["os>=12", 3]}`:                               "tessellant:where: each device filter must be a text, not 3",
		`{"tessellant:where": ["colour=red"]}`:                              `there is no trait "colour"`,
		`{"tessellant:patience": -1}`:                                       "tessellant:patience: it must be a number of seconds from 0 to 3600, not -1",
		`{"tessellant:patience": "60"}`:                                     `tessellant:patience: it must be a number of seconds from 0 to 3600, not "60"`,
		`{"tessellant:limit": 0.5}`:                                         "tessellant:limit: it must be a number of seconds from 1 to 86400, not 0.5",
		`{"tessellant:limit": 1e300}`:                                       "tessellant:limit: it must be a number of seconds from 1 to 86400",
		`{"tessellant:idle": 3601}`:                                         "tessellant:idle: it must be a number of seconds from 1 to 3600, not 3601",
		`{"tessellant:recording": true}`:                                    "tessellant:recording: it must be an object, not true",
		`{"tessellant:recording": {"sound": true}}`:                         "tessellant:recording: there is no recording \"sound\". The recordings are video, screenshots, log, gauges, network, trees",
		`{"tessellant:recording": {"video": "yes"}}`:                        `tessellant:recording: video is off or on, not "yes"`,
		`{"tessellant:conditions": []}`:                                     "tessellant:conditions: it must be an object, not []",
		`{"tessellant:conditions": {"weather": "fog"}}`:                     "tessellant:conditions: there is no condition \"weather\"",
		`{"tessellant:conditions": {"orientation": "sideways"}}`:            `tessellant:conditions: orientation takes portrait or landscape: "sideways" is neither`,
		`{"tessellant:build": "a", "tessellant:conditions": {"dark": "x"}}`: `tessellant:conditions: dark takes on or off: "x" is neither`,
	} {
		c := capabilities(t, text)
		_, err := ours.Read(c)
		require.ErrorContains(t, err, want, text)
		_, werr := w3c.Process(map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any(c)}}, ours.CheckExtension)
		require.NotNil(t, werr, "a New Session command with it is refused, too: %s", text)
		assert.Equal(t, w3c.InvalidArgument, werr.Code, text)
	}
}

func TestAKeyAmongTheCapabilitiesIsFound(t *testing.T) {
	for request, want := range map[string]string{
		`{"capabilities": {"alwaysMatch": {"tessellant:key": "tsl_a"}}}`:                             "tsl_a",
		`{"capabilities": {"firstMatch": [{"tessellant:group": "x"}, {"tessellant:key": "tsl_b"}]}}`: "tsl_b",
		`{"capabilities": {"alwaysMatch": {"tessellant:key": 7}}}`:                                   "",
		`{"capabilities": {}}`:        "",
		`{"tessellant:key": "tsl_c"}`: "",
		`[]`:                          "",
		`{"capabilities": {"alwaysMatch": {"tessellant:key": "tsl_d", "tessellant:where": ["colour=red"]}}}`: "tsl_d",
	} {
		assert.Equal(t, want, ours.KeyIn([]byte(request)), request)
	}
}
