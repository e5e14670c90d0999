package plans

// A request as it is kept, and as a run file.

import (
	"maps"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/pools"
	"tessellant/internal/core/runfile"
	"tessellant/internal/store"
)

// Asked is a request as it is kept.
func (q Request) Asked() store.RunRequest {
	return store.RunRequest{Build: q.Build, Package: q.Package, Where: q.Where, Devices: q.Devices, Cases: q.Cases, Tags: q.Tags, Confirm: q.Confirm, Attempts: q.Attempts, Inputs: q.Inputs, Pool: q.Pool, Take: q.Take, N: q.N, Models: q.Models,
		Conditions: q.Conditions, Variants: q.Variants, Lines: q.Lines, Spread: q.Spread, Others: q.Others, Beside: q.Beside, Helpers: q.Helpers, Routes: q.Routes, Put: q.Put, Fetch: q.Fetch, Recording: q.Recording, Bounds: q.Bounds, Remarks: q.Remarks, Again: q.Again, Secrets: slices.Sorted(maps.Keys(q.Secrets))}
}

// AsFile writes a request as a run file. A secret comes from a variable of its name.
func AsFile(q store.RunRequest, name string, labels map[string]string, limit int) runfile.File {
	f := runfile.File{Build: q.Build, Package: q.Package, Name: name, Labels: labels, Pool: q.Pool, Where: q.Where, Devices: q.Devices, AnyUnit: q.Models, Conditions: runfile.Conditions(q.Conditions), Variants: q.Variants,
		Cases: q.Cases, Tags: q.Tags, Spread: q.Spread, Confirm: q.Confirm, Attempts: q.Attempts, Inputs: q.Inputs, OtherBuilds: q.Others, Beside: q.Beside, Helpers: q.Helpers, Routes: q.Routes, Fetch: q.Fetch, Recording: q.Kept().Changed(), Bounds: q.Bounds, Remarks: q.Remarks}
	if limit > 0 {
		f.Limit = runfile.Duration(time.Duration(limit) * time.Second)
	}
	switch q.Take {
	case pools.Any:
		f.Any = q.N
	case pools.Differ:
		f.Differ = q.N
	}
	for _, l := range q.Lines {
		f.Lines = append(f.Lines, runfile.Line{Device: l.Device, Version: l.Version, Language: l.Language, Orientation: l.Orientation, Variant: l.Variant, Conditions: runfile.Conditions(l.Conditions), Cases: l.Cases})
	}
	for _, x := range q.Put {
		if f.Put == nil {
			f.Put = map[string]string{}
		}
		f.Put[x.From] = x.To
	}
	for _, s := range q.Secrets {
		if f.SecretsFromEnv == nil {
			f.SecretsFromEnv = map[string]string{}
		}
		f.SecretsFromEnv[s] = strings.ToUpper(strings.ReplaceAll(s, "-", "_"))
	}
	return f
}
