package runs

// What people call a run: its name and its labels; and the run as a file.

import (
	"context"
	"strings"
	"time"

	"tessellant/internal/core/pools"
	"tessellant/internal/core/runfile"
	"tessellant/internal/service/content"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// NameRun gives a run another name.
func (s *Runs) NameRun(ctx context.Context, who store.Identity, id, name string) (RunView, error) {
	v, err := s.Run(ctx, who, id)
	if err != nil {
		return v, err
	}
	q := RunRequest{Name: name}
	if err := q.check(); err != nil {
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
	if v.Labels.V, err = content.Relabelled(v.Labels.V, set, remove); err != nil {
		return v, err
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
	return AsFile(v.Request.V, v.Name, v.Labels.V, v.LimitSeconds).YAML(), nil
}

// Asked is a request as it is kept.
func (q RunRequest) Asked() store.RunRequest {
	r := store.RunRequest{Build: q.Build, Package: q.Package, Where: q.Where, Devices: q.Devices, Cases: q.Cases, Tags: q.Tags, Confirm: q.Confirm, Attempts: q.Attempts, Inputs: q.Inputs, Pool: q.Pool, Take: q.Take, N: q.N, Models: q.Models,
		Conditions: q.Conditions, Variants: q.Variants, Lines: q.Lines, Spread: q.Spread, Beside: q.Beside, Put: q.Put, Fetch: q.Fetch}
	for name := range q.Secrets {
		r.Secrets = append(r.Secrets, name)
	}
	return r
}

// AsFile writes a request as a run file. A secret comes from a variable of its name.
func AsFile(q store.RunRequest, name string, labels map[string]string, limit int) runfile.File {
	f := runfile.File{Build: q.Build, Package: q.Package, Name: name, Labels: labels, Pool: q.Pool, Where: q.Where, Devices: q.Devices, AnyUnit: q.Models, Conditions: runfile.Conditions(q.Conditions), Variants: q.Variants,
		Cases: q.Cases, Tags: q.Tags, Spread: q.Spread, Confirm: q.Confirm, Attempts: q.Attempts, Inputs: q.Inputs, Beside: q.Beside, Fetch: q.Fetch}
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
		f.Lines = append(f.Lines, runfile.Line(l))
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

// Fit says whether a build and a package can run on a device, set in this way.
func (s *Runs) Fit(ctx context.Context, who store.Identity, serial string, q RunRequest) (Fit, error) {
	fits, err := s.fits(ctx, who, q)
	if err != nil {
		return Fit{}, err
	}
	d, err := s.Store.DeviceBySerial(ctx, serial)
	if err != nil {
		return Fit{}, refuse.Missing(err, "device", serial, "see the devices with: tessellant device list")
	}
	return fits(d), nil
}
