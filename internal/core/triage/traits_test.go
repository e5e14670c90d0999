package triage

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/verdict"
)

func TestTraitsAreOfTheDeviceAsItWasSet(t *testing.T) {
	old := devices.Facts{OS: "8.1", API: 27, Language: "en", Form: "phone", MemoryMB: 2048, Width: 540, Density: 240, Labels: map[string]string{"desk": "3", "wifi": "off"}}
	late := devices.Facts{OS: "14", API: 34, Language: "en", Form: "phone", MemoryMB: 8192, Width: 540, Density: 240}
	traits := TraitsOf([]Leg{{old, nil}, {late, nil}, {late, conditions.Set{conditions.Language: "de", conditions.FontScale: "1.3", conditions.WiFi: conditions.On}}})
	values := map[string][]string{}
	for _, x := range traits {
		for _, v := range x.Values {
			values[x.Name] = append(values[x.Name], v.Text)
		}
	}
	assert.Equal(t, map[string][]string{"api": {"8.1", "14", "14"}, "language": {"en", "en", "de"}, "memory": {"2", "8", "8"}, "font-scale": {"1", "1", "1.3"}, "label:desk": {"3", "", ""}, "label:wifi": {"off", "", ""}, "wifi": {"", "", "on"}}, values, "what is the same of all is left out")
	require.Equal(t, "api", traits[0].Name)
	assert.True(t, traits[0].Values[0].Orders)
	assert.Less(t, traits[0].Values[0].Number, traits[0].Values[1].Number)
}

func TestARuleIsASentence(t *testing.T) {
	old, german := Literal{"api", AtMost, "9"}, Literal{"language", Is, "de"}
	for want, r := range map[string]*Rule{
		"All 3 on Android 9 or older fail; none of the 13 newer.":                        {Literals: []Literal{old}, FailIn: 3, PassOut: 13},
		"Both in German fail; none of the 14 others.":                                    {Literals: []Literal{german}, FailIn: 2, PassOut: 14},
		"3 of the 5 in German and on Android 9 or older fail; 1 of the 11 others, too.":  {Literals: []Literal{german, old}, FailIn: 3, PassIn: 2, FailOut: 1, PassOut: 10},
		"All 4 on tablets fail; not the other one.":                                      {Literals: []Literal{{"form", Is, "tablet"}}, FailIn: 4, PassOut: 1},
		"All 4 with 2 GB of memory or less fail; none of the 9 with more.":               {Literals: []Literal{{"memory", AtMost, "2"}}, FailIn: 4, PassOut: 9},
		"All 4 with the label desk=3 fail; none of the 9 others.":                        {Literals: []Literal{{"label:desk", Is, "3"}}, FailIn: 4, PassOut: 9},
		"All 4 with wifi off fail; none of the 9 others.":                                {Literals: []Literal{{"wifi", Is, "off"}}, FailIn: 4, PassOut: 9},
		"All 4 with display size 1.15 or larger fail; none of the 9 with a smaller one.": {Literals: []Literal{{"display-size", AtLeast, "1.15"}}, FailIn: 4, PassOut: 9},
	} {
		assert.Equal(t, want, r.Sentence(verdict.Failed))
	}
	assert.Equal(t, "All 3 on Android 9 or older crash; none of the 13 newer.", (&Rule{Literals: []Literal{old}, FailIn: 3, PassOut: 13}).Sentence(verdict.Crashed))
}

func TestAVersionIsOfItsOwnSystem(t *testing.T) {
	var legs []Leg
	var failed []bool
	for _, f := range []devices.Facts{
		{Platform: "ios", OS: "14.8"}, {Platform: "ios", OS: "15.8"}, {Platform: "ios", OS: "15.9"}, {Platform: "ios", OS: "16.7.9"}, {Platform: "ios", OS: "16.7.10"}, {Platform: "ios", OS: "16.10"}, {Platform: "ios", OS: "17.0"}, {Platform: "ios", OS: "17.4"}, {Platform: "ios", OS: "17.5"}, {Platform: "ios", OS: "18.1"},
		{Platform: "android", OS: "9", API: 28}, {Platform: "android", OS: "13", API: 33}, {Platform: "android", OS: "14", API: 34}, {Platform: "android", OS: "16", API: 36},
	} {
		legs = append(legs, Leg{f, nil})
		failed = append(failed, f.Platform == "ios" && len(legs) <= 5)
	}
	r := Why(failed, TraitsOf(legs))
	require.NotNil(t, r)
	assert.Equal(t, "All 5 on iOS 16.7.10 or older fail; none of the 9 others.", r.Sentence(verdict.Failed), "those with Android are not newer")
	assert.Equal(t, "os", LayBy([]Explained{{Family: Family{Legs: []int{0, 1, 2}}, Rule: r}}))
	r = Why(failed[:10], TraitsOf(legs[:10]))
	require.NotNil(t, r)
	assert.Equal(t, "All 5 on iOS 16.7.10 or older fail; none of the 5 newer.", r.Sentence(verdict.Failed))
}

func TestOneDeviceMoreTells(t *testing.T) {
	device := func(api int, os, language string) Leg {
		return Leg{Device: devices.Facts{API: api, OS: os, Language: language, Form: "phone"}}
	}
	legs := []Leg{device(28, "9", "de"), device(28, "9", "de"), device(33, "13", "en"), device(34, "14", "en")}
	traits := TraitsOf(legs)
	failed := []bool{true, true, false, false}
	others := TraitsOf([]Leg{device(34, "14", "en"), device(31, "12", "de"), device(34, "14", "de"), device(27, "8.1", "fr")})
	h := Tell(failed, traits, others)
	require.NotNil(t, h)
	assert.Equal(t, 2, h.Device, "German, and new: the other two agree with the rules, or lie between what is known")
	assert.Equal(t, [][]Literal{{{"language", Is, "de"}}}, h.Fails)
	assert.Equal(t, [][]Literal{{{"api", AtMost, "9"}}}, h.Passes)
	assert.Nil(t, Tell(failed, traits, TraitsOf([]Leg{device(28, "9", "de"), device(34, "14", "en")})), "they agree with both rules")
	assert.Nil(t, Tell([]bool{false, true, false, false}, traits, others), "no rule explains it")
	assert.Nil(t, Tell(failed, traits, nil))
}
