package phone

// The phone's shell: a real shell interpreter whose commands are the phone's
// own, and whose files are those in its memory.

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// maxText is how many bytes a command that is read from the input may have.
const maxText = 1 << 20

type call struct {
	ctx      context.Context
	args     []string // without the command's name
	in       io.Reader
	out, err io.Writer
	tz       string // of the environment; empty: the phone's
}

func (c *call) say(format string, args ...any) { fmt.Fprintf(c.out, format, args...) }

// script is what a shell is to do.
type script struct {
	file  *syntax.File
	calls []simple // the same, where it needs no interpreter; else nil
}

func newParser() *syntax.Parser { return syntax.NewParser(syntax.Variant(syntax.LangMirBSDKorn)) }

func parse(parser *syntax.Parser, text string) (script, error) {
	file, err := parser.Parse(strings.NewReader(text), "")
	if err != nil {
		return script{}, err
	}
	calls, ok := plain(file.Stmts)
	if !ok {
		calls = nil
	}
	return script{file, calls}, nil
}

// run runs one line of shell and gives its exit code.
func (p *Phone) run(ctx context.Context, line string, in io.Reader, out, errOut io.Writer) int {
	s, err := parse(newParser(), line)
	if err != nil {
		fmt.Fprintf(errOut, "/system/bin/sh: %v\n", err)
		return 1
	}
	if s.calls != nil { // as nearly all are: no interpreter
		return p.runCalls(ctx, s.calls, 0, in, out, errOut)
	}
	r, err := p.interpreter(in, out, errOut)
	if err != nil {
		fmt.Fprintf(errOut, "/system/bin/sh: %v\n", err)
		return 1
	}
	return exitCode(r.Run(ctx, s.file))
}

func (p *Phone) interpreter(in io.Reader, out, errOut io.Writer) (*interp.Runner, error) {
	return interp.New(interp.StdIO(in, out, errOut), interp.Env(expand.ListEnviron("PATH=/system/bin", "HOME=/", "ANDROID_ROOT=/system")),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return p.exec }),
		interp.OpenHandler(p.open), interp.StatHandler(p.stat),
		interp.ReadDirHandler2(p.readDir))
}

func exitCode(err error) int {
	var code interp.ExitStatus
	switch {
	case errors.As(err, &code):
		return int(code)
	case err != nil:
		return 1
	}
	return 0
}

// lines is a shell that reads what it is to do from its input, line after line, as one does that was started
// without a command. What a command reads there, the shell does not.
func (p *Phone) lines(ctx context.Context, in io.Reader, out, errOut voice) int {
	r := bufio.NewReader(in)
	parser := newParser()
	var interpreter *interp.Runner // keeps what the lines before said
	code := 0
	for text := ""; ; {
		if r.Buffered() == 0 {
			out.let()
		}
		line, err := r.ReadString('\n')
		text += line
		if err != nil && strings.TrimSpace(text) == "" || len(text) > maxText {
			return code
		}
		s, wrong := parse(parser, text)
		if wrong != nil {
			if syntax.IsIncomplete(wrong) && err == nil {
				continue
			}
			fmt.Fprintf(errOut, "/system/bin/sh: %v\n", wrong)
			return 1
		}
		text = ""
		out.hold(s.calls != nil && !slices.ContainsFunc(s.calls, func(c simple) bool { return !answersAtOnce[c.args[0]] }))
		if s.calls != nil {
			code = p.runCalls(ctx, s.calls, code, r, out, errOut)
		} else if len(s.file.Stmts) > 0 {
			if interpreter == nil {
				if interpreter, err = p.interpreter(nil, out, errOut); err != nil { // with our input it would take all of it
					fmt.Fprintf(errOut, "/system/bin/sh: %v\n", err)
					return 1
				}
			}
			code = exitCode(interpreter.Run(ctx, s.file))
			if interpreter.Exited() {
				return code
			}
		}
	}
}

// simple is one call of a command of the phone's, with words that mean what they are.
type simple struct {
	args    []string // with lastCode where the exit code of the call before is meant
	noInput bool
	toErr   bool
}

const lastCode = "\x00" // no word has one

func (p *Phone) runCalls(ctx context.Context, calls []simple, code int, in io.Reader, out, errOut io.Writer) int {
	for _, s := range calls {
		args := slices.Clone(s.args)
		for i := range args {
			args[i] = strings.ReplaceAll(args[i], lastCode, strconv.Itoa(code))
		}
		c := &call{ctx: ctx, args: args[1:], in: in, out: out, err: errOut}
		if s.noInput {
			c.in = strings.NewReader("")
		}
		if s.toErr {
			c.out = errOut
		}
		if code = commands[args[0]](p, c); ctx.Err() != nil {
			return 1
		}
	}
	return code
}

// plain gives the calls that statements are when they are nothing but calls of the phone's commands, one after the other.
func plain(stmts []*syntax.Stmt) (calls []simple, ok bool) {
	for _, stmt := range stmts {
		if stmt.Negated || stmt.Background || stmt.Coprocess {
			return nil, false
		}
		var these []simple
		switch c := stmt.Cmd.(type) {
		case *syntax.CallExpr:
			args, ok := words(c)
			if !ok {
				return nil, false
			}
			these = []simple{{args: args}}
		case *syntax.Block:
			if these, ok = plain(c.Stmts); !ok {
				return nil, false
			}
		default:
			return nil, false
		}
		for _, r := range stmt.Redirs {
			to := r.Word.Lit()
			for i := range these {
				switch {
				case r.N != nil:
					return nil, false
				case r.Op == syntax.RdrIn && to == "/dev/null":
					these[i].noInput = true
				case r.Op == syntax.DplOut && to == "2":
					these[i].toErr = true
				default:
					return nil, false
				}
			}
		}
		calls = append(calls, these...)
	}
	return calls, len(calls) > 0
}

// words gives a call's words, when they mean what they are.
func words(c *syntax.CallExpr) (args []string, ok bool) {
	if len(c.Assigns) > 0 {
		return nil, false
	}
	for _, w := range c.Args {
		arg := ""
		for _, part := range w.Parts {
			switch x := part.(type) {
			case *syntax.Lit:
				if strings.ContainsAny(x.Value, "\\*?[{~"+lastCode) {
					return nil, false
				}
				arg += x.Value
			case *syntax.SglQuoted:
				if x.Dollar || strings.Contains(x.Value, lastCode) {
					return nil, false
				}
				arg += x.Value
			case *syntax.ParamExp:
				if !x.Short || x.Param == nil || x.Param.Value != "?" {
					return nil, false
				}
				arg += lastCode
			default:
				return nil, false
			}
		}
		args = append(args, arg)
	}
	if len(args) == 0 || commands[args[0]] == nil {
		return nil, false
	}
	// The interpreter's echo has options, and signs that stand for others.
	if plainEcho := args[0] == "echo" && !strings.Contains(strings.Join(args, " "), `\`) && (len(args) == 1 || !strings.HasPrefix(args[1], "-")); interp.IsBuiltin(args[0]) && !plainEcho {
		return nil, false
	}
	return args, true
}

func (p *Phone) exec(ctx context.Context, args []string) error {
	hc := interp.HandlerCtx(ctx)
	name := path.Base(args[0])
	f := commands[name]
	if f == nil {
		if p.traits.oldShell() {
			fmt.Fprintf(hc.Stderr, "/system/bin/sh: %s: not found\n", args[0])
			return interp.ExitStatus(127)
		}
		fmt.Fprintf(hc.Stderr, "/system/bin/sh: %s: inaccessible or not found\n", args[0])
		return interp.ExitStatus(127)
	}
	if code := f(p, &call{ctx, args[1:], hc.Stdin, hc.Stdout, hc.Stderr, hc.Env.Get("TZ").Str}); code != 0 {
		return interp.ExitStatus(code)
	}
	return nil
}

// opened is a file that is read, in a goroutine that may still read when it is closed.
type opened struct{ io.Reader }

func (opened) Write([]byte) (int, error) { return 0, fs.ErrPermission }
func (opened) Close() error              { return nil }

// written is a file that is written; what it holds is there when it is closed.
type written struct {
	bytes.Buffer
	done func([]byte)
}

func (w *written) Close() error {
	w.done(w.Bytes())
	return nil
}

func (p *Phone) open(ctx context.Context, name string, flag int, _ os.FileMode) (io.ReadWriteCloser, error) {
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		raw, ok := p.contents(name)
		if !ok {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		}
		return opened{bytes.NewReader(raw)}, nil
	}
	w := &written{}
	switch name {
	case "/dev/null":
		w.done = func([]byte) {}
	case "/dev/tty":
		w.done = func(b []byte) { _, _ = interp.HandlerCtx(ctx).Stdout.Write(b) }
	default:
		if flag&os.O_APPEND != 0 {
			if f := p.file(name); f != nil {
				w.Write(f.data)
			}
		}
		w.done = func(b []byte) { p.put(name, &file{append([]byte(nil), b...), 0o100644, p.now()}) }
	}
	return w, nil
}

// contents reads a file, the system's own among them.
func (p *Phone) contents(name string) ([]byte, bool) {
	switch name = path.Clean(name); name {
	case "/dev/null", "/dev/tty":
		return nil, true
	case "/proc/sys/kernel/random/boot_id":
		return []byte(p.bootID() + "\n"), true
	case "/proc/uptime":
		return []byte("86413.22 51233.10\n"), true
	}
	if strings.HasPrefix(name, "/proc/") {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.proc(name)
	}
	if f := p.file(name); f != nil {
		return f.data, true
	}
	return nil, false
}

type statInfo struct {
	name string
	size int64
	dir  bool
}

func (s statInfo) Name() string { return s.name }
func (s statInfo) Size() int64  { return s.size }
func (s statInfo) Mode() fs.FileMode {
	if s.dir {
		return fs.ModeDir | 0o755
	}
	return 0o644
}
func (s statInfo) ModTime() time.Time { return time.Time{} }
func (s statInfo) IsDir() bool        { return s.dir }
func (s statInfo) Sys() any           { return nil }

func (p *Phone) stat(_ context.Context, name string, _ bool) (fs.FileInfo, error) {
	if raw, ok := p.contents(name); ok {
		return statInfo{path.Base(name), int64(len(raw)), false}, nil
	}
	for _, d := range []string{"/", "/sdcard", "/data", "/data/local", "/data/local/tmp", "/system", "/system/bin"} {
		if path.Clean(name) == d {
			return statInfo{path.Base(d), 0, true}, nil
		}
	}
	if strings.HasPrefix(name, "/system/bin/") && commands[path.Base(name)] != nil {
		return statInfo{path.Base(name), 1, false}, nil
	}
	return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

// readDir lists the files of a folder, for patterns.
func (p *Phone) readDir(_ context.Context, dir string) (out []fs.DirEntry, err error) {
	for _, name := range p.list(dir) {
		out = append(out, fs.FileInfoToDirEntry(statInfo{path.Base(name), 0, false}))
	}
	return out, nil
}

// bootID differs from phone to phone, and from one start of a phone to the next.
func (p *Phone) bootID() string {
	h := fmt.Sprintf("%016x%016x", p.seed, uint64(p.began.UnixNano()))
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

// date knows +FORMAT with %s, %N and what follows from them.
func (p *Phone) date(c *call) int {
	now := p.now()
	if len(c.args) == 0 {
		c.say("%s\n", now.UTC().Format("Mon Jan _2 15:04:05 UTC 2006"))
		return 0
	}
	form := strings.TrimPrefix(c.args[0], "+")
	form = strings.ReplaceAll(form, "%s", strconv.FormatInt(now.Unix(), 10))
	if p.traits.API >= 23 { // before, %N was not known and was left as it is
		form = strings.ReplaceAll(form, "%N", fmt.Sprintf("%09d", now.Nanosecond()))
	}
	c.say("%s\n", form)
	return 0
}
