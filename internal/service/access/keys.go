package access

// Workspaces, what they allow, and their keys: made, listed, withdrawn.

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"tessellant/internal/bus"
	"tessellant/internal/core/access"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/routes"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

const (
	maxKeyName   = 64   // bytes
	maxWorkspace = 64   // bytes
	maxOfOne     = 1000 // keys of a workspace
	shortest     = 20   // characters of a key that was given
	listKeys     = "see the keys with: tessellant key list"
	listSpaces   = "see the workspaces with: tessellant workspace list"
	makingAKey   = "make a key"
)

// FirstKey makes the workspace and its first key, an operator's, where there is no key yet. It
// answers the key that it made, "" when there was one. Given is the key to use; "" for a random one. A key that is given is made in any case:
// so whoever starts the service gets in again when every key is lost.
func (s *Access) FirstKey(ctx context.Context, workspace, given string) (string, error) {
	n, err := s.Store.CountKeys(ctx)
	if err != nil {
		return "", err
	}
	key, name := given, "first key"
	if given != "" {
		if len(given) < shortest {
			return "", fmt.Errorf("the key given for the first start is shorter than %d characters: anybody could guess it", shortest)
		}
		switch who, err := s.Store.KeyByHash(ctx, Hash(given)); {
		case err == nil && who.Withdrawn:
			s.Log.Warn("the key given for the start was withdrawn, and stays so", "name", who.KeyName)
			return "", nil
		case err == nil:
			return "", nil
		}
		if n > 0 {
			name = "given at a start on " + time.Now().UTC().Format("2006-01-02 15:04:05")
		}
	} else if n > 0 {
		return "", nil
	} else {
		key = NewKey()
	}
	err = s.Store.FirstKey(ctx, workspace, name, Hash(key))
	if errors.Is(err, store.ErrTaken) { // another process of the service has just made it
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("make the first key: %w", err)
	}
	return key, nil
}

// NewKeyRequest asks for a key.
type NewKeyRequest struct {
	Name      string
	Role      access.Role
	Expires   *time.Time
	Workspace string // "": that of who asks
}

// AddKey makes a key, and answers what its holder shows.
func (s *Access) AddKey(ctx context.Context, who Identity, q NewKeyRequest) (store.Key, string, error) {
	none := store.Key{}
	workspace, err := s.WorkspaceOf(ctx, who, q.Workspace)
	if err != nil {
		return none, "", err
	}
	name := strings.TrimSpace(q.Name)
	if name == "" || name != foreign.Name(name, maxKeyName) {
		return none, "", refuse.New(refuse.Invalid, makingAKey, fmt.Sprintf("say who or what will use it, in up to %d bytes on one line", maxKeyName), "%.100q is not a name for a key", q.Name)
	}
	if !access.MayGive(who.Role, q.Role) {
		if slices.Contains(access.Given, q.Role) {
			return none, "", refuse.New(refuse.Forbidden, makingAKey, "ask someone with the role "+string(q.Role), "your key has the role %s; it can't make a key that may do more", who.Role)
		}
		return none, "", refuse.New(refuse.Invalid, makingAKey, "use viewer, engineer, owner or operator", "%.50q is not a role", q.Role)
	}
	k := store.Key{ID: store.NewID(), WorkspaceID: workspace.ID, Workspace: workspace.Name, Role: q.Role, Name: name, Created: time.Now().UTC().Truncate(time.Millisecond)}
	if q.Expires != nil {
		if !q.Expires.After(k.Created) || q.Expires.Year() > 9998 {
			return none, "", refuse.New(refuse.Invalid, makingAKey, "give a time that is to come", "it would have run out already, or never: %s", q.Expires.UTC().Format(time.RFC3339))
		}
		k.Expires.Time, k.Expires.Valid = q.Expires.UTC().Truncate(time.Millisecond), true
	}
	have, err := s.Store.Keys(ctx, workspace.ID)
	if err != nil {
		return none, "", err
	}
	if len(have) >= maxOfOne {
		return none, "", refuse.New(refuse.Refused, makingAKey, "withdraw those that nobody uses", "the workspace has %d keys already", len(have))
	}
	key := NewKey()
	err = s.Store.AddKey(ctx, k, Hash(key), who.KeyID)
	if errors.Is(err, store.ErrTaken) {
		return none, "", refuse.New(refuse.Refused, makingAKey, "choose another name, or withdraw the other key", "the workspace has a key named %q", name)
	}
	if err != nil {
		return none, "", err
	}
	s.Log.Info("a key was made", "key", k.ID, "name", name, "role", k.Role, "workspace", k.Workspace, "by", who.KeyID)
	return k, key, nil
}

// WorkspaceOf finds the workspace that is meant: one's own, or by its name any, for operators.
func (s *Access) WorkspaceOf(ctx context.Context, who Identity, name string) (store.Workspace, error) {
	if name == "" || name == who.Workspace {
		return store.Workspace{ID: who.WorkspaceID, Name: who.Workspace}, nil
	}
	if err := s.Allow(who, access.Installation); err != nil {
		return store.Workspace{}, refuse.New(refuse.Forbidden, "look into another workspace", "leave the workspace out", "your key belongs to the workspace %s, and its role %s does not reach others", who.Workspace, who.Role)
	}
	w, err := s.Store.WorkspaceByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		err = refuse.New(refuse.NotFound, "find the workspace", listSpaces, "there is no workspace %.100q", name)
	}
	return w, err
}

// ListKeys lists the keys of a workspace; "": that of who asks.
func (s *Access) ListKeys(ctx context.Context, who Identity, workspace string) ([]store.Key, error) {
	w, err := s.WorkspaceOf(ctx, who, workspace)
	if err != nil {
		return nil, err
	}
	return s.Store.Keys(ctx, w.ID)
}

// RemoveKey withdraws a key. It ends at once, with the sessions that it opened and the browsers that signed in with it.
func (s *Access) RemoveKey(ctx context.Context, who Identity, id string) error {
	const title = "withdraw the key"
	k, err := s.Store.KeyByID(ctx, id)
	if err != nil || (k.WorkspaceID != who.WorkspaceID && !access.May(who.Role, access.Installation)) {
		if err == nil {
			err = store.ErrNotFound
		}
		return refuse.Missing(err, "key", id, listKeys)
	}
	if !access.MayGive(who.Role, k.Role) {
		return refuse.New(refuse.Forbidden, title, "ask someone with the role "+string(k.Role), "it has the role %s, and yours is %s", k.Role, who.Role)
	}
	err = s.Store.WithdrawKey(ctx, k.ID)
	if errors.Is(err, store.ErrLast) {
		return refuse.New(refuse.Refused, title, "make another one first: tessellant key add NAME --role operator", "it is the last operator's key that does not run out; without it nobody could run the installation")
	}
	if err != nil {
		return refuse.Missing(err, "key", id, listKeys)
	}
	s.Log.Info("a key was withdrawn", "key", k.ID, "name", k.Name, "workspace", k.Workspace, "by", who.KeyID)
	s.KeysEnded()
	s.Bus.Publish(bus.Work, nil) // the sessions that it opened end
	return nil
}

var workspaceForm = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)

// ListWorkspaces lists all.
func (s *Access) ListWorkspaces(ctx context.Context) ([]store.Workspace, error) {
	return s.Store.Workspaces(ctx)
}

// AddWorkspace makes one, without a key.
func (s *Access) AddWorkspace(ctx context.Context, name string) (store.Workspace, error) {
	const title = "make the workspace"
	if len(name) > maxWorkspace || !workspaceForm.MatchString(name) {
		return store.Workspace{}, refuse.New(refuse.Invalid, title, fmt.Sprintf("use small letters, digits and dashes; start with a letter; at most %d", maxWorkspace), "%.100q is not a name for a workspace", name)
	}
	w := store.Workspace{ID: store.NewID(), Name: name, Created: time.Now().UTC().Truncate(time.Millisecond)}
	err := s.Store.AddWorkspace(ctx, w)
	if errors.Is(err, store.ErrTaken) {
		return w, refuse.New(refuse.Refused, title, "choose another name", "there is a workspace %s already", name)
	}
	if err == nil {
		s.Log.Info("a workspace was made", "workspace", name)
	}
	return w, err
}

// SetAllowances changes what the workspace allows; nil: as it is.
func (s *Access) SetAllowances(ctx context.Context, who Identity, programNetwork, otherApps *bool, led *[]string) (Identity, error) {
	a, err := s.Store.Allowances(ctx, who.WorkspaceID)
	if err != nil {
		return who, err
	}
	for _, x := range []struct {
		now   *bool
		given *bool
	}{{&a.ProgramNetwork, programNetwork}, {&a.OtherApps, otherApps}} {
		if x.given != nil {
			*x.now = *x.given
		}
	}
	if led != nil {
		if a.Routes.V, err = routes.ParseAllowed(*led); err != nil {
			return who, refuse.New(refuse.Invalid, "change the workspace", "such as route.test, *.kelpline.test or api.kelpline.test:443", "%v", err)
		}
	}
	if err := s.Store.Allow(ctx, who.WorkspaceID, a); err != nil {
		return who, err
	}
	s.Log.Info("what the workspace allows was set", "workspace", who.Workspace, "network for programs", a.ProgramNetwork, "other apps", a.OtherApps, "routes", a.Routes.V, "by", who.KeyID)
	who.Allowances = a
	s.KeysEnded() // what is known of its keys
	return who, nil
}
