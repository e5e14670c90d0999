package devicelog

// Lines of iOS, as Apple's log(1) writes them with `--style syslog`:
//
//	2026-05-06 07:08:09.123456+0000  Larch-4 Kelpline[312]: (Tides) <Error>: it can't be reached

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

const appleTime = "2006-01-02 15:04:05.000000-0700"

// apple reads one. The process's name is the tag.
func apple(s string) (l Line, ok bool) {
	at, err := time.Parse(appleTime, s[:len(appleTime)])
	if err != nil {
		return l, false
	}
	_, rest, ok := strings.Cut(strings.TrimLeft(s[len(appleTime):], " "), " ") // behind the device's name
	head, text, found := strings.Cut(rest, "]: ")
	open := strings.LastIndexByte(head, '[')
	if !ok || !found || open < 1 {
		return l, false
	}
	pid, err := strconv.Atoi(head[open+1:])
	if err != nil {
		return l, false
	}
	l = Line{At: at.UTC(), PID: pid, TID: pid, Level: 'I', Tag: head[:open], Text: text}
	for mark, level := range map[string]byte{"<Error>: ": 'E', "<Fault>: ": 'F', "<Debug>: ": 'D'} {
		if i := strings.Index(text, mark); i >= 0 && i < 80 {
			l.Level, l.Text = level, text[:i]+text[i+len(mark):]
		}
	}
	if strings.HasPrefix(l.Text, appleDeath) {
		l.Level = 'F'
	}
	return l, true
}

// appleDeath begins the line that an app writes that ends by an exception that nobody caught.
const appleDeath = "*** Terminating app due to uncaught exception "

// appleLauncher is the process that starts apps, and sees them end.
const appleLauncher = "SpringBoard"

// exited is how it tells of that: whose process it was, and by which signal it ended.
var exited = regexp.MustCompile(`\[app<([\w.-]+)>:(\d+)\] process exited: .*(SIG[A-Z]+)`)

// apple takes a line that iOS writes of an app that dies: the app says by which exception, the launcher whose process it was. It says whether it was such.
func (f *Finder) apple(l Line) bool {
	if strings.HasPrefix(l.Text, appleDeath) {
		f.Flush()
		f.open, f.n, f.told = &Crash{At: l.At, PID: l.PID, Problem: strings.TrimPrefix(l.Text, "*** "), Trace: l.Text + "\n", apple: true}, 0, false
		return true
	}
	if l.Tag == appleLauncher && strings.Contains(l.Text, "process exited: ") {
		m := exited.FindStringSubmatch(l.Text)
		if m == nil {
			return true
		}
		pid, _ := strconv.Atoi(m[2])
		if f.open == nil || !f.open.apple || f.told || f.open.PID != pid {
			f.open, f.n, f.told = &Crash{At: l.At, PID: pid, Problem: "the app ended by the signal " + m[3], apple: true}, 0, false
		}
		f.open.App = m[1]
		f.open.Trace += l.Text + "\n"
		f.tell()
		return true
	}
	if f.open != nil && f.open.apple && !f.told && l.PID == f.open.PID { // its stack
		if f.n++; f.n <= maxTrace {
			f.open.Trace += l.Text + "\n"
		}
		return true
	}
	return false
}
