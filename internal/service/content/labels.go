package content

// Labels of builds and packages.

import (
	"context"

	"tessellant/internal/core/labels"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// LabelBuild gives a build labels, and takes some away.
func (s *Content) LabelBuild(ctx context.Context, who store.Identity, ref string, set map[string]string, remove []string) (store.Build, error) {
	b, err := s.Build(ctx, who, ref)
	if err != nil {
		return b, err
	}
	now, err := labels.Changed(b.Labels.V, set, remove)
	if err != nil {
		return b, refuse.Labels(err)
	}
	b.Labels.V = now
	return b, s.Store.SetLabels(ctx, store.LabelledBuild, who.WorkspaceID, b.ID, now)
}

// LabelPackage gives a package labels, and takes some away.
func (s *Content) LabelPackage(ctx context.Context, who store.Identity, ref string, set map[string]string, remove []string) (store.Package, error) {
	p, err := s.Package(ctx, who, ref)
	if err != nil {
		return p, err
	}
	now, err := labels.Changed(p.Labels.V, set, remove)
	if err != nil {
		return p, refuse.Labels(err)
	}
	p.Labels.V = now
	return p, s.Store.SetLabels(ctx, store.LabelledPackage, who.WorkspaceID, p.ID, now)
}
