package conditions

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
)

func TestConditionsAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]string{
		"language:de":                          "language:de",
		" Dark , orientation:LANDSCAPE":        "dark,orientation:landscape",
		"orientation:landscape,language:PT-br": "language:pt-BR,orientation:landscape", // in the order of the table
		"location:38.71,-9.14,dark:off":        "location:38.71,-9.14,dark:off",
		"font-scale:1.30,display-size:2":       "font-scale:1.3,display-size:2",
		"wifi:false,airplane-mode":             "wifi:off,airplane-mode",
		"time-zone:America/Argentina/Ushuaia":  "time-zone:America/Argentina/Ushuaia",
		"dark,dark:on":                         "dark",
	} {
		s, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, s.String())
		again, err := Parse(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, again)
		raw, err := json.Marshal(s)
		require.NoError(t, err)
		var back Set
		require.NoError(t, json.Unmarshal(raw, &back))
		assert.Equal(t, s, back)
	}
	var s Set
	require.NoError(t, json.Unmarshal([]byte(`{"dark":true,"font-scale":1.3,"location":"0,0"}`), &s))
	assert.Equal(t, Set{Dark: On, FontScale: "1.3", Location: "0,0"}, s)
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"dark":[1]}`), &s), "must be a text, a number")
	assert.Equal(t, "", Set(nil).String())
}

func TestBadConditionsSayWhy(t *testing.T) {
	for text, why := range map[string]string{
		"":                            "a condition is missing",
		"dark,":                       "a condition is missing",
		"languag:de":                  `there is no condition "languag"; was language meant?`,
		"colour:red":                  `there is no condition "colour". The conditions are language,`,
		"language":                    "language has no value; it takes a language such as de",
		"language:not a language":     "is none",
		"orientation:up":              "orientation takes portrait or landscape",
		"dark:maybe":                  "is neither",
		"font-scale:9":                "font-scale takes 0.5 to 3",
		"font-scale:NaN":              "is not",
		"location:100,0":              "degrees north, degrees east",
		"location:1":                  "degrees north",
		"time-zone:../../etc/passwd":  "is none",
		"dark,dark:off":               "is there twice: on and off",
		strings.Repeat("dark,", 1000): "too long",
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestWhatADeviceCantBeSetTo(t *testing.T) {
	old := devices.Facts{Platform: "android", OS: "9", API: 28, Language: "de"}
	s := Set{Language: "de", Dark: On, Animations: Off, AirplaneMode: On}
	var names []string
	for _, l := range s.Lacks(old, true) {
		names = append(names, l.Name)
		assert.NotEmpty(t, l.Remedy)
	}
	assert.Equal(t, []string{Dark, AirplaneMode}, names, "it speaks German anyway")
	old.Language = "en"
	assert.Contains(t, s.Lacks(old, true)[0].Why, "Android 9 can't be set to language:de over adb: it can from API level 33 on, the device has 28")
	old.API = 34
	assert.Empty(t, s.Lacks(old, true))
	assert.Contains(t, s.Lacks(old, false)[0].Why, "there is no build")
	assert.Equal(t, map[string]string{"language": "de", "os": "9", "dark": "on", "animations": "off", "airplane-mode": "on"}, s.Traits(map[string]string{"language": "en", "os": "9"}))
}

func TestVariants(t *testing.T) {
	v, err := ParseVariant("wide=orientation:landscape,dark")
	require.NoError(t, err)
	assert.Equal(t, Variant{"wide", Set{Orientation: "landscape", Dark: On}}, v)
	v, err = ParseVariant("as-it-is")
	require.NoError(t, err)
	assert.Equal(t, Variant{Name: "as-it-is"}, v)
	for text, why := range map[string]string{"=dark": "can't be named", "a b=dark": "can't be named", strings.Repeat("x", 41): "can't be named", "a=drak": "was dark meant?"} {
		_, err := ParseVariant(text)
		assert.ErrorContains(t, err, why)
	}
	assert.ErrorContains(t, CheckVariants([]Variant{{Name: "a"}, {Name: "a"}}), "twice")
	assert.ErrorContains(t, CheckVariants(make([]Variant, MaxVariants+1)), "too many")
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"dark,location:1,-2", "language:de-AT", "font-scale:1.3"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(s.String())
		require.NoError(t, err, s.String())
		assert.Equal(t, s, again)
	})
}
