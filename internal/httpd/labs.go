package httpd

// Labs: where devices come from.

import (
	"context"

	"tessellant/api"
	"tessellant/internal/service"
)

func (s *server) ListLabs(ctx context.Context, _ api.ListLabsRequestObject) (api.ListLabsResponseObject, error) {
	rows, err := s.s.Labs(ctx)
	return api.ListLabs200JSONResponse{Items: each(rows, labOut)}, err
}

func (s *server) GetLab(ctx context.Context, q api.GetLabRequestObject) (api.GetLabResponseObject, error) {
	l, err := s.s.Lab(ctx, q.Lab)
	return api.GetLab200JSONResponse(labOut(l)), err
}

func labOut(l service.LabView) api.Lab {
	o := api.Lab{Name: l.Name, Host: l.Host, Kind: l.Kind, State: api.LabState(l.State), Why: some(l.Out), Place: some(l.Place), Address: some(l.Address), Devices: l.Devices, AtOnce: someOf(l.AtOnce, l.AtOnce), Open: l.Open, StartMs: someOf(l.StartMS, l.StartMS), Waiting: l.Waiting,
		DayLimit: someOf(l.DayLimit, l.DayLimit), UsedMinutes: l.UsedMinutes, Lacks: l.Lacks}
	if o.Lacks == nil {
		o.Lacks = map[string][]string{}
	}
	return o
}
