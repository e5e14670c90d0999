package httpd_test

// What hosts elsewhere ask for over HTTP, and what nobody else may.

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/hostlink"
)

func TestHostsComeInWithTheirOwnKeysAlone(t *testing.T) {
	d := open(t)
	d.Reach.External = "nats://bus.example:4222"
	made, err := d.AddHostWithResponse(t.Context(), api.AddHostJSONRequestBody{Name: "bench-1"})
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, string(made.Body))
	key := made.JSON201.Key
	join := fmt.Sprintf(`{"protocol": %d, "version": "0.1"}`, hostlink.Protocol)
	asJSON := []string{"Content-Type", "application/json"}
	asBytes := []string{"Content-Type", "application/octet-stream"}

	for wrong, status := range map[string]int{"": http.StatusUnauthorized, d.Key: http.StatusForbidden, key + "x": http.StatusUnauthorized} {
		resp, raw := d.do("POST", "/api/v1/hosts/join", wrong, strings.NewReader(join), asJSON...)
		assert.Equal(t, status, resp.StatusCode, string(raw))
		resp, _ = d.do("GET", "/api/v1/holds/01HZY3V7Q2M4T8K6N9R5S1W0XB/build", wrong, nil)
		assert.Equal(t, status, resp.StatusCode)
	}
	for _, path := range []string{"/api/v1/runs", "/api/v1/devices", "/api/v1/hosts", "/api/v1/me"} {
		resp, _ := d.do("GET", path, key, nil)
		assert.Equal(t, http.StatusForbidden, resp.StatusCode, "a host's key is for a host's work: %s", path)
	}
	resp, raw := d.do("POST", "/api/v1/hosts/join", key, strings.NewReader(`{"protocol": 99, "version": "0.1"}`), asJSON...)
	refused(t, resp, raw, http.StatusUpgradeRequired, "the host speaks protocol 99")
	resp, raw = d.do("POST", "/api/v1/hosts/join", key, strings.NewReader(`{"protocol":`), asJSON...)
	assert.Equal(t, http.StatusBadRequest, resp.StatusCode, string(raw))

	resp, raw = d.do("POST", "/api/v1/hosts/join", key, strings.NewReader(join), asJSON...)
	require.Equal(t, http.StatusOK, resp.StatusCode, string(raw))
	var w api.Welcome
	require.NoError(t, json.Unmarshal(raw, &w))
	assert.Equal(t, []string{"bench-1", "nats://bus.example:4222"}, []string{w.Name, w.BusUrl})

	// Calls go over HTTP where the bus is away.
	call := func(c hostlink.Call) (a hostlink.Answer) {
		t.Helper()
		body, err := json.Marshal(c)
		require.NoError(t, err)
		resp, raw := d.do("POST", "/api/v1/hosts/call", key, bytes.NewReader(body), asBytes...)
		require.Equal(t, http.StatusOK, resp.StatusCode, string(raw))
		require.NoError(t, json.Unmarshal(raw, &a))
		return a
	}
	assert.Empty(t, call(hostlink.Call{Token: w.Token, Kind: "holds"}).Problem)
	assert.Equal(t, hostlink.KindStranger, call(hostlink.Call{Token: "somebody's", Kind: "holds"}).Kind)
	assert.Contains(t, call(hostlink.Call{Token: w.Token, Kind: "dance"}).Problem, "no call")
	resp, raw = d.do("POST", "/api/v1/hosts/call", key, strings.NewReader("{"), asBytes...)
	require.Equal(t, http.StatusOK, resp.StatusCode)
	assert.Contains(t, string(raw), "can't be read")
	resp, raw = d.do("POST", "/api/v1/hosts/call", key, bytes.NewReader(make([]byte, 8<<20+1000)), asBytes...)
	assert.Equal(t, http.StatusRequestEntityTooLarge, resp.StatusCode, string(raw))

	// A hold that is none of this host's, or of nobody's, gives and takes nothing.
	resp, raw = d.do("GET", "/api/v1/holds/01HZY3V7Q2M4T8K6N9R5S1W0XB/build", key, nil)
	refused(t, resp, raw, http.StatusNotFound, "this host has no hold")
	for method, path := range map[string]string{"GET": "/any-build?ref=kelpline/android@newest", "PUT": "/artifacts?name=device.log"} {
		resp, raw := d.do(method, "/api/v1/holds/01HZY3V7Q2M4T8K6N9R5S1W0XB"+path, key, strings.NewReader("x"), asBytes...)
		refused(t, resp, raw, http.StatusNotFound, "this host has no hold")
	}

	gone, err := d.RemoveHostWithResponse(t.Context(), "bench-1")
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, gone.StatusCode())
	resp, raw = d.do("POST", "/api/v1/hosts/call", key, strings.NewReader("{}"), asBytes...)
	refused(t, resp, raw, http.StatusUnauthorized, "this host's key is unknown")
}

func TestWhatAHostCanDoIsShown(t *testing.T) {
	d := open(t)
	key, err := d.Service.AddHost(t.Context(), d.Who, "bench-1")
	require.NoError(t, err)
	beside, err := d.Enter(t.Context(), key)
	require.NoError(t, err)
	h := beside.Host
	w, err := d.Join(t.Context(), h, "0.1", hostlink.Protocol, "nats://x")
	require.NoError(t, err)
	tell := func(a hostlink.About) api.Host {
		t.Helper()
		raw, err := json.Marshal(hostlink.Call{Token: w.Token, Kind: "devices", About: &a})
		require.NoError(t, err)
		d.AnswerHost(context.Background(), "", raw)
		hosts, err := d.ListHostsWithResponse(t.Context())
		require.NoError(t, err)
		for _, x := range hosts.JSON200.Items {
			if x.Name == "bench-1" {
				return x
			}
		}
		return api.Host{}
	}
	x := tell(hostlink.About{Isolation: "tight", Runtimes: map[string]string{"python3": "3.11.2"}})
	assert.Equal(t, []any{"tight", map[string]string{"python3": "3.11.2"}}, []any{string(x.Isolation), x.Runtimes})
	x = tell(hostlink.About{Why: "bubblewrap is not installed"})
	assert.Equal(t, []any{"none", "bubblewrap is not installed", map[string]string{}}, []any{string(x.Isolation), *x.IsolationWhy, x.Runtimes})
}
