package android

// What devices say, in the forms that are known (testdata), and in any other: none brings a host down.

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/uitree"
)

func said(t testing.TB, name string) string {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return string(raw)
}

func TestTheKnownFormsAreRead(t *testing.T) {
	f := readFacts(said(t, "getprop-34.txt"), "s")
	assert.Equal(t, []any{34, "Skerry 5", 1080, 2400, 420, "de"}, []any{f.API, f.Model, f.Width, f.Height, f.Density, f.Language})
	assert.Contains(t, readFocus(said(t, "window-30.txt")), "com.android.permissioncontroller/")
	assert.Empty(t, readFocus(said(t, "window-off.txt")))
	for name, want := range map[string][2]bool{"policy-29.txt": {true, true}, "policy-22.txt": {true, true}, "window-off.txt": {false, false}} {
		shown, secure := readLock(said(t, name))
		assert.Equal(t, want, [2]bool{shown, secure}, name)
	}
	assert.Equal(t, map[string]bool{"android.permission.CAMERA": true, "android.permission.POST_NOTIFICATIONS": false}, readPermits(said(t, "package-33.txt"), ""))
	assert.Equal(t, map[string]bool{"android.permission.CAMERA": false}, readPermits(said(t, "package-33.txt"), "10"))
	assert.False(t, readKeyboard(said(t, "input_method-34.txt")), "a keyboard is attached")
	id, several := readDisplay(said(t, "display-fold.txt"))
	assert.Equal(t, "4619827551948147201", id)
	assert.True(t, several)
	for name, want := range map[string]int{"df-30.txt": 58045, "df-21.txt": 8499} {
		mb, ok := readFree(said(t, name))
		assert.True(t, ok, name)
		assert.Equal(t, want, mb, name)
	}
	c := readCounters(said(t, "proc-33.txt"))
	assert.Equal(t, counters{busy: 13532763, whole: 60377929, total: 5751484, available: 2421188, net: true, in: 73453918, out: 5125841, apps: 1, pid: 14207, threads: 31, used: 1015, pss: 98304}, c, "the loopback does not count")
	for name, want := range map[string]int64{"meminfo-34.txt": 98304, "meminfo-22.txt": 51234} {
		kB, ok := totalPSS(said(t, name))
		assert.True(t, ok, name)
		assert.Equal(t, want, kB, name)
	}
	frames, ok := readFrames(said(t, "gfxinfo-30.txt"))
	assert.True(t, ok)
	assert.Equal(t, frameCount{1201, 36}, frames)
	level, heat, ok := battery(said(t, "battery-30.txt"))
	assert.True(t, ok)
	assert.Equal(t, []float64{87, 30.5}, []float64{level, heat})
	assert.NotEmpty(t, readCounters("@stat\nno such thing\n@meminfo\n\n@net\nx: y\n@app\n12 (a S").unread, "what makes no sense is counted")
	p, ok := readPanel(said(t, "getevent-31.txt"))
	assert.True(t, ok)
	assert.Equal(t, panel{device: "/dev/input/event2", maxX: 1079, maxY: 2339}, p)
	for told, want := range map[string]string{"orr-01": "orr-01", "0123456789ABCDEF": "usb:1-4", "unknown": "usb:1-4", "": "usb:1-4", "EMULATOR31X3X12X0": "usb:1-4", "0": "usb:1-4"} {
		assert.Equal(t, want, unitSerial(told, "usb:1-4"), told)
	}
}

// FuzzSaid reads anything at all as the answer to everything that devices are asked.
func FuzzSaid(f *testing.F) {
	names, err := filepath.Glob("testdata/*.txt")
	require.NoError(f, err)
	for _, n := range names {
		f.Add(said(f, filepath.Base(n)))
	}
	f.Add("")
	f.Add(strings.Repeat("[", 1000))
	f.Fuzz(func(t *testing.T, out string) {
		facts := readFacts(out, "s")
		if facts.Width < 0 || facts.Height < 0 || facts.MemoryMB < 0 {
			t.Fatalf("a screen of %d×%d, %d MB", facts.Width, facts.Height, facts.MemoryMB)
		}
		_ = readFocus(out)
		_, _ = readLock(out)
		_ = readPermits(out, "10")
		_ = readKeyboard(out)
		_, _ = readDisplay(out)
		if mb, ok := readFree(out); ok && mb < 0 {
			t.Fatalf("%d MB are free", mb)
		}
		if p, ok := readPanel(out); ok && (p.maxX <= 0 || p.maxY <= 0) {
			t.Fatalf("a panel is %+v", p)
		}
		c := readCounters(out)
		if c.used < 0 || c.threads < 0 {
			t.Fatalf("counters of %+v", c)
		}
		_, _ = totalPSS(out)
		if f, ok := readFrames(out); ok && f.late > f.drawn {
			t.Fatalf("frames of %+v", f)
		}
		_, _, _ = battery(out)
		_, _ = ownPort(out)
		_ = unitSerial(out, "t")
		_ = value(out)
		_ = latin(out, out)
		if m := failureForm.FindStringSubmatch(out); m != nil && m[1] == "" {
			t.Fatal("a failure without a code")
		}
		if l, ok := devicelog.Parse(out, 2026); ok {
			var finder devicelog.Finder
			finder.Feed(l)
			finder.Flush()
		}
		_, _ = uitree.ParseAndroid([]byte(out))
	})
}

func TestAStartThatNobodySawTookNoTime(t *testing.T) {
	for said, want := range map[string]string{
		"Status: ok\nLaunchState: COLD\nActivity: a/.B\nTotalTime: 412\nWaitTime: 420\nComplete\n":              "cold start, 412 ms",
		"Status: ok\r\nActivity: a/.B\r\nThisTime: 300\r\nTotalTime: 300\r\nWaitTime: 310\r\nComplete\r\n":      "start, 300 ms",
		"Status: timeout\nActivity: a/.B\nTotalTime: 0\nWaitTime: 10000\nComplete\n":                            "",
		"Warning: Activity not started, its current task has been brought to the front\nStatus: ok\nComplete\n": "",
	} {
		d := &Device{}
		d.came("a", said)
		assert.Equal(t, want, d.Start("a"), said)
	}
}
