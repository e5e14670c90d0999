package phone

// Pictures as devices give them.

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
)

// maxPixels is how many a screen may have; an 8K one has 33 million.
const maxPixels = 40_000_000

// Unpacked gives the picture in a PNG that is no larger than a screen: a small file may say that it is.
func Unpacked(raw []byte) (image.Image, error) {
	c, err := png.DecodeConfig(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	if c.Width <= 0 || c.Height <= 0 || c.Width > maxPixels/c.Height {
		return nil, fmt.Errorf("a picture of %d × %d pixels is larger than any screen", c.Width, c.Height)
	}
	return png.Decode(bytes.NewReader(raw))
}
