package android

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/phone"
	standin "tessellant/internal/standin/phone"
)

// onAPhone opens a simulated phone behind a real adb server.
func onAPhone(t *testing.T) (*adb.Process, *standin.Phone, *Device) {
	t.Helper()
	server, err := adb.StartServer(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Close)
	fleet, err := standin.ReadFleetFile("../../../demo/fleet.yaml", false)
	require.NoError(t, err)
	fleet[0].Temper = standin.Instant
	p, err := standin.Start(fleet[0], "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(p.Close)
	require.NoError(t, server.Connect(ctx, p.Address()))
	var d *Device
	require.Eventually(t, func() bool {
		d, err = Open(ctx, &server.Server, p.Address())
		return err == nil
	}, time.Minute, 10*time.Millisecond)
	return server, p, d
}

func TestAKeptShellAnswersAsOneOfACommandsOwn(t *testing.T) {
	_, _, d := onAPhone(t)
	first := d.keeps.shell
	require.NotNil(t, first)
	for _, line := range []string{
		"getprop ro.serialno; getprop ro.build.version.sdk", "echo", "echo a b", "cmd nobody here", "nothing like this", "input tap", "false", "true && echo yes",
		"cat", // has nothing to read, and leaves the next command alone
		"getprop", "getprop; wm size; cat /proc/meminfo", "echo 'two\nlines'", `printf 'no end of line'`, "printf x >&2", "echo tessellant-end:0", "cat /not/there", "echo late; nothing >&2", "{ echo a; }",
		"echo $?", "(exit 3)", "input text 'it'\\''s'", "input motionevent DOWN 5 5 && sleep 0.001 && input motionevent UP 5 5",
	} {
		own, err := d.shellV2(ctx, "answer", "{ "+line+"\n} </dev/null")
		require.NoError(t, err, line)
		got, ok, err := d.inKept(ctx, "answer", line)
		require.NoError(t, err, line)
		require.True(t, ok, line)
		assert.Equal(t, own.text(), got.text(), line)
		assert.Equal(t, own.code, got.code, line)
		assert.Same(t, first, d.keeps.shell, line)
	}
	// More than one packet takes.
	a, err := d.shell(ctx, "say much", "echo '"+strings.Repeat("low water ", 60_000)+"'", quick)
	require.NoError(t, err)
	assert.Len(t, a.out, 600_001)
	// A line that ends the shell is answered, and the next has another.
	a, err = d.shell(ctx, "end", "echo bye; exit 3", quick)
	require.NoError(t, err)
	assert.Equal(t, "bye 3", a.text()+" "+string(rune('0'+a.code)))
	require.NoError(t, d.Answers(ctx, quick))
	assert.NotSame(t, first, d.keeps.shell)
	require.NoError(t, d.Close())
	assert.Nil(t, d.keeps.shell)
}

func TestAKeptShellDoesNotOutliveItsDevice(t *testing.T) {
	server, p, d := onAPhone(t)
	first := d.keeps.shell
	require.NotNil(t, first)
	p.Unplug()
	require.Eventually(t, func() bool { return !first.alive() }, time.Minute, 10*time.Millisecond)
	require.NoError(t, server.Disconnect(ctx, p.Address()))
	var lost *phone.Lost
	require.ErrorAs(t, d.Answers(ctx, quick), &lost)
	require.Eventually(t, func() bool {
		_ = server.Connect(ctx, p.Address())
		return d.Answers(ctx, quick) == nil
	}, time.Minute, 10*time.Millisecond)
	assert.NotSame(t, first, d.keeps.shell)
	assert.False(t, d.keeps.never)
}

func TestACommandThatTakesTooLongTakesItsShellWithIt(t *testing.T) {
	_, p, d := onAPhone(t)
	first := d.keeps.shell
	p.Freeze()
	var lost *phone.Lost
	err := d.Answers(ctx, 100*time.Millisecond)
	require.ErrorAs(t, err, &lost)
	require.ErrorIs(t, err, errSilent)
	assert.Nil(t, d.keeps.shell)
	p.Thaw()
	require.NoError(t, d.Answers(ctx, quick))
	assert.NotSame(t, first, d.keeps.shell)
	// A device that went to sleep between two commands, and is cut off in the second.
	time.AfterFunc(100*time.Millisecond, p.Unplug)
	_, err = d.shell(ctx, "wait", "sleep 20", quick)
	require.ErrorAs(t, err, &lost)
	assert.ErrorIs(t, err, errCut)
}

func TestCommandsAtTheSameTimeDoNotWaitForEachOther(t *testing.T) {
	_, _, d := onAPhone(t)
	long, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	all.Go(func() { _, _ = d.shell(long, "wait", "sleep 60", 2*time.Minute) })
	require.Eventually(t, func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.keeps.busy
	}, time.Minute, time.Millisecond)
	for range 20 {
		all.Go(func() { assert.NoError(t, d.Answers(ctx, quick)) })
	}
	require.NoError(t, d.Answers(ctx, quick))
	cancel()
	all.Wait()
}

func TestADeviceWithoutSuchAShellWorksAsWell(t *testing.T) {
	p := act(t, map[string]string{"date": "1700000000.250000000\n"})
	p.greets = "<exit>"
	for range 3 {
		_, err := p.Now(ctx)
		require.NoError(t, err)
	}
	assert.Equal(t, 1, p.shells, "it is tried once")

	p = act(t, map[string]string{"date": "1700000000.250000000\n"})
	p.greets = "Welcome to Skerry!\n" // a profile that says something
	for range 3 {
		now, err := p.Now(ctx)
		require.NoError(t, err)
		assert.Equal(t, int64(1700000000250), now.UnixMilli())
	}
	assert.Equal(t, 1, p.shells)
	p.letGo() // as it does when nobody wants it for a while
	_, err := p.Now(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, p.shells)
}

func TestMarksAreFoundAtTheEndOnly(t *testing.T) {
	for said, want := range map[string][2]string{"": {"", "-"}, "m:0\n": {"", "0"}, "a\nm:255\n": {"a\n", "255"}, "am:1\n": {"a", "1"}, "m:0": {"m:0", "-"},
		"m:0\nm:1\n": {"m:0\n", "1"}, "m:0\nlonger\n": {"m:0\nlonger\n", "-"}, "\n": {"\n", "-"}, "m:\n": {"", ""}} {
		rest, behind, ok := cutMark([]byte(said), "m:")
		assert.Equal(t, want[0], string(rest), "%q", said)
		if want[1] == "-" {
			assert.False(t, ok, "%q", said)
		} else {
			assert.Equal(t, want[1], behind, "%q", said)
		}
	}
}
