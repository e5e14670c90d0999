package script

// The child's side: Starlark, and nothing else.

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"sort"
	"strings"
	"syscall"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"
	"go.starlark.net/syntax"

	"tessellant/internal/core/testpkg"
)

// ChildArg is the argument with which the binary is started as a child.
const ChildArg = "script-case"

// Child runs the one case that comes in on standard input, and ends the process.
func Child() {
	in := bufio.NewReaderSize(os.Stdin, 64<<10)
	var j job
	line, err := in.ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &j)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "this command is for Tessellant itself: it runs one test case for its parent")
		os.Exit(2)
	}
	// The heap may grow to the limit; past it the runtime ends the process.
	// RLIMIT_DATA counts what can be written to, not what is merely reserved.
	debug.SetMemoryLimit(int64(j.Memory / 2))
	debug.SetMaxStack(64 << 20)
	lim := syscall.Rlimit{Cur: j.Memory + 96<<20, Max: j.Memory + 96<<20}
	const rlimitData = 2
	if err := syscall.Setrlimit(rlimitData, &lim); err != nil {
		fmt.Fprintln(os.Stderr, "limit memory:", err)
		os.Exit(2)
	}
	c := &child{in: in, out: json.NewEncoder(os.Stdout), job: j}
	_ = c.out.Encode(fromChild{End: c.run()})
}

type child struct {
	in  *bufio.Reader
	out *json.Encoder
	job job
}

func (c *child) run() *ending {
	thread := &starlark.Thread{Name: c.job.Func, Print: func(t *starlark.Thread, msg string) {
		_, _ = c.ask(t, "log", map[string]any{"text": msg})
	}}
	steps := false
	thread.OnMaxSteps = func(t *starlark.Thread) {
		steps = true
		t.Cancel("too many steps")
	}
	thread.SetMaxExecutionSteps(c.job.Steps)
	globals, err := starlark.ExecFileOptions(testpkg.Dialect, thread, c.job.File, c.job.Scripts[c.job.File], c.words())
	kind := "load"
	if err == nil {
		kind = ""
		f, ok := globals[c.job.Func].(starlark.Callable)
		if !ok {
			return &ending{Error: fmt.Sprintf("%s defines no function %s", c.job.File, c.job.Func), Kind: "load"}
		}
		_, err = starlark.Call(thread, f, starlark.Tuple{c.phone()}, nil)
	}
	if err == nil {
		return &ending{}
	}
	e := &ending{Error: err.Error(), Kind: kind}
	if steps {
		e.Kind = "steps"
	}
	var ee *starlark.EvalError
	if errors.As(err, &ee) {
		e.Error, e.Trace = ee.Msg, ee.CallStack.String()
		for i := range ee.CallStack {
			if pos := ee.CallStack.At(i).Pos; pos.Filename() != "<builtin>" {
				e.Line = where(pos)
				break
			}
		}
	}
	return e
}

func where(pos syntax.Position) string { return fmt.Sprintf("%s:%d", pos.Filename(), pos.Line) }

// ask sends a call to the parent and waits for its answer.
func (c *child) ask(t *starlark.Thread, word string, args map[string]any) (any, error) {
	call := &Call{Word: word, Args: args}
	for i := range t.CallStackDepth() {
		if pos := t.CallFrame(i).Pos; pos.Filename() != "<builtin>" {
			call.Line = where(pos)
			break
		}
	}
	if err := c.out.Encode(fromChild{Call: call}); err != nil {
		return nil, errors.New("the host is gone")
	}
	line, err := c.in.ReadBytes('\n')
	if err != nil {
		if errors.Is(err, io.EOF) {
			os.Exit(3) // nobody waits for this case any more
		}
		return nil, err
	}
	var r reply
	if err := json.Unmarshal(line, &r); err != nil {
		return nil, err
	}
	if r.Error != "" {
		return nil, errors.New(r.Error)
	}
	return r.Value, nil
}

// params are the parameters of each word; a question mark makes one optional.
var params = map[string][]string{
	"launch": {}, "stop": {}, "back": {}, "hide_keyboard": {},
	"find": {"locator", "within?"}, "all": {"locator"}, "sees": {"locator"},
	"wait_for": {"locator", "text?", "within?"}, "wait_gone": {"locator", "within?"}, "read": {"locator", "within?"},
	"tap": {"target", "within?"}, "type": {"target", "text", "within?"}, "clear": {"target", "within?"},
	"swipe": {"direction", "on?"}, "step": {"name"},
}

// word makes the builtin for a word: it takes the arguments apart, asks the
// parent and gives the answer as a Starlark value.
func (c *child) word(name string) *starlark.Builtin {
	names := params[name]
	return starlark.NewBuiltin(name, func(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
		values := make([]starlark.Value, len(names))
		pairs := make([]any, 0, len(names)*2)
		for i, n := range names {
			pairs = append(pairs, n, &values[i])
		}
		if err := starlark.UnpackArgs(name, args, kw, pairs...); err != nil {
			return nil, err
		}
		m := map[string]any{}
		for i, n := range names {
			if values[i] == nil || values[i] == starlark.None {
				continue
			}
			v, err := toJSON(values[i])
			if err != nil {
				return nil, fmt.Errorf("%s: %s: %w", name, strings.TrimSuffix(n, "?"), err)
			}
			m[strings.TrimSuffix(n, "?")] = v
		}
		answer, err := c.ask(t, name, m)
		if err != nil {
			return nil, err
		}
		return fromJSON(answer), nil
	})
}

func (c *child) phone() starlark.Value {
	d := starlark.StringDict{"facts": fromJSON(c.job.Facts)}
	for name := range params {
		d[name] = c.word(name)
	}
	return starlarkstruct.FromStringDict(starlark.String("phone"), d)
}

func (c *child) words() starlark.StringDict {
	check := func(name string, f func(starlark.Tuple, []starlark.Tuple) (checked, error)) *starlark.Builtin {
		return starlark.NewBuiltin("check."+name, func(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
			k, err := f(args, kw)
			if err != nil {
				return nil, err
			}
			_, err = c.ask(t, "check", map[string]any{"kind": name, "held": k.held, "about": k.about, "expected": k.expected, "actual": k.actual})
			return starlark.None, err
		})
	}
	return starlark.StringDict{
		"check": starlarkstruct.FromStringDict(starlark.String("check"), starlark.StringDict{
			"equal":    check("equal", checkEqual),
			"contains": check("contains", checkContains),
			"that":     check("that", checkThat),
		}),
		"log": starlark.NewBuiltin("log", func(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
			var v starlark.Value
			if err := starlark.UnpackArgs("log", args, kw, "text", &v); err != nil {
				return nil, err
			}
			_, err := c.ask(t, "log", map[string]any{"text": plain(v)})
			return starlark.None, err
		}),
	}
}

type checked struct {
	held                    bool
	about, expected, actual string
}

func checkEqual(args starlark.Tuple, kw []starlark.Tuple) (k checked, err error) {
	var actual, expected starlark.Value
	if err = starlark.UnpackArgs("check.equal", args, kw, "actual", &actual, "expected", &expected, "about?", &k.about); err != nil {
		return k, err
	}
	k.held, err = starlark.Equal(actual, expected)
	k.expected, k.actual = shown(expected), shown(actual)
	return k, err
}

func checkContains(args starlark.Tuple, kw []starlark.Tuple) (k checked, err error) {
	var whole, part starlark.Value
	if err = starlark.UnpackArgs("check.contains", args, kw, "whole", &whole, "part", &part, "about?", &k.about); err != nil {
		return k, err
	}
	v, err := starlark.Binary(syntax.IN, part, whole)
	k.held = err == nil && bool(v.Truth())
	k.expected, k.actual = "something that contains "+shown(part), shown(whole)
	return k, err
}

func checkThat(args starlark.Tuple, kw []starlark.Tuple) (k checked, err error) {
	var cond starlark.Value
	if err = starlark.UnpackArgs("check.that", args, kw, "condition", &cond, "about", &k.about); err != nil {
		return k, err
	}
	k.held, k.expected, k.actual = bool(cond.Truth()), "true", shown(cond)
	return k, nil
}

// shown writes a value as a person would want to read it in an error.
func shown(v starlark.Value) string {
	s := v.String()
	if len(s) > 2000 {
		s = s[:2000] + "…"
	}
	return s
}

func plain(v starlark.Value) string {
	if s, ok := v.(starlark.String); ok {
		return string(s)
	}
	return v.String()
}

// toJSON gives a value for the wire; an element goes as where it is.
func toJSON(v starlark.Value) (any, error) {
	switch v := v.(type) {
	case starlark.String:
		if len(v) > maxLine/4 {
			return nil, fmt.Errorf("a text of %d bytes is too long", len(v))
		}
		return string(v), nil
	case starlark.Bool:
		return bool(v), nil
	case starlark.Int, starlark.Float:
		f, _ := starlark.AsFloat(v)
		return f, nil
	case *starlarkstruct.Struct:
		m := map[string]any{}
		for _, n := range []string{"x", "y", "text", "value", "label", "id", "kind", "focused"} {
			a, err := v.Attr(n)
			if err != nil || a == nil {
				return nil, fmt.Errorf("got a %s, want a locator or an element", v.Type())
			}
			m[n], err = toJSON(a)
			if err != nil {
				return nil, err
			}
		}
		return m, nil
	}
	return nil, fmt.Errorf("got a %s, which can't be used here", v.Type())
}

func fromJSON(v any) starlark.Value {
	switch v := v.(type) {
	case bool:
		return starlark.Bool(v)
	case string:
		return starlark.String(v)
	case float64:
		if v == float64(int64(v)) {
			return starlark.MakeInt64(int64(v))
		}
		return starlark.Float(v)
	case []any:
		l := make([]starlark.Value, len(v))
		for i := range v {
			l[i] = fromJSON(v[i])
		}
		return starlark.NewList(l)
	case map[string]any:
		if v["kind"] != nil && v["bounds"] != nil {
			d := starlark.StringDict{}
			for k, x := range v {
				d[k] = fromJSON(x)
			}
			return starlarkstruct.FromStringDict(starlark.String("element"), d)
		}
		d := starlark.NewDict(len(v))
		names := make([]string, 0, len(v))
		for k := range v {
			names = append(names, k)
		}
		sort.Strings(names)
		for _, k := range names {
			_ = d.SetKey(starlark.String(k), fromJSON(v[k]))
		}
		return d
	}
	return starlark.None
}
