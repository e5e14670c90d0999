package devices

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var mini = Facts{Serial: "orr-03", Platform: "android", OS: "13", API: 33, Maker: "Orrery", Model: "Skerry 5 Mini",
	Form: "phone", Origin: "real", Width: 680, Height: 1360, Density: 320, MemoryMB: 5900, ABIs: []string{"arm64-v8a"}, Language: "en"}

func TestFilterChooses(t *testing.T) {
	for text, want := range map[string]bool{
		"platform=android":    true,
		"maker=orrery":        true, // names are case-blind
		"model=Skerry*":       true, // whatever the suffix
		"model=Skerry 5":      false,
		"maker=Fennel,Orrery": true,
		"maker!=Orrery":       false,
		"form!=tablet":        true,
		"os>=10":              true,
		"os>=13.1":            false,
		"os<13.0":             false,
		"api>33":              false,
		"width<=340":          true,
		"memory=6":            true,
		"place=":              false,
	} {
		c, err := ParseCondition(text)
		if text == "place=" {
			require.ErrorContains(t, err, "enter a value for")
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, Filter{Where: []Condition{c}}.Match(mini), text)
		assert.Equal(t, text, c.String())
	}
	assert.True(t, Filter{}.Match(mini), "an empty filter chooses any device")
	assert.True(t, Filter{Units: []string{"x", "orr-03"}}.Match(mini))
	assert.False(t, Filter{Units: []string{"orr-01"}}.Match(mini))
}

func TestEveryNameIsATrait(t *testing.T) {
	traits := mini.Traits()
	for _, n := range Names {
		assert.Contains(t, traits, n)
	}
	assert.Len(t, traits, len(Names))
}

func TestBadFiltersSayWhy(t *testing.T) {
	for text, why := range map[string]string{
		"android":   "is not a device filter",
		"colour=re": "there is no trait",
		"os>=new":   "is not a number",
		"model=[a":  "open bracket",
		"os!10":     "use one of",
	} {
		_, err := ParseFilter([]string{text}, nil)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestVersionsCompareByPart(t *testing.T) {
	c, err := ParseCondition("os>8.9")
	require.NoError(t, err)
	assert.True(t, Filter{Where: []Condition{c}}.Match(Facts{OS: "8.10"}))
	assert.False(t, Filter{Where: []Condition{c}}.Match(Facts{OS: "unknown"}))
}
