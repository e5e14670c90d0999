package phone

// How busy the phone is: the counters of proc(5), and what dumpsys says of memory, frames and battery. They follow from what its apps do: an app that
// draws, waits for memory or asks a server costs what such things cost, and the phone knows how much that was.

import (
	"fmt"
	"strings"
	"time"
)

// load is what the phone has counted by now.
type load struct {
	at         time.Time // up to when
	busy, idle float64   // ticks of all cores
	in, out    int64     // bytes over its network
}

// appLoad is what an app has cost since its start.
type appLoad struct {
	ticks       float64
	extra       float64 // kB besides what its size and its screen take
	drawn, late int     // frames
	hungry      time.Time
	busyUntil   time.Time
}

const (
	hz        = 100 // ticks a second
	drawCost  = 120 * time.Millisecond
	drawTakes = 15 // frames of a change on the screen
	baseKB    = 61_000
)

func (p *Phone) cores() int {
	if p.traits.API >= 29 {
		return 8
	}
	return 4
}

// count brings the counters up to now, under mu.
func (p *Phone) count() {
	now := time.Now()
	if p.load.at.IsZero() {
		p.load.at = p.began
	}
	dt := now.Sub(p.load.at).Seconds()
	p.load.at = now
	busy := 0.05 * dt * hz * float64(p.cores()) // the system
	for _, in := range p.apps {
		if in.proc == nil || in.proc.app == nil {
			continue
		}
		l := &in.proc.load
		share := 0.01 // of one core
		switch {
		case now.Before(in.proc.busy):
			share = 0.99
		case now.Before(l.hungry): // the system looks for memory in vain, again and again
			share = 0.86
			l.extra += 5_500 * dt
		case in.proc.app.Busy():
			share = 0.28
			l.extra *= 1 - min(dt*0.2, 1)
		default:
			l.extra *= 1 - min(dt*0.2, 1)
		}
		l.ticks += share * dt * hz
		busy += share * dt * hz
	}
	p.load.busy += busy
	p.load.idle += max(dt*hz*float64(p.cores())-busy, 0)
}

// drew notes, under mu, that an app has drawn another screen.
func (p *Phone) drew(proc *process) {
	p.count()
	l := &proc.load
	cost := drawCost.Seconds() * hz
	l.ticks += cost
	p.load.busy += cost
	l.drawn += drawTakes
	switch { // old systems and small memories drop more
	case time.Now().Before(l.hungry):
		l.late += drawTakes * 2 / 3
	case p.traits.API < 29 || p.traits.MemoryGB <= 2:
		l.late += 2
	case l.drawn%(drawTakes*4) == 0:
		l.late++
	}
}

// appKB is how much memory an app takes, under mu.
func (p *Phone) appKB(in *installed) int {
	kB := baseKB + in.size/1024
	if a := in.proc.app; a != nil {
		kB += 420*len(a.Nodes()) + int(in.proc.load.extra)
	}
	return kB
}

// memory is MemTotal, MemFree and MemAvailable, in kB, under mu.
func (p *Phone) memory() (total, free, available int) {
	total = p.traits.MemoryGB*1024*1024 - 180_000
	used := total * 45 / 100
	if p.traits.MemoryGB <= 2 {
		used = total * 78 / 100
	}
	for _, in := range p.apps {
		if in.proc != nil {
			used += p.appKB(in)
		}
	}
	available = max(total-used, total/50)
	return total, available / 4, available
}

// proc gives a file of /proc, under mu.
func (p *Phone) proc(name string) ([]byte, bool) {
	p.count()
	switch name {
	case "/proc/meminfo":
		total, free, available := p.memory()
		out := fmt.Sprintf("MemTotal:       %8d kB\nMemFree:        %8d kB\n", total, free)
		if p.traits.API >= 23 {
			out += fmt.Sprintf("MemAvailable:   %8d kB\n", available)
		}
		return fmt.Appendf(nil, "%sBuffers:        %8d kB\nCached:         %8d kB\nSwapCached:            0 kB\n", out, free/8, available-free-free/8), true
	case "/proc/stat":
		b := int64(p.load.busy)
		var s strings.Builder
		fmt.Fprintf(&s, "cpu  %d 0 %d %d 0 0 0 0 0 0\n", b*7/10, b-b*7/10, int64(p.load.idle))
		for i := range p.cores() {
			n := int64(p.cores())
			fmt.Fprintf(&s, "cpu%d %d 0 %d %d 0 0 0 0 0 0\n", i, b*7/10/n, (b-b*7/10)/n, int64(p.load.idle)/n)
		}
		fmt.Fprintf(&s, "intr 0\nctxt 0\nbtime %d\nprocesses 9120\n", p.began.Unix())
		return []byte(s.String()), true
	case "/proc/net/unix":
		out := "Num       RefCount Protocol Flags    Type St Inode Path\n0000000000000000: 00000002 00000000 00010000 0001 01 24311 /dev/socket/zygote\n"
		for i, name := range p.webSockets() {
			out += fmt.Sprintf("0000000000000000: 00000002 00000000 00010000 0001 01 %d @%s\n", 41200+i, name)
		}
		return []byte(out), true
	case "/proc/net/dev":
		const head = "Inter-|   Receive                                                |  Transmit\n face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed\n"
		return fmt.Appendf(nil, "%s    lo: %7d %7d    0    0    0     0          0         0 %7d %7d    0    0    0     0       0          0\n wlan0: %7d %7d    0    0    0     0          0         0 %7d %7d    0    0    0     0       0          0\n",
			head, 4096, 32, 4096, 32, p.load.in, p.load.in/900+1, p.load.out, p.load.out/700+1), true
	}
	var pid int
	var what string
	if n, _ := fmt.Sscanf(strings.ReplaceAll(name, "/", " "), " proc %d %s", &pid, &what); n != 2 {
		return nil, false
	}
	for id, in := range p.apps {
		if in.proc == nil || in.proc.pid != pid {
			continue
		}
		switch what {
		case "stat":
			t := int64(in.proc.load.ticks)
			comm := id[max(0, len(id)-15):]
			return fmt.Appendf(nil, "%d (%s) S 690 690 0 0 -1 1077952832 52310 0 17 0 %d %d 0 0 10 -10 %d 0 %d 5312000000 %d 18446744073709551615 0 0 0 0 0 0 0 0 0 0 0 0 17 2 0 0 0 0 0\n",
				pid, comm, t*8/10, t-t*8/10, p.threads(in), in.proc.since.Sub(p.began).Milliseconds()/10, p.appKB(in)*3/2/4), true
		case "cmdline":
			return []byte(id + "\x00"), true
		case "smaps_rollup":
			if p.traits.Origin != "emulated" || p.traits.API < 28 { // a real phone does not let the shell look
				return nil, false
			}
			kB := p.appKB(in)
			return fmt.Appendf(nil, "12c00000-7ffd2c5a2000 ---p 00000000 00:00 0                              [rollup]\nRss:            %8d kB\nPss:            %8d kB\nPss_Anon:       %8d kB\nShared_Clean:   %8d kB\n", kB*3/2, kB, kB*2/3, kB/2), true
		}
	}
	return nil, false
}

func (p *Phone) threads(in *installed) int {
	n := 14
	if a := in.proc.app; a != nil && a.Busy() {
		n += 4
	}
	if time.Now().Before(in.proc.load.hungry) {
		n += 3
	}
	return n
}

// sayGauges is dumpsys of what is gauged, under mu.
func (p *Phone) sayGauges(c *call, what, id string) {
	switch {
	case p.traits.OddGauges:
		c.say("[%s monitor v2]\nlevel=eighty-seven;heat=29.1C;sum=64MB;drawn=?\n", p.traits.Maker)
	case what == "battery":
		p.battery(c)
	case what == "meminfo":
		p.sayMemory(c, id)
	default:
		p.sayFrames(c, id)
	}
}

// sayMemory is dumpsys meminfo of an app, under mu.
func (p *Phone) sayMemory(c *call, id string) {
	in := p.apps[id]
	if in == nil || in.proc == nil {
		c.say("No process found for: %s\n", id)
		return
	}
	p.count()
	kB := p.appKB(in)
	c.say("Applications Memory Usage (in Kilobytes):\nUptime: 86413220 Realtime: 86413220\n\n** MEMINFO in pid %d [%s] **\n                   Pss  Private  Private\n                 Total    Dirty    Clean\n                ------   ------   ------\n", in.proc.pid, id)
	c.say("  Native Heap    %6d   %6d        0\n  Dalvik Heap    %6d   %6d        0\n        TOTAL    %6d   %6d     4200\n", kB/3, kB/3, kB/4, kB/4, kB, kB*2/3)
	if p.traits.API >= 23 {
		c.say("\n App Summary\n           TOTAL PSS:   %6d            TOTAL RSS:   %6d      TOTAL SWAP (KB):        0\n", kB, kB*3/2)
	}
}

// sayFrames is dumpsys gfxinfo of an app, under mu.
func (p *Phone) sayFrames(c *call, id string) {
	in := p.apps[id]
	if in == nil || in.proc == nil {
		c.say("No process found for: %s\n", id)
		return
	}
	l := in.proc.load
	c.say("Applications Graphics Acceleration Info:\nUptime: 86413220 Realtime: 86413220\n\n** Graphics info for pid %d [%s] **\n\nStats since: 812331220ns\nTotal frames rendered: %d\nJanky frames: %d (%.2f%%)\n50th percentile: 7ms\n90th percentile: 14ms\n",
		in.proc.pid, id, l.drawn, l.late, 100*float64(l.late)/float64(max(l.drawn, 1)))
}

// heat is the battery's temperature in tenths of a degree, under mu: it follows how busy the phone was.
func (p *Phone) heat() int {
	p.count()
	share := 0.0
	if all := p.load.busy + p.load.idle; all > 0 {
		share = p.load.busy / all
	}
	return 285 + int(share*120)
}
