package phone

// pm and am: apps are installed, started and ended.

import (
	"fmt"
	"io"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
)

func (p *Phone) pm(c *call) int {
	verb := ""
	if len(c.args) > 0 {
		verb = c.args[0]
	}
	if p.notYet(c, "package") {
		return 20
	}
	user := "0" // whom pm means when nobody is said; install and uninstall mean everybody
	var flags, rest []string
	size := -1
	for i := 1; i < len(c.args); i++ {
		switch a := c.args[i]; {
		case a == "-S" && i+1 < len(c.args):
			i++
			size, _ = strconv.Atoi(c.args[i])
		case a == "--user" && i+1 < len(c.args):
			i++
			user = c.args[i]
		case (a == "-a" || a == "-c" || a == "-i") && i+1 < len(c.args):
			i++
		case strings.HasPrefix(a, "-"):
			flags = append(flags, a)
		default:
			rest = append(rest, a)
		}
	}
	has := func(f string) bool { return strings.Contains(" "+strings.Join(flags, " ")+" ", " "+f+" ") }
	name := ""
	if len(rest) > 0 {
		name = rest[0]
	}
	answer := func(s string) int {
		c.say("%s\n", s)
		if strings.HasPrefix(s, "Failure") || strings.HasPrefix(s, "Error") {
			return 1
		}
		return 0
	}
	here := user == strconv.Itoa(p.traits.User) || user == "current"
	switch verb {
	case "grant", "revoke":
		p.take(c.ctx, 40, 90)
		if len(rest) < 2 {
			return answer("Error: no permission specified")
		}
		if !here {
			return 0 // another user's app has it now
		}
		return p.permit(c, verb, name, rest[1])
	case "install":
		var raw []byte
		if size >= 0 {
			raw = make([]byte, min(size, maxFileSize))
			if n, err := io.ReadFull(c.in, raw); err != nil {
				return answer(fmt.Sprintf("Failure [INSTALL_FAILED_INTERNAL_ERROR: only %d of %d bytes came]", n, size))
			}
		} else if f := p.file(name); f != nil {
			raw = f.data
		} else {
			return answer("Error: Unable to open file: " + name)
		}
		at := func(n int) { p.mu.Lock(); p.installing += n; p.mu.Unlock() }
		at(1)
		defer at(-1)
		p.take(c.ctx, 900, 1800)
		return answer(p.install(raw, installOptions{grant: has("-g"), downgrade: has("-d"), anySDK: has("--bypass-low-target-sdk-block")}))
	case "uninstall":
		p.take(c.ctx, 200, 400)
		wait(c.ctx, p.traits.SlowStorage)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.apps[name] == nil && p.traits.API < 24 {
			return answer("Failure") // with no reason
		}
		if p.apps[name] == nil {
			return answer("Failure [DELETE_FAILED_INTERNAL_ERROR]")
		}
		p.kill(name)
		delete(p.apps, name)
		p.removed()
		delete(p.set.languages, name)
		p.changed()
		return answer("Success")
	case "clear":
		p.take(c.ctx, 150, 300)
		wait(c.ctx, p.traits.SlowStorage)
		p.mu.Lock()
		defer p.mu.Unlock()
		in := p.apps[name]
		if p.traits.has(NoClear) {
			fmt.Fprintf(c.err, "\nException occurred while executing 'clear':\njava.lang.SecurityException: adb clearing user data is forbidden.\n\tat com.android.server.am.ActivityManagerService.clearApplicationUserData(ActivityManagerService.java:3552)\n")
			return 255
		}
		if in == nil {
			return answer("Failed")
		}
		if !here { // another user's data are gone
			return answer("Success")
		}
		p.kill(name)
		delete(p.set.languages, name)
		in.granted, in.never, in.denied = map[string]bool{}, map[string]bool{}, map[string]int{}
		return answer("Success")
	case "path":
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.apps[name] == nil {
			return 1
		}
		c.say("package:/data/app/%s-1/base.apk\n", name)
		return 0
	case "list":
		p.take(c.ctx, 60, 120)
		p.mu.Lock()
		defer p.mu.Unlock()
		if slices.Contains(c.args, "features") {
			p.sayFeatures(c)
			return 0
		}
		var ids []string
		if !slices.Contains(c.args, "-3") {
			ids = append(ids, "android", "com.android.systemui")
		}
		for id := range p.apps {
			ids = append(ids, id)
		}
		sort.Strings(ids)
		for _, id := range ids {
			c.say("package:%s", id)
			if slices.Contains(c.args, "--show-versioncode") && p.traits.API >= 26 {
				code := int64(p.traits.API)
				if in := p.apps[id]; in != nil {
					code = in.facts.VersionCode
				}
				c.say(" versionCode:%d", code)
			}
			c.say("\n")
		}
		return 0
	case "resolve-activity":
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.sealed {
			c.say("No activity found\n") // before the first unlock apps can't be started
			return 0
		}
		if in := p.apps[name]; in != nil && in.facts.Activity != "" && p.traits.TwoLaunchers {
			c.say("priority=0 preferredOrder=0 match=0x0 specificIndex=-1 isDefault=false\nandroid/com.android.internal.app.ResolverActivity\n")
			return 0
		}
		if in := p.apps[name]; in != nil && in.facts.Activity != "" {
			c.say("priority=0 preferredOrder=0 match=0x108000 specificIndex=-1 isDefault=false\n%s/%s\n", in.facts.AppID, in.facts.Activity)
			return 0
		}
		c.say("No activity found\n")
		return 0
	}
	c.say("Unknown command: %s\n", verb)
	return 255
}

// monkey -p APP -c CATEGORY N: N events; the first starts the app.
func (p *Phone) monkey(c *call) int {
	p.take(c.ctx, 400, 800)
	id := ""
	for i, a := range c.args {
		if a == "-p" && i+1 < len(c.args) {
			id = c.args[i+1]
		}
	}
	p.mu.Lock()
	in := p.apps[id]
	known := in != nil && in.facts.Activity != ""
	p.mu.Unlock()
	if !known {
		fmt.Fprintln(c.err, "** No activities found to run, monkey aborted.")
		return 252
	}
	_, _ = p.launch(id, nil)
	c.say("Events injected: 1\n## Network stats: elapsed time=21ms (0ms mobile, 0ms wifi, 21ms not connected)\n")
	return 0
}

// amWaits is how long am start -W waits here for an app to draw.
const amWaits = time.Second

func (p *Phone) am(c *call) int {
	if len(c.args) == 0 {
		return 1
	}
	if p.notYet(c, "activity") {
		return 20
	}
	switch last := c.args[len(c.args)-1]; c.args[0] {
	case "get-current-user":
		c.say("%d\n", p.traits.User)
		return 0
	case "start":
		anew := false
		args := map[string]string{}
		component := last
		for i := 1; i+1 < len(c.args); i++ {
			switch c.args[i] {
			case "-S":
				anew = true
			case "-n":
				i++
				component = c.args[i]
			case "--es":
				args[c.args[i+1]] = c.args[min(i+2, len(c.args)-1)]
				i += 2
			}
		}
		last = component
		id, activity, _ := strings.Cut(last, "/")
		began := time.Now()
		p.take(c.ctx, 350, 700)
		c.say("Starting: Intent { cmp=%s }\n", last)
		p.mu.Lock()
		p.doze()
		hidden := p.asleep || p.locked
		if p.sealed {
			p.mu.Unlock()
			c.say("Error type 3\nError: Activity class {%s} does not exist.\n", last)
			return 0
		}
		if anew {
			p.kill(id)
		}
		in := p.apps[id]
		cold := in != nil && in.proc == nil
		p.mu.Unlock()
		if slow := p.traits.SlowStart; slow > 0 && cold { // am waits no longer than it does, and says so
			p.running.Go(func() { wait(p.ctx, slow); _, _ = p.launch(id, args) })
			wait(c.ctx, min(slow, amWaits))
			c.say("Status: timeout\nActivity: %s/%s\nTotalTime: 0\nWaitTime: %d\nComplete\n", id, activity, amWaits.Milliseconds())
			return 0
		}
		if hidden && in != nil { // it starts behind the lock, and never draws
			_, _ = p.launch(id, args)
			wait(c.ctx, amWaits)
			c.say("Status: timeout\nActivity: %s/%s\nWaitTime: %d\nComplete\n", id, activity, amWaits.Milliseconds())
			return 0
		}
		cold, err := p.launch(id, args)
		if err != nil {
			c.say("Error type 3\nError: %v\n", err) // and exit code 0, as the real one
			return 0
		}
		if cold {
			c.say("Status: ok\nLaunchState: COLD\nActivity: %s/%s\nTotalTime: %d\nWaitTime: %d\nComplete\n", id, activity, max(time.Since(began).Milliseconds(), 1), time.Since(began).Milliseconds()+8)
		} else {
			c.say("Warning: Activity not started, its current task has been brought to the front\nStatus: ok\nLaunchState: HOT\nActivity: %s/%s\nTotalTime: 0\nWaitTime: 6\nComplete\n", id, activity)
		}
		return 0
	case "broadcast":
		return p.broadcast(c)
	case "force-stop":
		p.take(c.ctx, 80, 160)
		p.mu.Lock()
		defer p.mu.Unlock()
		p.kill(last)
		return 0
	}
	c.say("Error: unknown command '%s'\n", c.args[0])
	return 255
}

// sayFeatures is pm list features, under mu: those that most phones have, less what this one lacks.
func (p *Phone) sayFeatures(c *call) {
	for _, f := range []string{"bluetooth", "bluetooth_le", "camera", "camera.any", "camera.autofocus", "camera.flash", "camera.front", "fingerprint", "location", "location.gps", "location.network", "microphone", "nfc", "nfc.hce",
		"sensor.accelerometer", "sensor.barometer", "sensor.compass", "sensor.gyroscope", "sensor.light", "sensor.proximity", "sensor.stepcounter", "telephony", "touchscreen", "touchscreen.multitouch", "usb.host", "wifi", "wifi.direct"} {
		lacks := p.traits.Origin == "emulated" && (strings.HasPrefix(f, "nfc") || strings.HasPrefix(f, "sensor.") && f != "sensor.accelerometer" || f == "camera.flash" || f == "usb.host") ||
			p.traits.Tablet && (f == "telephony" || strings.HasPrefix(f, "nfc") || f == "sensor.barometer") || p.traits.MemoryGB <= 2 && f == "fingerprint"
		if !lacks {
			c.say("feature:android.hardware.%s\n", f)
		}
	}
	c.say("feature:reqGlEsVersion=0x30002\n")
}
