package script

// Values of Starlark as JSON, and back.

import (
	"fmt"
	"sort"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"
)

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
	case starlark.NoneType:
		return nil, nil
	case *starlark.List:
		out := make([]any, v.Len())
		for i := range out {
			x, err := toJSON(v.Index(i))
			if err != nil {
				return nil, err
			}
			out[i] = x
		}
		return out, nil
	case *starlark.Dict:
		m := map[string]any{}
		for _, item := range v.Items() {
			k, ok := starlark.AsString(item[0])
			if !ok {
				return nil, fmt.Errorf("got a dict with a key that is no text: %s", item[0])
			}
			x, err := toJSON(item[1])
			if err != nil {
				return nil, err
			}
			m[k] = x
		}
		return m, nil
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
