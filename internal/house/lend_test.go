package house_test

// Two installations: one lends the other devices, over the door that everybody has.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/house"
	"tessellant/internal/housetest"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

// lenders are two installations, and what one lends the other.
type lenders struct {
	lends, borrows *process
	key            string // of the borrower
}

// twoHouses starts both. Orr-01 and orr-03 are there; the first is lent.
func twoHouses(t *testing.T) lenders {
	t.Helper()
	server := housetest.ADB(t)
	tides, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(tides.Close)
	c := house.Config{ADB: server.Address, HostName: "bench-a", Database: housetest.DSN(t), Names: tides.Network()}
	for _, name := range []string{"orr-01", "orr-03"} {
		tr := housetest.Fleet(t)[name]
		tr.Temper, tr.Network, tr.System = standin.Instant, tides.Network(), tides.Certificate
		c.Connect = append(c.Connect, housetest.Phone(t, server, tr).Address())
	}
	l := lenders{lends: begin(t, c)}
	ctx := t.Context()
	ready := func(p *process, n int) {
		housetest.Eventually(t, "the devices are there", func() bool {
			r, err := p.ListDevicesWithResponse(ctx, nil)
			return err == nil && len(r.JSON200.Items) == n && strings.Count(string(r.Body), `"state":"free"`) == n
		})
	}
	ready(l.lends, 2)
	where := []string{"model=" + housetest.Fleet(t)["orr-01"].Model}
	pool, err := l.lends.AddPoolWithResponse(ctx, api.AddPoolJSONRequestBody{Name: "spare", Definition: api.PoolDefinition{Where: &where, Take: api.PoolDefinitionTakeAll}})
	require.NoError(t, err)
	require.NotNil(t, pool.JSON201, string(pool.Body))
	spare, one := "spare", 1
	lending, err := l.lends.SetLendingWithResponse(ctx, api.SetLendingJSONRequestBody{Pool: &spare, AtOnce: &one})
	require.NoError(t, err)
	require.NotNil(t, lending.JSON200, string(lending.Body))
	require.Equal(t, 1, lending.JSON200.Devices)
	made, err := l.lends.AddKeyWithResponse(ctx, api.AddKeyJSONRequestBody{Name: "tern-team", Role: "borrower"})
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, string(made.Body))
	l.key = made.JSON201.Key
	t.Setenv("GULL_KEY", l.key)
	file := filepath.Join(t.TempDir(), "labs.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "labs:\n  - name: gull\n    kind: tessellant\n    address: %s\n    key: {env: GULL_KEY}\n", l.lends.URL), 0o600))
	l.borrows = begin(t, house.Config{Labs: file, HostName: "bench-b", Database: housetest.DSN(t)})
	ready(l.borrows, 1)
	return l
}

func TestTwoInstallationsShareAFleet(t *testing.T) {
	l := twoHouses(t)
	ctx := t.Context()
	ds, err := l.borrows.ListDevicesWithResponse(ctx, nil)
	require.NoError(t, err)
	d := ds.JSON200.Items[0]
	assert.Equal(t, api.DeviceOrigin("cloud"), d.Origin)
	apk, err := os.Open(housetest.Kelpline(t))
	require.NoError(t, err)
	defer apk.Close()
	_, err = l.borrows.AddBuildWithBodyWithResponse(ctx, nil, "application/octet-stream", apk)
	require.NoError(t, err)
	source := `def test_shores(phone):
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.step("shores")

def test_search(phone):
    phone.launch()
    phone.type("#search", "gull")
    phone.press("back")
    phone.find("#shore_gull-ledge")

def test_fails(phone):
    phone.launch()
    phone.find("#nothing", within = 0.2)
`
	var pkg bytes.Buffer
	require.NoError(t, testpkg.Pack(fstest.MapFS{testpkg.Entry: {Data: []byte("name: suite\nkind: script\n")}, "c.star": {Data: []byte(source)}}, &pkg))
	_, err = l.borrows.AddPackageWithBodyWithResponse(ctx, "application/zip", &pkg)
	require.NoError(t, err)
	dark := map[string]string{"dark": "on"}
	run, err := l.borrows.StartRunWithResponse(ctx, nil, api.RunRequest{Build: "kelpline/android@newest", Package: "suite@newest", Conditions: &dark})
	require.NoError(t, err)
	require.NotNil(t, run.JSON201, string(run.Body))
	var leg *api.Leg
	housetest.Eventually(t, "the leg is over on the lent phone", func() bool {
		r, err := l.borrows.GetLegWithResponse(ctx, run.JSON201.Legs[0].Id)
		require.NoError(t, err)
		leg = r.JSON200
		return leg.Stage == "done"
	})
	require.Len(t, leg.Attempts, 1)
	a := leg.Attempts[0]
	var verdicts []string
	for _, c := range a.Cases {
		verdicts = append(verdicts, fmt.Sprint(c.Name, " ", *c.Verdict))
		if c.Message != nil {
			t.Log(c.Name, *c.Message)
		}
	}
	require.Equal(t, []string{"c.test_shores passed", "c.test_search passed", "c.test_fails failed"}, verdicts)
	require.NotNil(t, a.Loan)
	assert.Equal(t, "gull", a.Loan.Lab)

	// Evidence of the one who borrowed.
	kept := func(p *process, artifacts []api.Artifact) map[string][]byte {
		out := map[string][]byte{}
		for _, x := range artifacts {
			r, err := p.GetArtifact(ctx, x.Id)
			require.NoError(t, err)
			raw, err := io.ReadAll(r.Body)
			require.NoError(t, errors.Join(err, r.Body.Close()))
			out[x.Name] = raw
		}
		return out
	}
	ours := kept(l.borrows, a.Artifacts)
	assert.Contains(t, string(ours["device.log"]), "org.kelpline.app", "the device's log came over")
	assert.NotEmpty(t, ours["video.mp4"])
	for name, body := range ours {
		assert.NotContains(t, string(body), l.key, name)
	}

	// And of the one who lent: a session of the group lent, with the name of the leg, and evidence of its own.
	var session *api.Session
	housetest.Eventually(t, "the lender's session is over and written", func() bool {
		r, err := l.lends.GetSessionWithResponse(ctx, a.Loan.Session)
		require.NoError(t, err)
		session = r.JSON200
		return session != nil && session.Stage == "done"
	})
	require.NotNil(t, a.Loan.Page)
	assert.Equal(t, l.lends.URL+"/sessions/"+session.Id, *a.Loan.Page)
	assert.Equal(t, []string{"lent", leg.Id}, []string{session.Group, session.Name})
	theirs := map[string][]byte{}
	housetest.Eventually(t, "its evidence has come", func() bool {
		r, err := l.lends.GetLegWithResponse(ctx, session.Id)
		require.NoError(t, err)
		theirs = kept(l.lends, r.JSON200.Attempts[0].Artifacts)
		return theirs["video.mp4"] != nil
	})
	assert.Contains(t, string(theirs["device.log"]), "org.kelpline.app")
	housetest.Eventually(t, "the phone is free at the lender", func() bool {
		r, err := l.lends.ListDevicesWithResponse(ctx, nil)
		return err == nil && strings.Count(string(r.Body), `"state":"free"`) == 2
	})
}

func TestABorrowerSeesAndTakesOnlyWhatIsLent(t *testing.T) {
	l := twoHouses(t)
	ask := func(method, path, body string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, l.lends.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+l.key)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		var b bytes.Buffer
		_, err = b.ReadFrom(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, b.String()
	}
	other := ""
	ds, err := l.lends.ListDevicesWithResponse(t.Context(), nil)
	require.NoError(t, err)
	status, text := ask("GET", "/api/v1/catalogue", "")
	require.Equal(t, http.StatusOK, status, text)
	lent := ""
	for _, d := range ds.JSON200.Items {
		if strings.Contains(text, d.Serial) {
			lent = d.Serial
		} else {
			other = d.Serial
		}
	}
	require.NotEmpty(t, lent)
	require.NotEmpty(t, other)
	for _, path := range []string{"devices", "runs", "sessions", "builds", "lending", "pools", "keys"} {
		status, text := ask("GET", "/api/v1/"+path, "")
		assert.Equal(t, http.StatusForbidden, status, "%s: %s", path, text)
	}
	wants := func(where string) string {
		return `{"capabilities": {"alwaysMatch": {"tessellant:patience": 20, "tessellant:where": ["` + where + `"]}}}`
	}
	status, text = ask("POST", "/webdriver/session", wants("serial="+other))
	assert.Equal(t, 500, status)
	assert.Contains(t, text, "session not created")
	assert.NotContains(t, text, housetest.Fleet(t)["orr-03"].Model, "nothing is said of what is not lent")
	status, text = ask("POST", "/webdriver/session", wants("platform=android"))
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, lent)
	status, text = ask("POST", "/webdriver/session", wants("platform=android"))
	assert.Equal(t, 500, status)
	assert.Contains(t, text, "no device came free: this key has 1 sessions open")
	nothing := api.SetLendingJSONRequestBody{}
	r, err := l.lends.RemovePoolWithResponse(t.Context(), "spare")
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnprocessableEntity, r.StatusCode(), string(r.Body))
	off, err := l.lends.SetLendingWithResponse(t.Context(), nothing)
	require.NoError(t, err)
	require.Equal(t, 0, off.JSON200.Devices, string(off.Body))
	status, text = ask("POST", "/webdriver/session", wants("platform=android"))
	assert.Equal(t, 500, status)
	assert.Contains(t, text, "lends no devices")
}
