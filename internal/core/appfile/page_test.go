package appfile_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/appfile"
)

func readPage(text string) (appfile.Facts, error) {
	return appfile.Read(bytes.NewReader([]byte(text)), int64(len(text)))
}

func TestAPageStandsInPlaceOfABuild(t *testing.T) {
	p := appfile.Page{Name: "tides", Version: "14", Address: "https://tides.example:8443/now?shore=gull"}
	require.NoError(t, p.Check())
	f, err := readPage(string(p.JSON()))
	require.NoError(t, err)
	assert.Equal(t, []any{"web", "tides.example:8443", "tides", "14", int64(0), p.Address}, []any{f.Platform, f.AppID, f.Label, f.VersionName, f.VersionCode, f.Page})
	assert.Empty(t, f.Findings)
	f, err = readPage(`{"name": "t", "version": "1", "start_url": "http://tides.example/", "display": "standalone", "icons": []}`)
	require.NoError(t, err, "what else a manifest has is passed over")
	require.Len(t, f.Findings, 1)
	assert.Contains(t, f.Findings[0].What, "plain HTTP")
	f, err = readPage(`{"name": "t", "version": "1", "start_url": "http://127.0.0.1:8080/"}`)
	require.NoError(t, err)
	assert.Empty(t, f.Findings, "this machine itself is no network")
	assert.Nil(t, mustOpen(t, string(p.JSON())).Icon(""), "it has no icon")
}

func mustOpen(t *testing.T, text string) *appfile.File {
	t.Helper()
	f, err := appfile.Open(bytes.NewReader([]byte(text)), int64(len(text)))
	require.NoError(t, err)
	return f
}

func TestAPageThatCanNotBeUsedIsRefusedWithItsReason(t *testing.T) {
	for text, says := range map[string]string{
		`{`:    "not such a JSON",
		`{}`:   "not the address of a page",
		`{"a"`: "not such a JSON",
		`{"name": "t", "version": "1", "start_url": "tides.example"}`:                                       "not the address of a page",
		`{"name": "t", "version": "1", "start_url": "file:///etc/passwd"}`:                                  "not the address of a page",
		`{"name": "t", "version": "1", "start_url": "javascript:alert(1)"}`:                                 "not the address of a page",
		`{"name": "t", "version": "1", "start_url": "https://u:p@tides.example"}`:                           "a user or a password",
		`{"name": "t", "version": "1", "start_url": "https:///x"}`:                                          "not the address of a page",
		`{"name": " ", "version": "1", "start_url": "https://tides.example"}`:                               "no name",
		`{"name": "t", "start_url": "https://tides.example"}`:                                               "no version",
		`{"name": "t", "version": "1", "start_url": "https://t.example/` + strings.Repeat("a", 3000) + `"}`: "2000 is the most",
		`{"name": "` + strings.Repeat("a", 70_000) + `"}`:                                                   "more than the 64 kB",
		`{"name": 7}`: "not such a JSON",
	} {
		_, err := readPage(text)
		var no *appfile.Refusal
		if assert.ErrorAs(t, err, &no, text) {
			assert.Contains(t, no.Why, says)
			assert.NotEmpty(t, no.Remedy)
		}
	}
}

func FuzzPage(f *testing.F) {
	f.Add(`{"name": "tides", "version": "14", "start_url": "https://tides.example/"}`)
	f.Fuzz(func(t *testing.T, text string) {
		facts, err := readPage("{" + text)
		if err == nil && (facts.Page == "" || facts.AppID == "") {
			t.Fatalf("a page without an address: %q", text)
		}
	})
}
