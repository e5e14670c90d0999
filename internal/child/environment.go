package child

import (
	"os"
	"strings"
)

// passed are the variables that a child gets of this process's environment: no key or password is among them.
var passed = map[string]bool{"PATH": true, "HOME": true, "USER": true, "LOGNAME": true, "LANG": true, "LC_ALL": true, "LC_CTYPE": true, "TZ": true, "TMPDIR": true, "LD_LIBRARY_PATH": true}

// Environment is what a child knows of this process's: where programs and folders are, and what begins with a prefix; more is added.
func Environment(prefixes []string, more ...string) []string {
	var out []string
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		take := passed[name]
		for _, p := range prefixes {
			take = take || strings.HasPrefix(name, p)
		}
		if take {
			out = append(out, v)
		}
	}
	return append(out, more...)
}
