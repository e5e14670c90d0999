package appfile

import (
	"fmt"
	"slices"
	"strings"
)

// Change is one fact in which two builds differ.
type Change struct {
	What, Before, Now string
}

// Changes lists the facts in which two builds differ.
func Changes(before, now Facts) (out []Change) {
	add := func(what string, a, b any) {
		if x, y := fmt.Sprint(a), fmt.Sprint(b); x != y {
			out = append(out, Change{what, x, y})
		}
	}
	lists := func(what string, a, b []string) {
		var gone, come []string
		for _, x := range a {
			if !slices.Contains(b, x) {
				gone = append(gone, x)
			}
		}
		for _, x := range b {
			if !slices.Contains(a, x) {
				come = append(come, x)
			}
		}
		if len(gone)+len(come) > 0 {
			out = append(out, Change{what, strings.Join(gone, ", "), strings.Join(come, ", ")})
		}
	}
	add("version", before.VersionName, now.VersionName)
	add("version code", before.VersionCode, now.VersionCode)
	add("lowest API level", before.MinAPI, now.MinAPI)
	add("target API level", before.TargetAPI, now.TargetAPI)
	lists("permissions", before.Permissions, now.Permissions)
	lists("features", before.Features, now.Features)
	lists("processors", before.ABIs, now.ABIs)
	add("first activity", before.Activity, now.Activity)
	add("debuggable", before.Debuggable, now.Debuggable)
	return out
}
