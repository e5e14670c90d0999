package phone

// pm and am: apps are installed, started and ended.

import (
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"
)

func (p *Phone) pm(c *call) int {
	verb := ""
	if len(c.args) > 0 {
		verb = c.args[0]
	}
	var flags, rest []string
	size := -1
	for i := 1; i < len(c.args); i++ {
		switch a := c.args[i]; {
		case a == "-S" && i+1 < len(c.args):
			i++
			size, _ = strconv.Atoi(c.args[i])
		case (a == "-a" || a == "-c" || a == "--user" || a == "-i") && i+1 < len(c.args):
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
	switch verb {
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
		return answer(p.install(raw, has("-d")))
	case "uninstall":
		p.take(c.ctx, 200, 400)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.apps[name] == nil {
			return answer("Failure [DELETE_FAILED_INTERNAL_ERROR]")
		}
		p.kill(name)
		delete(p.apps, name)
		p.changed()
		return answer("Success")
	case "clear":
		p.take(c.ctx, 150, 300)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.apps[name] == nil {
			return answer("Failed")
		}
		p.kill(name)
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
		ids := []string{"android", "com.android.systemui"}
		for id := range p.apps {
			ids = append(ids, id)
		}
		sort.Strings(ids)
		for _, id := range ids {
			c.say("package:%s\n", id)
		}
		return 0
	case "resolve-activity":
		p.mu.Lock()
		defer p.mu.Unlock()
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

func (p *Phone) am(c *call) int {
	if len(c.args) == 0 {
		return 1
	}
	switch last := c.args[len(c.args)-1]; c.args[0] {
	case "start":
		args := map[string]string{}
		component := last
		for i := 1; i+1 < len(c.args); i++ {
			switch c.args[i] {
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
		p.take(c.ctx, 350, 700)
		c.say("Starting: Intent { cmp=%s }\n", last)
		cold, err := p.launch(id, args)
		if err != nil {
			c.say("Error type 3\nError: %v\n", err) // and exit code 0, as the real one
			return 0
		}
		if cold {
			c.say("Status: ok\nLaunchState: COLD\nActivity: %s/%s\nTotalTime: 412\nWaitTime: 420\nComplete\n", id, activity)
		} else {
			c.say("Warning: Activity not started, its current task has been brought to the front\nStatus: ok\nLaunchState: HOT\nActivity: %s/%s\nTotalTime: 0\nWaitTime: 6\nComplete\n", id, activity)
		}
		return 0
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
