package phone

// The commands of the phone's shell. Their answers are those of docs and
// sources of the Android Open Source Project.

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"
	"time"
)

var commands map[string]func(*Phone, *call) int

func init() { // not at the declaration: cmd refers to the table
	commands = map[string]func(*Phone, *call) int{
		"getprop": (*Phone).getprop, "wm": (*Phone).wm, "pm": (*Phone).pm, "cmd": (*Phone).cmd, "am": (*Phone).am, "input": (*Phone).input,
		"uiautomator": (*Phone).uiautomator, "screencap": (*Phone).screencap, "screenrecord": (*Phone).screenrecord, "dumpsys": (*Phone).dumpsys, "settings": (*Phone).setting,
		"logcat": func(p *Phone, c *call) int { return p.logcat(c.ctx, c.args, c.tz, c.out) },
		"date":   (*Phone).date, "cat": (*Phone).cat, "rm": (*Phone).rm, "ls": (*Phone).ls, "log": (*Phone).logLine, "pidof": (*Phone).pidof,
		"ps": (*Phone).ps, "svc": (*Phone).svc, "sleep": (*Phone).sleep, "usleep": (*Phone).usleep, "ime": (*Phone).ime, "grep": (*Phone).grep, "monkey": (*Phone).monkey, "uinput": (*Phone).uinput, "appops": (*Phone).appops, "getevent": (*Phone).getevent, "sendevent": (*Phone).sendevent, "df": (*Phone).df, "echo": func(_ *Phone, c *call) int { c.say("%s\n", strings.Join(c.args, " ")); return 0 }, "id": func(_ *Phone, c *call) int {
			c.say("uid=2000(shell) gid=2000(shell) groups=2000(shell)\n")
			return 0
		},
	}
}

func (p *Phone) properties() map[string]string {
	t := p.traits
	m := map[string]string{
		"ro.product.manufacturer": t.Maker, "ro.product.model": t.Model, "ro.product.brand": strings.ToLower(t.Maker),
		"ro.product.name": strings.ToLower(strings.ReplaceAll(t.Model, " ", "_")), "ro.build.version.release": t.Android,
		"ro.build.version.sdk": strconv.Itoa(t.API), "ro.product.cpu.abi": t.ABIs[0], "ro.product.cpu.abilist": strings.Join(t.ABIs, ","),
		"ro.serialno": cmp.Or(t.SaysSerial, t.Serial), "sys.boot_completed": map[bool]string{true: "", false: "1"}[p.booting()], "ro.build.characteristics": "default", "ro.sf.lcd_density": strconv.Itoa(t.Density),
		"ro.product.locale": t.Language + "-" + cmp.Or(map[string]string{"en": "GB"}[t.Language], strings.ToUpper(t.Language)), "persist.sys.timezone": p.set.zone,
		"ro.tessellant.simulated": "1",
	}
	if t.Tablet {
		m["ro.build.characteristics"] = "tablet"
	}
	if t.Origin == "emulated" {
		m["ro.kernel.qemu"], m["ro.boot.qemu"] = "1", "1"
	}
	return m
}

func (p *Phone) getprop(c *call) int {
	p.take(c.ctx, 8, 20)
	p.mu.Lock()
	m := p.properties()
	p.mu.Unlock()
	if len(c.args) > 0 {
		c.say("%s\n", m[c.args[0]])
		return 0
	}
	var names []string
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		c.say("[%s]: [%s]\n", n, m[n])
	}
	return 0
}

func (p *Phone) wm(c *call) int {
	p.take(c.ctx, 40, 90)
	if p.notYet(c, "window") {
		return 20
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if c.is("density") {
		return p.wmDensity(c)
	}
	switch strings.Join(c.args, " ") {
	case "size":
		w, h := p.upright()
		c.say("Physical size: %dx%d\n", w, h)
	case map[bool]string{true: "dismiss-keyguard"}[p.traits.API >= 23]: // a lock with a secret stays, and nothing is said
		if p.locked && p.traits.Lock == "swipe" && !p.asleep {
			p.locked = false
			p.changed()
		}
	default:
		c.say("Unknown command\n")
		return 255
	}
	return 0
}

func (p *Phone) cmd(c *call) int {
	if p.traits.oldShell() {
		fmt.Fprintln(c.err, "/system/bin/sh: cmd: not found")
		return 127
	}
	if len(c.args) > 0 && p.notYet(c, c.args[0]) {
		return 20
	}
	if len(c.args) > 0 && c.args[0] == "package" {
		c.args = c.args[1:]
		return p.pm(c)
	}
	if code, known := p.system(c); known {
		return code
	}
	c.say("cmd: Can't find service: %s\n", strings.Join(c.args, " "))
	return 20
}

func (p *Phone) cat(c *call) int {
	if len(c.args) == 0 {
		_, _ = io.Copy(c.out, c.in)
	}
	code := 0
	for _, n := range c.args {
		raw, ok := p.contents(n)
		if !ok {
			fmt.Fprintf(c.err, "cat: %s: No such file or directory\n", n)
			code = 1
			continue
		}
		_, _ = c.out.Write(raw)
	}
	return code
}

// grep TEXT, of what comes in.
func (p *Phone) grep(c *call) int {
	code := 1
	in := bufio.NewScanner(c.in)
	for len(c.args) == 1 && in.Scan() {
		if strings.Contains(in.Text(), c.args[0]) {
			c.say("%s\n", in.Text())
			code = 0
		}
	}
	return code
}

func (p *Phone) rm(c *call) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, n := range c.args {
		delete(p.files, n)
	}
	return 0
}

func (p *Phone) ls(c *call) int {
	for _, d := range c.args {
		for _, n := range p.list(d) {
			c.say("%s\n", n[strings.LastIndex(n, "/")+1:])
		}
	}
	return 0
}

// logLine is log [-t TAG] [-p LEVEL] text…
func (p *Phone) logLine(c *call) int {
	tag, level, args := "log", byte('I'), c.args
	for len(args) >= 2 && (args[0] == "-t" || args[0] == "-p") {
		if args[0] == "-t" {
			tag = args[1]
		} else {
			level = strings.ToUpper(args[1] + "I")[0]
		}
		args = args[2:]
	}
	p.log("main", 2000, level, tag, "%s", strings.Join(args, " "))
	return 0
}

// ps lists all processes before Android 8, as toolbox does.
func (p *Phone) ps(c *call) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	c.say("USER      PID   PPID  VSIZE  RSS   WCHAN              PC  NAME\nroot      1     0     9632   1284  SyS_epoll_ 00000000 S /init\nsystem    812   690   1621404 132884 SyS_epoll_ 00000000 S system_server\n")
	for id, in := range p.apps {
		if in.proc != nil {
			c.say("u0_a140   %d  690   1532100 %d SyS_epoll_ 00000000 S %s\n", in.proc.pid, p.appKB(in), id)
		}
	}
	return 0
}

func (p *Phone) pidof(c *call) int {
	if p.traits.API < 24 {
		fmt.Fprintln(c.err, "/system/bin/sh: pidof: not found")
		return 127
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(c.args) > 0 {
		if in := p.apps[c.args[0]]; in != nil && in.proc != nil {
			c.say("%d\n", in.proc.pid)
			return 0
		}
	}
	return 1
}

func (p *Phone) sleep(c *call) int {
	if len(c.args) > 0 {
		s, err := strconv.ParseFloat(c.args[0], 64)
		if p.traits.API < 23 && err == nil { // toolbox knows whole seconds
			s = float64(int(s))
		}
		wait(c.ctx, time.Duration(min(s, 600)*float64(time.Second)))
	}
	return 0
}

func (p *Phone) usleep(c *call) int {
	if len(c.args) > 0 {
		us, _ := strconv.Atoi(c.args[0])
		wait(c.ctx, time.Duration(min(us, 60_000_000))*time.Microsecond)
	}
	return 0
}

// df -k /data, as toybox writes it; before Android 6 toolbox did, which takes no options.
func (p *Phone) df(c *call) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	free := 6_000 << 10
	if p.traits.FreeMB > 0 {
		free = p.traits.FreeMB << 10
	}
	if p.traits.API < 23 {
		say := func(kb int) string {
			if kb >= 1<<20 {
				return fmt.Sprintf("%.1fG", float64(kb)/(1<<20))
			}
			return fmt.Sprintf("%.1fM", float64(kb)/(1<<10))
		}
		for _, a := range c.args {
			if a != "/data" {
				c.say("%s: No such file or directory\n", a)
			}
		}
		c.say("Filesystem               Size     Used     Free   Blksize\n/data                  %6s   %6s   %6s   4096\n", say(free+4_000<<10), say(4_000<<10), say(free))
		return 0
	}
	c.say("Filesystem     1K-blocks    Used Available Use%% Mounted on\n/dev/block/dm-5 %9d %7d %9d  %d%% /data\n", free+4_000<<10, 4_000<<10, free, 40)
	return 0
}

func (p *Phone) setting(c *call) int {
	p.take(c.ctx, 40, 90)
	if p.notYet(c, "settings") {
		return 20
	}
	if p.traits.Temper == Stubborn || p.traits.Temper == Uneasy {
		fmt.Fprintln(c.err, "WARNING: linker: libdvm.so has text relocations. This is wasting memory and prevents security hardening. Please fix.")
	}
	if len(c.args) < 3 {
		c.say("Invalid command: %s\n", strings.Join(c.args, " "))
		return 255
	}
	key := c.args[1] + "/" + c.args[2]
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case c.args[0] == "get":
		v, ok := p.settings[key]
		if !ok {
			v = "null"
		}
		c.say("%s\n", v)
	case c.args[0] != "get" && p.traits.has(NoChange):
		fmt.Fprintln(c.err, "\nException occurred while executing 'put':\njava.lang.SecurityException: Permission denial: writing to settings requires:android.permission.WRITE_SECURE_SETTINGS")
		return 255
	case c.args[0] == "put" && len(c.args) == 4:
		if p.lies(c.args[2]) {
			return 0
		}
		p.settings[key] = c.args[3]
		switch {
		case c.args[2] == "font_scale":
			p.refont()
		case c.args[2] == "low_power" && !p.traits.Battery && !p.set.unplugged: // what is charged does not save
			p.settings[key] = "0"
		}
		if strings.HasSuffix(key, "_rotation") {
			p.adjusted()
		}
	case c.args[0] == "delete":
		delete(p.settings, key)
		p.refont()
		c.say("Deleted 1 rows\n")
	}
	return 0
}

func (p *Phone) dumpsys(c *call) int {
	p.take(c.ctx, 50, 120)
	what, rest := "", ""
	if len(c.args) > 0 {
		what = c.args[0]
	}
	if len(c.args) > 1 {
		rest = c.args[1]
	}
	if p.booting() {
		c.say("Can't find service: %s\n", what)
		return 0
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.doze()
	switch what {
	case "window":
		if rest == "policy" {
			p.sayPolicy(c)
			return 0
		}
		focus := "Window{9c21f0 u0 org.android.launcher/org.android.launcher.Home}"
		in := p.apps[p.front]
		switch {
		case p.asleep:
			focus = "null"
		case p.locked && p.traits.API < 23:
			focus = "Window{2f81c0 u0 Keyguard}"
		case p.locked:
			focus = "Window{2f81c0 u0 " + map[bool]string{true: "NotificationShade", false: "StatusBar"}[p.traits.API >= 30] + "}"
		case p.asking != nil:
			activity := ".permission.ui.GrantPermissionsActivity"
			focus = fmt.Sprintf("Window{51be02 u0 %s/%s%s}", p.dialogApp(), p.dialogApp(), activity)
		case p.hangs:
			focus = "Window{7d1a3e u0 Application Not Responding: " + p.crashed + "}"
		case p.crashed != "":
			focus = "Window{7d1a3e u0 Application Error: " + p.crashed + "}"
		case in != nil:
			focus = fmt.Sprintf("Window{%06x u0 %s/%s}", in.proc.pid, in.facts.AppID, in.facts.Activity)
		}
		c.say("WINDOW MANAGER WINDOWS (dumpsys window windows)\n  mCurrentFocus=%s\n  mFocusedApp=null\n", focus)
	case "input_method":
		up, asked := false, false
		if a := p.frontApp(); a != nil && p.asking == nil {
			up, _ = a.Keyboard()
			asked = up || a.Focused() && (p.traits.HardKeys || p.method(p.keyboard) != nil)
		}
		c.say("Current Input Method Manager state:\n  mShowRequested=%v mShowExplicitlyRequested=%v mShowForced=false mInputShown=%v\n", asked, asked, asked)
		c.say("Current InputMethodService state:\n  mWindowCreated=true mWindowAdded=true\n  mWindowVisible=%v mWasVisible=%v mInShowWindow=false\n  mIsInputViewShown=%v mStatusIcon=0\n", asked, asked, up)
	case "battery", "meminfo", "gfxinfo":
		p.sayGauges(c, what, rest)
	case "location":
		p.sayLocation(c)
	case "package":
		in := p.apps[rest]
		if in == nil {
			c.say("Unable to find package: %s\n", rest)
			return 0
		}
		c.say("Packages:\n  Package [%s] (b1c2d3):\n    versionCode=%d minSdk=%d targetSdk=%d\n    versionName=%s\n", rest, in.facts.VersionCode, in.facts.MinAPI, in.facts.TargetAPI, in.facts.VersionName)
		p.sayPermissions(c, in)
	case "power":
		c.say("POWER MANAGER (dumpsys power)\n\nPower Manager State:\n  mWakefulness=%s\n  mIsPowered=%v\n", map[bool]string{true: "Asleep", false: "Awake"}[p.asleep], !p.traits.Battery)
	case "display":
		p.sayDisplays(c)
	default:
		c.say("Can't find service: %s\n", what)
	}
	return 0
}

// sayPolicy is dumpsys window policy: whether a lock is before the screen.
func (p *Phone) sayPolicy(c *call) {
	c.say("WINDOW MANAGER POLICY STATE (dumpsys window policy)\n")
	if p.traits.API < 23 {
		c.say("    mShowingLockscreen=%v mShowingDream=false mDreamingLockscreen=%v\n", p.locked, p.locked)
		return
	}
	secure := p.traits.Lock == "pin"
	c.say("    KeyguardServiceDelegate\n      showing=%v\n      showingAndNotOccluded=%v\n      inputRestricted=%v\n      occluded=false\n      secure=%v\n      dreaming=false\n", p.locked, p.locked, p.locked, secure)
}

// displayIDs are the numbers of a foldable phone's outer and inner display.
var displayIDs = [2]string{"4619827259835644672", "4619827551948147201"}

const outerWidth, outerHeight = 400, 800

// sayDisplays is dumpsys display.
func (p *Phone) sayDisplays(c *call) {
	say := func(id string, w, h int, on bool) {
		c.say("  DisplayDeviceInfo{\"Built-in Screen\": uniqueId=\"local:%s\", %d x %d, modeId 1, defaultModeId 1, state %s, density %d, type BUILT_IN}\n", id, w, h, map[bool]string{true: "ON", false: "OFF"}[on], p.traits.Density)
	}
	if !p.traits.Outer {
		c.say("DISPLAY MANAGER (dumpsys display)\nDisplay Devices: size=1\n")
		say("0", p.traits.Width, p.traits.Height, !p.asleep)
		return
	}
	c.say("DISPLAY MANAGER (dumpsys display)\nDisplay Devices: size=2\n")
	say(displayIDs[0], outerWidth, outerHeight, p.folded && !p.asleep)
	say(displayIDs[1], p.traits.Width, p.traits.Height, !p.folded && !p.asleep)
}
