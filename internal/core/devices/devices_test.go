package devices

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var mini = Facts{Serial: "orr-03", Platform: "android", OS: "13", API: 33, Maker: "Orrery", Model: "Skerry 5 Mini",
	Form: "phone", Origin: "real", Width: 680, Height: 1360, Density: 320, MemoryMB: 5900, ABIs: []string{"arm64-v8a"}, Language: "en", Labels: map[string]string{"desk": "3"}}

func TestFilterChooses(t *testing.T) {
	for text, want := range map[string]bool{
		"platform=android":       true,
		"maker=orrery":           true, // names are case-blind
		"model=Skerry*":          true, // whatever the suffix
		"model=Skerry 5":         false,
		"maker=Fennel,Orrery":    true,
		"maker!=Orrery":          false,
		"form!=tablet":           true,
		"os>=10":                 true,
		"os>=13.1":               false,
		"os<13.0":                false,
		"api>33":                 false,
		"width<=340":             true,
		"memory=6":               true,
		`serial=/^orr-0[1-3]$/`:  true,
		`serial=/ORR/,fen-01`:    true, // case-blind, and a part will do
		`serial!=/^orr/`:         false,
		`screen=/^\d+x1\/?360$/`: true,
		`model=/5, m/,x`:         false,
		`model=/5( m|,)/`:        true,
		"label:desk=3":           true,
		"label:desk=3?":          false,
		"label:Desk=3":           false, // names of labels are as people wrote them
		"label:none!=1":          true,
		"pool=bench":             true,
		"pool!=bench":            false,
		"pool=other":             false,
	} {
		c, err := ParsePattern(text)
		require.NoError(t, err, text)
		f := Filter{Where: []Pattern{c}}
		f.LookUp(map[string][]string{"bench": {"orr-01", "orr-03"}, "other": {"fen-01"}})
		assert.Equal(t, want, f.Match(mini), text)
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
	assert.Equal(t, "3", traits["label:desk"])
	assert.Len(t, traits, len(Names)+1)
}

func TestAMistakeInAFilterIsPointedAt(t *testing.T) {
	for text, want := range map[string]Mistake{
		"android":        {At: 8, Why: "an operator is missing"},
		"colour=red":     {At: 1, Why: `there is no trait "colour"`},
		" makr = Orrery": {At: 2, Why: `there is no trait "makr"`, Nearest: "maker"},
		"polo=bench":     {At: 1, Why: `there is no trait "polo"`, Nearest: "pool"},
		"=3":             {At: 1, Why: "a trait is missing"},
		"label:=3":       {At: 7, Why: "the name of a label is missing"},
		"os>=new":        {At: 5, Why: `"new" is not a number`},
		"os!10":          {At: 3, Why: `"!" is no operator`, Nearest: "!="},
		"place=":         {At: 7, Why: "a value for place is missing"},
		"model=a,[b":     {At: 9, Why: "open bracket"},
		"model=a,":       {At: 9, Why: "a value is missing after the comma"},
		"model=/a":       {At: 7, Why: "is not closed"},
		"model=/a/b":     {At: 7, Why: "a comma or the end was expected"},
		"größe=1":        {At: 1, Why: "there is no trait"},
		"maker=é, /(/":   {At: 10, Why: "is no regular expression (RE2): missing closing )"},
		"pool>3":         {At: 5, Why: "a pool is named with = or !=", Nearest: "="},
		"model=" + strings.Repeat("x", MaxPattern): {At: MaxPattern + 1, Why: "is the most"},
	} {
		_, err := ParseFilter([]string{text}, nil)
		var m *Mistake
		require.ErrorAs(t, err, &m, text)
		assert.Contains(t, m.Why, want.Why, text)
		assert.Equal(t, want.At, m.At, text)
		assert.Equal(t, want.Nearest, m.Nearest, text)
		assert.Contains(t, err.Error(), fmt.Sprintf("at letter %d: ", want.At))
		assert.Less(t, len(err.Error()), 600)
	}
	_, err := ParseFilter(make([]string, MaxPatterns+1), nil)
	assert.ErrorContains(t, err, "too long")
}

func FuzzFilter(f *testing.F) {
	for _, s := range []string{"os>=10", "model=/a\\/b/,c*", "label:x=1", "serial=[a-", "pool=a,b"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p, err := ParsePattern(s)
		if err != nil {
			return
		}
		again, err := ParsePattern(p.String())
		require.NoError(t, err, p.String())
		assert.Equal(t, p.Match(), again.Match(), s)
		assert.Equal(t, p.String(), again.String())
	})
}

// Match is whether a pattern holds for the small phone.
func (p Pattern) Match() bool { return Filter{Where: []Pattern{p}}.Match(mini) }

func TestVersionsCompareByPart(t *testing.T) {
	c, err := ParsePattern("os>8.9")
	require.NoError(t, err)
	assert.True(t, Filter{Where: []Pattern{c}}.Match(Facts{OS: "8.10"}))
	assert.False(t, Filter{Where: []Pattern{c}}.Match(Facts{OS: "unknown"}))
}
