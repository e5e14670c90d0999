// Package devicelog reads a device's log line by line, and finds in it the
// death of an app.
//
// In: lines as `logcat -v epoch` or `-v threadtime` writes them, or as iOS's `log` does in its style syslog (apple.go). Out: their
// parts, and crashes with their stack traces.
package devicelog

import (
	"regexp"
	"strconv"
	"strings"
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

// Parse reads a line; false for a divider such as "--------- beginning of main"
// and for anything else that is not a line of the log. A line without a year is
// taken to be of the given one. Logs are long: this is written by hand, ten times
// as quick as with patterns.
func Parse(s string, year int) (l Line, ok bool) {
	s = strings.TrimRight(s, "\r\n")
	rest := strings.TrimLeft(s, " ")
	if rest == "" || rest[0] < '0' || rest[0] > '9' {
		return l, false
	}
	if len(rest) > len(appleTime) && rest[4] == '-' {
		return apple(rest)
	}
	if l.At, rest, ok = epoch(rest); !ok {
		if l.At, rest, ok = monthAndDay(s, year); !ok {
			return l, false
		}
	}
	if l.PID, rest, ok = number(rest); !ok {
		return l, false
	}
	if l.TID, rest, ok = number(rest); !ok {
		return l, false
	}
	if rest = strings.TrimLeft(rest, " "); len(rest) < 2 || rest[1] != ' ' || !strings.Contains("VDIWEFA", rest[:1]) {
		return l, false
	}
	l.Level, rest = rest[0], strings.TrimLeft(rest[2:], " ")
	tag, text, ok := strings.Cut(rest, ": ")
	if !ok { // an empty text, whose last blank was lost
		if tag, ok = strings.CutSuffix(rest, ":"); !ok {
			return l, false
		}
	}
	l.Tag, l.Text = strings.TrimRight(tag, " "), text
	return l, true
}

// epoch reads "1767225600.123", seconds since 1970.
func epoch(s string) (time.Time, string, bool) {
	dot := strings.IndexByte(s, '.')
	if dot < 6 || dot > 12 {
		return time.Time{}, s, false
	}
	sec, err := strconv.ParseInt(s[:dot], 10, 64)
	end := dot + 1
	for end < len(s) && s[end] >= '0' && s[end] <= '9' {
		end++
	}
	if err != nil || end < dot+4 || end == len(s) || s[end] != ' ' {
		return time.Time{}, s, false
	}
	ms, err := strconv.ParseInt(s[dot+1:dot+4], 10, 64)
	return time.UnixMilli(sec*1000 + ms).UTC(), s[end:], err == nil
}

// monthAndDay reads "01-31 12:34:56.789".
func monthAndDay(s string, year int) (time.Time, string, bool) {
	const form = "01-02 15:04:05.000"
	if len(s) < len(form) || s[2] != '-' {
		return time.Time{}, s, false
	}
	at, err := time.Parse("2006-"+form, strconv.Itoa(year)+"-"+s[:len(form)])
	return at, strings.TrimLeft(s[len(form):], "0123456789"), err == nil
}

// number reads a whole number between blanks.
func number(s string) (int, string, bool) {
	t := strings.TrimLeft(s, " ")
	end := strings.IndexByte(t, ' ')
	if end < 1 || len(t) == len(s) || t[0] < '0' || t[0] > '9' {
		return 0, s, false
	}
	n, err := strconv.Atoi(t[:end])
	return n, t[end:], err == nil
}

// signal says whether the line tells of a death by a signal.
func (l Line) signal() bool { return l.Tag == "libc" && strings.HasPrefix(l.Text, "Fatal signal") }

// Crash is the death of an app.
type Crash struct {
	At      time.Time
	App     string // the process's name; with Cut its last 15 characters alone
	Cut     bool
	PID     int
	Native  bool   // by a signal; else by an exception
	Hung    bool   // it lives, and does not respond to its user
	Problem string // the exception or the signal, one line
	Trace   string // all that the log says of it, with line ends

	apple bool // of iOS
}

// Of says whether the crash is one of an app: a process of it may have a name behind a colon.
func (c *Crash) Of(app string) bool {
	if app == "" || c.App == "" {
		return false // somebody else's: tools of the shell die, too
	}
	name, more, _ := strings.Cut(c.App, ":")
	if c.Cut { // "app" or "app:more", of which the end is known
		return strings.HasSuffix(app, c.App) || more != "" && strings.HasSuffix(app, name)
	}
	return name == app
}

// commLength is how much of a name the kernel keeps of a process (TASK_COMM_LEN); Android writes the end of it there.
const commLength = 15

// nameTakes is how long after a death by a signal the whole name may come.
const nameTakes = 2 * time.Second

const (
	maxTrace      = 400       // lines
	maxTraceBytes = 256 << 10 // of a trace
	maxCrashes    = 1000      // that are told of one log
)

// Finder finds crashes in a stream of lines. A crash is told as soon as its
// first lines say whose and what it is; its trace grows with the lines after it.
type Finder struct {
	open *Crash
	n    int
	told bool // the open one is among done
	done []*Crash
}

// Crashes are those found so far.
func (f *Finder) Crashes() []*Crash { return f.done }

// tell makes the open crash known.
func (f *Finder) tell() {
	if f.open != nil && !f.told {
		f.told = true
		f.done = append(f.done, f.open)
	}
}

// Flush makes a death by a signal known whose whole name has not come yet. To be called when all that the device logged so far has been fed.
func (f *Finder) Flush() {
	if f.open != nil && f.open.Native {
		f.tell()
	}
}

// ofCrashes reports whether lines with a tag can say anything of a crash.
func ofCrashes(tag string) bool {
	return tag == "AndroidRuntime" || tag == "libc" || tag == "DEBUG" || tag == "ActivityManager" || tag == appleLauncher
}

// Feed takes the next line. Crashes of Java code come under the tag
// AndroidRuntime, those of native code as a fatal signal under libc, which names a process by the end of its name, and
// as a tombstone with the whole name under DEBUG, as written by
// com.android.internal.os.RuntimeInit and by the linker's debuggerd handler; that an app does not
// respond, under ActivityManager, by com.android.server.am.ProcessErrorStateRecord. For iOS see apple.go.
func (f *Finder) Feed(l Line) {
	if len(f.done) >= maxCrashes {
		return
	}
	if f.open != nil && len(f.open.Trace) > maxTraceBytes {
		f.n = maxTrace // it is full
	}
	if f.open != nil && f.open.Native && l.At.Sub(f.open.At) > nameTakes {
		f.tell()
	}
	switch {
	case f.apple(l):
	case l.Tag == "AndroidRuntime" && strings.HasPrefix(l.Text, "FATAL EXCEPTION"):
		f.Flush()
		f.told = false
		f.open, f.n = &Crash{At: l.At, PID: l.PID, Trace: l.Text + "\n"}, 0
	case l.signal():
		f.Flush()
		c := &Crash{At: l.At, PID: l.PID, Native: true, Problem: l.Text, Trace: l.Text + "\n"}
		if m := nativeApp.FindStringSubmatch(l.Text); m != nil {
			c.App, c.Cut = m[1], len(m[1]) >= commLength
		}
		f.open, f.n, f.told = c, 0, false
		if c.App != "" && !c.Cut {
			f.tell()
		}
	case l.Tag == "ActivityManager" && l.Level == 'E' && strings.HasPrefix(l.Text, "ANR in "):
		app, _, _ := strings.Cut(l.Text[len("ANR in "):], " ")
		f.Flush()
		f.told = false
		f.open, f.n = &Crash{At: l.At, PID: l.PID, App: app, Hung: true, Trace: l.Text + "\n"}, 0
	case f.open != nil && f.open.Hung && l.Tag == "ActivityManager" && l.PID == f.open.PID:
		c := f.open
		if f.n++; f.n > maxTrace {
			return
		}
		c.Trace += l.Text + "\n"
		if why, ok := strings.CutPrefix(l.Text, "Reason: "); ok && c.Problem == "" {
			c.Problem = "the app is not responding: " + why
			f.tell()
		}
	case f.open == nil || f.open.apple:
	case !f.open.Native && l.Tag == "AndroidRuntime" && l.PID == f.open.PID, f.open.Native && l.Tag == "DEBUG":
		c := f.open
		if f.n++; f.n > maxTrace {
			return
		}
		c.Trace += l.Text + "\n"
		if rest, ok := strings.CutPrefix(l.Text, "Process: "); ok && c.App == "" {
			c.App, _, _ = strings.Cut(rest, ",")
		} else if c.Native && !f.told {
			if m := nativeName.FindStringSubmatch(l.Text); m != nil {
				c.App, c.Cut = m[1]+m[2], false
				f.tell()
			}
		} else if c.Problem == "" && !c.Native {
			c.Problem = strings.TrimSpace(l.Text)
			f.tell()
		}
	}
}

var (
	nativeApp  = regexp.MustCompile(`pid \d+ \(([\w.:]+)\)`)
	nativeName = regexp.MustCompile(`>>> ([\w.:]+) <<<|^Cmdline: ([\w.:]+)`)
)
