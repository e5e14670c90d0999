package devicelog

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	l, ok := Parse("         1700000000.123  1234  1250 I Tag     : text: more\r\n", 0)
	require.True(t, ok)
	assert.Equal(t, Line{time.UnixMilli(1700000000123).UTC(), 1234, 1250, 'I', "Tag", "text: more"}, l)
	l, ok = Parse("05-06 07:08:09.250  1  2 W A: b", 2031)
	require.True(t, ok)
	assert.Equal(t, time.Date(2031, 5, 6, 7, 8, 9, 250e6, time.UTC), l.At)
	l, ok = Parse("1700000000.123  1  2 I Tag:", 0)
	require.True(t, ok)
	assert.Empty(t, l.Text)
	for _, s := range []string{"", "--------- beginning of main", "read: unexpected EOF!"} {
		_, ok := Parse(s, 0)
		assert.False(t, ok, s)
	}
}

func feed(f *Finder, log string) {
	for _, s := range strings.Split(strings.TrimSpace(log), "\n") {
		if l, ok := Parse(s, 0); ok {
			f.Feed(l)
		}
	}
}

func TestACrashIsFoundWithItsTraceAmongOtherLines(t *testing.T) {
	var f Finder
	feed(&f, `
1700000001.000  4207  4207 E AndroidRuntime: FATAL EXCEPTION: main
1700000001.000  4207  4207 E AndroidRuntime: Process: org.kelpline.app, PID: 4207
1700000001.001   812   812 I Other   : not part of it
1700000001.000  4207  4207 E AndroidRuntime: java.lang.IllegalStateException: low tide
1700000001.000  4207  4207 E AndroidRuntime: 	at org.kelpline.app.Tide.show(Tide.java:12)
1700000001.000  9999  9999 E AndroidRuntime: 	at somebody.else
1700000001.000  4207  4207 E AndroidRuntime: Caused by: java.lang.NullPointerException`)
	require.Len(t, f.Crashes(), 1)
	c := f.Crashes()[0]
	assert.Equal(t, "org.kelpline.app", c.App)
	assert.Equal(t, "java.lang.IllegalStateException: low tide", c.Problem)
	assert.Contains(t, c.Trace, "Tide.java:12")
	assert.Contains(t, c.Trace, "Caused by")
	assert.NotContains(t, c.Trace, "not part of it")
	assert.NotContains(t, c.Trace, "somebody.else")
}

func TestADeathByASignalIsFound(t *testing.T) {
	var f Finder
	feed(&f, `
1700000001.000  4207  4210 F libc: Fatal signal 11 (SIGSEGV), code 1, fault addr 0x0 in tid 4210 (worker), pid 4207 (org.kelpline.app)
1700000001.050  5000  5000 F DEBUG: pid: 4207, tid: 4210, name: worker  >>> org.kelpline.app <<<
1700000001.051  5000  5000 F DEBUG:     #00 pc 0001  libkelp.so (grow+16)`)
	require.Len(t, f.Crashes(), 1)
	c := f.Crashes()[0]
	assert.True(t, c.Native)
	assert.Equal(t, "org.kelpline.app", c.App)
	assert.Contains(t, c.Trace, "grow+16")
}

func TestATraceWithoutEndIsCut(t *testing.T) {
	var f Finder
	feed(&f, "1700000001.000  7  7 E AndroidRuntime: FATAL EXCEPTION: main\n"+strings.Repeat("1700000001.000  7  7 E AndroidRuntime: \tat a.b.c\n", 2000))
	require.Len(t, f.Crashes(), 1)
	assert.LessOrEqual(t, strings.Count(f.Crashes()[0].Trace, "\n"), maxTrace+1)
}

func TestADeathByASignalWaitsForTheWholeName(t *testing.T) {
	const died = "1700000001.000  4207  4210 F libc: Fatal signal 6 (SIGABRT), code -1 in tid 4210 (worker), pid 4207 (g.kelpline.app)\n"
	for name, c := range map[string]struct {
		log  string
		app  string
		cut  bool
		told int
	}{
		"the tombstone names it":     {"1700000001.050  5000  5000 F DEBUG: pid: 4207, tid: 4210, name: worker  >>> org.kelpline.app <<<", "org.kelpline.app", false, 1},
		"a newer one does":           {"1700000001.050  5000  5000 F DEBUG: Cmdline: org.kelpline.app:sync", "org.kelpline.app:sync", false, 1},
		"no tombstone comes":         {"1700000004.000  1  1 I other: later", "g.kelpline.app", true, 1},
		"it has not come":            {"1700000001.500  1  1 I other: at once", "g.kelpline.app", true, 0},
		"another app dies meanwhile": {"1700000001.010  9  9 E AndroidRuntime: FATAL EXCEPTION: main", "g.kelpline.app", true, 1},
	} {
		var f Finder
		feed(&f, strings.Replace(died, "g.kelpline.app", "rg.kelpline.app", 1)+c.log)
		require.Len(t, f.Crashes(), c.told, name)
		f.Flush()
		f.Flush()
		require.Len(t, f.Crashes(), 1, name)
		got := f.Crashes()[0]
		assert.Equal(t, strings.Replace(c.app, "g.kelpline.app", map[bool]string{true: "rg.kelpline.app", false: "g.kelpline.app"}[c.cut], 1), got.App, name)
		assert.Equal(t, c.cut, got.Cut, name)
		assert.True(t, got.Of("org.kelpline.app"), name)
		assert.False(t, got.Of("org.kelpline.other"), name)
		assert.False(t, got.Of(""), name)
	}
}

func TestADeathOfNobodyIsNoApps(t *testing.T) {
	var f Finder
	feed(&f, `
1700000001.000  77  77 E AndroidRuntime: FATAL EXCEPTION: main
1700000001.000  77  77 E AndroidRuntime: java.lang.IllegalStateException: a tool of the shell`)
	require.Len(t, f.Crashes(), 1)
	assert.False(t, f.Crashes()[0].Of(""), "a session without a build watches no app")
	assert.False(t, f.Crashes()[0].Of("org.kelpline.app"))
	assert.True(t, (&Crash{App: "ine.app:syncing", Cut: true}).Of("org.kelpline.app"))
}
