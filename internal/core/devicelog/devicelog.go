// Package devicelog reads a device's log line by line, and finds in it the
// death of an app.
//
// In: lines as `logcat -v epoch` or `-v threadtime` writes them. Out: their
// parts, and crashes with their stack traces.
package devicelog

import (
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Line is one line of the log.
type Line struct {
	At    time.Time // on the device's clock
	PID   int
	TID   int
	Level byte // V D I W E F
	Tag   string
	Text  string
}

// Compiled when they are first needed: this package is part of every start of the program.
var forms = sync.OnceValue(func() (f struct{ epoch, thread *regexp.Regexp }) {
	f.epoch = regexp.MustCompile(`^\s*(\d{6,12})\.(\d{3})\d*\s+(\d+)\s+(\d+)\s+([VDIWEFA])\s+(.*?)\s*: (.*)$`)
	f.thread = regexp.MustCompile(`^(\d\d-\d\d \d\d:\d\d:\d\d\.\d{3})\d*\s+(\d+)\s+(\d+)\s+([VDIWEFA])\s+(.*?)\s*: (.*)$`)
	return f
})

// Parse reads a line; false for a divider such as "--------- beginning of main"
// and for anything else that is not a line of the log. A line without a year is
// taken to be of the given one.
func Parse(s string, year int) (Line, bool) {
	s = strings.TrimRight(s, "\r\n")
	if strings.HasSuffix(s, ":") {
		s += " " // a line with an empty text, whose last blank was lost
	}
	if m := forms().epoch.FindStringSubmatch(s); m != nil {
		sec, _ := strconv.ParseInt(m[1], 10, 64)
		ms, _ := strconv.ParseInt(m[2], 10, 64)
		return line(time.UnixMilli(sec*1000+ms).UTC(), m[3:]), true
	}
	if m := forms().thread.FindStringSubmatch(s); m != nil {
		at, err := time.Parse("2006-01-02 15:04:05.000", strconv.Itoa(year)+"-"+m[1])
		if err != nil {
			return Line{}, false
		}
		return line(at, m[2:]), true
	}
	return Line{}, false
}

func line(at time.Time, m []string) Line {
	pid, _ := strconv.Atoi(m[0])
	tid, _ := strconv.Atoi(m[1])
	return Line{at, pid, tid, m[2][0], m[3], m[4]}
}

// Crash is the death of an app.
type Crash struct {
	At      time.Time
	App     string
	PID     int
	Native  bool   // by a signal; else by an exception
	Problem string // the exception or the signal, one line
	Trace   string // all that the log says of it, with line ends
}

const maxTrace = 400 // lines

// Finder finds crashes in a stream of lines. A crash is told as soon as its
// first lines say whose and what it is; its trace grows with the lines after it.
type Finder struct {
	open *Crash
	n    int
	done []*Crash
}

// Crashes are those found so far.
func (f *Finder) Crashes() []*Crash { return f.done }

// Feed takes the next line. Crashes of Java code come under the tag
// AndroidRuntime, those of native code as a fatal signal under libc, as written by
// com.android.internal.os.RuntimeInit and by the linker's debuggerd handler.
func (f *Finder) Feed(l Line) {
	switch {
	case l.Tag == "AndroidRuntime" && strings.HasPrefix(l.Text, "FATAL EXCEPTION"):
		f.open, f.n = &Crash{At: l.At, PID: l.PID, Trace: l.Text + "\n"}, 0
	case l.Tag == "libc" && strings.HasPrefix(l.Text, "Fatal signal"):
		c := &Crash{At: l.At, PID: l.PID, Native: true, Problem: l.Text, Trace: l.Text + "\n"}
		if m := nativeApp.FindStringSubmatch(l.Text); m != nil {
			c.App = m[1]
		}
		f.open, f.n = c, 0
		f.done = append(f.done, c)
	case f.open == nil:
	case !f.open.Native && l.Tag == "AndroidRuntime" && l.PID == f.open.PID, f.open.Native && l.Tag == "DEBUG":
		c := f.open
		if f.n++; f.n > maxTrace {
			return
		}
		c.Trace += l.Text + "\n"
		if rest, ok := strings.CutPrefix(l.Text, "Process: "); ok && c.App == "" {
			c.App, _, _ = strings.Cut(rest, ",")
		} else if c.Native && c.App == "" {
			if m := nativeName.FindStringSubmatch(l.Text); m != nil {
				c.App = m[1]
			}
		} else if c.Problem == "" && !c.Native {
			c.Problem = strings.TrimSpace(l.Text)
			f.done = append(f.done, c)
		}
	}
}

var (
	nativeApp  = regexp.MustCompile(`pid \d+ \(([\w.]+)\)`)
	nativeName = regexp.MustCompile(`>>> ([\w.]+) <<<`)
)
