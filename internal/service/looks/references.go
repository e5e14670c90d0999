package looks

// References: kept by people from what a run showed, held against by hosts.

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"image/png"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/uitree"
	"tessellant/internal/service/paging"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

const (
	maxMasks    = 50
	mostAllowed = 0.5
	maxHead     = 1 << 20 // bytes of a picture, to where its size is known
	keepTitle   = "keep the reference"
)

// KeepReferences keeps a step's pictures on some legs of a run as references, each for its kind of device; no leg named: on all. Of legs of one kind the first counts.
func (s *Looks) KeepReferences(ctx context.Context, who store.Identity, r store.Run, name StepName, of []string) ([]store.Reference, error) {
	v := StepView{StepName: name}
	all, err := s.ons(ctx, r, &v)
	if err != nil {
		return nil, err
	}
	app, err := s.Store.AppOf(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	pkg, err := s.Store.PackageByID(ctx, r.WorkspaceID, r.PackageID)
	if err != nil {
		return nil, err
	}
	for _, id := range of {
		if !slices.ContainsFunc(all, func(x StepOn) bool { return x.Leg.ID == id || x.Leg.Label() == id }) {
			return nil, refuse.New(refuse.NotFound, keepTitle, "see who came to it with: tessellant run steps "+r.ID, "no leg %.100q of this run came to the step", id)
		}
	}
	var kept []store.Reference
	has := map[string]bool{}
	for _, x := range all {
		if len(of) > 0 && !slices.Contains(of, x.Leg.ID) && !slices.Contains(of, x.Leg.Label()) || x.Kind == "" || x.Picture == "" || has[x.Kind] {
			continue
		}
		has[x.Kind] = true
		one, err := s.keep(ctx, who, r, app, pkg.Name, v.StepName, x)
		if err != nil {
			return kept, err
		}
		kept = append(kept, one)
	}
	if len(kept) == 0 {
		return nil, refuse.New(refuse.Refused, keepTitle, "run the package again, with screenshots of steps", "none of these legs has a picture of the step that was looked at")
	}
	return kept, nil
}

// keep keeps the picture of a step on a leg.
func (s *Looks) keep(ctx context.Context, who store.Identity, r store.Run, app store.App, pkg string, name StepName, x StepOn) (out store.Reference, err error) {
	a, err := s.Store.ArtifactByID(ctx, r.WorkspaceID, x.Picture)
	if err != nil {
		return out, refuse.Missing(err, "picture", x.Picture, "it may have been removed with old evidence; run the package again")
	}
	in, err := s.Blobs.Read(ctx, a.BlobKey, 0, -1)
	if err != nil {
		return out, err
	}
	defer in.Close()
	var head bytes.Buffer // what was read of it for its size
	size, err := png.DecodeConfig(io.LimitReader(io.TeeReader(in, &head), maxHead))
	if err != nil {
		return out, refuse.New(refuse.Refused, keepTitle, "keep the picture of another device", "the picture can't be read: %v", err)
	}
	out = store.Reference{ID: store.NewID(), WorkspaceID: r.WorkspaceID, Slug: app.Slug, Platform: app.Platform, Package: pkg, Case: name.Case, Step: name.Name, Nth: name.Nth, Kind: x.Kind, Model: modelOf(x.Leg.Facts.V),
		Width: size.Width, Height: size.Height, Allowed: steps.UsualAllowed, RunID: r.ID, WorkID: x.Leg.ID, MadeBy: who.KeyName, Created: time.Now().UTC().Truncate(time.Millisecond)}
	out.Masks.V = []uitree.Rect{}
	out.Spot = spotOf(out)
	out.BlobKey = r.WorkspaceID + "/references/" + out.ID + ".png"
	if _, out.SHA256, err = s.Blobs.Put(ctx, out.BlobKey, io.MultiReader(&head, in)); err != nil {
		return out, err
	}
	return s.Store.PutReference(ctx, out)
}

func modelOf(f devices.Facts) string { return strings.TrimSpace(f.Maker + " " + f.Model) }

// spotOf is by what a reference is found: what it is for.
func spotOf(r store.Reference) []byte {
	sum := sha256.New()
	for _, part := range []string{r.Slug, r.Platform, r.Package, r.Case, r.Step, r.Kind} {
		_ = binary.Write(sum, binary.BigEndian, int64(len(part)))
		_, _ = io.WriteString(sum, part)
	}
	_ = binary.Write(sum, binary.BigEndian, int64(r.Nth))
	return sum.Sum(nil)[:16]
}

// References lists a workspace's references, the newest first; pkg "": of all packages. Next is where the next page begins.
func (s *Looks) References(ctx context.Context, who store.Identity, pkg, after string, limit int) ([]store.Reference, string, error) {
	if err := paging.Check(after); err != nil {
		return nil, "", err
	}
	items, err := s.Store.References(ctx, who.WorkspaceID, pkg, after, limit+1)
	return paging.Cut(items, limit, err, func(r store.Reference) string { return r.ID })
}

// Reference gives one.
func (s *Looks) Reference(ctx context.Context, who store.Identity, id string) (store.Reference, error) {
	r, err := s.Store.ReferenceByID(ctx, who.WorkspaceID, id)
	return r, refuse.Missing(err, "reference", id, "see all references with: tessellant reference list")
}

// ReferencePicture opens the picture of one.
func (s *Looks) ReferencePicture(ctx context.Context, who store.Identity, id string) (io.ReadCloser, error) {
	r, err := s.Reference(ctx, who, id)
	if err != nil {
		return nil, err
	}
	return s.Blobs.Read(ctx, r.BlobKey, 0, -1)
}

// SetReference sets what of a reference is not looked at, and how much of the picture may differ; nil: as it is.
func (s *Looks) SetReference(ctx context.Context, who store.Identity, id string, masks []uitree.Rect, allowed *float64) (store.Reference, error) {
	const title = "change the reference"
	r, err := s.Reference(ctx, who, id)
	if err != nil {
		return r, err
	}
	if r.Ended.Valid {
		return r, refuse.New(refuse.Refused, title, "see those in force with: tessellant reference list", "another picture took its place, or it was removed")
	}
	if allowed != nil {
		if math.IsNaN(*allowed) || *allowed < 0 || *allowed > mostAllowed {
			return r, refuse.New(refuse.Invalid, title, "give a share from 0 to 0.5; 0.0001 is a ten-thousandth of the picture", "%v of the picture can't be allowed to differ", *allowed)
		}
		r.Allowed = *allowed
	}
	if masks != nil {
		if len(masks) > maxMasks {
			return r, refuse.New(refuse.Invalid, title, fmt.Sprintf("draw at most %d", maxMasks), "there are %d masks", len(masks))
		}
		for _, m := range masks {
			if m.Empty() || m.Left < 0 || m.Top < 0 || m.Right > r.Width || m.Bottom > r.Height {
				return r, refuse.New(refuse.Invalid, title, fmt.Sprintf("give rectangles inside the picture of %d × %d pixels", r.Width, r.Height), "the mask %s is empty, or lies outside of the picture", m)
			}
		}
		r.Masks.V = masks
	}
	return r, s.Store.SetReference(ctx, who.WorkspaceID, id, r.Masks.V, r.Allowed)
}

// RemoveReference takes a reference away. Its picture stays, for those who look at what failed by it.
func (s *Looks) RemoveReference(ctx context.Context, who store.Identity, id string) error {
	r, err := s.Reference(ctx, who, id)
	if err != nil {
		return err
	}
	if r.Ended.Valid {
		return refuse.New(refuse.NotFound, "remove the reference", "see those in force with: tessellant reference list", "the reference %s is not in force any more", id)
	}
	return s.Store.EndReference(ctx, who.WorkspaceID, id)
}

// ForHold gives the references of a hold's package for its kind of device, as a zip.
func (s *Looks) ForHold(ctx context.Context, h store.Hold, build, pkg string) (io.ReadCloser, error) {
	b, err := s.Store.BuildByID(ctx, h.WorkspaceID, build)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.PackageByID(ctx, h.WorkspaceID, pkg)
	if err != nil {
		return nil, err
	}
	d, err := s.Store.DeviceByID(ctx, h.DeviceID)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.ReferencesFor(ctx, store.App{WorkspaceID: h.WorkspaceID, Slug: b.Slug, Platform: b.Platform}, p.Name, modelOf(d.Facts.V), steps.MaxReferences)
	if err != nil {
		return nil, err
	}
	var refs []steps.Reference
	keys := map[string]string{}
	for _, r := range rows {
		refs = append(refs, steps.Reference{ID: r.ID, Case: r.Case, Step: r.Step, Nth: r.Nth, Kind: r.Kind, SHA256: r.SHA256, Masks: r.Masks.V, Allowed: r.Allowed})
		keys[r.ID] = r.BlobKey
	}
	read, write := io.Pipe()
	go func() {
		write.CloseWithError(steps.WriteReferences(write, refs, func(r steps.Reference) (io.ReadCloser, error) { return s.Blobs.Read(ctx, keys[r.ID], 0, -1) }))
	}()
	return read, nil
}
