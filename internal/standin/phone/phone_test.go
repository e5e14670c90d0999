package phone_test

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/housetest"
	"tessellant/internal/standin/phone"
)

// desk is a simulated phone with Debian's own adb command before it: what is
// under test is that the real client and server take it for a phone.
type desk struct {
	t     *testing.T
	phone *phone.Phone
	port  string
}

func plug(t *testing.T, change func(*phone.Traits)) *desk {
	t.Helper()
	server := housetest.ADB(t)
	traits := housetest.Fleet(t)["orr-01"]
	traits.Temper = phone.Instant
	if change != nil {
		change(&traits)
	}
	p := housetest.Phone(t, server, traits)
	return &desk{t, p, server.Address[strings.LastIndex(server.Address, ":")+1:]}
}

// adb runs the adb command and gives what it wrote.
func (d *desk) adb(args ...string) (string, error) {
	cmd := exec.Command("adb", append([]string{"-P", d.port, "-s", d.phone.Address()}, args...)...)
	cmd.Env = append(os.Environ(), "HOME="+d.t.TempDir())
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (d *desk) must(args ...string) string {
	d.t.Helper()
	out, err := d.adb(args...)
	require.NoError(d.t, err, out)
	return out
}

func TestTheShellAnswersAsAnAndroidDoes(t *testing.T) {
	d := plug(t, nil)
	d.must("install", "-r", housetest.Kelpline(t))
	for command, want := range map[string]string{
		"getprop ro.product.model":        "Skerry 5\n",
		"getprop | sed s/a/b/; echo $?":   "/system/bin/sh: sed: inaccessible or not found\n127\n",
		"getprop | grep nothing; echo $?": "1\n",
		"getprop | grep .model":           "[ro.product.model]: [Skerry 5]\n",
		"getprop nothing":                 "\n",
		"wm size":                         "Physical size: 720x1600\n",
		"wm density":                      "Physical density: 280\n",
		"pm path org.kelpline.app":        "package:/data/app/org.kelpline.app-1/base.apk\n",
		"pm path nobody; echo $?":         "1\n",
		"pm list packages":                "package:android\npackage:com.android.systemui\npackage:org.kelpline.app\n",
		"pm clear nobody":                 "Failed\n",
		"pm wobble":                       "Unknown command: wobble\n",
		"settings get global nothing":     "null\n",
		"settings put global a b; settings get global a; settings delete global a":      "b\nDeleted 1 rows\n",
		"echo 'it''s' > /sdcard/x; cat /sdcard/x; ls /sdcard; rm /sdcard/x; ls /sdcard": "its\nx\n",
		"cat /nowhere; echo $?":             "cat: /nowhere: No such file or directory\n1\n",
		"false || echo no && echo yes":      "no\nyes\n",
		"am start -n nobody/.Main; echo $?": "Starting: Intent { cmp=nobody/.Main }\nError type 3\nError: Activity class {nobody} does not exist\n0\n",
		"cmd package resolve-activity --brief -c android.intent.category.LAUNCHER org.kelpline.app": "priority=0 preferredOrder=0 match=0x108000 specificIndex=-1 isDefault=false\norg.kelpline.app/org.kelpline.app.MainActivity\n",
		"cmd wobble; echo $?":                    "cmd: Can't find service: wobble\n20\n",
		"input wobble; echo $?":                  "Error: Invalid arguments for command: wobble\n255\n",
		"pidof org.kelpline.app; echo $?":        "1\n",
		"dumpsys battery | cat | head; true":     "/system/bin/sh: head: inaccessible or not found\n",
		"dumpsys package nobody":                 "Unable to find package: nobody\n",
		"dumpsys wobble":                         "Can't find service: wobble\n",
		"wobble":                                 "/system/bin/sh: wobble: inaccessible or not found\n",
		"if [ -e /sdcard ]; then echo there; fi": "there\n",
		"svc wifi disable; id":                   "uid=2000(shell) gid=2000(shell) groups=2000(shell)\n",
	} {
		out, _ := d.adb("shell", command)
		assert.Equal(t, want, out, command)
	}
	out, err := d.adb("shell", "exit 7")
	var code *exec.ExitError
	require.ErrorAs(t, err, &code, out)
	assert.Equal(t, 7, code.ExitCode(), "shell_v2 carries the exit code")
}

func TestAnAppIsInstalledLaunchedAndSeen(t *testing.T) {
	d := plug(t, nil)
	assert.Contains(t, d.must("install", housetest.Kelpline(t)), "Success")
	assert.Contains(t, d.must("shell", "dumpsys package org.kelpline.app"), "versionName=1.8.0")
	start := d.must("shell", "am start -W -n org.kelpline.app/.MainActivity")
	assert.Contains(t, start, "Status: ok\nLaunchState: COLD")
	assert.Contains(t, d.must("shell", "am start -W -n org.kelpline.app/.MainActivity"), "LaunchState: HOT")
	assert.Contains(t, d.must("shell", "dumpsys window"), "mCurrentFocus=Window{")
	assert.NotEmpty(t, strings.TrimSpace(d.must("shell", "pidof org.kelpline.app")))
	assert.Contains(t, d.must("shell", "dumpsys meminfo org.kelpline.app"), "TOTAL PSS:")
	var tree string
	housetest.Eventually(t, "the shores have come", func() bool {
		tree = d.must("shell", "uiautomator dump /dev/tty")
		return strings.Contains(tree, "shore_gull-ledge")
	})
	body, _, ok := strings.Cut(tree, "UI hierchary dumped to: /dev/tty")
	require.True(t, ok, "spelled so")
	require.NoError(t, xml.Unmarshal([]byte(body), new(struct{ XMLName xml.Name })))
	assert.Contains(t, body, `resource-id="org.kelpline.app:id/search" class="android.widget.EditText" package="org.kelpline.app"`)
	assert.Contains(t, d.must("shell", "uiautomator dump"), "dumped to: /sdcard/window_dump.xml")
	assert.Contains(t, d.must("shell", "cat /sdcard/window_dump.xml"), "<hierarchy")

	shot := filepath.Join(t.TempDir(), "s.png")
	d.must("shell", "screencap -p /sdcard/ignored")
	cmd := exec.Command("sh", "-c", "adb -P "+d.port+" -s "+d.phone.Address()+" exec-out screencap -p > "+shot)
	require.NoError(t, cmd.Run())
	f, err := os.Open(shot)
	require.NoError(t, err)
	defer f.Close()
	cfg, err := png.DecodeConfig(f)
	require.NoError(t, err)
	assert.Equal(t, [2]int{720, 1600}, [2]int{cfg.Width, cfg.Height})
	raw, err := exec.Command("adb", "-P", d.port, "-s", d.phone.Address(), "exec-out", "screencap").Output()
	require.NoError(t, err)
	assert.Len(t, raw, 16+720*1600*4, "unpacked: a header, and four bytes a pixel")

	d.must("shell", "input keyevent KEYCODE_HOME")
	assert.Contains(t, d.must("shell", "dumpsys window"), "launcher")
	assert.Contains(t, d.must("uninstall", "org.kelpline.app"), "Success")
	assert.Contains(t, d.must("shell", "uiautomator dump /dev/tty"), "org.android.launcher")
}

func TestInstallsAreRefusedInAndroidsWords(t *testing.T) {
	old := plug(t, func(tr *phone.Traits) { tr.API = 18 })
	out, _ := old.adb("install", housetest.Kelpline(t)) // before Android 7 the exit code says nothing
	assert.Contains(t, out, "INSTALL_FAILED_OLDER_SDK: Requires newer sdk version #19 (current version is #18)")
	d := plug(t, nil)
	junk := filepath.Join(t.TempDir(), "junk.apk")
	require.NoError(t, os.WriteFile(junk, []byte("no apk"), 0o600))
	out, err := d.adb("install", junk)
	require.Error(t, err)
	assert.Contains(t, out, "INSTALL_PARSE_FAILED_NOT_APK")
}

func TestAFullPhoneTakesNoLargeFile(t *testing.T) {
	d := plug(t, func(tr *phone.Traits) { tr.FreeMB = 1 })
	big := filepath.Join(t.TempDir(), "big.bin")
	require.NoError(t, os.WriteFile(big, make([]byte, 3<<20), 0o600))
	out, err := d.adb("push", big, "/sdcard/big.bin")
	require.Error(t, err)
	assert.Contains(t, out, "No space left on device")
}

func TestFilesGoToThePhoneAndBack(t *testing.T) {
	for name, change := range map[string]func(*phone.Traits){"now": nil, "before Android 7": func(tr *phone.Traits) { tr.API, tr.Android = 23, "6.0" }} {
		t.Run(name, func(t *testing.T) {
			d := plug(t, change)
			dir := t.TempDir()
			data := bytes.Repeat([]byte("tide "), 400_000) // several packets
			there, back := filepath.Join(dir, "there"), filepath.Join(dir, "back")
			require.NoError(t, os.WriteFile(there, data, 0o600))
			d.must("push", there, "/data/local/tmp/f")
			d.must("pull", "/data/local/tmp/f", back)
			got, err := os.ReadFile(back)
			require.NoError(t, err)
			assert.Equal(t, data, got)
			out, err := d.adb("pull", "/data/local/tmp/none", back)
			assert.Error(t, err, out)
		})
	}
}

func TestACrashIsLoggedAndShown(t *testing.T) {
	d := plug(t, func(tr *phone.Traits) { tr.API, tr.Android, tr.Language = 28, "9", "de" })
	d.must("install", housetest.Kelpline(t))
	d.must("shell", "am start -W -n org.kelpline.app/.MainActivity")
	tap := func(id string) {
		var tree string
		housetest.Eventually(t, id+" is there", func() bool {
			tree, _ = d.adb("shell", "uiautomator dump /dev/tty")
			return strings.Contains(tree, id+`"`)
		})
		node := tree[strings.Index(tree, id+`"`):]
		var b [4]string
		cut := strings.FieldsFunc(node[strings.Index(node, `bounds="`)+8:strings.Index(node, `]"`)+1], func(r rune) bool { return strings.ContainsRune("[],\"", r) })
		copy(b[:], cut)
		d.must("shell", "input tap "+b[0]+" $((("+b[1]+"+"+b[3]+")/2))")
	}
	tap("shore_gull-ledge")
	tap("show_chart")
	log := d.must("logcat", "-d", "-v", "epoch", "-b", "crash")
	assert.Contains(t, log, "--------- beginning of crash")
	assert.Regexp(t, `\d{10}\.\d{3} +\d+ +\d+ E AndroidRuntime: FATAL EXCEPTION: main`, log)
	assert.Contains(t, log, "Process: org.kelpline.app, PID: ")
	assert.Contains(t, d.must("shell", "uiautomator dump /dev/tty"), "Kelpline wurde beendet")
	assert.Contains(t, d.must("shell", "dumpsys window"), "Application Error")
	tap("android:id/aerr_close")
	assert.NotContains(t, d.must("shell", "uiautomator dump /dev/tty"), "wurde beendet")
	assert.NotContains(t, d.must("logcat", "-d", "-b", "main"), "FATAL", "other buffers do not have it")
	d.must("logcat", "-c")
	assert.Empty(t, d.must("logcat", "-d"))
}

func TestWhatSaysThatAnAppHangsStaysUntilItIsAnswered(t *testing.T) {
	d := plug(t, nil)
	d.must("install", housetest.Kelpline(t))
	d.must("shell", "am start -W -n org.kelpline.app/.MainActivity --es debug_block 120000")
	screen := func() string { return d.must("shell", "uiautomator dump /dev/tty") }
	housetest.Eventually(t, "the app is said not to respond", func() bool {
		d.must("shell", "input tap 300 300")
		return strings.Contains(screen(), "isn&#39;t responding") || strings.Contains(screen(), "isn't responding")
	})
	d.must("shell", "input tap 2 2; input keyevent BACK; input keyevent HOME")
	assert.Contains(t, screen(), "android:id/aerr_close")
	d.must("shell", "am force-stop org.kelpline.app")
	assert.NotContains(t, screen(), "aerr_close", "nothing is left that could answer")
}

func TestARealTemperTakesItsTimeAndAnInstantOneDoesNot(t *testing.T) {
	for temper, least := range map[phone.Temper]time.Duration{phone.Instant: 0, phone.Real: 900 * time.Millisecond} {
		d := plug(t, func(tr *phone.Traits) { tr.Temper = temper })
		start := time.Now()
		d.must("shell", "uiautomator dump /dev/tty")
		assert.GreaterOrEqual(t, time.Since(start), least)
	}
}

func TestTheStubbornTemperGivesTheAwkwardAnswers(t *testing.T) {
	d := plug(t, func(tr *phone.Traits) { tr.Temper = phone.Stubborn })
	out := d.must("shell", "uiautomator dump /dev/tty")
	assert.NotContains(t, out, "<hierarchy", "it writes the tree into files only")
	raw, err := exec.Command("adb", "-P", d.port, "-s", d.phone.Address(), "exec-out", "screencap", "-p").Output()
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(raw, []byte("[Warning] Multiple displays")))
}

func TestFleetFilesAreReadStrictly(t *testing.T) {
	for in, why := range map[string]string{
		"phones:\n  - {serial: a, colour: red}": "field colour not found",
		"phones:\n  - {model: x}":               "has no serial of its own",
		"phones:\n  - {serial: a, width: 100, height: 200, density: 160, api: 30}\n  - {serial: a}": "has no serial of its own",
		"phones:\n  - {serial: a, width: 5, height: 200, density: 160, api: 30}":                    "its screen is 5×200",
		"phones:\n  - {serial: a, width: 100, height: 200, density: 9, api: 30}":                    "its density is 9",
		"phones:\n  - {serial: a, width: 100, height: 200, density: 160, api: 3}":                   "its API level is 3",
		"phones:\n  - {serial: a, width: 100, height: 200, density: 160, api: 30, temper: moody}":   `its temper is "moody"`,
	} {
		_, err := phone.ReadFleet(strings.NewReader(in))
		assert.ErrorContains(t, err, why)
	}
	list, err := phone.ReadFleet(strings.NewReader("phones:\n  - {serial: a, width: 100, height: 200, density: 160, api: 30}"))
	require.NoError(t, err)
	assert.Equal(t, phone.Real, list[0].Temper)
	assert.Equal(t, "en", list[0].Language)
}
