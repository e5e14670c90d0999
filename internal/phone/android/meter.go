package android

// The gauges of a device, read once a second beside all commands.
//
// One line asks for what is cheap: the counters of proc(5). What `dumpsys` tells costs the device more, and is asked for less often. Rates come from two
// readings. Whatever has a form that was never seen is left out, and counted.

import (
	"context"
	"errors"
	"maps"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/gauges"
	"tessellant/internal/phone"
)

// meter reads the gauges of a device, in a shell of its own.
type meter struct {
	d     *Device
	app   string
	shell *kept
	bare  bool // it has no shell that is kept

	at     time.Time
	before counters
	turn   int
	rollup int // 1: the app's memory can be read from smaps_rollup; -1: it can't
	frames frameCount
	unread map[string]int
}

var _ phone.Gauged = (*Device)(nil)

const (
	meterLimit = 10 * time.Second
	ticks      = 100 // of a second: USER_HZ of all Androids
	pageKB     = 4
	slowEvery  = 5  // readings between two of the dear ones
	batteryAt  = 10 // and of the battery
)

// Meter implements phone.Gauged.
func (d *Device) Meter(app string) phone.Meter {
	return &meter{d: d, app: app, bare: !d.features["shell_v2"], unread: map[string]int{}}
}

// Close implements phone.Meter.
func (m *meter) Close() { m.shell.close(); m.shell = nil }

// Unread implements phone.Meter.
func (m *meter) Unread() map[string]int { return maps.Clone(m.unread) }

// ask runs a line in the meter's own shell; where there is none, in one that is made for it.
func (m *meter) ask(ctx context.Context, line string) (string, error) {
	const doing = "read its gauges"
	ctx, cancel := m.d.with(ctx, meterLimit)
	defer cancel()
	if m.shell != nil && !m.shell.alive() {
		m.Close()
	}
	if m.shell == nil && !m.bare {
		k, err := m.d.openKept(ctx)
		switch {
		case errors.Is(err, errNoShell):
			m.bare = true
		case err != nil:
			return "", m.d.failed(ctx, doing, err)
		}
		m.shell = k
	}
	if m.shell == nil {
		a, err := m.d.shell(ctx, doing, line, meterLimit)
		return string(a.out), err
	}
	a, err := m.shell.run(ctx, line)
	if err != nil || m.shell.ended {
		m.Close()
	}
	if err != nil {
		return "", m.d.failed(ctx, doing, err)
	}
	return string(a.out), nil
}

// Read implements phone.Meter.
func (m *meter) Read(ctx context.Context, all bool) (map[string]float64, error) {
	line := "echo @stat; cat /proc/stat; echo @meminfo; cat /proc/meminfo; echo @net; cat /proc/net/dev"
	if m.app != "" {
		files := "cat /proc/$p/stat"
		if m.rollup >= 0 {
			files += "; echo @rollup; cat /proc/$p/smaps_rollup"
		}
		line += "; for p in " + m.d.pids(m.app) + "; do echo @app; " + files + "; done"
	}
	start := time.Now()
	out, err := m.ask(ctx, "{ "+line+"; } 2>/dev/null")
	if err != nil {
		return nil, err
	}
	at := start.Add(time.Since(start) / 2)
	now := readCounters(out)
	v := map[string]float64{}
	m.rates(v, now, at.Sub(m.at).Seconds())
	m.at, m.before = at, now
	if now.available > 0 {
		v[gauges.DeviceMemory] = float64(now.total-now.available) / 1024
	}
	for _, what := range now.unread {
		m.unread[what]++
	}
	if now.apps > 0 {
		v[gauges.Threads] = float64(now.threads)
		if m.rollup == 0 {
			m.rollup = map[bool]int{true: 1, false: -1}[now.pss > 0]
		}
		if now.pss > 0 {
			v[gauges.Memory] = float64(now.pss) / 1024
		}
	}
	err = m.dear(ctx, now.apps > 0, all, v)
	m.turn++
	return v, err
}

// rates are the gauges that come from two readings.
func (m *meter) rates(v map[string]float64, now counters, seconds float64) {
	b := m.before
	if m.at.IsZero() || seconds <= 0 {
		return
	}
	if d := now.whole - b.whole; b.whole > 0 && d > 0 && now.busy >= b.busy {
		v[gauges.DeviceProcessor] = 100 * float64(now.busy-b.busy) / float64(d)
	}
	// An app that was started anew begins from nothing.
	if now.apps > 0 && b.apps > 0 && now.pid == b.pid && now.used >= b.used {
		v[gauges.Processor] = 100 * float64(now.used-b.used) / ticks / seconds
	}
	if now.net && b.net && now.in >= b.in && now.out >= b.out {
		v[gauges.Received] = float64(now.in-b.in) / 1000 / seconds
		v[gauges.Sent] = float64(now.out-b.out) / 1000 / seconds
	}
}

// dear asks, now and then, for what costs the device more.
func (m *meter) dear(ctx context.Context, runs, all bool, v map[string]float64) error {
	if m.turn%batteryAt == 0 || all {
		out, err := m.ask(ctx, "dumpsys battery")
		if err != nil {
			return err
		}
		level, degrees, ok := battery(out)
		if !ok {
			m.unread["battery"]++
		} else {
			v[gauges.Battery], v[gauges.Temperature] = level, degrees
		}
	}
	if !runs || m.turn%slowEvery != 0 && !all {
		return nil
	}
	out, err := m.ask(ctx, "dumpsys gfxinfo "+quote(m.app))
	if err != nil {
		return err
	}
	if now, ok := readFrames(out); !ok {
		if !strings.Contains(out, "No process found") { // it has just ended
			m.unread["frames"]++
		}
	} else {
		if drawn := now.drawn - m.frames.drawn; drawn > 0 && now.late >= m.frames.late && m.frames.drawn > 0 {
			v[gauges.LateFrames] = 100 * float64(now.late-m.frames.late) / float64(drawn)
		}
		m.frames = now
	}
	if m.rollup > 0 {
		return nil
	}
	if out, err = m.ask(ctx, "dumpsys meminfo "+quote(m.app)); err != nil {
		return err
	}
	if kB, ok := totalPSS(out); ok {
		v[gauges.Memory] = float64(kB) / 1024
	} else if !strings.Contains(out, "No process found") {
		m.unread["memory"]++
	}
	return nil
}

// pids is what the shell makes the numbers of an app's processes of. There is no pidof before Android 7, and ps lists all there.
func (d *Device) pids(app string) string {
	if d.api >= 24 {
		return "$(pidof " + quote(app) + ")"
	}
	return "$(ps | while read u p rest; do case \"$rest\" in *\" " + app + "\") echo $p;; esac; done)"
}

// counters are what proc(5) counts.
type counters struct {
	busy, whole        int64 // ticks, of all cores
	total, available   int64 // kB
	net                bool
	in, out            int64 // bytes
	apps, pid, threads int
	used               int64 // ticks, of the app
	pss                int64 // kB
	unread             []string
}

// readCounters reads what one line asked for: parts that each begin with @ and their name.
func readCounters(said string) (c counters) {
	bad := func(what string) { c.unread = append(c.unread, what) }
	for _, part := range strings.Split("\n"+strings.ReplaceAll(said, "\r\n", "\n"), "\n@") {
		name, text, _ := strings.Cut(part, "\n")
		switch strings.TrimSpace(name) {
		case "stat":
			if !c.processors(text) {
				bad(gauges.DeviceProcessor)
			}
		case "meminfo":
			if !c.meminfo(text) {
				bad(gauges.DeviceMemory)
			}
		case "net":
			if !c.devices(text) {
				bad("traffic")
			}
		case "app":
			if strings.TrimSpace(text) != "" && !c.process(text) {
				bad(gauges.Processor)
			}
		case "rollup":
			if m := pssForm.FindStringSubmatch(text); m != nil {
				n, _ := strconv.ParseInt(m[1], 10, 64)
				c.pss += n
			}
		}
	}
	return c
}

var pssForm = regexp.MustCompile(`(?m)^Pss:\s+(\d{1,12}) kB`)

// processors reads the first line of /proc/stat: user nice system idle iowait irq softirq steal.
func (c *counters) processors(text string) bool {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	f := strings.Fields(line)
	if len(f) < 5 || f[0] != "cpu" {
		return false
	}
	for i, x := range f[1:min(len(f), 9)] {
		n, err := strconv.ParseInt(x, 10, 64)
		if err != nil || n < 0 {
			return false
		}
		c.whole += n
		if i != 3 && i != 4 {
			c.busy += n
		}
	}
	return true
}

func (c *counters) meminfo(text string) bool {
	free := int64(0)
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		n, err := strconv.ParseInt(f[1], 10, 64)
		if err != nil {
			continue
		}
		switch f[0] {
		case "MemTotal:":
			c.total = n
		case "MemAvailable:":
			c.available = n
		case "MemFree:", "Buffers:", "Cached:": // before Linux 3.14 what is available is not told
			free += n
		}
	}
	if c.available == 0 {
		c.available = free
	}
	return c.total > 0 && c.available > 0 && c.available <= c.total
}

// devices reads /proc/net/dev: of each interface but the loopback what came in (first figure) and went out (ninth).
func (c *counters) devices(text string) bool {
	for line := range strings.Lines(text) {
		name, rest, ok := strings.Cut(line, ":")
		f := strings.Fields(rest)
		if name = strings.TrimSpace(name); !ok || name == "lo" || len(f) < 9 {
			continue
		}
		in, err1 := strconv.ParseInt(f[0], 10, 64)
		out, err2 := strconv.ParseInt(f[8], 10, 64)
		if err1 != nil || err2 != nil {
			return false
		}
		c.net, c.in, c.out = true, c.in+in, c.out+out
	}
	return c.net
}

// process reads /proc/PID/stat: the name stands in brackets and may have spaces; behind it, user and system time are the 12th and 13th, threads the 18th.
func (c *counters) process(text string) bool {
	head, rest, ok := strings.Cut(text, "(")
	i := strings.LastIndex(rest, ")")
	if !ok || i < 0 {
		return false
	}
	pid, err := strconv.Atoi(strings.TrimSpace(head))
	f := strings.Fields(rest[i+1:])
	if err != nil || len(f) < 18 {
		return false
	}
	user, err1 := strconv.ParseInt(f[11], 10, 64)
	system, err2 := strconv.ParseInt(f[12], 10, 64)
	threads, err3 := strconv.Atoi(f[17])
	if errors.Join(err1, err2, err3) != nil || user < 0 || system < 0 || threads < 0 {
		return false
	}
	if c.apps == 0 {
		c.pid = pid
	}
	c.apps++
	c.used += user + system
	c.threads += threads
	return true
}

var (
	totalForm = regexp.MustCompile(`TOTAL PSS:\s+(\d{1,12})`)
	oldTotal  = regexp.MustCompile(`(?m)^\s*TOTAL:?\s+(\d{1,12})`)
	levelForm = regexp.MustCompile(`(?m)^\s*level: (\d{1,4})\s*$`)
	scaleForm = regexp.MustCompile(`(?m)^\s*scale: (\d{1,4})\s*$`)
	heatForm  = regexp.MustCompile(`(?m)^\s*temperature: (-?\d{1,5})\s*$`)
	drawnForm = regexp.MustCompile(`Total frames rendered: (\d{1,12})`)
	lateForm  = regexp.MustCompile(`Janky frames: (\d{1,12})`)
)

// totalPSS reads dumpsys meminfo of an app, in kB: "TOTAL PSS: n" on newer systems, the first column of TOTAL on older ones.
func totalPSS(said string) (kB int64, ok bool) {
	for _, form := range []*regexp.Regexp{totalForm, oldTotal} {
		if m := form.FindStringSubmatch(said); m != nil {
			kB, err := strconv.ParseInt(m[1], 10, 64)
			return kB, err == nil && kB > 0
		}
	}
	return 0, false
}

// battery reads dumpsys battery: percent, and degrees Celsius.
func battery(said string) (level, degrees float64, ok bool) {
	said = strings.ReplaceAll(said, "\r", "")
	l, h := levelForm.FindStringSubmatch(said), heatForm.FindStringSubmatch(said)
	if l == nil || h == nil {
		return 0, 0, false
	}
	level, _ = strconv.ParseFloat(l[1], 64)
	if s := scaleForm.FindStringSubmatch(said); s != nil && s[1] != "100" && s[1] != "0" {
		most, _ := strconv.ParseFloat(s[1], 64)
		level = level * 100 / max(most, 1)
	}
	tenths, _ := strconv.ParseFloat(h[1], 64)
	return level, tenths / 10, level <= 100
}

// frameCount is what an app has drawn since it was started.
type frameCount struct{ drawn, late int64 }

func readFrames(said string) (c frameCount, ok bool) {
	d, l := drawnForm.FindStringSubmatch(said), lateForm.FindStringSubmatch(said)
	if d == nil || l == nil {
		return c, false
	}
	c.drawn, _ = strconv.ParseInt(d[1], 10, 64)
	c.late, _ = strconv.ParseInt(l[1], 10, 64)
	return c, c.late <= c.drawn
}
