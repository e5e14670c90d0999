// Package versions compares dotted numbers, as systems and programs give their versions: 8.10 is newer than 8.9, and 8 is 8.0.
package versions

import (
	"strconv"
	"strings"
)

// Compare is negative where a is older than b, 0 where they are the same, positive where it is newer. Not ok: one of them is no version.
func Compare(a, b string) (order int, ok bool) {
	x, ok1 := parts(a)
	y, ok2 := parts(b)
	if !ok1 || !ok2 {
		return 0, false
	}
	for len(x) < len(y) {
		x = append(x, 0)
	}
	for i, n := range x {
		m := 0
		if i < len(y) {
			m = y[i]
		}
		if n != m {
			return n - m, true
		}
	}
	return 0, true
}

func parts(s string) (out []int, ok bool) {
	for p := range strings.SplitSeq(s, ".") {
		n, err := strconv.ParseUint(p, 10, 31)
		if err != nil {
			return nil, false
		}
		out = append(out, int(n))
	}
	return out, true
}
