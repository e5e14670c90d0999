package script

// Checks, as the child judges them.

import (
	"strings"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/testpkg"
)

// check makes the builtin for a check.
func (c *child) check(w testpkg.Word) *starlark.Builtin {
	judge := map[string]func(a, b starlark.Value) checked{"equal": areEqual, "contains": doesContain, "that": isTrue}[w.Name]
	return starlark.NewBuiltin("check."+w.Name, func(t *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
		var first, second starlark.Value
		var about string
		var goOn bool
		pairs := []any{}
		for i, n := range w.Params() {
			switch {
			case strings.HasPrefix(n, "about"):
				pairs = append(pairs, n, &about)
			case n == "go_on?":
				pairs = append(pairs, n, &goOn)
			case i == 0:
				pairs = append(pairs, n, &first)
			default:
				pairs = append(pairs, n, &second)
			}
		}
		if err := starlark.UnpackArgs(b.Name(), args, kw, pairs...); err != nil {
			return nil, err
		}
		k := judge(first, second)
		_, err := c.ask(t, "check", map[string]any{"kind": w.Name, "held": k.held, "about": foreign.Fit(about, maxReason), "expected": k.expected, "actual": k.actual, "go_on": goOn})
		return starlark.None, err
	})
}

type checked struct {
	held             bool
	expected, actual string
}

func areEqual(actual, expected starlark.Value) checked {
	same, err := starlark.Equal(actual, expected)
	return checked{err == nil && same, shown(expected), shown(actual)}
}

func doesContain(whole, part starlark.Value) checked {
	v, err := starlark.Binary(syntax.IN, part, whole)
	return checked{err == nil && bool(v.Truth()), "something that contains " + shown(part), shown(whole)}
}

func isTrue(cond, _ starlark.Value) checked { return checked{bool(cond.Truth()), "true", shown(cond)} }

// shown writes a value as a person would want to read it in an error.
func shown(v starlark.Value) string {
	return foreign.Fit(v.String(), maxShown)
}

const (
	maxShown  = 2000     // bytes of a value in an error
	maxReason = 4 << 10  // of a reason that a script gives
	maxSaid   = 64 << 10 // of an error, of a trace
)
