package httpd

// What a workspace lends to other installations.

import (
	"context"

	"tessellant/api"
	"tessellant/internal/core/catalogue"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func (s *server) GetLending(ctx context.Context, _ api.GetLendingRequestObject) (api.GetLendingResponseObject, error) {
	who := identity(ctx)
	l, err := s.s.Lending(ctx, store.Workspace{ID: who.WorkspaceID, Name: who.Workspace})
	return api.GetLending200JSONResponse(lendingOut(l)), err
}

func (s *server) SetLending(ctx context.Context, q api.SetLendingRequestObject) (api.SetLendingResponseObject, error) {
	w, err := s.s.WorkspaceOf(ctx, identity(ctx), text(q.Body.Workspace))
	if err != nil {
		return nil, err
	}
	l := store.Lending{Pool: text(q.Body.Pool)}
	if q.Body.AtOnce != nil {
		l.AtOnce = *q.Body.AtOnce
	}
	lent, err := s.s.Lend(ctx, w, l)
	return api.SetLending200JSONResponse(lendingOut(lent)), err
}

func (s *server) GetCatalogue(ctx context.Context, _ api.GetCatalogueRequestObject) (api.GetCatalogueResponseObject, error) {
	c, err := s.s.Catalogue(ctx, identity(ctx))
	if err != nil {
		return nil, err
	}
	return api.GetCatalogue200JSONResponse{Catalogue: c.Version, Name: some(c.Name), AtOnce: someOf(c.AtOnce, c.AtOnce), Waiting: someOf(c.Waiting, c.Waiting), Devices: each(c.Devices, catalogueDeviceOut)}, nil
}

func lendingOut(l service.Lent) api.Lending {
	return api.Lending{Workspace: l.Workspace, Pool: some(l.Pool), AtOnce: l.Most(), Devices: len(l.Devices)}
}

func catalogueDeviceOut(d catalogue.Device) api.CatalogueDevice {
	return api.CatalogueDevice{Id: d.ID, Platform: d.Platform, Os: d.OS, Api: someOf(d.API, d.API), Maker: d.Maker, Model: d.Model, Form: some(d.Form), Width: d.Width, Height: d.Height, Density: d.Density, MemoryMb: someOf(d.MemoryMB, d.MemoryMB),
		Abis: someOf(len(d.ABIs), d.ABIs), Language: some(d.Language), Udid: some(d.UDID), Simulated: someTrue(d.Simulated), State: some(d.State), Why: some(d.Why)}
}
