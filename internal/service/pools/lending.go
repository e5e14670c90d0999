package pools

// What a workspace lends to other installations: the devices of one of its pools. An operator says which, since devices belong to the installation.

import (
	"context"
	"errors"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/pools"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Lent is what a workspace lends now.
type Lent struct {
	store.Lending
	Workspace string
	Devices   []store.Device // of the pool, without those that other labs lend to us
}

// Most is how many sessions a borrower may have open.
func (l Lent) Most() int {
	if l.AtOnce == 0 {
		return len(l.Devices)
	}
	return l.AtOnce
}

// maxLentAtOnce is how many sessions of borrowers may be allowed.
const maxLentAtOnce = 10_000

// Lending says what a workspace lends.
func (s *Pools) Lending(ctx context.Context, w store.Workspace) (out Lent, err error) {
	out.Workspace = w.Name
	if out.Lending, err = s.Store.Lending(ctx, w.ID); err != nil || out.Pool == "" {
		return out, err
	}
	p, err := s.Store.PoolByName(ctx, w.ID, out.Pool)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	all, err := s.Store.Devices(ctx, "", 0)
	if err != nil {
		return out, err
	}
	f, err := devices.ParseFilter(p.Definition.V.Where, p.Definition.V.Devices)
	if err != nil {
		return out, err
	}
	for _, d := range all {
		if d.Facts.V.Platform != "" && !d.Facts.V.Lent && f.Match(d.Facts.V) {
			out.Devices = append(out.Devices, d)
		}
	}
	return out, nil
}

// Lend has a workspace lend the devices of one of its pools; of "", nothing.
func (s *Pools) Lend(ctx context.Context, w store.Workspace, l store.Lending) (Lent, error) {
	const title = "lend devices"
	if l.AtOnce < 0 || l.AtOnce > maxLentAtOnce {
		return Lent{}, refuse.New(refuse.Invalid, title, "give a number from 1, or leave it out: one for each device", "a borrower can't have %d sessions open", l.AtOnce)
	}
	if l.Pool != "" {
		if err := pools.CheckName(l.Pool); err != nil {
			return Lent{}, refuse.New(refuse.Invalid, title, "see the pools with: tessellant pool list", "%v", err)
		}
		if _, err := s.Store.PoolByName(ctx, w.ID, l.Pool); err != nil {
			return Lent{}, missing(err, l.Pool)
		}
	}
	if err := s.Store.SetLending(ctx, w.ID, l); err != nil {
		return Lent{}, err
	}
	return s.Lending(ctx, w)
}

// Catalogue lists what a workspace lends, as other installations read it.
func (s *Pools) Catalogue(ctx context.Context, who store.Identity) (*catalogue.Catalogue, error) {
	l, err := s.Lending(ctx, store.Workspace{ID: who.WorkspaceID, Name: who.Workspace})
	if err != nil {
		return nil, err
	}
	_, waiting, err := s.Store.CountSessions(ctx, who.WorkspaceID)
	if err != nil {
		return nil, err
	}
	c := &catalogue.Catalogue{Version: catalogue.Version, Name: "Tessellant, workspace " + who.Workspace, AtOnce: l.Most(), Waiting: waiting, Devices: make([]catalogue.Device, 0, len(l.Devices))}
	for _, d := range l.Devices {
		st := d.Standing()
		state, why := catalogue.Free, ""
		switch {
		case !st.Usable:
			state, why = catalogue.Away, st.Unusable
		case !st.Free:
			state = catalogue.Busy
		}
		c.Devices = append(c.Devices, catalogue.Of(d.Facts.V, state, why))
	}
	return c, nil
}
