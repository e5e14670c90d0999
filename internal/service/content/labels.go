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
	now, err := Relabelled(b.Labels.V, set, remove)
	if err != nil {
		return b, err
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
	now, err := Relabelled(p.Labels.V, set, remove)
	if err != nil {
		return p, err
	}
	p.Labels.V = now
	return p, s.Store.SetLabels(ctx, store.LabelledPackage, who.WorkspaceID, p.ID, now)
}

// Relabelled gives labels as they are to be after a change, or says what is wrong with it.
func Relabelled(of, set map[string]string, remove []string) (map[string]string, error) {
	now := labels.Changed(of, set, remove)
	if err := labels.Check(now); err != nil {
		return nil, refuse.New(refuse.Invalid, "set the labels", "write name=value, such as branch=main", "%v", err)
	}
	return now, nil
}
