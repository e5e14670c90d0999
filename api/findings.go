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

// IOSOf gives what only an iOS build says of itself as the API says it; nil: it is none.
func IOSOf(x *appfile.IOS) *IOSBuild {
	if x == nil {
		return nil
	}
	out := &IOSBuild{MinOs: x.MinOS, Families: x.Families, Version: x.Version}
	if out.Families == nil {
		out.Families = []string{}
	}
	if x.Simulator {
		out.Simulator = &x.Simulator
	}
	if p := x.Profile; p != nil {
		out.Profile = &ProvisioningProfile{Name: p.Name, Team: p.Team, Kind: ProvisioningProfileKind(p.Kind), Expires: p.Expires}
		if len(p.Devices) > 0 {
			out.Profile.Devices = &p.Devices
		}
		if len(p.Entitlements) > 0 {
			out.Profile.Entitlements = &p.Entitlements
		}
	}
	if s := x.Signer; s != nil {
		out.Signer = &CodeSigner{Name: s.Name, Expires: s.Expires}
	}
	return out
}
