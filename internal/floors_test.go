package internal

import (
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the storeys of the house, the highest first. A package imports from
// lower floors only, and from its own floor only what beside says.
var floors = [][]string{
	{"cmd/tessellant", "cmd/tessellantd"},
	{"internal/demo"},
	{"internal/serve", "internal/doctor"},
	{"internal/house"},
	{"internal/cli"},
	{"internal/httpd"},
	{"internal/service", "internal/host"},
	{"internal/service/fleet"},
	{"internal/service/hosts"},
	{"internal/service/dispatcher"},
	{"internal/service/shares", "internal/service/screens"},
	{"internal/service/evidence", "internal/service/upkeep", "internal/service/reports", "internal/service/bisections", "internal/service/looks", "internal/service/hands"},
	{"internal/service/runs"},
	{"internal/service/sessions", "internal/service/plans", "internal/service/answers"},
	{"internal/service/content", "internal/service/pools"},
	{"internal/service/access", "internal/service/paging", "internal/service/orders", "internal/service/queue", "internal/service/specs", "internal/service/feed", "internal/service/chore"},
	{"internal/service/secrets"},
	{"internal/service/refuse"},
	{"internal/host/runners", "internal/host/desk"},
	{"internal/host/attempt", "internal/host/runner/script", "internal/host/runner/program", "internal/host/runner/session"},
	{"internal/host/runner/beside", "internal/host/runner/listeners"},
	{"internal/host/runner", "internal/host/hands"},
	{"internal/host/casebook", "internal/host/orders", "internal/host/turns", "internal/host/listening"},
	{"internal/host/record"},
	{"internal/host/film", "internal/host/routes"},
	{"internal/host/spool"},
	{"internal/hostlink/remote", "internal/hostlink/hostlinktest"},
	{"internal/script", "internal/remoteend", "internal/sandbox", "internal/checkup"},
	{"internal/webpage"},
	{"internal/devtools"},
	{"internal/lab/browserlab"},
	{"internal/browserbox"},
	{"internal/confine", "internal/lab/adblab", "internal/lab/wdlab", "internal/lab/startlab"},
	{"internal/lab"},
	{"internal/phone", "internal/phone/android", "internal/phone/wd", "internal/phone/phonetest"},
	{"internal/adb", "internal/store", "internal/localdb", "internal/blobs", "internal/bus", "internal/proxy", "internal/tunnel", "api", "console"},
	{"internal/hostlink"},
	{"internal/guard"},
	{"internal/child"},
	{"internal/core/ours"},
	{"internal/core/bidi"},
	{"internal/core/planning", "internal/core/runfile", "internal/core/labfile", "internal/core/dispatch", "internal/core/testpkg", "internal/core/report", "internal/core/w3c", "internal/core/junit", "internal/core/snippet", "internal/core/backup", "internal/core/triage"},
	{"internal/core/work", "internal/core/steps"},
	{"internal/core/recording"},
	{"internal/core/conditions", "internal/core/pools"},
	{"internal/core/remarks"},
	{"internal/core/catalogue", "internal/core/locators", "internal/core/scribe"},
	{"internal/core/appfile", "internal/core/devicelog", "internal/core/masking", "internal/core/devices", "internal/core/timeline", "internal/core/uitree", "internal/core/verdict", "internal/core/gauges", "internal/core/har", "internal/core/netprofile"},
	{"internal/core/tracks", "internal/core/likeness"},
	{"internal/core/zipdir", "internal/core/foreign", "internal/core/versions", "internal/core/access", "internal/core/envelope", "internal/core/nearest", "internal/core/labels", "internal/core/h264", "internal/core/routes"},
}

// beside are the arrows within a floor.
var beside = map[string]string{
	"internal/phone/android":   "internal/phone",
	"internal/phone/wd":        "internal/phone",
	"internal/phone/phonetest": "internal/phone",
}

// pure lists what the core must not touch: it computes, and that is all.
var impure = []string{"net/http", "net", "os", "os/exec", "database/sql", "github.com/labstack/echo/v5", "github.com/jmoiron/sqlx"}

// devicesAlone are the packages that only those beside devices need; the service must do without them.
var devicesAlone = []string{"internal/adb", "internal/phone/android", "internal/phone/wd", "internal/lab/adblab", "internal/lab/wdlab", "internal/lab/startlab", "internal/lab/browserlab", "internal/sandbox", "internal/script", "internal/host"}

type pkg struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func list(t *testing.T) []pkg {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "./...")
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	var all []pkg
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		err := dec.Decode(&p)
		if errors.Is(err, io.EOF) {
			return all
		}
		require.NoError(t, err)
		all = append(all, p)
	}
}

func TestNoArrowRunsUp(t *testing.T) {
	floor := map[string]int{}
	for i, f := range floors {
		for _, p := range f {
			floor[p] = i
		}
	}
	seen := map[string]bool{}
	for _, p := range list(t) {
		from := strings.TrimPrefix(p.ImportPath, "tessellant/")
		seen[from] = true
		if from == "internal" || strings.HasPrefix(from, "internal/housetest") || strings.HasPrefix(from, "bench") || strings.HasPrefix(from, "docs") || strings.HasPrefix(from, "demo") {
			continue
		}
		for _, im := range p.Imports {
			to, ours := strings.CutPrefix(im, "tessellant/")
			if strings.HasPrefix(from, "internal/core/") {
				assert.NotContains(t, impure, im, "%s computes alone, but imports %s", from, im)
			}
			if !ours {
				continue
			}
			assert.NotEqual(t, "internal/housetest", to, "%s: only tests import the tests' house", from)
			if strings.HasPrefix(from, "internal/standin/") {
				assert.True(t, strings.HasPrefix(to, "internal/core/") || strings.HasPrefix(to, "internal/standin/"), "%s is a stand-in and imports %s", from, to)
				continue
			}
			if strings.HasPrefix(to, "internal/standin/") {
				assert.Equal(t, "internal/demo", from, "%s imports the stand-in %s", from, to)
				continue
			}
			a, ok := floor[from]
			if !assert.True(t, ok, "%s has no floor in this test", from) {
				break
			}
			b, ok := floor[to]
			if assert.True(t, ok, "%s has no floor in this test", to) && a >= b {
				assert.True(t, a == b && beside[from] == to, "%s imports %s, which is not on a lower floor", from, to)
			}
		}
	}
	for p := range floor {
		assert.True(t, seen[p], "%s is on a floor and does not exist", p)
	}
}

// most is how many packages of ours one may import. The core counts as one: it is the words that all speak.
const most = 12

// assemblers put rooms together, and do nothing else.
var assemblers = []string{"internal/house", "internal/service", "internal/cli", "internal/demo"}

func TestNoRoomHasTooManyDoors(t *testing.T) {
	for _, p := range list(t) {
		from := strings.TrimPrefix(p.ImportPath, "tessellant/")
		if !strings.HasPrefix(from, "internal/") || slices.Contains(assemblers, from) || strings.HasPrefix(from, "internal/housetest") {
			continue
		}
		doors := map[string]bool{}
		for _, im := range p.Imports {
			if to, ours := strings.CutPrefix(im, "tessellant/"); ours {
				if strings.HasPrefix(to, "internal/core/") {
					to = "internal/core"
				}
				doors[to] = true
			}
		}
		assert.LessOrEqual(t, len(doors), most, "%s imports so many packages of ours: is it one idea? %v", from, slices.Sorted(maps.Keys(doors)))
	}
}

// The client's commands start at once.
func TestTheClientStartsWithoutTheService(t *testing.T) {
	for _, p := range list(t) {
		if from := strings.TrimPrefix(p.ImportPath, "tessellant/"); from != "internal/cli" && from != "cmd/tessellant" {
			continue
		}
		for _, d := range p.Deps {
			for _, heavy := range []string{"tessellant/internal/service", "tessellant/internal/store", "tessellant/internal/host", "tessellant/internal/bus", "tessellant/internal/httpd", "tessellant/internal/house", "tessellant/internal/standin", "tessellant/internal/script",
				"github.com/nats-io", "github.com/prometheus", "google.golang.org/grpc", "gocloud.dev", "github.com/jmoiron/sqlx"} {
				assert.False(t, strings.HasPrefix(d, heavy), "%s needs %s", p.ImportPath, d)
			}
		}
	}
}

func TestTheServiceKnowsNoDriver(t *testing.T) {
	for _, p := range list(t) {
		switch from := strings.TrimPrefix(p.ImportPath, "tessellant/"); from {
		case "internal/service", "internal/httpd":
			for _, d := range devicesAlone {
				assert.NotContains(t, p.Deps, "tessellant/"+d, "%s speaks to devices through hosts alone", from)
			}
		}
	}
}
