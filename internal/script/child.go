package script

// The child's side: Starlark, and nothing else.

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"
	"go.starlark.net/syntax"

	"tessellant/internal/confine"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/testpkg"
)

// ChildArg is the argument with which the binary is started as a child.
const ChildArg = "script-case"

const (
	computedAll = "the script's processor time is used up"
	cpuGrace    = 10 // seconds of processor time in which a child can still say so
)

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
	if bounded {
		lim := syscall.Rlimit{Cur: j.Memory + 96<<20, Max: j.Memory + 96<<20}
		const rlimitData = 2
		if err := syscall.Setrlimit(rlimitData, &lim); err != nil {
			fmt.Fprintln(os.Stderr, "limit memory:", err)
			os.Exit(2)
		}
	}
	// Steps do not count what one step costs: the square of a number of a million digits is one.
	over := make(chan os.Signal, 1)
	signal.Notify(over, syscall.SIGXCPU)
	go func() {
		<-over
		fmt.Fprintln(os.Stderr, computedAll)
		os.Exit(1)
	}()
	if err := syscall.Setrlimit(syscall.RLIMIT_CPU, &syscall.Rlimit{Cur: j.CPU, Max: j.CPU + cpuGrace}); err != nil {
		fmt.Fprintln(os.Stderr, "limit processor time:", err)
		os.Exit(2)
	}
	// The interpreter gives a script no way to anything; should there be a hole in it, this process has nothing to reach. Where the kernel can't
	// take something away, the rest holds.
	_ = confine.User()
	_ = confine.Files()
	_ = confine.Syscalls(false)
	c := &child{in: in, out: json.NewEncoder(os.Stdout), job: j, modules: map[string]starlark.StringDict{}, steps: map[*starlark.Thread]uint64{}}
	_ = c.out.Encode(fromChild{End: c.run()})
}

type child struct {
	in  *bufio.Reader
	out *json.Encoder
	job job

	phone      starlark.Value
	modules    map[string]starlark.StringDict // nil: being loaded
	outOfSteps bool
	steps      map[*starlark.Thread]uint64 // how many each may take, files that it loads included
	stood      time.Duration               // for how long people have had the case stand still
	expected   string                      // the reason of expect_failure
}

// run runs the case with what its file wants to be called around it.
func (c *child) run() *ending {
	thread := &starlark.Thread{Name: c.job.Func, Load: c.load, Print: func(t *starlark.Thread, msg string) {
		_, _ = c.ask(t, "log", map[string]any{"text": foreign.Fit(msg, maxNote)})
	}}
	thread.OnMaxSteps = func(t *starlark.Thread) {
		c.outOfSteps = true
		t.Cancel("too many steps")
	}
	c.allow(thread, c.job.Steps)
	c.phone = c.makePhone()
	globals, err := c.exec(thread, c.job.File)
	if err != nil {
		e := c.ended(err)
		if e.Kind != "steps" { // an endless top level is out of time as an endless case is
			e.Kind = "load"
		}
		return e
	}
	call := func(name string, args ...starlark.Value) (starlark.Value, error) {
		f, ok := globals[name].(starlark.Callable)
		if !ok {
			return nil, fmt.Errorf("%s defines no function %s", c.job.File, name)
		}
		return starlark.Call(thread, f, append(starlark.Tuple{c.phone}, args...), nil)
	}
	e := &ending{}
	if c.job.Before {
		if _, err := call("before_case"); err != nil {
			e = c.ended(err)
			e.In = "before_case"
		}
	}
	if e.Error == "" {
		var args []starlark.Value
		if c.job.Row != nil {
			args = append(args, fromJSON(c.job.Row))
		}
		v, err := call(c.job.Func, args...)
		if err == nil && c.job.Func == "before_file" { // the only one whose answer is of use
			if e.Value, err = toJSON(v); err != nil {
				err = fmt.Errorf("before_file returned what can't be handed to the cases: %w", err)
			}
		}
		if err != nil {
			e = c.ended(err)
		}
	}
	if c.job.After && !c.outOfSteps {
		if _, err := call("after_case"); err != nil && (e.Error == "" || e.Kind == "skip") {
			e = c.ended(err)
			e.In = "after_case"
		}
	}
	e.Expected = c.expected
	return e
}

// ended says how a function ended that gave an error.
func (c *child) ended(err error) *ending {
	e := &ending{Error: foreign.Fit(err.Error(), maxSaid)}
	var skipped *skipped
	switch {
	case c.outOfSteps:
		e.Kind = "steps"
	case errors.As(err, &skipped):
		e.Kind = "skip"
	}
	var ee *starlark.EvalError
	if errors.As(err, &ee) {
		e.Error, e.Trace = foreign.Fit(ee.Msg, maxSaid), foreign.Fit(ee.CallStack.String(), maxSaid)
		for i := range ee.CallStack {
			if pos := ee.CallStack.At(i).Pos; pos.Filename() != "<builtin>" {
				e.Line = where(pos)
				break
			}
		}
	}
	if skipped != nil {
		e.Error = skipped.reason
	}
	return e
}

// skipped ends a case that asks for it.
type skipped struct{ reason string }

func (s *skipped) Error() string { return "skipped: " + s.reason }

// exec runs a file's top level, once.
func (c *child) exec(thread *starlark.Thread, file string) (starlark.StringDict, error) {
	if m, ok := c.modules[file]; ok {
		if m == nil {
			return nil, fmt.Errorf("%s loads itself", file)
		}
		return m, nil
	}
	src, ok := c.job.Scripts[file]
	if !ok {
		return nil, fmt.Errorf("there is no file %s in the package", file)
	}
	c.modules[file] = nil
	globals, err := starlark.ExecFileOptions(testpkg.Dialect, thread, file, src, c.words())
	if err == nil {
		c.modules[file] = globals
	}
	return globals, err
}

// allow says how many steps a thread may take.
func (c *child) allow(t *starlark.Thread, steps uint64) {
	c.steps[t] = steps
	t.SetMaxExecutionSteps(max(steps, 1)) // 0 would be without end
}

// load is what load(…) does. The file runs in a thread of its own, on what is left of the steps of the one that loads it, and takes them from there.
func (c *child) load(t *starlark.Thread, module string) (starlark.StringDict, error) {
	inner := &starlark.Thread{Name: module, Load: c.load, Print: t.Print, OnMaxSteps: t.OnMaxSteps}
	c.allow(inner, c.steps[t]-min(c.steps[t], t.ExecutionSteps()))
	globals, err := c.exec(inner, module)
	c.allow(t, c.steps[t]-min(c.steps[t], inner.ExecutionSteps()))
	return globals, err
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
	c.stood = time.Duration(r.Stood) * time.Millisecond
	if r.Error != "" {
		return nil, errors.New(r.Error)
	}
	return r.Value, nil
}

// word makes the builtin for a word: it takes the arguments apart, asks the
// parent and gives the answer as a Starlark value.
func (c *child) word(w testpkg.Word) *starlark.Builtin {
	return starlark.NewBuiltin(w.Name, func(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
		m, err := arguments(w, args, kw)
		if err != nil {
			return nil, err
		}
		answer, err := c.ask(t, asked(w), m)
		if err != nil {
			return nil, err
		}
		return fromJSON(answer), nil
	})
}

// asked is what a word is called on the wire.
func asked(w testpkg.Word) string {
	if w.Of == "data" {
		return w.Of + "." + w.Name
	}
	return w.Name
}

// arguments takes a call's arguments apart, by name, as they go over the wire.
func arguments(w testpkg.Word, args starlark.Tuple, kw []starlark.Tuple) (map[string]any, error) {
	names := w.Params()
	values := make([]starlark.Value, len(names))
	pairs := make([]any, 0, len(names)*2)
	for i, n := range names {
		pairs = append(pairs, n, &values[i])
	}
	if err := starlark.UnpackArgs(w.Name, args, kw, pairs...); err != nil {
		return nil, err
	}
	m := map[string]any{}
	for i, n := range names {
		if values[i] == nil || values[i] == starlark.None {
			continue
		}
		v, err := toJSON(values[i])
		if err != nil {
			return nil, fmt.Errorf("%s: %s: %w", w.Name, strings.TrimSuffix(n, "?"), err)
		}
		m[strings.TrimSuffix(n, "?")] = v
	}
	return m, nil
}

// makePhone gives the phone as a script has it.
func (c *child) makePhone() starlark.Value {
	d := starlark.StringDict{}
	for _, w := range testpkg.Vocabulary {
		if w.Of == "phone" {
			d[w.Name] = c.word(w)
		}
	}
	d["facts"] = fromJSON(c.job.Facts)
	d["web"] = starlark.NewBuiltin("web", c.web)
	d["wait_until"] = starlark.NewBuiltin("wait_until", c.waitUntil)
	return starlarkstruct.FromStringDict(starlark.String("phone"), d)
}

// web waits for a page and gives it.
func (c *child) web(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	at := slices.IndexFunc(testpkg.Vocabulary, func(w testpkg.Word) bool { return w.Of == "phone" && w.Name == b.Name() })
	m, err := arguments(testpkg.Vocabulary[at], args, kw)
	if err != nil {
		return nil, err
	}
	page, err := c.ask(t, b.Name(), m)
	if err != nil {
		return nil, err
	}
	return c.makePage(page), nil
}

// makePage gives the page that is called so, with its words.
func (c *child) makePage(page any) starlark.Value {
	d := starlark.StringDict{}
	for _, w := range testpkg.Vocabulary {
		if w.Of != "page" {
			continue
		}
		d[w.Name] = starlark.NewBuiltin(w.Name, func(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
			m, err := arguments(w, args, kw)
			if err != nil {
				return nil, err
			}
			m["page"] = page
			answer, err := c.ask(t, "page."+w.Name, m)
			if err != nil {
				return nil, err
			}
			return fromJSON(answer), nil
		})
	}
	return starlarkstruct.FromStringDict(starlark.String("page"), d)
}

// waitUntil calls a function of the script again and again. It is done here, where the function is.
func (c *child) waitUntil(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var condition starlark.Callable
	var about string
	var within starlark.Value = starlark.MakeInt(10)
	if err := starlark.UnpackArgs(b.Name(), args, kw, "condition", &condition, "about?", &about, "within?", &within); err != nil {
		return nil, err
	}
	seconds, ok := starlark.AsFloat(within)
	if !ok {
		return nil, fmt.Errorf("wait_until: within is a %s, not seconds", within.Type())
	}
	before := c.stood
	for start := time.Now(); ; time.Sleep(pause) { // the parent ends this process when the time is over
		v, err := starlark.Call(t, condition, nil, nil)
		if err != nil || v.Truth() == starlark.True {
			return v, err
		}
		if (time.Since(start) - (c.stood - before)).Seconds() >= min(seconds, maxPatience.Seconds()) {
			if about == "" {
				about = "the condition to come true"
			}
			_, err := c.ask(t, b.Name(), map[string]any{"expected": fmt.Sprintf("%s within %gs", foreign.Fit(about, maxReason), seconds), "actual": "the condition still giving " + shown(v)})
			return nil, err
		}
	}
}

// words are what a file finds defined.
func (c *child) words() starlark.StringDict {
	groups := map[string]starlark.StringDict{"check": {}, "data": {}}
	d := starlark.StringDict{}
	inputs := starlark.NewDict(len(c.job.Inputs))
	for n, v := range c.job.Inputs {
		_ = inputs.SetKey(starlark.String(n), starlark.String(v))
	}
	inputs.Freeze()
	for _, w := range testpkg.Vocabulary {
		switch {
		case w.Of == "check":
			groups["check"][w.Name] = c.check(w)
		case w.Of == "data":
			groups["data"][w.Name] = c.word(w)
		case w.Of != "":
		case w.Top: // case and file were read before; here they say nothing
			d[w.Name] = starlark.NewBuiltin(w.Name, func(*starlark.Thread, *starlark.Builtin, starlark.Tuple, []starlark.Tuple) (starlark.Value, error) {
				return starlark.None, nil
			})
		case w.Name == "inputs":
			d[w.Name] = inputs
		case w.Name == "prepared":
			d[w.Name] = fromJSON(c.job.Prepared)
		default:
			d[w.Name] = starlark.NewBuiltin(w.Name, c.global)
		}
	}
	for of, members := range groups {
		d[of] = starlarkstruct.FromStringDict(starlark.String(of), members)
	}
	return d
}

// global is log, pause, skip and expect_failure: each takes one text.
func (c *child) global(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var v starlark.Value
	name := map[string]string{"log": "text", "pause": "why"}[b.Name()]
	if name == "" {
		name = "reason"
	}
	if err := starlark.UnpackArgs(b.Name(), args, kw, name, &v); err != nil {
		return nil, err
	}
	switch b.Name() {
	case "skip":
		return nil, &skipped{foreign.Fit(plain(v), maxReason)}
	case "expect_failure":
		c.expected = foreign.Fit(plain(v), maxReason)
		_, err := c.ask(t, "log", map[string]any{"text": "known to fail: " + c.expected})
		return starlark.None, err
	}
	_, err := c.ask(t, b.Name(), map[string]any{"text": foreign.Fit(plain(v), maxNote)})
	return starlark.None, err
}
