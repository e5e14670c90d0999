package android

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/adb/adbtest"
	"tessellant/internal/core/devices"
	"tessellant/internal/phone"
)

func TestFactsAreReadFromWhatDevicesSay(t *testing.T) {
	for name, c := range map[string]struct {
		out  string
		want devices.Facts
	}{
		"a phone with an override": {`[persist.sys.locale]: [de-AT]
[ro.product.locale]: [en-US]
[ro.build.characteristics]: [nosdcard]
[ro.build.version.release]: [13]
[ro.build.version.sdk]: [33]
[ro.product.cpu.abilist]: [arm64-v8a,armeabi-v7a]
[ro.product.manufacturer]: [Orrery]
[ro.product.model]: [Skerry 5]
Physical size: 1440x3200
Override size: 1080x2400
Physical density: 560
Override density: 420
MemTotal:        7812345 kB`,
			devices.Facts{Serial: "s", Platform: "android", OS: "13", API: 33, Maker: "Orrery", Model: "Skerry 5", Form: "phone", Origin: "real", Width: 1080, Height: 2400,
				Density: 420, MemoryMB: 7629, ABIs: []string{"arm64-v8a", "armeabi-v7a"}, Language: "de"}},
		"an emulated tablet of old": {"[ro.kernel.qemu]: [1]\r\n[ro.build.characteristics]: [tablet,emulator]\r\n[ro.product.cpu.abi]: [x86]\r\n[persist.sys.language]: [en]\r\nPhysical size: 800x1280\r\n",
			devices.Facts{Serial: "s", Platform: "android", Form: "tablet", Origin: "emulated", Width: 800, Height: 1280, ABIs: []string{"x86"}, Language: "en"}},
		"a device that says nothing": {"", devices.Facts{Serial: "s", Platform: "android", Form: "phone", Origin: "real"}},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, readFacts(c.out, "s")) })
	}
}

// played is an adb server made of answers, for what no stand-in does: it hears
// shell commands and answers each as the test says.
type played struct {
	*Device
	answers map[string]string
	mu      sync.Mutex
	heard   []string
	greets  string // what its shell says when it begins; "<exit>": it ends at once
	shells  int    // that were to be kept
}

// answers maps the beginning of a command to its output; an answer that ends
// in "<cut>" breaks off there, without an exit code.
func act(t *testing.T, answers map[string]string) *played {
	t.Helper()
	p := &played{answers: answers}
	p.Device = newDevice(&adb.Server{Address: adbtest.Serve(t, p.serve)}, "t-1")
	p.serial, p.features, p.api = "s-1", map[string]bool{"shell_v2": true, "cmd": true}, 30
	return p
}

// serve answers one request; more are to come until a service is opened.
func (p *played) serve(c net.Conn, request string) (more bool) {
	if request == "host:transport:gone" {
		adbtest.Fail(c, "device 'gone' not found")
		return false
	}
	_, _ = c.Write([]byte("OKAY"))
	kind, command, isService := strings.Cut(request, ":")
	if !isService || kind == "host" {
		return true
	}
	if command == "" {
		p.serveLines(c)
		return false
	}
	text, cut, silent := p.answer(command)
	if silent {
		_, _ = io.Copy(io.Discard, c)
		return false
	}
	if kind == "exec" {
		_, _ = io.WriteString(c, text)
		_ = c.(*net.TCPConn).CloseWrite()
		_, _ = io.Copy(io.Discard, c) // until the client has closed, too
		return false
	}
	packet(c, packetOut, text)
	if !cut {
		packet(c, packetExit, "\x00")
	}
	return false
}

func packet(c net.Conn, id byte, b string) {
	_, _ = c.Write(append(binary.LittleEndian.AppendUint32([]byte{id}, uint32(len(b))), b...))
}

// answer is what a command is answered with.
func (p *played) answer(command string) (text string, cut, silent bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.heard = append(p.heard, command)
	out := ""
	for begin, a := range p.answers {
		if strings.HasPrefix(command, begin) {
			out = a
		}
	}
	text, cut = strings.CutSuffix(out, "<cut>")
	return text, cut, out == "<silence>"
}

var frameForm = regexp.MustCompile(`(?s)^{ (.*)\n} </dev/null; echo (\S+:)\$\?; echo (\S+:) >&2\n$`)

// serveLines is a shell that is kept.
func (p *played) serveLines(c net.Conn) {
	p.mu.Lock()
	p.shells++
	greets := p.greets
	p.mu.Unlock()
	packet(c, packetOut, greets)
	if greets == "<exit>" {
		packet(c, packetExit, "\x7f")
		return
	}
	for {
		head := make([]byte, 5)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		body := make([]byte, binary.LittleEndian.Uint32(head[1:]))
		if _, err := io.ReadFull(c, body); err != nil {
			return
		}
		m := frameForm.FindStringSubmatch(string(body))
		if m == nil {
			packet(c, packetErr, "sh: syntax error\n")
			packet(c, packetExit, "\x01")
			return
		}
		text := ""
		if m[1] != ":" {
			var cut, silent bool
			if text, cut, silent = p.answer(m[1]); silent {
				_, _ = io.Copy(io.Discard, c)
				return
			}
			if cut {
				packet(c, packetOut, text)
				return
			}
		}
		// In pieces, as they may come.
		all := text + m[2] + "0\n"
		packet(c, packetOut, all[:len(all)/2])
		packet(c, packetErr, m[3]+"\n")
		packet(c, packetOut, all[len(all)/2:])
	}
}

var ctx = context.Background()

func TestInstallFailuresComeWithTheirRemedy(t *testing.T) {
	app := phone.App{ID: "a", Size: 3, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("apk")), nil }}
	for answer, want := range map[string][2]string{
		"Failure [INSTALL_FAILED_UPDATE_INCOMPATIBLE: Package a signatures do not match]": {"INSTALL_FAILED_UPDATE_INCOMPATIBLE", "another signer"},
		"Failure [INSTALL_FAILED_VERSION_DOWNGRADE]":                                      {"INSTALL_FAILED_VERSION_DOWNGRADE", "newer version"},
		"Failure [INSTALL_FAILED_USER_RESTRICTED: Install canceled by user]":              {"INSTALL_FAILED_USER_RESTRICTED", "tap Allow"},
		"Failure [INSTALL_FAILED_INSUFFICIENT_STORAGE]":                                   {"INSTALL_FAILED_INSUFFICIENT_STORAGE", "free some storage"},
		"Failure [INSTALL_FAILED_MISSING_SPLIT: Missing split for a]":                     {"INSTALL_FAILED_MISSING_SPLIT", "universal APK"},
		"Failure [INSTALL_PARSE_FAILED_NO_CERTIFICATES: no\nsignature]":                   {"INSTALL_PARSE_FAILED_NO_CERTIFICATES", "sign the build"},
		"Failure [INSTALL_FAILED_SOMETHING_NEW]":                                          {"INSTALL_FAILED_SOMETHING_NEW", "see the device's log"},
	} {
		var r *phone.Refused
		require.ErrorAs(t, act(t, map[string]string{"cmd package install": answer}).Install(ctx, app), &r, answer)
		assert.Equal(t, want[0], r.Code)
		assert.Contains(t, r.Remedy, want[1])
		assert.NotEmpty(t, r.Why)
	}
	require.NoError(t, act(t, map[string]string{"cmd package install": "Performing Streamed Install\nSuccess\n"}).Install(ctx, app))
	var lost *phone.Lost
	require.ErrorAs(t, act(t, nil).Install(ctx, app), &lost, "a device that says nothing at all went away")
}

func TestATreeIsAskedForAgainWhileTheScreenMoves(t *testing.T) {
	const tree = `<?xml version='1.0' ?><hierarchy rotation="0"><node class="android.widget.Button" text="Go" bounds="[0,0][9,9]"/></hierarchy>`
	for name, c := range map[string]struct {
		answers map[string]string
		looks   int
	}{
		"as it is":              {map[string]string{"rm -f": "UI hierchary dumped to: " + dumpFile + "\n" + tree}, 1},
		"with a warning before": {map[string]string{"rm -f": "WARNING: linker: unused\nUI hierchary dumped to: " + dumpFile + "\n" + tree}, 1},
	} {
		t.Run(name, func(t *testing.T) {
			p := act(t, c.answers)
			s, err := p.Tree(ctx)
			require.NoError(t, err)
			assert.Equal(t, "Go", s.All()[0].Text)
			assert.Len(t, p.heard, c.looks)
			_, err = p.Tree(ctx)
			require.NoError(t, err)
			assert.Len(t, p.heard, c.looks+1)
		})
	}
	p := act(t, map[string]string{"rm -f": "ERROR: something new.\n"})
	_, err := p.Tree(ctx)
	var r *phone.Refused
	require.ErrorAs(t, err, &r)
	assert.Contains(t, r.Error(), "something new")
	assert.Len(t, p.heard, 5)
}

func TestTextIsQuotedForTheShellAndForTheInputCommand(t *testing.T) {
	for text, want := range map[string][]string{
		"two words":   {"input text 'two%swords'"},
		"it's":        {`input text 'it'\''s'`},
		"50%":         {"input text '50%'"},
		"100%s":       {"input text '100%'", "input text 's'"},
		"a%b%sc":      {"input text 'a%b%'", "input text 'sc'"},
		"one\ntwo":    {"input text 'one'", "input keyevent KEYCODE_ENTER", "input text 'two'"},
		"$(reboot) &": {"input text '$(reboot)%s&'"},
		"":            nil,
	} {
		p := act(t, nil)
		require.NoError(t, p.Type(ctx, text))
		assert.Equal(t, want, p.heard, text)
	}
	require.Error(t, act(t, nil).Type(ctx, strings.Repeat("x", maxText+1)))
}

func TestADeviceThatBreaksOffIsLostAndOneThatIsSilentToo(t *testing.T) {
	var lost *phone.Lost
	p := act(t, map[string]string{"getprop": "[ro.a]: [b<cut>", "am force-stop": "<silence>", "screencap": "\x89PNG\r\n\x1a\nhalf"})
	_, err := p.Facts(ctx)
	require.ErrorAs(t, err, &lost, "no exit packet: it did not end, however it looks")
	_, err = p.Screenshot(ctx)
	require.ErrorAs(t, err, &lost, "half a picture")
	_, err = p.shell(ctx, "stop", "am force-stop a", 50*time.Millisecond)
	require.ErrorAs(t, err, &lost)
	assert.ErrorIs(t, err, errSilent)
	short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, p.Stop(short, "a"), context.DeadlineExceeded, "the caller's own limit is the caller's")
	p.transport = "gone"
	require.ErrorAs(t, p.Stop(ctx, "a"), &lost)
	assert.Contains(t, lost.Error(), "device 'gone' not found")
}

func TestPicturesAreCheckedBeforeTheyAreBelieved(t *testing.T) {
	raw := func(w, h, format uint32, colour bool, pixels int) string {
		b := binary.LittleEndian.AppendUint32(nil, w)
		b = binary.LittleEndian.AppendUint32(b, h)
		b = binary.LittleEndian.AppendUint32(b, format)
		if colour {
			b = binary.LittleEndian.AppendUint32(b, 1)
		}
		return string(append(b, make([]byte, pixels*4)...))
	}
	for _, colour := range []bool{true, false} {
		img, err := act(t, map[string]string{"screencap": raw(3, 2, 1, colour, 6)}).Pixels(ctx)
		require.NoError(t, err)
		assert.Equal(t, 3, img.Rect.Dx())
		assert.Len(t, img.Pix, 24)
	}
	var r *phone.Refused
	_, err := act(t, map[string]string{"screencap": raw(3, 2, 4, false, 6)}).Pixels(ctx)
	require.ErrorAs(t, err, &r, "another format")
	_, err = act(t, map[string]string{"screencap": "[Warning] Multiple displays were found"}).Pixels(ctx)
	require.ErrorAs(t, err, &r, "a text")
	var lost *phone.Lost
	_, err = act(t, map[string]string{"screencap": raw(3, 2, 1, false, 5)}).Pixels(ctx)
	require.ErrorAs(t, err, &lost, "broken off")
	_, err = act(t, map[string]string{"screencap": "screencap: permission denied"}).Screenshot(ctx)
	require.ErrorAs(t, err, &r)
}

func TestClocksOfOldSystemsKnowWholeSecondsOnly(t *testing.T) {
	now, err := act(t, map[string]string{"date": "1700000000.250000000\n"}).Now(ctx)
	require.NoError(t, err)
	assert.Equal(t, int64(1700000000250), now.UnixMilli())
	now, err = act(t, map[string]string{"date": "1700000000.%N\n"}).Now(ctx)
	require.NoError(t, err)
	assert.Equal(t, int64(1700000000500), now.UnixMilli(), "the middle of the second")
	_, err = act(t, map[string]string{"date": "bad format"}).Now(ctx)
	require.Error(t, err)
}

func TestLaunchReadsTheTextBecauseTheExitCodeSaysNothing(t *testing.T) {
	app := phone.App{ID: "a", Activity: "a.Main"}
	require.NoError(t, act(t, map[string]string{"am start": "Starting: Intent\nStatus: ok\nComplete"}).Launch(ctx, app))
	var r *phone.Refused
	require.ErrorAs(t, act(t, map[string]string{"am start": "Error type 3\nError: Activity class {a/a.Main} does not exist."}).Launch(ctx, app), &r)
	p := act(t, map[string]string{"cmd package resolve-activity": "priority=0\na/.Door\n", "am start": "Status: ok"})
	require.NoError(t, p.Launch(ctx, phone.App{ID: "a"}))
	assert.Equal(t, "am start -W -a android.intent.action.MAIN -c android.intent.category.LAUNCHER -n 'a/.Door'", p.heard[1])
	require.ErrorAs(t, act(t, map[string]string{"cmd package resolve-activity": "No activity found"}).Launch(ctx, phone.App{ID: "a"}), &r)
}

func TestNoAnswerGrowsWithoutBound(t *testing.T) {
	served := adbtest.Serve(t, func(c net.Conn, request string) bool {
		_, _ = c.Write([]byte("OKAY"))
		if strings.HasPrefix(request, "host:") {
			return true
		}
		_, _ = c.Write([]byte{packetOut, 0xff, 0xff, 0xff, 0xff})
		_, _ = io.Copy(io.Discard, c)
		return false
	})
	d := newDevice(&adb.Server{Address: served}, "t-1")
	d.features = map[string]bool{"shell_v2": true}
	_, err := d.shell(ctx, "read", "x", time.Minute)
	assert.ErrorContains(t, err, "more than")
	require.NoError(t, d.Close())
	_, err = d.shell(ctx, "read", "x", time.Minute)
	assert.ErrorIs(t, err, os.ErrClosed)
}
