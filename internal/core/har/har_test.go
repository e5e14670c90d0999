package har

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func entry(url string) Entry {
	return Entry{Started: time.UnixMilli(1_800_000_000_123).UTC(), At: 1234, Kind: HTTP, Time: 40,
		Request:  Request{Method: "GET", URL: url, HTTPVersion: "HTTP/1.1", Headers: []Pair{{"Cookie", "sid=42"}, {"Accept", "a code"}}, Post: &Content{Text: "the code"}},
		Response: Response{Status: 200, Content: Content{Text: `{"said": "code"}`, MimeType: "application/json"}, Headers: []Pair{{"set-cookie", "x"}}}}
}

func TestAFileIsHARAndIsReadWhileItGrows(t *testing.T) {
	var b bytes.Buffer
	b.WriteString(Head("1.0"))
	for i, u := range []string{"http://a/<1>", "http://a/2", "http://a/3"} {
		line, err := entry(u).Line(i == 0)
		require.NoError(t, err)
		b.Write(line)
	}
	grows := b.String() + `,{"startedDateT`
	b.WriteString(Tail)
	var whole struct {
		Log struct {
			Version string
			Creator struct{ Name, Version string }
			Entries []map[string]any
		}
	}
	require.NoError(t, json.Unmarshal(b.Bytes(), &whole))
	assert.Equal(t, "1.2", whole.Log.Version)
	assert.Len(t, whole.Log.Entries, 3)
	for _, key := range []string{"startedDateTime", "time", "request", "response", "cache", "timings"} { // what the format requires
		assert.Contains(t, whole.Log.Entries[0], key)
	}
	for name, text := range map[string]string{"whole": b.String(), "growing": grows} {
		x, err := Scan(strings.NewReader(text))
		require.NoError(t, err, name)
		var urls []string
		for n, r := range x.Rows {
			at, length := x.Span(n)
			again, err := ParseLine([]byte(text[at : at+length]))
			require.NoError(t, err)
			assert.Equal(t, r, *again.row(), "a line is found again by its place")
			urls = append(urls, again.Request.URL)
		}
		assert.Equal(t, []string{"http://a/<1>", "http://a/2", "http://a/3"}, urls, name)
	}
	_, err := Scan(strings.NewReader(Head("1") + "nonsense\n"))
	assert.Error(t, err)
}

func TestARowOfAnybodysFileIsAsLongAsAListTakes(t *testing.T) {
	long := strings.Repeat("é", 100_000)
	foreign := `{"_row":{"url":"` + long + `","method":"` + long + `","error":"` + long + `","kind":"` + long + `","type":"` + long + `"}}` + "\n"
	x, err := Scan(strings.NewReader(Head("1") + foreign + "," + foreign))
	require.NoError(t, err)
	require.Len(t, x.Rows, 2)
	r := x.Rows[1]
	assert.Equal(t, []int{2 * rowURL, 2 * rowError, 2 * rowWord, 2 * rowWord, 2 * rowWord}, []int{len(r.URL), len(r.Error), len(r.Kind), len(r.Method), len(r.Type)})
	assert.InDelta(t, 2*(len(r.URL)+len(r.Error)), x.Bytes, 1000)
}

func TestWhatLetsSomebodyInIsTakenOut(t *testing.T) {
	e := entry("http://a/?code=code")
	before := e.Request.Headers
	e.Text(func(s string) string { return strings.ReplaceAll(s, "code", "***") })
	e.Hide()
	raw, err := e.Line(true)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "sid=42")
	assert.NotContains(t, string(raw), "code")
	assert.Contains(t, string(raw), Hidden)
	assert.Equal(t, "a code", before[1].Value, "what it was made of stays as it is")
}

func TestFailed(t *testing.T) {
	assert.False(t, entry("x").Failed())
	assert.True(t, Entry{Response: Response{Status: 404}}.Failed())
	assert.True(t, Entry{Error: "cut off"}.Failed())
}

func TestTheIndexFindsRowsByWhatIsWanted(t *testing.T) {
	var b strings.Builder
	b.WriteString(Head("1"))
	rows := []struct {
		at, took int64
		url      string
		status   int
		err      string
	}{{900, 10, "http://a.example/late", 200, ""}, {100, 700, "http://b.example/slow", 200, ""}, {200, 5, "http://a.example/none", 404, ""}, {300, 1, "https://c.example", 0, "refused"}}
	for i, r := range rows {
		e := entry(r.url)
		e.At, e.Time, e.Response.Status, e.Error, e.Received = r.at, float64(r.took), r.status, r.err, int64(i)
		line, err := e.Line(i == 0)
		require.NoError(t, err)
		b.Write(line)
	}
	x, err := Scan(strings.NewReader(b.String() + ",{cut off"))
	require.NoError(t, err)
	for c, want := range map[Choice][]int{
		{}:                   {1, 2, 3, 0},
		{Order: ByWorst}:     {2, 3, 1, 0},
		{Order: BySize}:      {3, 2, 1, 0},
		{Failed: true}:       {2, 3},
		{Text: "A.EXAMPLE"}:  {2, 0},
		{Text: "404"}:        {2},
		{From: 150, To: 250}: {2},
		{Text: "nowhere"}:    nil,
	} {
		assert.Equal(t, want, x.Choose(c), "%+v", c)
	}
	at, length := x.Span(1)
	e, err := ParseLine([]byte(b.String()[at : at+length]))
	require.NoError(t, err)
	assert.Equal(t, "http://b.example/slow", e.Request.URL)
	assert.Equal(t, *e.row(), x.Rows[1])
	o := x.Overview(10)
	assert.Equal(t, []any{4, 2, int64(6)}, []any{o.Count, o.Failed, o.Received})
	assert.Equal(t, HostSum{"a.example", 2, 1, 0, 2}, o.Hosts[0])
	assert.Equal(t, []int{0, 1, 2, 2, 1, 1, 1, 1, 1, 1}, o.Density, "slices of 92 ms")
	whole, err := Scan(strings.NewReader(b.String() + Tail))
	require.NoError(t, err)
	assert.Equal(t, x.Rows, whole.Rows)
	assert.Positive(t, whole.Bytes)
}

func FuzzRead(f *testing.F) {
	line, _ := entry("http://a").Line(true)
	f.Add(Head("1") + string(line) + Tail)
	f.Add("\n\n")
	f.Fuzz(func(t *testing.T, text string) {
		x, err := Scan(strings.NewReader(text))
		if err != nil {
			return
		}
		_ = x.Choose(Choice{Order: ByWorst})
		_ = x.Overview(7)
		for n := range x.Rows {
			if at, length := x.Span(n); at < 0 || at+length > int64(len(text)) {
				t.Fatal("a line out of its file")
			}
		}
	})
}
