package masking

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSecretsAreHiddenInWhateverFormTheyCome(t *testing.T) {
	m := New([]string{"tide & rock", "tide & rock pool", "", `quo"te`})
	for in, want := range map[string]string{
		"typed tide & rock pool, then tide & rock": "typed " + Dots + ", then " + Dots,
		"q=tide+%26+rock":                          "q=" + Dots,
		"/tide%20&%20rock/":                        "/" + Dots + "/",
		"text 'tide%s&%srock'":                     "text '" + Dots + "'",
		`{"code": "quo\"te", "other": "quo"}`:      `{"code": "` + Dots + `", "other": "quo"}`,
		`{"code": "tide \u0026 rock"}`:             `{"code": "` + Dots + `"}`,
		"nothing to hide":                          "nothing to hide",
	} {
		assert.Equal(t, want, m.Text(in))
	}
	assert.Equal(t, map[string]string{"text": Dots}, m.Map(map[string]string{"text": "tide & rock"}))
	var none *Mask
	assert.Equal(t, "x", none.Text("x"))
	assert.Equal(t, "x", New([]string{""}).Text("x"))
	added := New(nil)
	added.Add("low tide")
	assert.Equal(t, Dots, added.Text("low tide"))
}
