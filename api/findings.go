package api

import "tessellant/internal/core/appfile"

// BuildFindings gives what was found with a build as the API says it; nil: nothing.
func BuildFindings(in []appfile.Finding) *[]Finding {
	if len(in) == 0 {
		return nil
	}
	out := make([]Finding, 0, len(in))
	for _, f := range in {
		out = append(out, Finding{Level: FindingLevel(f.Level), What: f.What, Remedy: f.Remedy})
	}
	return &out
}
