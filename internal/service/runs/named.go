package runs

// What people call a run: its name and its labels; and what was asked for, as a file.

import (
	"context"
	"strings"

	"tessellant/internal/core/labels"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// NameRun gives a run another name.
func (s *Runs) NameRun(ctx context.Context, who store.Identity, id, name string) (RunView, error) {
	v, err := s.Run(ctx, who, id)
	if err != nil {
		return v, err
	}
	q := plans.Request{Name: name}
	if err := q.Check(); err != nil {
		return v, err
	}
	v.Name = q.Name
	if err := s.Store.NameRun(ctx, who.WorkspaceID, v.ID, v.Name, words(v.Run)); err != nil {
		return v, err
	}
	s.Feed.RunChanged(v.WorkspaceID, v.ID, "")
	return s.Run(ctx, who, v.ID)
}

// LabelRun gives a run labels, and takes some away.
func (s *Runs) LabelRun(ctx context.Context, who store.Identity, id string, set map[string]string, remove []string) (RunView, error) {
	v, err := s.Run(ctx, who, id)
	if err != nil {
		return v, err
	}
	if v.Labels.V, err = labels.Changed(v.Labels.V, set, remove); err != nil {
		return v, refuse.Labels(err)
	}
	if err := s.Store.SetLabels(ctx, store.LabelledRun, who.WorkspaceID, v.ID, v.Labels.V); err != nil {
		return v, err
	}
	if err := s.Store.NameRun(ctx, who.WorkspaceID, v.ID, v.Name, words(v.Run)); err != nil {
		return v, err
	}
	s.Feed.RunChanged(v.WorkspaceID, v.ID, "")
	return s.Run(ctx, who, v.ID)
}

// RunFile gives what was asked for as a run file.
func (s *Runs) RunFile(ctx context.Context, who store.Identity, id string) (string, error) {
	v, err := s.Run(ctx, who, id)
	if err != nil {
		return "", err
	}
	return plans.AsFile(v.Request.V, v.Name, v.Labels.V, v.LimitSeconds).YAML(), nil
}

// words are those by which a run is searched.
func words(r store.Run) string {
	parts := append([]string{r.Name, r.Request.V.Build, r.Request.V.Package, r.Request.V.Pool, r.StartedBy}, r.Request.V.Others...)
	for name, value := range r.Labels.V {
		parts = append(parts, name+"="+value)
	}
	s := strings.ToLower(strings.Join(parts, " "))
	return strings.ToValidUTF8(s[:min(len(s), 2000)], "")
}
