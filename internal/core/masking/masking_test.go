package masking

import (
	"encoding/base64"
	"encoding/hex"
	"html"
	"net/url"
	"strconv"
	"strings"
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

func TestAnEncodedSecretIsHiddenWhereverItBegins(t *testing.T) {
	const secret = `flood&"tide' <9>`
	m := New([]string{secret})
	for name, encoded := range map[string]string{
		"base64": base64.StdEncoding.EncodeToString([]byte(secret)), "base64 of a pair": base64.StdEncoding.EncodeToString([]byte("any:" + secret)), "base64 inside": base64.StdEncoding.EncodeToString([]byte("ab" + secret + "cd")),
		"base64 for URLs": base64.RawURLEncoding.EncodeToString([]byte("x" + secret)), "digits": hex.EncodeToString([]byte(secret)), "large digits": strings.ToUpper(hex.EncodeToString([]byte(secret))),
		"quoted": strconv.Quote(secret), "query": url.QueryEscape(secret), "path": url.PathEscape(secret), "small hex": strings.ToLower(url.QueryEscape(secret)), "html": html.EscapeString(secret), "shell": strings.ReplaceAll(secret, "'", `'\''`),
	} {
		got := m.Text("x " + encoded + " y")
		assert.Contains(t, got, Dots, "%s: %s", name, encoded)
		assert.NotContains(t, got, encoded, name)
		assert.Less(t, len(got)-len(Dots), len(encoded)/2+8, "%s: most of it is gone: %s", name, got)
	}
	assert.Equal(t, "YWJj and 616263", New([]string{"abc"}).Text("YWJj and 616263"), "a short one is hidden only as it is: else whole words would go")
	assert.Equal(t, Dots+`""`, New([]string{`x"`}).Text(`x"""`))
}
