package httpd

// Keys and workspaces.

import (
	"context"

	"tessellant/api"
	"tessellant/internal/core/access"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func (s *server) ListKeys(ctx context.Context, q api.ListKeysRequestObject) (api.ListKeysResponseObject, error) {
	rows, err := s.s.ListKeys(ctx, identity(ctx), text(q.Params.Workspace))
	return api.ListKeys200JSONResponse{Items: each(rows, keyOut)}, err
}

func (s *server) AddKey(ctx context.Context, q api.AddKeyRequestObject) (api.AddKeyResponseObject, error) {
	k, key, err := s.s.AddKey(ctx, identity(ctx), service.NewKeyRequest{Name: q.Body.Name, Role: access.Role(q.Body.Role), Expires: q.Body.Expires, Workspace: text(q.Body.Workspace)})
	return api.AddKey201JSONResponse{Key: key, Made: keyOut(k)}, err
}

func (s *server) RemoveKey(ctx context.Context, q api.RemoveKeyRequestObject) (api.RemoveKeyResponseObject, error) {
	return api.RemoveKey204Response{}, s.s.RemoveKey(ctx, identity(ctx), q.Id)
}

func keyOut(k store.Key) api.Key {
	o := api.Key{Id: k.ID, Name: k.Name, Role: api.Role(k.Role), Workspace: k.Workspace, Created: k.Created, Expired: k.Expired}
	if k.Used.Valid {
		o.Used = &k.Used.Time
	}
	if k.Expires.Valid {
		o.Expires = &k.Expires.Time
	}
	return o
}

func (s *server) ListWorkspaces(ctx context.Context, _ api.ListWorkspacesRequestObject) (api.ListWorkspacesResponseObject, error) {
	rows, err := s.s.ListWorkspaces(ctx)
	return api.ListWorkspaces200JSONResponse{Items: each(rows, workspaceOut)}, err
}

func (s *server) AddWorkspace(ctx context.Context, q api.AddWorkspaceRequestObject) (api.AddWorkspaceResponseObject, error) {
	w, err := s.s.AddWorkspace(ctx, q.Body.Name)
	return api.AddWorkspace201JSONResponse(workspaceOut(w)), err
}

func workspaceOut(w store.Workspace) api.Workspace {
	return api.Workspace{Name: w.Name, Created: w.Created, Keys: w.Keys}
}

func (s *server) RotateSecrets(ctx context.Context, _ api.RotateSecretsRequestObject) (api.RotateSecretsResponseObject, error) {
	r, err := s.s.Secrets.Rotate(ctx)
	return api.RotateSecrets200JSONResponse{Key: r.Key, Secrets: r.Secrets}, err
}
