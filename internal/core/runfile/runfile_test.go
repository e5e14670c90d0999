package runfile

import (
	"encoding/json"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
)

const nightly = `build: kelpline/android@newest
package: shore-suite@newest
name: nightly
labels:
  branch: main
pool: everyday
where:
  - os>=10
differ: 8
conditions:
  animations: "off"
variants:
  as-it-is: {}
  de: {language: de}
  wide: {orientation: landscape, dark: on, location: 38.7,-9.14}
cases:
  - survey.*
confirm: 1
limit: 20m
inputs:
  observer: Jon
secrets-from-env:
  observer-code: KELPLINE_CODE
put:
  data/note.txt: /sdcard/Download/note.txt
fetch:
  - /sdcard/Download/out.txt
`

func TestARunFileIsReadAndWritten(t *testing.T) {
	f, err := Parse([]byte(strings.ReplaceAll(nightly, "location: 38.7,-9.14", `location: "38.7,-9.14"`)))
	require.NoError(t, err)
	assert.Equal(t, 20*time.Minute, time.Duration(f.Limit))
	assert.Equal(t, Variants{{Name: "as-it-is"}, {Name: "de", Conditions: conditions.Set{"language": "de"}}, {Name: "wide", Conditions: conditions.Set{"orientation": "landscape", "dark": "on", "location": "38.7,-9.14"}}}, f.Variants)
	assert.Equal(t, Conditions{"animations": "off"}, f.Conditions)
	assert.Equal(t, map[string]string{"observer-code": "KELPLINE_CODE"}, f.SecretsFromEnv)
	again, err := Parse([]byte(f.YAML()))
	require.NoError(t, err, f.YAML())
	assert.Equal(t, f, again)
	assert.Contains(t, f.YAML(), "build: kelpline/android@newest\npackage: shore-suite@newest\nname: nightly\n", "in its order")
	assert.Contains(t, f.YAML(), "de: {language: de}")
	assert.Contains(t, f.YAML(), "limit: 20m\n")
	lines, err := Parse([]byte("lines: [{device: Skerry 5, version: '14', language: de}]\nconditions: {dark: true}"))
	require.NoError(t, err)
	assert.Equal(t, []Line{{Device: "Skerry 5", Version: "14", Language: "de"}}, lines.Lines)
	assert.Equal(t, "on", lines.Conditions["dark"])
}

func TestTheSchemaHasWhatAFileHas(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/run-file.schema.json")
	require.NoError(t, err)
	var schema struct {
		Properties map[string]any
		Defs       struct {
			Conditions struct{ Properties map[string]any }
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(raw, &schema))
	assert.ElementsMatch(t, keys(), slices.Collect(maps.Keys(schema.Properties)))
	assert.ElementsMatch(t, conditions.Names(), slices.Collect(maps.Keys(schema.Defs.Conditions.Properties)))
	nightly, err := os.ReadFile("../../../demo/nightly.yaml")
	require.NoError(t, err)
	f, err := Parse(nightly)
	require.NoError(t, err)
	assert.Equal(t, 4, f.Differ)
}

func TestWhatIsWrongWithARunFileIsSaidWithItsLine(t *testing.T) {
	for text, why := range map[string]string{
		"":                                   "the run file: it is empty",
		"- a":                                "line 1 of the run file: a run file is written as key: value",
		"build: a\npakage: b":                `line 2 of the run file: there is no key "pakage"; was package meant?`,
		"build: [a]":                         "line 1 of the run file: it has a list where there must be a text",
		"where: os>=10":                      "line 1 of the run file: it has the text `os>=10` where there must be a list of texts",
		"build: a\nwhere: [colour=red]":      "line 2 of the run file: in the device filter",
		"\n\nvariants:\n  de: {languag: de}": "line 4 of the run file: there is no condition \"languag\"; was language meant?",
		"variants:\n  - de":                  "line 2 of the run file: variants are written as name: conditions",
		"variants:\n  a b: {dark: on}":       "can't be named",
		"conditions: {dark: [1]}":            "the condition dark must be a text",
		"conditions: dark":                   "conditions are written as name: value",
		"limit: soon":                        "line 1 of the run file: limit: \"soon\" is no time",
		"any: 2\ndiffer: 3":                  "line 2 of the run file: any and differ can't go together",
		"differ: -1":                         "differ: choose 1 to 1000",
		"labels: {a b: c}":                   "a label can't be named",
		"a: b: c":                            "the run file: mapping values are not allowed",
		"build: a\n---\nbuild: b":            "several documents",
		"build: &a [*a]":                     "of the run file",
		strings.Repeat("#", MaxBytes+1):      "more than 256 kB",
	} {
		_, err := Parse([]byte(text))
		var m *Mistake
		require.ErrorAs(t, err, &m, text[:min(40, len(text))])
		assert.Contains(t, err.Error(), why, text[:min(40, len(text))])
	}
}

func FuzzParse(f *testing.F) {
	f.Add(nightly)
	f.Add("variants: {a: {dark: on}}")
	f.Fuzz(func(t *testing.T, text string) {
		x, err := Parse([]byte(text))
		if err != nil {
			return
		}
		y, err := Parse([]byte(x.YAML()))
		require.NoError(t, err, x.YAML())
		assert.Equal(t, x.YAML(), y.YAML())
	})
}
