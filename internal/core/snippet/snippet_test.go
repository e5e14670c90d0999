package snippet

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// listener answers as a remote end does, and keeps what it was asked.
type listener struct {
	*httptest.Server
	mu      sync.Mutex
	asked   []string       // method and path
	wanted  map[string]any // of the new session
	refuses bool
	user    string
	key     string
}

func listen(t *testing.T, refuses bool) *listener {
	l := &listener{refuses: refuses}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		l.asked = append(l.asked, r.Method+" "+r.URL.Path)
		l.user, l.key, _ = r.BasicAuth()
		w.Header().Set("Content-Type", "application/json")
		switch {
		case r.URL.Path == "/webdriver/session" && l.refuses:
			w.WriteHeader(http.StatusInternalServerError)
			_, _ = io.WriteString(w, `{"value":{"error":"session not created","message":"no device would do","stacktrace":""}}`)
		case r.URL.Path == "/webdriver/session":
			assert.NoError(t, json.Unmarshal(body, &l.wanted), "%s", body)
			_, _ = io.WriteString(w, `{"value":{"sessionId":"ebb-1","capabilities":{"tessellant:device":{"serial":"orr-01"}}}}`)
		case strings.HasSuffix(r.URL.Path, "/source"):
			_, _ = io.WriteString(w, `{"value":"<screen>low water</screen>"}`)
		default:
			_, _ = io.WriteString(w, `{"value":null}`)
		}
	}))
	t.Cleanup(l.Close)
	return l
}

// run saves a program where it says, and runs it as it says.
func run(t *testing.T, language string, c Choice) (string, error) {
	t.Helper()
	l, program, err := Write(language, c)
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, l.File), []byte(program), 0o600))
	cmd := exec.CommandContext(t.Context(), "sh", "-c", l.Run)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "TESSELLANT_KEY=tsl_tide:table", "GOFLAGS=", "GOWORK=off")
	out, err := cmd.CombinedOutput()
	_, touched := os.Stat(filepath.Join(dir, "touched"))
	assert.Error(t, touched, "%s: a name was run as a command", language)
	return string(out), err
}

// hostile is a text that means something in each of the languages.
const hostile = "it's \"quoted\" `touch touched` $(touch touched) ${x} #{y} \\u0041 \\ </script> */ \"\"\" ''' %s\n\t🌊\u2028 & <b>"

func TestWhatIsAskedForArrivesAsItWasWritten(t *testing.T) {
	for _, l := range Languages {
		t.Run(l.Name, func(t *testing.T) {
			t.Parallel()
			s := listen(t, false)
			out, err := run(t, l.Name, Choice{URL: s.URL + "/", Build: "kelpline/android@newest", Where: []string{"os>=12", "maker=O'Dell,\\Fen`wick"}, Group: "nightly", Name: hostile})
			require.NoError(t, err, out)
			assert.Contains(t, out, "<screen>low water</screen>")
			assert.Equal(t, map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{"platformName": "android", "tessellant:build": "kelpline/android@newest",
				"tessellant:where": []any{"os>=12", "maker=O'Dell,\\Fen`wick"}, "tessellant:group": "nightly", "tessellant:name": hostile}}}, s.wanted)
			assert.Equal(t, "tsl_tide:table", s.key, "a key may have a colon")
			assert.Equal(t, []string{"POST /webdriver/session", "POST /webdriver/session/ebb-1/tessellant/case/begin", "GET /webdriver/session/ebb-1/source", "POST /webdriver/session/ebb-1/tessellant/case/end",
				"DELETE /webdriver/session/ebb-1"}, s.asked, "the session is ended")
		})
	}
}

func TestWhatIsRefusedIsSaidAndIsAFailure(t *testing.T) {
	for _, l := range Languages {
		t.Run(l.Name, func(t *testing.T) {
			t.Parallel()
			s := listen(t, true)
			out, err := run(t, l.Name, Choice{URL: s.URL})
			require.Error(t, err, "the program's exit code is not 0")
			assert.Contains(t, out, "no device would do")
			assert.Equal(t, []string{"POST /webdriver/session"}, s.asked)
		})
	}
}

func TestWhatIsLeftOutIsNotAskedFor(t *testing.T) {
	assert.JSONEq(t, `{"capabilities": {"alwaysMatch": {"platformName": "android"}}}`, Choice{}.capabilities())
	_, _, err := Write("latin", Choice{})
	require.ErrorContains(t, err, `there is no snippet in "latin"; there are shell, python, node, go, java`)
	var files []string
	for _, l := range Languages {
		files = append(files, l.File)
		assert.True(t, strings.HasSuffix(l.Run, l.File), "%s is run from its file", l.Name)
	}
	slices.Sort(files)
	assert.Len(t, slices.Compact(files), len(Languages))
}
