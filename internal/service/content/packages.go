package content

// Packages: taken in, read, found.

import (
	"context"
	"errors"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// AddPackage takes a package in as the next revision of its name. The same
// content gives the revision that is there already, and isNew false.
func (s *Content) AddPackage(ctx context.Context, who store.Identity, u Upload) (p store.Package, isNew bool, err error) {
	const title = "add the package"
	id := store.NewID()
	key := who.WorkspaceID + "/packages/" + id
	size, sha, err := s.take(ctx, title, key, testpkg.MaxZip, u)
	if err != nil {
		return p, false, err
	}
	keep := false
	defer func() {
		if !keep {
			_ = s.Blobs.Delete(context.WithoutCancel(ctx), key)
		}
	}()
	if old, err := s.Store.PackageByHash(ctx, who.WorkspaceID, sha); err == nil {
		return old, false, nil
	}
	free, err := s.reading(ctx, title)
	if err != nil {
		return p, false, err
	}
	defer free()
	f, err := testpkg.Open(s.Blobs.At(ctx, key, size), size)
	if err != nil {
		return p, false, refuse.New(refuse.Refused, title, "pack the folder with: tessellant package add DIR", "%v", err)
	}
	read, err := testpkg.Read(f)
	if err != nil {
		return p, false, refuse.New(refuse.Refused, title, "pack the folder again", "it can't be read: %v", err)
	}
	if blocked := read.Blocked(); len(blocked) > 0 {
		e := refuse.New(refuse.Refused, title, "fix the findings, then check with: tessellant package check DIR", "%d findings prevent it from running", len(blocked))
		if len(blocked) == 1 {
			e.Why = "one finding keeps it from running"
		}
		e.Findings = refuse.PackageFindings(blocked)
		return p, false, e
	}
	if read.Program != nil {
		found, err := s.unmet(ctx, read.Program)
		if err != nil {
			return p, false, err
		}
		read.Findings = append(read.Findings, found...)
	}
	p = store.Package{ID: id, WorkspaceID: who.WorkspaceID, Name: read.Name, Kind: read.Kind, About: read.About, Cases: store.JSON[[]testpkg.Case]{V: read.Cases},
		Findings: store.JSON[[]testpkg.Finding]{V: read.Findings}, Inputs: store.JSON[[]testpkg.Input]{V: read.Inputs}, Program: store.JSON[*testpkg.Program]{V: read.Program}, Needs: store.JSON[[]string]{V: read.Needs}, Size: size, SHA256: sha, BlobKey: key, Created: time.Now().UTC().Truncate(time.Millisecond)}
	p.Revision, err = s.Store.AddPackage(ctx, p)
	keep, err = s.settled(ctx, err, func(ctx context.Context) error {
		found, err := s.Store.PackageByID(ctx, who.WorkspaceID, id)
		p.Revision = max(p.Revision, found.Revision)
		return err
	})
	if errors.Is(err, store.ErrTaken) {
		old, err := s.Store.PackageByHash(ctx, who.WorkspaceID, sha)
		return old, false, err
	}
	if err == nil {
		s.Feed.Added("package", who.WorkspaceID, p.ID, p)
	}
	return p, true, err
}

// unmet says what no host here has of what a program needs.
func (s *Content) unmet(ctx context.Context, p *testpkg.Program) ([]testpkg.Finding, error) {
	hosts, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	why := ""
	for _, h := range hosts {
		lacks := Lacking(p, h.About.V)
		if lacks == "" {
			return nil, nil
		}
		why = h.Name + ": " + lacks
	}
	if why == "" {
		return nil, nil // there is no host yet
	}
	return []testpkg.Finding{{Level: "warns", File: testpkg.Entry, What: "no host here can run it (" + why + ")", Remedy: "see what hosts have with: tessellant host list"}}, nil
}

// Lacking says what a host lacks for a program; "": nothing.
func Lacking(p *testpkg.Program, a store.HostAbout) string {
	if p == nil {
		return ""
	}
	if a.Isolation == "" {
		return strings.TrimSpace("it runs no programs. " + a.Why)
	}
	if missing := testpkg.Missing(p.Needs, a.Runtimes); len(missing) > 0 {
		return "it lacks " + strings.Join(missing, ", ")
	}
	return ""
}

var packageRefForm = regexp.MustCompile(`^([^@]+)@(.+)$`)

// Package finds a package by its id or a reference: shore-suite@7, shore-suite@newest.
func (s *Content) Package(ctx context.Context, who store.Identity, ref string) (store.Package, error) {
	const remedy = "see the packages with: tessellant package list"
	m := packageRefForm.FindStringSubmatch(ref)
	if m == nil {
		p, err := s.Store.PackageByID(ctx, who.WorkspaceID, ref)
		return p, refuse.Missing(err, "package", ref, remedy+"; a reference looks like shore-suite@7 or @newest")
	}
	revision := 0
	if m[2] != "newest" {
		n, err := strconv.Atoi(m[2])
		if err != nil || n < 1 || strconv.Itoa(n) != m[2] {
			return store.Package{}, refuse.New(refuse.Invalid, "find the package", "write a revision's number or newest after the @", "%.100q is no revision", m[2])
		}
		revision = n
	}
	p, err := s.Store.PackageByName(ctx, who.WorkspaceID, m[1], revision)
	return p, refuse.Missing(err, "package", ref, remedy)
}

// Packages lists packages, the newest first; those with these labels.
func (s *Content) Packages(ctx context.Context, who store.Identity, labels map[string]string, after string, limit int) (items []store.Package, next string, err error) {
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	items, err = s.Store.Packages(ctx, who.WorkspaceID, labels, after, limit+1)
	return paging.Cut(items, limit, err, func(p store.Package) string { return p.ID })
}
