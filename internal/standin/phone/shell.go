package phone

// The phone's shell: a real shell interpreter whose commands are the phone's
// own, and whose files are those in its memory.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

type call struct {
	ctx      context.Context
	args     []string // without the command's name
	in       io.Reader
	out, err io.Writer
}

func (c *call) say(format string, args ...any) { fmt.Fprintf(c.out, format, args...) }

// run runs one line of shell and gives its exit code.
func (p *Phone) run(ctx context.Context, line string, in io.Reader, out, errOut io.Writer) int {
	prog, err := syntax.NewParser(syntax.Variant(syntax.LangMirBSDKorn)).Parse(strings.NewReader(line), "")
	if err != nil {
		fmt.Fprintf(errOut, "/system/bin/sh: %v\n", err)
		return 1
	}
	if args := plain(prog); args != nil { // as nearly all are: no interpreter
		return commands[args[0]](p, &call{ctx, args[1:], in, out, errOut})
	}
	r, err := interp.New(interp.StdIO(in, out, errOut), interp.Env(expand.ListEnviron("PATH=/system/bin", "HOME=/", "ANDROID_ROOT=/system")),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return p.exec }),
		interp.OpenHandler(p.open), interp.StatHandler(p.stat),
		interp.ReadDirHandler2(func(context.Context, string) ([]fs.DirEntry, error) { return nil, nil }))
	if err != nil {
		fmt.Fprintf(errOut, "/system/bin/sh: %v\n", err)
		return 1
	}
	err = r.Run(ctx, prog)
	var code interp.ExitStatus
	switch {
	case errors.As(err, &code):
		return int(code)
	case err != nil:
		return 1
	}
	return 0
}

// plain gives the arguments of a line that is one call of a command of the phone's, with words that mean what they are; nil: it is more.
func plain(prog *syntax.File) (args []string) {
	if len(prog.Stmts) != 1 {
		return nil
	}
	stmt := prog.Stmts[0]
	c, ok := stmt.Cmd.(*syntax.CallExpr)
	if !ok || stmt.Negated || stmt.Background || stmt.Coprocess || len(stmt.Redirs) > 0 || len(c.Assigns) > 0 {
		return nil
	}
	for _, w := range c.Args {
		arg := ""
		for _, part := range w.Parts {
			switch x := part.(type) {
			case *syntax.Lit:
				if strings.ContainsAny(x.Value, "\\*?[{~") {
					return nil
				}
				arg += x.Value
			case *syntax.SglQuoted:
				if x.Dollar {
					return nil
				}
				arg += x.Value
			default:
				return nil
			}
		}
		args = append(args, arg)
	}
	if len(args) == 0 || commands[args[0]] == nil || interp.IsBuiltin(args[0]) {
		return nil
	}
	return args
}

func (p *Phone) exec(ctx context.Context, args []string) error {
	hc := interp.HandlerCtx(ctx)
	name := path.Base(args[0])
	f := commands[name]
	if f == nil {
		fmt.Fprintf(hc.Stderr, "/system/bin/sh: %s: inaccessible or not found\n", args[0])
		return interp.ExitStatus(127)
	}
	if code := f(p, &call{ctx, args[1:], hc.Stdin, hc.Stdout, hc.Stderr}); code != 0 {
		return interp.ExitStatus(code)
	}
	return nil
}

type written struct {
	bytes.Buffer
	done func([]byte)
}

func (w *written) Close() error {
	w.done(w.Bytes())
	return nil
}

func (p *Phone) open(ctx context.Context, name string, flag int, _ os.FileMode) (io.ReadWriteCloser, error) {
	if name == "/dev/null" {
		return &written{done: func([]byte) {}}, nil
	}
	if name == "/dev/tty" {
		return &written{done: func(b []byte) { _, _ = interp.HandlerCtx(ctx).Stdout.Write(b) }}, nil
	}
	w := &written{done: func([]byte) {}}
	if flag&(os.O_WRONLY|os.O_RDWR) != 0 {
		if flag&os.O_APPEND != 0 {
			if f := p.file(name); f != nil {
				w.Write(f.data)
			}
		}
		w.done = func(b []byte) { p.put(name, &file{append([]byte(nil), b...), 0o100644, p.now()}) }
		return w, nil
	}
	raw, ok := p.contents(name)
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	w.Write(raw)
	return w, nil
}

// contents reads a file, the system's own among them.
func (p *Phone) contents(name string) ([]byte, bool) {
	switch name = path.Clean(name); name {
	case "/proc/meminfo":
		kb := p.traits.MemoryGB*1024*1024 - 180_000
		return fmt.Appendf(nil, "MemTotal:       %8d kB\nMemFree:        %8d kB\nMemAvailable:   %8d kB\n", kb, kb/9, kb/2), true
	case "/proc/uptime":
		return []byte("86413.22 51233.10\n"), true
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
