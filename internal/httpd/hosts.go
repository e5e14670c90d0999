package httpd

// Hosts: their keys and pairings for operators, and for hosts their joining and the bytes that they exchange.

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"strings"

	"tessellant/api"
	"tessellant/internal/hostlink"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func hostOf(ctx context.Context) store.Host { return identity(ctx).Host }

func (s *server) ListHosts(ctx context.Context, _ api.ListHostsRequestObject) (api.ListHostsResponseObject, error) {
	rows, err := s.s.ListHosts(ctx)
	return api.ListHosts200JSONResponse{Items: each(rows, hostOut)}, err
}

func hostOut(h service.HostView) api.Host {
	o := api.Host{Name: h.Name, State: api.HostState(h.State), Kind: "built-in", Devices: h.Devices, Holds: h.Holds, Version: some(h.Version)}
	o.Isolation, o.IsolationWhy, o.Runtimes = api.HostIsolation(h.About.V.Isolation), some(h.About.V.Why), h.About.V.Runtimes
	if o.Isolation == "" {
		o.Isolation = "none"
	}
	if o.Runtimes == nil {
		o.Runtimes = map[string]string{}
	}
	if h.HasKey || h.Joined.Valid {
		o.Kind = "joined"
	}
	if h.State != "new" {
		o.Seen = &h.Seen
	}
	if h.Joined.Valid {
		o.Joined = &h.Joined.Time
	}
	return o
}

func (s *server) AddHost(ctx context.Context, q api.AddHostRequestObject) (api.AddHostResponseObject, error) {
	key, err := s.s.AddHost(ctx, identity(ctx), q.Body.Name)
	return api.AddHost201JSONResponse{Name: q.Body.Name, Key: key}, err
}

func (s *server) RemoveHost(ctx context.Context, q api.RemoveHostRequestObject) (api.RemoveHostResponseObject, error) {
	return api.RemoveHost204Response{}, s.s.RemoveHost(ctx, identity(ctx), q.Name)
}

func (s *server) GetHostCertificate(ctx context.Context, q api.GetHostCertificateRequestObject) (api.GetHostCertificateResponseObject, error) {
	pem, err := s.s.HostCertificate(ctx, q.Name)
	return api.GetHostCertificate200ApplicationxPemFileResponse{Body: strings.NewReader(pem), ContentLength: int64(len(pem))}, err
}

func (s *server) JoinAsHost(ctx context.Context, q api.JoinAsHostRequestObject) (api.JoinAsHostResponseObject, error) {
	r, _ := ctx.Value(keyRequest).(*http.Request)
	url := s.s.Reach.External
	if url == "" && s.s.Reach.Open != nil {
		address, err := s.s.Reach.Open()
		if err != nil {
			return nil, err
		}
		url = map[bool]string{true: "tls://", false: "nats://"}[s.s.Reach.Encrypted] + asSeen(address, r.Host)
	}
	w, err := s.s.Join(ctx, hostOf(ctx), q.Body.Version, q.Body.Protocol, url)
	return api.JoinAsHost200JSONResponse{Name: w.Name, Token: w.Token, BusUrl: w.BusURL, BusUser: w.BusUser, BusPassword: w.BusPassword, Now: w.Now}, err
}

func (s *server) CallAsHost(ctx context.Context, q api.CallAsHostRequestObject) (api.CallAsHostResponseObject, error) {
	raw, err := io.ReadAll(io.LimitReader(q.Body, maxCall+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > maxCall {
		return nil, &http.MaxBytesError{Limit: maxCall}
	}
	back := s.s.AnswerHost(ctx, hostOf(ctx).ID, raw)
	return api.CallAsHost200ApplicationoctetStreamResponse{Body: bytes.NewReader(back), ContentLength: int64(len(back))}, nil
}

// asSeen is a listening address as one reaches it who reached this service under the name host: a
// server that listens everywhere has no name of its own.
func asSeen(address, host string) string {
	ip, port, err := net.SplitHostPort(address)
	if err != nil || !net.ParseIP(ip).IsUnspecified() {
		return address
	}
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return net.JoinHostPort(strings.Trim(host, "[]"), port)
}

func (s *server) GetHoldBuild(ctx context.Context, q api.GetHoldBuildRequestObject) (api.GetHoldBuildResponseObject, error) {
	r, err := s.s.HostFetch(ctx, hostOf(ctx), q.Id, hostlink.Build)
	return api.GetHoldBuild200ApplicationoctetStreamResponse{Body: r}, err
}

func (s *server) GetHoldAnyBuild(ctx context.Context, q api.GetHoldAnyBuildRequestObject) (api.GetHoldAnyBuildResponseObject, error) {
	r, err := s.s.HostFetchBuild(ctx, hostOf(ctx), q.Id, q.Params.Ref)
	return api.GetHoldAnyBuild200ApplicationoctetStreamResponse{Body: r}, err
}

func (s *server) GetHoldReferences(ctx context.Context, q api.GetHoldReferencesRequestObject) (api.GetHoldReferencesResponseObject, error) {
	r, err := s.s.HostFetch(ctx, hostOf(ctx), q.Id, hostlink.References)
	return api.GetHoldReferences200ApplicationoctetStreamResponse{Body: r}, err
}

func (s *server) GetHoldPackage(ctx context.Context, q api.GetHoldPackageRequestObject) (api.GetHoldPackageResponseObject, error) {
	r, err := s.s.HostFetch(ctx, hostOf(ctx), q.Id, hostlink.Package)
	return api.GetHoldPackage200ApplicationoctetStreamResponse{Body: r}, err
}

func (s *server) PutHoldArtifact(ctx context.Context, q api.PutHoldArtifactRequestObject) (api.PutHoldArtifactResponseObject, error) {
	return api.PutHoldArtifact204Response{}, s.s.HostKeep(ctx, hostOf(ctx), q.Id, q.Params.Name, -1, q.Body)
}

func (s *server) PutHoldPart(ctx context.Context, q api.PutHoldPartRequestObject) (api.PutHoldPartResponseObject, error) {
	return api.PutHoldPart204Response{}, s.s.HostKeep(ctx, hostOf(ctx), q.Id, q.Params.Name, max(q.Params.Offset, 0), q.Body)
}

func (s *server) PutHoldScreen(ctx context.Context, q api.PutHoldScreenRequestObject) (api.PutHoldScreenResponseObject, error) {
	frame, err := io.ReadAll(io.LimitReader(q.Body, maxFrame))
	if err != nil {
		return nil, err
	}
	return api.PutHoldScreen204Response{}, s.s.HostScreen(ctx, hostOf(ctx), q.Id, q.Params.At, frame)
}

func (s *server) Pair(ctx context.Context, q api.PairRequestObject) (api.PairResponseObject, error) {
	v, err := s.s.Pair(ctx, q.Name, text(q.Body.Address), text(q.Body.Code))
	return api.Pair201JSONResponse(pairingOut(v)), err
}

func (s *server) GetPairing(ctx context.Context, q api.GetPairingRequestObject) (api.GetPairingResponseObject, error) {
	v, err := s.s.Pairing(ctx, q.Name, q.Id)
	return api.GetPairing200JSONResponse(pairingOut(v)), err
}

func pairingOut(v service.PairingView) api.Pairing {
	return api.Pairing{Id: v.ID, Host: v.Host, State: api.PairingState(v.State), Why: some(v.Why), Remedy: some(v.Remedy), Until: v.Until, Picture: someOf(len(v.Picture), v.Picture)}
}
