package backend

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func ask(t *testing.T, method, url, body string) (int, string) {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(raw)
}

func TestShoresTidesAndSurveys(t *testing.T) {
	s, err := Start("127.0.0.1:0")
	require.NoError(t, err)
	defer s.Close()
	base := "http://" + s.Address()
	status, body := ask(t, "GET", base+"/shores", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "Gull Ledge")

	status, body = ask(t, "GET", base+"/shores/gull-ledge/tides", "")
	assert.Equal(t, 200, status)
	var tides struct {
		Heights  []float64
		Extremes []struct{ Height float64 }
	}
	require.NoError(t, json.Unmarshal([]byte(body), &tides))
	require.Len(t, tides.Heights, 25, "hour by hour")
	require.Len(t, tides.Extremes, 4)
	for _, h := range tides.Heights {
		assert.InDelta(t, 2.7, h, 2.11, "between low and high water")
	}
	status, _ = ask(t, "GET", base+"/shores/nowhere/tides", "")
	assert.Equal(t, 404, status)

	status, body = ask(t, "POST", base+"/surveys", `{"shore": "gull-ledge", "draft": {"wrack": "2.5"}, "total": 2.5}`)
	assert.Equal(t, 201, status)
	assert.JSONEq(t, `{"receipt": "KL-0001"}`, body)
	status, _ = ask(t, "POST", base+"/surveys", "{")
	assert.Equal(t, 400, status)
	assert.Equal(t, []Survey{{Shore: "gull-ledge", Draft: map[string]string{"wrack": "2.5"}, Total: 2.5}}, s.Surveys())
}
