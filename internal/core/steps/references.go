package steps

import (
	"archive/zip"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"io"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/likeness"
	"tessellant/internal/core/uitree"
)

// Reference is a step's picture that later ones are held against, on one kind of device.
type Reference struct {
	ID      string        `json:"id"`
	Case    string        `json:"case"`
	Step    string        `json:"step"`
	Nth     int           `json:"nth"`
	Kind    string        `json:"kind"`
	SHA256  string        `json:"sha256"` // of the picture
	Masks   []uitree.Rect `json:"masks,omitempty"`
	Allowed float64       `json:"allowed"` // the share of the picture that may differ
}

// Spot is what a reference is for.
type Spot struct {
	Case, Step string
	Nth        int
	Kind       string
}

// Spot gives what it is for.
func (r Reference) Spot() Spot { return Spot{r.Case, r.Step, r.Nth, r.Kind} }

// UsualAllowed is the share of a picture that may differ unless somebody says otherwise.
const UsualAllowed = 0.0001

const (
	// MaxReferences is how many references a device is given for one package.
	MaxReferences  = 1000
	maxPictureSize = 32 << 20 // bytes of a reference's file
	maxListSize    = 8 << 20
)

// KindOf says what kind of device a picture is from: pictures of one kind can be held against each other pixel by pixel.
func KindOf(f devices.Facts, set conditions.Set, w, h int) string {
	out := fmt.Sprintf("%s %s, Android %s, %d × %d, %d dpi, %s", f.Maker, f.Model, f.OS, w, h, f.Density, cmp.Or(set[conditions.Language], f.Language))
	if set[conditions.Dark] == conditions.On {
		out += ", dark"
	}
	if s := cmp.Or(set[conditions.FontScale], "1"); s != "1" {
		out += ", font scale " + s
	}
	return out
}

// References are those that a device was given: a zip with references.json and their pictures.
type References struct {
	z  *zip.Reader
	by map[Spot]Reference
}

const listName = "references.json"

// WriteReferences writes references as a zip. Picture opens the picture of one.
func WriteReferences(w io.Writer, refs []Reference, picture func(Reference) (io.ReadCloser, error)) error {
	z := zip.NewWriter(w)
	out, err := z.Create(listName)
	if err != nil {
		return err
	}
	if err := json.NewEncoder(out).Encode(refs); err != nil {
		return err
	}
	for _, r := range refs {
		out, err := z.CreateHeader(&zip.FileHeader{Name: r.ID + ".png", Method: zip.Store})
		if err != nil {
			return err
		}
		in, err := picture(r)
		if err != nil {
			return err
		}
		if _, err = io.Copy(out, in); err == nil {
			err = in.Close()
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}

// ReadReferences reads such a zip.
func ReadReferences(r io.ReaderAt, size int64) (*References, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, err
	}
	out := &References{z: z, by: map[Spot]Reference{}}
	raw, err := out.file(listName, maxListSize)
	if err != nil {
		return nil, err
	}
	var refs []Reference
	if err := json.Unmarshal(raw, &refs); err != nil {
		return nil, err
	}
	for _, x := range refs[:min(len(refs), MaxReferences)] {
		out.by[x.Spot()] = x
	}
	return out, nil
}

func (r *References) file(name string, most int64) ([]byte, error) {
	f, err := r.z.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("%s is longer than %d bytes", name, most)
	}
	return raw, err
}

// Against holds a step's picture against its reference. Nil: there is none for this step and this kind of device.
func (r *References) Against(s Spot, now image.Image, scale float64) *Moved {
	if r == nil {
		return nil
	}
	ref, ok := r.by[s]
	if !ok {
		return nil
	}
	m := &Moved{Reference: ref.ID, Allowed: ref.Allowed}
	raw, err := r.file(ref.ID+".png", maxPictureSize)
	if err == nil {
		if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != ref.SHA256 {
			err = errors.New("the reference's picture did not come as it was kept")
		}
	}
	var before image.Image
	if err == nil {
		before, err = likeness.Decode(raw)
	}
	var masks []image.Rectangle
	for _, b := range ref.Masks {
		masks = append(masks, image.Rect(b.Left, b.Top, b.Right, b.Bottom))
	}
	var x likeness.Moved
	if err == nil {
		x, err = likeness.Against(before, now, scale, masks)
	}
	if err != nil {
		m.Error = err.Error()
		return m
	}
	m.Share = x.Share
	for _, b := range x.Regions {
		m.Regions = append(m.Regions, uitree.Rect{Left: b.Min.X, Top: b.Min.Y, Right: b.Max.X, Bottom: b.Max.Y})
	}
	return m
}
