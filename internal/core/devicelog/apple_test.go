package devicelog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALineOfIOSIsTakenApart(t *testing.T) {
	l, ok := Parse("2026-05-06 07:08:09.123456+0200  Larch-4 Kelpline[312]: (Tides) <Error>: it can't be reached", 0)
	require.True(t, ok)
	assert.Equal(t, Line{time.Date(2026, 5, 6, 5, 8, 9, 123456000, time.UTC), 312, 312, 'E', "Kelpline", "(Tides) it can't be reached"}, l)
	for _, s := range []string{"2026-05-06 07:08:09.123456+0200", "2026-05-06 07:08:09.123456+0200  Larch-4 Kelpline: no number", "2026-99-06 07:08:09.123456+0200  a b[1]: c", "2026-05-06 07:08:09.123456+0200  a [1]: c"} {
		_, ok := Parse(s, 0)
		assert.False(t, ok, s)
	}
}

func TestADeathOnIOSIsFoundWithWhoseItWas(t *testing.T) {
	var f Finder
	feed(&f, `
2026-05-06 07:08:09.000000+0000  Larch-4 SpringBoard[58]: (FrontBoard) [app<org.kelpline.app>:303] launched
2026-05-06 07:08:10.000000+0000  Larch-4 Kelpline[303]: *** Terminating app due to uncaught exception 'NSRangeException', reason: 'no such tide'
2026-05-06 07:08:10.000000+0000  Larch-4 Kelpline[303]: *** First throw call stack:
2026-05-06 07:08:10.000000+0000  Larch-4 mail[99]: somebody else
2026-05-06 07:08:10.100000+0000  Larch-4 SpringBoard[58]: (FrontBoard) [app<org.kelpline.app>:303] process exited: <RBSProcessExitContext| specific, status:<RBSProcessExitStatus| domain:signal(2) code:SIGABRT(6)>>
2026-05-06 07:08:11.000000+0000  Larch-4 SpringBoard[58]: (FrontBoard) [app<org.other>:310] process exited: <RBSProcessExitContext| specific, status:<RBSProcessExitStatus| domain:signal(2) code:SIGSEGV(11)>>
2026-05-06 07:08:12.000000+0000  Larch-4 SpringBoard[58]: (FrontBoard) [app<org.calm>:311] process exited: <RBSProcessExitContext| voluntary>`)
	require.Len(t, f.Crashes(), 2)
	c := f.Crashes()[0]
	assert.True(t, c.Of("org.kelpline.app"))
	assert.Equal(t, "Terminating app due to uncaught exception 'NSRangeException', reason: 'no such tide'", c.Problem)
	assert.Contains(t, c.Trace, "First throw call stack")
	assert.NotContains(t, c.Trace, "somebody else")
	assert.Equal(t, "the app ended by the signal SIGSEGV", f.Crashes()[1].Problem)
}
