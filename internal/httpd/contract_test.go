package httpd_test

// Every answer that a test of this package gets is held against api/openapi.yaml: status, type and shape must stand there.

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/housetest"
)

// contract is api/openapi.yaml, read once.
var contract = sync.OnceValues(func() (routers.Router, error) {
	doc, err := openapi3.NewLoader().LoadFromFile(filepath.Join(housetest.Root(), "api", "openapi.yaml"))
	if err != nil {
		return nil, err
	}
	return gorillamux.NewRouter(doc)
})

// strict is a client's way that holds answers against the contract.
type strict struct{ t testing.TB }

// RoundTrip implements http.RoundTripper.
func (s strict) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil || !strings.HasPrefix(r.URL.Path, "/api/v1/") || r.Method == http.MethodHead {
		return resp, err
	}
	if kind, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";"); kind != "application/json" && kind != "application/problem+json" && resp.StatusCode != http.StatusNoContent {
		return resp, nil // bytes and streams
	}
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return resp, err
	}
	_ = resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(body))
	assert.NoError(s.t, s.hold(r, resp, body), "%s %s answered %d, which the contract has otherwise:\n%s", r.Method, r.URL, resp.StatusCode, body)
	return resp, nil
}

// hold says where an answer is not as the contract has it.
func (s strict) hold(r *http.Request, resp *http.Response, body []byte) error {
	router, err := contract()
	require.NoError(s.t, err)
	route, params, err := router.FindRoute(r)
	if err != nil {
		if resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusMethodNotAllowed {
			return nil // as it should
		}
		return err
	}
	return openapi3filter.ValidateResponse(r.Context(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route},
		Status:                 resp.StatusCode, Header: resp.Header, Body: io.NopCloser(bytes.NewReader(body)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	})
}

func TestAnAnswerThatTheContractDoesNotKnowIsSeen(t *testing.T) {
	ask := func(path string, status int, kind, body string) error {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		return strict{t}.hold(r, &http.Response{StatusCode: status, Header: http.Header{"Content-Type": {kind}}}, []byte(body))
	}
	require.NoError(t, ask("/api/v1/sessions", 200, "application/json", `{"items": [], "open": 0, "waiting": 0}`))
	require.NoError(t, ask("/api/v1/sessions", 404, "application/problem+json", `{"type": "about:blank", "title": "t", "status": 404}`))
	assert.ErrorContains(t, ask("/api/v1/sessions", 200, "application/json", `{"items": [], "open": 0}`), "waiting")
	assert.ErrorContains(t, ask("/api/v1/sessions", 200, "application/json", `{"items": null, "open": 0, "waiting": 0}`), "items")
	assert.Error(t, ask("/api/v1/sessions", 200, "text/html", `<html>`))
	assert.Error(t, ask("/api/v1/wobble", 200, "application/json", `{}`))
}
