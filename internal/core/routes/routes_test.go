package routes

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRoutesAreRead(t *testing.T) {
	for s, want := range map[string]Route{
		"3000":                       {"route.test", 3000, 3000},
		"3000=8080":                  {"route.test", 3000, 8080},
		"api.kelpline.test:443=8443": {"api.kelpline.test", 443, 8443},
		"Shore.Test.:80":             {"shore.test", 80, 80},
	} {
		r, err := Parse(s)
		require.NoError(t, err, s)
		assert.Equal(t, want, r, s)
		again, err := Parse(r.String())
		require.NoError(t, err)
		assert.Equal(t, r, again)
	}
	for s, why := range map[string]string{
		"":                                    "no port",
		"0":                                   "no port",
		"70000":                               "no port",
		"+80":                                 "no port",
		"080":                                 "no port",
		"3000=":                               "no port",
		"3000=x":                              "no port",
		"127.0.0.1:80":                        "an address",
		"[::1]:80":                            "no name",
		"1.2.3:80":                            "an address",
		"0x7f.1:80":                           "an address",
		"localhost:80":                        "the device itself",
		"a.localhost:80":                      "the device itself",
		"router:80":                           "no name",
		"a..b:80":                             "no name",
		"-a.test:80":                          "no name",
		"a_b.test:80":                         "no name",
		"ü.test:80":                           "no name",
		"a.test:80:90":                        "no port",
		strings.Repeat("a.", 200) + "test:80": "no name",
	} {
		_, err := Parse(s)
		assert.ErrorContains(t, err, why, s)
	}
	_, err := ParseAll([]string{"80", "route.test:80=90"})
	assert.ErrorContains(t, err, "twice")
	_, err = ParseAll(make([]string, Most+1))
	assert.ErrorContains(t, err, "too many")
}

func TestAWorkspaceSaysWhichNamesMayBeLedElsewhere(t *testing.T) {
	allowed, err := ParseAllowed([]string{"route.test", "*.shore.test:8080", "*.example", "Route.test"})
	require.NoError(t, err)
	assert.Equal(t, Allowed{"route.test", "*.shore.test:8080", "*.example"}, allowed)
	for s, want := range map[string]bool{
		"3000": true, "a.shore.test:8080": true, "a.b.shore.test:8080": true, "a.shore.test:80": false, "shore.test:8080": false,
		"ashore.test:8080": false, "x.example:1": true, "api.kelpline.test:80": false, "route.test.evil.test:80": false,
	} {
		r, err := Parse(s)
		require.NoError(t, err)
		assert.Equal(t, want, allowed.Allow(r), s)
	}
	assert.False(t, Allowed{}.Allow(Route{Host: Name, Port: 80}))
	for _, s := range []string{"*", "*.", "127.0.0.1", "*.0.1", "localhost", "route.test:0", "a*.test"} {
		_, err := ParseAllowed([]string{s})
		assert.Error(t, err, s)
	}
	_, err = ParseAllowed(make([]string, MostAllowed+1))
	assert.ErrorContains(t, err, "too many")
}
