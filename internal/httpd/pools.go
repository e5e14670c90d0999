package httpd

// Pools of devices.

import (
	"context"

	"tessellant/api"
	"tessellant/internal/core/pools"
	"tessellant/internal/service"
	"tessellant/internal/service/refuse"
)

func poolIn(d api.PoolDefinition) pools.Definition {
	out := pools.Definition{Where: listed(d.Where), Devices: listed(d.Devices), Take: pools.How(d.Take), Models: d.Models != nil && *d.Models}
	if d.N != nil {
		out.N = *d.N
	}
	if d.Shares != nil {
		for _, s := range *d.Shares {
			out.Shares = append(out.Shares, pools.Share{Trait: s.Trait, Value: s.Value, Of: s.Of})
		}
	}
	return out
}

func (s *server) AddPool(ctx context.Context, q api.AddPoolRequestObject) (api.AddPoolResponseObject, error) {
	v, err := s.s.AddPool(ctx, identity(ctx), q.Body.Name, poolIn(q.Body.Definition))
	return api.AddPool201JSONResponse(poolOut(v)), err
}

func (s *server) SetPool(ctx context.Context, q api.SetPoolRequestObject) (api.SetPoolResponseObject, error) {
	v, err := s.s.SetPool(ctx, identity(ctx), q.Name, poolIn(*q.Body))
	return api.SetPool200JSONResponse(poolOut(v)), err
}

func (s *server) TryPool(ctx context.Context, q api.TryPoolRequestObject) (api.TryPoolResponseObject, error) {
	v, err := s.s.TryPool(ctx, identity(ctx), poolIn(*q.Body))
	return api.TryPool200JSONResponse(poolOut(v)), err
}

func (s *server) GetPool(ctx context.Context, q api.GetPoolRequestObject) (api.GetPoolResponseObject, error) {
	v, err := s.s.ShowPool(ctx, identity(ctx), q.Name)
	return api.GetPool200JSONResponse(poolOut(v)), err
}

func (s *server) ListPools(ctx context.Context, q api.ListPoolsRequestObject) (api.ListPoolsResponseObject, error) {
	limit, err := limitOf(q.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, next, err := s.s.ListPools(ctx, identity(ctx), text(q.Params.After), limit)
	return api.ListPools200JSONResponse{Items: each(rows, poolOut), Next: some(next)}, err
}

func (s *server) RemovePool(ctx context.Context, q api.RemovePoolRequestObject) (api.RemovePoolResponseObject, error) {
	return api.RemovePool204Response{}, s.s.RemovePool(ctx, identity(ctx), q.Name)
}

func (s *server) ReadShares(_ context.Context, q api.ReadSharesRequestObject) (api.ReadSharesResponseObject, error) {
	all, err := pools.ReadShares(q.Body)
	if err != nil {
		return nil, refuse.New(refuse.Invalid, "read the shares of users", "write lines such as os,14,34%", "%v", err)
	}
	return api.ReadShares200JSONResponse(each(all, shareOut)), nil
}

func shareOut(s pools.Share) api.Share { return api.Share{Trait: s.Trait, Value: s.Value, Of: s.Of} }

func poolOut(v service.PoolView) api.Pool {
	d := v.Definition.V
	o := api.Pool{Name: v.Name, Definition: api.PoolDefinition{Where: someOf(len(d.Where), d.Where), Devices: someOf(len(d.Devices), d.Devices), Take: api.PoolDefinitionTake(d.Take), N: someOf(d.N, d.N), Models: someTrue(d.Models)},
		Says: d.String(), Matches: v.Matches, Serials: full(v.Serials)}
	if len(d.Shares) > 0 {
		shares := each(d.Shares, shareOut)
		o.Definition.Shares = &shares
	}
	if !v.Changed.IsZero() {
		o.Changed = &v.Changed
	}
	if v.Cover != nil {
		o.Cover = coverOut(v.Cover)
	}
	return o
}

func coverOut(c *pools.Cover) *api.Cover {
	o := &api.Cover{Share: c.Share, Traits: each(c.Traits, func(t pools.TraitCover) api.TraitCover {
		return api.TraitCover{Trait: t.Trait, Share: t.Share, Covered: full(t.Covered), Missing: full(t.Missing)}
	})}
	if n := c.Next; n != nil {
		o.Next = &api.NextDevice{Serial: n.Serial, Adds: full(n.Adds), Pairs: n.Pairs, Share: n.Share}
	}
	return o
}
