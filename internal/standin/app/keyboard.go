package app

// An input method, by its behaviour file: which it is, and what it does with a broadcast.

import (
	"encoding/base64"
	"fmt"

	"go.starlark.net/starlark"
)

// Keyboard is an input method. All of it must be called by one goroutine at a time.
type Keyboard struct {
	ID     string // such as com.example/.Keyboard
	Action string // of the broadcasts that it takes while it is chosen

	thread *starlark.Thread
	takes  starlark.Callable
	commit func(text string) bool
}

// ReadKeyboard reads a behaviour file; nil: the app is no input method.
func ReadKeyboard(source string) (*Keyboard, error) {
	k := &Keyboard{thread: &starlark.Thread{Name: "keyboard"}}
	k.thread.SetMaxExecutionSteps(maxSteps)
	one := func(name string, f func(string) (starlark.Value, error)) *starlark.Builtin {
		return starlark.NewBuiltin(name, func(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
			var text string
			if err := starlark.UnpackArgs(b.Name(), args, kw, "text", &text); err != nil {
				return nil, err
			}
			return f(text)
		})
	}
	globals, err := starlark.ExecFileOptions(dialect, k.thread, "behaviour.star", source, starlark.StringDict{
		"base64": one("base64", func(s string) (starlark.Value, error) {
			raw, err := base64.StdEncoding.DecodeString(s)
			return starlark.String(raw), err
		}),
		"commit": one("commit", func(s string) (starlark.Value, error) { return starlark.Bool(k.commit(s)), nil }),
	})
	if err != nil {
		return nil, err
	}
	id, _ := starlark.AsString(globals["INPUT_METHOD"])
	action, _ := starlark.AsString(globals["ACTION"])
	takes, ok := globals["received"].(starlark.Callable)
	if id == "" || action == "" || !ok {
		return nil, fmt.Errorf("an input method has INPUT_METHOD, ACTION and received")
	}
	k.ID, k.Action, k.takes = id, action, takes
	return k, nil
}

// Received gives it a broadcast; commit types a text into what has the focus, and is false where nothing has. Answers the broadcast's result.
func (k *Keyboard) Received(extras map[string]string, commit func(text string) bool) (int, error) {
	k.commit = commit
	d := starlark.NewDict(len(extras))
	for n, v := range extras {
		_ = d.SetKey(starlark.String(n), starlark.String(v))
	}
	k.thread.SetMaxExecutionSteps(k.thread.ExecutionSteps() + maxSteps)
	v, err := starlark.Call(k.thread, k.takes, starlark.Tuple{d}, nil)
	if err != nil {
		return 0, err
	}
	return starlark.AsInt32(v)
}
