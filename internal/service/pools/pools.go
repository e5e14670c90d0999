// Package pools keeps sets of devices under names, and says which devices they take.
package pools

import (
	"context"
	"errors"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/pools"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Pools is that room.
type Pools struct{ Store *store.Store }

// maxPools is how many pools a workspace may have.
const maxPools = 500

// PoolView is a pool and what it takes now.
type PoolView struct {
	store.Pool
	Matches int // devices that its filter chooses
	pools.Choice
}

// AddPool keeps a new pool.
func (s *Pools) AddPool(ctx context.Context, who store.Identity, name string, d pools.Definition) (PoolView, error) {
	const title = "add the pool"
	if err := errors.Join(pools.CheckName(name), d.Check()); err != nil {
		return PoolView{}, refuse.New(refuse.Invalid, title, "see examples with: tessellant pool add --help", "%v", err)
	}
	have, err := s.Store.Pools(ctx, who.WorkspaceID, "", maxPools)
	if err != nil {
		return PoolView{}, err
	}
	if len(have) == maxPools {
		return PoolView{}, refuse.New(refuse.Refused, title, "remove one with: tessellant pool remove NAME", "this workspace has %d pools, and no more may be", maxPools)
	}
	err = s.Store.AddPool(ctx, store.Pool{ID: store.NewID(), WorkspaceID: who.WorkspaceID, Name: name, Definition: store.JSON[pools.Definition]{V: d}})
	if errors.Is(err, store.ErrTaken) {
		return PoolView{}, refuse.New(refuse.Refused, title, "choose another name, or change that one with: tessellant pool set "+name, "this workspace has a pool %s already", name)
	}
	if err != nil {
		return PoolView{}, err
	}
	return s.ShowPool(ctx, who, name)
}

// SetPool gives a pool another definition.
func (s *Pools) SetPool(ctx context.Context, who store.Identity, name string, d pools.Definition) (PoolView, error) {
	if err := d.Check(); err != nil {
		return PoolView{}, refuse.New(refuse.Invalid, "change the pool", "see examples with: tessellant pool set --help", "%v", err)
	}
	if err := s.Store.SetPool(ctx, who.WorkspaceID, name, d); err != nil {
		return PoolView{}, missing(err, name)
	}
	return s.ShowPool(ctx, who, name)
}

// RemovePool removes a pool. Runs that were started with it stay as they are.
func (s *Pools) RemovePool(ctx context.Context, who store.Identity, name string) error {
	lent, err := s.Store.Lending(ctx, who.WorkspaceID)
	if err != nil {
		return err
	}
	if lent.Pool == name {
		return refuse.New(refuse.Refused, "remove the pool", "have an operator end that first: tessellant lab lend --off", "its devices are lent to other installations")
	}
	return missing(s.Store.RemovePool(ctx, who.WorkspaceID, name), name)
}

func missing(err error, name string) error {
	return refuse.Missing(err, "pool", name, "see the pools with: tessellant pool list")
}

// Pool finds a pool by its name.
func (s *Pools) Pool(ctx context.Context, who store.Identity, name string) (store.Pool, error) {
	p, err := s.Store.PoolByName(ctx, who.WorkspaceID, name)
	return p, missing(err, name)
}

// ListPools lists pools by name, with what they take now.
func (s *Pools) ListPools(ctx context.Context, who store.Identity, after string, limit int) ([]PoolView, string, error) {
	rows, err := s.Store.Pools(ctx, who.WorkspaceID, after, limit+1)
	rows, next, err := paging.Cut(rows, limit, err, func(p store.Pool) string { return p.Name })
	if err != nil || len(rows) == 0 {
		return nil, next, err
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return nil, "", err
	}
	out := make([]PoolView, len(rows))
	for i, p := range rows {
		if out[i], err = takes(p.Definition.V, all); err != nil {
			return nil, "", err
		}
		out[i].Pool = p
	}
	return out, next, nil
}

// ShowPool gives a pool with what it takes now, and what that covers.
func (s *Pools) ShowPool(ctx context.Context, who store.Identity, name string) (v PoolView, err error) {
	p, err := s.Pool(ctx, who, name)
	if err != nil {
		return v, err
	}
	v, err = s.TryPool(ctx, who, p.Definition.V)
	v.Pool = p
	return v, err
}

// TryPool says what a pool would take, and keeps nothing.
func (s *Pools) TryPool(ctx context.Context, _ store.Identity, d pools.Definition) (v PoolView, err error) {
	if err := d.Check(); err != nil {
		return v, refuse.New(refuse.Invalid, "try the pool", "see examples with: tessellant pool try --help", "%v", err)
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return v, err
	}
	v, err = takes(d, all)
	v.Definition.V = d
	return v, err
}

// takes says what a definition takes of these devices, and what that covers.
func takes(d pools.Definition, all []store.Device) (v PoolView, err error) {
	from, err := matching(d, all)
	if err != nil {
		return v, err
	}
	v.Matches, v.Choice = len(from), d.Choose(from)
	if v.Cover == nil {
		v.Cover = pools.CoverOf(from, d.Shares, v.Serials)
	}
	return v, nil
}

// matching gives the devices that a definition's filter chooses.
func matching(d pools.Definition, all []store.Device) (out []pools.Device, err error) {
	f, err := devices.ParseFilter(d.Where, d.Devices)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if x.Facts.V.Platform != "" && f.Match(x.Facts.V) {
			st := x.Standing()
			out = append(out, pools.Device{Facts: x.Facts.V, Free: st.Free, Ready: st.Usable})
		}
	}
	return out, nil
}

// LookUp finds the pools that a filter names, and tells it which devices they take.
func (s *Pools) LookUp(ctx context.Context, who store.Identity, f devices.Filter) error {
	names := f.Pools()
	if len(names) == 0 {
		return nil
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return err
	}
	units := map[string][]string{}
	for _, name := range names {
		if units[name] != nil {
			continue
		}
		p, err := s.Pool(ctx, who, name)
		if err != nil {
			return err
		}
		from, err := matching(p.Definition.V, all)
		if err != nil {
			return err
		}
		units[name] = append([]string{}, p.Definition.V.Choose(from).Serials...)
	}
	f.LookUp(units)
	return nil
}
