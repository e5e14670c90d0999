package planning

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/appfile"
	"tessellant/internal/core/devices"
)

func dev(serial string, api int, abi string) Device {
	return Device{ID: "id-" + serial, Facts: devices.Facts{Serial: serial, Platform: "android", OS: "x", API: api, ABIs: []string{abi}}}
}

func TestMakeGivesALegToEachFitDeviceAndARemedyForEachOther(t *testing.T) {
	app := appfile.Facts{Platform: "android", MinAPI: 26, ABIs: []string{"arm64-v8a"}}
	away := dev("d-4", 30, "arm64-v8a")
	away.Away = "its cable is out"
	p := Make(app, 3, []Device{dev("d-9", 34, "arm64-v8a"), dev("d-1", 26, "arm64-v8a"), dev("d-2", 25, "arm64-v8a"), dev("d-3", 34, "x86_64"), away}, devices.Filter{})
	require.Len(t, p.Devices, 2)
	assert.Equal(t, "d-1", p.Devices[0].Facts.Serial)
	assert.Equal(t, "d-9", p.Devices[1].Facts.Serial)
	assert.Empty(t, p.Blocked())
	require.Len(t, p.Findings, 3)
	assert.Contains(t, p.Findings[0].What, "needs API level 26, the device has 25")
	assert.Contains(t, p.Findings[1].What, "code for arm64-v8a")
	assert.Contains(t, p.Findings[2].What, "its cable is out")
	for _, f := range p.Findings {
		assert.NotEmpty(t, f.Remedy)
	}
}

func TestMakeBlocks(t *testing.T) {
	app := appfile.Facts{Platform: "android", MinAPI: 30}
	filter, err := devices.ParseFilter([]string{"maker=Nobody"}, nil)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		plan Plan
		why  string
	}{
		"an empty package":         {Make(app, 0, []Device{dev("a", 34, "x")}, devices.Filter{}), "no test cases"},
		"a filter without a match": {Make(app, 1, []Device{dev("a", 34, "x")}, filter), "no device matches maker=Nobody (1 known)"},
		"a serial nobody has":      {Make(app, 1, []Device{dev("a", 34, "x")}, devices.Filter{Units: []string{"a", "b"}}), `no device with the serial "b"`},
		"only unfit devices":       {Make(app, 1, []Device{dev("a", 29, "x")}, devices.Filter{}), "none of the 1 devices"},
		"another platform":         {Make(appfile.Facts{Platform: "ios"}, 1, []Device{dev("a", 29, "x")}, devices.Filter{}), "none of the 1 devices"},
	} {
		t.Run(name, func(t *testing.T) {
			require.NotEmpty(t, c.plan.Blocked())
			assert.Contains(t, c.plan.Blocked()[0].What, c.why)
		})
	}
}
