package content

// Builds: taken in, read, found.

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"tessellant/internal/core/appfile"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Upload is a file on its way in.
type Upload struct {
	Body   io.Reader
	Size   int64  // as announced; -1: unknown
	Digest string // Content-Digest (RFC 9530); "": none
	Name   string // the file's name, for people
}

// LongestBuild is how many bytes a build may have.
func (s *Content) LongestBuild() int64 {
	if s.MaxBuild == 0 {
		return 4 << 30
	}
	return s.MaxBuild
}

// take streams an upload into a blob. Nothing is kept of one that does not come whole.
func (s *Content) take(ctx context.Context, title, key string, max int64, u Upload) (size int64, sha string, err error) {
	if u.Size > max {
		return 0, "", refuse.New(refuse.TooLarge, title, "upload a smaller file", "the file has %d bytes; the limit is %d", u.Size, max)
	}
	body := &counted{r: io.LimitReader(u.Body, max+1)}
	size, sha, err = s.Blobs.Put(ctx, key, body)
	undo := func() { _ = s.Blobs.Delete(context.WithoutCancel(ctx), key) }
	switch {
	case err != nil && body.err != nil:
		return 0, "", refuse.New(refuse.CutOff, title, "upload it again", "the upload stopped after %d bytes (%v)", body.n, body.err)
	case err != nil:
		return 0, "", err
	case size > max:
		undo()
		return 0, "", refuse.New(refuse.TooLarge, title, "upload a smaller file", "the file has more than %d bytes", max)
	case u.Size >= 0 && size != u.Size:
		undo()
		return 0, "", refuse.New(refuse.CutOff, title, "upload it again", "received %d of %d bytes", size, u.Size)
	}
	if want, ok := strings.CutPrefix(u.Digest, "sha-256=:"); ok {
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(want, ":"))
		if err != nil || hex.EncodeToString(raw) != sha {
			undo()
			return 0, "", refuse.New(refuse.CutOff, title, "upload it again", "the received bytes do not match the Content-Digest")
		}
	}
	return size, sha, nil
}

// counted remembers how reading ended.
type counted struct {
	r   io.Reader
	n   int64
	err error
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		c.err = err
	}
	return n, err
}

// AddBuild takes a build in: streams it, reads its facts, keeps it. The same
// content gives the build that is there already, and isNew false.
func (s *Content) AddBuild(ctx context.Context, who store.Identity, u Upload) (b store.Build, isNew bool, err error) {
	title := "add the build"
	if u.Name != "" {
		title += " " + u.Name
	}
	max := s.LongestBuild()
	if len(u.Name) > 255 || !utf8.ValidString(u.Name) || strings.ContainsFunc(u.Name, unicode.IsControl) {
		return b, false, refuse.New(refuse.Invalid, "add the build", "leave the file's name out, or shorten it", "the file's name has more than 255 bytes, or characters that can't be shown")
	}
	id := store.NewID()
	key := who.WorkspaceID + "/builds/" + id
	size, sha, err := s.take(ctx, title, key, max, u)
	if err != nil {
		return b, false, err
	}
	keep := false
	iconKey := ""
	defer func() {
		if !keep {
			_ = s.Blobs.Delete(context.WithoutCancel(ctx), key)
			if iconKey != "" {
				_ = s.Blobs.Delete(context.WithoutCancel(ctx), iconKey)
			}
		}
	}()
	free, err := s.reading(ctx, title)
	if err != nil {
		return b, false, err
	}
	defer free()
	if old, err := s.Store.BuildByHash(ctx, who.WorkspaceID, sha); err == nil {
		return old, false, nil
	}
	file, err := appfile.Open(s.Blobs.At(ctx, key, size), size)
	var facts appfile.Facts
	if err == nil {
		facts, err = file.Examine()
	}
	var refusal *appfile.Refusal
	if errors.As(err, &refusal) {
		return b, false, refuse.New(refuse.Refused, title, refusal.Remedy, "%s", refusal.Why)
	}
	if err != nil {
		return b, false, err
	}
	if icon := file.Icon(facts.IconPath); icon != nil {
		iconKey = key + ".icon"
		if _, _, err := s.Blobs.Put(ctx, iconKey, bytes.NewReader(icon)); err != nil {
			return b, false, err
		}
	}
	b = store.Build{ID: id, WorkspaceID: who.WorkspaceID, Platform: facts.Platform, AppID: facts.AppID, VersionName: facts.VersionName, VersionCode: facts.VersionCode,
		Facts: store.JSON[appfile.Facts]{V: facts}, Size: size, SHA256: sha, Filename: u.Name, BlobKey: key, IconKey: iconKey, Created: time.Now().UTC().Truncate(time.Millisecond)}
	b.Slug, err = s.Store.AddBuild(ctx, b, slug(facts))
	keep, err = s.settled(ctx, err, func(ctx context.Context) error {
		found, err := s.Store.BuildByID(ctx, who.WorkspaceID, id)
		b.Slug = cmp.Or(found.Slug, b.Slug)
		return err
	})
	if errors.Is(err, store.ErrTaken) { // somebody sent the same file at the same time
		old, err := s.Store.BuildByHash(ctx, who.WorkspaceID, sha)
		return old, false, err
	}
	if err == nil {
		s.Feed.Added("build", who.WorkspaceID, b.ID, b)
	}
	return b, true, err
}

// readersAtOnce is how many uploads are read at the same time: each may need some 200 MB for the directory and the tables of a large file.
const readersAtOnce = 2

// reading waits for its turn to read an upload.
func (s *Content) reading(ctx context.Context, title string) (free func(), err error) {
	wait, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	select {
	case s.reads <- struct{}{}:
		return func() { <-s.reads }, nil
	case <-wait.Done():
		return nil, refuse.New(refuse.Unavailable, title, "try again in a minute", "too many uploads are in progress")
	}
}

// settled says whether a row that was to be written is there, and so what belongs to it must be kept. An answer that got lost says nothing: then the row
// is looked for, and where that can't be done, what belongs to it is kept all the same.
func (s *Content) settled(ctx context.Context, err error, find func(context.Context) error) (keep bool, after error) {
	if err == nil {
		return true, nil
	}
	ask, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	switch bad := find(ask); {
	case bad == nil:
		return true, nil
	case errors.Is(bad, store.ErrNotFound):
		return false, err
	}
	s.Log.Warn("nobody can say whether an upload was kept; its file stays", "err", err)
	return true, err
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

// slug is the short name that an app would like: its label in small letters. Where another app has that label, its app id takes its place.
func slug(f appfile.Facts) string {
	slug := strings.Trim(notSlug.ReplaceAllString(strings.ToLower(f.Label), "-"), "-")
	if slug == "" || len(slug) > 60 {
		return f.AppID
	}
	return slug
}

var buildRefForm = regexp.MustCompile(`^([^/@]+)/([a-z]+)@(.+)$`)

// Build finds a build by its id or a reference: kelpline/android@231, @v1.8.0, @newest.
func (s *Content) Build(ctx context.Context, who store.Identity, ref string) (store.Build, error) {
	const remedy = "see the builds with: tessellant build list"
	m := buildRefForm.FindStringSubmatch(ref)
	if m == nil {
		b, err := s.Store.BuildByID(ctx, who.WorkspaceID, ref)
		return b, refuse.Missing(err, "build", ref, remedy+"; a reference looks like kelpline/android@231, @v1.8.0 or @newest")
	}
	app, platform, which := m[1], m[2], m[3]
	var code *int64
	name := ""
	switch {
	case which == "newest":
	case strings.HasPrefix(which, "v") && len(which) > 1:
		name = which[1:]
	default:
		n, err := strconv.ParseInt(which, 10, 64)
		if err != nil || strconv.FormatInt(n, 10) != which {
			return store.Build{}, refuse.New(refuse.Invalid, "find the build", "write a version code, v and a version name, or newest after the @", "%.100q is no version", which)
		}
		code = &n
	}
	b, err := s.Store.NewestBuild(ctx, who.WorkspaceID, app, platform, code, name)
	return b, refuse.Missing(err, "build", ref, remedy)
}

// Builds lists builds, the newest first; those with these labels. Next is for the page after, "" at the end.
func (s *Content) Builds(ctx context.Context, who store.Identity, labels map[string]string, after string, limit int) (items []store.Build, next string, err error) {
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	items, err = s.Store.Builds(ctx, who.WorkspaceID, labels, after, limit+1)
	return paging.Cut(items, limit, err, func(b store.Build) string { return b.ID })
}

// Icon reads a build's icon.
func (s *Content) Icon(ctx context.Context, who store.Identity, ref string) (io.ReadCloser, error) {
	b, err := s.Build(ctx, who, ref)
	if err != nil {
		return nil, err
	}
	if b.IconKey == "" {
		return nil, refuse.New(refuse.NotFound, "read the icon", "", "the build %s has no icon that is a picture", ref)
	}
	return s.Blobs.Read(ctx, b.IconKey, 0, -1)
}
