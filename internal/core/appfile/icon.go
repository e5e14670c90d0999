package appfile

// The build's icon, as a picture that browsers show.

import (
	"bytes"
	"image"
	_ "image/jpeg" // icons come as JPEG, too
	"image/png"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp" // and as WebP
)

const (
	maxIconSide = 4096 // pixels of an icon that is looked at
	iconSide    = 512  // of one that is kept
)

// Icon reads the icon that Facts.IconPath names, as a PNG of at most 512 pixels. It answers nil when there is
// none, or when it is no picture that can be read.
func (f *File) Icon(name string) []byte {
	raw, err := f.Entry(name, maxIcon)
	if err != nil {
		return nil
	}
	if raw = standardPNG(raw); raw == nil {
		return nil
	}
	cfg, kind, err := image.DecodeConfig(bytes.NewReader(raw))
	if err != nil || cfg.Width <= 0 || cfg.Height <= 0 || cfg.Width > maxIconSide || cfg.Height > maxIconSide {
		return nil
	}
	if kind == "png" && cfg.Width <= iconSide && cfg.Height <= iconSide && len(raw) <= 1<<20 {
		return raw
	}
	img, _, err := image.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil
	}
	w, h := min(cfg.Width, iconSide), min(cfg.Height, iconSide)
	if cfg.Width > cfg.Height {
		h = max(cfg.Height*w/cfg.Width, 1)
	} else {
		w = max(cfg.Width*h/cfg.Height, 1)
	}
	small := image.NewNRGBA(image.Rect(0, 0, w, h))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), img, img.Bounds(), draw.Src, nil)
	var out bytes.Buffer
	if png.Encode(&out, small) != nil {
		return nil
	}
	return out.Bytes()
}
