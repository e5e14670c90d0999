package triage

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"

	"tessellant/internal/core/verdict"
)

// Failure is one failure of a case on a device.
type Failure struct {
	Leg     int // of the run's legs, from 0
	Case    string
	Kind    verdict.Verdict // crashed, failed or expired
	Check   string          // the check's name; "": it was none, or has none
	Message string
	Trace   string // the stack, where there is one
}

// Signature is what makes two failures the same one. Two are the same when all of it is equal.
type Signature struct {
	Kind    verdict.Verdict
	Check   string
	Message string   // without what differs from device to device and from time to time
	Cause   string   // the exception at the root of the stack
	Frames  []string // the app's own on top of it, the innermost first
}

const (
	maxFrames  = 3
	maxMessage = 2000 // bytes that are looked at
	maxTrace   = 60_000
)

// Of gives the signature of a failure.
func Of(f Failure) Signature {
	s := Signature{Kind: f.Kind, Check: plain(f.Check), Message: plain(f.Message)}
	s.Cause, s.Frames = read(f.Trace)
	if len(s.Frames) > 0 && s.Cause != "" && f.Kind == verdict.Crashed {
		// The same place and the same exception are the same fault, whatever the system's version says besides.
		s.Message = ""
	}
	return s
}

// ID names a signature for good.
func (s Signature) ID() string {
	sum := sha256.Sum256([]byte(strings.Join(append([]string{string(s.Kind), s.Check, s.Message, s.Cause}, s.Frames...), "\x00")))
	return hex.EncodeToString(sum[:8])
}

// What differs between two failures that are the same, in the order in which it is taken out.
var differing = []struct {
	needs string // one of these characters; a text without any has nothing of the form
	form  *regexp.Regexp
	by    string
}{
	{"a", regexp.MustCompile(`(no such element) among: .*`), "$1"}, // what else was on the screen
	{"\"“„‹«'`", regexp.MustCompile(`"(?:[^"\\\n]|\\.)*"|“[^”\n]*”|„[^“\n]*“|‹[^›\n]*›|«[^»\n]*»|\B'[^'\n]*'\B|` + "`[^`\n]*`"), "…"},
	{":", regexp.MustCompile(`\b[a-z][a-z0-9+.-]*://[^\s,;)\]}>]+`), "ADDRESS"},
	{"-", regexp.MustCompile(`\b[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\b`), "ID"},
	{":-", regexp.MustCompile(`\b\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?\b|\b\d{1,2}:\d\d(?::\d\d(?:[.,]\d+)?)?\b`), "TIME"},
	{".", regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}(?::\d+)?\b`), "ADDRESS"},
	{"/\\", regexp.MustCompile(`(?:\b[A-Za-z]:\\|(?:^|[\s(=:])~?/)[^\s:;,)]*[^\s:;,).]`), " PATH"},
	{"eE", regexp.MustCompile(`[+-]?\b\d+(?:[.,]\d+)?[eE][+-]?\d+\b`), "N"},
	{digits, regexp.MustCompile(`\b0x[0-9a-fA-F]+\b|@[0-9a-fA-F]{5,}\b|\b[0-9a-fA-F]*\d[0-9a-fA-F]*[a-fA-F][0-9a-fA-F]*\d[0-9a-fA-F]*\b|\b[0-9A-HJKMNP-TV-Z]{26}\b`), "ID"},
	{digits, regexp.MustCompile(`[+-]?\b\d+(?:[.,\x{202f}\x{a0}']\d+)*`), "N"},
	{"N", regexp.MustCompile(`N(?:\s*[,;×x/]\s*N)+`), "N"},
	{" \t\n\r", regexp.MustCompile(`\s+`), " "},
}

const digits = "0123456789"

// plain takes out of a message what differs between two failures that are the same.
func plain(text string) string {
	if len(text) > maxMessage {
		text = strings.ToValidUTF8(text[:maxMessage], "")
	}
	for _, d := range differing {
		if strings.ContainsAny(text, d.needs) {
			text = d.form.ReplaceAllString(text, d.by)
		}
	}
	return strings.TrimSpace(text)
}

// Forms of a line of a stack: of Java and its like, Python, JavaScript, and native code.
var (
	javaFrame   = regexp.MustCompile(`^\s*at (?:[\w.$-]+/)?([\w.$<>]+)\.([\w$<>]+)\(`)
	pythonFrame = regexp.MustCompile(`^\s*File "([^"]*)", line \d+, in (\S+)`)
	jsFrame     = regexp.MustCompile(`^\s*at (?:async )?(?:(\S+(?: \[as \S+\])?) \()?((?:file:|node:|/|\w:\\|[\w.@-]+/)[^\s()]*?):\d+(?::\d+)?\)?\s*$`)
	nativeFrame = regexp.MustCompile(`^\s*#\d+ pc [0-9a-fA-F]+\s+(\S+)(?: \(([^)+]+)(?:\+\d+)?\))?`)
	exception   = regexp.MustCompile(`^(?:Caused by: |[A-Z]\S* in thread .*? )?((?:[a-z_][\w$]*\.)+[A-Z_][\w$.]*|[A-Z_]\w*(?:Exception|Error|Failure|Warning|Exit|Interrupt))(?::|\s*$)`)
	signal      = regexp.MustCompile(`\b(SIG[A-Z]+)\b`)
)

// strange are the beginnings of frames that are the system's, a language's or a runner's.
var strange = []string{"java.", "javax.", "jdk.", "sun.", "dalvik.", "libcore.", "android.", "androidx.", "com.android.", "com.google.android.", "kotlin.", "kotlinx.", "org.junit.", "junit.", "org.testng.", "org.opentest4j.", "org.hamcrest.",
	"node:", "internal/", "/system/", "/apex/", "/vendor/", "[vdso]", "<frozen "}

// within are parts of paths that only what is not the app's own has.
var within = []string{"/site-packages/", "/dist-packages/", "/node_modules/", "/lib/python", "unittest/", "/mochajs/"}

func ours(place string) bool {
	for _, f := range strange {
		if strings.HasPrefix(place, f) {
			return false
		}
	}
	for _, w := range within {
		if strings.Contains(place, w) {
			return false
		}
	}
	return true
}

// read finds in a stack the exception at its root and the app's own frames. Where no frame is the app's own, the innermost of all stands for them.
func read(trace string) (cause string, frames []string) {
	if len(trace) > maxTrace {
		trace = trace[:maxTrace]
	}
	first, python := "", false
	for line := range strings.Lines(trace) {
		line = strings.TrimRight(line, "\r\n")
		if len(frames) == maxFrames && !python && strings.HasPrefix(strings.TrimLeft(line, " \t"), "at ") {
			continue // those that are deeper say no more
		}
		place := ""
		switch {
		case javaFrame.MatchString(line):
			m := javaFrame.FindStringSubmatch(line)
			place = lambdas.ReplaceAllString(m[1], "$$$$") + "." + lambdas.ReplaceAllString(m[2], "$$$$")
		case pythonFrame.MatchString(line):
			m := pythonFrame.FindStringSubmatch(line)
			python = true
			place = m[1] + " " + m[2]
		case jsFrame.MatchString(line):
			m := jsFrame.FindStringSubmatch(line)
			place = strings.TrimSpace(m[2] + " " + m[1])
		case nativeFrame.MatchString(line):
			m := nativeFrame.FindStringSubmatch(line)
			place = strings.TrimSpace(m[1] + " " + m[2])
		default:
			if s := signal.FindString(line); s != "" && cause == "" {
				cause = s
			} else if m := exception.FindStringSubmatch(line); m != nil && !strings.HasPrefix(line, " ") && len(m[1]) > 3 {
				if cause != "" && strings.HasPrefix(line, "Caused by: ") {
					frames = nil // the root says where it began
				}
				if cause == "" || python || strings.HasPrefix(line, "Caused by: ") {
					cause = m[1]
				}
			}
			continue
		}
		if first == "" {
			first = place
		}
		if ours(place) {
			if i := strings.LastIndexAny(place, "/\\"); i >= 0 && !javaFrame.MatchString(line) {
				place = place[i+1:]
			}
			if python { // the innermost comes last
				if frames = append([]string{place}, frames...); len(frames) > maxFrames {
					frames = frames[:maxFrames]
				}
			} else if len(frames) < maxFrames {
				frames = append(frames, place)
			}
		}
	}
	if len(frames) == 0 && first != "" {
		frames = []string{first}
	}
	return cause, frames
}

// lambdas are numbered by the compiler.
var lambdas = regexp.MustCompile(`\$+(?:lambda\$|\$?ExternalSyntheticLambda|r8\$lambda\$)?[\w]*\d+|\$\$Lambda.*`)
