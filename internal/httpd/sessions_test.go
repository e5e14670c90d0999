package httpd_test

// Sessions over REST: lists page by page, marks and reports that can't be, and what is said of them.

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/api"
)

// short opens a session that does nothing, and ends it.
func (o *outside) short(more ...any) *api.Session {
	o.t.Helper()
	c := o.client()
	code, message := c.open(with(m{"tessellant:recording": m{"video": false, "log": false}}, more...))
	require.Empty(o.t, code, message)
	c.must("DELETE", "", nil)
	return o.over(c)
}

func TestSessionsAreListedPageByPage(t *testing.T) {
	o := openOutside(t, "orr-01", "orr-03")
	var ids []string
	for _, more := range [][]any{{"tessellant:group", "nightly", "tessellant:where", "serial=orr-01"}, {"tessellant:group", "nightly", "tessellant:where", "serial=orr-03"}, {"tessellant:where", "serial=orr-01"}} {
		ids = append(ids, o.short(more...).Id)
	}
	list := func(p api.ListSessionsParams) (out []string, page *api.SessionPage) {
		t.Helper()
		r, err := o.ListSessionsWithResponse(t.Context(), &p)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		for _, s := range r.JSON200.Items {
			out = append(out, s.Id)
		}
		return out, r.JSON200
	}
	all, page := list(api.ListSessionsParams{})
	assert.Equal(t, []string{ids[2], ids[1], ids[0]}, all, "the newest first")
	assert.Nil(t, page.Next)
	assert.Equal(t, []int{0, 0}, []int{page.Open, page.Waiting})
	for name, c := range map[string]struct {
		p    api.ListSessionsParams
		want []string
	}{
		"of a group":               {api.ListSessionsParams{Group: ptr("nightly")}, []string{ids[1], ids[0]}},
		"on a device":              {api.ListSessionsParams{Device: ptr("orr-01")}, []string{ids[2], ids[0]}},
		"of a group on a device":   {api.ListSessionsParams{Group: ptr("nightly"), Device: ptr("orr-01")}, []string{ids[0]}},
		"that go on":               {api.ListSessionsParams{Going: ptr(true)}, nil},
		"on a device nobody knows": {api.ListSessionsParams{Device: ptr("nobody")}, nil},
	} {
		got, _ := list(c.p)
		assert.Equal(t, c.want, got, name)
	}
	first, page := list(api.ListSessionsParams{Limit: ptr(2)})
	assert.Equal(t, []string{ids[2], ids[1]}, first)
	require.NotNil(t, page.Next)
	rest, page := list(api.ListSessionsParams{Limit: ptr(2), After: page.Next})
	assert.Equal(t, []string{ids[0]}, rest)
	assert.Nil(t, page.Next)

	newest, err := o.GetSessionWithResponse(t.Context(), "newest")
	require.NoError(t, err)
	assert.Equal(t, ids[2], newest.JSON200.Id)
	s := newest.JSON200
	assert.Equal(t, []any{"orr-01", true, []string{"serial=orr-01"}, float32(120), float32(3600), float32(120)}, []any{s.Device.Serial, s.Device.Simulated, s.Where, s.PatienceSeconds, s.LimitSeconds, s.IdleSeconds})
	for _, bad := range []string{"limit=0", "limit=1000000", "limit=two", "going=perhaps"} {
		resp, raw := o.do("GET", "/api/v1/sessions?"+bad, o.Key, nil)
		refused(t, resp, raw, 400, "")
	}
}

func TestMarksAndReportsThatCanNotBeAreRefused(t *testing.T) {
	o := openOutside(t, "orr-01")
	s := o.short()
	require.True(t, s.Inferred)
	path := "/api/v1/sessions/" + s.Id
	asJSON, asXML := []string{"Content-Type", "application/json"}, []string{"Content-Type", "application/xml"}
	for body, says := range map[string]string{
		`{"verdict": "crashed"}`: `"crashed" is not a verdict you can set | use passed or failed; for a case also skipped`,
		`{"verdict": "skipped"}`: `"skipped" is not a verdict`,
		`{}`:                     `its body lacks the field "verdict"`,
		`{"verdict":`:            "could not read the request | its body is JSON that is cut off",
		`{"verdict": 7}`:         `its field "verdict" must be a text, not number`,
		`{"verdict": "passed", "message": "` + strings.Repeat("x", 100_000) + `"}`:                 "keep the name within 500 bytes",
		`{"verdict": "passed", "case": "` + strings.Repeat("x", 501) + `", "message": "too long"}`: "keep the name within 500 bytes",
	} {
		resp, raw := o.do("POST", path+"/verdict", o.Key, strings.NewReader(body), asJSON...)
		refused(t, resp, raw, 400, says)
	}
	for body, says := range map[string]string{
		"":            "there is no test case in it",
		"<html/>":     "it begins with <html>",
		"<testsuite>": "",
		`<testsuite name="s">` + strings.Repeat(`<testcase name="c"/>`, 20_001) + `</testsuite>`: "20000",
		`{"cases": []}`: "",
	} {
		resp, raw := o.do("PUT", path+"/report", o.Key, strings.NewReader(body), asXML...)
		refused(t, resp, raw, resp.StatusCode, says)
		assert.Contains(t, []int{400, 413}, resp.StatusCode, body[:min(len(body), 60)])
	}
	for _, method := range []string{"/stop", "/verdict"} {
		resp, raw := o.do("POST", "/api/v1/sessions/nobody"+method, o.Key, strings.NewReader(`{"verdict": "passed"}`), asJSON...)
		refused(t, resp, raw, 404, `there is no session "nobody"`)
		resp, _ = o.do("POST", path+method, "", strings.NewReader(`{"verdict": "passed"}`), asJSON...)
		assert.Equal(t, 401, resp.StatusCode)
	}
	resp, raw := o.do("POST", path+"/stop", o.Key, nil)
	refused(t, resp, raw, 422, "it has already finished")

	// A report that is good is taken in afterwards all the same.
	resp, raw = o.do("PUT", path+"/report", o.Key, strings.NewReader(`<testsuite name="shores"><testcase name="opens" time="0.1"/><testcase name="totals"><error message="65"/></testcase></testsuite>`), asXML...)
	require.Equal(t, 200, resp.StatusCode, string(raw))
	r, err := o.GetSessionWithResponse(t.Context(), s.Id)
	require.NoError(t, err)
	assert.Equal(t, []any{api.Failed, false, 1, 1}, []any{*r.JSON200.Verdict, r.JSON200.Inferred, r.JSON200.Cases["failed"], r.JSON200.Cases["passed"]})
}

func TestSnippetsThatCanNotBeAreRefused(t *testing.T) {
	o := open(t)
	for query, says := range map[string]string{
		"/cobol": `there is no snippet in "cobol"`, "/python?where=colour%3Dred": `there is no trait "colour"`,
	} {
		resp, raw := o.do("GET", "/api/v1/snippets"+query, o.Key, nil)
		refused(t, resp, raw, 400, says)
	}
	r, err := o.GetSnippetWithResponse(t.Context(), "python", &api.GetSnippetParams{})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Equal(t, 0, r.JSON200.Devices, "there is none here")
	assert.Contains(t, r.JSON200.Program, o.URL+"/webdriver")
	assert.NotContains(t, r.JSON200.Program, o.Key)
}
