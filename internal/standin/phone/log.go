package phone

// The log buffers and logcat.

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"
)

type logLine struct {
	at       time.Time
	buffer   string // main, system, crash or events
	pid, tid int
	level    byte
	tag      string
	text     string
}

const maxLog = 50_000

type logBuffer struct {
	mu      sync.Mutex
	lines   []logLine
	dropped int // lines before lines[0]
	grown   chan struct{}
}

func (b *logBuffer) add(l logLine) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lines = append(b.lines, l)
	if len(b.lines) > maxLog {
		cut := len(b.lines) - maxLog*9/10
		b.lines = append([]logLine(nil), b.lines[cut:]...)
		b.dropped += cut
	}
	close(b.grown)
	b.grown = make(chan struct{})
}

func (b *logBuffer) clear() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.dropped += len(b.lines)
	b.lines = nil
}

// from gives the lines after the first n ever logged, the new n, and what is
// closed when there are more.
func (b *logBuffer) from(n int) ([]logLine, int, <-chan struct{}) {
	b.mu.Lock()
	defer b.mu.Unlock()
	i := max(n-b.dropped, 0)
	return append([]logLine(nil), b.lines[min(i, len(b.lines)):]...), b.dropped + len(b.lines), b.grown
}

func (p *Phone) log(buffer string, pid int, level byte, tag, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		p.logs.add(logLine{p.now(), buffer, pid, pid, level, tag, line})
	}
}

// logSignal writes what Android writes of native code that dies: first by the name that the kernel keeps, the last 15 characters of the
// process's, then as a tombstone with all of it.
func (p *Phone) logSignal(id string, pid, signal int) {
	comm := id[max(0, len(id)-15):]
	name := map[int]string{6: "SIGABRT", 7: "SIGBUS", 8: "SIGFPE", 11: "SIGSEGV"}[signal]
	p.log("crash", pid, 'F', "libc", "Fatal signal %d (%s), code 1 (SEGV_MAPERR), fault addr 0x0 in tid %d (%s), pid %d (%s)", signal, name, pid, comm, pid, comm)
	p.log("crash", pid+1, 'F', "DEBUG", "*** *** *** *** *** *** *** *** *** *** *** *** *** *** *** ***\nCmdline: %s\npid: %d, tid: %d, name: %s  >>> %s <<<\nsignal %d (%s), code 1 (SEGV_MAPERR), fault addr 0x0\nbacktrace:\n      #00 pc 0000000000001f40  /data/app/%s/lib/arm64/libkelp.so (grow+16)",
		id, pid, pid, comm, id, signal, name, id)
}

// zone is the one in whose times the log is told and asked: before Android 7 the phone's own, unless the environment says otherwise.
func (p *Phone) zone(tz string) *time.Location {
	if tz != "" || !p.traits.oldShell() {
		return time.UTC
	}
	return time.FixedZone("local", int(p.traits.Zone.Seconds()))
}

// logcat [-d] [-c] [-v epoch|threadtime] [-b a,b] [-T time|count]
func (p *Phone) logcat(ctx context.Context, args []string, tz string, out io.Writer) int {
	zone := p.zone(tz)
	dump, format := false, "threadtime"
	buffers := map[string]bool{"main": true, "system": true, "crash": true}
	var since time.Time
	tail, named := -1, false
	for i := 0; i < len(args); i++ {
		next := func() string {
			if i+1 < len(args) {
				i++
				return args[i]
			}
			return ""
		}
		switch args[i] {
		case "-d":
			dump = true
		case "-c":
			p.logs.clear()
			return 0
		case "-v":
			if format = next(); format == "epoch" && (p.traits.oldShell() || p.traits.Logcat == "threadtime") {
				fmt.Fprintf(out, "Invalid parameter \"epoch\" to -v\n")
				return 1
			}
		case "-b":
			if !named {
				buffers, named = map[string]bool{}, true
			}
			for _, b := range strings.Split(next(), ",") {
				buffers[b] = true
			}
		case "-T", "-t":
			dump = dump || args[i] == "-t"
			v := next()
			if n, err := strconv.Atoi(v); err == nil {
				tail = n
			} else if f, err := strconv.ParseFloat(v, 64); err == nil {
				since = time.UnixMilli(int64(f * 1000))
			} else if at, err := time.ParseInLocation("2006 01-02 15:04:05.000", fmt.Sprint(p.now().In(zone).Year(), " ", v), zone); err == nil {
				since = at
			}
		}
	}
	lines, n, grown := p.logs.from(0)
	if tail >= 0 && tail < len(lines) {
		lines = lines[len(lines)-tail:]
	}
	began := map[string]bool{}
	for {
		var sb strings.Builder
		for _, l := range lines {
			if p.traits.Logcat == "no-info" && strings.IndexByte("VDI", l.level) >= 0 {
				continue
			}
			if !(buffers[l.buffer] || buffers["all"]) || l.at.Before(since) {
				continue
			}
			if !began[l.buffer] {
				began[l.buffer] = true
				fmt.Fprintf(&sb, "--------- beginning of %s\n", l.buffer)
			}
			stamp := l.at.In(zone).Format("01-02 15:04:05.000")
			if format == "epoch" {
				stamp = fmt.Sprintf("%19s", fmt.Sprintf("%d.%03d", l.at.Unix(), l.at.Nanosecond()/1e6))
			}
			fmt.Fprintf(&sb, "%s %5d %5d %c %-8s: %s\n", stamp, l.pid, l.tid, l.level, l.tag, l.text)
		}
		if _, err := io.WriteString(out, sb.String()); err != nil {
			return 1
		}
		if dump {
			return 0
		}
		select {
		case <-grown:
		case <-ctx.Done():
			return 0
		}
		since = time.Time{} // it is for what was there: what comes may be older, by a clock that was set back
		lines, n, grown = p.logs.from(n)
	}
}
