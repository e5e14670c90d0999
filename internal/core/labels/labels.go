// Package labels has the name=value that people give to runs, builds, packages and devices. In: what a person wrote. Out: names and values in one form.
package labels

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// Bounds of labels.
const (
	Most     = 32  // of one thing
	maxValue = 200 // bytes
)

var nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// Parse reads labels as name=value.
func Parse(all []string) (out map[string]string, err error) {
	for _, x := range all {
		name, value, ok := strings.Cut(x, "=")
		if !ok {
			return nil, fmt.Errorf("%.80q is no label; write name=value, such as branch=main", x)
		}
		if _, twice := out[name]; twice {
			return nil, fmt.Errorf("the label %s is there twice", name)
		}
		if out == nil {
			out = map[string]string{}
		}
		out[name] = value
	}
	return out, Check(out)
}

// Check says what is wrong with labels.
func Check(all map[string]string) error {
	if len(all) > Most {
		return fmt.Errorf("%d labels are too many; %d is the most", len(all), Most)
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		value := all[name]
		switch {
		case !nameForm.MatchString(name):
			return fmt.Errorf("a label can't be named %.80q: use up to 63 letters, digits, dots, dashes and underscores", name)
		case value == "" || len(value) > maxValue || strings.ContainsFunc(value, unicode.IsControl):
			return fmt.Errorf("the label %s needs a value of 1 to %d bytes in one line", name, maxValue)
		}
	}
	return nil
}

// Changed gives labels with some set and some removed, or says what is wrong with them then.
func Changed(of, set map[string]string, remove []string) (map[string]string, error) {
	out := maps.Clone(of)
	if out == nil {
		out = map[string]string{}
	}
	maps.Copy(out, set)
	for _, name := range remove {
		delete(out, name)
	}
	return out, Check(out)
}
